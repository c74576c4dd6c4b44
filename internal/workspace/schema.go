package workspace

import (
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"time"

	"github.com/goccy/go-yaml"

	"catena/internal/atomicfile"
	"catena/internal/firmware"
	"catena/internal/inventory"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/site"
	"catena/internal/yamldoc"
)

// shapes are the kinds of files that a person writes, besides families, and what each must have.
var shapes = map[string]struct {
	title    string
	of       reflect.Type
	required []string
}{
	"site": {"the site file of Catena, site.yaml", reflect.TypeFor[site.Site](), []string{"site"}},
	"targets": {"the targets of a site of Catena, targets.yaml", reflect.TypeFor[struct {
		Targets []site.Target `yaml:"targets"`
	}](), []string{"targets"}},
	"inventory": {"the inventory of a site of Catena, inventory.yaml",
		reflect.TypeFor[inventory.Content](), []string{"devices"}},
	"order": {"a work order of Catena", reflect.TypeFor[order.Order](),
		[]string{"order", "name", "purpose", "devices"}},
	"manifest": {"the manifest of an image", reflect.TypeFor[firmware.Manifest](),
		[]string{"manifest", "vendor", "models", "version", "file"}},
}

// FileSchema is the JSON Schema (2020-12) of a kind of file: site, targets, inventory, order or
// manifest; nil: there is no such kind.
func FileSchema(kind string) ([]byte, error) {
	shape, has := shapes[kind]
	if !has {
		return nil, nil
	}
	words := func(of ...string) yamldoc.Schema { return yamldoc.Schema{"enum": of} }
	s := yamldoc.SchemaOf(shape.of, map[reflect.Type]yamldoc.Schema{
		reflect.TypeFor[time.Time](): {"type": "string"},
		reflect.TypeFor[yaml.MapSlice](): {"type": "object",
			"additionalProperties": yamldoc.Scalar},
		reflect.TypeFor[firmware.Advice]():   words("recommended", "superseded", "withdrawn", ""),
		reflect.TypeFor[firmware.Settings](): words("kept", "cleared", "converted", ""),
		reflect.TypeFor[order.Purpose]():     words(string(order.Forward), string(order.Backward)),
	})
	s["$schema"], s["title"], s["required"] = "https://json-schema.org/draft/2020-12/schema",
		shape.title, shape.required
	return json.MarshalIndent(s, "", "  ")
}

// schemasFolder is where a site folder keeps the schemas of its files, for editors.
var schemasFolder = filepath.Join(ledger.Folder, "schemas")

// ForEditors is the line by which an editor finds the schema of a file of the site folder, which is
// written there where it is not, or is another Catena's. up leads from the file to the site folder:
// empty, or ../. Without a schema there is no line: a file without one is not refused.
func ForEditors(dir, kind, up string) string {
	raw, err := FileSchema(kind)
	if err != nil {
		return ""
	}
	folder := filepath.Join(dir, schemasFolder)
	path := filepath.Join(folder, kind+".json")
	if had, err := os.ReadFile(path); err != nil || string(had) != string(raw) {
		if os.MkdirAll(folder, 0o755) != nil || atomicfile.Replace(path, raw, 0o644) != nil {
			return ""
		}
	}
	return "# yaml-language-server: $schema=" + up + filepath.ToSlash(filepath.Join(schemasFolder,
		kind+".json")) + "\n"
}
