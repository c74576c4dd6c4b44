package shelf

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/flate"
	"github.com/xi2/xz"
)

// archiveKind returns zip, tar, tgz or txz by the file's name, other for an archive
// that is not read, or nothing.
func archiveKind(name string) string {
	name = strings.ToLower(name)
	switch {
	case strings.HasSuffix(name, ".zip"):
		return "zip"
	case strings.HasSuffix(name, ".tgz"), strings.HasSuffix(name, ".tar.gz"):
		return "tgz"
	case strings.HasSuffix(name, ".txz"), strings.HasSuffix(name, ".tar.xz"):
		return "txz"
	case strings.HasSuffix(name, ".tar"):
		return "tar"
	case strings.HasSuffix(name, ".7z"), strings.HasSuffix(name, ".rar"):
		return "other"
	}
	return ""
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
	packed := &meter{r: f}
	switch archiveKind(name) {
	case "zip":
		return in.zip(b, f, size)
	case "tgz":
		z, err := gzip.NewReader(packed)
		if err != nil {
			return refuse("is not a gzip file: %w", err)
		}
		return in.tar(b, &ratio{r: z, packed: func() int64 { return packed.n }})
	case "txz":
		z, err := xz.NewReader(packed, maxDictionary)
		if err != nil {
			return refuse("is not an xz file: %w", err)
		}
		return in.tar(b, &ratio{r: z, packed: func() int64 { return packed.n }})
	case "other":
		return refuse("is an archive of a kind that is not read; unpack it, then add the folder")
	default:
		return in.tar(b, f)
	}
}

func (in *importer) zip(b *batch, f io.ReaderAt, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return refuse("is not a whole zip file: %w", err)
	}
	z.RegisterDecompressor(zip.Deflate, flate.NewReader)
	for _, entry := range z.File {
		rel, err := inside(entry.Name)
		if err != nil {
			return err
		}
		if !entry.Mode().IsRegular() {
			if entry.Mode().IsDir() {
				continue
			}
			return refuse("holds %s, which is neither a file nor a folder", rel)
		}
		r, err := entry.Open()
		if err != nil {
			return refuse("%s cannot be unpacked: %w", rel, err)
		}
		packed := int64(entry.CompressedSize64)
		err = in.entry(b, rel, &ratio{r: r, packed: func() int64 { return packed }})
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
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return refuse("is not a whole tar file: %w", err)
		}
		rel, err := inside(header.Name)
		if err != nil {
			return err
		}
		switch header.Typeflag {
		case tar.TypeReg:
			if err := in.entry(b, rel, t); err != nil {
				return err
			}
		case tar.TypeDir, tar.TypeXGlobalHeader:
		default:
			return refuse("holds %s, which is neither a file nor a folder", rel)
		}
	}
}

// inside refuses names that would lead out of the archive's own folder.
func inside(name string) (string, error) {
	clean := path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if !filepath.IsLocal(filepath.FromSlash(clean)) || strings.Contains(clean, ":") {
		return "", refuse("holds %q, which leads out of the folder", name)
	}
	return clean, nil
}

// meter counts what is read through it.
type meter struct {
	r io.Reader
	n int64
}

func (m *meter) Read(p []byte) (int, error) {
	n, err := m.r.Read(p)
	m.n += int64(n)
	return n, err
}

// ratio stops an archive that blows up.
type ratio struct {
	r      io.Reader
	packed func() int64
	n      int64
}

func (r *ratio) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.n += int64(n)
	if r.n > ratioCounts && r.n/maxRatio > r.packed() {
		return n, fmt.Errorf("unpacks to more than %d times its size, as only an archive made to do harm would", maxRatio)
	}
	return n, err
}
