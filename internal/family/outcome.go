package family

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"catena/internal/bacnet"
	"catena/internal/text"
)

// Means says what an answer means: the first outcome of the step that holds, else what the
// protocol says. says is a sentence for the person: the family's, else the device's own.
// loggingIn is set within login.
func (s *Step) Means(v Values, a Answer, loggingIn bool) (word Word, says string, err error) {
	for _, o := range s.Outcomes {
		holds := o.Low <= a.Status && a.Status <= o.High
		if o.If != nil {
			holds, err = o.If.Holds(v, &a)
			if err != nil {
				return Refused, "", err
			}
		}
		if holds {
			if o.Says == "" {
				return o.Word, s.sentence(a), nil
			}
			return o.Word, o.Says, nil
		}
	}
	word = s.usual(a.Status, loggingIn)
	if s.typed && s.refuses(a) {
		word = Refused
	}
	if word == OK {
		return OK, "", nil
	}
	return word, s.sentence(a), nil
}

// usual is what a status means where the family does not say (RFC 9110, 15; RFC 6585).
func (s *Step) usual(status int, loggingIn bool) Word {
	switch {
	case s.Protocol == "http":
	case status == 0:
		return OK
	case s.Protocol == "bacnet" && (status == bacnet.CodeDeviceBusy || status == bacnet.CodeBusy):
		return Again
	default:
		return Refused
	}
	switch {
	case status >= 200 && status < 300:
		return OK
	case status == http.StatusUnauthorized && loggingIn:
		return Credential
	case status == http.StatusUnauthorized:
		return LoginLost
	case status == http.StatusForbidden && loggingIn:
		return Credential
	case status == http.StatusForbidden:
		return NoRight
	case status == http.StatusTooManyRequests && loggingIn:
		return Locked
	case status == http.StatusTooManyRequests, status == http.StatusServiceUnavailable:
		return Again
	}
	return Refused
}

// sentence is what a device says of a refusal, where the family says that it does, or as usual.
func (s *Step) sentence(a Answer) string {
	if s.refuses(a) {
		got, _ := s.says.find(a) // it has just been found
		return text.Clean(plainText(got[0]))
	}
	return a.sentence(s.Protocol)
}

// refuses reports whether an answer says why the device refuses.
func (s *Step) refuses(a Answer) bool {
	if s.says == nil {
		return false
	}
	got, err := s.says.find(a)
	return err == nil && len(got) > 0 && plainText(got[0]) != ""
}

// sentence is what a device says of a refusal: the detail of a problem (RFC 9457, 3.1.4), the
// first line of what a command printed, else the status.
func (a Answer) sentence(protocol string) string {
	if protocol != "http" {
		line, _, _ := strings.Cut(strings.TrimSpace(string(a.Body[:min(len(a.Body), 500)])), "\n")
		if line = text.Clean(line); line != "" {
			return line
		}
		return fmt.Sprintf("exit status %d", a.Status)
	}
	var problem struct {
		Detail string `json:"detail"`
	}
	if json.NewDecoder(bytes.NewReader(a.Body)).Decode(&problem) == nil && problem.Detail != "" {
		return text.Clean(problem.Detail)
	}
	return fmt.Sprintf("HTTP %d", a.Status)
}

// TakeFrom keeps what a step takes of its answer. Its error names what the answer lacks.
func (s *Step) TakeFrom(a Answer, v Values) error {
	for _, o := range s.Objects {
		if o.Name == "" {
			continue
		}
		got, is := a.Objects[o.Name]
		if !is {
			return fmt.Errorf("it has no object %s (%s)", o.OID, o.Name)
		}
		if o.As == Map || o.Whole() && o.Match == nil {
			v[o.Name] = got
			continue
		}
		if o.Match != nil {
			m := o.Match.FindStringSubmatch(fmt.Sprint(got))
			if m == nil {
				return fmt.Errorf("%s: its value does not match ~ %s: %.60q", o.Name, o.Match, fmt.Sprint(got))
			}
			got = m[min(1, len(m)-1)]
		}
		value, err := o.As.scalar(got)
		if err != nil {
			return fmt.Errorf("%s: %w", o.Name, err)
		}
		v[o.Name] = value
	}
	if s.Each != nil { // TakeEach does so
		return nil
	}
	return s.taken(a, v)
}

