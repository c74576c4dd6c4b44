package bundle_test

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/bundle"
	"catena/internal/ledger"
	"catena/internal/plan"
	"catena/internal/plan/plantest"
	"catena/internal/record"
	"catena/internal/shelf"
	"catena/internal/sim"
)

// packed returns a site with an order for one camera, and its pack.
func packed(t *testing.T, logins bool) (h *plantest.Hill, w *plan.Site, path string, images int) {
	h = plantest.New(t, "site: Marrow Hill\n", "3.1.0", "3.2.1", "3.9.0")
	h.File(t, "logins.age", "encrypted")
	h.File(t, "notes.txt", "not of the night")
	gates := sim.Families()["tollgarth-gates.yaml"]
	require.NoError(t, os.Mkdir(filepath.Join(h.Dir, "families"), 0o755))
	h.File(t, "families/tollgarth-gates.yaml", "# of the site\n"+string(gates))
	onShelf := filepath.Join(h.Shelf.Dir(), "families")
	require.NoError(t, sim.WriteFamilies(onShelf))
	require.NoError(t, os.Remove(filepath.Join(onShelf, "tollgarth-gates.yaml"))) // one of the two
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.2.1"})
	h.File(t, "targets.yaml", "targets: [{model: WX-40, version: 3.2.1}]\n")
	w = h.Open(t)
	o, _ := h.Order(t, w, plan.Request{Name: "night"}, "cam-1")
	o.Name = "night"
	_, err := w.SaveOrder(o)
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "night.pack")
	images, err = bundle.Pack(t.Context(), w, "night", path, logins)
	require.NoError(t, err)
	return h, w, path, images
}

// entries returns what a pack holds, by name.
func entries(t *testing.T, path string) map[string][]byte {
	z, err := zip.OpenReader(path)
	require.NoError(t, err)
	defer func() { _ = z.Close() }()
	out := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		out[f.Name], err = io.ReadAll(r)
		require.NoError(t, err)
	}
	return out
}

// A pack holds what the night needs and nothing else: the images forth and back, not the others of
// the shelf, and the logins only if they were asked for. Each entry has its checksum.
func TestPack(t *testing.T) {
	_, _, path, images := packed(t, false)
	assert.Equal(t, 2, images, "3.2.1, and 3.1.0 for the rollback")
	all := entries(t, path)
	for _, name := range []string{"site/site.yaml", "site/targets.yaml", "site/orders/night.yaml",
		"devices.json", "keys.json", "shelf.zip", "site/families/pennick-hubs.yaml"} {
		assert.Contains(t, all, name)
	}
	assert.True(t, bytes.HasPrefix(all["site/families/tollgarth-gates.yaml"], []byte("# of the site\n")))
	assert.NotContains(t, all, "site/logins.age")
	assert.NotContains(t, all, "site/notes.txt")
	sums := strings.Split(strings.TrimSpace(string(all["checksums"])), "\n")
	assert.Len(t, sums, len(all)-1)
	for _, line := range sums {
		digest, name, _ := strings.Cut(line, "  ")
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(all[name])), digest, name)
	}
	_, _, path, _ = packed(t, true)
	assert.Contains(t, entries(t, path), "site/logins.age")
}

// An image that is not on the shelf any more is named, and no half pack is left.
func TestPackWithoutAnImage(t *testing.T) {
	h, w, _, _ := packed(t, false)
	o, err := w.ReadOrder("night")
	require.NoError(t, err)
	on, is := w.Image(o.Devices[0].Path[0].Image.SHA256)
	require.True(t, is)
	require.NoError(t, h.Shelf.Drop(on))
	require.NoError(t, w.Match(h.Shelf))
	folder := t.TempDir()
	_, err = bundle.Pack(t.Context(), w, "night", filepath.Join(folder, "night.pack"), false)
	assert.ErrorIs(t, err, shelf.ErrGone)
	assert.ErrorContains(t, err, "3.2.1.bin")
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
	_, err = bundle.Pack(t.Context(), w, "another", filepath.Join(folder, "night.pack"), false)
	assert.ErrorContains(t, err, "another")
}

// On another machine the order means the same devices, and its images are on that shelf.
func TestUnpack(t *testing.T) {
	_, w, path, _ := packed(t, false)
	other, err := shelf.Open(filepath.Join(t.TempDir(), "shelf"))
	require.NoError(t, err)
	dir := filepath.Join(t.TempDir(), "hill")
	results, err := bundle.Unpack(t.Context(), path, dir, other, time.Now, ledger.Writer{})
	require.NoError(t, err)
	assert.Len(t, results, 2)
	there, err := plan.Open(dir, time.Now, ledger.Writer{})
	require.NoError(t, err)
	defer there.Close()
	was, err := record.Devices(w.Ledger)
	require.NoError(t, err)
	is, err := record.Devices(there.Ledger)
	require.NoError(t, err)
	require.Len(t, is, 2)
	for id, d := range was {
		assert.Equal(t, d.Identity, is[id].Identity, id)
	}
	require.NoError(t, there.Match(other))
	o, err := there.ReadSigned("night")
	require.NoError(t, err)
	assert.Empty(t, there.Differences(o, false))
	_, err = bundle.Unpack(t.Context(), path, dir, other, time.Now, ledger.Writer{})
	assert.ErrorContains(t, err, "already exists")
}

