// Package draft writes the start of a family file from what an unknown device shows without a login
// (Of).
package draft

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"catena/internal/bacnet"
	"catena/internal/device"
	"catena/internal/dialect"
	bacnetdialect "catena/internal/dialect/bacnet"
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
	"catena/internal/text"
	"catena/internal/wire"
)

// shown is a device's answer over one protocol.
type shown struct {
	protocol string
	port     string            // where it answered
	secure   bool              // over TLS
	lines    []string          // as comments
	reading  device.Reading    // as far as it told
	steps    string            // of the draft
	terminal string            // of the draft, where it has only a shell
	missing  []string          // what only a person can add to the steps
	answer   scripted.Exchange // as a recording has it
}

// Of returns the draft of a family file for a device, and what it answered over the protocol of the
// draft. It is looked for at each address, a host with or without a port, until it answers. as is a
// login that a person gave for it, which shows whether SSH accepts commands; the zero Credential:
// there is none. The error says that the device shows nothing.
func Of(ctx context.Context, as login.Credential, addresses ...string) (string, scripted.Recording,
	error) {
	var all []shown
	for _, look := range []func(context.Context, string) (shown, bool){draftSNMP, draftBACnet,
		draftHTTP, draftHTTPS, func(ctx context.Context, where string) (shown, bool) {
			s, ok := draftSSH(ctx, where)
			if ok && as.User != "" {
				s.shell(ctx, wire.AtPort(where, "22"), as)
			}
			return s, ok
		}} {
		for _, where := range addresses {
			if s, ok := look(ctx, where); ok {
				all = append(all, s)
				break
			}
		}
	}
	if len(all) == 0 {
		return "", scripted.Recording{}, silent(addresses[0])
	}
	best := all[0]
	return write(addresses[0], all), scripted.Recording{Recording: 1, Protocol: best.protocol,
		Secure: best.secure, Exchanges: []scripted.Exchange{best.answer}}, nil
}

// silent is the error for an address that does not answer.
func silent(where string) error {
	if host, port, err := net.SplitHostPort(where); err == nil {
		return fmt.Errorf(
			"nothing answers HTTP, HTTPS, SSH, SNMP or BACnet at port %s of %s; try another "+
				"port, or leave it out for the usual ones",
			port,
			host,
		)
	}
	return fmt.Errorf(
		"%s does not answer HTTP, HTTPS, SSH, SNMP or BACnet at their usual ports; add its "+
			"port, as in %[1]s:8080",
		where,
	)
}

// write writes the draft: what was seen, what is missing, and the file.
func write(where string, all []shown) string {
	best := all[0]
	var b strings.Builder
	fmt.Fprintf(&b, "# A draft from what %s showed. See docs/families.md for every key.\n", where)
	for _, s := range all {
		for _, line := range s.lines {
			fmt.Fprintf(&b, "#   %s\n", line)
		}
	}
	missing := []string{"family: a name for the family, such as the maker's and the kind's"}
	fill := func(key, value, what string) string {
		if value == "" {
			missing = append(missing, key+": "+what)
			return "FILL-IN"
		}
		return fmt.Sprintf("%q", value)
	}
	vendor := fill("vendor", best.reading.Vendor, "the maker, as the device or its label says")
	model := fill("models", best.reading.Model, "the model, as recognise: takes it")
	missing = append(missing, best.missing...)
	b.WriteString("# Still missing:\n")
	for _, what := range missing {
		fmt.Fprintf(&b, "#   %s\n", what)
	}
	fmt.Fprintf(&b, "family: FILL-IN\nvendor: %s\nmodels: [%s]\nprotocol: %s\n", vendor, model,
		best.protocol)
	if best.port != "" && !slices.Contains(usual[best.protocol], best.port) {
		fmt.Fprintf(&b, "ports: [%s]\n", best.port)
	}
	b.WriteString(best.terminal + best.steps)
	return b.String()
}

// usual are the ports of protocols that need not be named.
var usual = map[string][]string{
	"http":   {"80", "443", "8080", "8443"},
	"ssh":    {"22"},
	"snmp":   {"161"},
	"bacnet": {"47808"},
}

// portOf is the port of an address; where it has none, the usual one.
func portOf(address string) string {
	_, port, _ := net.SplitHostPort(address)
	return port
}

