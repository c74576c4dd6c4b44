package scripted

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/login"
)

// Recording is what a device answered, so that a family can be tested without it. Secrets are not
// in it: each stands there as its name, and equal ones as equal names; so do values that are others
// each time.
type Recording struct {
	Recording int            `json:"recording"` // of the format; always 1
	Family    string         `json:"family"`
	Unit      string         `json:"unit,omitempty"` // which child it is, of one
	Protocol  string         `json:"protocol"`
	Secure    bool           `json:"secure"` // it was over TLS
	Exchanges []Exchange     `json:"exchanges"`
	Reading   device.Reading `json:"reading"` // the device as it was read
	// those that it told of then; null: its family has none
	Children []device.Child `json:"children"`
	// Settings says that its settings and carried values were written back before that.
	Settings bool            `json:"settings,omitempty"`
	Update   *RecordedUpdate `json:"update,omitempty"` // where it was sent an image
}

// RecordedUpdate is an image that was sent, and the reading of the device afterwards.
type RecordedUpdate struct {
	Component string             `json:"component"`
	Image     family.ImageValues `json:"image"`
	Reading   device.Reading     `json:"reading"`
	Sent      int                `json:"sent"`  // the exchange from which it was sent
	Fresh     int                `json:"fresh"` // the exchange from which it was read as running it
}

// Exchange is a request and its answer.
type Exchange struct {
	Sent    string            `json:"sent"`
	Status  int               `json:"status,omitempty"`
	Header  map[string]string `json:"header,omitempty"`
	Body    string            `json:"body,omitempty"`
	Objects map[string]any    `json:"objects,omitempty"`
	Trouble *device.Cause     `json:"trouble,omitempty"` // instead of an answer
	Base    *device.Reading   `json:"base,omitempty"`    // the values of the standard's own objects
}

// mostRecorded bounds a recording, in bytes.
const mostRecorded = 64 << 20

// ErrNoRecording is that a file is not a recording of a device.
var ErrNoRecording = errors.New("it is not a recording")

// ReadRecording reads a recording. Its error wraps ErrNoRecording if the file is
// another one.
func ReadRecording(name string) (r Recording, err error) {
	f, err := os.Open(name)
	if err != nil {
		return r, err
	}
	defer func() { _ = f.Close() }()
	err = json.NewDecoder(io.LimitReader(f, mostRecorded)).Decode(&r)
	if u := r.Update; err != nil || r.Recording != 1 ||
		u != nil && (u.Sent < 0 || u.Fresh < u.Sent || len(r.Exchanges) < u.Fresh) {
		return r, fmt.Errorf("%s: %w", name, ErrNoRecording)
	}
	return r, nil
}

// Recorder is a session that stores the device's answers.
type Recorder struct {
	*session
	tape  *tape
	was   device.Reading
	kids  []device.Child
	wrote bool // its settings, and its carried values, were written back
	after *RecordedUpdate
}

// Recorder opens a session that is recorded. watch is shown every exchange; it may be nil.
func (d Dialect) Recorder(at dialect.At, as login.Credential, watch func(Seen)) *Recorder {
	s := d.open(at, as)
	s.watch, s.recorded = watch, true
	r := &Recorder{session: s, tape: &tape{secrets: map[string]string{}, of: s}}
	s.through = func(c carrier) carrier { return taped{c, r.tape} }
	if s.base != nil {
		s.base = tapedBase{s.base, r.tape}
	}
	return r
}

// First reads the device, and its children, as they were before all else. Its errors are those of
// Read and Children.
func (r *Recorder) First(ctx context.Context) (device.Reading, []device.Child, error) {
	got, err := r.Read(ctx)
	r.was = got.Over(device.Reading{})
	if err == nil {
		r.kids, err = r.Children(ctx)
	}
	if errors.Is(err, device.ErrUnsupported) {
		err = nil
	}
	return r.was, r.kids, err
}

// Bring sends an image and follows it until the device is read as running another version, and is
// well. again waits before the next look, and returns false when it is enough. Its errors are the
// device's.
func (r *Recorder) Bring(ctx context.Context, as dialect.Session, component string,
	image dialect.Image,
	again func() bool) (device.Reading, error) {
	var sent, fresh int
	now, err := bring(ctx, as, component, image, r.was, again, func(sends bool) {
		if fresh = len(r.tape.all); sends {
			sent = fresh
		}
	})
	if err == nil {
		r.after = &RecordedUpdate{Component: component, Image: r.image,
			Reading: now.Over(device.Reading{}),
			Sent:    sent, Fresh: fresh}
	}
	return now, err
}

