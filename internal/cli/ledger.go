package cli

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/words"
)

func (a *app) ledgerCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "ledger", Short: "Check and export the record of everything observed and done",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.ledgerCheckCmd(), a.ledgerExportCmd())
	return c
}

func (a *app) ledgerCheckCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Verify that no entry was changed, added or removed",
		Long: `Verify the chain of digests through the ledger, from the first entry to the last.
The last digest is printed. If you note it, you can later detect whether entries were cut off at the
end.`,
		Example: "  catena ledger check\n  catena ledger check --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			count, last, err := w.Check()
			if err != nil {
				return errors.New("the ledger is not intact: " + err.Error() +
					"; keep a copy and find out who changed it")
			}
			digest := fmt.Sprintf("%x", last)
			if a.format != "table" {
				return a.emit(map[string]any{"entries": count, "last": digest}, view.Table{})
			}
			view.Print(a.out, "The ledger is intact: %s, the last is %s\n",
				words.Plural(count, "entry"), digest)
			return nil
		},
	}
}

func (a *app) ledgerExportCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "export FILE",
		Short: "Export all entries into a file",
		Long: `Write all entries into a file, one JSON object per line. Each has its digest: the
SHA-256 of the previous digest and the entry's own fields. The file contains no passwords.`,
		Example: "  catena ledger export marrow-hill.jsonl\n  catena ledger export ~/night-1.jsonl",
		Args:    exactly(1, "a file to write"),
		RunE: func(_ *cobra.Command, args []string) error {
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			if err := notThere(args[0]); err != nil {
				return err
			}
			count := 0
			err = atomicfile.Write(args[0], 0o600, func(f io.Writer) error {
				var err error
				count, err = w.Export(f)
				return err
			})
			if err != nil {
				return err
			}
			a.say("Wrote %s into %s.", words.Plural(count, "entry"), args[0])
			return nil
		},
	}
}
