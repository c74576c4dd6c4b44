package bundle_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/bundle"
	"catena/internal/device"
	"catena/internal/ledger"
	"catena/internal/place"
	"catena/internal/record"
	"catena/internal/shelf"
)

// laptop is one person's machine, with a folder of the site.
type laptop struct {
	by    ledger.Writer
	dir   string
	shelf *shelf.Shelf
	l     *ledger.Ledger
}

// newLaptop returns a machine without a site folder.
func newLaptop(t *testing.T, name string) *laptop {
	file := filepath.Join(t.TempDir(), "writer.key")
	require.NoError(t, ledger.Rename(file, name))
	by, err := ledger.ReadWriter(file)
	require.NoError(t, err)
	s, err := shelf.Open(filepath.Join(t.TempDir(), "shelf"))
	require.NoError(t, err)
	return &laptop{by: by, dir: filepath.Join(t.TempDir(), "hill"), shelf: s}
}

const hillFile = `site: "Marrow Hill"
limits:
  parallel: 8
hold:
  - {device: gate-5, because: winter stoppage}
`

const ownFamily = "family: own\nvendor: Wexcombe\nmodels: [WX-40]\n"

// founded returns a laptop that made the site.
func founded(t *testing.T, name string) *laptop {
	p := newLaptop(t, name)
	require.NoError(t, os.MkdirAll(p.dir, 0o700))
	p.open(t)
	require.NoError(t, record.Start(p.l, record.Origin{Site: "Marrow Hill"}))
	p.file(t, "site.yaml", hillFile)
	return p
}

func (p *laptop) open(t *testing.T) {
	var err error
	p.l, err = ledger.Create(p.dir, time.Now, p.by)
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.l.Close() })
}

func (p *laptop) file(t testing.TB, name, text string) {
	at := filepath.Join(p.dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o700))
	require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
}

func (p *laptop) read(t testing.TB, name string) string {
	raw, err := os.ReadFile(filepath.Join(p.dir, filepath.FromSlash(name)))
	require.NoError(t, err)
	return string(raw)
}

// shelve puts an image on the laptop's shelf.
func (p *laptop) shelve(t *testing.T, version, body string) {
	in := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(in, "wx40.bin"), []byte(body), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(in, "notes.md"), []byte("# "+version), 0o600))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(in, "manifest.yaml"), fmt.Appendf(nil, "manifest: 1\n"+
			"vendor: Wexcombe\nmodels: [WX-40]\nversion: %s\nfile: wx40.bin\nnotes: notes.md\nsha256: %x\n",
			version, sha256.Sum256([]byte(body))), 0o600),
	)
	results, err := p.shelf.Import(t.Context(), []string{in}, shelf.Options{})
	require.NoError(t, err)
	require.Len(t, results, 1)
	require.Equal(t, shelf.New, results[0].Outcome, results[0].Reason)
}

func (p *laptop) sync(t testing.TB, at place.Place, accept ...string) *bundle.Sync {
	images, err := p.shelf.List()
	require.NoError(t, err)
	return &bundle.Sync{
		Dir:    p.dir,
		Ledger: p.l,
		Shelf:  p.shelf,
		Images: images,
		At:     at,
		Accept: accept,
	}
}

func (p *laptop) syncs(t *testing.T, at place.Place, accept ...string) bundle.Synced {
	out, err := p.sync(t, at, accept...).Run(t.Context())
	require.NoError(t, err)
	return out
}

// joins makes the laptop's folder of the site at a place.
func (p *laptop) joins(t *testing.T, at place.Place, accept ...string) bundle.Synced {
	sites, err := bundle.SitesAt(at)
	require.NoError(t, err)
	require.Len(t, sites, 1)
	for name, id := range sites {
		out, err := bundle.Join(
			t.Context(),
			bundle.Sync{Dir: p.dir, Shelf: p.shelf, At: at, Accept: accept},
			record.Origin{ID: id, Site: strings.TrimSuffix(name, "-"+id)},
			nil,
			time.Now,
			p.by,
		)
		require.NoError(t, err)
		p.open(t)
		return out
	}
	return bundle.Synced{}
}

