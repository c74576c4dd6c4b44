package format

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"strings"
)

// A FIT is a devicetree blob (Devicetree Specification 0.4, 5): nodes with
// properties. Images are nodes below /images; their hash nodes name an algorithm and
// the digest of the image's data.
const (
	fdtBegin = 1
	fdtEnd   = 2
	fdtProp  = 3
	fdtNop   = 4
	fdtLast  = 9

	maxTokens  = 100_000
	maxRead    = 16 // times the file may be read in all: a few hashes of each byte
	maxDepth   = 16
	maxSmall   = 4 << 10  // bytes of a property that is read as a text or a digest
	maxStrings = 64 << 10 // bytes of the names of all properties
)

// image is a node below /images, or below a hash node of it.
type image struct {
	name             string
	data, size       int64 // where its data lies in the file; size -1: nowhere
	position, offset int64 // of data outside the tree; -1: not so
	hashes           []digestOf
}

type digestOf struct {
	algorithm string
	value     []byte
}

func fit(r io.ReaderAt, size int64) (Facts, error) {
	var facts Facts
	h := make([]byte, 40)
	if _, err := r.ReadAt(h, 0); err != nil {
		return facts, err
	}
	at := func(i int) int64 { return int64(binary.BigEndian.Uint32(h[4*i:])) }
	total, structs, names, nameBytes, structBytes := at(1), at(2), at(3), at(8), at(9)
	if total > size || structs+structBytes > total || names+nameBytes > total ||
		nameBytes > maxStrings {
		return facts, damaged("its header points beyond its end")
	}
	table := make([]byte, nameBytes)
	if _, err := r.ReadAt(table, names); err != nil && nameBytes > 0 {
		return facts, err
	}
	t := &tree{r: r, at: structs, end: structs + structBytes, names: table}
	images, err := t.images(&facts)
	if err != nil {
		return facts, err
	}
	budget := maxRead * size
	for _, i := range images {
		if budget -= i.size * int64(len(i.hashes)); budget < 0 {
			return facts, damaged("its images overlap, unlike in any real one")
		}
		if err := i.check(r, size, (total+3)&^3); err != nil {
			return facts, err
		}
	}
	return facts, nil
}

// tree reads the structure block token by token.
type tree struct {
	r       io.ReaderAt
	at, end int64
	names   []byte
}

func (t *tree) word() (uint32, error) {
	var b [4]byte
	if t.at+4 > t.end {
		return 0, damaged("its tree is truncated")
	}
	_, err := t.r.ReadAt(b[:], t.at)
	t.at += 4
	return binary.BigEndian.Uint32(b[:]), err
}

// bytes reads up to maxSmall bytes at the place, without moving on.
func (t *tree) bytes(n int64) ([]byte, error) {
	if n > t.end-t.at {
		return nil, damaged("its tree is truncated")
	}
	b := make([]byte, min(n, maxSmall))
	_, err := t.r.ReadAt(b, t.at)
	if err == io.EOF {
		err = nil
	}
	return b, err
}

func (t *tree) images(facts *Facts) ([]*image, error) {
	var path []string
	var out []*image
	for range maxTokens {
		token, err := t.word()
		if err != nil {
			return nil, err
		}
		switch token {
		case fdtBegin:
			raw, err := t.bytes(min(256, t.end-t.at))
			if err != nil {
				return nil, err
			}
			n := bytes.IndexByte(raw, 0)
			if n < 0 || len(path) >= maxDepth {
				return nil, damaged("its tree is invalid")
			}
			path = append(path, string(raw[:n]))
			t.at += int64(n+4) &^ 3
			switch {
			case len(path) == 3 && path[1] == "images":
				out = append(out, &image{name: path[2], size: -1, position: -1, offset: -1})
			case len(path) == 4 && path[1] == "images" && strings.HasPrefix(path[3], "hash") &&
				len(out) > 0:
				last := out[len(out)-1]
				last.hashes = append(last.hashes, digestOf{})
			}
		case fdtEnd:
			if len(path) == 0 {
				return nil, damaged("its tree is invalid")
			}
			path = path[:len(path)-1]
		case fdtProp:
			if err := t.property(path, out, facts); err != nil {
				return nil, err
			}
		case fdtNop:
		case fdtLast:
			return out, nil
		default:
			return nil, damaged("its tree has an unknown token")
		}
	}
	return nil, damaged("its tree is larger than any real one")
}

func (t *tree) property(path []string, images []*image, facts *Facts) error {
	size, err := t.word()
	if err != nil {
		return err
	}
	nameAt, err := t.word()
	if err != nil {
		return err
	}
	if int64(nameAt) >= int64(len(t.names)) {
		return damaged("its tree has a property without a name")
	}
	name, n := plainText(t.names[nameAt:]), int64(size)
	value, err := t.bytes(n)
	if err != nil {
		return err
	}
	number := func() int64 {
		if len(value) != 4 {
			return -1
		}
		return int64(binary.BigEndian.Uint32(value))
	}
	switch {
	case len(path) == 1 && name == "description":
		facts.Name = plainText(value)
	case len(path) == 3 && path[1] == "images" && len(images) > 0:
		i := images[len(images)-1]
		switch name {
		case "data":
			i.data, i.size = t.at, n
		case "data-size":
			i.size = number()
		case "data-position":
			i.position = number()
		case "data-offset":
			i.offset = number()
		}
	case len(path) == 4 && path[1] == "images" && len(images) > 0 &&
		len(images[len(images)-1].hashes) > 0:
		i := images[len(images)-1]
		d := &i.hashes[len(i.hashes)-1]
		switch name {
		case "algo":
			d.algorithm = plainText(value)
		case "value":
			d.value = value
		}
	}
	t.at += (n + 3) &^ 3
	return nil
}

var algorithms = map[string]func() hash.Hash{
	"crc32": func() hash.Hash { return crc32.NewIEEE() }, "md5": md5.New, "sha1": sha1.New,
	"sha256": sha256.New, "sha384": sha512.New384, "sha512": sha512.New,
}

func (i *image) check(r io.ReaderAt, size, after int64) error {
	from := i.data
	switch {
	case i.position >= 0:
		from = i.position
	case i.offset >= 0:
		from = after + i.offset
	}
	for _, d := range i.hashes {
		make, ok := algorithms[d.algorithm]
		if !ok || i.size < 0 {
			continue // of another kind, or of nothing
		}
		got, err := digest(make(), r, from, i.size, size)
		if err != nil {
			return err
		}
		if !bytes.Equal(got, d.value) {
			return fmt.Errorf("%w: the %s of image %q does not match", ErrDamaged, d.algorithm,
				i.name)
		}
	}
	return nil
}
