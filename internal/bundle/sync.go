package bundle

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"catena/internal/atomicfile"
	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/place"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/site"
	"catena/internal/text"
)

// Laptops that share a site meet at a place: each brings what the place lacks, and takes what it
// lacks itself. A place has a folder for each site, named after the site and its ID:
//
//	chains/WRITER/FIRST-LAST-DIGEST   entries of a writer's chain, signed to the end, never changed
//	files/DIGEST                      images, saved settings and photographs, named by their SHA-256
//
// Only chains are believed, since their writers sign them: shared files are entries themselves, and
// a file is taken only if an entry names its digest. Everything is written whole under a name that
// depends on its content alone, so that any sync can be interrupted and repeated.
const (
	chainsFolder = "chains"
	filesFolder  = "files"
)

// Bounds of what is taken from a place, in bytes.
const (
	maxSegment = 1 << 30
	maxFile    = 8 << 30
)

// Sync exchanges what a site folder and a place lack of each other.
type Sync struct {
	Dir    string
	Ledger *ledger.Ledger
	Shelf  *shelf.Shelf
	Images []firmware.Image // to bring, where no one has
	// Families are the files of the shelf's families that the site needs.
	Families []string
	At       place.Place
	// Accept are the names or fingerprints of writers that are new here and whose entries are taken.
	Accept []string
	// anyone has the entries of all writers taken: for a copy by which no one works.
	anyone bool
	Rate   int64 // bytes per second that files are sent and taken with; 0: as fast as it goes
	// Progress is told what is sent or taken; nil: no one is.
	Progress func(what string)

	out Synced
}

// Synced is what a Sync did.
type Synced struct {
	Folder    string     `json:"folder"` // of the site, at the place
	Taken     []Moved    `json:"taken"`  // entries
	Sent      []Moved    `json:"sent"`
	Files     []Changed  `json:"files"` // shared files that changed here
	Brought   int        `json:"brought"`
	Fetched   int        `json:"fetched"`   // images, saved settings and photographs
	Conflicts []Conflict `json:"conflicts"` // someone must choose
	Strangers []Stranger `json:"strangers"`
	Accepted  []Stranger `json:"accepted"` // those whose entries are taken from now on
	Problems  []string   `json:"problems"` // what could not be taken, and why
}

// Moved are entries of a writer.
type Moved struct {
	Writer  string `json:"writer"`
	Entries int    `json:"entries"`
}

// Stranger is a writer at the place whose entries are not taken until someone accepts it.
type Stranger struct {
	Name        string `json:"name"`
	Fingerprint string `json:"fingerprint"`
}

// OtherSiteError is returned where the place has another record of a site of this name: two folders
// were made for one site.
type OtherSiteError struct{ Folder string }

func (e *OtherSiteError) Error() string {
	return "there is another record of this site there, " + e.Folder
}

// ErrRunning is returned while another process syncs the site folder.
var ErrRunning = errors.New("another process is syncing this folder")

// Run does it. What cannot be taken from one writer is a problem and keeps no one from the others.
// Its errors are ErrRunning, an OtherSiteError, those of the own files, and those of the place.
func (s *Sync) Run(ctx context.Context) (Synced, error) {
	release, ok, err := s.Ledger.Hold("sync")
	if err != nil || !ok {
		return s.out, cmp.Or(err, ErrRunning)
	}
	defer release()
	if s.out.Folder, err = s.folder(); err != nil {
		return s.out, err
	}
	for _, step := range []func(context.Context) error{
		s.takeChains, s.unite, s.meet, s.offer, s.sendChains, s.moveFiles,
	} {
		if err := ctx.Err(); err != nil {
			return s.out, err
		}
		if err := step(ctx); err != nil {
			return s.out, err
		}
	}
	return s.out, nil
}

func (s *Sync) tell(format string, args ...any) {
	if s.Progress != nil {
		s.Progress(fmt.Sprintf(format, args...))
	}
}

func (s *Sync) problem(format string, args ...any) {
	s.out.Problems = append(s.out.Problems, fmt.Sprintf(format, args...))
}

// siteFolder is how the folder of a site is called at a place: its name then is for people.
var siteFolder = text.Later(`^([\p{L}\p{N}._-]+)-([a-z0-9]{12})$`)

