// Package workspace is an open site: its site file, its ledger, the shelf, the families,
// and every device known with what the shelf has for it. It holds the decisions that
// commands share: which devices a word means, which ones a job takes, what a rollback is,
// which images are still needed.
//
// Its central type is Workspace. How devices are reached is decided in contact, how they are
// changed in care and job. It prints nothing: its errors are types with fields, and whoever shows
// them adds what to do next.
package workspace

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"catena/internal/atomicfile"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/inventory"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/match"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/text"
)

// Access returns how the devices of the site are reached.
func (w *Workspace) Access(families family.Set, book login.Book, given ...login.Credential) (
	*contact.Access, error) {
	return contact.New(w.Ledger, w.Dir, w.Site, families, book, given...)
}

// Workspace is an open site. Match and Renew are for one goroutine; what they have filled may be
// read by several.
type Workspace struct {
	Dir    string
	Site   site.Site // with the targets of targets.yaml
	Ledger *ledger.Ledger
	now    func() time.Time

	// What Match fills.
	Shelf    *shelf.Shelf
	Families family.Set
	Dialects dialect.Registry
	sends    map[string]bool // by dialect: it can send images
	Rows     []Row           // every component of every device known, matched
	history  *job.History
	entered  map[string]time.Time // when each device was entered that was not left, by ID
	seen     map[string]time.Time // when each device was last read or said something new, by ID
	matcher  *match.Matcher
	mains    []Row                     // those of Rows that are main components
	mainAt   map[string]int            // by ID: the place in mains
	images   map[string]firmware.Image // on the shelf, by digest
	offered  []shelf.Offer             // by feeds, and not on the shelf
	ways     site.Ways
	nameOf   map[string]string
	unknown  map[string]bool // by ID: no one knows what it runs
	failed   error           // what the matcher could not be told
}

// NoSiteError is returned where a site folder was looked for and there is none.
type NoSiteError struct {
	Dir     string
	Upwards bool // it was looked for in the folders above, too
}

func (e *NoSiteError) Error() string {
	if e.Upwards {
		return "neither " + e.Dir + " nor a folder above it is a site folder"
	}
	return e.Dir + " is not a site folder: it lacks " + site.File
}

// Find returns the nearest site folder from a folder upwards.
func Find(from string) (string, error) {
	for dir := from; ; dir = filepath.Dir(dir) {
		if IsSite(dir) {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", &NoSiteError{Dir: from, Upwards: true}
		}
	}
}

// IsSite tells whether a folder is a site folder.
func IsSite(dir string) bool {
	_, err := os.Stat(filepath.Join(dir, site.File))
	return err == nil
}

// Open reads the site file and opens the ledger. The caller closes it.
func Open(dir string, now func() time.Time, by ledger.Writer) (*Workspace, error) {
	s, err := readWhole(dir, now())
	if err != nil {
		return nil, err
	}
	l, err := ledger.Open(dir, now, by)
	if errors.Is(err, ledger.ErrNone) { // the folder was copied without it
		l, err = ledger.Create(dir, now, by)
		if err == nil {
			err = record.Start(l, record.Origin{Site: s.Name, Because: "the folder came without a ledger"})
		}
	}
	if err != nil {
		return nil, err
	}
	return &Workspace{Dir: dir, Site: s, Ledger: l, now: now}, nil
}

// Reread reads the site's files again, after a change of them.
func (w *Workspace) Reread() (err error) {
	w.Site, err = readWhole(w.Dir, w.now())
	return err
}

// readWhole reads the site file, with the targets of targets.yaml, as it is at a time.
func readWhole(dir string, now time.Time) (site.Site, error) {
	s, err := ReadSite(dir)
	if err != nil {
		return s, err
	}
	s = s.At(now)
	targets := filepath.Join(dir, site.TargetsFile)
	data, err := files.Read(targets, files.Site)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	parsed, err := site.ParseTargets(targets, data)
	if err != nil {
		return s, err
	}
	return s, s.Join(targets, parsed)
}

// readInventory reads the inventory of a site folder; without the file it is empty.
func readInventory(dir string) (inventory.Inventory, error) {
	path := filepath.Join(dir, inventory.File)
	data, err := files.Read(path, files.Site)
	if errors.Is(err, os.ErrNotExist) {
		return inventory.Inventory{}, nil
	}
	if err != nil {
		return inventory.Inventory{}, err
	}
	return site.ParseInventory(path, data)
}

// WriteInventory replaces the inventory, in the folder and of the open site.
func (w *Workspace) WriteInventory(n inventory.Inventory) error {
	raw, err := inventory.Format(n)
	if err != nil {
		return err
	}
	path := filepath.Join(w.Dir, inventory.File)
	if _, err := site.ParseInventory(path, raw); err != nil {
		return err
	}
	if err := atomicfile.Replace(path, raw, 0o644); err != nil {
		return err
	}
	w.Site.List(n)
	return nil
}

// Renew reads the site's files and matches again: after a wait, when others may have changed
// them.
func (w *Workspace) Renew() error {
	s, err := readWhole(w.Dir, w.now())
	if err != nil {
		return err
	}
	w.Site = s
	return w.Match(w.Shelf)
}

