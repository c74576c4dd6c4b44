package shelf_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/shelf"
)

type file struct{ name, body string }

func manifestFor(model, version, name, body string) file {
	return file{strings.TrimSuffix(name, filepath.Ext(name)) + ".yaml", fmt.Sprintf(
		"manifest: 1\nvendor: Wexcombe\nmodels: [%s]\nversion: %s\nfile: %s\nsha256: %x\n",
		model, version, filepath.Base(name), sha256.Sum256([]byte(body)))}
}

func open(t *testing.T) *shelf.Shelf {
	s, err := shelf.Open(filepath.Join(t.TempDir(), "shelf"))
	require.NoError(t, err)
	return s
}

func add(t *testing.T, s *shelf.Shelf, paths ...string) map[shelf.Outcome][]string {
	results, err := s.Import(context.Background(), paths, shelf.Options{})
	require.NoError(t, err)
	out := map[shelf.Outcome][]string{}
	for _, r := range results {
		out[r.Outcome] = append(out[r.Outcome], filepath.Base(r.Source)+" "+r.Reason)
	}
	return out
}

func write(t *testing.T, dir string, files ...file) string {
	for _, f := range files {
		path := filepath.Join(dir, f.name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(f.body), 0o600))
	}
	return dir
}

func zipOf(t *testing.T, files ...file) string {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, f := range files {
		w, err := z.Create(f.name)
		require.NoError(t, err)
		_, err = io.WriteString(w, f.body)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return filepath.Join(write(t, t.TempDir(), file{"bundle.zip", buf.String()}), "bundle.zip")
}

func tgzOf(t *testing.T, headers []tar.Header, files ...file) string {
	var buf bytes.Buffer
	z := gzip.NewWriter(&buf)
	w := tar.NewWriter(z)
	for _, f := range files {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: f.name, Typeflag: tar.TypeReg,
			Mode: 0o644, Size: int64(len(f.body))}))
		_, err := io.WriteString(w, f.body)
		require.NoError(t, err)
	}
	for _, h := range headers {
		require.NoError(t, w.WriteHeader(&h))
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	return filepath.Join(write(t, t.TempDir(), file{"bundle.tgz", buf.String()}), "bundle.tgz")
}

var (
	oldImage    = file{"wx40/wx40_3.1.0.bin", "image 3.1.0"}
	newImage    = file{"wx40/wx40_3.2.1.bin", "image 3.2.1"}
	oldManifest = manifestFor("WX-40", "3.1.0", oldImage.name, oldImage.body)
	newManifest = manifestFor("WX-40", "3.2.1", newImage.name, newImage.body)
)

