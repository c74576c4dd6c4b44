// Package schema has the JSON Schemas (2020-12) of all files that Catena reads or writes, by their
// kinds (Kind).
package schema

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/job"
	"catena/internal/notify"
	"catena/internal/report"
	"catena/internal/workspace"
)

// schemas are the kinds of files that have a JSON Schema.
var schemas = map[string]func() ([]byte, error){"family": family.Schema, "event": eventSchema,
	"report": reportSchema,
	"tell":   tellSchema, "recording": recordingSchema, "site": fileSchema("site"),
	"targets": fileSchema("targets"), "inventory": fileSchema("inventory"),
	"order": fileSchema("order"), "manifest": fileSchema("manifest")}

func fileSchema(kind string) func() ([]byte, error) {
	return func() ([]byte, error) { return workspace.FileSchema(kind) }
}

// Kinds returns the names of all kinds of files that have a schema, sorted.
func Kinds() []string { return slices.Sorted(maps.Keys(schemas)) }

// Kind returns what makes the schema of a kind of file; false: there is none.
func Kind(name string) (schema func() ([]byte, error), has bool) {
	schema, has = schemas[name]
	return schema, has
}

func eventSchema() ([]byte, error) {
	return written("The events of track --format json --follow, one per line", job.Event{})
}

func reportSchema() ([]byte, error) {
	return written("The report of report --out FILE.json", report.Report{})
}

func recordingSchema() ([]byte, error) {
	return written("A recording of family try --record", scripted.Recording{})
}

func tellSchema() ([]byte, error) {
	return written("A notification to a webhook or a command of tell:", notify.Event{})
}

// written is the JSON Schema of a type as encoding/json writes it. Fields may be added later.
func written(title string, of any) ([]byte, error) {
	r := jsonschema.Reflector{AllowAdditionalProperties: true, Anonymous: true}
	schema := r.Reflect(of)
	optional(schema, reflect.TypeOf(of))
	schema.Title = title
	return json.MarshalIndent(schema, "", "  ")
}

// optional takes the fields that are left out while they are zero (omitzero) off the required ones.
func optional(s *jsonschema.Schema, of reflect.Type) {
	seen := map[reflect.Type]bool{}
	var walk func(t reflect.Type)
	walk = func(t reflect.Type) {
		for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct || seen[t] {
			return
		}
		seen[t] = true
		for f := range t.Fields() {
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			if d := s.Definitions[t.Name()]; d != nil && strings.Contains(options, "omitzero") {
				d.Required = slices.DeleteFunc(d.Required, func(r string) bool { return r == name })
			}
			walk(f.Type)
		}
	}
	walk(of)
}
