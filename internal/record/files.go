package record

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"catena/internal/files"
	"catena/internal/inventory"
	"catena/internal/ledger"
	"catena/internal/text"
)

// The files of a site folder that several laptops share are part of its history: each version is an
// entry that names the versions it replaces. A version that no other one replaces is a head. A
// folder whose file has one head only is up to date; where there are two, two people have changed
// the file without knowing of each other, and a version that replaces both makes it one again:
//
//	anna  1 ──► 2 ──────► 4 (replaces 2 and 3)
//	bea    └──► 3 ──┘
const (
	// fileVersion is a version of a file; the body is a fileBody.
	fileVersion ledger.Kind = "file"
	// offered is something that the writer has for others; the body is an Offer.
	offered ledger.Kind = "offered"
)

type fileBody struct {
	Path string   `json:"path"`           // with slashes, within the site folder
	Text *string  `json:"text,omitempty"` // nil: the file was removed
	Of   []string `json:"of,omitempty"`   // the versions that it replaces
	// Is is the version that this folder has taken over unchanged; then there is no text.
	Is string `json:"is,omitempty"`
}

// FileVersion is a version of a shared file.
type FileVersion struct {
	Ref    string // of its entry
	Path   string
	Text   string
	Gone   bool // the file was removed
	Of     []string
	At     time.Time
	Writer string // the name of the other writer; empty: this one
	entry  ledger.Entry
}

// Files are the versions of the shared files of a site.
type Files struct {
	versions map[string]FileVersion // by ref
	heads    map[string][]string    // by path, oldest first
	base     map[string]string      // by path: the version that this folder's file was made from
}

// Shared tells whether a path is that of a file that laptops share: site.yaml, targets.yaml,
// inventory.yaml, families, orders and their signatures.
func Shared(p string) bool {
	if p == "site.yaml" || p == "targets.yaml" || p == inventory.File {
		return true
	}
	folder, name := path.Split(p)
	name = strings.TrimSuffix(name, ".sig")
	stem, isYAML := strings.CutSuffix(name, ".yaml")
	return isYAML && (folder == "families/" || folder == "orders/" && !ofJob().MatchString(stem)) &&
		text.IsName(stem) && !strings.HasPrefix(stem, ".")
}

// ofJob are the names of orders that a job kept: j3, j3-2. The job itself has them.
var ofJob = text.Later(`^j[0-9]+(-[0-9]+)?$`)

// ReadFiles returns the versions of the shared files.
func ReadFiles(l *ledger.Ledger) (f Files, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: fileVersion})
	if err != nil {
		return f, err
	}
	f = Files{map[string]FileVersion{}, map[string][]string{}, map[string]string{}}
	replaced := map[string]bool{}
	for _, e := range entries {
		var b fileBody
		if err := json.Unmarshal(e.Body, &b); err != nil {
			return f, fmt.Errorf("%s of the ledger is not a file: %w", e, err)
		}
		if !Shared(b.Path) || b.Text != nil && len(*b.Text) > files.Order {
			continue // another writer may write anything
		}
		ref := e.Ref()
		if b.Is == "" {
			v := FileVersion{Ref: ref, Path: b.Path, Gone: b.Text == nil, Of: b.Of, At: e.At,
				Writer: e.Writer, entry: e}
			if b.Text != nil {
				v.Text = *b.Text
			}
			f.versions[ref] = v
			for _, of := range b.Of {
				replaced[of] = true
			}
		}
		if e.Writer == "" {
			f.base[b.Path] = ref
			if b.Is != "" {
				f.base[b.Path] = b.Is
			}
		}
	}
	for _, ref := range slices.SortedFunc(maps.Keys(f.versions), func(a, b string) int {
		if f.versions[a].entry.Before(f.versions[b].entry) {
			return -1
		}
		return 1
	}) {
		if v := f.versions[ref]; !replaced[ref] {
			f.heads[v.Path] = append(f.heads[v.Path], ref)
		}
	}
	return f, nil
}

// Paths are those of all files that have a version, sorted.
func (f Files) Paths() []string {
	seen := map[string]bool{}
	for _, v := range f.versions {
		seen[v.Path] = true
	}
	return slices.Sorted(maps.Keys(seen))
}

// Base is the version that this folder's file was made from; false: there is none.
func (f Files) Base(path string) (FileVersion, bool) {
	v, has := f.versions[f.base[path]]
	return v, has
}

// Same returns the newest version of a file that has a text; false: none has.
func (f Files) Same(path, content string) (found FileVersion, has bool) {
	for _, v := range f.versions {
		if v.Path == path && !v.Gone && v.Text == content && (!has || found.entry.Before(v.entry)) {
			found, has = v, true
		}
	}
	return found, has
}