func draftHTTP(ctx context.Context, where string) (shown, bool) { return draftWeb(ctx, where, "") }

func draftHTTPS(ctx context.Context, where string) (shown, bool) {
	return draftWeb(ctx, where, "https")
}

func draftWeb(ctx context.Context, where, scheme string) (shown, bool) {
	name, port := "http", "80"
	if scheme != "" {
		name, port = scheme, "443"
	}
	e := device.Endpoint{Address: wire.AtPort(where, port), Scheme: scheme}
	r, err := http.NewRequest(http.MethodGet, e.URL("/"), nil)
	if err != nil {
		return shown{}, false
	}
	a, err := wire.NewHTTP(nil).Ask(ctx, r)
	if err != nil {
		return shown{}, false
	}
	s := shown{protocol: "http", port: portOf(e.Address), secure: scheme != "",
		answer: scripted.Exchange{Sent: "GET /", Status: a.Status, Body: strings.ToValidUTF8(string(
			a.Body), "?"),
			Header: map[string]string{}}}
	kind := text.Clean(a.Header.Get("Content-Type"))
	s.lines = append(s.lines, fmt.Sprintf("%s: GET / answers %d, %s", name, a.Status, kind))
	for _, header := range []string{"Content-Type", "Server", "WWW-Authenticate", "Location"} {
		v := text.Clean(a.Header.Get(header))
		if v == "" {
			continue
		}
		s.answer.Header[header] = v
		if header != "Content-Type" {
			s.lines = append(s.lines, fmt.Sprintf("%s: %s: %s", name, header, v))
		}
	}
	s.web(name, a)
	return s, true
}

var title = text.Later(`(?is)<title[^>]*>(.*?)</title>`)

// web writes the steps for a device that speaks HTTP, as the type of its answer allows.
func (s *shown) web(name string, a wire.Answer) {
	takes, version := map[string]string{}, ""
	example := `~ model=(\S+)`
	body := bytes.TrimSpace(a.Body)
	switch {
	case json.Valid(body) && len(body) > 0 && (body[0] == '{' || body[0] == '['):
		example = "$.model"
		var tree any
		_ = json.Unmarshal(body, &tree) // it is valid
		takes = named(tree)
		version = takes["version"]
		delete(takes, "version")
	case title().Match(a.Body), bytes.HasPrefix(body, []byte("<")):
		example = `~ <title>\S+ (\S+)`
		if m := title().FindSubmatch(a.Body); m != nil {
			s.lines = append(s.lines, name+": its page is called "+text.Clean(string(m[1])))
			takes["says"] = "//title"
		}
	}
	path := "/"
	if a.Status >= 300 {
		s.missing = append(s.missing, "recognise: a path that answers without a login; / answers "+
			fmt.Sprint(a.Status))
	}
	if takes["model"] == "" {
		s.missing = append(s.missing, "recognise: where the answer names the model, such as model: "+
			example)
		takes["model"] = "'~ FILL-IN'"
	}
	if takes["serial"] == "" {
		s.missing = append(s.missing, "recognise: a serial number, UUID or MAC address; without one no "+
			"login of the whole site goes there")
	}
	if version == "" {
		s.missing = append(s.missing, "read: the path and the place of the version")
		version = "'~ FILL-IN'"
	}
	s.missing = append(s.missing, "login: if it is neither HTTP Basic nor HTTP Digest",
		"update:, restart:, state:, as the device's manual says")
	var b strings.Builder
	fmt.Fprintf(&b, "recognise:\n  - get: %s\n    take:\n", path)
	for _, key := range slices.Sorted(maps.Keys(takes)) {
		fmt.Fprintf(&b, "      %s: %s\n", key, takes[key])
	}
	fmt.Fprintf(&b, "read:\n  - get: %s\n    take: {version: %s}\n", path, version)
	b.WriteString(`# login:
#   - post: /login
#     json: {user: $login.user, password: $login.password}
#     take: {token: $.token}
# state: {busy: phase == "writing", pending: next, well: len(faults) == 0}
# update:
#   - upload: PUT /firmware
#   - poll: /firmware
#     take: {phase: $.phase, percent: int $.percent or 0}
#     until: phase == "ready"
# restart:
#   - post: /restart
`)
	s.steps = b.String()
}

