package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/doctor"
	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/scan/discover"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/workspace"
)

func (a *app) doctorCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "doctor",
		Short: "Look at this laptop and the site: what would go wrong tonight?",
		Long: `Look at this laptop and at the site folder, and say what would go wrong tonight: adapters and
their networks, multicast, firewall, clock, power, disk and rights; then the site's words, shelf, logins,
ledger, devices and windows. Outside of a site folder only the laptop is looked at. It ends with 1 where
something would stop the work.`,
		Example: "  catena doctor\n  catena -C ~/sites/marrow-hill doctor --format json",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.doctor() },
	}
}

// finding is one thing that was looked at.
type finding struct {
	What  string `json:"what"`
	State string `json:"state"` // ok, look or bad
	Found string `json:"found"`
	Next  string `json:"next,omitempty"`
}

// Bounds of what is told.
const (
	littleDisk = 1 << 30   // bytes: look
	noDisk     = 100 << 20 // bytes: bad
	clockSlack = 2 * time.Minute
)

// findings are what was found.
type findings []finding

func (f *findings) ok(what, format string, args ...any) { f.add(what, "ok", "", format, args...) }
func (f *findings) bad(what, next, format string, args ...any) {
	f.add(what, "bad", next, format, args...)
}
func (f *findings) look(what, next, format string, args ...any) {
	f.add(what, "look", next, format, args...)
}

func (f *findings) add(what, state, next, format string, args ...any) {
	*f = append(*f, finding{What: what, State: state, Found: fmt.Sprintf(format, args...),
		Next: next})
}

func (a *app) doctor() error {
	var all findings
	w, err := a.openSite()
	var noSite *workspace.NoSiteError
	switch {
	case errors.As(err, &noSite) && noSite.Upwards:
		all.look("site folder", "go to one, or make one: catena new NAME", "there is none here")
	case err != nil:
		all.bad("site folder", "", "%v", err)
	default:
		defer w.Close()
		all.ok("site folder", "%s, %s", w.Site.Name, w.Dir)
	}
	if err != nil {
		w = nil
	}
	a.lookAtLaptop(&all, w)
	if w != nil {
		a.lookAtSite(&all, w)
	}
	urgent := []string{"bad", "look", "ok"}
	slices.SortStableFunc(all, func(x,
		y finding) int {
		return slices.Index(urgent, x.State) - slices.Index(urgent, y.State)
	})
	tones := map[string]view.Tone{"ok": view.Good, "look": view.Warn, "bad": view.Bad}
	t := view.Table{Columns: []string{"looked at", "state", "found", "what to do"}}
	bad := 0
	for _, f := range all {
		if f.State == "bad" {
			bad++
		}
		t.Add(f.What, tones[f.State].Cell(f.State), f.Found, f.Next)
	}
	if err := a.emit(all, t); err != nil {
		return err
	}
	if bad > 0 {
		a.say("\n%s would stop the work.", view.Plural(bad, "thing"))
		return exit{exitError, errSilent}
	}
	a.say("\nAll checks passed.")
	return nil
}

// lookAtLaptop looks at the machine; w is nil outside of a site folder.
func (a *app) lookAtLaptop(all *findings, w *workspace.Workspace) {
	a.lookAtAdapters(all, w)
	if name := doctor.Firewall(); name != "" {
		all.look("firewall", "let answers to UDP in, and TCP to images that devices fetch",
			"%s is switched on", name)
	} else {
		all.ok("firewall", "none was seen; one that needs rights to be seen may be there")
	}
	a.lookAtClock(all, w)
	if mains, known := doctor.Power(); known && !mains {
		all.look("power", "plug it in: a night outlasts a battery",
			"this machine runs on its battery")
	} else if known {
		all.ok("power", "this machine runs on mains")
	}
	release, ok := keepAwake("catena doctor")
	release()
	if ok {
		all.ok("sleep", "this machine can be kept awake while a job runs")
	} else {
		all.look("sleep", "switch its sleep off, and leave its lid open",
			"this machine cannot be kept awake from here")
	}
	folders := []struct{ what, dir string }{}
	if w != nil {
		folders = append(folders, struct{ what, dir string }{"site folder's disk", w.Dir})
	}
	s, err := a.openShelf()
	if err != nil {
		all.bad("shelf", "name another one with --shelf", "%v", err)
	} else {
		folders = append(folders, struct{ what, dir string }{"shelf's disk", s.Dir()})
	}
	for _, f := range folders {
		lookAtDisk(all, f.what, f.dir)
	}
}