// ReadSite reads the site file and the inventory, without the targets of targets.yaml.
func ReadSite(dir string) (site.Site, error) {
	path := filepath.Join(dir, site.File)
	data, err := files.Read(path, files.Site)
	if errors.Is(err, os.ErrNotExist) {
		return site.Site{}, &NoSiteError{Dir: dir}
	}
	if err != nil {
		return site.Site{}, err
	}
	s, err := site.Parse(path, data)
	if err != nil {
		return s, err
	}
	list, err := readInventory(dir)
	s.List(list)
	return s, err
}

// Close closes the ledger: all that was appended is on the disk.
func (w *Workspace) Close() { _ = w.Ledger.Close() }

// ReadFamilies reads the family files of the folders: a site's, and a shelf's. An empty
// name is not a folder. A file that is there twice, as after a pack from the same shelf, counts
// once.
func ReadFamilies(folders ...string) (family.Set, error) {
	var all []family.Family
	seen := map[string]bool{} // contents
	for _, folder := range folders {
		if folder == "" {
			continue
		}
		names, err := files.In(filepath.Join(folder, "families"), "*.yaml")
		if err != nil {
			return family.Set{}, err
		}
		for _, name := range names {
			data, err := files.Read(name, files.Family)
			if err != nil {
				return family.Set{}, err
			}
			if seen[string(data)] {
				continue
			}
			seen[string(data)] = true
			f, err := parseFamily(name, data)
			if err != nil {
				return family.Set{}, err
			}
			all = append(all, f)
		}
	}
	return family.NewSet(all)
}

// ReadFamily reads one family file.
func ReadFamily(name string) (family.Family, error) {
	data, err := files.Read(name, files.Family)
	if err != nil {
		return family.Family{}, err
	}
	return parseFamily(name, data)
}

func parseFamily(name string, data []byte) (family.Family, error) {
	f, err := family.Parse(name, data)
	f.File = name
	if f.Children != nil {
		f.Children.File = name
	}
	return f, err
}

// Match holds every known device against a shelf.
func (w *Workspace) Match(s *shelf.Shelf) error {
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return err
	}
	if w.entered, err = contact.Entered(w.Ledger); err != nil {
		return err
	}
	if w.seen, err = record.LastScans(w.Ledger, known); err != nil {
		return err
	}
	w.Shelf = s
	_ = s.Remember(w.Dir) // a shelf that cannot be written to can still be read
	images, err := s.List()
	if err != nil {
		return err
	}
	w.Families, err = ReadFamilies(w.Dir, s.Dir())
	if err != nil {
		return err
	}
	w.Dialects, w.sends = contact.Dialects(w.Families), map[string]bool{}
	withdrawn, err := w.readFeeds(images)
	if err != nil {
		return err
	}
	w.history, err = job.ReadHistory(w.Ledger)
	if err != nil {
		return err
	}
	w.matcher = match.New(match.Input{Images: images, Site: w.Site, Withdrawn: withdrawn,
		Order: w.Families.Order, Left: w.remnant})
	for i := range known {
		known[i].Kind = w.kindOf(known[i])
	}
	w.Rows, w.unknown, w.nameOf = nil, map[string]bool{}, map[string]string{}
	for _, d := range known {
		w.nameOf[d.ID] = d.Name
	}
	for _, r := range w.matcher.All(known) {
		row, err := w.Row(r)
		if err == nil {
			row, err = w.cautious(row)
		}
		if err != nil {
			return err
		}
		w.Rows = append(w.Rows, row)
	}
	w.mains, w.mainAt = Mains(w.Rows), map[string]int{}
	for i, r := range w.mains {
		w.mainAt[r.ID] = i
	}
	w.images = map[string]firmware.Image{}
	for _, i := range images {
		w.images[i.SHA256] = i
	}
	w.ways = w.Site.Ways(known)
	return w.failed
}

// remnant returns what the last job left of a device. The device is the truth: one that a later
// scan has read is no longer stranded because it was away. One that is open in a job that died
// stays so until someone continues with the job, or gives it up: what it runs may change yet.
func (w *Workspace) remnant(id string) (match.Status, string) {
	r, ok, err := w.history.Left(id)
	if err != nil && w.failed == nil {
		w.failed = err
	}
	read := w.seen[id].After(r.Since)
	switch {
	case !ok, read && r.Step == job.Stranded && r.Cause.Away():
		return "", ""
	case r.Step == job.Stranded:
		w.unknown[id] = r.Unread
		return match.Stranded, "in " + r.Job + ": " + r.Cause.Error()
	}
	w.unknown[id] = r.Unread
	if r.Elsewhere() {
		return match.Interrupted, fmt.Sprintf("job %s had not ended at the last sync; it was %s", r.Job,
			r.Step)
	}
	return match.Interrupted, fmt.Sprintf("job %s was interrupted while it was %s", r.Job, r.Step)
}

// readFeeds reads what feeds offer besides the images of the shelf, and what must not run.
func (w *Workspace) readFeeds(images []firmware.Image) ([]match.Withdrawal, error) {
	feeds, err := w.Shelf.Indexes()
	if err != nil {
		return nil, err
	}
	w.offered = shelf.Offered(feeds, images)
	return withdrawals(w.Shelf, feeds)
}

