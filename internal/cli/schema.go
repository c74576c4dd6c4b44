package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"catena/internal/family"
)

// schemas are the kinds of files that have a JSON Schema.
var schemas = map[string]func() ([]byte, error){"family": family.Schema}

func (a *app) schemaCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "schema KIND",
		Short: "Print the JSON Schema of a kind of file, for an editor",
		Long: `Print the JSON Schema (2020-12) of a kind of file, with which an editor completes keys and marks
mistakes while a person types. The only kind so far is family.`,
		Example: "  catena schema family > family.schema.json",
		Args:    exactly(1, "a kind of file: family"),
		RunE: func(_ *cobra.Command, args []string) error {
			schema, ok := schemas[args[0]]
			if !ok {
				return usage("there is no schema of %q; there is family", args[0])
			}
			raw, err := schema()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", raw)
			}
			return err
		},
	}
}
