package doctor

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/plan"
	"catena/internal/scan/discover"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/words"
	"catena/internal/workspace"
)

// Finding is one thing that was checked.
type Finding struct {
	What  string `json:"what"`
	State State  `json:"state"`
	Found string `json:"found"`
	Next  string `json:"next,omitempty"`
}

// Bounds between the states.
const (
	littleDisk = 1 << 30   // bytes: look
	noDisk     = 100 << 20 // bytes: bad
	clockSlack = 2 * time.Minute
)

// State is how a check ended.
type State string

// The states, the most urgent first.
const (
	Bad  State = "bad"  // it would stop the work
	Look State = "look" // it may
	OK   State = "ok"
)

// Input is what is checked.
type Input struct {
	Site       *plan.Site // nil: outside of a site folder, or it cannot be opened
	SiteErr    error      // why not
	Shelf      func() (*shelf.Shelf, error)
	Now        time.Time
	Built      time.Time   // when the program's sources were made
	StaysAwake func() bool // whether this machine can be kept awake
	Unasked    bool        // the logins open without asking for a passphrase
	OpenLogins func() error
}

// examination is a run of all checks.
type examination struct {
	Input
	found []Finding
}

// Examine runs all checks and returns what they found, the most urgent first. It sends nothing to a
// device.
func Examine(in Input) []Finding {
	e := &examination{Input: in}
	var noSite *workspace.NoSiteError
	switch {
	case errors.As(in.SiteErr, &noSite) && noSite.Upwards:
		e.look("site folder", "go to one, or make one: catena new NAME", "there is none here")
	case in.SiteErr != nil:
		e.bad("site folder", "", "%v", in.SiteErr)
	default:
		e.ok("site folder", "%s, %s", in.Site.Site.Name, in.Site.Dir)
	}
	e.laptop()
	if in.Site != nil {
		e.site()
	}
	urgent := []State{Bad, Look, OK}
	slices.SortStableFunc(e.found, func(x, y Finding) int {
		return slices.Index(urgent, x.State) - slices.Index(urgent, y.State)
	})
	return e.found
}

func (e *examination) ok(what, format string, args ...any) { e.add(what, OK, "", format, args...) }

func (e *examination) bad(what, next, format string, args ...any) {
	e.add(what, Bad, next, format, args...)
}

func (e *examination) look(what, next, format string, args ...any) {
	e.add(what, Look, next, format, args...)
}

func (e *examination) add(what string, state State, next, format string, args ...any) {
	e.found = append(e.found, Finding{What: what, State: state, Found: fmt.Sprintf(format, args...),
		Next: next})
}

// laptop checks the machine.
func (e *examination) laptop() {
	w := e.Input.Site
	e.adapters()
	if name := Firewall(); name != "" {
		e.look("firewall", "allow replies to UDP, and TCP to images that devices fetch",
			"%s is switched on", name)
	} else {
		e.ok("firewall", "none was found; one that is visible only to an administrator may exist")
	}
	e.clock()
	if mains, known := Power(); known && !mains {
		e.look("power", "plug it in: a night can outlast its battery",
			"this machine runs on its battery")
	} else if known {
		e.ok("power", "this machine runs on mains")
	}
	if e.StaysAwake() {
		e.ok("sleep", "this machine can be kept awake while a job runs")
	} else {
		e.look("sleep", "disable sleep, and leave its lid open",
			"this machine cannot be kept awake from here")
	}
	folders := []struct{ what, dir string }{}
	if w != nil {
		folders = append(folders, struct{ what, dir string }{"site folder's disk", w.Dir})
	}
	s, err := e.Shelf()
	if err != nil {
		e.bad("shelf", "name another one with --shelf", "%v", err)
	} else {
		folders = append(folders, struct{ what, dir string }{"shelf's disk", s.Dir()})
	}
	for _, f := range folders {
		e.disk(f.what, f.dir)
	}
}