// folder finds the folder of the site at the place.
func (s *Sync) folder() (string, error) {
	origin, err := record.OriginOf(s.Ledger)
	if err != nil {
		return "", err
	}
	names, err := s.At.Names("")
	if err != nil {
		return "", err
	}
	own := strings.ToLower(atomicfile.Word(origin.Site)) + "-" + origin.ID
	for _, n := range names {
		m := siteFolder().FindStringSubmatch(n)
		switch {
		case m == nil:
		case m[2] == origin.ID:
			return n, nil
		case m[1]+"-"+origin.ID == own:
			err = &OtherSiteError{n}
		}
	}
	return own, err
}

// SitesAt are the folders of sites at a place, and the ID of each.
func SitesAt(at place.Place) (ids map[string]string, err error) {
	names, err := at.Names("")
	ids = map[string]string{}
	for _, n := range names {
		if m := siteFolder().FindStringSubmatch(n); m != nil {
			ids[n] = m[2]
		}
	}
	return ids, err
}

// segment is a file of entries at a place.
type segment struct {
	path        string
	first, last int64
	digest      string // how the digest of the last entry starts
}

var (
	segmentName = text.Later(`^(\d{12})-(\d{12})-([0-9a-f]{16})$`)
	writerName  = text.Later(`^[a-z2-7]{12}$`)
)

// segments are the files of a writer's chain at the place, in their order.
func (s *Sync) segments(writer string) (out []segment, err error) {
	folder := path.Join(s.out.Folder, chainsFolder, writer)
	names, err := s.At.Names(folder)
	slices.Sort(names)
	for _, n := range names {
		m := segmentName().FindStringSubmatch(n)
		if m == nil {
			continue // it is on its way, or not ours
		}
		first, _ := strconv.ParseInt(m[1], 10, 64) // digits
		last, _ := strconv.ParseInt(m[2], 10, 64)
		out = append(out, segment{path.Join(folder, n), first, last, m[3]})
	}
	return out, err
}

// agrees compares the end of a segment with the ledger: has reports that the ledger has it.
func (s *Sync) agrees(writer, name string, g segment) (has bool, err error) {
	digest, err := s.Ledger.DigestAt(writer, g.last)
	if err != nil || digest == "" {
		return false, err
	}
	if !strings.HasPrefix(digest, g.digest) {
		return true, &ledger.ForkError{Writer: name, N: g.last}
	}
	return true, nil
}

// takeChains takes what others have written, and what this folder has lost of its own chain.
func (s *Sync) takeChains(ctx context.Context) error {
	before, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return err
	}
	known, strangers, err := s.chainsThere()
	if err != nil {
		return err
	}
	for _, c := range known {
		if err := s.takeChain(ctx, c.of.Writer, c.of.Name, c.segments); err != nil {
			return err
		}
	}
	names := map[string]int{s.Ledger.Writer().Name: 1} // how many are called so
	for _, c := range slices.Concat(known, strangers) {
		names[c.of.Name]++
	}
	for _, c := range strangers {
		who := Stranger{c.of.Name, c.of.Fingerprint}
		own := c.of.Writer == s.Ledger.Writer().ID()
		switch {
		case own || s.anyone || slices.Contains(s.Accept, who.Fingerprint):
		case slices.Contains(s.Accept, who.Name) && names[who.Name] == 1:
		case slices.Contains(s.Accept, who.Name):
			s.problem("%s is the name of several laptops; accept the one that you mean by its "+
				"fingerprint", who.Name)
			fallthrough
		default:
			s.out.Strangers = append(s.out.Strangers, who)
			continue
		}
		if err := s.takeChain(ctx, c.of.Writer, c.of.Name, c.segments); err != nil {
			return err
		}
		if !own {
			s.out.Accepted = append(s.out.Accepted, who)
		}
	}
	return s.catchUp(before)
}

// chainThere is a chain at the place.
type chainThere struct {
	of       ledger.Chain
	segments []segment
}

