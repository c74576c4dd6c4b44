package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

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

// schemaKinds are their names.
func schemaKinds() []string { return slices.Sorted(maps.Keys(schemas)) }

func (a *app) schemaCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "schema KIND",
		Short: "Print the JSON Schema of a kind of file",
		Long: `Print the JSON Schema (2020-12) of a kind of file, with which an editor completes keys and marks
mistakes while a person types: site, targets, order, manifest, family; or of what programs read: event (track
--format json --follow), report, tell (what a webhook is sent) and recording. The files that Catena writes name
theirs in the first line, and the site folder has them in .catena/schemas.`,
		Example: "  catena schema site > site.schema.json\n  catena schema family > family.schema.json",
		Args:    exactly(1, "a kind of file: "+strings.Join(schemaKinds(), ", ")),
		RunE: func(_ *cobra.Command, args []string) error {
			schema, ok := schemas[args[0]]
			if !ok {
				return usage("there is no schema of %q; there are %s", args[0],
					strings.Join(schemaKinds(), ", "))
			}
			raw, err := schema()
			if err == nil {
				_, err = fmt.Fprintf(a.out, "%s\n", raw)
			}
			return err
		},
	}
}

func eventSchema() ([]byte, error) {
	return written("What track --format json --follow prints, a line each", reflect.TypeFor[job.Event]())
}

func reportSchema() ([]byte, error) {
	return written("What report --out FILE.json writes", reflect.TypeFor[report.Report]())
}

func recordingSchema() ([]byte, error) {
	return written("What family try --record writes", reflect.TypeFor[scripted.Recording]())
}

func tellSchema() ([]byte, error) {
	return written("What a webhook or a command of tell: is sent", reflect.TypeFor[notify.Event]())
}

// written is the JSON Schema of a type as encoding/json writes it. Fields may be added later.
func written(title string, t reflect.Type) ([]byte, error) {
	shape := shapeOf(t, 0)
	shape["$schema"], shape["title"] = "https://json-schema.org/draft/2020-12/schema", title
	return json.MarshalIndent(shape, "", "  ")
}

// deepest bounds a type that holds itself, such as a reason that has a reason.
const deepest = 8

func shapeOf(t reflect.Type, depth int) map[string]any {
	switch {
	case t == reflect.TypeFor[time.Time]():
		return map[string]any{"type": "string", "format": "date-time"}
	case t.Kind() == reflect.Pointer:
		return shapeOf(t.Elem(), depth)
	case depth > deepest:
		return map[string]any{}
	}
	switch t.Kind() {
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	case reflect.Slice:
		return map[string]any{"type": []string{"array", "null"}, "items": shapeOf(t.Elem(), depth+1)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": shapeOf(t.Elem(), depth+1)}
	case reflect.Struct:
		fields, required := map[string]any{}, []string{}
		for f := range t.Fields() {
			name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name == "-" || !f.IsExported() {
				continue
			}
			fields[name] = shapeOf(f.Type, depth+1)
			if options == "" {
				required = append(required, name)
			}
		}
		return map[string]any{"type": "object", "properties": fields, "required": required}
	}
	return map[string]any{}
}