func TestEveryKindOfSource(t *testing.T) {
	dir := write(t, t.TempDir(), oldImage, newImage, oldManifest, newManifest)
	for name, paths := range map[string][]string{
		"folder":    {dir},
		"images":    {filepath.Join(dir, oldImage.name), filepath.Join(dir, newImage.name)},
		"manifests": {filepath.Join(dir, oldManifest.name), filepath.Join(dir, newManifest.name)},
		"zip":       {zipOf(t, oldImage, oldManifest, newManifest, newImage)},
		"tgz":       {tgzOf(t, nil, newImage, oldImage, newManifest, oldManifest)},
	} {
		t.Run(name, func(t *testing.T) {
			s := open(t)
			assert.Len(t, add(t, s, paths...)[shelf.New], 2)
			again := add(t, s, paths...)
			assert.Len(t, again[shelf.There], 2)
			assert.Empty(t, again[shelf.New])

			images, err := s.List()
			require.NoError(t, err)
			require.Len(t, images, 2)
			assert.Equal(t, "3.2.1", images[0].Version, "the newest first")
			f, err := s.OpenImage(images[0].SHA256, images[0].File)
			require.NoError(t, err)
			body, err := io.ReadAll(f)
			require.NoError(t, err)
			require.NoError(t, f.Close())
			assert.Equal(t, newImage.body, string(body))
			left, err := os.ReadDir(filepath.Join(s.Dir(), "tmp"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestWhatIsRefusedIsNamedAndTheRestIsAdded(t *testing.T) {
	wrong := manifestFor("WX-40", "3.2.1", newImage.name, "something else")
	lost := manifestFor("WX-40", "9.9", "wx40/lost.bin", "lost")
	away := file{"wx40/away.yaml", strings.Replace(lost.body, "lost.bin", "../../../etc/passwd", 1)}
	odd := file{"wx40/odd.yaml", "manifest: 1\nvender: Wexcombe\n"}
	got := add(t, open(t), write(t, t.TempDir(), oldImage, oldManifest, newImage, wrong, lost, away,
		odd))
	assert.Len(t, got[shelf.New], 1)
	refused := strings.Join(got[shelf.Refused], "\n")
	assert.Contains(t, refused, "wx40_3.2.1.bin does not match its manifest")
	assert.Contains(t, refused, "lost.yaml its file lost.bin is missing")
	assert.Contains(t, refused, "away.yaml its file \"../../../etc/passwd\" leads out of the folder")
	assert.Contains(t, refused, `odd.yaml wx40/odd.yaml:2:1: unknown field "vender"`)

	got = add(t, open(t), write(t, t.TempDir(), oldImage), filepath.Join(t.TempDir(), "none"))
	assert.Contains(t, strings.Join(got[shelf.Aside], "\n"), "no manifest names it")
	assert.Contains(t, strings.Join(got[shelf.Refused], "\n"), "none cannot be read")
}

func TestTwoManifestsForOneImageThatDisagree(t *testing.T) {
	s := open(t)
	add(t, s, write(t, t.TempDir(), oldImage, oldManifest))
	other := manifestFor("WX-20", "3.1.0", oldImage.name, oldImage.body)
	got := add(t, s, write(t, t.TempDir(), oldImage, other))
	require.Len(t, got[shelf.Refused], 1)
	assert.Contains(t, got[shelf.Refused][0], "its models differs")

	// The refused manifest's release notes do not take the place of those that are there.
	other.body += "notes: n.md\n"
	add(t, s, write(t, t.TempDir(), oldImage, other, file{"wx40/n.md", "someone else's"}))
	images, err := s.List()
	require.NoError(t, err)
	notes, err := s.Notes(images[0])
	require.NoError(t, err)
	assert.Empty(t, notes)
}

func bytesOf(t *testing.T, path string) string {
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(raw)
}

func TestArchivesWithinArchives(t *testing.T) {
	inner := file{"makers/wexcombe.tgz", bytesOf(t, tgzOf(t, nil, newImage, newManifest))}
	s := open(t)
	got := add(t, s, zipOf(t, inner, oldImage, oldManifest))
	assert.Len(t, got[shelf.New], 2)
	assert.Empty(t, got[shelf.Refused])

	// A damaged one is refused alone; one too deep refuses the whole.
	broken := file{"broken.zip", "PK"}
	got = add(t, open(t), zipOf(t, broken, oldImage, oldManifest))
	assert.Len(t, got[shelf.New], 1)
	require.Len(t, got[shelf.Refused], 1)
	assert.Contains(t, got[shelf.Refused][0], "broken.zip is not a whole zip file")
	deep := file{"d.zip", bytesOf(t, zipOf(t, oldImage, oldManifest))}
	for range 4 {
		deep.body = bytesOf(t, zipOf(t, deep))
	}
	got = add(t, open(t), zipOf(t, deep, newImage, newManifest))
	assert.Empty(t, got[shelf.New])
	assert.Contains(t, strings.Join(got[shelf.Refused], ""), "nested more than 3 archives deep")
	got = add(t, open(t), zipOf(t, file{"x.7z", "7z"}))
	assert.Contains(t, got[shelf.Refused][0], "of an unsupported format; unpack it")
}

// The archive holds image 3.1.0 and its manifest; xz made it.
func TestTarXZ(t *testing.T) {
	if _, err := exec.LookPath("xz"); err != nil {
		t.Skip("xz is not installed")
	}
	raw, err := exec.Command("sh", "-c",
		"gzip -dc '"+tgzOf(t, nil, oldImage, oldManifest)+"' | xz -c").Output()
	require.NoError(t, err)
	dir := write(t, t.TempDir(), file{"bundle.tar.xz", string(raw)},
		file{"cut.tar.xz", string(raw[:len(raw)-40])})
	assert.Len(t, add(t, open(t), filepath.Join(dir, "bundle.tar.xz"))[shelf.New], 1)
	got := add(t, open(t), filepath.Join(dir, "cut.tar.xz"))
	assert.Empty(t, got[shelf.New])
	assert.Len(t, got[shelf.Refused], 1)
}

func TestComponentsThatWaitForEachOther(t *testing.T) {
	s := open(t)
	after := func(f file, component, first string) file {
		f.body += "component: " + component + "\nafter: [" + first + "]\n"
		return f
	}
	got := add(t, s, write(t, t.TempDir(), oldImage, after(oldManifest, "modem", "io"), newImage,
		after(newManifest, "io", "modem")))
	assert.Len(t, got[shelf.New], 1)
	require.Len(t, got[shelf.Refused], 1)
	assert.Contains(t, got[shelf.Refused][0], "would have to come after itself, through")
}

// A limit on the size of files stands for a disk that is full.
func TestAFullDiskLeavesAWholeShelf(t *testing.T) {
	if home := os.Getenv("CATENA_TEST_SHELF"); home != "" { // the child, below
		s, err := shelf.Open(home)
		require.NoError(t, err)
		_, err = s.Import(context.Background(), []string{os.Getenv("CATENA_TEST_SOURCE")},
			shelf.Options{})
		require.ErrorContains(t, err, "file too large")
		return
	}
	big := file{"big.bin", strings.Repeat("x", 1<<20)}
	dir := write(t, t.TempDir(), oldImage, oldManifest, big,
		manifestFor("WX-20", "2.11", big.name, big.body))
	home := t.TempDir()
	if _, err := exec.LookPath("sh"); err != nil {
		t.Skip("there is no sh to set a limit with")
	}
	cmd := exec.Command("sh", "-c", `ulimit -f 100; exec "$0" -test.run TestAFullDisk`, os.Args[0])
	cmd.Env = append(os.Environ(), "CATENA_TEST_SHELF="+home, "CATENA_TEST_SOURCE="+dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	s, err := shelf.Open(home)
	require.NoError(t, err)
	_, damaged, err := s.Check(context.Background(), nil)
	require.NoError(t, err)
	assert.Empty(t, damaged)
	assert.Len(t, add(t, s, dir)[shelf.New], 2, "with room again, all is added")
}

func TestTwoImportsAtOnce(t *testing.T) {
	s := open(t)
	dir := write(t, t.TempDir(), oldImage, oldManifest, newImage, newManifest)
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			_, err := s.Import(context.Background(), []string{dir}, shelf.Options{})
			assert.NoError(t, err)
		})
	}
	group.Wait()
	images, err := s.List()
	require.NoError(t, err)
	assert.Len(t, images, 2)
	_, damaged, err := s.Check(context.Background(), nil)
	require.NoError(t, err)
	assert.Empty(t, damaged)
}

// overlapping is a zip file with many entries that lie in one place.
func overlapping(t *testing.T) string {
	raw, err := os.ReadFile(zipOf(t, file{"a.bin", strings.Repeat("\x00", 1<<20)}))
	require.NoError(t, err)
	at := bytes.LastIndex(raw, []byte("PK\x01\x02")) // the central directory: APPNOTE 4.3.12
	entry, end := raw[at:len(raw)-22], slices.Clone(raw[len(raw)-22:])
	out := slices.Clone(raw[:at])
	for range 50 {
		out = append(out, entry...)
	}
	binary.LittleEndian.PutUint16(end[8:], 50)
	binary.LittleEndian.PutUint16(end[10:], 50)
	binary.LittleEndian.PutUint32(end[12:], uint32(50*len(entry)))
	return filepath.Join(write(t, t.TempDir(), file{"overlap.zip", string(append(out, end...))}),
		"overlap.zip")
}

// sparse is a tar file with a hole of 8 GiB: GNU tar's old form, type S.
func sparse(t *testing.T) string {
	head := make([]byte, 512)
	copy(head, "bomb.bin")
	copy(head[100:], "0000644\x000000000\x000000000\x0000000000000\x0000000000000\x00        S")
	copy(head[257:], "ustar  \x00")
	copy(head[483:], "77777777777\x00")
	sum := 0
	for _, b := range head {
		sum += int(b)
	}
	copy(head[148:], fmt.Sprintf("%06o\x00 ", sum))
	return filepath.Join(write(t, t.TempDir(),
		file{"sparse.tar", string(head) + strings.Repeat("\x00", 1024)}), "sparse.tar")
}

// However often something is packed into something, an import unpacks no more than the file
// that was given allows.
func TestOneBudgetForAll(t *testing.T) {
	var inner []file
	for i := range 8 {
		var buf bytes.Buffer
		z := zip.NewWriter(&buf)
		w, err := z.Create("a.bin")
		require.NoError(t, err)
		_, err = w.Write(make([]byte, 20<<20)) // each within its ratio
		require.NoError(t, err)
		require.NoError(t, z.Close())
		inner = append(inner, file{fmt.Sprintf("%d.zip", i), buf.String()})
	}
	s := open(t)
	got := add(t, s, zipOf(t, inner...))
	assert.Contains(t, got[shelf.Refused][0], "more than 200 times its size")
	left, err := os.ReadDir(filepath.Join(s.Dir(), "tmp"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// Two images for one version of the same devices: no one can say which is meant.
func TestTwins(t *testing.T) {
	s := open(t)
	add(t, s, write(t, t.TempDir(), newImage, newManifest))
	other := file{"other.bin", "another 3.2.1"}
	got := add(t, s, write(t, t.TempDir(), other,
		manifestFor("WX-40", "3.2.1", other.name, other.body)))
	require.Len(t, got[shelf.Refused], 1)
	assert.Contains(t, got[shelf.Refused][0],
		"another image of Wexcombe WX-40 3.2.1 is on the shelf: ")
}

// What cannot be read on a shelf is named and left out, and can be dropped.
func TestFaults(t *testing.T) {
	s := open(t)
	add(t, s, write(t, t.TempDir(), oldImage, oldManifest, newImage, newManifest))
	images, err := s.List()
	require.NoError(t, err)
	bad := filepath.Join(s.Dir(), "manifests", strings.Repeat("ab", 32)+".yaml")
	require.NoError(t, os.WriteFile(bad, []byte("models: [a{b]\n"), 0o600))
	gone := images[0].SHA256
	require.NoError(t, os.Remove(filepath.Join(s.Dir(), "images", gone[:2], gone)))
	images, err = s.List()
	require.NoError(t, err)
	require.Len(t, images, 1)
	_, damaged, err := s.Check(t.Context(), nil)
	require.NoError(t, err)
	assert.Len(t, damaged, 2)
	for _, f := range damaged {
		require.NoError(t, s.DropFault(f))
	}
	faults, err := s.Faults()
	require.NoError(t, err)
	assert.Empty(t, faults)

	// A name that plain YAML does not carry is still kept.
	odd := file{"odd.bin", "odd"}
	m := manifestFor("WX-40", "1.0", odd.name, odd.body)
	m.body = strings.Replace(m.body, "WX-40", `"a{b"`, 1)
	got := add(t, s, write(t, t.TempDir(), odd, m))
	assert.Len(t, got[shelf.New], 1, got)
	images, err = s.List()
	require.NoError(t, err)
	assert.Len(t, images, 2)
}

// What a killed import left goes with the next one, however young it is.
func TestWhatAKilledImportLeft(t *testing.T) {
	s := open(t)
	left := filepath.Join(s.Dir(), "tmp", "import-123")
	require.NoError(t, os.MkdirAll(left, 0o700))
	write(t, left, file{"lock", ""}, file{"image-1", "half"})
	add(t, s, write(t, t.TempDir(), oldImage, oldManifest))
	assert.NoDirExists(t, left)
}

func TestHostileArchivesAddNothing(t *testing.T) {
	bomb := file{"bomb.bin", strings.Repeat("\x00", 64<<20)}
	var many []file
	for i := range 10_001 {
		many = append(many, file{fmt.Sprintf("%d.md", i), ""})
	}
	good := []file{oldImage, oldManifest}
	truncated := zipOf(t, good...)
	require.NoError(t, os.Truncate(truncated, 200))
	short := tgzOf(t, nil, append(good, file{"rest.md", strings.Repeat("x", 5000)})...)
	require.NoError(t, os.Truncate(short, 250))
	for why, path := range map[string]string{
		"leads out of the folder": zipOf(t,
			append(good, file{"../../escape.bin", "x"})...),
		`contains "..\\escape.bin", which leads out`: zipOf(t,
			append(good, file{`..\escape.bin`, "x"})...),
		`contains "/etc/passwd", which leads out`: tgzOf(t, nil,
			append(good, file{"/etc/passwd", "x"})...),
		`contains "C:\\escape.bin", which leads out`: zipOf(t,
			append(good, file{`C:\escape.bin`, "x"})...),
		"neither a file nor a folder": tgzOf(t,
			[]tar.Header{{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc"}}, good...),
		"unpacks to more than 200 times": zipOf(t, append(good, bomb)...),
		"more than 200 times its size":   tgzOf(t, nil, append(good, bomb)...),
		"contains more than 10000 files": zipOf(t, append(good, many...)...),
		"in the same place":              overlapping(t),
		"wx40/wx40_3.1.0.bin twice":      zipOf(t, append(good, oldImage)...),
		"bomb.bin as a sparse file":      sparse(t),
		"is not a whole zip file":        truncated,
		"is not a whole tar file":        short,
	} {
		t.Run(why, func(t *testing.T) {
			s := open(t)
			got := add(t, s, path)
			assert.Empty(t, got[shelf.New])
			require.Len(t, got[shelf.Refused], 1)
			assert.Contains(t, got[shelf.Refused][0], why)
			images, err := s.List()
			require.NoError(t, err)
			assert.Empty(t, images)
			left, err := os.ReadDir(filepath.Join(s.Dir(), "tmp"))
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestDamageIsFoundBeforeTheImageIsUsed(t *testing.T) {
	s := open(t)
	add(t, s, write(t, t.TempDir(), oldImage, oldManifest))
	images, err := s.List()
	require.NoError(t, err)
	digest := images[0].SHA256
	require.NoError(t, os.WriteFile(filepath.Join(s.Dir(), "images", digest[:2], digest),
		[]byte("image 3.1.1"), 0o600))
	_, err = s.OpenImage(images[0].SHA256, images[0].File)
	assert.ErrorIs(t, err, shelf.ErrDamaged)
}

func TestInterruptedImportLeavesAWholeShelf(t *testing.T) {
	s := open(t)
	dir := write(t, t.TempDir(), oldImage, oldManifest, file{"z.bin", strings.Repeat("z", 1<<20)})
	ctx, cancel := context.WithCancel(context.Background())
	_, err := s.Import(ctx, []string{dir}, shelf.Options{Progress: func(n int64) {
		if n > 1<<16 {
			cancel()
		}
	}})
	require.ErrorIs(t, err, context.Canceled)
	images, err := s.List()
	require.NoError(t, err)
	assert.Empty(t, images)
	assert.Len(t, add(t, s, dir)[shelf.New], 1)
}

// FuzzImport gives the bytes as archives of each kind; whatever they are, the shelf
// stays whole.
func FuzzImport(f *testing.F) {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, entry := range []file{oldImage, oldManifest} {
		w, _ := z.Create(entry.name)
		_, _ = io.WriteString(w, entry.body)
	}
	_ = z.Close()
	f.Add(buf.Bytes())
	f.Add([]byte("\xfd7zXZ\x00\x00"))
	f.Add([]byte("\x1f\x8b\x08\x00"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		dir := t.TempDir()
		for _, name := range []string{"a.zip", "a.tar", "a.tgz", "a.tar.xz"} {
			if err := os.WriteFile(filepath.Join(dir, name), raw, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s, err := shelf.Open(filepath.Join(dir, "shelf"))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := s.Import(context.Background(),
			[]string{filepath.Join(dir, "a.zip"), filepath.Join(dir, "a.tar"),
				filepath.Join(dir, "a.tgz"), filepath.Join(dir,
					"a.tar.xz")}, shelf.Options{}); err != nil {
			t.Errorf("the import stopped: %v", err)
		}
		if _, damaged, err := s.Check(context.Background(), nil); err != nil || len(damaged) > 0 {
			t.Errorf("the shelf is not whole: %v %v", damaged, err)
		}
	})
}
