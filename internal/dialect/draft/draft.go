// Package draft writes the start of a family file from what an unknown device shows without a login
// (Of).
package draft

import (
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
	"catena/internal/text"
	"catena/internal/wire"
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"
)

// shown is a device's answer over one protocol.
type shown struct {
	protocol string
	lines    []string       // as comments
	reading  device.Reading // as far as it told
	steps    string         // of the draft
}

// Of returns the draft of a family file for the device at an address. Its error says that the
// device shows nothing.
func Of(ctx context.Context, where string) (string, error) {
	var all []shown
	for _, look := range []func(context.Context, string) (shown, bool){draftSNMP, draftHTTP,
		draftHTTPS,
		draftSSH} {
		if s, ok := look(ctx, where); ok {
			all = append(all, s)
		}
	}
	if len(all) == 0 {
		return "", fmt.Errorf("%s does not answer HTTP, HTTPS, SSH or SNMP; add its port, as "+
			"in %[1]s:8080", where)
	}
	best := all[0]
	fill := func(value, what string) string {
		if value == "" {
			return "FILL-IN    # " + what
		}
		return fmt.Sprintf("%q", value)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# A draft from what %s showed. See docs/families.md for every key.\n", where)
	for _, s := range all {
		for _, line := range s.lines {
			fmt.Fprintf(&b, "#   %s\n", line)
		}
	}
	model, _, _ := strings.Cut(fill(best.reading.Model, ""), "#")
	fmt.Fprintf(&b, "family: FILL-IN    # a name for the family, such as the maker's and the kind's\n"+
		"vendor: %s\nmodels: [%s]\nprotocol: %s\n%s", fill(best.reading.Vendor,
		"the maker, as on the label"),
		strings.TrimSpace(model), best.protocol, best.steps)
	return b.String(), nil
}

var title = regexp.MustCompile(`(?is)<title[^>]*>(.*?)</title>`)

const draftHTTPSteps = `recognise:             # without a login: how does it tell what it is?
  - get: /             # FILL IN a path that names the model
    take:
      model: $.model   # JSONPath; or //xpath, or ~ regular expression
      serial: $.serial or ""
# login:               # left out: HTTP Digest or Basic, as the device asks
#   - post: /login
#     json: {user: $login.user, password: $login.password}
#     take: {token: $.token}
read:
  - get: /             # FILL IN a path that tells the version
    take: {version: $.version}
# state: {busy: phase == "writing", pending: next, well: len(faults) == 0}
# update:
#   - upload: PUT /firmware
#   - poll: /firmware
#     take: {phase: $.phase, percent: int $.percent or 0}
#     until: phase == "ready"
# restart:
#   - post: /restart
`

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
	s := shown{protocol: "http", steps: draftHTTPSteps}
	a, err := wire.NewHTTP(nil).Ask(ctx, r)
	if err != nil {
		return s, false
	}
	s.lines = append(s.lines, fmt.Sprintf("%s: GET / answers %d, %s", name, a.Status,
		text.Clean(a.Header.Get("Content-Type"))))
	for _, header := range []string{"Server", "WWW-Authenticate", "Location"} {
		if v := text.Clean(a.Header.Get(header)); v != "" {
			s.lines = append(s.lines, fmt.Sprintf("%s: %s: %s", name, header, v))
		}
	}
	if m := title.FindSubmatch(a.Body); m != nil {
		s.lines = append(s.lines, name+": its page is called "+text.Clean(string(m[1])))
	}
	return s, true
}

func draftSSH(ctx context.Context, where string) (shown, bool) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	greeting, err := wire.Greeting(ctx, wire.AtPort(where, "22"))
	if err != nil || !strings.HasPrefix(greeting, "SSH-") {
		return shown{}, false
	}
	return shown{protocol: "ssh", lines: []string{"ssh: it greets with " + text.Clean(greeting)},
		steps: "recognise:             # by its greeting; no one logs in for that\n  - get: greeting\n" +
			"    take: {model: '~ " +
			strings.ReplaceAll(regexp.QuoteMeta(text.Clean(greeting)), "'", "''") +
			`'}   # FILL IN: a group ( ) around the model
read:
  - run: show          # FILL IN a command that tells serial number and version
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

func draftSNMP(ctx context.Context, where string) (shown, bool) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	at := dialect.At{Endpoint: device.Endpoint{Address: wire.AtPort(where, "161"),
		ProtocolVersion: "v2c"}}
	session := snmp.Dialect{}.Open(at, login.Credential{})
	r, err := session.Read(ctx)
	if err != nil && !errors.Is(err, device.ErrMalformed) || r.Says+r.Model == "" {
		return shown{}, false
	}
	return shown{protocol: "snmp", reading: r, lines: []string{"snmp: it says " + r.Says,
		fmt.Sprintf("snmp: by the ENTITY-MIB it is a %s %s, serial number %s, and runs %s", r.Vendor,
			r.Model, r.Serial, r.Version)},
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
  - get: {ticks: int 1.3.6.1.2.1.1.3.0}   # sysUpTime, in 1/100 s
state: {uptime: ticks / 100}
`}, true
}
