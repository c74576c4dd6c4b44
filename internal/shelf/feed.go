package shelf

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/gofrs/flock"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/signature"
	"catena/internal/yamldoc"
)

// A feed is a folder, on a disk or on a web server, that holds an index, its signature
// (package signature), and images. The index has the digest of every image.
const (
	feedIndex     = "feed.yaml"
	feedSignature = feedIndex + signature.Ending
	feedLanes     = 4 // images fetched at the same time
)

// Feed is the index of a feed.
type Feed struct {
	Name      string      `yaml:"feed"`
	Number    int64       `yaml:"number"`  // rises with every new index
	Made      time.Time   `yaml:"made"`    // when
	Expires   time.Time   `yaml:"expires"` // not to be believed after that
	Images    []FeedImage `yaml:"images"`
	Withdrawn []Withdrawn `yaml:"withdrawn,omitempty"`
}

// FeedImage is one image of a feed.
type FeedImage struct {
	Manifest firmware.Manifest `yaml:"manifest"`
	Path     string            `yaml:"path"`            // relative to the index
	Size     int64             `yaml:"size"`            // bytes
	Notes    string            `yaml:"notes,omitempty"` // release notes, in Markdown
}

// Withdrawn says that versions of a model must not run any more.
type Withdrawn struct {
	Vendor   string `yaml:"vendor"`
	Model    string `yaml:"model"`
	Versions string `yaml:"versions"` // a version or a constraint
	Because  string `yaml:"because"`
}

// Withdraws tells whether the feed says that what a manifest describes must not run.
func (f Feed) Withdraws(m firmware.Manifest) bool {
	image := firmware.Image{Manifest: m}
	return m.Advice == firmware.Withdrawn ||
		slices.ContainsFunc(f.Withdrawn, func(w Withdrawn) bool {
			return image.IsFor(w.Vendor, w.Model) &&
				firmware.Meets(version.Order{}, w.Versions, m.Version)
		})
}

// What is wrong with a feed; callers test with errors.Is.
var (
	ErrSignature = errors.New("the feed's signature is not by the trusted key")
	ErrExpired   = errors.New("the feed has expired")
	ErrOlder     = errors.New("the feed is older than the last one received")
	ErrNoKey     = errors.New("no key is trusted for this feed yet")
)

// ParseFeed reads an index; name is what errors call it.
func ParseFeed(name string, data []byte) (Feed, error) {
	var f Feed
	doc, err := yamldoc.Decode(name, data, &f)
	if err != nil {
		return f, err
	}
	switch {
	case f.Name == "":
		return f, doc.Errorf("$.feed", "feed: is missing; give the feed a name")
	case f.Number < 1:
		return f, doc.Errorf("$.number", "number: must be 1 or more, and rise with every index")
	case f.Expires.IsZero():
		return f, doc.Errorf("$.expires", "expires: is missing")
	}
	for i := range f.Images {
		e := &f.Images[i]
		if key, message := e.Manifest.Complete(); message != "" {
			return f, doc.Errorf(fmt.Sprintf("$.images[%d].manifest.%s", i, key), "%s", message)
		}
		if e.Size < 0 || e.Size > maxImage || len(e.Notes) > maxNotes ||
			!filepath.IsLocal(filepath.FromSlash(e.Path)) || strings.ContainsAny(e.Path, `\:`) {
			return f, doc.Errorf(fmt.Sprintf("$.images[%d].path", i),
				"path, size or notes: out of bounds")
		}
	}
	for i, w := range f.Withdrawn {
		if c, err := version.ParseConstraint(w.Versions); err != nil || c.Empty() ||
			w.Vendor == "" || w.Model == "" {
			return f, doc.Errorf(fmt.Sprintf("$.withdrawn[%d]", i),
				"withdrawn: requires vendor, model and versions")
		}
	}
	return f, nil
}