// Recording returns the recording so far.
func (r *Recorder) Recording() Recording {
	return Recording{Recording: 1, Family: r.family.Name, Unit: r.at.Unit, Settings: r.wrote,
		Protocol: r.program.Protocol,
		Secure:   r.at.Secure(), Exchanges: r.tape.blanked(), Reading: r.was, Children: r.kids,
		Update: r.after}
}

// bring is an update without the care of a job: for a device on a bench, and for a recording of
// one. starts is called before the image is sent, and each time before the device is read again.
func bring(ctx context.Context, s dialect.Session, component string, image dialect.Image,
	was device.Reading, again func() bool, begins func(sends bool)) (now device.Reading, err error) {
	update, err := s.Update(component)
	if err != nil {
		return now, err
	}
	if err := update.Ready(ctx, image); err != nil {
		return now, err
	}
	ctx = context.WithoutCancel(ctx) // a write is never interrupted
	begins(true)
	if err := update.Transfer(ctx, image, nil); err != nil {
		return now, err
	}
	for {
		percent, err := update.Progress(ctx)
		if err == nil && percent >= 100 || errors.Is(err, device.ErrUnsupported) {
			break
		}
		if errors.Is(err, device.ErrRefused) || !again() {
			return now, fmt.Errorf("it has not written the image: %w", err)
		}
	}
	if !update.Traits().RestartsByItself {
		if err := update.Activate(ctx); err != nil && !errors.Is(err, device.ErrAway) {
			return now, err
		}
	}
	for {
		begins(false)
		now, err = s.Read(ctx)
		isNew := now.Of(component) != was.Of(component)
		if err == nil && isNew {
			err = s.Healthy(ctx, was)
		}
		switch {
		case err == nil && isNew:
			return now, nil
		case again():
		case err == nil:
			return now, fmt.Errorf("it does not run another version: it runs %s", now.Of(component))
		default:
			return now, fmt.Errorf("it is not verified: %w", err)
		}
	}
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

// tapedBase is a session by the standard's own objects that is recorded.
type tapedBase struct {
	dialect.Session
	on *tape
}

// theStandard is the request of an exchange that reads the standard's objects.
const theStandard = "(the standard's objects)"

func (t tapedBase) Read(ctx context.Context) (device.Reading, error) {
	r, err := t.Session.Read(ctx)
	kept := r.Over(device.Reading{})
	t.on.all = append(t.on.all, Exchange{Sent: theStandard, Base: &kept, Trouble: asCause(err)})
	return r, err
}

func (t *tape) add(step *family.Step, f family.Filled, a family.Answer, err error) {
	t.note()
	for _, hidden := range f.Hidden { // a value derived from a secret may appear in an answer
		known := slices.Contains(slices.Collect(maps.Values(t.secrets)), hidden)
		if len(hidden) > 3 && !known {
			t.secrets[fmt.Sprintf("derived.%d", len(t.secrets)+1)] = hidden
		}
	}
	if f.Shown != nil {
		f = *f.Shown
	}
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
				key = fmt.Sprintf("%s.%d", name, n)
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

// inWords is the request of a step, in the form of a recording.
func inWords(step *family.Step, f family.Filled) string {
	parts := []string{strings.TrimSpace(f.Method + " " + f.Target + f.Command)}
	for _, name := range slices.Sorted(func(yield func(string) bool) {
		for name := range f.Header {
			if !yield(name) {
				return
			}
		}
	}) {
		parts = append(parts, name+": "+f.Header.Get(name))
	}
	parts = append(parts, objects(step, f)...)
	if len(f.Body) > 0 {
		parts = append(parts, string(f.Body))
	}
	if f.Image {
		parts = append(parts, "(the image)")
	}
	return strings.Join(parts, "\n")
}

// Difference is where a family behaves differently with a recording than with the device.
type Difference struct {
	Exchange int // from 1; 0: the reading
	Line     int // of the family file; 0: none
	Text     string
}

// Replay runs the family against a recording and returns where it does something else. Nothing
// leaves the machine.
func (d Dialect) Replay(ctx context.Context, r Recording) []Difference {
	played := &replay{of: r.Exchanges}
	s := d.recorded(r, played)
	if d.base != nil {
		s.base = replayed{of: played}
	}
	compare := func(got, want any, read string) []Difference {
		was, _ := json.Marshal(want)
		is, _ := json.Marshal(got)
		if string(was) != string(is) {
			return []Difference{{Text: fmt.Sprintf("%s\n%s\nand not as\n%s", read, is, was)}}
		}
		return nil
	}
	const reads = "the device is read as"
	got, err := s.Read(ctx)
	different := compare(got.Over(device.Reading{}), r.Reading, reads)
	if err == nil && len(different) == 0 && r.Children != nil {
		var kids []device.Child
		kids, err = s.Children(ctx)
		different = compare(kids, r.Children, "its children are read as")
	}
	if err == nil && len(different) == 0 && r.Settings {
		err = s.replaySettings(ctx, played)
	}
	if err == nil && len(different) == 0 && r.Update != nil {
		size := int64(r.Update.Image.Size)
		got, err = bring(ctx, s, r.Update.Component, dialect.Image{ReaderAt: nothing{}, Size: size,
			SHA256: r.Update.Image.SHA256}, got, func() bool {
			return played.wrong == nil &&
				ctx.Err() == nil
		}, func(bool) {})
		different = compare(got.Over(device.Reading{}), r.Update.Reading, reads)
	}
	if err == nil && played.wrong == nil {
		err = s.Close(ctx)
	}
	switch {
	case played.wrong != nil:
		return []Difference{*played.wrong}
	case err != nil:
		return []Difference{{Text: err.Error()}}
	case len(different) == 0 && played.at < len(r.Exchanges):
		return []Difference{{Exchange: played.at + 1, Text: "the family no longer sends this:\n" +
			r.Exchanges[played.at].Sent}}
	}
	return different
}

// recorded opens a session with a recording, through a carrier that has its answers.
func (d Dialect) recorded(r Recording, answers carrier) *session {
	at := dialect.At{}
	at.Ask = func(context.Context, string, bool) error { return nil }
	if r.Secure {
		at.Scheme = "https"
	}
	if d.parent != nil {
		at.Unit = r.Unit
		at.Parent = &dialect.Parent{Shared: &dialect.SharedSession{}, Contact: dialect.Contact{At: at}}
		at.Parent.As = (&session{family: d.family, program: d.family.Program}).blankLogin()
	}
	s := d.open(at, login.Credential{})
	s.as = s.blankLogin()
	s.v["login"] = loginValues(s.as)
	s.replayed, s.through = &r, func(carrier) carrier { return answers }
	return s
}

// blankLogin is a login of placeholders: what a recording has in the place of the one that was
// used.
func (s *session) blankLogin() login.Credential {
	as := login.Credential{User: placeholder("login.user"), Password: placeholder("login.password"),
		PlainBasic: s.family.PlainBasic, More: login.More{Secrets: map[string]string{}}}
	for _, secret := range s.program.Secrets {
		as.Secrets[secret.Name] = placeholder("login." + secret.Name)
	}
	return as
}

// nothing are zeros, as many as are read.
type nothing struct{}

func (nothing) ReadAt(p []byte, _ int64) (int, error) {
	clear(p)
	return len(p), nil
}

// replayed is a session by the standard's own objects that a recording answers.
type replayed struct {
	dialect.ReadOnly
	of interface {
		give(sent string, line int) (Exchange, error)
	}
}

func (t replayed) Read(context.Context) (device.Reading, error) {
	e, err := t.of.give(theStandard, 0)
	if err != nil || e.Base == nil {
		return device.Reading{}, err
	}
	return *e.Base, nil
}

// replay answers as a recording has it.
type replay struct {
	of    []Exchange
	at    int
	wrong *Difference
}

func (p *replay) close() {}

func (p *replay) ask(_ context.Context, step *family.Step, f family.Filled,
	_ *cargo) (family.Answer,
	error) {
	e, err := p.give(inWords(step, f), step.Line)
	return e.answer(), err
}

// answer is what came back, as a carrier gives it.
func (e Exchange) answer() family.Answer {
	a := family.Answer{Status: e.Status, Body: []byte(e.Body), Objects: map[string]any{},
		Header: http.Header{}}
	for name, value := range e.Header {
		a.Header.Set(name, value)
	}
	for name, value := range e.Objects {
		a.Objects[name] = asObject(value)
	}
	return a
}

// give is what came back for what is sent, by a step of that line. An error that was recorded is
// its error.
func (p *replay) give(sent string, line int) (Exchange, error) {
	other := func(text string) (Exchange, error) {
		p.wrong = &Difference{Exchange: p.at + 1, Line: line, Text: text}
		return Exchange{}, device.Because(device.NoAnswer, "the recording ends here")
	}
	if p.at >= len(p.of) {
		return other("the recording has no answer to\n" + sent)
	}
	e := p.of[p.at]
	if plainly.Replace(sent) != plainly.Replace(e.Sent) {
		return other("the family sends\n" + sent + "\nand the recording has\n" + e.Sent)
	}
	p.at++
	if e.Trouble != nil {
		return e, e.Trouble
	}
	return e, nil
}

// plainly takes the encodings off the marks of placeholders: a secret may look the same encoded,
// which its name does not.
var plainly = func() *strings.Replacer {
	var pairs []string
	for _, mark := range []string{"‹", "›"} {
		for _, encode := range encodings {
			if encode(mark) != mark {
				pairs = append(pairs, encode(mark), mark)
			}
		}
	}
	return strings.NewReplacer(pairs...)
}()

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