// withdrawals are what feeds and advisories say must not run.
func withdrawals(s *shelf.Shelf, feeds []shelf.Index) ([]match.Withdrawal, error) {
	var out []match.Withdrawal
	for _, w := range shelf.Withdrawals(feeds) {
		out = append(out, match.Withdrawal{Vendor: w.Vendor, Model: w.Model, Versions: w.Versions,
			Reason: w.Because})
	}
	advisories, err := s.Advisories()
	if err != nil {
		return nil, err
	}
	for _, a := range advisories {
		for _, st := range a.Statements {
			out = append(out, match.Withdrawal{Vendor: st.Vendor, Model: st.Model,
				Versions: st.Versions,
				Reason:   "advisory " + a.ID + ", " + a.Title})
		}
	}
	return out, nil
}

// Means refuses a word that means no known device.
func (w *Workspace) Means(word string) error {
	known, err := record.Devices(w.Ledger)
	if err != nil {
		return err
	}
	_, err = record.Meant(known, word)
	return err
}

// Device finds the one known device that a word means, among all that are known.
func (w *Workspace) Device(word string) (known []device.Device, found device.Device, err error) {
	if known, err = record.Devices(w.Ledger); err != nil {
		return nil, found, err
	}
	devices, err := record.Meant(known, word)
	if err != nil {
		return nil, found, err
	}
	if len(devices) > 1 {
		return nil, found, &record.AmbiguousError{Word: word, Count: len(devices)}
	}
	return known, devices[0], nil
}

// Check proves the ledger whole: its chain, its first entry, and that the jobs are in it
// whose locks a dead process left. It returns how many entries it has and the last digest.
func (w *Workspace) Check() (count int, last []byte, err error) {
	count, last, err = w.Ledger.Check()
	if err != nil {
		return count, last, err
	}
	if _, err := record.OriginOf(w.Ledger); err != nil {
		return count, last, err
	}
	next, err := job.NextID(w.Ledger)
	if err != nil {
		return count, last, err
	}
	for _, name := range w.Ledger.Locks() {
		if !jobName().MatchString(name) || name == next { // a crash right after the next job was claimed
			continue
		}
		if exists, err := job.Exists(w.Ledger, name); err != nil || !exists {
			return count, last, fmt.Errorf("job %s was started here, and its entries are missing",
				name)
		}
	}
	return count, last, nil
}

// jobName is how jobs of this writer are called.
var jobName = text.Later(`^j[0-9]+$`)

// Rename writes a device's new name, or another word for it, where the site's files have the old
// one.
func (w *Workspace) Rename(from, to string) error {
	for _, name := range []string{site.File, site.TargetsFile} {
		path := filepath.Join(w.Dir, name)
		raw, err := files.Read(path, files.Site)
		if errors.Is(err, os.ErrNotExist) || err == nil &&
			bytes.Equal(site.Rename(raw, from, to), raw) {
			continue
		}
		err = atomicfile.Transform(path, 0o644, func(old []byte) ([]byte, error) {
			renamed := site.Rename(old, from, to)
			if name == site.File {
				_, err := site.Parse(path, renamed)
				return renamed, err
			}
			_, err := site.ParseTargets(path, renamed)
			return renamed, err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Image returns the image on the shelf with a digest; false: there is none.
func (w *Workspace) Image(digest string) (firmware.Image, bool) {
	i, there := w.images[digest]
	return i, there
}

// MainRows returns the main component of every known device, matched.
func (w *Workspace) MainRows() []Row { return w.mains }

// NameOf returns the name of a device by its ID; empty: it is not known.
func (w *Workspace) NameOf(id string) string { return w.nameOf[w.Ledger.Canonical(id)] }

// Through returns, by ID, the devices that each one is reached through, as the site has it and as
// more says.
func (w *Workspace) Through(more ...site.Uplink) map[string][]string {
	if len(more) == 0 {
		return w.ways.Through
	}
	all := w.Site
	all.Uplinks = slices.Concat(all.Uplinks, more)
	return all.Ways(w.Devices()).Through
}

// Devices returns the known devices.
func (w *Workspace) Devices() []device.Device {
	var all []device.Device
	for _, r := range w.mains {
		all = append(all, r.Match.Device)
	}
	return all
}

// Main returns the matched row of a device's main component; false: it is not known.
func (w *Workspace) Main(id string) (Row, bool) {
	i, known := w.mainAt[w.Ledger.Canonical(id)]
	if !known {
		return Row{}, false
	}
	return w.mains[i], true
}

// Images returns the images on the shelf, by digest.
func (w *Workspace) Images() map[string]firmware.Image { return w.images }

// Ways returns what each device is reached through and fed by.
func (w *Workspace) Ways() site.Ways { return w.ways }

// History returns what earlier jobs did, as it was when Match was called.
func (w *Workspace) History() *job.History { return w.history }

// Matcher returns what decides which image a device gets.
func (w *Workspace) Matcher() *match.Matcher { return w.matcher }