// keysFor are the names that devices give to what a family takes, the likeliest first.
var keysFor = []struct {
	take string
	keys *regexp.Regexp
}{
	{"model", regexp.MustCompile(`(?i)^(model|product|device_?type|type)`)},
	{"serial", regexp.MustCompile(`(?i)^(serial|sn$)`)},
	{"version", regexp.MustCompile(`(?i)^(firmware|fw|version|software)`)},
	{"vendor", regexp.MustCompile(`(?i)^(vendor|maker|manufacturer)`)},
	{"mac", regexp.MustCompile(`(?i)^mac`)},
}

// named finds in a document of JSON what has a telling name, to a depth of two objects.
func named(tree any) map[string]string {
	out := map[string]string{}
	var find func(prefix string, tree any, depth int)
	find = func(prefix string, tree any, depth int) {
		object, _ := tree.(map[string]any)
		for _, key := range slices.Sorted(maps.Keys(object)) {
			path := prefix + "." + key
			if !plainKey().MatchString(key) {
				continue // it would need quotes
			}
			switch v := object[key].(type) {
			case map[string]any:
				if depth > 0 {
					find(path, v, depth-1)
				}
			case string, float64:
				for _, k := range keysFor {
					if out[k.take] == "" && k.keys.MatchString(key) && v != "" {
						out[k.take] = path
						break
					}
				}
			}
		}
	}
	find("$", tree, 1)
	return out
}

var plainKey = text.Later(`^[A-Za-z_][A-Za-z0-9_]*$`)

func draftSSH(ctx context.Context, where string) (shown, bool) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	address := wire.AtPort(where, "22")
	greeting, err := wire.Greeting(ctx, address)
	if err != nil || !strings.HasPrefix(greeting, "SSH-") {
		return shown{}, false
	}
	greeting = text.Clean(greeting)
	return shown{protocol: "ssh", port: portOf(address), lines: []string{"ssh: it greets with " +
		greeting},
		answer: scripted.Exchange{Sent: "(its greeting)", Body: greeting},
		missing: []string{"recognise: a group ( ) around the model in the greeting",
			"read: the command that tells serial number and version, and their places",
			"update:, restart:, state:, as the device's manual says",
			"if it has no commands but only a shell: terminal: with its prompt, see docs/families.md"},
		steps: "recognise:             # by its greeting; no one logs in for that\n  - get: greeting\n" +
			"    take: {model: '~ " + strings.ReplaceAll(regexp.QuoteMeta(greeting), "'", "''") + `'}
read:
  - run: show
    take:
      serial: ~ (?m)^serial +(\S+)
      version: ~ (?m)^version +(\S+)
# update:
#   - upload: /tmp/image.bin
#   - run: update /tmp/image.bin
# restart:
#   - run: reboot
#     gone: true
`}, true
}

// peekFor is how long a shell may take for its prompt.
const peekFor = 3 * time.Second

// shell looks whether the device has only a shell, and what its prompt is. What it is asked to run,
// exit, changes nothing.
func (s *shown) shell(ctx context.Context, address string, as login.Credential) {
	conn, err := wire.DialSSH(ctx, address, as, nil)
	if err != nil {
		s.lines = append(s.lines, "ssh: the login: "+err.Error())
		return
	}
	defer conn.Close()
	if _, _, err = conn.Run(ctx, "exit", nil, nil); !errors.Is(err, device.ErrRefused) {
		s.lines = append(s.lines, "ssh: it accepts commands")
		return
	}
	printed, err := conn.Peek(ctx, peekFor)
	if err != nil {
		s.lines = append(s.lines, "ssh: it accepts no commands, and starts no shell")
		return
	}
	lines := strings.Split(strings.TrimRight(printed, "\n"), "\n")
	prompt := text.Clean(lines[len(lines)-1])
	s.lines = append(s.lines, "ssh: it accepts no commands, and starts a shell, which prints "+prompt)
	s.terminal = "terminal: {prompt: '^" + strings.ReplaceAll(regexp.QuoteMeta(prompt), "'", "''") +
		" ?$'}\n"
	s.missing = append(s.missing, "terminal: the prompt of every such device and mode, and pages: "+
		"if it has any")
}