func (p *laptop) sees(t testing.TB, name, version string) {
	known, err := record.Devices(p.l)
	require.NoError(t, err)
	d := device.Device{Name: name, Access: device.OK, Endpoint: device.Endpoint{Address: name + ":80",
		Dialect: "onvif"}, Reading: device.Reading{Identity: device.Identity{Vendor: "Wexcombe",
		Model: "WX-40", Serial: "WX4-" + name}, Version: version}}
	for _, k := range known {
		if k.Name == name {
			d.ID = k.ID
		}
	}
	require.NoError(t, record.Update(p.l, "", &d))
}

// knows is what the laptop's ledger says, in the order of all writers.
func (p *laptop) knows(t testing.TB) (out []string) {
	entries, err := p.l.Entries(ledger.Filter{})
	require.NoError(t, err)
	for _, e := range entries {
		out = append(out, e.Ref()+" "+string(e.Kind)+" "+e.Device+" "+string(e.Body))
	}
	return out
}

func (p *laptop) check(t testing.TB) {
	_, _, err := p.l.Check()
	require.NoError(t, err)
}

func openPlace(t testing.TB, to string) place.Place {
	at, err := place.Open(context.Background(), to, place.Contact{})
	require.NoError(t, err)
	return at
}

// exchange is a sync of two laptops with all kinds of things, at any place.
func exchange(t *testing.T, at place.Place) {
	anna := founded(t, "anna")
	anna.sees(t, "cam-11", "3.1.0")
	anna.shelve(t, "3.2.1", strings.Repeat("image", 100_000))
	anna.file(t, "families/own.yaml", ownFamily)
	anna.file(t, "settings/d123456789/20261127T200000Z_3.1.0.age", "sealed")
	anna.file(t, "logins.age", "never sent")
	anna.file(t, "notes.txt", "not of the site")
	out := anna.syncs(t, at)
	assert.Equal(t, 2, out.Brought, "the image, the settings")
	assert.Equal(t, []bundle.Moved{{Writer: "anna", Entries: 8}}, out.Sent)
	again := anna.syncs(t, at)
	assert.Empty(t, slices.Concat(again.Sent, again.Taken))
	assert.Zero(t, again.Brought)

	bea := newLaptop(t, "bea")
	out = bea.joins(t, at, "anna")
	assert.Equal(t, 2, out.Fetched)
	assert.Empty(t, out.Problems)
	for _, name := range []string{"site.yaml", "families/own.yaml", "settings/d123456789/20261127T200000Z_3.1.0.age"} {
		assert.Equal(t, anna.read(t, name), bea.read(t, name), name)
	}
	assert.NoFileExists(t, filepath.Join(bea.dir, "logins.age"))
	assert.NoFileExists(t, filepath.Join(bea.dir, "notes.txt"))
	images, err := bea.shelf.List()
	require.NoError(t, err)
	require.Len(t, images, 1)
	notes, err := bea.shelf.Notes(images[0])
	require.NoError(t, err)
	assert.Equal(t, "# 3.2.1", notes)

	bea.sees(t, "cam-11", "3.2.1")
	bea.syncs(t, at)
	out = anna.syncs(t, at)
	require.Len(t, out.Strangers, 1, "nothing of bea is taken before she is accepted")
	assert.Equal(t, bundle.Stranger{Name: "bea", Fingerprint: bea.by.Fingerprint()}, out.Strangers[0])
	d, err := record.Devices(anna.l)
	require.NoError(t, err)
	assert.Equal(t, "3.1.0", d[0].Version)
	out = anna.syncs(t, at, bea.by.Fingerprint())
	assert.Equal(t, []bundle.Stranger{{Name: "bea", Fingerprint: bea.by.Fingerprint()}}, out.Accepted)
	bea.syncs(t, at)
	d, err = record.Devices(anna.l)
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", d[0].Version)
	assert.Equal(t, anna.knows(t), bea.knows(t))
	anna.check(t)
	bea.check(t)
}