func lookAtDisk(all *findings, what, dir string) {
	if err := doctor.Writable(dir); err != nil {
		all.bad(what, "make it writable for you", "%v", err)
		return
	}
	free, err := doctor.Free(dir)
	switch {
	case err != nil:
		all.look(what, "", "how much is free cannot be told: %v", err)
	case free < noDisk:
		all.bad(what, "make room: catena shelf tidy", "%s free", view.Bytes(float64(free)))
	case free < littleDisk:
		all.look(what, "make room: catena shelf tidy", "%s free", view.Bytes(float64(free)))
	default:
		all.ok(what, "%s free", view.Bytes(float64(free)))
	}
}

// lookAtAdapters looks whether the site's networks can be reached, and whether multicast comes
// through.
func (a *app) lookAtAdapters(all *findings, w *workspace.Workspace) {
	have, err := discover.Adapters()
	if err != nil {
		all.bad("adapters", "", "%v", err)
		return
	}
	var networks []site.Network
	if w != nil {
		networks = w.Site.Networks
	}
	used := map[string]bool{}
	for _, n := range networks {
		chosen, err := discover.Choose(have, n.Adapter)
		switch {
		case err != nil:
			all.bad("network "+n.Name, "see them: catena scan --adapters; name one in "+site.File,
				"%v", err)
			continue
		case n.Adapter == "":
			chosen = slices.DeleteFunc(chosen,
				func(x discover.Adapter) bool { return !inRanges(n, x) })
		}
		var on []string
		for _, x := range chosen {
			used[x.Name] = true
			on = append(on, x.Name)
			if !x.Running && !x.Loopback {
				all.bad("network "+n.Name, "plug the cable in", "adapter %s has no link", x.Name)
			}
		}
		if len(on) == 0 {
			all.look("network "+n.Name,
				"plug in there, or give this machine an address in that network", "no adapter of this machine is in it: it is reached through a router, without multicast")
			continue
		}
		all.ok("network "+n.Name, "by adapter %s", strings.Join(on, ", "))
	}
	if len(networks) == 0 {
		chosen, _ := discover.Choose(have, "") // of none there is no error
		for _, x := range chosen {
			if len(x.Addresses) > 0 {
				used[x.Name] = true
			}
		}
		if len(used) == 0 {
			all.bad("adapters", "plug one in, and give it an address",
				"no adapter is up and has an address")
		} else if len(used) > 1 && w != nil {
			all.look("adapters", "name the one of the site: networks: in "+site.File,
				"several are in use: all of them would be scanned")
		}
	}
	for _, x := range have {
		if !used[x.Name] {
			continue
		}
		for _, p := range x.Addresses {
			if !p.Addr().Is4() {
				continue
			}
			if err := doctor.Multicast(x.Name, p.Addr()); err != nil {
				all.look("multicast", "let UDP in, or name the addresses: --range",
					"adapter %s: %v", x.Name, err)
			} else {
				all.ok("multicast", "adapter %s sends and hears it", x.Name)
			}
			break
		}
	}
}

func inRanges(n site.Network, x discover.Adapter) bool {
	return slices.ContainsFunc(n.Ranges, func(r string) bool {
		parsed, err := site.ParseRange(r)
		return err == nil && slices.ContainsFunc(x.Addresses, parsed.Overlaps)
	})
}

// lookAtClock holds the clock against what is known to have been before.
func (a *app) lookAtClock(all *findings, w *workspace.Workspace) {
	now := a.now()
	before, what := built().Date, "this program's sources"
	if w != nil {
		if last, err := w.Ledger.Entries(ledger.Filter{Last: 1}); err == nil && len(last) > 0 &&
			last[0].At.After(before) {
			before, what = last[0].At, "the ledger's last entry"
		}
	}
	zone := now.Format("MST")
	switch {
	case before.After(now.Add(clockSlack)):
		all.bad("clock", "set it: windows, certificates and the ledger go by it",
			"%s, and %s is of %s", now.Format("2006-01-02 15:04"), what,
			before.Local().Format("2006-01-02 15:04"))
	case w != nil && now.In(w.Site.Zone()).Format("15:04") != now.Format("15:04"):
		all.look("clock", "windows go by the site's clock", "%s %s here, %s at the site",
			now.Format("15:04"), zone, now.In(w.Site.Zone()).Format("15:04 MST"))
	default:
		all.ok("clock", "%s %s", now.Format("2006-01-02 15:04"), zone)
	}
}