func (e *examination) disk(what, dir string) {
	if err := Writable(dir); err != nil {
		e.bad(what, "make it writable for you", "%v", err)
		return
	}
	free, err := Free(dir)
	switch {
	case err != nil:
		e.look(what, "", "the free space is unknown: %v", err)
	case free < noDisk:
		e.bad(what, "free some space: catena shelf tidy", "%s free", words.Bytes(float64(free)))
	case free < littleDisk:
		e.look(what, "free some space: catena shelf tidy", "%s free", words.Bytes(float64(free)))
	default:
		e.ok(what, "%s free", words.Bytes(float64(free)))
	}
}

// adapters checks whether the site's networks can be reached, and whether multicast comes
// through.
func (e *examination) adapters() {
	w := e.Input.Site
	have, err := discover.Adapters()
	if err != nil {
		e.bad("adapters", "", "%v", err)
		return
	}
	var networks []site.Network
	if w != nil {
		networks = w.Site.Networks
	}
	used := map[string]bool{}
	for _, n := range networks {
		e.network(n, have, used)
	}
	if len(networks) == 0 {
		chosen, _ := discover.Choose(have, "") // of none there is no error
		for _, x := range chosen {
			if len(x.Addresses) > 0 {
				used[x.Name] = true
			}
		}
		if len(used) == 0 {
			e.bad("adapters", "plug one in, and give it an address",
				"no adapter is up and has an address")
		} else if len(used) > 1 && w != nil {
			e.look("adapters", "name the site's adapter: networks: in "+site.File,
				"several are in use: all of them would be scanned")
		}
	}
	for _, x := range have {
		if used[x.Name] {
			e.multicast(x)
		}
	}
}

// network checks whether a network of the site can be reached, and marks the adapters that it is
// reached by.
func (e *examination) network(n site.Network, have []discover.Adapter, used map[string]bool) {
	chosen, err := discover.Choose(have, n.Adapter)
	switch {
	case err != nil:
		e.bad("network "+n.Name, "list them: catena scan --adapters; name one in "+site.File,
			"%v", err)
		return
	case n.Adapter == "":
		chosen = slices.DeleteFunc(chosen,
			func(x discover.Adapter) bool { return !inRanges(n, x) })
	}
	var on []string
	for _, x := range chosen {
		used[x.Name] = true
		on = append(on, x.Name)
		if !x.Running && !x.Loopback {
			e.bad("network "+n.Name, "plug the cable in", "adapter %s has no link", x.Name)
		}
	}
	if len(on) == 0 {
		e.look("network "+n.Name,
			"connect to it, or give this machine an address in that network",
			"no adapter of this machine is in it, so it is reached through a router, without multicast")
		return
	}
	e.ok("network "+n.Name, "by adapter %s", strings.Join(on, ", "))
}

// multicast checks whether an adapter sends and hears multicast.
func (e *examination) multicast(x discover.Adapter) {
	for _, p := range x.Addresses {
		if !p.Addr().Is4() {
			continue
		}
		if err := Multicast(x.Name, p.Addr()); err != nil {
			e.look("multicast", "allow incoming UDP, or name the addresses: --range",
				"adapter %s: %v", x.Name, err)
		} else {
			e.ok("multicast", "adapter %s sends and receives it", x.Name)
		}
		break
	}
}

func inRanges(n site.Network, x discover.Adapter) bool {
	return slices.ContainsFunc(n.Ranges, func(r string) bool {
		parsed, err := site.ParseRange(r)
		return err == nil && slices.ContainsFunc(x.Addresses, parsed.Overlaps)
	})
}