// chainsThere returns the chains at the place: those that the ledger has, too, and those that are
// new.
func (s *Sync) chainsThere() (known, strangers []chainThere, err error) {
	writers, err := s.At.Names(path.Join(s.out.Folder, chainsFolder))
	if err != nil {
		return nil, nil, err
	}
	chains, err := s.Ledger.Chains()
	if err != nil {
		return nil, nil, err
	}
	for _, writer := range writers {
		if !writerName().MatchString(writer) {
			continue
		}
		all, err := s.segments(writer)
		if err != nil {
			return nil, nil, err
		}
		if len(all) == 0 {
			continue
		}
		i := slices.IndexFunc(chains, func(c ledger.Chain) bool { return c.Writer == writer })
		if i >= 0 {
			known = append(known, chainThere{chains[i], all})
			continue
		}
		who, err := ledger.Introduced(io.LimitReader(&joined{at: s.At, rest: all}, maxSegment))
		if err != nil || who.Writer != writer {
			s.problem("the entries of %s cannot be used: %v", writer, cmp.Or(err,
				errors.New("they are of another writer")))
			continue
		}
		strangers = append(strangers, chainThere{who, all})
	}
	return known, strangers, nil
}

// joined reads segments one after the other, and has one open at a time.
type joined struct {
	at   place.Place
	rest []segment
	open io.ReadCloser
}