// lookAtSite looks at the site folder, and what it knows of the devices.
func (a *app) lookAtSite(all *findings, w *workspace.Workspace) {
	count, _, err := w.Check()
	switch {
	case err != nil:
		all.bad("ledger", "catena ledger check says where", "%v", err)
	case w.Ledger.ReadOnly() != nil:
		all.bad("ledger", "make its disk writable", "it can be read and not written to: %v",
			w.Ledger.ReadOnly())
	default:
		all.ok("ledger", "whole, %s", view.Plural(count, "entry"))
	}
	open, err := w.Interrupted()
	if err == nil && len(open) > 0 {
		all.bad("jobs", "continue: catena resume "+open[0].ID, "%s was interrupted", open[0].ID)
	}
	a.lookAtLogins(all, w)
	for _, t := range w.Site.Tell {
		if t.Webhook != "" {
			all.ok("who is told", "try it: catena tell --test")
			break
		}
	}
	s, err := a.openShelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		all.bad("match", "", "%v", err)
		return
	}
	lookAtShelf(all, s)
	for _, r := range w.UnresolvedReferences() {
		all.bad(site.File, "fix that word, or look for the device: catena scan", "%s", r)
	}
	lookAtDevices(all, w)
	now := a.now()
	switch opens, closes, has := w.Site.Window(now); {
	case !has:
	case opens.After(now):
		all.ok("window", "the next one opens %s, for %s",
			opens.In(w.Site.Zone()).Format("Mon 15:04"), view.Clock(closes.Sub(opens)))
	default:
		all.ok("window", "open until %s", closes.In(w.Site.Zone()).Format("Mon 15:04"))
	}
}

func (a *app) lookAtLogins(all *findings, w *workspace.Workspace) {
	if !login.Exists(w.Dir) {
		all.look("logins", "add one: catena login add",
			"none is kept: they are asked for, or in CATENA_LOGIN")
		return
	}
	if _, err := login.Kept(w.Dir); err != nil && a.getenv("CATENA_PASSPHRASE") == "" &&
		a.identity == "" && a.getenv("CATENA_IDENTITY") == "" {
		all.look("logins", "once for the night: catena login unlock",
			"they are kept; each command asks for their passphrase")
		return
	}
	if _, _, err := a.openBook(w.Dir, false); err != nil {
		all.bad("logins", "", "%v", err)
		return
	}
	all.ok("logins", "they are kept, and open without a question")
}

func lookAtShelf(all *findings, s *shelf.Shelf) {
	images, err := s.List()
	faults, faultErr := s.Faults()
	switch {
	case errors.Join(err, faultErr) != nil:
		all.bad("shelf", "", "%v", errors.Join(err, faultErr))
	case len(faults) > 0:
		all.bad("shelf", "see them: catena shelf check", "%s cannot be read",
			view.Plural(len(faults), "manifest"))
	case len(images) == 0:
		all.bad("shelf", "fill it: catena shelf add, or catena shelf pull",
			"there is no image on it")
	default:
		all.ok("shelf", "%s", view.Plural(len(images), "image"))
	}
}

// noRollback is what is reported of devices that an update could not be undone on.
const noRollback = "cannot be rolled back"

// lookAtDevices reports the devices that cannot be updated or rolled back.
func lookAtDevices(all *findings, w *workspace.Workspace) {
	rows, err := w.Choose(workspace.Choice{})
	if err != nil {
		all.bad("devices", "", "%v", err)
		return
	}
	by := map[string][]string{}
	for _, r := range rows {
		by[r.Status] = append(by[r.Status], r.Part())
		if (r.Status == string(match.Behind) || r.Status == string(match.Unsafe)) &&
			r.Rollback == string(firmware.ByNothing) {
			by[noRollback] = append(by[noRollback], r.Part())
		}
	}
	if len(rows) == 0 {
		all.look("devices", "find them: catena scan", "none is known yet")
		return
	}
	all.ok("devices", "%s known, %d behind", view.Plural(len(workspace.Mains(rows)), "device"),
		len(by[string(match.Behind)])+len(by[string(match.Unsafe)]))
	for _, x := range []struct{ status, next string }{
		{string(match.Stranded), "go there: catena report has the list"},
		{string(match.NoAccess),
			"add their logins: catena login add; see which work: catena login test"},
		{string(match.Away), "look for them: catena scan"},
		{string(match.NoImage), "obtain them: catena match --missing"},
		{noRollback, "add the images of their current versions to the shelf: catena match --missing"},
	} {
		if names := by[x.status]; len(names) > 0 {
			all.look("devices", x.next, "%s: %s", x.status, few(names))
		}
	}
}
