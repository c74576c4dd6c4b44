package sim

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// WriteImages writes the scenario's images and their cards into a folder.
func WriteImages(dir string, s Scenario) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, r := range s.Images {
		var image bytes.Buffer
		if err := Image(&image, r.Maker, r.Models, r.Version, r.Bytes); err != nil {
			return err
		}
		stem := strings.TrimSuffix(r.File, filepath.Ext(r.File))
		files := map[string][]byte{r.File: image.Bytes()}
		if r.Notes != "" {
			files[stem+".md"] = []byte(r.Notes)
		}
		if !r.Bare {
			files[stem+".yaml"] = []byte(r.card(stem, sha256.Sum256(image.Bytes())))
		}
		for name, data := range files {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r ImageRecipe) card(stem string, digest [sha256.Size]byte) string {
	var b strings.Builder
	fmt.Fprintf(&b, "card: 1\nvendor: %s\nmodels: [%s]\nversion: %q\nfile: %s\nsha256: %x\n", r.Maker, strings.Join(r.Models, ", "), r.Version, r.File, digest)
	for _, k := range [][2]string{{"needs", r.Needs}, {"status", r.Status}, {"because", r.Because}} {
		if k[1] != "" {
			fmt.Fprintf(&b, "%s: %q\n", k[0], k[1])
		}
	}
	if r.Notes != "" {
		fmt.Fprintf(&b, "notes: %s.md\n", stem)
	}
	if len(r.Cautions) > 0 {
		b.WriteString("cautions:\n")
		for _, c := range r.Cautions {
			fmt.Fprintf(&b, "  - %q\n", c)
		}
	}
	return b.String()
}
