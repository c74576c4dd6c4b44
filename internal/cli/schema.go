package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"
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
		Long: `Print the JSON Schema (2020-12) of a kind of file, with which an editor completes keys and
marks mistakes while a person types: site, targets, order, manifest, family; or of what programs
read: event (track --format json --follow), report, tell (what a webhook is sent) and recording.
The files that Catena writes name theirs in the first line, and the site folder has them in
.catena/schemas.`,
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
	return written("What track --format json --follow prints, a line each", job.Event{})
}

func reportSchema() ([]byte, error) {
	return written("What report --out FILE.json writes", report.Report{})
}

func recordingSchema() ([]byte, error) {
	return written("What family try --record writes", scripted.Recording{})
}

func tellSchema() ([]byte, error) {
	return written("What a webhook or a command of tell: is sent", notify.Event{})
}

// written is the JSON Schema of a type as encoding/json writes it. Fields may be added later.
func written(title string, of any) ([]byte, error) {
	r := jsonschema.Reflector{AllowAdditionalProperties: true, Anonymous: true}
	schema := r.Reflect(of)
	schema.Title = title
	return json.MarshalIndent(schema, "", "  ")
}