// A pack with a flipped bit is refused and leaves nothing, or the bit is in none of what it holds:
// then all is as it was packed. CATENA_FLIPS sets how many bits are tried, one in each copy.
func TestFlippedBits(t *testing.T) {
	_, _, path, _ := packed(t, false)
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	want := entries(t, path)
	flips := 30
	if n, err := strconv.Atoi(os.Getenv("CATENA_FLIPS")); err == nil {
		flips = n
	}
	seed := uint64(time.Now().UnixNano())
	r, refused := rand.New(rand.NewPCG(seed, 1)), 0
	for range flips {
		bit := r.IntN(8 * len(whole))
		raw := bytes.Clone(whole)
		raw[bit/8] ^= 1 << (bit % 8)
		root := t.TempDir()
		from, dir := filepath.Join(root, "night.pack"), filepath.Join(root, "hill")
		require.NoError(t, os.WriteFile(from, raw, 0o600))
		s, err := shelf.Open(filepath.Join(root, "shelf"))
		require.NoError(t, err)
		if _, err = bundle.Unpack(t.Context(), from, dir, s, time.Now, ledger.Writer{}); err != nil {
			refused++
			var wrong *bundle.Error
			require.ErrorAs(t, err, &wrong, "seed %d, bit %d", seed, bit)
			assert.NoDirExists(t, dir)
			images, err := s.List()
			require.NoError(t, err)
			assert.Empty(t, images, "seed %d, bit %d", seed, bit)
			continue
		}
		assert.Equal(t, want, entries(t, from), "seed %d, bit %d", seed, bit)
		_, damaged, err := s.Check(t.Context(), func(int64) {})
		require.NoError(t, err)
		assert.Empty(t, damaged, "seed %d, bit %d", seed, bit)
	}
	t.Logf("%d of %d packs refused, seed %d", refused, flips, seed)
	assert.Positive(t, refused)
}

// Images that cannot be read are refused by name; the site is there without them.
func TestUnpackWithoutImages(t *testing.T) {
	_, _, path, _ := packed(t, false)
	s, err := shelf.Open(filepath.Join(t.TempDir(), "shelf"))
	require.NoError(t, err)
	path = rewrite(t, path, true, func(all map[string][]byte) { all["shelf.zip"] = []byte("x") })
	results, err := bundle.Unpack(t.Context(), path, filepath.Join(t.TempDir(), "hill"), s, time.Now, ledger.Writer{})
	require.NoError(t, err)
	require.Len(t, results, 1)
	assert.Equal(t, shelf.Refused, results[0].Outcome)
	assert.Equal(t, "shelf.zip", results[0].Source)
}

// rewrite writes a pack again with its entries changed; sealed: its checksums are right again.
func rewrite(t *testing.T, from string, sealed bool, change func(all map[string][]byte)) string {
	all := entries(t, from)
	change(all)
	if sealed {
		var sums strings.Builder
		for name, raw := range all {
			if name != "checksums" {
				fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(raw), name)
			}
		}
		all["checksums"] = []byte(sums.String())
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, raw := range all {
		e, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		require.NoError(t, err)
		_, err = e.Write(raw)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	path := filepath.Join(t.TempDir(), "night.pack")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o600))
	return path
}

// Whatever a pack says, nothing is written beside the folder that it becomes, and a pack that is
// not whole becomes none.
func TestHostilePacks(t *testing.T) {
	_, _, path, _ := packed(t, false)
	for what, c := range map[string]struct {
		sealed bool
		change func(all map[string][]byte)
	}{
		"a changed byte":       {false, func(all map[string][]byte) { all["devices.json"][0] ^= 1 }},
		"a missing entry":      {false, func(all map[string][]byte) { delete(all, "keys.json") }},
		"an entry besides":     {false, func(all map[string][]byte) { all["site/x"] = []byte("x") }},
		"no checksums":         {false, func(all map[string][]byte) { delete(all, "checksums") }},
		"no devices":           {true, func(all map[string][]byte) { delete(all, "devices.json") }},
		"a way out":            {true, func(all map[string][]byte) { all["site/../../x"] = []byte("x") }},
		"an absolute path":     {true, func(all map[string][]byte) { all["/tmp/x"] = []byte("x") }},
		"a ledger":             {true, func(all map[string][]byte) { all["site/.catena/x"] = []byte("x") }},
		"a ledger in capitals": {true, func(all map[string][]byte) { all["site/.CATENA/x"] = []byte("x") }},
		"another folder":       {true, func(all map[string][]byte) { all["other/x"] = []byte("x") }},
		"no site":              {true, func(all map[string][]byte) { delete(all, "site/site.yaml") }},
		"a site that is none":  {true, func(all map[string][]byte) { all["site/site.yaml"] = []byte("a: [") }},
	} {
		t.Run(what, func(t *testing.T) {
			folder := t.TempDir()
			s, err := shelf.Open(filepath.Join(t.TempDir(), "shelf"))
			require.NoError(t, err)
			_, err = bundle.Unpack(t.Context(), rewrite(t, path, c.sealed, c.change),
				filepath.Join(folder, "hill"), s, time.Now, ledger.Writer{})
			assert.Error(t, err)
			left, err := os.ReadDir(folder)
			require.NoError(t, err)
			assert.Empty(t, slices.Collect(func(yield func(string) bool) {
				for _, e := range left {
					yield(e.Name())
				}
			}))
		})
	}
}
