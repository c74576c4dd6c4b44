package family

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"

	"catena/internal/settings"
	"catena/internal/yamldoc"
)

type schema = yamldoc.Schema

// Schema is the JSON Schema (2020-12) of family files, for editors. It is made of the words that the
// parser itself knows; what a program promises and does not hold only the parser finds.
func Schema() ([]byte, error) {
	out := yamldoc.SchemaOf(reflect.TypeFor[Family](), nil)
	out["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	out["title"] = "a family file of Catena"
	out["required"] = []string{"family", "vendor", "models"}
	programShapes, childShapes, stepShapes := shapes()
	properties := out["properties"].(schema)
	for _, key := range programKeys {
		properties[key] = withHelp(key, programShapes[key])
	}
	children := schema{}
	for _, key := range sharedKeys {
		children[key] = properties[key]
	}
	for _, key := range childKeys {
		children[key] = withHelp(key, childShapes[key])
	}
	properties["children"] = withHelp("children", keyed(children, "family", "models", "list"))
	step := schema{}
	for _, key := range slices.Concat(stepWords, stepKeys) {
		step[key] = withHelp(key, stepShapes[key])
	}
	var does []schema
	for _, word := range stepWords {
		does = append(does, schema{"required": []string{word}})
	}
	out["$defs"] = schema{"step": schema{"type": "object", "additionalProperties": false,
		"properties": step, "oneOf": does}}
	return json.MarshalIndent(out, "", "  ")
}

func withHelp(key string, shape schema) schema {
	if help[key] == "" {
		return shape
	}
	shape = maps.Clone(shape)
	shape["description"] = help[key]
	return shape
}

func oneOf(words ...string) schema { return schema{"enum": words} }

func keyed(properties schema, required ...string) schema {
	s := schema{"type": "object", "additionalProperties": false, "properties": properties}
	if len(required) > 0 {
		s["required"] = required
	}
	return s
}

// shapes are those of what stands behind a key: of a program, of children, of a step. They are made when
// someone asks for them, and not at each start.
func shapes() (program, child, step map[string]schema) {
	scalar := yamldoc.Scalar
	names := schema{"type": "object", "additionalProperties": scalar}
	yes := schema{"type": "boolean"}
	steps := schema{"type": "array", "items": schema{"$ref": "#/$defs/step"}}
	anyOf := func(all ...schema) schema { return schema{"anyOf": all} }
	withSteps := keyed(schema{"update": steps, "restart": steps})

	programShapes := map[string]schema{
		"protocol": oneOf(protocols[:3]...), "ports": {"type": "array", "items": schema{"type": "integer",
			"minimum": 1, "maximum": 65535}},
		"secrets": {"type": "object", "additionalProperties": oneOf("reading", "writing")}, "names": names,
		"wire": keyed(schema{"header": names, "error": scalar}), "recognise": steps, "login": steps,
		"logout": steps, "read": steps, "update": steps, "restart": steps, "revert": steps,
		"enter": keyed(schema{"for": oneOf("reading", "writing"), "steps": steps}, "steps"),
		"leave": keyed(schema{"steps": steps, "expect": scalar}, "steps"),
		"state": keyed(schema{"busy": scalar, "away": scalar, "pending": scalar, "idle": scalar, "uptime": scalar,
			"well": scalar, "why": scalar}),
		"interlocks": {"type": "array", "items": keyed(schema{"holds": scalar, "else": scalar}, "holds", "else")},
		"restarts":   {"type": "integer", "minimum": 1, "maximum": 10},
		"components": {"type": "object", "additionalProperties": withSteps},
		"address":    steps,
		"settings":   keyed(schema{"format": schema{"enum": settings.Formats}, "save": steps, "restore": steps, "renamed": names}, "save"),
		"carry": {"type": "array", "items": keyed(schema{"value": scalar, "read": steps, "write": steps},
			"value", "read", "write")},
		"blink":    keyed(schema{"shows": scalar, "steps": steps}, "steps"),
		"children": {}, // Schema makes it of all others
	}
	childShapes := map[string]schema{
		"list": steps, "identity": {"type": "array", "items": scalar}, "parallel": {"type": "integer",
			"minimum": 1, "maximum": 1000}, "goes": oneOf("first", "last"),
		"store": keyed(schema{"steps": steps, "has": scalar}, "steps"),
	}
	stepShapes := map[string]schema{
		"get": anyOf(scalar, names), "put": scalar, "post": scalar, "patch": scalar, "delete": scalar,
		"upload": scalar, "offer": oneOf("http", "tftp"), "run": scalar, "set": names,
		"poll": anyOf(scalar, names), "wait": yamldoc.Duration, "ask": scalar,
		"protocol": scalar, "on": scalar, "from": scalar, "query": names, "header": names, "json": {},
		"form": names, "xml": scalar, "text": scalar, "ini": scalar, "raw": scalar, "multipart": names, "chunks": scalar, "take": names,
		"outcome": names, "when": scalar, "within": yamldoc.Duration, "expect": scalar, "until": scalar,
		"fail": scalar, "percent": scalar, "gone": yes, "repeat": yes, "writes": yes, "reply": names,
		"shell": oneOf("posix", "none"), "steps": steps, "each": scalar, "occupies": yes,
	}
	return programShapes, childShapes, stepShapes
}

// help is what an editor shows of a key.
var help = map[string]string{
	"protocol":   "how it is talked to, where a step does not say: http, ssh, snmp; beside a step also https and tftp, with a port: ssh:2222",
	"ports":      "where such devices usually answer",
	"secrets":    "what the login must have besides user and password, and whether it goes out to read or only to write",
	"names":      "objects of SNMP that steps call by these names",
	"wire":       "what goes with every request, and where the device says why it refuses",
	"recognise":  "steps without a login that tell these devices from others",
	"login":      "steps that start a session",
	"logout":     "steps that end a session",
	"enter":      "steps before the device is worked on",
	"leave":      "steps that undo enter, whatever the end; expect holds after them",
	"read":       "steps that take the version, and whatever the rest of the file names",
	"state":      "what the values taken mean",
	"interlocks": "what must hold right before the first byte, and the sentence for the person",
	"update":     "steps that send an image",
	"restart":    "steps that start what was sent; none: it restarts automatically",
	"restarts":   "how often it restarts until it runs the image",
	"revert":     "steps that switch back to the other slot",
	"components": "the steps of components that are updated another way",
	"settings":   "steps that take the settings, and those that give them back",
	"carry":      "single values that are read before an update and written after it, in this order",
	"address":    "steps that give it another address: $address.ip .prefix .mask .gateway .name",
	"raw":        "one value, byte by byte",
	"blink":      "steps that make it show itself; $on is true to start",
	"upload":     "PUT or POST and a path; of ssh and tftp a remote path",
	"offer":      "the device fetches the image from Catena: steps make it do so",
	"run":        "a command over SSH",
	"set":        "objects of SNMP and their types and values: int, text, address, hex",
	"poll":       "asked again until",
	"ask":        "what a person has to do; until says how the device shows that it was done",
	"occupies":   "of ask: the device keeps its place meanwhile, and its parent is busy",
	"on":         "another device of the site that the step goes to, with its own login",
	"from":       "how many bytes of the image the device has already",
	"chunks":     "the size of one request of an upload, such as 1MiB",
	"take":       "what is kept of the answer: NAME: [secret] [type] FROM [or DEFAULT]",
	"outcome":    "what an answer means, by status or condition: ok done again image login credential locked new-password no-right refused changed away",
	"children":   "the family of the devices that are reached only through one of these",
	"list":       "steps that read which there are; one has each:",
	"identity":   "the values that tell one child from all others; left out: serial",
	"parallel":   "how many of one parent's children are worked on at a time",
	"goes":       "before their parent's own update, or after it",
	"store":      "steps that leave an image with the parent, once for all; has: it has that already",
	"each":       "where in the answer each child is, as JSONPath, XPath or ~ RE2; take takes of each of them",
	"when":       "the condition under which the step is taken",
	"expect":     "what must hold after it",
	"within":     "how long it may take with its repeats",
	"gone":       "that the device goes away is a good end",
	"repeat":     "it may be sent once more when its answer was lost",
	"writes":     "from here on the device may be writing",
	"reply":      "questions of a command, as RE2, and what is typed there",
	"shell":      "none: the device has no shell that quotes; values must be plain",
}
