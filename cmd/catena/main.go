// Catena finds the devices of a site, flashes them, proves them, and returns the
// ones that fail.
package main

import (
	"os"

	"catena/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