func TestSyncOverAFolder(t *testing.T) { exchange(t, openPlace(t, t.TempDir())) }

// Saved settings that were altered after they were recorded are not sent under the old digest.
func TestASaveThatWasAltered(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna := founded(t, "anna")
	const save = "settings/d123456789/20261127T200000Z_3.1.0.age"
	anna.file(t, save, "sealed")
	_, err := anna.sync(t, &breaks{at, 5}).Run(t.Context()) // recorded, and not sent yet
	require.ErrorIs(t, err, errBroken)
	anna.file(t, save, "altered")
	out := anna.syncs(t, at)
	require.Len(t, out.Problems, 1)
	assert.Contains(t, out.Problems[0], "is not the one that was recorded")
	assert.Zero(t, out.Brought)
}

// Two folders that were made for one site do not get mixed.
func TestTwoFoldersForOneSite(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna, bea := founded(t, "anna"), founded(t, "bea")
	anna.syncs(t, at)
	_, err := bea.sync(t, at).Run(t.Context())
	var other *bundle.OtherSiteError
	require.ErrorAs(t, err, &other)
	assert.Regexp(t, "^marrow-hill-", other.Folder)
	sites, err := bundle.SitesAt(at)
	require.NoError(t, err)
	assert.Len(t, sites, 1)
}

// A laptop that has got another name is known by it once it has synced.
func TestANewName(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna, bea := founded(t, "anna"), newLaptop(t, "bea")
	anna.syncs(t, at)
	bea.joins(t, at, "anna")
	require.NoError(t, anna.l.Close())
	anna.by.Name = "ann"
	anna.open(t)
	anna.syncs(t, at, "bea")
	assert.Empty(t, anna.syncs(t, at).Sent, "it is told once")
	bea.syncs(t, at)
	chains, err := bea.l.Chains()
	require.NoError(t, err)
	assert.Equal(t, "ann", chains[1].Name)
}

// What is put into a folder that others may use can be used by them.
func TestAFolderOfSeveralUsers(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("permissions are those of the share there")
	}
	for _, perm := range []os.FileMode{0o700, 0o770, 0o777} {
		dir := t.TempDir()
		require.NoError(t, os.Chmod(dir, perm))
		founded(t, "anna").syncs(t, openPlace(t, dir))
		found := 0
		require.NoError(t, filepath.WalkDir(dir, func(at string, e os.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := e.Info()
			require.NoError(t, err)
			want := perm
			if !e.IsDir() {
				found++
				want = perm &^ 0o111
			}
			assert.Equal(t, want, info.Mode().Perm(), at)
			return nil
		}))
		assert.Positive(t, found)
	}
}

