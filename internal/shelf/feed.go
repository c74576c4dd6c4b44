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

	"aead.dev/minisign"
	"github.com/goccy/go-yaml"
	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"

	"catena/internal/atomicfile"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/yamldoc"
)

// A feed is a folder, on a disk or on a web server, that holds an index, its
// signature, and images. The signature is minisign's, Ed25519 over the whole index;
// the index has the digest of every image.
const (
	feedIndex     = "feed.yaml"
	feedSignature = "feed.yaml.minisig"
	feedLanes     = 4       // images fetched at the same time
	maxSignature  = 4 << 10 // bytes
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

// What is wrong with a feed; callers test with errors.Is.
var (
	ErrSignature = errors.New("the feed's signature is not by the key that is trusted")
	ErrExpired   = errors.New("the feed has expired")
	ErrOlder     = errors.New("the feed is older than the one already seen")
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
				"withdrawn: needs vendor, model and versions")
		}
	}
	return f, nil
}

// trusted is what the shelf remembers of a feed.
type trusted struct {
	Source string `yaml:"source"`
	Key    string `yaml:"key"`    // minisign public key
	Number int64  `yaml:"number"` // the highest seen
	Digest string `yaml:"digest"` // of that index
}

func (s *Shelf) feedPath(source, ending string) string {
	sum := sha256.Sum256([]byte(source))
	return filepath.Join(s.dir, "feeds", hex.EncodeToString(sum[:8])+ending)
}

// Puller fetches from one feed.
type Puller struct {
	Shelf  *Shelf
	Source string // https://…, or a folder
	Key    string // a public key to trust from now on; empty: the one remembered
	Client *http.Client
	Now    func() time.Time
	// Progress is told the bytes fetched so far; it may be nil.
	Progress func(bytes int64)
}

// Index fetches the index, checks its signature, age and number, and keeps a copy.
func (p *Puller) Index(ctx context.Context) (Feed, error) {
	known, err := p.known()
	if err != nil {
		return Feed{}, err
	}
	var key minisign.PublicKey
	if err := key.UnmarshalText([]byte(known.Key)); err != nil {
		return Feed{}, fmt.Errorf("the public key cannot be read: %w", err)
	}
	raw, err := p.small(ctx, feedIndex, yamldoc.MaxSize)
	if err != nil {
		return Feed{}, err
	}
	signature, err := p.small(ctx, feedSignature, maxSignature)
	if err != nil {
		return Feed{}, err
	}
	if !minisign.Verify(key, raw, signature) {
		return Feed{}, ErrSignature
	}
	f, err := ParseFeed(p.Shown()+"/"+feedIndex, raw)
	if err != nil {
		return f, err
	}
	sum := sha256.Sum256(raw)
	digest := hex.EncodeToString(sum[:])
	switch {
	case p.Now().After(f.Expires):
		return f, fmt.Errorf("%w on %s; ask its maker for a new one", ErrExpired,
			f.Expires.Format(time.DateOnly))
	case f.Number < known.Number:
		return f, fmt.Errorf("%w: number %d, seen was %d", ErrOlder, f.Number, known.Number)
	case f.Number == known.Number && known.Digest != digest:
		return f, fmt.Errorf("%w: two different indexes have the number %d", ErrOlder, f.Number)
	}
	known.Number, known.Digest = f.Number, digest
	text, err := yaml.Marshal(known)
	if err != nil {
		return f, err
	}
	// The copy first: what is remembered as seen is there.
	return f, errors.Join(p.Shelf.write(p.Shelf.feedPath(p.Source, ".index"), raw),
		p.Shelf.write(p.Shelf.feedPath(p.Source, ".yaml"), text))
}

func (p *Puller) known() (trusted, error) {
	path := p.Shelf.feedPath(p.Source, ".yaml")
	data, err := os.ReadFile(path)
	known := trusted{Source: p.Source}
	switch {
	case err == nil:
		if _, err := yamldoc.Decode(path, data, &known); err != nil {
			return known, err
		}
	case !errors.Is(err, os.ErrNotExist):
		return known, err
	case p.Key == "":
		return known, ErrNoKey
	}
	if p.Key != "" && p.Key != known.Key { // a new key starts a new count
		known = trusted{Source: p.Source, Key: p.Key}
	}
	return known, nil
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
// pull goes on from there.
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
		_ = os.Remove(part) // what was fetched is not it: the next pull starts anew
		return fmt.Errorf("it is not what the index says: %d bytes, SHA-256 %s…", n, got[:12])
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
	etag, _ := os.ReadFile(etagFile) // without it the fetch starts anew
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
	n, err := io.Copy(f, &counter{ended: ctx.Err, r: io.LimitReader(body, e.Size-from+1), count: count})
	if err == nil && from+n < e.Size {
		err = fmt.Errorf("it ended after %d of %d bytes; pull again to go on", from+n, e.Size)
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
		f, err := os.Open(filepath.Join(p.Source, filepath.FromSlash(name)))
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

// Withdrawals are what the feeds seen so far have withdrawn.
func (s *Shelf) Withdrawals() ([]Withdrawn, error) {
	names, err := filepath.Glob(filepath.Join(s.dir, "feeds", "*.index"))
	if err != nil {
		return nil, err
	}
	var out []Withdrawn
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		f, err := ParseFeed(name, raw)
		if err != nil {
			return nil, err
		}
		for _, w := range f.Withdrawn {
			w.Because = strings.TrimSuffix(fmt.Sprintf("withdrawn by the feed %s: %s", f.Name,
				w.Because), ": ")
			out = append(out, w)
		}
	}
	return out, nil
}

// MakeFeed writes a feed of images into a folder and signs its index. The index
// comes last: who pulls meanwhile sees the old one, whole.
func (s *Shelf) MakeFeed(dir string, f Feed, images []firmware.Image,
	key minisign.PrivateKey) error {
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
	for _, file := range []struct {
		name string
		data []byte
	}{{feedSignature, minisign.Sign(key, raw)}, {feedIndex, raw}} {
		if err := atomicfile.Replace(filepath.Join(dir, file.name), file.data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (s *Shelf) copyOut(image firmware.Image, path string) error {
	in, err := s.OpenImage(image)
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

// Feeds lists the sources of the feeds that are trusted.
func (s *Shelf) Feeds() ([]string, error) {
	names, err := filepath.Glob(filepath.Join(s.dir, "feeds", "*.yaml"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range names {
		var t trusted
		raw, err := os.ReadFile(name)
		if err == nil {
			_, err = yamldoc.Decode(name, raw, &t)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, t.Source)
	}
	slices.Sort(out)
	return out, nil
}

// HoldPulls keeps other processes from pulling to this shelf until the returned
// function is called; ok is false where one is pulling.
func (s *Shelf) HoldPulls() (release func(), ok bool, err error) {
	lock := flock.New(filepath.Join(s.dir, "tmp", "pull.lock"))
	ok, err = lock.TryLock()
	return func() { _ = lock.Unlock() }, ok, err
}
