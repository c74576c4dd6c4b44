package scripted

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/login"
)

// Recording is what a device answered, so that a family can be tested without it. Secrets are not
// in it: each stands there as its name, and equal ones as equal names.
type Recording struct {
	Recording int            `json:"recording"` // of the format; always 1
	Family    string         `json:"family"`
	Protocol  string         `json:"protocol"`
	Secure    bool           `json:"secure"` // it was over TLS
	Exchanges []Exchange     `json:"exchanges"`
	Reading   device.Reading `json:"reading"` // what the device was read as
}

// Exchange is what was sent, and what came back.
type Exchange struct {
	Sent    string            `json:"sent"`
	Status  int               `json:"status,omitempty"`
	Header  map[string]string `json:"header,omitempty"`
	Body    string            `json:"body,omitempty"`
	Objects map[string]any    `json:"objects,omitempty"`
	Trouble *device.Cause     `json:"trouble,omitempty"` // instead of an answer
}

// Record reads a device and returns what it answered. Its errors are those of Read; what was
// exchanged until then is returned, too. watch is shown every exchange; it may be nil.
func (d Dialect) Record(ctx context.Context, at dialect.At, as login.Credential,
	watch func(Seen)) (Recording, error) {
	s := d.open(at, as)
	s.watch = watch
	tape := &tape{secrets: map[string]string{}, of: s}
	s.through = func(c carrier) carrier { return taped{c, tape} }
	defer func() { _ = s.Close(context.WithoutCancel(ctx)) }()
	r, err := s.Read(ctx)
	return Recording{Recording: 1, Family: d.family.Name, Protocol: d.family.Program.Protocol,
		Secure: at.Secure(), Exchanges: tape.blanked(), Reading: r.Over(device.Reading{})}, err
}

// tape records what goes over a carrier.
type tape struct {
	of      *session
	secrets map[string]string // all that there were, by placeholder
	all     []Exchange
}

// taped is a carrier that is recorded.
type taped struct {
	carrier
	on *tape
}

func (t taped) ask(ctx context.Context, step *family.Step, f family.Filled, image *cargo) (
	family.Answer, error) {
	a, err := t.carrier.ask(ctx, step, f, image)
	t.on.add(step, f, a, err)
	return a, err
}

func (t *tape) add(step *family.Step, f family.Filled, a family.Answer, err error) {
	e := Exchange{Sent: inWords(step, f), Status: a.Status, Objects: a.Objects, Trouble: asCause(err)}
	if utf8.Valid(a.Body) {
		e.Body = string(a.Body)
	} else {
		e.Body = strings.ToValidUTF8(string(a.Body), "?")
	}
	for name := range a.Header {
		if !slices.Contains([]string{"Date", "Set-Cookie"}, name) {
			if e.Header == nil {
				e.Header = map[string]string{}
			}
			e.Header[name] = a.Header.Get(name)
		}
	}
	t.all = append(t.all, e)
	t.note()
}

// note keeps the secrets that the session knows now: a token lives until the next login.
func (t *tape) note() {
	for name, secret := range t.of.secrets() {
		for n := 1; ; n++ {
			key := name
			if n > 1 {
				key = fmt.Sprintf("%s#%d", name, n)
			}
			if t.secrets[key] == "" {
				t.secrets[key] = secret
			}
			if t.secrets[key] == secret {
				break
			}
		}
	}
}

// blanked are the exchanges without secrets.
func (t *tape) blanked() []Exchange {
	t.note()
	var pairs []string
	for name, secret := range t.secrets {
		for _, encode := range encodings {
			pairs = append(pairs, encode(secret), encode(placeholder(name)))
		}
	}
	blank := strings.NewReplacer(pairs...)
	for i := range t.all {
		e := &t.all[i]
		e.Sent, e.Body = blank.Replace(e.Sent), blank.Replace(e.Body)
		for name, value := range e.Header {
			e.Header[name] = blank.Replace(value)
		}
		for name, value := range e.Objects {
			if text, is := value.(string); is {
				e.Objects[name] = blank.Replace(text)
			}
		}
	}
	return t.all
}