// What two people change without knowing of each other meets: by key, or by a choice.
func TestSyncMeets(t *testing.T) {
	change := func(t *testing.T, p *laptop, name, from, to string) {
		text := p.read(t, name)
		require.Contains(t, text, from)
		p.file(t, name, strings.Replace(text, from, to, 1))
	}
	both := func(t *testing.T) (anna, bea *laptop, at place.Place) {
		at = openPlace(t, t.TempDir())
		anna, bea = founded(t, "anna"), newLaptop(t, "bea")
		anna.file(t, "families/own.yaml", ownFamily)
		anna.syncs(t, at)
		bea.joins(t, at, "anna")
		anna.syncs(t, at, "bea")
		return anna, bea, at
	}
	t.Run("different keys", func(t *testing.T) {
		anna, bea, at := both(t)
		change(t, anna, "site.yaml", "parallel: 8", "parallel: 4")
		change(t, bea, "site.yaml", "winter stoppage", "flood")
		anna.syncs(t, at)
		out := bea.syncs(t, at)
		assert.Equal(t, []bundle.Changed{{Path: "site.yaml", From: "anna", How: "merged"}}, out.Files)
		anna.syncs(t, at)
		want := strings.NewReplacer("parallel: 8", "parallel: 4", "winter stoppage", "flood").
			Replace(hillFile)
		assert.Equal(
			t,
			[]string{want, want},
			[]string{anna.read(t, "site.yaml"), bea.read(t, "site.yaml")},
		)
	})
	for whose, want := range map[string]string{bundle.Mine: "parallel: 2", "anna": "parallel: 4", bundle.Edited: "parallel: 3"} {
		t.Run("the same key, "+whose, func(t *testing.T) {
			anna, bea, at := both(t)
			change(t, anna, "site.yaml", "parallel: 8", "parallel: 4")
			change(t, bea, "site.yaml", "parallel: 8", "parallel: 2")
			change(t, anna, "site.yaml", "winter stoppage", "flood")
			anna.syncs(t, at)
			out := bea.syncs(t, at)
			require.Len(t, out.Conflicts, 1)
			assert.Equal(
				t,
				[]string{"site.yaml", "limits.parallel", "  parallel: 2\n", "  parallel: 4\n", "anna"},
				[]string{
					out.Conflicts[0].Path,
					out.Conflicts[0].Key,
					out.Conflicts[0].Mine,
					out.Conflicts[0].Theirs,
					out.Conflicts[0].Writer,
				},
			)
			assert.Contains(t, bea.read(t, "site.yaml"), "parallel: 2", "nothing is overwritten")
			unmerged, err := record.Unmerged(bea.l)
			require.NoError(t, err)
			assert.Equal(t, []string{"site.yaml"}, unmerged)
			if whose == bundle.Edited {
				bea.file(t, "site.yaml", strings.Replace(hillFile, "parallel: 8", "parallel: 3", 1))
			}
			var none *bundle.NoWriterError
			require.ErrorAs(t, bea.sync(t, at).Choose("site.yaml", "carl"), &none)
			require.NoError(t, bea.sync(t, at).Choose("site.yaml", whose))
			require.ErrorIs(t, bea.sync(t, at).Choose("site.yaml", whose), bundle.ErrNoConflict)
			bea.syncs(t, at)
			anna.syncs(t, at)
			assert.Equal(t, anna.read(t, "site.yaml"), bea.read(t, "site.yaml"))
			assert.Contains(t, anna.read(t, "site.yaml"), want)
			if whose != bundle.Edited {
				assert.Contains(t, anna.read(t, "site.yaml"), "flood", "what only anna changed is kept")
			}
			assert.Empty(t, anna.syncs(t, at).Conflicts)
		})
	}
	t.Run("removed here, unchanged there", func(t *testing.T) {
		anna, bea, at := both(t)
		require.NoError(t, os.Remove(filepath.Join(anna.dir, "families/own.yaml")))
		anna.syncs(t, at)
		bea.syncs(t, at)
		assert.NoFileExists(t, filepath.Join(bea.dir, "families/own.yaml"))
	})
	t.Run("removed here, changed there", func(t *testing.T) {
		anna, bea, at := both(t)
		require.NoError(t, os.Remove(filepath.Join(anna.dir, "families/own.yaml")))
		bea.file(t, "families/own.yaml", ownFamily+"# read again\n")
		anna.syncs(t, at)
		out := bea.syncs(t, at)
		require.Len(t, out.Conflicts, 1)
		assert.Empty(t, out.Conflicts[0].Theirs)
		require.NoError(t, bea.sync(t, at).Choose("families/own.yaml", "anna"))
		assert.NoFileExists(t, filepath.Join(bea.dir, "families/own.yaml"))
		bea.syncs(t, at)
		assert.Empty(t, anna.syncs(t, at).Conflicts)
	})
	t.Run("parts that fit, and a whole that does not", func(t *testing.T) {
		anna, bea, at := both(t)
		anna.file(t, "site.yaml", hillFile+"groups: {upper: [cam-11]}\n")
		bea.file(t, "site.yaml", hillFile+"\"groups\": {lower: [cam-12]}\n")
		anna.syncs(t, at)
		out := bea.syncs(t, at)
		require.Len(t, out.Conflicts, 1)
		assert.Contains(t, bea.read(t, "site.yaml"), "lower", "the file stays as it was")
	})
	t.Run("a file of a later Catena", func(t *testing.T) {
		anna, bea, at := both(t)
		anna.file(t, "site.yaml", hillFile+"new_in_2030: true\n")
		anna.syncs(t, at)
		out := bea.syncs(t, at)
		require.Len(t, out.Problems, 1)
		assert.Contains(t, out.Problems[0], "site.yaml of anna was not taken over")
		assert.Equal(t, hillFile, bea.read(t, "site.yaml"))
	})
}

