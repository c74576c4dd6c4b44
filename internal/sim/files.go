package sim

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"catena/internal/sim/standin"
)

//go:embed families/*.yaml
var families embed.FS

// Families are the family files of the demo's makers, as a person would have written them, by
// file name. No maker is known to the program without them.
func Families() map[string][]byte {
	out := map[string][]byte{}
	entries, err := families.ReadDir("families")
	if err != nil {
		panic(err) // it is built in
	}
	for _, e := range entries {
		out[e.Name()], err = families.ReadFile("families/" + e.Name())
		if err != nil {
			panic(err)
		}
	}
	return out
}

// WriteFamilies writes the family files into a folder.
func WriteFamilies(dir string) error {
	err := os.MkdirAll(dir, 0o755)
	for name, text := range Families() {
		err = errors.Join(err, os.WriteFile(filepath.Join(dir, name), text, 0o644))
	}
	return err
}

// WriteImages writes the scenario's images into a folder, as their makers would
// give them out: with manifests or without, alone or in a bundle.
func WriteImages(dir string, s Scenario) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	bundles := map[string]*bundle{}
	for _, r := range s.Images {
		put := func(name string, data []byte) error {
			return os.WriteFile(filepath.Join(dir, name), data, 0o644)
		}
		if r.Bundle != "" {
			if bundles[r.Bundle] == nil {
				f, err := os.Create(filepath.Join(dir, r.Bundle))
				if err != nil {
					return err
				}
				bundles[r.Bundle] = &bundle{f, zip.NewWriter(f)}
			}
			put = bundles[r.Bundle].put
		}
		if err := r.write(put); err != nil {
			return err
		}
	}
	for _, b := range bundles {
		if err := errors.Join(b.zip.Close(), b.file.Close()); err != nil {
			return err
		}
	}
	return nil
}

// bundle is a zip file that is being written.
type bundle struct {
	file *os.File
	zip  *zip.Writer
}

func (b *bundle) put(name string, data []byte) error {
	w, err := b.zip.Create(name)
	if err == nil {
		_, err = w.Write(data)
	}
	return err
}

func (r ImageRecipe) write(put func(name string, data []byte) error) error {
	var image bytes.Buffer
	if err := standin.Image(&image, r.Maker, r.Models, r.Part, r.Version, r.Bytes); err != nil {
		return err
	}
	stem := strings.TrimSuffix(r.File, filepath.Ext(r.File))
	err := put(r.File, image.Bytes())
	if err == nil && r.Notes != "" {
		err = put(stem+".md", []byte(r.Notes))
	}
	if err == nil && !r.Bare {
		err = put(stem+".yaml", []byte(r.manifest(stem, sha256.Sum256(image.Bytes()))))
	}
	return err
}

func (r ImageRecipe) manifest(stem string, digest [sha256.Size]byte) string {
	var b strings.Builder
	fmt.Fprintf(&b, "manifest: 1\nvendor: %q\nmodels: [%s]\nversion: %q\nfile: %s\nsha256: %x\n",
		r.Maker, strings.Join(r.Models, ", "), r.Version, r.File, digest)
	for _, k := range [][2]string{{"component", r.Part}, {"needs", r.Needs}, {"advice", r.Advice},
		{"because", r.Because}} {
		if k[1] != "" {
			fmt.Fprintf(&b, "%s: %q\n", k[0], k[1])
		}
	}
	if len(r.After) > 0 {
		fmt.Fprintf(&b, "after: [%s]\n", strings.Join(r.After, ", "))
	}
	if len(r.Pairs) > 0 {
		b.WriteString("pairs:\n")
		for name, constraint := range r.Pairs {
			fmt.Fprintf(&b, "  %s: %q\n", name, constraint)
		}
	}
	if r.Notes != "" {
		fmt.Fprintf(&b, "notes: %s.md\n", stem)
	}
	if r.Settings != "" {
		fmt.Fprintf(&b, "settings: %s\n", r.Settings)
	}
	if r.Takes != "" {
		fmt.Fprintf(&b, "takes: %s\n", r.Takes)
	}
	if len(r.Cautions) > 0 {
		b.WriteString("cautions:\n")
		for name, text := range r.Cautions {
			fmt.Fprintf(&b, "  %s: %q\n", name, text)
		}
	}
	return b.String()
}