// clock compares the clock with what is known to have been before.
func (e *examination) clock() {
	w := e.Input.Site
	now := e.Now
	before, what := e.Built, "this program's sources"
	if w != nil {
		if last, err := w.Ledger.Entries(ledger.Filter{Last: 1}); err == nil && len(last) > 0 &&
			last[0].At.After(before) {
			before, what = last[0].At, "the ledger's last entry"
		}
	}
	zone := now.Format("MST")
	switch {
	case before.After(now.Add(clockSlack)):
		e.bad("clock", "set it: windows, certificates and the ledger depend on it",
			"%s, and %s is of %s", now.Format("2006-01-02 15:04"), what,
			before.Local().Format("2006-01-02 15:04"))
	case w != nil && now.In(w.Site.Zone()).Format("15:04") != now.Format("15:04"):
		e.look("clock", "windows follow the site's clock", "%s %s here, %s at the site",
			now.Format("15:04"), zone, now.In(w.Site.Zone()).Format("15:04 MST"))
	default:
		e.ok("clock", "%s %s", now.Format("2006-01-02 15:04"), zone)
	}
}

// site checks the site folder, and what it knows of the devices.
func (e *examination) site() {
	w := e.Input.Site
	count, _, err := w.Check()
	switch {
	case err != nil:
		e.bad("ledger", "catena ledger check shows where", "%v", err)
	case w.Ledger.ReadOnly() != nil:
		e.bad("ledger", "make its disk writable", "it can be read, but not written: %v",
			w.Ledger.ReadOnly())
	default:
		e.ok("ledger", "intact, %s", words.Plural(count, "entry"))
	}
	open, err := w.Interrupted()
	if err == nil && len(open) > 0 {
		e.bad("jobs", "continue: catena resume "+open[0].ID, "%s was interrupted", open[0].ID)
	}
	e.logins()
	for _, t := range w.Site.Tell {
		if t.Webhook != "" {
			e.ok("who is told", "try it: catena tell --test")
			break
		}
	}
	s, err := e.Shelf()
	if err == nil {
		err = w.Match(s)
	}
	if err != nil {
		e.bad("match", "", "%v", err)
		return
	}
	e.shelf(s)
	for _, r := range w.UnresolvedReferences() {
		e.bad(site.File, "correct that name, or find the device: catena scan", "%s", r)
	}
	e.devices()
	e.parked()
	e.entered()
	now := e.Now
	switch opens, closes, has := w.Site.Window(now); {
	case !has:
	case opens.After(now):
		e.ok("window", "the next one opens %s, for %s",
			opens.In(w.Site.Zone()).Format("Mon 15:04"), words.Clock(closes.Sub(opens)))
	default:
		e.ok("window", "open until %s", closes.In(w.Site.Zone()).Format("Mon 15:04"))
	}
}