// breaks is a place whose connection breaks after a number of calls.
type breaks struct {
	place.Place
	left int
}

var errBroken = errors.New("the connection is broken")

func (b *breaks) call() error {
	if b.left--; b.left < 0 {
		return errBroken
	}
	return nil
}

func (b *breaks) Names(folder string) ([]string, error) {
	if err := b.call(); err != nil {
		return nil, err
	}
	return b.Place.Names(folder)
}

func (b *breaks) Get(file string, from int64) (io.ReadCloser, error) {
	if err := b.call(); err != nil {
		return nil, err
	}
	return b.Place.Get(file, from)
}

func (b *breaks) Put(file string, from io.ReadSeeker) error {
	if err := b.call(); err != nil {
		return err
	}
	return b.Place.Put(file, from)
}

// Wherever a sync breaks, it can be repeated, and ends as if it had not broken.
func TestSyncContinues(t *testing.T) {
	for broken := 0; ; broken++ {
		at := openPlace(t, t.TempDir())
		anna, bea := founded(t, "anna"), newLaptop(t, "bea")
		anna.shelve(t, "3.2.1", "image")
		anna.file(t, "settings/d123456789/20261127T200000Z_3.1.0.age", "sealed")
		_, first := anna.sync(t, &breaks{at, broken}).Run(t.Context())
		anna.syncs(t, at)
		bea.joins(t, at, "anna")
		bea.file(t, "targets.yaml", "targets: [{model: WX-40, version: newest}]\n")
		bea.sees(t, "cam-11", "3.1.0")
		bea.shelve(t, "4.0", "newer")
		_, second := bea.sync(t, &breaks{at, broken}).Run(t.Context())
		bea.syncs(t, at)
		_, third := anna.sync(t, &breaks{at, broken}, "bea").Run(t.Context())
		anna.syncs(t, at, "bea")
		bea.syncs(t, at)
		require.Equal(t, anna.knows(t), bea.knows(t), "broken after %d calls", broken)
		require.Equal(t, anna.read(t, "targets.yaml"), bea.read(t, "targets.yaml"))
		for _, p := range []*laptop{anna, bea} {
			images, err := p.shelf.List()
			require.NoError(t, err)
			require.Len(t, images, 2, "broken after %d calls", broken)
			p.check(t)
		}
		if first == nil && second == nil && third == nil {
			require.Greater(t, broken, 8)
			return
		}
		require.Less(t, broken, 100)
	}
}

