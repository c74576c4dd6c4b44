package yamldoc

import (
	"reflect"
	"strings"
	"time"
)

// Schema is a JSON Schema (2020-12), or a part of one.
type Schema map[string]any

// SchemaOf describes a struct as a YAML file has it, by its yaml tags: other keys are refused.
// Types that are written in their own way are given in special.
func SchemaOf(t reflect.Type, special map[reflect.Type]Schema) Schema {
	if s := special[t]; s != nil {
		return s
	}
	switch t.Kind() {
	case reflect.Pointer:
		return SchemaOf(t.Elem(), special)
	case reflect.Bool:
		return Schema{"type": "boolean"}
	case reflect.Slice, reflect.Array:
		return Schema{"type": "array", "items": SchemaOf(t.Elem(), special)}
	case reflect.Map:
		return Schema{"type": "object", "additionalProperties": SchemaOf(t.Elem(), special)}
	case reflect.Struct:
		properties := Schema{}
		for i := range t.NumField() {
			f := t.Field(i)
			name, rest, _ := strings.Cut(f.Tag.Get("yaml"), ",")
			switch {
			case strings.Contains(rest, "inline"):
				for k, v := range SchemaOf(f.Type, special)["properties"].(Schema) {
					properties[k] = v
				}
			case name != "" && name != "-":
				properties[name] = SchemaOf(f.Type, special)
			}
		}
		return Schema{"type": "object", "additionalProperties": false, "properties": properties}
	case reflect.Int64:
		if t == reflect.TypeFor[time.Duration]() {
			return Duration
		}
		return Schema{"type": "integer"}
	case reflect.Int, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return Schema{"type": "integer"}
	}
	return Scalar // 1.10 is a text here
}

// Scalar is a text, however it is written: 1.10 and yes are texts, too. Duration is one as 30s.
var (
	Scalar   = Schema{"type": []string{"string", "number", "boolean"}}
	Duration = Schema{"type": "string", "pattern": `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`}
)
