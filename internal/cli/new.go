package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"unicode"

	"github.com/spf13/cobra"

	"catena/internal/atomicfile"
	"catena/internal/ledger"
	"catena/internal/record"
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

With --from-scan the network is looked through at once, and site.yaml starts with what was found: networks,
where none was named, a group for each model, names by serial number, and what hangs on what. Read it, and
change what you know better.`,
		Example: `  catena new "Marrow Hill Locks" --range 10.20.4.1-10.20.4.60 --range 10.20.5.0/26
  catena new "Marrow Hill Locks" -C ~/sites/marrow-hill --adapter eth0
  catena new "Marrow Hill Locks" --adapter eth0 --range 10.20.4.0/24 --from-scan`,
		Args: exactly(1, "the site's name"),
		RunE: func(c *cobra.Command, args []string) error {
			dir, err := a.newSite(args[0], adapter, ranges, ports)
			if err != nil {
				return err
			}
			if fromScan {
				if err := a.sketch(c.Context(), dir, adapter, ranges); err != nil {
					return fmt.Errorf("the site folder %s is made, and its file has nothing of a scan: %w", dir, err)
				}
			}
			a.say("Made the site folder %s.\nNext: cd %s, then catena scan", dir, dir)
			return nil
		},
	}
	c.Flags().BoolVar(&fromScan, "from-scan", false,
		"look through the network, and start site.yaml with what is there")
	c.Flags().StringArrayVar(&ranges, "range", nil,
		"addresses that are the site's; may be repeated")
	c.Flags().StringVar(&adapter, "adapter", "", "this machine's adapter to the site's network")
	c.Flags().StringSliceVar(&ports, "port", nil,
		"ports to try instead of the usual ones: 8080, or snmp:1161")
	return c
}

func (a *app) newSite(name, adapter string, ranges, ports []string) (dir string, err error) {
	dir = a.dir
	if dir == "" {
		plain := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
		dir = strings.Join(strings.FieldsFunc(strings.ToLower(name),
			func(r rune) bool { return !plain(r) }), "-")
	}
	if dir == "" {
		return "", usage("%q makes no folder name; name the folder with -C", name)
	}
	path := filepath.Join(dir, site.File)
	if _, err := os.Stat(path); err == nil {
		return "", usage("%s already exists; nothing was changed", path)
	}
	for _, r := range ranges {
		if _, err := site.ParseRange(r); err != nil {
			return "", usage("--range: %w", err)
		}
	}
	for _, p := range ports {
		if _, err := site.ParsePort(p); err != nil {
			return "", usage("--port: %w", err)
		}
	}
	text := siteFile(name, adapter, ranges, ports)
	if _, err := site.Parse(site.File, []byte(text)); err != nil {
		return "", usage("%w", err)
	}
	if err := os.MkdirAll(filepath.Join(dir, "families"), 0o755); err != nil {
		return "", err
	}
	l, err := ledger.Create(dir, a.now)
	if err != nil {
		return "", err
	}
	// The site file comes last: a folder is a site folder once it is there.
	err = errors.Join(l.Append(record.Founded, "", "", map[string]string{"site": name}),
		l.Close())
	if err == nil {
		err = os.WriteFile(path, []byte(workspace.ForEditors(dir, "site", "")+text), 0o644)
	}
	if err != nil {
		return "", err
	}
	return dir, nil
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
		a.say("Nothing answered: nothing is proposed. Is this machine on the site's network, and are the ranges right?")
		return nil
	}
	links, unseen := site.Propose(devices, "")
	proposed := "\n# What a scan proposes. Read it, and change what you know better.\n" +
		site.Sketch(devices, len(ranges) == 0 && adapter == "") + proposedUplinks(links, unseen, "")
	path := filepath.Join(dir, site.File)
	err = atomicfile.Transform(path, 0o644, func(old []byte) ([]byte, error) {
		whole := append(old, proposed...)
		_, err := site.Parse(path, whole)
		return whole, err
	})
	if err == nil {
		a.say("%s found; what is proposed of them is at the end of %s.",
			words.Plural(note.Found, "device"), path)
	}
	return err
}

func siteFile(name, adapter string, ranges, ports []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "site: %s\n\n# Where its devices are. What answers from outside the ranges is skipped.\n", strconv.Quote(name))
	if adapter == "" && len(ranges) == 0 && len(ports) == 0 {
		b.WriteString("# networks:\n#   - {name: towpath, adapter: eth0, ranges: [10.20.4.1-10.20.4.60, 10.20.5.0/26], except: [10.20.4.1]}\n")
	} else {
		fmt.Fprintf(&b, "networks:\n  - name: first\n")
		if adapter != "" {
			fmt.Fprintf(&b, "    adapter: %s\n", strconv.Quote(adapter))
		}
		if len(ranges) > 0 {
			b.WriteString("    ranges:\n")
			for _, r := range ranges {
				fmt.Fprintf(&b, "      - %s\n", strconv.Quote(r))
			}
		}
		if len(ports) > 0 {
			fmt.Fprintf(&b, "    ports: [%s]\n", strings.Join(mapped(ports, strconv.Quote), ", "))
		}
	}
	b.WriteString("\n# Devices to leave as they are.\n# hold:\n#   - {device: gate-5, because: not before the winter stoppage}\n" +
		"\n# What devices are called here, by address or serial number.\n# names: {10.20.4.17: cam-basin}\n" +
		"\n# What is reached through what: catena scan --uplinks proposes it.\n# uplinks:\n#   - {through: switch-basin, reach: [cam-11, cam-12]}\n" +
		"\n# Devices of which some stay in service, and how many are worked on at the same time.\n# cover: [{name: chamber 1 view, keep: 1, of: [cam-11, cam-12]}]\n# limits: {parallel: 8, per_model: {TG-200: 1}, per_uplink: 4}\n# stop_after: {failures: 3}\n" +
		"\n# When work may be done; the days name the opening.\n# windows: [{days: mon-fri, from: \"22:00\", to: \"05:00\"}]\n# timezone: Europe/Lisbon\n")
	return b.String()
}