// trusted is what the shelf remembers of one feed of one key. Trust belongs to the key, not
// to the path: a stick that is mounted elsewhere, or a mirror, is the same feed.
type trusted struct {
	Key     string   `yaml:"key"`          // as in a .pub file
	Feed    string   `yaml:"feed"`         // its name; empty: none was seen yet
	Sources []string `yaml:"sources"`      // where it was pulled from
	Number  int64    `yaml:"number"`       // the highest seen
	Digest  string   `yaml:"digest"`       // of that index
	CA      string   `yaml:"ca,omitempty"` // certificates that its server is trusted by, as PEM
}

// path is where a file of the feed's lies.
func (t trusted) path(s *Shelf, ending string) string {
	sum := sha256.Sum256([]byte(t.Key + "\x00" + t.Feed))
	return filepath.Join(s.dir, "feeds", hex.EncodeToString(sum[:8])+ending)
}

// trusts are all feeds that are trusted.
func (s *Shelf) trusts() ([]trusted, error) {
	names, err := files.In(filepath.Join(s.dir, "feeds"), "*.yaml")
	if err != nil {
		return nil, err
	}
	var out []trusted
	for _, name := range names {
		var t trusted
		raw, err := os.ReadFile(name)
		if err == nil {
			_, err = yamldoc.Decode(name, raw, &t)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, nil
}

// FeedCA returns the certificates, as PEM, by which the server of a known feed was trusted when it
// was pulled from there; empty: those of the system.
func (s *Shelf) FeedCA(source string) (string, error) {
	all, err := s.trusts()
	for _, t := range all {
		if t.CA != "" && slices.Contains(t.Sources, source) {
			return t.CA, nil
		}
	}
	return "", err
}

// Puller fetches from one feed.
type Puller struct {
	Shelf  *Shelf
	Source string        // https://…, or a folder
	Key    ssh.PublicKey // to trust from now on; nil: those that are trusted already
	CA     string        // certificates to remember with the feed, as PEM; empty: those of before
	Client *http.Client
	Now    func() time.Time
	// Progress is told the bytes fetched so far; it may be nil.
	Progress func(bytes int64)
}

// Trust gives the puller a client that trusts the certificates of a file, which are remembered with
// the feed, or without a file those that were remembered.
func (p *Puller) Trust(file string) (err error) {
	trusted := ""
	if file == "" {
		trusted, err = p.Shelf.FeedCA(p.Source)
	} else {
		var raw []byte
		raw, err = files.Read(file, files.Key)
		trusted, p.CA = string(raw), string(raw)
	}
	if err == nil {
		p.Client, err = FeedClient(trusted)
	}
	return err
}

// Index fetches the index, checks its signature, age and number, and keeps a copy.
func (p *Puller) Index(ctx context.Context) (Feed, error) {
	all, err := p.Shelf.trusts()
	if err != nil {
		return Feed{}, err
	}
	raw, key, err := p.signed(ctx, all)
	if err != nil {
		return Feed{}, err
	}
	f, err := ParseFeed(p.Shown()+"/"+feedIndex, raw)
	if err != nil {
		return f, err
	}
	known := trusted{Key: key, Feed: f.Name}
	for _, t := range all {
		if t.Key == key && t.Feed == f.Name {
			known = t
		}
	}
	sum := sha256.Sum256(raw)
	digest := hex.EncodeToString(sum[:])
	switch {
	case p.Now().After(f.Expires):
		return f, fmt.Errorf("%w on %s; ask its maker for a new one", ErrExpired,
			f.Expires.Format(time.DateOnly))
	case f.Number < known.Number:
		return f, fmt.Errorf("%w: number %d, after %d", ErrOlder, f.Number, known.Number)
	case f.Number == known.Number && known.Digest != digest:
		return f, fmt.Errorf("%w: two different indexes have the number %d", ErrOlder, f.Number)
	}
	known.Number, known.Digest = f.Number, digest
	if p.CA != "" {
		known.CA = p.CA
	}
	if !slices.Contains(known.Sources, p.Source) {
		known.Sources = append(known.Sources, p.Source)
	}
	text, err := yaml.Marshal(known)
	if err != nil {
		return f, err
	}
	// The copy first: what is remembered as seen is there.
	return f, errors.Join(p.Shelf.write(known.path(p.Shelf, ".index"), raw),
		p.Shelf.write(known.path(p.Shelf, ".yaml"), text))
}

// signed fetches the index and finds the trusted key that has signed it.
func (p *Puller) signed(ctx context.Context, all []trusted) (index []byte, key string, err error) {
	var keys []string
	known := p.Key != nil // by a key that was named, or since it was pulled from there before
	for _, t := range all {
		keys = append(keys, t.Key)
		known = known || slices.Contains(t.Sources, p.Source)
	}
	if p.Key != nil {
		keys = []string{signature.Line(p.Key)}
	}
	// Its maker replaces the index, then the signature: who meets the one without the other
	// looks again, once.
	for range 2 {
		index, err = p.small(ctx, feedIndex, yamldoc.MaxSize)
		if err != nil {
			return nil, "", err
		}
		armored, err := p.small(ctx, feedSignature, signature.MaxSize)
		if err != nil {
			return nil, "", err
		}
		for _, line := range keys {
			public, err := signature.Public(line)
			if err == nil && signature.Verify(bytes.NewReader(index), armored, public,
				signature.Feed) == nil {
				return index, line, nil
			}
		}
	}
	if !known {
		return nil, "", ErrNoKey
	}
	return nil, "", ErrSignature
}

// Missing are the images of a feed that the shelf does not have.
func (s *Shelf) Missing(f Feed) []FeedImage {
	return slices.DeleteFunc(slices.Clone(f.Images), func(e FeedImage) bool {
		_, err := s.load(e.Manifest.SHA256)
		return err == nil
	})
}

// Pull fetches images of the feed, several at once, checks each, and puts it on the
// shelf. One that fails is one Result; what was fetched of it is kept, and the next
// pull continues from there.
func (p *Puller) Pull(ctx context.Context, images []FeedImage) []Result {
	var mu sync.Mutex
	total := int64(0)
	count := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		if total += n; p.Progress != nil {
			p.Progress(total)
		}
	}
	results := make([]Result, len(images))
	var group errgroup.Group
	group.SetLimit(feedLanes)
	for i, e := range images {
		group.Go(func() error {
			results[i] = Result{Source: e.Path, Outcome: New,
				Image: firmware.Image{Manifest: e.Manifest, Size: e.Size}}
			if err := p.one(ctx, e, count); err != nil {
				results[i].Outcome, results[i].Reason = Refused, err.Error()
			}
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return results
}

func (p *Puller) one(ctx context.Context, e FeedImage, count func(int64)) error {
	part := filepath.Join(p.Shelf.dir, "tmp", "pull-"+e.Manifest.SHA256)
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }() // closed already where all went well
	if err := p.fetch(ctx, e, f, part+".etag", count); err != nil {
		return err
	}
	h := sha256.New()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	n, err := io.Copy(h, f)
	if err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); n != e.Size || got != e.Manifest.SHA256 {
		_ = os.Remove(part) // what was fetched is not it: the next pull starts again
		return fmt.Errorf("it differs from the index: %d bytes, SHA-256 %s…", n, got[:12])
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := p.Shelf.put(e.Manifest, part); err != nil {
		return err
	}
	if e.Notes != "" {
		err = p.Shelf.write(p.Shelf.notesPath(e.Manifest.SHA256), []byte(e.Notes))
	}
	return errors.Join(err, ignoreGone(os.Remove(part+".etag")))
}

// fetch completes the file f to the image's size.
func (p *Puller) fetch(ctx context.Context, e FeedImage, f *os.File, etagFile string,
	count func(int64)) error {
	at, err := f.Seek(0, io.SeekEnd)
	if err != nil || at == e.Size {
		return err
	}
	etag, _ := os.ReadFile(etagFile) // without it the fetch starts again
	if at > e.Size || len(etag) == 0 {
		at = 0
	}
	body, from, newTag, err := p.open(ctx, e.Path, at, string(etag))
	if err != nil {
		return err
	}
	defer func() { _ = body.Close() }()
	if err := f.Truncate(from); err != nil {
		return err
	}
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return err
	}
	if newTag != "" {
		if err := os.WriteFile(etagFile, []byte(newTag), 0o644); err != nil {
			return err
		}
	}
	n, err := io.Copy(f, &counter{ended: ctx.Err, r: io.LimitReader(body, e.Size-from+1),
		count: count})
	if err == nil && from+n < e.Size {
		err = fmt.Errorf("it was cut off after %d of %d bytes; pull again to continue", from+n, e.Size)
	}
	return err
}

type counter struct {
	ended func() error // why it must stop; nil: it need not
	r     io.Reader
	count func(int64)
}

func (c *counter) Read(p []byte) (int, error) {
	if err := c.ended(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	c.count(int64(n))
	return n, err
}

// Shown is the feed's source for people: without a user and a password in it.
func (p *Puller) Shown() string {
	u, err := url.Parse(p.Source)
	if err != nil || u.User == nil {
		return p.Source
	}
	u.User = nil
	return u.String()
}

// open opens a file of the feed at an offset, where the other side can do that and
// the file is still the same; from is where it starts.
func (p *Puller) open(ctx context.Context, name string, at int64, etag string) (body io.ReadCloser,
	from int64, newTag string, err error) {
	if !p.web() {
		path := filepath.Join(p.Source, filepath.FromSlash(name))
		info, err := os.Stat(path)
		if err != nil {
			return nil, 0, "", err
		}
		if !info.Mode().IsRegular() { // a pipe would never end
			return nil, 0, "", fmt.Errorf("%s is not a file", path)
		}
		f, err := os.Open(path)
		return f, 0, "", err
	}
	target, err := url.JoinPath(p.Source, name)
	if err != nil {
		return nil, 0, "", err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return nil, 0, "", err
	}
	if at > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", at))
		r.Header.Set("If-Range", etag)
	}
	resp, err := p.Client.Do(r)
	if err != nil {
		return nil, 0, "", err
	}
	newTag = resp.Header.Get("ETag")
	if strings.HasPrefix(newTag, "W/") {
		newTag = "" // a weak one does not vouch for bytes
	}
	switch resp.StatusCode {
	case http.StatusOK:
		return resp.Body, 0, newTag, nil
	case http.StatusPartialContent:
		if strings.HasPrefix(resp.Header.Get("Content-Range"), fmt.Sprintf("bytes %d-", at)) {
			return resp.Body, at, newTag, nil
		}
	}
	_ = resp.Body.Close()
	return nil, 0, "", fmt.Errorf("%s: %s", target, resp.Status)
}

func (p *Puller) web() bool { return strings.Contains(p.Source, "://") }

func (p *Puller) small(ctx context.Context, name string, most int64) ([]byte, error) {
	body, _, _, err := p.open(ctx, name, 0, "")
	if err != nil {
		return nil, fmt.Errorf("the feed cannot be read: %w", err)
	}
	defer func() { _ = body.Close() }()
	raw, err := io.ReadAll(io.LimitReader(body, most+1))
	if err == nil && int64(len(raw)) > most {
		err = fmt.Errorf("%s is longer than %d bytes", name, most)
	}
	return raw, err
}

// Index is the index of a feed as it was read last.
type Index struct {
	Feed
	Read time.Time
}

// Indexes are those of the feeds seen so far, by their names.
func (s *Shelf) Indexes() (out []Index, err error) {
	names, err := files.In(filepath.Join(s.dir, "feeds"), "*.index")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		f, err := ParseFeed(name, raw)
		if err != nil {
			return nil, err
		}
		info, err := os.Stat(name)
		if err != nil {
			return nil, err
		}
		out = append(out, Index{f, info.ModTime()})
	}
	slices.SortStableFunc(out, func(a, b Index) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Offer is an image that a feed offers and the shelf does not have.
type Offer struct {
	FeedImage
	Feed string // its name
}

// Offered are the images that feeds offer, that are none of those on the shelf, and that are not
// withdrawn.
func Offered(feeds []Index, shelved []firmware.Image) (out []Offer) {
	has := map[string]bool{}
	for _, i := range shelved {
		has[i.SHA256] = true
	}
	for _, f := range feeds {
		for _, e := range f.Images {
			if !has[e.Manifest.SHA256] && !f.Withdraws(e.Manifest) {
				out = append(out, Offer{e, f.Name})
			}
		}
	}
	return out
}

// Withdrawals are what feeds have withdrawn.
func Withdrawals(feeds []Index) (out []Withdrawn) {
	for _, f := range feeds {
		for _, w := range f.Withdrawn {
			w.Because = strings.TrimSuffix(fmt.Sprintf("withdrawn by the feed %s: %s", f.Name,
				w.Because), ": ")
			out = append(out, w)
		}
	}
	return out
}

// MakeFeed writes a feed of images into a folder and signs its index. The index
// and its signature come last.
func (s *Shelf) MakeFeed(dir string, f Feed, images []firmware.Image,
	key ssh.Signer) error {
	if err := os.MkdirAll(filepath.Join(dir, "images"), 0o755); err != nil {
		return err
	}
	for _, image := range images {
		notes, err := s.Notes(image)
		if err != nil {
			return err
		}
		manifest := image.Manifest
		manifest.Notes = ""
		e := FeedImage{Manifest: manifest, Path: "images/" + image.SHA256, Size: image.Size,
			Notes: notes}
		if err := s.copyOut(image, filepath.Join(dir, "images", image.SHA256)); err != nil {
			return err
		}
		f.Images = append(f.Images, e)
	}
	raw, err := yaml.Marshal(f)
	if err != nil {
		return err
	}
	if _, err := ParseFeed(feedIndex, raw); err != nil {
		return err
	}
	armored, err := signature.Sign(bytes.NewReader(raw), key, signature.Feed)
	if err != nil {
		return err
	}
	for _, file := range []struct {
		name string
		data []byte
	}{{feedIndex, raw}, {feedSignature, armored}} {
		if err := atomicfile.Replace(filepath.Join(dir, file.name), file.data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (s *Shelf) copyOut(image firmware.Image, path string) error {
	in, err := s.OpenImage(image.SHA256, image.File)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	if info, err := os.Stat(path); err == nil && info.Size() == image.Size {
		return nil // under its digest it cannot be another
	}
	return atomicfile.Write(path, 0o644, func(out io.Writer) error {
		_, err := io.Copy(out, in)
		return err
	})
}

// LastNumber is the number of the index in a folder, or 0.
func LastNumber(dir string) int64 {
	raw, err := os.ReadFile(filepath.Join(dir, feedIndex))
	if err != nil {
		return 0
	}
	f, err := ParseFeed(feedIndex, bytes.TrimSpace(raw))
	if err != nil {
		return 0
	}
	return f.Number
}

// Feeds lists the sources from which trusted feeds were pulled.
func (s *Shelf) Feeds() ([]string, error) {
	all, err := s.trusts()
	var out []string
	for _, t := range all {
		out = append(out, t.Sources...)
	}
	slices.Sort(out)
	return slices.Compact(out), err
}

// HoldPulls keeps other processes from pulling to this shelf until the returned
// function is called; ok is false where one is pulling.
func (s *Shelf) HoldPulls() (release func(), ok bool, err error) {
	lock := flock.New(filepath.Join(s.dir, "tmp", "pull.lock"))
	ok, err = lock.TryLock()
	return func() { _ = lock.Unlock() }, ok, err
}
