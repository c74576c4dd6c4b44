package cli

import (
	"errors"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/cli/view"
	"catena/internal/ledger"
	"catena/internal/text"
	"catena/internal/words"
)

func (a *app) ledgerCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "ledger", Short: "Check and export the record of everything observed and done",
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.ledgerCheckCmd(), a.ledgerExportCmd(), a.ledgerWriterCmd())
	return c
}

func (a *app) ledgerCheckCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "check",
		Short: "Verify that no entry was changed, added or removed",
		Long: `Verify the chain of digests of each laptop that has written here, from its first entry to
its last, and the signatures in it. The last digest is printed. If you note it, you can later detect
whether entries were cut off at the end. So can a place that you sync with.

The list shows each laptop with the fingerprint of its key, by which others accept it.`,
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
			chains, err := w.Chains()
			if err != nil {
				return err
			}
			digest := fmt.Sprintf("%x", last)
			if a.format != "table" {
				return a.emit(map[string]any{"entries": count, "last": digest, "writers": writersOf(chains)},
					view.Table{})
			}
			view.Print(a.out, "The ledger is intact: %s, the last is %s\n\n",
				words.Plural(count, "entry"), digest)
			return a.emit(nil, writersTable(chains))
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

func (a *app) ledgerWriterCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "writer [NAME]",
		Short: "Show or change the name under which this laptop writes",
		Long: `Show the name and the key with which this laptop signs its entries in all sites, or change
the name. Others see its jobs as NAME/j3, under the new name once this laptop has synced.`,
		Example: "  catena ledger writer\n  catena ledger writer anna",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena ledger writer takes at most one name")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.renameWriter(args[0])
			}
			by := a.writer()
			if err := by.Err(); err != nil {
				return err
			}
			if a.format != "table" {
				return a.emit(map[string]string{"name": by.Name, "id": by.ID(),
					"fingerprint": by.Fingerprint()}, view.Table{})
			}
			view.Print(a.out, "%s, with the key %s\n", by.Name, by.Fingerprint())
			return nil
		},
	}
}

func (a *app) renameWriter(name string) error {
	if !text.IsName(name) || len(name) > maxWriterName {
		return usage("%q cannot be a name: write up to %d letters, digits, and . _ - within", name,
			maxWriterName)
	}
	file, err := a.writerFile()
	if err == nil {
		err = ledger.Rename(file, name)
	}
	if err != nil {
		return err
	}
	a.say("This laptop writes as %s.", name)
	return nil
}

// maxWriterName is the longest name of a writer: it stands before the number of a job.
const maxWriterName = 24
