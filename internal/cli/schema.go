package cli

import (
	"catena/internal/schema"
	"fmt"
	"strings"

	"github.com/spf13/cobra"
)

func (a *app) schemaCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "schema KIND",
		Short: "Print the JSON Schema of a kind of file",
		Long: `Print the JSON Schema (2020-12) of a kind of file. An editor uses it to complete
keys and to mark mistakes while you type: site, targets, order, manifest, family. For programs that
read the output of Catena there are: event (track --format json --follow), report, tell (the body
sent to a webhook) and recording. Files written by Catena name their schema in the first line, and
the site folder has the schemas in .catena/schemas.`,
		Example: "  catena schema site > site.schema.json\n  catena schema family > family.schema.json",
		Args:    exactly(1, "a kind of file: "+strings.Join(schema.Kinds(), ", ")),
		RunE: func(_ *cobra.Command, args []string) error {
			of, ok := schema.Kind(args[0])
			if !ok {
				return usage("there is no schema %q; there are %s", args[0],
					strings.Join(schema.Kinds(), ", "))
			}
			raw, err := of()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", raw)
			}
			return err
		},
	}
}