func (j *joined) Read(b []byte) (int, error) {
	for {
		if j.open == nil {
			if len(j.rest) == 0 {
				return 0, io.EOF
			}
			r, err := j.at.Get(j.rest[0].path, 0)
			if err != nil {
				return 0, err
			}
			j.open, j.rest = r, j.rest[1:]
		}
		n, err := j.open.Read(b)
		if errors.Is(err, io.EOF) {
			_ = j.open.Close() // only read from
			j.open, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// takeChain takes the segments of a chain that the ledger lacks. Its error is one of this machine
// or of the connection; what is wrong with the chain is a problem.
func (s *Sync) takeChain(ctx context.Context, writer, name string, all []segment) error {
	taken := 0
	var unsigned []segment // they need a signature that comes later
	for i, g := range all {
		has, err := s.agrees(writer, name, g)
		if err == nil && has {
			continue
		}
		unsigned = append(unsigned, g)
		var n int
		if err == nil {
			n, err = s.takeSegments(ctx, writer, unsigned)
		}
		taken += n
		if broken := (*connectionError)(nil); errors.As(err, &broken) {
			return broken.err
		}
		if errors.Is(err, ledger.ErrUnsigned) && i < len(all)-1 {
			continue
		}
		if err != nil {
			s.problem("%s: %v", name, err)
			break
		}
		unsigned = nil
	}
	if taken > 0 {
		s.out.Taken = append(s.out.Taken, Moved{name, taken})
		s.checkClock(writer, name)
	}
	return nil
}

// clockOff is how far ahead the clock of another machine may be.
const clockOff = 10 * time.Minute

// checkClock reports a writer whose clock is ahead: what two people do independently is put into
// the order of their clocks.
func (s *Sync) checkClock(writer, name string) {
	chains, err := s.Ledger.Chains()
	if err != nil {
		return // whoever reads next says so
	}
	for _, c := range chains {
		if ahead := time.Until(c.At).Round(time.Minute); c.Writer == writer && ahead > clockOff {
			s.problem("the clock of %s is %s ahead of this machine's; set the wrong one: entries are "+
				"ordered by time", name, ahead)
		}
	}
}

// connectionError tells what failed at the place or on this machine from what is wrong with
// entries.
type connectionError struct{ err error }

func (e *connectionError) Error() string { return e.err.Error() }

// takeSegments fetches files of entries first, so that the ledger is free while they arrive.
func (s *Sync) takeSegments(ctx context.Context, writer string, all []segment) (int, error) {
	s.tell("taking entries %d to %d", all[0].first, all[len(all)-1].last)
	f, err := os.CreateTemp("", "catena-entries-")
	if err != nil {
		return 0, &connectionError{err}
	}
	defer func() { _, _ = f.Close(), os.Remove(f.Name()) }() // it was only for this
	for _, g := range all {
		if err := s.copyFrom(ctx, g.path, 0, maxSegment, f); err != nil {
			return 0, &connectionError{err}
		}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return 0, &connectionError{err}
	}
	return s.Ledger.Take(writer, f)
}

// copyFrom copies a file of the place, from a number of bytes on.
func (s *Sync) copyFrom(ctx context.Context, file string, from, most int64, to io.Writer) error {
	r, err := s.At.Get(file, from)
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }() // only read from
	stop := context.AfterFunc(ctx, func() { _ = r.Close() })
	defer stop()
	n, err := io.Copy(to, io.LimitReader(s.limited(ctx, r), most+1))
	if err == nil && n > most {
		err = fmt.Errorf("%s has more than %d bytes", file, most)
	}
	return cmp.Or(ctx.Err(), err)
}

// limited reads no faster than Rate.
func (s *Sync) limited(ctx context.Context, r io.Reader) io.Reader {
	if s.Rate <= 0 {
		return r
	}
	return &limitedReader{ctx, r, rate.NewLimiter(rate.Limit(s.Rate), rateBurst)}
}

// rateBurst is how many bytes may go at once.
const rateBurst = 16 << 10

type limitedReader struct {
	ctx context.Context
	r   io.Reader
	at  *rate.Limiter
}

func (l *limitedReader) Read(b []byte) (int, error) {
	n, err := l.r.Read(b[:min(len(b), rateBurst)])
	if n > 0 {
		err = cmp.Or(l.at.WaitN(l.ctx, n), err)
	}
	return n, err
}

// sendChains brings the entries that the place lacks, of all chains that this ledger has.
func (s *Sync) sendChains(context.Context) error {
	if err := errors.Join(s.Ledger.NameWriter(), s.Ledger.Seal()); err != nil {
		return err
	}
	chains, err := s.Ledger.Chains()
	if err != nil {
		return err
	}
	for _, c := range chains {
		all, err := s.segments(c.Writer)
		if err != nil {
			return err
		}
		after, fork := int64(0), false
		for _, g := range all {
			has, err := s.agrees(c.Writer, c.Name, g)
			if errors.As(err, new(*ledger.ForkError)) {
				fork = true // takeChains has reported it
				break
			}
			if err != nil {
				return err
			}
			if !has {
				break
			}
			after = g.last
		}
		if fork || after >= c.Signed || len(all) > 0 && all[len(all)-1].last > c.N {
			continue
		}
		if err := s.sendChain(c, after); err != nil {
			return err
		}
	}
	return nil
}

func (s *Sync) sendChain(c ledger.Chain, after int64) error {
	s.tell("sending entries %d to %d of %s", after+1, c.Signed, c.Name)
	f, err := os.CreateTemp("", "catena-entries-")
	if err != nil {
		return err
	}
	defer func() { _, _ = f.Close(), os.Remove(f.Name()) }()       // it was only for this
	last, err := s.Ledger.WriteChain(f, c.Writer, after, c.Signed) // a job may be writing
	if err != nil {
		return err
	}
	digest, err := s.Ledger.DigestAt(c.Writer, last)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	err = s.At.Put(path.Join(s.out.Folder, chainsFolder, c.Writer,
		fmt.Sprintf("%012d-%012d-%s", after+1, last, digest[:16])), f)
	if err == nil {
		s.out.Sent = append(s.out.Sent, Moved{c.Name, int(last - after)})
	}
	return err
}

// limitedSeeker reads at a rate from a file that is sent.
type limitedSeeker struct {
	io.Reader
	io.Seeker
}

// unite records which devices two laptops call differently, and keeps the saved settings of each
// under the ID that stands for both.
func (s *Sync) unite(context.Context) error {
	if _, err := record.Unite(s.Ledger); err != nil {
		return err
	}
	saves, err := s.saves()
	if err != nil {
		return err
	}
	for _, name := range saves {
		id, file := path.Split(name)
		of := s.Ledger.Canonical(strings.TrimSuffix(id, "/"))
		to := s.savePath(path.Join(of, file))
		if _, err := os.Stat(to); err == nil {
			continue
		}
		raw, err := os.ReadFile(s.savePath(name))
		if err == nil {
			err = os.MkdirAll(filepath.Dir(to), 0o700)
		}
		if err == nil {
			err = atomicfile.Replace(to, raw, 0o600)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// saveName is the path of saved settings within their folder.
var saveName = text.Later(`^(d[0-9]+|defaults)/[\p{L}\p{N}._-]+\.age$`)

// digestName is how images and saves are called at a place.
var digestName = text.Later(`^[0-9a-f]{64}$`)

const settingsFolder = "settings"

// offer records the images and saved settings that this folder has and no one has recorded.
func (s *Sync) offer(context.Context) error {
	known, err := record.Offers(s.Ledger)
	if err != nil {
		return err
	}
	var out []record.Offer
	for _, i := range s.Images {
		if _, is := known[i.SHA256]; is {
			continue
		}
		_, manifest, notes, err := s.Shelf.Portable(i)
		if err != nil {
			return err
		}
		o := record.Offer{SHA256: i.SHA256, Manifest: manifest, Notes: notes}
		known[i.SHA256], out = o, append(out, o)
	}
	for _, path := range s.Families {
		raw, err := files.Read(path, files.Family)
		if err != nil {
			return err
		}
		sum := sha256.Sum256(raw)
		o := record.Offer{SHA256: hex.EncodeToString(sum[:]), Family: filepath.Base(path),
			Text: string(raw)}
		if _, is := known[o.SHA256]; !is {
			known[o.SHA256], out = o, append(out, o)
		}
	}
	saves, err := s.saves()
	if err != nil {
		return err
	}
	named := map[string]bool{}
	for _, o := range known {
		named[o.Save], named[o.Photo] = true, true
	}
	for _, name := range saves {
		if named[name] {
			continue
		}
		raw, err := os.ReadFile(s.savePath(name))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(raw)
		out = append(out, record.Offer{SHA256: hex.EncodeToString(sum[:]), Save: name})
	}
	photos, err := s.photos(named)
	if err != nil {
		return err
	}
	out = append(out, photos...)
	return record.AddOffers(s.Ledger, out)
}

// photos are the photographs of the folder that are not known yet.
func (s *Sync) photos(known map[string]bool) (out []record.Offer, err error) {
	all, err := files.In(filepath.Join(s.Dir, record.PhotosFolder), "*.jpg")
	if err != nil {
		return nil, err
	}
	for _, at := range all {
		if _, is := known[filepath.Base(at)]; is || !photoName().MatchString(filepath.Base(at)) {
			continue
		}
		raw, err := files.Read(at, maxPhoto)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(raw)
		o := record.Offer{SHA256: hex.EncodeToString(sum[:]), Photo: filepath.Base(at)}
		if o.Photographed() {
			out = append(out, o)
		}
	}
	return out, nil
}

// photoName is the name of a photograph: its device, and the start of its SHA-256.
var photoName = text.Later(`^d[0-9]+-[0-9a-f]{16}\.jpg$`)

// maxPhoto bounds a photograph, in bytes: it was made smaller when it was taken into the folder.
const maxPhoto = 4 << 20

// keptAt is where saved settings or a photograph are in the folder; empty: it is neither.
func (s *Sync) keptAt(o record.Offer) string {
	switch {
	case o.Photo != "":
		return filepath.Join(s.Dir, record.PhotosFolder, o.Photo)
	case o.Save != "":
		return s.savePath(o.Save)
	}
	return ""
}

func (s *Sync) savePath(name string) string {
	return filepath.Join(s.Dir, settingsFolder, filepath.FromSlash(name))
}

// saves are the saved settings of the folder, as DEVICE/NAME.
func (s *Sync) saves() (out []string, err error) {
	root := filepath.Join(s.Dir, settingsFolder)
	err = filepath.WalkDir(root, func(at string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, at)
		name := filepath.ToSlash(rel)
		if err == nil && e.Type().IsRegular() && saveName().MatchString(name) {
			out = append(out, name)
		}
		return err
	})
	return out, err
}

// moveFiles brings the images and saves that the place lacks, and takes those that this folder
// lacks.
func (s *Sync) moveFiles(ctx context.Context) error {
	offers, err := record.Offers(s.Ledger)
	if err != nil {
		return err
	}
	there, err := s.At.Names(path.Join(s.out.Folder, filesFolder))
	if err != nil {
		return err
	}
	shelved, err := s.Shelf.List()
	if err != nil {
		return err
	}
	for _, o := range offers {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !digestName().MatchString(o.SHA256) || o.Save != "" && !saveName().MatchString(o.Save) ||
			o.Photo != "" && !(photoName().MatchString(o.Photo) && o.Photographed()) {
			s.problem("%s: its entry names no such file", o.Name())
			continue
		}
		if o.Family != "" {
			if err := s.takeFamily(o); err != nil {
				return err
			}
			continue
		}
		i := slices.IndexFunc(shelved, func(i firmware.Image) bool { return i.SHA256 == o.SHA256 })
		kept := s.keptAt(o)
		_, failed := os.Stat(kept)
		here := i >= 0 || kept != "" && failed == nil
		switch at := slices.Contains(there, o.SHA256); {
		case here && !at && kept != "":
			err = s.bringSave(o)
		case here && !at:
			err = s.bring(o, func() (io.ReadSeekCloser, error) {
				x, err := s.Shelf.OpenImage(o.SHA256, shelved[i].File)
				if err != nil {
					return nil, err
				}
				return sealedImage{io.NewSectionReader(x, 0, x.Size()), x}, nil
			})
		case !here && at:
			err = s.take(ctx, o)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// takeFamily puts a family on the shelf, unless the shelf has one of that name.
func (s *Sync) takeFamily(o record.Offer) error {
	sum := sha256.Sum256([]byte(o.Text))
	if !record.Shared("families/"+o.Family) || hex.EncodeToString(sum[:]) != o.SHA256 {
		s.problem("%s: it is not a family", o.Name())
		return nil
	}
	path := filepath.Join(s.Shelf.Dir(), "families", o.Family)
	have, err := files.Read(path, files.Family)
	switch {
	case err == nil && string(have) == o.Text:
		return nil
	case err == nil:
		if !slices.Contains(s.Families, path) { // else this laptop has offered its own
			s.problem("%s differs from the one on this shelf, which stays", o.Name())
		}
		return nil
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := usable("families/"+o.Family, o.Text); err != nil {
		s.problem("%v", err)
		return nil
	}
	s.out.Fetched++
	return atomicfile.Replace(path, []byte(o.Text), 0o644)
}

// sealedImage can be read from any place.
type sealedImage struct {
	io.ReadSeeker
	io.Closer
}

func (s *Sync) bring(o record.Offer, open func() (io.ReadSeekCloser, error)) error {
	s.tell("sending %s", o.Name())
	f, err := open()
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }() // only read from
	at := path.Join(s.out.Folder, filesFolder, o.SHA256)
	if err := s.At.Put(at, limitedSeeker{s.limited(context.Background(), f), f}); err != nil {
		return err
	}
	s.out.Brought++
	return nil
}

// take takes an image or a save, if it is what its offer says.
func (s *Sync) take(ctx context.Context, o record.Offer) error {
	if s.keptAt(o) == "" && o.Manifest == "" {
		s.problem("%s: this is neither an image nor saved settings nor a photograph", o.Name())
		return nil
	}
	s.tell("taking %s", o.Name())
	part, digest, err := s.continued(ctx, o.SHA256)
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(part) }() // it was whole, or damaged
	if digest != o.SHA256 {
		s.problem("%s is damaged at the place, and was not taken; remove %s there", o.Name(),
			path.Join(s.out.Folder, filesFolder, o.SHA256))
		return nil
	}
	if s.keptAt(o) != "" {
		err = s.keepSave(o, part)
	} else {
		err = s.shelve(ctx, o, part)
	}
	if err == nil {
		s.out.Fetched++
	}
	return err
}

// bringSave sends saved settings or a photograph, if they are still what their entry says: what is
// at a place under a digest may never be replaced.
func (s *Sync) bringSave(o record.Offer) error {
	raw, err := os.ReadFile(s.keptAt(o))
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != o.SHA256 {
		s.problem("%s: the file here is not the one that was recorded; it was not sent", o.Name())
		return nil
	}
	return s.bring(o, func() (io.ReadSeekCloser, error) {
		return sealedImage{bytes.NewReader(raw), io.NopCloser(nil)}, nil
	})
}

// keepSave writes saved settings or a photograph, which may be on another disk than the shelf.
func (s *Sync) keepSave(o record.Offer, part string) error {
	raw, err := os.ReadFile(part)
	if err == nil && o.Photo != "" && http.DetectContentType(raw) != "image/jpeg" {
		s.problem("%s is not a photograph, and was not taken", o.Name())
		return nil
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(s.keptAt(o)), 0o700)
	}
	if err != nil {
		return err
	}
	return atomicfile.Replace(s.keptAt(o), raw, 0o600)
}

// partsFolder is where files are, in the folder of the shelf, whose transfer has not ended.
const partsFolder = ".sync"

// continued fetches a file from where an earlier transfer was interrupted. It returns where the
// file is, and its SHA-256.
func (s *Sync) continued(ctx context.Context, digest string) (part, is string, err error) {
	folder := filepath.Join(s.Shelf.Dir(), partsFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", "", err
	}
	part = filepath.Join(folder, digest)
	f, err := os.OpenFile(part, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", "", err
	}
	h := sha256.New()
	have, err := io.Copy(h, f)
	if err == nil {
		err = s.copyFrom(ctx, path.Join(s.out.Folder, filesFolder, digest), have, maxFile,
			io.MultiWriter(f, h))
	}
	return part, hex.EncodeToString(h.Sum(nil)), errors.Join(err, f.Sync(), f.Close())
}

// shelve puts an image on the shelf with the manifest that its writer has signed.
func (s *Sync) shelve(ctx context.Context, o record.Offer, image string) error {
	m, err := firmware.ParseManifest(o.Name(), []byte(o.Manifest))
	if err != nil {
		s.problem("%v", err)
		return nil
	}
	in, err := os.MkdirTemp(filepath.Dir(image), "image-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(in) }() // what is left of it
	write := func(name, content string) {
		if err == nil && content != "" {
			err = os.WriteFile(filepath.Join(in, name), []byte(content), 0o600)
		}
	}
	write(shelf.ManifestFile, o.Manifest)
	write(shelf.NotesFile, o.Notes)
	if err == nil {
		err = os.Rename(image, filepath.Join(in, filepath.Base(m.File)))
	}
	if err != nil {
		return err
	}
	results, err := s.Shelf.Import(ctx, []string{in}, shelf.Options{})
	for _, r := range results {
		if r.Outcome == shelf.Refused {
			s.problem("%s: %s", o.Name(), r.Reason)
		}
	}
	return err
}

// ErrNoSiteFile is returned by Join where no accepted writer has a site.yaml at the place.
var ErrNoSiteFile = errors.New("site.yaml is only in the records of laptops that are not accepted")

// Join makes a folder for a site that is at a place, and takes all of it. origin says which site,
// named as at the place; keys are those that the place itself has shown. s.Dir is the folder to
// make; nothing is made where the error is ErrNoSiteFile.
func Join(ctx context.Context, s Sync, origin record.Origin, keys []device.Key,
	now func() time.Time, by ledger.Writer) (Synced, error) {
	dir := s.Dir
	work, remove, err := workFolder(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return s.out, err
	}
	defer remove()
	l, err := ledger.Create(work, now, by)
	if err != nil {
		return s.out, err
	}
	s.Dir, s.Ledger, s.out.Folder = work, l, origin.Site+"-"+origin.ID
	var out Synced
	err = s.takeChains(ctx) // before this folder writes anything: it may have lost its own chain
	known, failed := record.ReadFiles(l)
	if err = errors.Join(err, failed); err == nil && !slices.Contains(known.Paths(), site.File) {
		_ = l.Close() // nothing is kept of it
		return s.out, ErrNoSiteFile
	}
	if err == nil {
		err = record.Start(l, origin)
	}
	if err == nil {
		err = record.Trust(l, keys)
	}
	taken := s.out.Taken
	if err == nil {
		s.out = Synced{}
		out, err = s.Run(ctx)
		out.Taken = append(taken, out.Taken...)
	}
	if err = errors.Join(err, l.Close()); err != nil {
		return out, err
	}
	if _, err := os.Stat(filepath.Join(work, site.File)); err != nil {
		return out, fmt.Errorf("%s of the place cannot be used here: %s", site.File,
			strings.Join(out.Problems, "; "))
	}
	return out, os.Rename(work, dir)
}

// Mirror takes the entries that a ledger lacks of a site's folder at a place, by whomever they are
// written and signed, and makes the shared files of dir what their newest versions are. Nothing is
// sent, and nothing is added to the ledger.
func Mirror(ctx context.Context, at place.Place, folder, dir string, l *ledger.Ledger) (Synced,
	error) {
	s := &Sync{Dir: dir, Ledger: l, At: at, anyone: true}
	s.out.Folder = folder
	if err := s.takeChains(ctx); err != nil {
		return s.out, err
	}
	if err := s.copyFiles(); err != nil {
		s.problem("the files of the site were not taken over: %v", err)
	}
	return s.out, nil
}

// copyFiles makes the shared files what their newest versions are.
func (s *Sync) copyFiles() error {
	f, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return err
	}
	here, err := sharedFiles(s.Dir)
	if err != nil {
		return err
	}
	for _, path := range f.Paths() {
		heads, _ := f.Heads(path)
		if len(heads) == 0 {
			continue
		}
		newest := heads[len(heads)-1]
		if !newest.Gone {
			if err := usable(path, newest.Text); err != nil {
				s.problem("%s of %s was not taken over: %v", path, newest.Writer, err)
				continue
			}
		}
		was := record.FileVersion{Text: here[path]}
		if err := s.write(path, was, newest.Text, newest.Gone); err != nil {
			return err
		}
	}
	return nil
}

// takenFolder has, at an office, which writer carries out which order of a station.
const takenFolder = "taken"

// Claim says at the place that this writer carries out an order, by the SHA-256 of its file; mine
// is false where another writer has said so first. The place is a place.First.
func (s *Sync) Claim(digest string) (mine bool, err error) {
	at, can := s.At.(place.First)
	if !can {
		return false, errors.New("this place cannot tell who was first")
	}
	if s.out.Folder, err = s.folder(); err != nil {
		return false, err
	}
	me := s.Ledger.Writer().ID()
	first, err := at.PutFirst(path.Join(s.out.Folder, takenFolder, digest), []byte(me))
	return string(first) == me, err
}

// Of returns the sync of a site with a place; at is nil where only its own files are looked at.
func Of(w *plan.Site, at place.Place) (*Sync, error) {
	brought, err := images(w)
	return &Sync{Dir: w.Dir, Ledger: w.Ledger, Shelf: w.Shelf, Images: brought, Families: families(w),
		At: at}, err
}

// families are the files of the shelf's families that describe devices of a site.
func families(w *plan.Site) (out []string) {
	for _, d := range w.Devices() {
		file := w.Families.Of(d.Vendor, d.Model).File
		if filepath.Dir(file) == filepath.Join(w.Shelf.Dir(), "families") && !slices.Contains(out, file) {
			out = append(out, file)
		}
	}
	return out
}

// images are the images that a site brings to others: those of its orders, and those that its
// devices would be updated and rolled back with.
func images(w *plan.Site) (out []firmware.Image, err error) {
	taken := map[string]bool{}
	add := func(i *firmware.Image) {
		if i != nil && !taken[i.SHA256] {
			taken[i.SHA256] = true
			out = append(out, *i)
		}
	}
	for _, r := range w.Rows {
		for _, h := range r.Match.Path {
			add(h.Image)
			add(h.ForRollback)
		}
	}
	orders, err := files.In(filepath.Join(w.Dir, plan.OrdersFolder), "*.yaml")
	for _, path := range orders {
		raw, err := files.Read(path, files.Order)
		if err != nil {
			return nil, err
		}
		o, err := order.Parse(path, raw)
		if err != nil {
			continue // whoever uses it says so
		}
		for _, d := range o.Devices {
			for _, h := range d.Path {
				for _, i := range []*order.Image{&h.Image, h.Back} {
					if i == nil {
						continue
					}
					if on, there := w.Image(i.SHA256); there {
						add(&on)
					}
				}
			}
		}
	}
	return out, err
}
