// Catena finds the devices of a site, flashes them, proves them, and returns the
// ones that fail.
package main

import (
	_ "time/tzdata" // windows: the system may have no zones

	"os"

	"catena/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
