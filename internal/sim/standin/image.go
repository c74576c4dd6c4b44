package standin

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"slices"
)

// The images of the invented makers: one line of JSON, then the payload that the
// line describes. A stand-in reads it as a boot loader would: the whole of it,
// before it believes any of it.
type imageHeader struct {
	Maker   string   `json:"maker"`
	Models  []string `json:"models"`
	Part    string   `json:"part,omitempty"` // empty: the device itself
	Version string   `json:"version"`
	Bytes   int64    `json:"bytes"`
	SHA256  string   `json:"sha256"`
}

const maxHeader = 1 << 10

// MaxUpload is the largest file that a stand-in takes into its memory.
const MaxUpload = 64 << 20

// Image writes an image of size payload bytes. The payload is pseudo-random and
// the same for the same arguments.
func Image(w io.Writer, maker string, models []string, part, version string, size int64) error {
	seed := sha256.Sum256(fmt.Appendf(nil, "%s %v %s%s %d", maker, models, part, version, size))
	payload := func(w io.Writer) error {
		_, err := io.CopyN(w, rand.NewChaCha8(seed), size)
		return err
	}
	h := sha256.New()
	if err := payload(h); err != nil {
		return err
	}
	line, err := json.Marshal(imageHeader{maker, models, part, version, size,
		hex.EncodeToString(h.Sum(nil))})
	if err != nil {
		return err
	}
	if _, err := w.Write(append(line, '\n')); err != nil {
		return err
	}
	return payload(w)
}

// Why a stand-in refuses an image.
var (
	errNoImage    = errors.New("not an image of this maker")
	errOtherModel = errors.New("image is for another model")
	errOtherPart  = errors.New("image is for another part")
	ErrTruncated  = errors.New("image is truncated")
	ErrChecksum   = errors.New("image checksum is wrong")
)

// Receive reads an image to its end and returns its version. also, which may be
// nil, is given every byte as it came.
func Receive(r io.Reader, maker, model, part string, also hash.Hash) (string, error) {
	if also != nil {
		r = io.TeeReader(r, also)
	}
	b := bufio.NewReaderSize(r, 64<<10)
	line, err := b.ReadSlice('\n')
	if err != nil || len(line) > maxHeader {
		_, _ = io.Copy(io.Discard, b)
		return "", errNoImage
	}
	var head imageHeader
	if json.Unmarshal(bytes.Clone(line), &head) != nil || head.Maker != maker {
		_, _ = io.Copy(io.Discard, b)
		return "", errNoImage
	}
	h := sha256.New()
	n, err := io.Copy(h, b)
	switch {
	case err != nil || n < head.Bytes:
		return "", ErrTruncated
	case !slices.Contains(head.Models, model):
		return "", errOtherModel
	case head.Part != part:
		return "", errOtherPart
	case n > head.Bytes || hex.EncodeToString(h.Sum(nil)) != head.SHA256:
		return "", ErrChecksum
	}
	return head.Version, nil
}

// PeekHeader reads the first line of an image, and returns a reader of all of it.
func PeekHeader(r io.Reader) (head imageHeader, whole io.Reader, err error) {
	b := bufio.NewReaderSize(r, 64<<10)
	line, err := b.ReadSlice('\n')
	if err != nil || len(line) > maxHeader || json.Unmarshal(line, &head) != nil {
		return head, b, errNoImage
	}
	return head, io.MultiReader(bytes.NewReader(bytes.Clone(line)), b), nil
}
