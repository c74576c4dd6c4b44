package family

import (
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"catena/internal/settings"
	"catena/internal/text"
	"catena/internal/yamldoc"
)

// place is where a key may be written.
type place uint8

const (
	inFile     place = 1 << iota // of the file, read by its type (Family)
	inProgram                    // of the file: how devices are talked to
	inChildren                   // in children:, too
	ofChildren                   // in children: alone
	asWord                       // says what a step does
	inStep                       // stands beside the word of a step
)

// key is a key of the family language. The table of keys is the only list of them: the parser, the
// schema, the help of editors, the manual's test and the completion are made of it. A new key is
// one row here, and what the row's reader calls.
type key struct {
	name  string
	in    place
	help  string      // what an editor shows
	shape schema      // of what is written after it
	by    string      // asWord: the protocols; "all": whatever the protocol
	with  string      // inStep: the words that it belongs to; empty: any
	read  readProgram // inProgram, ofChildren: in the table's order; nil: read with another key
	step  readStep    // asWord and inStep: likewise
}

type (
	readProgram func(p *parser, at ast.Node, all map[string]ast.Node)
	readStep    func(p *parser, at ast.Node, s *Step, all map[string]ast.Node)
)

// Shapes that several keys have.
var (
	scalar   = yamldoc.Scalar
	texts    = schema{"type": "object", "additionalProperties": scalar}
	yes      = schema{"type": "boolean"}
	steps    = schema{"type": "array", "items": schema{"$ref": "#/$defs/step"}}
	anything = schema{}
	objects  = schema{"anyOf": []schema{scalar, texts}}
)

func integer(most int) schema { return schema{"type": "integer", "minimum": 1, "maximum": most} }

var interlocks = list(keyed(schema{"holds": scalar, "else": scalar}, "holds", "else"))

func list(of schema) schema { return schema{"type": "array", "items": of} }

// stepsOf reads a key that holds steps into a place of the program.
func stepsOf(into func(*Program) *[]*Step) readProgram {
	return func(p *parser, at ast.Node, _ map[string]ast.Node) { *into(p.program) = p.steps(at) }
}

// conditionOf and yesOf read a key of a step that holds a condition, or true or false.
func conditionOf(into func(*Step) **Expr) readStep {
	return func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.condition(at, into(s)) }
}

func yesOf(name string, into func(*Step) *bool) readStep {
	return func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { *into(s) = p.yes(at, name) }
}

// bodyOf reads a key that a request carries; at most one of them.
func bodyOf(kind string) readStep {
	return carried(kind, func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
		p.body(kind, at, s)
	})
}

// carried refuses a key that goes with a request where the step's request cannot carry it.
func carried(key string, read readStep) readStep {
	return func(p *parser, at ast.Node, s *Step, all map[string]ast.Node) {
		inAddress := key == "query" || key == "header"
		alone := key == "raw" && s.Kind == Upload
		if !alone && (s.Method == "" || s.Method == "GET" && !inAddress) {
			p.fail(at, "%s: cannot be combined with %s of protocol: %s", key, s.Word, s.Protocol)
		}
		read(p, at, s, all)
	}
}

// target reads the word of a step that sends a request.
func target(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.target(at, s) }

const web = "http https"

// maxShows is how long a sentence about what is seen at a device may be, in bytes.
const maxShows = 200

// keys are all keys, in the order in which they are read.
var keys []key

