// Package schema has the JSON Schemas (2020-12) of all files that Catena reads or writes, by their
// kinds (Kind).
package schema

import (
	"encoding/json"
	"maps"
	"slices"

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
	"targets": fileSchema("targets"),
	"order":   fileSchema("order"), "manifest": fileSchema("manifest")}

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
	schema.Title = title
	return json.MarshalIndent(schema, "", "  ")
}