// taken keeps what a step takes of an answer, or of a part of one.
func (s *Step) taken(a Answer, v Values) error {
	for _, t := range s.Take {
		value, found, err := t.take(a)
		switch {
		case err != nil:
			return err
		case !found:
			return fmt.Errorf("it has no %s", t.Name)
		case value == nil:
			delete(v, t.Name)
		default:
			v[t.Name] = value
		}
	}
	return nil
}

// maxChildren bounds a list of children: a controller has dozens of them.
const maxChildren = 512

// TakeEach takes the values of each child that an answer lists. Its error names what one of them
// lacks, and which it is, from 1.
func (s *Step) TakeEach(a Answer) ([]Values, error) {
	parts, err := s.Each.parts(a)
	if err != nil {
		return nil, err
	}
	if len(parts) > maxChildren {
		return nil, fmt.Errorf("it lists %d children; at most %d are taken", len(parts), maxChildren)
	}
	out := make([]Values, len(parts))
	for i, part := range parts {
		out[i] = Values{}
		if err := s.taken(part, out[i]); err != nil {
			return nil, fmt.Errorf("child %d of its list: %w", i+1, err)
		}
	}
	return out, nil
}

// Names are what the steps take.
func Names(steps []*Step) (out []string) {
	for _, s := range steps {
		for _, t := range s.Take {
			out = append(out, t.Name)
		}
		for _, o := range s.Objects {
			if o.Name != "" {
				out = append(out, o.Name)
			}
		}
		out = append(out, Names(s.Steps)...)
	}
	return out
}

// SecretNames returns the names of what a program takes and must not show: what its login and its
// enter take, and what it marks.
func (p *Program) SecretNames() []string {
	out := append(Names(p.Login), Names(p.Enter.Steps)...)
	if p.Settings != nil {
		out = append(out, Names(p.Settings.Save)...)
	}
	Walk(p.all(), func(s *Step) {
		for _, t := range s.Take {
			if t.Secret {
				out = append(out, t.Name)
			}
		}
	})
	return out
}

// UpdateNames are what the steps of updates take, but their polls, which are asked again: it is
// kept until the update is over.
func (p *Program) UpdateNames() (out []string) {
	steps := append(slices.Clone(p.Update), p.Restart...)
	if p.ParentRoute != nil {
		steps = append(steps, p.ParentRoute.Store...)
	}
	for _, part := range p.Parts {
		steps = slices.Concat(steps, part.Update, part.Restart)
	}
	for _, s := range steps {
		if s.Kind != Poll {
			out = append(out, Names([]*Step{s})...)
		}
	}
	return out
}

// all are the steps of a program.
func (p *Program) all() []*Step {
	out := slices.Concat(p.Recognise, p.Login, p.Logout, p.Enter.Steps, p.Enter.Leave, p.Read,
		p.Update,
		p.Restart, p.Revert, p.Address, p.Blink)
	for _, part := range p.Parts {
		out = slices.Concat(out, part.Update, part.Restart)
	}
	if p.Settings != nil {
		out = slices.Concat(out, p.Settings.Save, p.Settings.Restore)
	}
	for _, c := range p.Carry {
		out = slices.Concat(out, c.Read, c.Write)
	}
	if p.ParentRoute != nil {
		out = slices.Concat(out, p.ParentRoute.List, p.ParentRoute.Store)
	}
	return out
}

// Typed reads values that were kept as JSON. What has another type than the name now is left out.
func (p *Program) Typed(raw map[string]json.RawMessage) Values {
	v := Values{}
	for name, value := range raw {
		to := reflect.New(reflect.TypeOf(p.names[name].zero()))
		if p.names[name] != "" && json.Unmarshal(value, to.Interface()) == nil {
			v[name] = to.Elem().Interface()
		}
	}
	return v
}
