package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) newCmd() *cobra.Command {
	var ranges, ports []string
	var adapter string
	var fromScan bool
	c := &cobra.Command{
		Use:   "new NAME",
		Short: "Make a site folder",
		Long: `Make a folder for a site, with its site.yaml and its ledger. The folder is named
after the site; -C gives it another name.

With --from-scan the network is scanned at once, and site.yaml starts with the results: networks if
none was given, a group for each model, names by serial number, and uplinks. Read it and correct
what you know better.`,
		Example: `  catena new "Marrow Hill Locks" --range 10.20.4.1-10.20.4.60 --range 10.20.5.0/26
  catena new "Marrow Hill Locks" -C ~/sites/marrow-hill --adapter eth0
  catena new "Marrow Hill Locks" --adapter eth0 --range 10.20.4.0/24 --from-scan`,
		Args: exactly(1, "the site's name"),
		RunE: func(c *cobra.Command, args []string) error {
			by := a.writer()
			dir, err := workspace.Create(workspace.NewSite{Name: args[0], Dir: a.dir,
				Adapter: adapter, Ranges: ranges, Ports: ports}, a.now, by)
			if err != nil {
				return err
			}
			if fromScan {
				if err := a.sketch(c.Context(), dir, adapter, ranges); err != nil {
					return fmt.Errorf("the site folder %s was made, but without the results of a scan: %w", dir,
						err)
				}
			}
			a.say("Made the site folder %s.\nNext: cd %s, then catena scan", dir, dir)
			return nil
		},
	}
	c.Flags().BoolVar(&fromScan, "from-scan", false,
		"scan the network, and start site.yaml with the results")
	c.Flags().StringArrayVar(&ranges, "range", nil,
		"addresses that are the site's; may be repeated")
	c.Flags().StringVar(&adapter, "adapter", "", "this machine's adapter to the site's network")
	c.Flags().StringSliceVar(&ports, "port", nil,
		"ports to try instead of the default ones: 8080, or snmp:1161")
	return c
}

// sketch scans a new site, and adds what that proposes to its file.
func (a *app) sketch(ctx context.Context, dir, adapter string, ranges []string) error {
	a.dir = dir
	l := look{adapter: adapter, patience: usualPatience}
	if len(ranges) > 0 { // site.yaml has the adapter, too
		l.adapter = ""
	}
	r, err := a.newRound(nil, l)
	if err != nil {
		return err
	}
	defer r.site.Close()
	note, devices, err := r.scan(ctx)
	if err != nil {
		return err
	}
	if len(devices) == 0 {
		a.say("Nothing answered, so nothing is proposed. Is this machine on the site's " +
			"network, and are the ranges right?")
		return nil
	}
	links, unseen := site.Propose(devices, "")
	proposed := "\n# Proposed by a scan. Read it, and correct what you know better.\n" +
		site.Sketch(devices, len(ranges) == 0 && adapter == "") + site.UplinksFile(links, unseen, "")
	path := filepath.Join(dir, site.File)
	err = atomicfile.Transform(path, 0o644, func(old []byte) ([]byte, error) {
		whole := append(old, proposed...)
		_, err := site.Parse(path, whole)
		return whole, err
	})
	if err == nil {
		a.say("%s found; the proposal is at the end of %s.",
			words.Plural(note.Found, "device"), path)
	}
	return err
}
