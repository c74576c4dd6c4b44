package bundle

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"catena/internal/atomicfile"
	"catena/internal/family"
	"catena/internal/files"
	"catena/internal/inventory"
	"catena/internal/order"
	"catena/internal/record"
	"catena/internal/site"
	"catena/internal/yamldoc"
)

// Changed is a shared file that a sync changed in this folder.
type Changed struct {
	Path string `json:"path"`
	From string `json:"from"` // the other writer
	How  string `json:"how"`  // taken, merged or removed
}

// Conflict is a part of a shared file that two people changed in different ways.
type Conflict struct {
	Path   string    `json:"path"`
	Key    string    `json:"key,omitempty"` // empty: the whole file
	Mine   string    `json:"mine"`          // its text; empty: it is not there
	Theirs string    `json:"theirs"`
	Writer string    `json:"writer"` // of theirs
	At     time.Time `json:"at"`
}

// meet brings the shared files of the folder together with the versions of the others.
func (s *Sync) meet(context.Context) error {
	if err := s.recordFiles(); err != nil {
		return err
	}
	for {
		f, err := record.ReadFiles(s.Ledger)
		if err != nil {
			return err
		}
		changed := false
		s.out.Conflicts = nil
		for _, path := range f.Paths() {
			did, err := s.meetOne(f, path)
			if err != nil {
				return err
			}
			changed = changed || did
		}
		if !changed {
			return nil
		}
	}
}