// A folder that was lost comes back; one that is an older copy gets what it lacks; one that was
// continued beside its copy is named.
func TestSyncOfCopies(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna := founded(t, "anna")
	anna.sees(t, "cam-11", "3.1.0")
	anna.syncs(t, at)
	older := *anna
	older.dir = filepath.Join(t.TempDir(), "older")
	require.NoError(t, anna.l.Close())
	require.NoError(t, os.CopyFS(older.dir, os.DirFS(anna.dir)))
	anna.open(t)
	anna.sees(t, "cam-11", "3.2.1")
	anna.file(t, "site.yaml", strings.Replace(hillFile, "parallel: 8", "parallel: 4", 1))
	anna.file(t, "targets.yaml", "targets: [{model: WX-40, version: newest}]\n")
	anna.syncs(t, at)
	whole := anna.knows(t)

	lost := *anna
	lost.dir = filepath.Join(t.TempDir(), "again")
	lost.joins(t, at)
	assert.Equal(t, whole, lost.knows(t)[:len(whole)], "with the own key, no one must accept anything")
	lost.check(t)

	older.open(t)
	older.file(
		t,
		"site.yaml",
		strings.Replace(older.read(t, "site.yaml"), "winter stoppage", "ice", 1),
	)
	out := older.syncs(t, at)
	assert.Equal(t, "anna", out.Taken[0].Writer)
	assert.Contains(t, older.read(t, "site.yaml"), "ice", "what was changed in the older copy is kept")
	assert.Contains(t, older.read(t, "site.yaml"), "parallel: 4", "and what the newer one had")
	assert.Contains(t, older.read(t, "targets.yaml"), "newest")
	older.check(t)

	anna.sees(t, "cam-11", "9.0")
	out = anna.syncs(t, at)
	require.Len(t, out.Problems, 1)
	assert.Contains(t, out.Problems[0], "two different entries")
	assert.Empty(t, out.Sent, "nothing of a copy is mixed with the other")
}