func draftSNMP(ctx context.Context, where string) (shown, bool) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	address := wire.AtPort(where, "161")
	at := dialect.At{Endpoint: device.Endpoint{Address: address, ProtocolVersion: "v2c"}}
	session := snmp.Dialect{}.Open(at, login.Credential{})
	r, err := session.Read(ctx)
	if err != nil && !errors.Is(err, device.ErrMalformed) || r.Says+r.Model == "" {
		return shown{}, false
	}
	return shown{protocol: "snmp", port: portOf(address), reading: r,
		answer: scripted.Exchange{Sent: "(the standard's objects)", Base: &r},
		lines: []string{"snmp: it says " + r.Says,
			fmt.Sprintf("snmp: by the ENTITY-MIB it is a %s %s, serial number %s, and runs %s", r.Vendor,
				r.Model, r.Serial, r.Version)},
		missing: []string{"update:, restart:, state:, with the numbers of its maker's own objects"},
		steps: `# It is recognised and read by the standard's objects; what follows is its maker's own.
#   - get: {standby: 1.3.6.1.4.1.N.1.0, phase: int 1.3.6.1.4.1.N.2.0}     (of read:)
#   busy: phase == 2, pending: 'phase == 3 ? "written" : ""', idle: standby   (of state:)
# update:
#   - offer: tftp
#     steps:
#       - set: {1.3.6.1.4.1.N.3.0: address $offer.host, 1.3.6.1.4.1.N.4.0: int $offer.port, 1.3.6.1.4.1.N.5.0: text $offer.file}
#   - poll: {phase: int 1.3.6.1.4.1.N.2.0}
#     until: phase == 3
# restart:
#   - set: {1.3.6.1.4.1.N.6.0: int 1}
read:
  - get: {ticks: int sysUpTime.0}   # in 1/100 s
state: {uptime: ticks / 100}
`}, true
}

// maxFiles is how many file objects a draft names.
const maxFiles = 16

func draftBACnet(ctx context.Context, where string) (shown, bool) {
	ctx, cancel := context.WithTimeout(ctx, 4*time.Second)
	defer cancel()
	at := dialect.At{Endpoint: device.Endpoint{Address: wire.AtPort(where, "47808")}}
	session := bacnetdialect.Dialect{}.Open(at, login.Credential{})
	defer func() { _ = session.Close(ctx) }()
	r, err := session.Read(ctx)
	if err != nil {
		return shown{}, false
	}
	lines := append(
		[]string{fmt.Sprintf("bacnet: by its device object it is a %s %s, serial number %s, "+
			"and runs %s", r.Vendor, r.Model, r.Serial, r.Version)},
		bacnetFiles(ctx, at.Endpoint)...)
	return shown{protocol: "bacnet", port: portOf(at.Address), reading: r, lines: lines,
		answer: scripted.Exchange{Sent: "(the standard's objects)", Base: &r},
		missing: []string{"update:, restart:, state:, with the objects of its maker's own",
			"plain_basic: true, if it wants a password: the secret bacnet of its login goes in the clear"},
		steps: `# It is recognised and read by its device object; what follows is its maker's own.
# secrets: {bacnet: reading}
#   - get: {phase: "int multi-state-value,N/present-value"}     (of read:)
#   busy: phase == 2, pending: 'phase == 3 ? "written" : ""'     (of state:)
# update:
#   - set: {"file,N/file-size": unsigned 0}
#   - upload: file,N
#   - poll: {phase: "int multi-state-value,N/present-value"}
#     until: phase == 3
# restart:
#   - reinitialise: coldstart $login.bacnet
read:
  - get: {condition: int device/system-status}
state: {well: "condition in [0, 1, 5]"}
`}, true
}

// bacnetFiles are the file objects of a device, with their names.
func bacnetFiles(ctx context.Context, at device.Endpoint) (lines []string) {
	c, own, err := bacnetdialect.Dial(ctx, at)
	if err != nil {
		return nil
	}
	defer c.Close()
	all, _ := c.Read(ctx, own.Property("object-list")) // without it, the draft names no files
	for _, v := range all {
		file, is := v.Object()
		if !is || file.Type != bacnet.TypeFile || len(lines) == maxFiles {
			continue
		}
		called, err := c.Read(ctx, file.Property("object-name"))
		if err == nil && len(called) > 0 {
			lines = append(lines, fmt.Sprintf("bacnet: %s is called %s", file,
				text.Clean(called[0].String())))
		}
	}
	return lines
}