// recordFiles records the shared files that people have changed in this folder.
func (s *Sync) recordFiles() error {
	f, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return err
	}
	here, err := sharedFiles(s.Dir)
	if err != nil {
		return err
	}
	all := f.Paths()
	for path := range here {
		if !slices.Contains(all, path) {
			all = append(all, path)
		}
	}
	slices.Sort(all)
	for _, path := range all {
		base, has := f.Base(path)
		content, there := here[path]
		same, known := f.Same(path, content)
		switch {
		case there && has && !base.Gone && base.Text == content, !there && (!has || base.Gone):
		case there && !has && known: // it came by another way, such as a pack
			err = record.TakeOver(s.Ledger, same)
		case there:
			err = record.AddVersion(s.Ledger, path, &content, refs(base, has)...)
		default:
			err = record.AddVersion(s.Ledger, path, nil, refs(base, has)...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// catchUp brings the files to what the own chain says of them, where its lost end was taken: this
// folder is an older copy, or new. before is what the ledger had. A file that was changed in the
// older copy is a version of its own, which then meets the newer one.
func (s *Sync) catchUp(before record.Files) error {
	now, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return err
	}
	here, err := sharedFiles(s.Dir)
	if err != nil {
		return err
	}
	for _, path := range now.Paths() {
		was, had := before.Base(path)
		is, has := now.Base(path)
		content, there := here[path]
		switch {
		case !has || had && was.Ref == is.Ref:
		case there == (had && !was.Gone) && content == was.Text:
			err = s.write(path, was, is.Text, is.Gone)
		case there:
			err = record.AddVersion(s.Ledger, path, &content, refs(was, had)...)
		default:
			err = record.AddVersion(s.Ledger, path, nil, refs(was, had)...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func refs(v record.FileVersion, has bool) []string {
	if !has {
		return nil
	}
	return []string{v.Ref}
}

// sharedFiles are the shared files of a folder, by their paths.
func sharedFiles(dir string) (map[string]string, error) {
	out := map[string]string{}
	for _, pattern := range []string{site.File, site.TargetsFile, inventory.File, "families/*.yaml",
		"orders/*.yaml",
		"orders/*.yaml.sig"} {
		folder, name := filepath.Split(filepath.FromSlash(pattern))
		found, err := files.In(filepath.Join(dir, folder), name)
		if err != nil {
			return nil, err
		}
		for _, at := range found {
			rel := filepath.ToSlash(filepath.Join(folder, filepath.Base(at)))
			if !record.Shared(rel) {
				continue
			}
			raw, err := files.Read(at, files.Order)
			if err != nil {
				return nil, err
			}
			out[rel] = string(raw)
		}
	}
	return out, nil
}

// meetOne takes over a newer version of a file, or merges one; changed reports that the versions
// are others now.
func (s *Sync) meetOne(f record.Files, path string) (changed bool, err error) {
	heads, newer := f.Heads(path)
	if len(heads) == 0 {
		return false, nil
	}
	base, has := f.Base(path)
	theirs := heads[0]
	if newer || !has {
		if !theirs.Gone {
			if err := usable(path, theirs.Text); err != nil {
				s.problem("%s of %s was not taken over: %v", path, theirs.Writer, err)
				return false, nil
			}
		}
		if err := s.write(path, base, theirs.Text, theirs.Gone); err != nil {
			return false, err
		}
		how := "taken"
		if theirs.Gone {
			how = "removed"
		}
		if theirs.Writer != "" {
			s.out.Files = append(s.out.Files, Changed{path, theirs.Writer, how})
		}
		return true, record.TakeOver(s.Ledger, theirs)
	}
	merged, conflicts := merge(f, path, base, theirs, nil)
	if len(conflicts) > 0 {
		s.out.Conflicts = append(s.out.Conflicts, conflicts...)
		return false, nil
	}
	if !base.Gone || !theirs.Gone {
		if err := s.write(path, base, merged, false); err != nil {
			return false, err
		}
		if merged != base.Text {
			s.out.Files = append(s.out.Files, Changed{path, theirs.Writer, "merged"})
		}
		return true, record.AddVersion(s.Ledger, path, &merged, base.Ref, theirs.Ref)
	}
	return true, record.AddVersion(s.Ledger, path, nil, base.Ref, theirs.Ref)
}

// merge brings two versions of a file together. Orders, signatures, and what was removed on one
// side are taken as a whole. theirs says what counts in a conflict; nil: mine.
func merge(f record.Files, path string, mine, other record.FileVersion,
	theirs func(yamldoc.Conflict) bool) (merged string, out []Conflict) {
	conflict := func(c yamldoc.Conflict) {
		out = append(out, Conflict{Path: path, Key: c.Key, Mine: c.Mine, Theirs: c.Theirs,
			Writer: other.Writer, At: other.At})
	}
	whole := yamldoc.Conflict{Mine: mine.Text, Theirs: other.Text}
	if mine.Gone == other.Gone && mine.Text == other.Text {
		return mine.Text, nil
	}
	if mine.Gone || other.Gone || strings.HasPrefix(path, "orders/") {
		conflict(whole)
		if theirs != nil && theirs(whole) {
			return other.Text, out
		}
		return mine.Text, out
	}
	common, _ := f.Common(mine.Ref, other.Ref) // without one, everything that differs is a conflict
	raw, conflicts := yamldoc.Merge([]byte(common.Text), []byte(mine.Text), []byte(other.Text), theirs)
	for _, c := range conflicts {
		conflict(c)
	}
	if err := usable(path, string(raw)); err != nil && len(out) == 0 {
		conflict(whole) // each part fits, and the whole does not
		return mine.Text, out
	}
	return string(raw), out
}

// usable tells whether a shared file can be read.
func usable(path, content string) (err error) {
	switch raw := []byte(content); {
	case path == site.File:
		_, err = site.Parse(path, raw)
	case path == site.TargetsFile:
		_, err = site.ParseTargets(path, raw)
	case path == inventory.File:
		_, err = site.ParseInventory(path, raw)
	case strings.HasPrefix(path, "families/"):
		_, err = family.Parse(path, raw)
	case strings.HasSuffix(path, ".yaml"):
		_, err = order.Parse(path, raw)
	}
	return err
}

// write replaces a shared file. One that was changed since it was read is left alone.
func (s *Sync) write(path string, was record.FileVersion, content string, gone bool) error {
	at := filepath.Join(s.Dir, filepath.FromSlash(path))
	if gone {
		if err := os.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	return atomicfile.Transform(at, 0o644, func(old []byte) ([]byte, error) {
		if old != nil && !bytes.Equal(old, []byte(was.Text)) && !bytes.Equal(old, []byte(content)) {
			return nil, fmt.Errorf("%s was changed during the sync; sync again", path)
		}
		return []byte(content), nil
	})
}

// ErrNoConflict is returned for a file on which there is nothing to choose.
var ErrNoConflict = errors.New("there is nothing to choose")

// NoWriterError is returned where the writer whose changes were chosen has made none.
type NoWriterError struct {
	Writer string
	Are    []string // those who have
}

func (e *NoWriterError) Error() string {
	return fmt.Sprintf("%s has not changed it; there are mine, %s, and edited", e.Writer,
		strings.Join(e.Are, ", "))
}

// Mine and Edited are what Choose takes besides the name of a writer.
const (
	Mine   = "mine"
	Edited = "edited"
)

// Choose ends the conflicts of a file: whose changes count where two people have changed the same,
// mine or a writer's; what only one of them has changed is kept from both. edited is the file as it
// is in the folder now. Its errors are ErrNoConflict, a NoWriterError, and those of the file.
func (s *Sync) Choose(path, whose string) error {
	release, ok, err := s.Ledger.Hold("sync")
	if err != nil || !ok {
		return cmp.Or(err, ErrRunning)
	}
	defer release()
	if err := s.recordFiles(); err != nil {
		return err
	}
	f, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return err
	}
	heads, newer := f.Heads(path)
	mine, has := f.Base(path)
	if !has || newer || len(heads) == 0 {
		return ErrNoConflict
	}
	of := []string{mine.Ref}
	var writers []string
	for _, h := range heads {
		of, writers = append(of, h.Ref), append(writers, h.Writer)
	}
	i := slices.Index(writers, whose)
	if whose != Mine && whose != Edited && i < 0 {
		return &NoWriterError{whose, writers}
	}
	result, gone := mine.Text, mine.Gone
	if whose != Edited {
		other := heads[max(i, 0)]
		of = []string{mine.Ref, other.Ref}
		result, _ = merge(f, path, mine, other, func(yamldoc.Conflict) bool { return i >= 0 })
		if i >= 0 && other.Gone {
			gone = true
		} else if i >= 0 {
			gone = false
		}
	}
	if gone {
		if err := s.write(path, mine, "", true); err != nil {
			return err
		}
		return record.AddVersion(s.Ledger, path, nil, of...)
	}
	if err := usable(path, result); err != nil {
		return err
	}
	if err := s.write(path, mine, result, false); err != nil {
		return err
	}
	return record.AddVersion(s.Ledger, path, &result, of...)
}

// Open are the conflicts that no one has ended.
func (s *Sync) Open() ([]Conflict, error) {
	f, err := record.ReadFiles(s.Ledger)
	if err != nil {
		return nil, err
	}
	var out []Conflict
	for _, path := range f.Paths() {
		mine, has := f.Base(path)
		heads, newer := f.Heads(path)
		if !has || newer || len(heads) == 0 {
			continue
		}
		_, conflicts := merge(f, path, mine, heads[0], nil)
		out = append(out, conflicts...)
	}
	return out, nil
}
