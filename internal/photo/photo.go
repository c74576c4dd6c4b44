// Package photo makes photographs small enough to be kept, and free of what a camera writes beside
// the picture: where it was taken, when, and with what.
//
// Its central functions are Shrink and Position. It reads and writes what it is given, and does no
// other I/O.
package photo

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg" // the formats that are read
	_ "image/png"
	"io"
	"time"

	"github.com/bep/imagemeta"
	"github.com/disintegration/imaging"
)

// Bounds of a photograph.
const (
	MaxFile   = 64 << 20  // bytes that are read
	maxPixels = 150 << 20 // of the picture as it was taken
	longest   = 1600      // pixels of the longer side that are kept
	quality   = 80        // of the JPEG that is written
)

// ErrFormat is returned for what is not a JPEG or PNG picture.
var ErrFormat = errors.New("is not a JPEG or PNG picture")

// Shrink reads a JPEG or PNG picture and writes it as a JPEG of at most 1600 pixels on its longer
// side, turned the right way up, without its metadata. Its errors are ErrFormat, one that says why
// the picture cannot be read, and that of the writer.
func Shrink(w io.Writer, r io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(r, MaxFile+1))
	if err != nil {
		return err
	}
	if len(raw) > MaxFile {
		return fmt.Errorf("is larger than %d MiB", MaxFile>>20)
	}
	c, format, err := image.DecodeConfig(bytes.NewReader(raw))
	switch {
	case err != nil || format != "jpeg" && format != "png":
		return ErrFormat
	case int64(c.Width)*int64(c.Height) > maxPixels:
		return fmt.Errorf("has %d × %d pixels, more than the limit", c.Width, c.Height)
	}
	p, err := imaging.Decode(bytes.NewReader(raw), imaging.AutoOrientation(true))
	if err != nil {
		return fmt.Errorf("cannot be read: %w", err)
	}
	if b := p.Bounds(); b.Dx() > longest || b.Dy() > longest {
		p = imaging.Fit(p, longest, longest, imaging.Lanczos)
	}
	return imaging.Encode(w, p, imaging.JPEG, imaging.JPEGQuality(quality))
}

// ErrNoPosition is returned for a picture that does not tell where it was taken.
var ErrNoPosition = errors.New("does not tell where it was taken")

// Position returns where a JPEG picture was taken, by its EXIF: latitude and longitude in degrees
// (WGS 84), such as "52.10211, -1.99542". Its error is ErrNoPosition.
func Position(raw []byte) (string, error) {
	var tags imagemeta.Tags
	_, err := imagemeta.Decode(imagemeta.Options{R: bytes.NewReader(raw),
		ImageFormat: imagemeta.JPEG, Sources: imagemeta.EXIF, Timeout: 10 * time.Second,
		ShouldHandleTag: func(imagemeta.TagInfo) bool { return true },
		HandleTag:       func(t imagemeta.TagInfo) error { tags.Add(t); return nil }})
	if err != nil {
		return "", ErrNoPosition
	}
	lat, long, err := tags.GetLatLong()
	if err != nil || lat == 0 && long == 0 || lat < -90 || lat > 90 || long < -180 || long > 180 {
		return "", ErrNoPosition
	}
	return fmt.Sprintf("%.5f, %.5f", lat, long), nil
}