// Heads returns the versions that no other one replaces and that this folder has not taken over,
// oldest first. newer reports that there is one, and that it follows this folder's version.
func (f Files) Heads(path string) (out []FileVersion, newer bool) {
	base := f.base[path]
	newer = true
	behind := f.ancestors(base)
	for _, ref := range f.heads[path] {
		if ref == base || behind[ref] {
			continue
		}
		if base != "" && !f.ancestors(ref)[base] {
			newer = false
		}
		out = append(out, f.versions[ref])
	}
	return out, newer && len(out) == 1
}

// ancestors are the versions that one replaces, directly or by way of others.
func (f Files) ancestors(ref string) map[string]bool {
	out := map[string]bool{}
	next := slices.Clone(f.versions[ref].Of)
	for len(next) > 0 {
		at := next[0]
		next = next[1:]
		if !out[at] {
			out[at] = true
			next = append(next, f.versions[at].Of...)
		}
	}
	return out
}

// Common is the newest version that both of two replace, or are; false: there is none.
func (f Files) Common(a, b string) (found FileVersion, has bool) {
	ofA, ofB := f.ancestors(a), f.ancestors(b)
	ofA[a], ofB[b] = true, true
	for ref := range ofA {
		v, known := f.versions[ref]
		if ofB[ref] && known && (!has || found.entry.Before(v.entry)) {
			found, has = v, true
		}
	}
	return found, has
}

// AddVersion records a new version of a file; content nil: it was removed.
func AddVersion(l *ledger.Ledger, path string, content *string, of ...string) error {
	return l.Append(fileVersion, "", "", fileBody{Path: path, Text: content, Of: of})
}

// TakeOver records that this folder has a version as it is.
func TakeOver(l *ledger.Ledger, v FileVersion) error {
	return l.Append(fileVersion, "", "", fileBody{Path: v.Path, Is: v.Ref})
}

// Unmerged are the files of which this folder has not taken over a version, sorted: two people have
// changed them in different ways, and someone must choose.
func Unmerged(l *ledger.Ledger) (out []string, err error) {
	f, err := ReadFiles(l)
	for _, p := range f.Paths() {
		if _, has := f.Base(p); !has {
			continue
		}
		if heads, newer := f.Heads(p); len(heads) > 0 && !newer {
			out = append(out, p)
		}
	}
	return out, err
}

// UnmergedError is returned where nothing may start until someone has chosen between the versions
// of files.
type UnmergedError struct{ Files []string }

func (e *UnmergedError) Error() string {
	return "two people have changed " + strings.Join(e.Files, " and ") +
		" in different ways, and no one has chosen yet"
}

// Offer is a file that a writer has for others: an image or a family of its shelf, or saved
// settings. What is taken from elsewhere must be exactly that.
type Offer struct {
	SHA256   string `json:"sha256"`
	Manifest string `json:"manifest,omitempty"` // YAML, of an image
	Notes    string `json:"notes,omitempty"`    // the release notes of an image
	Save     string `json:"save,omitempty"`     // DEVICE/NAME, of saved settings
	Photo    string `json:"photo,omitempty"`    // the file in PhotosFolder, of a photograph
	Family   string `json:"family,omitempty"`   // the name of a file of the shelf's families
	Text     string `json:"text,omitempty"`     // its content, which SHA256 is of
}

// AddOffers records files, in one commit.
func AddOffers(l *ledger.Ledger, offers []Offer) error {
	return l.Extend(nil, func([]ledger.Entry) (out []ledger.Entry, err error) {
		for _, o := range offers {
			e, err := ledger.NewEntry(offered, "", "", o)
			if err != nil {
				return nil, err
			}
			out = append(out, e)
		}
		return out, nil
	})
}

// Offers are the files that any writer has, the newest record of each digest.
func Offers(l *ledger.Ledger) (map[string]Offer, error) {
	entries, err := l.Entries(ledger.Filter{Kind: offered})
	out := map[string]Offer{}
	for _, e := range entries {
		var o Offer
		if err := json.Unmarshal(e.Body, &o); err != nil {
			return nil, fmt.Errorf("%s of the ledger is not an offer: %w", e, err)
		}
		out[o.SHA256] = o
	}
	return out, err
}

// Name is how an offer is called in messages.
func (o Offer) Name() string {
	switch {
	case o.Save != "":
		return "the settings " + text.Clean(o.Save)
	case o.Photo != "":
		return "the photograph " + text.Clean(o.Photo)
	case o.Family != "":
		return "the family " + text.Clean(o.Family)
	}
	return fmt.Sprintf("the image %.12s", text.Clean(o.SHA256))
}

// Photographed tells whether the name of a photograph ends in the start of its digest, so that it
// names one picture only.
func (o Offer) Photographed() bool {
	return len(o.SHA256) == 64 && strings.HasSuffix(o.Photo, "-"+o.SHA256[:16]+".jpg")
}
