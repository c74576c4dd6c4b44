package family_test

import (
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/family"
	"catena/internal/settings"
	"catena/internal/yamldoc/schematest"
)

const head = "family: f\nvendor: Tollgarth\nmodels: [TG-200]\n"

// whole is a program in which only the last lines are of interest.
func whole(lines string) string {
	return head + "recognise:\n  - get: /about\n    take: {serial: $.serial}\n" + lines
}

func parsed(t *testing.T, text string) *family.Program {
	f, err := family.Parse("f.yaml", []byte(text))
	require.NoError(t, err)
	require.NotNil(t, f.Program)
	return f.Program
}

// Every mistake has a place, and says what would be right.
func TestMistakes(t *testing.T) {
	read := "read:\n  - get: /state\n    take: {version: $.v}\n"
	for text, want := range map[string]string{
		head + "recognize: []\n":                                                                     `f.yaml:4:1: unknown key "recognize"; did you mean recognise?`,
		head + "protocol: htp\n":                                                                     `f.yaml:4:11: protocol: "htp" is not one of http, ssh, snmp, bacnet; did you mean http?`,
		head + "read:\n  - get: /state\n":                                                            "f.yaml:5:3: recognise: is missing",
		whole("read:\n  - get: /state\n"):                                                            "read: no step extracts version",
		whole("read:\n  - gett: /state\n"):                                                           "f.yaml:8:5: a step has no key gett; did you mean get?",
		whole("read:\n  - get: state\n"):                                                             "f.yaml:8:10: get: a path starts with /",
		whole("read:\n  - {get: /a, put: /b}\n"):                                                     "a step has one action: get or put",
		whole("read:\n  - {take: {version: $.v}}\n"):                                                 "a step requires an action",
		whole("read:\n  - get: /a\n    take: {version: $.v, version: $.w}\n"):                        `"version" is listed twice`,
		whole("read:\n  - get: /a\n    take: {version: '$.v['}\n"):                                   "f.yaml:9:21: take: version:",
		whole("read:\n  - get: /a\n    take: {version: '//a['}\n"):                                   "f.yaml:9:21: take: version:",
		whole("read:\n  - get: /a\n    take: {version: '~ (x'}\n"):                                   "missing closing )",
		whole("read:\n  - get: /a\n    take: {version: v}\n"):                                        "extracts nothing: write $.json, //xpath",
		whole("read:\n  - get: /a\n    take: {status: $.v}\n"):                                       `take: "status" cannot be a name`,
		whole("read:\n  - get: /a/$serail\n    take: {version: $.v}\n"):                              "f.yaml:8:10: no step extracts serail; did you mean serial?",
		whole(read + "state: {busy: phase == 1}\n"):                                                  "no step extracts phase",
		whole(read + "state: {busy: version}\n"):                                                     "expected bool, but got string",
		whole(read + "state: {bussy: true}\n"):                                                       "f.yaml:10:9: state has no key bussy; did you mean busy?",
		whole(read + "update:\n  - put: /fw\n"):                                                      "update: has neither upload: nor offer:",
		whole(read + "restart:\n  - put: /fw\n"):                                                     "belong to update:, which is missing",
		whole(read + "update:\n  - upload: /fw\n"):                                                   "upload: write PUT or POST, and the path",
		whole(read + "update:\n  - upload: PUT /fw\n  - poll: /fw\n"):                                "poll: requires until:",
		whole(read + "update:\n  - upload: PUT /fw\n    within: 5\n"):                                `f.yaml:12:13: within: "5" is not a duration`,
		whole("read:\n  - get: /a\n    take: {version: $.v}\n    until: true\n"):                     "until: belongs to poll",
		whole("read:\n  - get: /a\n    json: {a: 1}\n    take: {version: $.v}\n"):                    "json: cannot be combined with get",
		whole("read:\n  - post: /a\n    json: {a: 1}\n    form: {b: 2}\n    take: {version: $.v}\n"): "carries one body: json or form",
		whole("read:\n  - get: /a\n    outcome: {404: gone}\n    take: {version: $.v}\n"):            `outcome: "gone" is not one of ok, done`,
		whole("read:\n  - run: show\n    take: {version: $.v}\n"):                                    "run: is not a step of protocol: http; there are get, put, post, patch, delete, upload, poll, offer, wait, ask",
		whole("read:\n  - get: /a\n    take: {version: $.v, components: $.c}\n"):                     "components: is a text here and must be extracted as a map",
		whole("read: {get: /a}\n"):                                                                   "must be a list",
	} {
		_, err := family.Parse("f.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// A value that cannot be set where it is used, and a body that cannot be what it says, are mistakes
// of the file: else they surface in the middle of an update, or leave a field out without a word.
func TestWhatCannotBeSet(t *testing.T) {
	read := "read:\n  - get: /state\n    take: {version: $.v, phase: $.p, parts: list $.x or nil}\n"
	up := read + "update:\n  - post: /begin\n    take: {id: $.id}\n  - upload: PUT /fw/$id\n"
	for text, want := range map[string]string{
		whole(read + "update:\n  - post: /begin/$id\n  - upload: PUT /fw\n    take: {id: $.id}\n"): "f.yaml:11:11: id is never set here: a step of update: extracts it, which is not taken before this one",
		whole(up + "blink: {steps: [{post: /lamp/$id}]}\n"):                                        "id is never set here: a step of update:",
		whole(up + "revert:\n  - post: /back/$id\n"):                                               "id is never set here: a step of update:",
		whole(up + "settings: {save: [{get: /s/$id, take: {settings: body}}]}\n"):                  "id is never set here",
		whole("login:\n  - post: /in/$version\n" + read):                                           "version is never set here: a step of read:",
		whole(read + "logout:\n  - post: /x/$image.size\n"):                                        "$image is set only in update:, restart: and store:",
		whole(up + "revert:\n  - post: /x\n    json: {v: $image.version}\n"):                       "$image is set only in update:",
		whole(up + "restart:\n  - post: /x\n    json: {v: $on}\n"):                                 "$on is set only in blink:",
		whole(up + "restart:\n  - post: /x\n    json: {v: $offer.url}\n"):                          "$offer is set only in the steps: of offer:",
		whole(up + "restart:\n  - post: /x/$address.ip\n"):                                         "$address is set only in address:",
		whole(up + "restart:\n  - post: /x\n    when: on\n"):                                       "$on is set only in blink:",
		whole(read + "update:\n  - upload: PUT /fw\n    json: {a: 1}\n"):                           "json: an upload carries the image itself; send values with query:, header: or multipart:",
		whole(read + "update:\n  - upload: POST /fw\n    multipart: {a: $phase}\n"):                "multipart: of an upload requires one part that is $image",
		whole(read + "update:\n  - upload: PUT /fw\n    writes: true\n    raw: x $phase y\n"):      "raw: is one value, such as $settings",
		whole(up + "  - post: /x\n    raw: $parts\n"):                                              "raw: parts is a list; only a text goes byte by byte",
		whole(up + "restart:\n  - post: /x\n    when: $phase == \"on\"\n"):                         "in a condition a value has no $: write phase",
		whole(up + "restart:\n  - post: /x\n    json: {v: image.sha256}\n"):                        "image.sha256 would be sent as these words; the value is $image.sha256",
		head + "recognise:\n  - get: /\n    take: {says: //title}\n":                               "recognise: anything that answers would be one of the family",
		whole(up + "  - post: /x\n    text: parts $parts\n"):                                       "parts is a list; a text has no place for it",
	} {
		_, err := family.Parse("f.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
	for _, text := range []string{
		whole(up + "restart:\n  - post: /start/$id\n    json: {size: $image.size}\n"),
		whole(read + "update:\n  - offer: http\n    steps:\n      - post: /fetch\n        json: {from: $offer.url}\n"),
		whole(read + "enter: {steps: [{post: /m/$try/$phase, take: {n: $.n}}]}\nleave: {steps: [{delete: /m/$n}]}\n"),
		whole(up + "  - poll: /fw/$id\n    take: {at: $.at}\n    until: at == \"end\"\n"),
		whole(read + "carry:\n  - value: c\n    read: [{get: /c, take: {c: $.c}}]\n    write: [{put: /c/$c}]\n"),
	} {
		_, err := family.Parse("f.yaml", []byte(text))
		assert.NoError(t, err, text)
	}
}

// evil are values that would end the place where they stand, if they were put in as they are.
var evil = []string{`a b`, `x&admin=1`, `/../../etc`, `?x=1`, `#x`, `"},{"x":"`, `</v><w>`,
	`'; reboot; '`,
	"$(reboot)", "a\"; filename=\"b", `\`, "%2e%2e", "日本"}

// What a value is made of never becomes part of what is around it: at each place a server of that
// kind reads back just the value.
func TestValuesStayInTheirPlaces(t *testing.T) {
	p := parsed(t, whole(`read:
  - post: /a/$serial/b?q=$serial
    query: {r: $serial}
    header: {X-Plain: $serial, X-Quoted: 'name="$serial"'}
    json: {v: $serial, list: [$serial], "on": on, n: 1.10, s: "1.10", text: "<$serial>"}
    take: {version: $.v}
  - post: /f
    form: {v: $serial}
  - post: /x
    xml: '<a b="$serial">$serial</a>'
  - post: /m
    multipart: {v: $serial}
`))
	for _, value := range evil {
		v := family.Values{"serial": value}
		f, err := p.Read[0].Fill(v, nil)
		require.NoError(t, err, value)
		r, err := http.NewRequest(f.Method, "http://device"+f.Target, strings.NewReader(string(f.Body)))
		require.NoError(t, err, value)
		assert.Equal(t, "/a/"+value+"/b", r.URL.Path)
		assert.Equal(t, map[string][]string{"q": {value}, "r": {value}},
			map[string][]string(r.URL.Query()))
		assert.Equal(t, value, f.Header.Get("X-Plain"))
		assert.JSONEq(t, `{"v":`+quote(value)+`,"list":[`+quote(value)+
			`],"on":"on","n":1.10,"s":"1.10","text":`+
			quote("<"+value+">")+`}`, string(f.Body))
		assert.Contains(t, string(f.Body), `"n":1.10`, "a number stays as it is written")

		f, err = p.Read[1].Fill(v, nil)
		require.NoError(t, err)
		r, err = http.NewRequest(f.Method, "http://device/", strings.NewReader(string(f.Body)))
		require.NoError(t, err)
		r.Header.Set("Content-Type", f.Header.Get("Content-Type"))
		require.NoError(t, r.ParseForm())
		assert.Equal(t, map[string][]string{"v": {value}}, map[string][]string(r.PostForm))

		f, err = p.Read[2].Fill(v, nil)
		require.NoError(t, err)
		got := takes(t, "string(/a/@b)", string(f.Body))
		assert.Equal(t, strings.TrimSpace(value), strings.TrimSpace(got))
		assert.Equal(t, strings.TrimSpace(value), strings.TrimSpace(takes(t, "/a", string(f.Body))))

		f, err = p.Read[3].Fill(v, nil)
		require.NoError(t, err)
		r, err = http.NewRequest(f.Method, "http://device/", strings.NewReader(string(f.Body)))
		require.NoError(t, err)
		r.Header.Set("Content-Type", f.Header.Get("Content-Type"))
		require.NoError(t, r.ParseMultipartForm(1<<20))
		assert.Equal(t, map[string][]string{"v": {value}}, r.MultipartForm.Value)
	}
	for _, bad := range []string{"a\r\nX: y", "a\x00b"} {
		_, err := p.Read[0].Fill(family.Values{"serial": bad}, nil)
		assert.ErrorContains(t, err, "control characters is not allowed in a header")
	}
	f, err := p.Read[0].Fill(family.Values{"serial": `a"b\`}, nil)
	require.NoError(t, err)
	assert.Equal(t, `name="a\"b\\"`, f.Header.Get("X-Quoted"))
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// takes is what one take finds in a body.
func takes(t *testing.T, from, body string) string {
	p := parsed(t, whole("read:\n  - get: /a\n    take: {version: '"+from+"'}\n"))
	v := family.Values{}
	require.NoError(t, p.Read[0].TakeFrom(family.Answer{Body: []byte(body)}, v), body)
	got, _ := v["version"].(string)
	return got
}

// A command line quotes values for a POSIX shell; where there is none they must be plain.
// A value in an INI file is one line of it, without a mark that some reader takes for more.
func TestINI(t *testing.T) {
	step := parsed(t, whole("read:\n  - get: /a\n    take: {version: $.v, value: $.x}\nupdate:\n  "+
		"- put: /conf\n"+
		"    ini: |\n      [net]\n      name = $value\n      mtu = 1500\n    writes: true\n")).Update[0]
	for _, value := range evil {
		f, err := step.Fill(family.Values{"value": value}, nil)
		if err != nil {
			continue // refused: nothing is sent
		}
		assert.Equal(t, "[net]\nname = "+value+"\nmtu = 1500\n", string(f.Body))
		got, err := settings.Parse(settings.INI, f.Body)
		require.NoError(t, err)
		assert.Equal(t, settings.Values{"net.name": value, "net.mtu": "1500"}, got)
	}
	for _, value := range []string{"lock\n[admin]\nx = 1", "a ; b", "a # b", `"a"`, `a\`, " a",
		"a\r"} {
		_, err := step.Fill(family.Values{"value": value}, nil)
		assert.Error(t, err, value)
	}
}

func TestCommandLines(t *testing.T) {
	ssh := func(shell string) *family.Step {
		return parsed(t, head+"protocol: ssh\nrecognise:\n  - get: greeting\n    take: {serial: '~ "+
			"(.*)'}\n"+
			"read:\n  - run: show $serial\n    shell: "+shell+"\n    take: {version: '~ (.*)'}\n").Read[0]
	}
	for _, value := range evil {
		f, err := ssh("posix").Fill(family.Values{"serial": value}, nil)
		require.NoError(t, err)
		if plain := value == "%2e%2e" || value == "/../../etc"; !plain {
			assert.Equal(t, "show '"+strings.ReplaceAll(value, "'", `'\''`)+"'", f.Command)
		}
		if value != "%2e%2e" {
			_, err = ssh("none").Fill(family.Values{"serial": value}, nil)
			assert.ErrorContains(t, err, "must be plain", value)
		}
	}
	_, err := ssh("posix").Fill(family.Values{"serial": "a\nreboot"}, nil)
	assert.ErrorContains(t, err, "line breaks")
	_, err = ssh("none").Fill(family.Values{"serial": "-rf"}, nil)
	assert.ErrorContains(t, err, "must be plain")
}

// What is not set is left out; a text that is empty is sent.
func TestWhatIsNotSet(t *testing.T) {
	p := parsed(t, whole(`wire:
  header: {Authorization: Bearer $token}
login:
  - post: /login
    json: {user: $login.user, more: $serial, parts: [$serial, x]}
    take: {token: $.token}
read:
  - get: /a
    query: {part: '$(component == "main" ? nil : component)', s: $serial}
    take: {version: $.v}
`))
	f, err := p.Read[0].Fill(family.Values{"component": "main", "serial": ""}, p.Wire)
	require.NoError(t, err)
	assert.Equal(t, "/a?s=", f.Target)
	assert.Empty(t, f.Header)
	f, err = p.Read[0].Fill(family.Values{"component": "io", "token": "t"}, p.Wire)
	require.NoError(t, err)
	assert.Equal(t, "/a?part=io", f.Target)
	assert.Equal(t, "Bearer t", f.Header.Get("Authorization"))
	f, err = p.Login[0].Fill(family.Values{"login": family.LoginValues{"user": "keeper"}}, nil)
	require.NoError(t, err)
	assert.JSONEq(t, `{"user":"keeper","parts":["x"]}`, string(f.Body))
	assert.False(t, f.Secret)
}

func TestTakes(t *testing.T) {
	p := parsed(t, whole(`read:
  - get: /a
    take:
      version: $.v
      n: int $.n
      parts: map $.parts[*] by $.name of $.version
      components: map $.flat
      list: list $.parts[*].name
      none: $.none or "-"
      unset: $.none or nil
      ok: bool $.ok or false
      head: header X-Head or ""
      title: ~ title=(\w+) or ""
`))
	step := p.Read[0]
	body := `{"v":1.10,"n":7,"ok":true,"flat":{"io":"1.2","n":3},"parts":[{"name":"a","version":"1"},{"name":"b\u001b[2J","version":"2"},{"x":1}],"t":"title=lock"}`
	v := family.Values{}
	require.NoError(t, step.TakeFrom(family.Answer{Body: []byte(body),
		Header: http.Header{"X-Head": {"h"}}}, v))
	assert.Equal(t, family.Values{"version": "1.10", "n": 7, "parts": map[string]string{"a": "1",
		"b[2J": "2"},
		"components": map[string]string{"io": "1.2", "n": "3"}, "list": []string{"a", "b[2J"},
		"none": "-",
		"ok":   true, "head": "h", "title": "lock"}, v)
	for body, want := range map[string]string{
		`{}`:                                    "it has no version",
		`{"v":"1","n":"x"}`:                     `n: "x" is not a whole number`,
		`<html>`:                                "unexpected JSON",
		`{"v":"1","n":1,"parts":[1],"flat":{}}`: `parts: "1" is not an object`,
		strings.Repeat("[", 100):                "nested too deeply",
	} {
		assert.ErrorContains(t, step.TakeFrom(family.Answer{Body: []byte(body)}, family.Values{}), want)
	}
	assert.Equal(t, "Lock", takes(t, "//title", "<!doctype html><html><head><title>Lock</title>"))
	assert.Equal(t, "tok", takes(t, `//input[@name="csrf"]/@value`,
		`<html><form><input name="csrf" value="tok">`))
}

// A document that would keep an XPath busy for minutes is refused: one of very many elements, and
// one that is very deep.
func TestDocumentsAreBounded(t *testing.T) {
	p := parsed(t, whole("read:\n  - get: /a\n    take: {version: '//*[not(a)]'}\n"))
	for body, want := range map[string]string{
		strings.Repeat("<a>", 200) + strings.Repeat("</a>", 200):     "nested too deeply",
		"<!doctype html><html>" + strings.Repeat("<div>", 200):       "nested too deeply",
		"<a>" + strings.Repeat("<b/>", 80_000) + "</a>":              "too large",
		"<!doctype html><html>" + strings.Repeat("<p>", 80_000):      "too large",
		strings.Repeat("<a>", 10) + "x" + strings.Repeat("</a>", 10): "",
	} {
		err := p.Read[0].TakeFrom(family.Answer{Body: []byte(body)}, family.Values{})
		if want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
}

// What an answer means: the family's outcomes in their order, then those of the protocol.
func TestOutcomes(t *testing.T) {
	p := parsed(t, whole(`read:
  - get: /a
    take: {version: $.v}
    outcome:
      404: done
      5xx: again
      status == 409 && answer("$.why") == "busy": again
      header("X-Other") != "": changed Another one is here.
`))
	for _, c := range []struct {
		a      family.Answer
		inside family.Word
		login  family.Word
		says   string
	}{
		{family.Answer{Status: 200}, family.OK, family.OK, ""},
		{family.Answer{Status: 404}, family.Done, family.Done, "HTTP 404"},
		{family.Answer{Status: 502}, family.Again, family.Again, "HTTP 502"},
		{family.Answer{Status: 409, Body: []byte(`{"why":"busy"}`)}, family.Again, family.Again,
			"HTTP 409"},
		{family.Answer{Status: 409, Body: []byte(`{"detail":"the gate moves"}`)}, family.Refused,
			family.Refused, "the gate moves"},
		{family.Answer{Status: 200, Header: http.Header{"X-Other": {"1"}}}, family.Changed,
			family.Changed, "Another one is here."},
		{family.Answer{Status: 401}, family.LoginLost, family.Credential, "HTTP 401"},
		{family.Answer{Status: 429}, family.Again, family.Locked, "HTTP 429"},
		{family.Answer{Status: 302}, family.Refused, family.Refused, "HTTP 302"},
	} {
		for loggingIn, want := range map[bool]family.Word{false: c.inside, true: c.login} {
			word, says, err := p.Read[0].Means(family.Values{}, c.a, loggingIn)
			require.NoError(t, err)
			assert.Equal(t, want, word, "%+v", c.a)
			assert.Equal(t, c.says, says)
		}
	}
}

func BenchmarkParse(b *testing.B) {
	text := whole("read:\n  - get: /a\n    take: {version: $.v}\n")
	for i := 0; strings.Count(text, "\n") < 200; i++ {
		text += "  - get: /a\n    take: {x: '//a/b', y: int $.n or 0}\n    when: y > 1 && x != \"\"\n"
	}
	for b.Loop() {
		if _, err := family.Parse("f.yaml", []byte(text)); err != nil {
			b.Fatal(err)
		}
	}
}

func FuzzProgram(f *testing.F) {
	f.Add(whole("read:\n  - get: /a\n    take: {version: $.v}\n"))
	f.Add(head + "protocol: snmp\nread:\n  - get: {a: 1.3.6.1}\n  - set: {1.3: int $a}\n")
	f.Fuzz(func(t *testing.T, text string) {
		_, _ = family.Parse("f.yaml", []byte(text)) // an error, or not; never more
	})
}

// Mistakes in what is said of BACnet have a place, too.
func TestMistakesInBACnet(t *testing.T) {
	start := head + "protocol: bacnet\nsecrets: {bacnet: reading}\n"
	update := start + "read:\n  - get: {size: \"int file,1/file-size\"}\nupdate:\n  - upload: file,1\n"
	parsed(t, update+"restart:\n  - reinitialise: warmstart $login.bacnet\n")
	for text, want := range map[string]string{
		start + "read:\n  - get: {size: \"file,1/file-sise\"}\n": `get: "file-sise" is not a property (did you mean file-size?)`,
		start + "read:\n  - get: {size: file,1/file-size}\n":     `within { } in quotes`,
		start + "read:\n  - get: {all: \"int file,1\"}\n":        "get: all: a whole file is a text",
		start + "read:\n  - get: {n: \"files,1/file-size\"}\n":   `"files" is not a type of object (did you mean file?)`,
		start + "read:\n  - get: {n: \"file,1/42\"}\n    take: {v: $.n}\n": "an answer of BACnet is its " +
			"objects: name each in get:, with a pattern if only a part of it counts: get: {version: device/firmware-revision",
		start + "update:\n  - set: {\"file,1/file-size\": int 0}\n":       "set: write the type (null, boolean, unsigned,",
		start + "update:\n  - upload: analog-value,1\n":                   "upload: of protocol: bacnet goes to a file object",
		start + "update:\n  - upload: /fw\n":                              "upload: of protocol: bacnet goes to a file object",
		update + "restart:\n  - reinitialise: coldstrat\n":                `reinitialise: "coldstrat" is not one of activate-changes, coldstart, warmstart; did you mean coldstart?`,
		update + "restart:\n  - reinitialise: coldstart $login.bacnett\n": "the login has no bacnett; did you mean bacnet?",
		update + "restart:\n  - run: reboot\n":                            "run: is not a step of protocol: bacnet; there are get, upload, poll, offer, set, reinitialise, wait, ask",
	} {
		_, err := family.Parse("f.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

// Each family of the page of shapes can be read.
func TestTheShapes(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "family-shapes.md"))
	require.NoError(t, err)
	blocks := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(raw), -1)
	require.Len(t, blocks, 5)
	for _, block := range blocks {
		f, err := family.Parse("family-shapes.md", []byte(block[1]))
		require.NoError(t, err, block[1])
		assert.True(t, len(f.Program.Update) > 0 || f.Children != nil, f.Name)
	}
}

// The manual's worked example is a family that can be read, and every key and word stands in it.
func TestTheManual(t *testing.T) {
	raw, err := os.ReadFile(filepath.Join("..", "..", "docs", "families.md"))
	require.NoError(t, err)
	example := ""
	for _, block := range regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(
		string(raw), -1) {
		example += block[1]
	}
	f, err := family.Parse("families.md", []byte(example))
	require.NoError(t, err)
	assert.NotEmpty(t, f.Program.Update)
	for _, word := range slices.Concat(family.Keys(), wordsOf(family.Words)) {
		assert.True(t, strings.Contains(string(raw), "`"+word+"`"), "the manual says nothing of %s", word)
	}
}

func wordsOf(all []family.Word) (out []string) {
	for _, w := range all {
		out = append(out, string(w))
	}
	return out
}

// An independent validator finds that the schema holds for the families that there are, and finds
// the mistakes that an editor should show.
func TestTheSchema(t *testing.T) {
	raw, err := family.Schema()
	require.NoError(t, err)
	check := func(text string) string { return schematest.Findings(t, raw, text) }
	all, err := filepath.Glob("../sim/families/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, all)
	for _, name := range all {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Empty(t, check(string(text)), name)
	}
	for text, want := range map[string]string{
		whole("raed:\n  - get: /a\n"):                          "raed",
		whole("read:\n  - {get: /a, post: /b}\n"):              "$.read[0]",
		whole("read:\n  - {get: /a, tkae: {v: $.v}}\n"):        "tkae",
		whole("secrets: {a: sometimes}\n"):                     "sometimes",
		whole("enter:\n  steps: [{post: /a}]\n  while: x\n"):   "while",
		whole("update:\n  - {upload: PUT /a, within: soon}\n"): "soon",
	} {
		assert.Contains(t, check(text), want)
	}
	for _, key := range family.Keys() {
		assert.Contains(t, string(raw), `"`+key+`":`)
	}
}

// A part of an SNMP value is extracted by a pattern at its object. What can never be found in an
// answer is refused, and not searched for in vain.
func TestPartsOfObjects(t *testing.T) {
	const top = "family: f\nvendor: Osmere\nmodels: [OS-8]\nprotocol: snmp\nrecognise:\n" +
		"  - get: {serial: 1.3.6.1.4.1.64999.7.1.0}\nread:\n"
	f, err := family.Parse("f.yaml", []byte(top+"  - get: {version: sysDescr.0 ~ V(\\S+),\n"+
		"          ports: int 1.3.6.1.2.1.2.1.0 ~ ^\\d+}\n"))
	require.NoError(t, err)
	step := f.Program.Read[0]
	v := family.Values{}
	require.NoError(t, step.TakeFrom(family.Answer{Objects: map[string]any{
		"version": "Osmere OS-8, firmware V4.2-b7 of 2026", "ports": "24 ports"}}, v))
	assert.Equal(t, family.Values{"version": "4.2-b7", "ports": 24}, v)
	err = step.TakeFrom(family.Answer{Objects: map[string]any{"version": "Osmere", "ports": "24"}}, v)
	require.ErrorContains(t, err, `version: its value does not match ~ V(\S+): "Osmere"`)

	for steps, says := range map[string]string{
		"  - get: {version: sysDescr.0}\n    take: {more: '~ V(.*)'}\n":                                   "an answer of SNMP is its objects",
		"  - get: {version: sysDescr.0 ~ V(x}\n":                                                          "missing closing )",
		"  - get: {version: map 1.3.6.1.2 ~ V}\n":                                                         "a map takes no pattern",
		"  - get: {version: sysDescr.0}\n  - set: {1.3.6.1.4.1.1: int 1}\n    take: {b: $.a}\n":           "nothing to extract",
		"  - get: {version: sysDescr.0}\n  - run: ver\n    protocol: ssh\n    take: {b: header Server}\n": "an answer of ssh has no headers",
	} {
		_, err := family.Parse("f.yaml", []byte(top+steps))
		require.ErrorContains(t, err, says, steps)
	}
}
