package wire

import (
	"bytes"
	"io"
)

// Envelope is an image with what stands before and after it in one body, such as a form.
type Envelope struct {
	Before []byte
	Image  *io.SectionReader
	After  []byte
}

// Size is that of the whole body, in bytes.
func (e Envelope) Size() int64 {
	return int64(len(e.Before)) + e.Image.Size() + int64(len(e.After))
}

// ReadAt reads the whole body.
func (e Envelope) ReadAt(p []byte, at int64) (n int, err error) {
	parts := []interface {
		io.ReaderAt
		Size() int64
	}{bytes.NewReader(e.Before), e.Image, bytes.NewReader(e.After)}
	for _, part := range parts {
		if at >= part.Size() {
			at -= part.Size()
			continue
		}
		want := min(int64(len(p)-n), part.Size()-at)
		got, err := part.ReadAt(p[n:n+int(want)], at)
		n, at = n+got, 0
		if int64(got) < want {
			return n, err
		}
		if n == len(p) {
			return n, nil
		}
	}
	return n, io.EOF
}

// Counts makes of a function that is told how far the image is one that is told how far the body
// is. What it tells only rises.
func (e Envelope) Counts(image func(bytes int64)) func(bytes int64) {
	last := int64(0)
	return func(n int64) {
		n = max(0, min(n-int64(len(e.Before)), e.Image.Size()))
		if image != nil && n > last {
			last = n
			image(n)
		}
	}
}
