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
		card := fmt.Sprintf("card: 1\nvendor: %s\nmodels: [%s]\nversion: %q\nfile: %s\nsha256: %x\n",
			r.Maker, strings.Join(r.Models, ", "), r.Version, r.File, sha256.Sum256(image.Bytes()))
		if len(r.Cautions) > 0 {
			card += "cautions:\n"
			for _, c := range r.Cautions {
				card += fmt.Sprintf("  - %q\n", c)
			}
		}
		name := strings.TrimSuffix(r.File, filepath.Ext(r.File)) + ".yaml"
		for _, f := range []struct {
			name string
			data []byte
		}{{r.File, image.Bytes()}, {name, []byte(card)}} {
			if err := os.WriteFile(filepath.Join(dir, f.name), f.data, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}
