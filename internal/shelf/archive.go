package shelf

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"cmp"
	"compress/gzip"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"
	"github.com/ulikunitz/xz"
)

// archiveKind returns zip, tar, tgz or txz by the file's name, other for an archive
// that is not read, or nothing.
func archiveKind(name string) string {
	_, kind := archiveExtension(name)
	return kind
}

// archiveExtension returns the extension of an archive's file name as it is written there, and its
// kind; both are empty where it is not one.
func archiveExtension(name string) (extension, kind string) {
	for _, e := range []struct{ extension, kind string }{{".zip", "zip"}, {".tgz", "tgz"},
		{".tar.gz", "tgz"}, {".txz", "txz"}, {".tar.xz", "txz"}, {".tar", "tar"}, {".7z", "other"},
		{".rar", "other"}} {
		if strings.HasSuffix(strings.ToLower(name), e.extension) {
			return name[len(name)-len(e.extension):], e.kind
		}
	}
	return "", ""
}

// maxDictionary is how much memory an xz stream may ask for, in bytes: that of the
// highest usual level.
const maxDictionary = 64 << 20

// archive reads the archive that lies at p and is called name.
func (in *importer) archive(b *batch, p, name string, size int64) error {
	f, err := os.Open(p)
	if err != nil {
		return refuse("cannot be read: %w", err)
	}
	defer func() { _ = f.Close() }()
	switch archiveKind(name) {
	case "zip":
		return in.zip(b, f, size)
	case "tgz":
		z, err := gzip.NewReader(f)
		if err != nil {
			return refuse("is not a gzip file: %w", err)
		}
		return in.tar(b, z)
	case "txz":
		packed := bufio.NewReader(f)
		if n, ok := dictionary(packed); ok && n > maxDictionary {
			return refuse("requires %d MiB of memory to unpack, more than the limit of %d; "+
				"pack it with xz -9 or less",
				n>>20, maxDictionary>>20)
		}
		z, err := xz.NewReader(packed)
		if err != nil {
			return refuse("is not an xz file: %w", err)
		}
		return in.tar(b, z)
	case "other":
		return refuse("is an archive of an unsupported format; unpack it, then add the folder")
	default:
		return in.tar(b, f)
	}
}

// dictionary is the memory, in bytes, that the first block of an xz stream asks for (The .xz
// File Format, 2.1.1 and 3.1); ok is false where there is none. A later block that asks for
// more gets address space, not memory: what is touched of it is bounded by what is unpacked.
func dictionary(r *bufio.Reader) (bytes int64, ok bool) {
	const streamHeader, lzma2 = 12, 0x21
	head, _ := r.Peek(streamHeader + 2)
	if len(head) < streamHeader+2 {
		return 0, false
	}
	size := (int(head[streamHeader]) + 1) * 4
	head, _ = r.Peek(streamHeader + size)
	if len(head) < streamHeader+size {
		return 0, false
	}
	flags, rest := head[streamHeader+1], head[streamHeader+2:]
	number := func() uint64 {
		n, read := binary.Uvarint(rest)
		rest = rest[max(0, min(read, len(rest))):]
		return n
	}
	for _, present := range []bool{flags&0x40 != 0, flags&0x80 != 0} {
		if present {
			number() // the packed or the unpacked size
		}
	}
	for range flags&0x03 + 1 {
		id, properties := number(), number()
		if properties > uint64(len(rest)) {
			return 0, false
		}
		if id == lzma2 && properties == 1 {
			d := rest[0] & 0x3f
			return int64(2|d&1) << (d/2 + 11), true
		}
		rest = rest[properties:]
	}
	return 0, false
}

func (in *importer) zip(b *batch, f io.ReaderAt, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return refuse("is not a whole zip file: %w", err)
	}
	z.RegisterDecompressor(zip.Deflate, flate.NewReader)
	if err := apart(z); err != nil {
		return err
	}
	for _, entry := range z.File {
		rel, err := inside(entry.Name)
		if err != nil {
			return err
		}
		if !entry.Mode().IsRegular() {
			if entry.Mode().IsDir() {
				continue
			}
			return refuse("contains %s, which is neither a file nor a folder", rel)
		}
		r, err := entry.Open()
		if err != nil {
			return refuse("%s cannot be unpacked: %w", rel, err)
		}
		err = in.entry(b, rel, &unpacked{r: r, of: in.budget})
		err = errors.Join(err, r.Close())
		if err != nil {
			return err
		}
	}
	return nil
}

func (in *importer) tar(b *batch, r io.Reader) error {
	t := tar.NewReader(r)
	for {
		header, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return refuse("is not a whole tar file: %w", err)
		}
		rel, err := inside(header.Name)
		if err != nil {
			return err
		}
		for key := range header.PAXRecords {
			if strings.HasPrefix(key, "GNU.sparse.") {
				return refuse("contains %s as a sparse file; pack it without holes", rel)
			}
		}
		switch header.Typeflag {
		case tar.TypeGNUSparse:
			return refuse("contains %s as a sparse file; pack it without holes", rel)
		case tar.TypeReg:
			if err := in.entry(b, rel, &unpacked{r: t, of: in.budget}); err != nil {
				return err
			}
		case tar.TypeDir, tar.TypeXGlobalHeader:
		default:
			return refuse("contains %s, which is neither a file nor a folder", rel)
		}
	}
}

// inside refuses names that would lead out of the archive's own folder.
func inside(name string) (string, error) {
	clean := path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if !filepath.IsLocal(filepath.FromSlash(clean)) || strings.Contains(clean, ":") {
		return "", refuse("contains %q, which leads out of the folder", name)
	}
	return clean, nil
}

// apart refuses a zip file whose entries lie over one another: each then unpacks the same
// bytes again.
func apart(z *zip.Reader) error {
	type span struct {
		from, to int64
		name     string
	}
	var spans []span
	for _, entry := range z.File {
		from, err := entry.DataOffset()
		if err != nil {
			return refuse("is not a whole zip file: %w", err)
		}
		spans = append(spans, span{from, from + int64(entry.CompressedSize64), entry.Name})
	}
	slices.SortFunc(spans, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	for i := 1; i < len(spans); i++ {
		if spans[i].from < spans[i-1].to {
			return refuse("contains %q and %q in the same place, as only a malicious archive would",
				spans[i-1].name, spans[i].name)
		}
	}
	return nil
}

// budget is what one archive may unpack to, with all archives within it, held against the
// size of the file that was given: whatever lies how often in what, it does not fill a disk.
type budget struct {
	outer, unpacked int64 // bytes
	spent           bool
}

// unpacked reads an entry of an archive on its budget.
type unpacked struct {
	r  io.Reader
	of *budget
}

func (u *unpacked) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	u.of.unpacked += int64(n)
	if u.of.unpacked > ratioCounts && u.of.unpacked/maxRatio > u.of.outer {
		u.of.spent = true
		return n, fmt.Errorf("unpacks to more than %d times its size, as only a malicious "+
			"archive would", maxRatio)
	}
	return n, err
}
