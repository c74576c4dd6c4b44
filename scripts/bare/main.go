// Bare is the smallest program with the same command library: what start-up is
// measured against.
package main

import (
	"fmt"

	"github.com/spf13/cobra"
)

func main() {
	root := &cobra.Command{Use: "bare"}
	root.AddCommand(&cobra.Command{Use: "version", Run: func(*cobra.Command, []string) {
		fmt.Println("bare 1")
	}})
	_ = root.Execute() // it has said what is wrong
}