func init() {
	keys = []key{
		{name: "family", in: inFile | inChildren, help: "the name of the family"},
		{name: "vendor", in: inFile | inChildren, help: "the maker, as devices report it"},
		{name: "models", in: inFile | inChildren, help: "the models, as devices report them"},
		{name: "versions", in: inFile | inChildren, help: "how version strings sort"},
		{name: "images", in: inFile | inChildren, help: "how images of the family are recognised"},
		{name: "plain_basic", in: inFile, help: "passwords may be sent without TLS"},
		{name: "lockout", in: inFile, help: "the number of wrong logins after which a device locks"},
		{name: "default_login", in: inFile,
			help: "the user and password of such a device before someone changes them"},
		{name: "patience", in: inFile | inChildren, help: "how long devices may take in a step"},
		{name: "cautions", in: inFile | inChildren,
			help: "cautions to accept before an update, by name"},
		{name: "kind", in: inFile | inChildren,
			help: "what the devices are: camera, recorder, switch, controller, gateway, sensor ..."},
		{name: "from", in: inFile | inChildren, help: "the maker's page with its images"},

		{name: "protocol", in: inProgram, shape: oneOf(fileProtocols...),
			help: "the protocol of steps that do not name one: http, ssh, snmp, bacnet",
			read: nil}, // read first, whether it is there or not
		{name: "secrets", in: inProgram,
			shape: schema{"type": "object", "additionalProperties": oneOf("reading", "writing")},
			help:  "secrets of the login besides user and password, and where each is sent",
			read:  func(p *parser, at ast.Node, _ map[string]ast.Node) { p.secrets(at) }},
		{name: "names", in: inProgram, shape: texts,
			help: "names for SNMP objects",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.objectNames(at) }},
		{name: "terminal", in: inProgram, shape: keyed(schema{"prompt": scalar, "pages": texts},
			"prompt"),
			help: "commands are typed into one shell: its prompt, as RE2, and the keys for further pages",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.terminal(at) }},
		{name: "ports", in: inProgram, shape: list(integer(65535)),
			help: "the usual ports of such devices",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.ports(at) }},
		{name: "wire", in: inProgram, shape: keyed(schema{"header": texts, "error": scalar}),
			help: "headers of every request, and where the device reports why it refuses",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.wire(at) }},
		{name: "recognise", in: inProgram, shape: steps,
			help: "steps without a login that recognise these devices",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Recognise })},
		{name: "login", in: inProgram, shape: steps, help: "steps that start a session",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Login })},
		{name: "logout", in: inProgram, shape: steps, help: "steps that end a session",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Logout })},
		{name: "enter", in: inProgram, help: "steps before the device is updated",
			shape: keyed(schema{"for": oneOf("reading", "writing"), "steps": steps}, "steps"),
			read: func(p *parser, at ast.Node, all map[string]ast.Node) {
				p.entry(at, all["leave"])
			}},
		{name: "leave", in: inProgram, shape: keyed(schema{"steps": steps, "expect": scalar}, "steps"),
			help: "steps that undo enter, whatever the outcome; expect holds after them",
			read: func(p *parser, at ast.Node, all map[string]ast.Node) {
				if all["enter"] == nil {
					p.entry(nil, at)
				}
			}},
		{name: "address", in: inProgram, shape: steps,
			help: "steps that set another address: $address.ip .prefix .mask .gateway .name",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) {
				p.program.Address = p.steps(at)
				p.program.AddressNames = strings.Contains(at.String(), "address.name")
			}},
		{name: "list", in: ofChildren, shape: steps,
			help: "steps that list the children; one has each:",
			read: nil}, // read first, whether it is there or not
		{name: "identity", in: ofChildren, shape: list(scalar),
			help: "the values that identify a child (default: serial)"},
		{name: "parallel", in: ofChildren, shape: integer(1000),
			help: "how many children of one parent are updated at a time"},
		{name: "goes", in: ofChildren, shape: oneOf("first", "last"),
			help: "before their parent's own update, or after it"},
		{name: "store", in: ofChildren, shape: keyed(schema{"steps": steps, "has": scalar}, "steps"),
			help: "steps that store an image on the parent, once for all children; has: it is " +
				"there already"},
		{name: "read", in: inProgram | inChildren, shape: steps,
			help: "steps that extract the version and the other values that the file uses",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Read })},
		{name: "update", in: inProgram | inChildren, shape: steps, help: "steps that send an image",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Update })},
		{name: "restart", in: inProgram | inChildren, shape: steps,
			help: "steps that start the sent image; none: it restarts automatically",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Restart })},
		{name: "revert", in: inProgram | inChildren, shape: steps,
			help: "steps that switch back to the other slot",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Revert })},
		{name: "components", in: inProgram | inChildren, shape: schema{"type": "object",
			"additionalProperties": keyed(schema{"update": steps, "restart": steps,
				"restarts": integer(10), "interlocks": interlocks})},
			help: "the steps of components with their own update",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.parts(at) }},
		{name: "image_name", in: inProgram | inChildren, shape: scalar,
			help: "the file name that the device receives: constant, $image.file, or with $image.version",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.imageName(at) }},
		{name: "restarts", in: inProgram | inChildren, shape: integer(10),
			help: "the number of restarts until it runs the image",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) {
				p.program.Restarts = p.restarts(at)
			}},
		{name: "state", in: inProgram | inChildren, help: "the meaning of extracted values",
			shape: keyed(schema{"busy": scalar, "away": scalar, "pending": scalar, "idle": scalar,
				"uptime": scalar, "well": scalar, "why": scalar}),
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.state(at) }},
		{name: "interlocks", in: inProgram | inChildren,
			shape: interlocks,
			help:  "conditions right before the first byte, each with a sentence for the operator",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) {
				p.program.Interlocks = p.interlocks(at)
			}},
		{name: "settings", in: inProgram | inChildren,
			shape: keyed(schema{"format": schema{"enum": settings.Formats}, "save": steps,
				"restore": steps, "renamed": texts}, "save"),
			help: "steps that read the settings, and steps that restore them",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.settings(at) }},
		{name: "carry", in: inProgram | inChildren,
			shape: list(keyed(schema{"value": scalar, "read": steps, "write": steps},
				"value", "read", "write")),
			help: "single values that are read before an update and written back after it, in this order",
			read: func(p *parser, at ast.Node, _ map[string]ast.Node) { p.carry(at) }},
		{name: "permission", in: inProgram | inChildren, shape: steps,
			help: "steps that change nothing and succeed only for a login that may update the device",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Permission })},
		{name: "password", in: inProgram, shape: steps,
			help: "steps that change the password of the login to $new.password",
			read: stepsOf(func(g *Program) *[]*Step { return &g.Password })},
		{name: "blink", in: inProgram | inChildren,
			shape: keyed(schema{"shows": scalar, "steps": steps}, "steps"),
			help:  "steps that make it identify itself; $on is true to start",
			read:  func(p *parser, at ast.Node, _ map[string]ast.Node) { p.blink(at) }},
		{name: "children", in: inProgram, // its shape is made of all others; read last of all
			help: "the family of the devices that are reached only through one of these"},

		{name: "get", in: asWord, by: web + " ssh snmp bacnet", shape: objects, step: target,
			help: "a request for a path; with snmp and bacnet, for objects, each with a name"},
		{name: "put", in: asWord, by: web, shape: scalar, step: target, help: "a request to a path"},
		{name: "post", in: asWord, by: web, shape: scalar, step: target, help: "a request to a path"},
		{name: "patch", in: asWord, by: web, shape: scalar, step: target, help: "a request to a path"},
		{name: "delete", in: asWord, by: web, shape: scalar, step: target, help: "a request to a path"},
		{name: "upload", in: asWord, by: web + " ssh tftp bacnet", shape: scalar, step: target,
			help: "PUT or POST and a path; of ssh and tftp a remote path; of bacnet a file object"},
		{name: "poll", in: asWord, by: web + " ssh snmp bacnet", shape: objects, step: target,
			help: "asked again until"},
		{name: "offer", in: asWord, by: "all", shape: oneOf("http", "tftp"),
			help: "the device fetches the image from Catena: steps make it do so",
			step: func(p *parser, at ast.Node, s *Step, all map[string]ast.Node) {
				p.offer(at, s, all["steps"])
			}},
		{name: "run", in: asWord, by: "ssh", shape: scalar, step: target,
			help: "a command over SSH"},
		{name: "set", in: asWord, by: "snmp bacnet", shape: texts,
			help: "objects and their types and values: of snmp int, text, address, hex",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Kind, s.Objects = Request, p.sets(at, s.Protocol)
			}},
		{name: "reinitialise", in: asWord, by: "bacnet", shape: scalar,
			help: "coldstart, warmstart or activate-changes, and the password: coldstart $login.bacnet",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.reinitialise(at, s) }},
		{name: "wait", in: asWord, by: "all", shape: yamldoc.Duration, help: "wait for this long",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Kind, s.Pause = Wait, p.duration(at, "wait", time.Hour)
			}},
		{name: "ask", in: asWord, by: "all", shape: scalar,
			help: "what an operator has to do; until is how the device shows that it is done",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Kind = Ask
				p.template(at, &s.Path)
			}},

		{name: "protocol", in: inStep, shape: scalar, // read before the word
			help: "another protocol of this step, also https and tftp, with a port: ssh:2222"},
		{name: "on", in: inStep, shape: scalar, // read before the word
			help: "another device of the site that the step goes to, with its own login"},
		{name: "query", in: inStep, shape: texts, help: "the query, the part after ? in the address",
			step: carried("query", func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Query = p.fields(at)
			})},
		{name: "header", in: inStep, shape: texts, help: "headers of the request",
			step: carried("header", func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Header = p.fields(at)
			})},
		{name: "json", in: inStep, shape: anything, step: bodyOf("json"),
			help: "a JSON document to send"},
		{name: "form", in: inStep, shape: texts, step: bodyOf("form"), help: "fields of a form"},
		{name: "xml", in: inStep, shape: scalar, step: bodyOf("xml"), help: "an XML document to send"},
		{name: "text", in: inStep, shape: scalar, step: bodyOf("text"), help: "a plain text to send"},
		{name: "ini", in: inStep, shape: scalar, step: bodyOf("ini"), help: "key=value lines to send"},
		{name: "raw", in: inStep, shape: scalar, step: bodyOf("raw"), help: "one value, unchanged"},
		{name: "multipart", in: inStep, shape: texts, step: bodyOf("multipart"),
			help: "parts of a form with the image"},
		{name: "take", in: inStep, shape: texts,
			help: "values to extract from the answer: NAME: [secret] [type] FROM [or DEFAULT]",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.takes(at, s) }},
		{name: "outcome", in: inStep, shape: texts,
			help: "the meaning of an answer, by status or condition: ok done again image login " +
				"credential locked new-password no-right refused changed away",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.outcomes(at, s) }},
		{name: "when", in: inStep, shape: scalar, help: "the condition under which the step is taken",
			step: conditionOf(func(s *Step) **Expr { return &s.When })},
		{name: "expect", in: inStep, shape: scalar, help: "a condition that holds after it",
			step: conditionOf(func(s *Step) **Expr { return &s.Expect })},
		{name: "until", in: inStep, shape: scalar, with: "poll ask", help: "the condition that ends it",
			step: conditionOf(func(s *Step) **Expr { return &s.Until })},
		{name: "fail", in: inStep, shape: scalar, with: "poll",
			help: "the condition under which it has failed",
			step: conditionOf(func(s *Step) **Expr { return &s.Fail })},
		{name: "percent", in: inStep, shape: scalar, with: "poll", help: "the progress of the device",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				p.expression(at, &s.Percent, reflect.Int)
			}},
		{name: "from", in: inStep, shape: scalar, with: "upload",
			help: "how many bytes of the image the device has already",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				p.expression(at, &s.From, reflect.Int)
			}},
		{name: "shows", in: inStep, shape: scalar,
			help: "what people see at the device from this step on",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				if s.Shows = text.Clean(p.text(at)); s.Shows == "" || len(s.Shows) > maxShows {
					p.fail(at, "shows: is a short sentence, at most %d bytes", maxShows)
				}
			}},
		{name: "within", in: inStep, shape: yamldoc.Duration,
			help: "the time limit, repeats included",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Within = p.duration(at, "within", 24*time.Hour)
			}},
		{name: "each", in: inStep, shape: scalar,
			help: "the children in the answer, as JSONPath, XPath or ~ RE2; take applies to each",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.eachOf(at, s) }},
		{name: "chunks", in: inStep, shape: scalar, with: "upload",
			help: "the size of one request of an upload, such as 1MiB",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { s.Chunk = p.bytes(at) }},
		{name: "gone", in: inStep, shape: yes, help: "the device may go away, which counts as success",
			step: yesOf("gone", func(s *Step) *bool { return &s.Gone })},
		{name: "repeat", in: inStep, shape: yes,
			help: "it may be sent again if its answer was lost",
			step: yesOf("repeat", func(s *Step) *bool { return &s.Repeat })},
		{name: "writes", in: inStep, shape: yes, help: "from here on the device may be writing",
			step: yesOf("writes", func(s *Step) *bool { return &s.Writes })},
		{name: "reply", in: inStep, shape: texts, with: "run",
			help: "prompts of a command, as RE2, and the answers to type",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.replies(at, s) }},
		{name: "progress", in: inStep, shape: scalar, with: "run",
			help: "RE2 on the output of the running command: its first group is the percent",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) {
				s.Progress = p.pattern(at, "progress")
				if s.Progress.NumSubexp() == 0 {
					p.fail(at, "progress: requires a group ( ) around the number")
				}
			}},
		{name: "shell", in: inStep, shape: oneOf("posix", "none"), with: "run poll",
			help: "none: the device's shell has no quotes; values must be plain",
			step: func(p *parser, at ast.Node, s *Step, _ map[string]ast.Node) { p.shell(at, s) }},
		{name: "steps", in: inStep, shape: steps, with: "offer", // read by offer
			help: "what makes the device fetch $offer.url"},
		{name: "occupies", in: inStep, shape: yes, with: "ask",
			help: "the device keeps its slot while it waits, so its parent stays busy",
			step: yesOf("occupies", func(s *Step) *bool { return &s.Occupies })},
	}
}

// names returns the names of the keys that may stand in one of some places.
func names(in place) (out []string) {
	for _, k := range keys {
		if k.in&in != 0 {
			out = append(out, k.name)
		}
	}
	return out
}

// wordsBy returns what a step may do by a protocol.
func wordsBy(protocol string) (out []string) {
	for _, k := range keys {
		if k.in == asWord && (k.by == "all" || slices.Contains(strings.Fields(k.by), protocol)) {
			out = append(out, k.name)
		}
	}
	return out
}

// Keys returns all keys of a family file and of its steps.
func Keys() []string { return names(^place(0)) }