// inWords is what a step sends, as a recording has it.
func inWords(step *family.Step, f family.Filled) string {
	parts := []string{strings.TrimSpace(f.Method + " " + f.Target + f.Command)}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range f.Header {
			if !yield(name) {
				return
			}
		}
	}) {
		if !strings.HasPrefix(f.Header.Get(name), "multipart/") { // its boundary is random
			parts = append(parts, name+": "+f.Header.Get(name))
		}
	}
	for _, o := range step.Objects {
		parts = append(parts, o.OID)
	}
	if len(f.Body) > 0 {
		parts = append(parts, string(f.Body))
	}
	return strings.Join(parts, "\n")
}

// Difference is where a family does not do with a recording what it did with the device.
type Difference struct {
	Exchange int // from 1; 0: the reading
	Line     int // of the family file; 0: none
	Text     string
}

// Replay runs the family against a recording and returns where it does something else. Nothing
// leaves the machine.
func (d Dialect) Replay(ctx context.Context, r Recording) []Difference {
	at := dialect.At{}
	if r.Secure {
		at.Scheme = "https"
	}
	s := d.open(at, login.Credential{User: placeholder("login.user"),
		Password: placeholder("login.password"), PlainBasic: d.family.PlainBasic})
	played := &replay{of: r.Exchanges}
	s.through = func(carrier) carrier { return played }
	if d.base != nil { // what the standard's own objects told is in the recording's reading
		s.base = told{reading: r.Reading}
	}
	got, err := s.Read(ctx)
	switch {
	case played.wrong != nil:
		return []Difference{*played.wrong}
	case err != nil:
		return []Difference{{Text: err.Error()}}
	case played.at < len(r.Exchanges):
		return []Difference{{Exchange: played.at + 1, Text: "the family does not send this any more:\n" +
			r.Exchanges[played.at].Sent}}
	}
	was, _ := json.Marshal(r.Reading)
	is, _ := json.Marshal(got.Over(device.Reading{}))
	if string(was) != string(is) {
		return []Difference{{Text: fmt.Sprintf("the device is read as\n%s\nand not as\n%s", is, was)}}
	}
	return nil
}

// told is a session that has read already.
type told struct {
	dialect.ReadOnly
	reading device.Reading
}

func (t told) Read(context.Context) (device.Reading, error) { return t.reading, nil }

// replay answers as a recording has it.
type replay struct {
	of    []Exchange
	at    int
	wrong *Difference
}

func (p *replay) close() {}

func (p *replay) ask(_ context.Context, step *family.Step, f family.Filled, _ *cargo) (family.Answer,
	error) {
	sent := inWords(step, f)
	give := func(text string) (family.Answer, error) {
		p.wrong = &Difference{Exchange: p.at + 1, Line: step.Line, Text: text}
		return family.Answer{}, device.Because(device.NoAnswer, "the recording ends here")
	}
	if p.at >= len(p.of) {
		return give("the recording has no answer to\n" + sent)
	}
	e := p.of[p.at]
	if sent != e.Sent {
		return give("the family sends\n" + sent + "\nand the recording has\n" + e.Sent)
	}
	p.at++
	if e.Trouble != nil {
		return family.Answer{}, e.Trouble
	}
	a := family.Answer{Status: e.Status, Body: []byte(e.Body), Objects: map[string]any{},
		Header: http.Header{}}
	for name, value := range e.Header {
		a.Header.Set(name, value)
	}
	for name, value := range e.Objects {
		a.Objects[name] = asObject(value)
	}
	return a, nil
}

// asObject is a value of JSON as a carrier gives it.
func asObject(v any) any {
	tree, is := v.(map[string]any)
	if !is {
		return v
	}
	out := map[string]string{}
	for name, value := range tree {
		out[name] = fmt.Sprint(value)
	}
	return out
}