// What someone else puts at a place is not believed.
func TestAHostilePlace(t *testing.T) {
	root := t.TempDir()
	at := openPlace(t, root)
	anna, bea := founded(t, "anna"), newLaptop(t, "bea")
	anna.sees(t, "cam-11", "3.1.0")
	anna.shelve(t, "3.2.1", "image")
	anna.syncs(t, at)
	bea.joins(t, at, "anna")
	anna.syncs(t, at, "bea")
	folder, err := filepath.Glob(filepath.Join(root, "marrow-hill-*"))
	require.NoError(t, err)
	require.Len(t, folder, 1)
	chain := filepath.Join(folder[0], "chains", anna.by.ID())
	put := func(t *testing.T, name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder[0], name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(folder[0], name), []byte(text), 0o600))
	}
	t.Run("other names are not looked at", func(t *testing.T) {
		put(t, "chains/"+anna.by.ID()+"/000000000001-000000000009-0000000000000000.part", "x")
		put(t, "chains/..%2f..%2f/000000000001-000000000009-0000000000000000", "x")
		put(t, "chains/"+strings.Repeat("a", 12)+"/../../x", "x")
		put(t, "files/../../../x", "x")
		assert.Empty(t, bea.syncs(t, at).Problems)
	})
	t.Run("a chain of no one", func(t *testing.T) {
		put(t, "chains/"+strings.Repeat("a", 12)+"/000000000001-000000000009-0000000000000000", "{}\n")
		out := bea.syncs(t, at)
		require.Len(t, out.Problems, 1)
		assert.Contains(t, out.Problems[0], "the entries of aaaaaaaaaaaa cannot be used")
		require.NoError(t, os.RemoveAll(filepath.Join(folder[0], "chains", strings.Repeat("a", 12))))
	})
	t.Run("a chain under the name of another", func(t *testing.T) {
		rogue := founded(t, "anna")
		elsewhere := t.TempDir()
		rogue.syncs(t, openPlace(t, elsewhere))
		from, err := filepath.Glob(filepath.Join(elsewhere, "*", "chains", rogue.by.ID()))
		require.NoError(t, err)
		require.Len(t, from, 1)
		require.NoError(
			t,
			os.CopyFS(filepath.Join(folder[0], "chains", rogue.by.ID()), os.DirFS(from[0])),
		)
		out := bea.syncs(t, at, "anna")
		require.Len(t, out.Strangers, 1, "its name is anna, and its key is not hers")
		require.Len(t, out.Problems, 1)
		assert.Contains(t, out.Problems[0], "anna is the name of several laptops")
		require.NoError(t, os.RemoveAll(filepath.Join(folder[0], "chains", rogue.by.ID())))
	})
	t.Run("an entry is altered on its way", func(t *testing.T) {
		anna.sees(t, "cam-11", "3.2.1")
		anna.syncs(t, at)
		segments, err := os.ReadDir(chain)
		require.NoError(t, err)
		last := filepath.Join(chain, segments[len(segments)-1].Name())
		if strings.HasSuffix(last, ".part") {
			last = filepath.Join(chain, segments[len(segments)-2].Name())
		}
		was, err := os.ReadFile(last)
		require.NoError(t, err)
		require.NoError(
			t,
			os.WriteFile(last, []byte(strings.Replace(string(was), "3.2.1", "9.9.9", 1)), 0o600),
		)
		out := bea.syncs(t, at)
		require.Len(t, out.Problems, 1)
		assert.Contains(t, out.Problems[0], "was changed")
		require.NoError(t, os.WriteFile(last, was, 0o600))
		assert.Empty(t, bea.syncs(t, at).Problems)
	})
	t.Run("an image is altered", func(t *testing.T) {
		anna.shelve(t, "4.0", "newer")
		anna.syncs(t, at)
		digest := fmt.Sprintf("%x", sha256.Sum256([]byte("newer")))
		put(t, "files/"+digest, "wrong")
		out := bea.syncs(t, at)
		require.Len(t, out.Problems, 1)
		assert.Contains(t, out.Problems[0], "is damaged at the place")
		put(t, "files/"+digest, "newer")
		assert.Equal(t, 1, bea.syncs(t, at).Fetched)
	})
	t.Run("what an accepted laptop signs stays within the site's files", func(t *testing.T) {
		text := "x"
		for _, p := range []string{"../outside.yaml", "orders/../../outside.yaml", ".catena/ledger.db", "logins.age",
			"families/.hidden.yaml", "orders/..yaml", "/etc/outside.yaml", `orders\..\outside.yaml`} {
			require.NoError(t, record.AddVersion(anna.l, p, &text))
		}
		require.NoError(t, record.AddOffers(anna.l, []record.Offer{
			{SHA256: fmt.Sprintf("%x", sha256.Sum256([]byte("x"))), Save: "../../outside"},
			{SHA256: strings.Repeat("1", 64), Save: "../logins.age"},
			{SHA256: strings.Repeat("2", 64), Save: "d1/../../site.yaml"},
			{SHA256: strings.Repeat("0", 64), Manifest: "vendor: ../../x"},
			{SHA256: "../../../outside", Manifest: "x"}}))
		put(t, "files/"+strings.Repeat("0", 64), "x")
		put(t, "files/"+fmt.Sprintf("%x", sha256.Sum256([]byte("x"))), "x")
		bea.file(t, "logins.age", "never sent")
		before := tree(t, filepath.Dir(bea.dir))
		anna.syncs(t, at)
		out := bea.syncs(t, at)
		assert.Len(t, out.Problems, 5, out.Problems)
		for _, digest := range []string{"1", "2"} {
			assert.NoFileExists(t, filepath.Join(folder[0], "files", strings.Repeat(digest, 64)),
				"no file outside of settings/ is sent")
		}
		assert.Empty(t, out.Files)
		assert.Equal(t, before, tree(t, filepath.Dir(bea.dir)), "no file was made")
	})
}

// tree are the files of a folder, without those of the ledger.
func tree(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.WalkDir(dir, func(at string, _ os.DirEntry, err error) error {
		if !strings.Contains(at, ledger.Folder) {
			out = append(out, at)
		}
		return err
	}))
	return out
}

