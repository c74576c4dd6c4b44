package care

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"

	"catena/internal/atomicfile"
	"catena/internal/contact"
	"catena/internal/files"
	"catena/internal/place"
	"catena/internal/site"
)

// Copy copies the saves that a second place does not have yet, those of earlier times as well, to
// where site.yaml specifies; they are encrypted there as here. It returns how many it copied.
func Copy(ctx context.Context, x *contact.Access, dir string, s site.Site) (copied int, err error) {
	to := s.SecondPlace
	own := filepath.Join(dir, SettingsFolder)
	folders, err := os.ReadDir(own)
	if to == "" || errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	at, err := place.Open(ctx, to, place.Contact{Login: x.Book.At, Trust: x.TrustFirst})
	if err != nil {
		return 0, err
	}
	defer at.Close()
	for _, f := range folders {
		if !f.IsDir() {
			continue
		}
		saves, err := files.In(filepath.Join(own, f.Name()), "*.age")
		if err != nil {
			return copied, err
		}
		in := path.Join(atomicfile.Word(s.Name), f.Name())
		there, err := at.Names(in)
		if err != nil {
			return copied, err
		}
		for _, save := range saves {
			if slices.Contains(there, filepath.Base(save)) {
				continue
			}
			raw, err := os.ReadFile(save)
			if err == nil {
				err = ctx.Err()
			}
			if err == nil {
				err = at.Put(path.Join(in, filepath.Base(save)), bytes.NewReader(raw))
			}
			if err != nil {
				return copied, err
			}
			copied++
		}
	}
	return copied, nil
}