// parked names devices that have an image and wait for their restart: by day that is easily
// forgotten.
func (e *examination) parked() {
	by := map[string][]string{} // names by job
	for _, r := range e.Input.Site.MainRows() {
		if r.ParkedIn != "" {
			by[r.ParkedIn] = append(by[r.ParkedIn], r.Name)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(by)) {
		e.look("parked", "restart them: catena finish "+id, "since job %s, with an image that waits for "+
			"the restart: %s", id, words.FewOf(by[id], 8))
	}
}

// entered names devices that were entered for an update and not left: they may still be in a
// service mode, or have a member too many.
func (e *examination) entered() {
	var names []string
	for _, r := range e.Input.Site.MainRows() {
		if !r.Entered.IsZero() {
			names = append(names, r.Name)
		}
	}
	if len(names) > 0 {
		e.look("not left", "the next session leaves them: catena resume, or catena scan",
			"still entered for an update: %s", words.FewOf(names, 8))
	}
}

func (e *examination) logins() {
	w := e.Input.Site
	if !login.Exists(w.Dir) {
		e.look("logins", "add one: catena login add",
			"none is stored: Catena asks, or uses CATENA_LOGIN")
		return
	}
	if !e.Unasked {
		e.look("logins", "once for the night: catena login unlock",
			"they are stored; each command asks for their passphrase")
		return
	}
	if err := e.OpenLogins(); err != nil {
		e.bad("logins", "", "%v", err)
		return
	}
	e.ok("logins", "they are stored, and open without a passphrase")
}

func (e *examination) shelf(s *shelf.Shelf) {
	images, err := s.List()
	faults, faultErr := s.Faults()
	switch {
	case errors.Join(err, faultErr) != nil:
		e.bad("shelf", "", "%v", errors.Join(err, faultErr))
	case len(faults) > 0:
		e.bad("shelf", "see them: catena shelf check", "%s cannot be read",
			words.Plural(len(faults), "manifest"))
	case len(images) == 0:
		e.bad("shelf", "fill it: catena shelf add, or catena shelf pull",
			"it has no images")
	default:
		e.ok("shelf", "%s", words.Plural(len(images), "image"))
	}
	feeds, err := s.Indexes()
	if err != nil {
		e.bad("feeds", "", "%v", err)
	}
	for _, f := range feeds {
		found := fmt.Sprintf("%s was read on %s", f.Name, f.Read.Local().Format("2006-01-02 15:04"))
		if e.Now.Sub(f.Read) > oldFeed || e.Now.After(f.Expires) {
			e.look("feeds", "read it again: catena shelf pull --look", "%s", found)
			continue
		}
		e.ok("feeds", "%s", found)
	}
}

// oldFeed is how long ago a feed may have been read before someone should look.
const oldFeed = 14 * 24 * time.Hour

// inventory compares the devices with the inventory.
func (e *examination) inventory() {
	missing, unlisted, err := e.Input.Site.Inventory()
	if err != nil {
		e.bad("inventory", "", "%v", err)
		return
	}
	for _, x := range []struct {
		what, remedy string
		of           []plan.Listed
	}{
		{"not found: %s", "catena scan; or retire them, and correct " + plan.InventoryPath, missing},
		{"not listed: %s", "add them to the list: catena import", unlisted},
	} {
		var names []string
		for _, l := range x.of {
			names = append(names, cmp.Or(l.Name, l.Serial, l.Address))
		}
		if len(names) > 0 {
			e.look("inventory", x.remedy, x.what, words.FewOf(names, 8))
		}
	}
}

// noRollback is what is reported of devices that an update could not be undone on.
const noRollback = "cannot be rolled back"

// devices reports the devices that cannot be updated or rolled back.
func (e *examination) devices() {
	w := e.Input.Site
	rows, err := w.Choose(workspace.Choice{})
	if err != nil {
		e.bad("devices", "", "%v", err)
		return
	}
	by := map[string][]string{}
	for _, r := range rows {
		by[r.Status] = append(by[r.Status], r.Part())
		if (r.Status == string(match.Outdated) || r.Status == string(match.Unsafe)) &&
			r.Rollback == string(firmware.ByNothing) {
			by[noRollback] = append(by[noRollback], r.Part())
		}
	}
	if len(rows) == 0 {
		e.look("devices", "find them: catena scan", "no devices are known yet")
		return
	}
	e.ok("devices", "%s known, %d behind", words.Plural(len(workspace.Mains(rows)), "device"),
		len(by[string(match.Outdated)])+len(by[string(match.Unsafe)]))
	e.inventory()
	denied, untested := w.MayNotChange()
	if len(denied) > 0 {
		e.look("logins", "add others: catena login add; test them: catena login test --for-change",
			"their logins may read and not update: %s", words.Few(denied))
	}
	if len(untested) > 0 {
		e.look("logins", "catena login test --for-change",
			"the right to update was never tested: %s", words.Few(untested))
	}
	for _, x := range []struct{ status, next string }{
		{string(match.Stranded), "visit them: catena report has the list"},
		{string(match.NoAccess),
			"add their logins: catena login add; test them: catena login test"},
		{string(match.Away), "look for them: catena scan"},
		{string(match.NoImage), "obtain them: catena match --missing"},
		{noRollback, "add the images of their current versions to the shelf: catena match --missing"},
	} {
		if names := by[x.status]; len(names) > 0 {
			e.look("devices", x.next, "%s: %s", x.status, words.Few(names))
		}
	}
}