// Laptops that change files at random and sync in any order lose no version: each is an ancestor
// of, or is, what everyone has in the end; and all read the same entries.
func TestSyncAtRandom(t *testing.T) {
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 1))
		at := openPlace(t, t.TempDir())
		all := []*laptop{founded(t, "anna"), newLaptop(t, "bea"), newLaptop(t, "carl")}
		names := []string{"anna", "bea", "carl"}
		all[0].syncs(t, at)
		for _, p := range all[1:] {
			p.joins(t, at, names...)
		}
		written := map[string]bool{}
		for step := range 30 {
			p := all[r.IntN(len(all))]
			switch r.IntN(4) {
			case 0:
				word := fmt.Sprintf("gate-%d-%d", seed, step)
				written[word] = true
				p.file(t, "site.yaml", p.read(t, "site.yaml")+"  - {device: "+word+", because: x}\n")
			case 1:
				p.sees(t, fmt.Sprint("cam-", r.IntN(4)), fmt.Sprint("3.", step))
			default:
				out := p.syncs(t, at, names...)
				require.Empty(t, out.Conflicts, "each adds its own")
			}
		}
		for range 2 {
			for _, p := range all {
				p.syncs(t, at, names...)
			}
		}
		for range 2 { // what the first ones of the last round did not see yet
			for _, p := range all {
				require.Empty(t, p.syncs(t, at, names...).Problems)
			}
		}
		for _, p := range all[1:] {
			require.Equal(t, all[0].knows(t), p.knows(t), "seed %d", seed)
			require.Equal(t, all[0].read(t, "site.yaml"), p.read(t, "site.yaml"), "seed %d", seed)
			p.check(t)
		}
		for word := range maps.Keys(written) {
			require.Contains(t, all[0].read(t, "site.yaml"), word, "seed %d", seed)
		}
	}
}

// A job writes while its laptop syncs: what is sent ends with a signature despite that.
func TestASyncBesideAJob(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna, bea := founded(t, "anna"), newLaptop(t, "bea")
	anna.syncs(t, at)
	bea.joins(t, at, "anna")
	require.NoError(t, anna.l.Append("step-begun", "j1", "", "before"))
	s, wrote := anna.sync(t, at), 0
	s.Progress = func(what string) {
		if strings.HasPrefix(what, "sending entries") {
			wrote++
			assert.NoError(t, anna.l.Append("step-over", "j1", "", "in the middle"))
		}
	}
	_, err := s.Run(t.Context())
	require.NoError(t, err)
	require.Positive(t, wrote)
	out := bea.syncs(t, at)
	assert.Empty(t, out.Problems)
	assert.NotEmpty(t, out.Taken)
	anna.syncs(t, at, "bea")
	bea.syncs(t, at)
	got, err := bea.l.Entries(ledger.Filter{Kind: "step-over"})
	require.NoError(t, err)
	assert.Len(t, got, wrote, "the rest came with the next one")
}

// A part of a chain that ends without a signature, as an older Catena may have sent it, is taken
// with the parts that follow, once one of them has one.
func TestAPartWithoutASignature(t *testing.T) {
	at := openPlace(t, t.TempDir())
	anna, bea := founded(t, "anna"), newLaptop(t, "bea")
	anna.syncs(t, at)
	bea.joins(t, at, "anna")
	id := anna.l.Writer().ID()
	chain := func() ledger.Chain {
		all, err := anna.l.Chains()
		require.NoError(t, err)
		return all[0]
	}
	send := func(after int64) int64 {
		var text strings.Builder
		last, err := anna.l.WriteChain(&text, id, after, chain().N)
		require.NoError(t, err)
		digest, err := anna.l.DigestAt(id, last)
		require.NoError(t, err)
		sites, err := bundle.SitesAt(at)
		require.NoError(t, err)
		for folder := range sites {
			require.NoError(t, at.Put(fmt.Sprintf("%s/chains/%s/%012d-%012d-%s", folder, id, after+1, last,
				digest[:16]), strings.NewReader(text.String())))
		}
		return last
	}
	after := chain().N
	require.NoError(t, anna.l.Append("x", "", "", "one"))
	after = send(after)
	out := bea.syncs(t, at)
	assert.Len(t, out.Problems, 1)
	require.NoError(t, anna.l.Append("x", "", "", "two"))
	require.NoError(t, anna.l.Seal())
	send(after)
	out = bea.syncs(t, at)
	assert.Empty(t, out.Problems)
	got, err := bea.l.Entries(ledger.Filter{Kind: "x"})
	require.NoError(t, err)
	assert.Len(t, got, 2)
}
