package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *app) ledgerCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "ledger", Short: "Look after the record of all that was seen and done",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(&cobra.Command{
		Use:   "check",
		Short: "Prove that no entry was changed, added or removed",
		Long: `Follow the chain of digests through the ledger from the first entry to the last.
The last digest is printed: whoever keeps it can tell later whether entries were cut
off at the end.`,
		Example: "  catena ledger check",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			count, last, err := w.Ledger.Check()
			if err != nil {
				return fmt.Errorf("the ledger is not whole: %w; keep a copy of it and find out who changed it", err)
			}
			if a.format == "json" {
				return a.printJSON(map[string]any{"entries": count,
					"last": fmt.Sprintf("%x", last)})
			}
			_, err = fmt.Fprintf(a.out, "The ledger is whole: %d entries, the last is %x\n", count,
				last)
			return err
		},
	})
	return c
}
