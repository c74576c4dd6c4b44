package shelf

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"sync"
)

// chunk is how many bytes of an image are verified at once.
const chunk = 64 << 10

// Sealed is an open image whose bytes are those that were hashed. The digest of each chunk is kept
// from the reading that verified the whole, and every later reading verifies the chunks that it
// touches before it hands anything on: if the file is changed while it is sent, no changed byte
// leaves. It is safe for concurrent use.
type Sealed struct {
	shelf  *Shelf
	digest string
	name   string
	file   *os.File
	size   int64
	sums   [][sha256.Size]byte // by chunk: 32 bytes for each 64 KiB
	at     int64               // of Read

	mu      sync.Mutex
	last    int64 // the chunk in buffer; -1: none
	buffer  []byte
	changed error
}

// seal reads an image whole. It returns ErrDamaged where the digest is another one.
func (s *Shelf) seal(f *os.File, digest, name string) (*Sealed, error) {
	x := &Sealed{shelf: s, digest: digest, name: name, file: f, last: -1, buffer: make([]byte, 0,
		chunk)}
	whole := sha256.New()
	piece := make([]byte, chunk)
	for {
		n, err := io.ReadFull(f, piece)
		if n > 0 {
			x.size += int64(n)
			x.sums = append(x.sums, sha256.Sum256(piece[:n]))
			write(whole, piece[:n])
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}
	if got := hex.EncodeToString(whole.Sum(nil)); got != digest {
		return nil, fmt.Errorf("%w: %s reads as %s…; add it to the shelf again", ErrDamaged, name,
			got[:12])
	}
	return x, nil
}

// write adds to a hash, which never fails.
func write(h hash.Hash, p []byte) { _, _ = h.Write(p) }

// ReadAt reads bytes that are those that were hashed. Its error is an ErrDamaged where they are not
// any more.
func (x *Sealed) ReadAt(p []byte, off int64) (n int, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for n < len(p) {
		at := off + int64(n)
		if at >= x.size {
			return n, io.EOF
		}
		if err := x.load(at / chunk); err != nil {
			return n, err
		}
		n += copy(p[n:], x.buffer[at%chunk:])
	}
	return n, nil
}

// load reads a chunk into the buffer and verifies it. x.mu is held.
func (x *Sealed) load(number int64) error {
	if x.changed != nil || number == x.last {
		return x.changed
	}
	from := number * chunk
	x.buffer, x.last = x.buffer[:min(chunk, x.size-from)], -1
	n, err := x.file.ReadAt(x.buffer, from)
	if n == len(x.buffer) {
		err = nil // what follows was not there
	}
	if err == nil && sha256.Sum256(x.buffer) == x.sums[number] {
		x.last = number
		return nil
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	x.changed = fmt.Errorf("%w: %s was changed while it was sent; the changed file is set aside",
		ErrDamaged, x.name)
	aside := Unknown{File: x.name, SHA256: x.digest, Size: x.size,
		Reason: "it was changed on the shelf while it was sent to a device"}
	if err := x.shelf.putAside(aside, x.shelf.imagePath(x.digest)); err != nil {
		x.changed = fmt.Errorf("%w: %s was changed while it was sent", ErrDamaged, x.name)
	}
	return x.changed
}

// Read reads on from where the last one ended.
func (x *Sealed) Read(p []byte) (int, error) {
	n, err := x.ReadAt(p, x.at)
	x.at += int64(n)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// Changed returns why the image was not handed on; nil: nothing was changed.
func (x *Sealed) Changed() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.changed
}

// Size returns the size of the image in bytes.
func (x *Sealed) Size() int64 { return x.size }

// Close closes the file.
func (x *Sealed) Close() error { return x.file.Close() }
