package family

import (
	"encoding/json"
	"maps"
	"reflect"

	"catena/internal/yamldoc"
)

type schema = yamldoc.Schema

// Schema is the JSON Schema (2020-12) of family files, for editors. It is made of the words that
// the parser itself knows; what a program promises and does not hold only the parser finds.
func Schema() ([]byte, error) {
	out := yamldoc.SchemaOf(reflect.TypeFor[Family](), nil)
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["title"] = "a family file of Catena"
	out["required"] = []string{"family", "vendor", "models"}
	properties := out["properties"].(schema)
	children, step := schema{}, schema{}
	for _, k := range keys {
		shape := k.shape
		if k.in&inFile != 0 {
			shape, _ = properties[k.name].(schema)
		}
		shape = maps.Clone(shape)
		if shape == nil {
			shape = schema{}
		}
		shape["description"] = k.help
		if k.in&(inFile|inProgram) != 0 {
			properties[k.name] = shape
		}
		if k.in&(inChildren|ofChildren) != 0 {
			children[k.name] = shape
		}
		if k.in&(asWord|inStep) != 0 {
			step[k.name] = shape
		}
	}
	own := keyed(children, "family", "models", "list")
	maps.Copy(properties["children"].(schema), own)
	var does []schema
	for _, word := range names(asWord) {
		does = append(does, schema{"required": []string{word}})
	}
	out["$defs"] = schema{"step": schema{"type": "object", "additionalProperties": false,
		"properties": step, "oneOf": does}}
	return json.MarshalIndent(out, "", "  ")
}

func oneOf(words ...string) schema { return schema{"enum": words} }

func keyed(properties schema, required ...string) schema {
	s := schema{"type": "object", "additionalProperties": false, "properties": properties}
	if len(required) > 0 {
		s["required"] = required
	}
	return s
}
