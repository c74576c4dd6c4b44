package scripted

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
)

// kept is what must outlive a session that does not come to its end: that the device was entered,
// what leave requires, and how far an update is. It is written down before each step whose
// effect it tells of.
type kept struct {
	Family  string `json:"family"`
	Try     string `json:"try,omitempty"`
	Entered bool   `json:"entered,omitempty"`
	// Partly: entering has started, and whether the device is entered is not known.
	Partly bool `json:"partly,omitempty"`
	// the component that has the whole image
	Sent   string                     `json:"sent,omitempty"`
	Values map[string]json.RawMessage `json:"values,omitempty"`
}

// Bounds of leaving.
const (
	leaveWithin = time.Minute
	leaveTries  = 3
)

// adopt takes over what an earlier session has started and not ended.
func (s *session) adopt() error {
	if s.adopted || s.at.Kept == nil || !s.keeps() {
		return nil
	}
	raw, err := s.at.Kept()
	if err != nil {
		return err
	}
	s.adopted = true
	var was kept
	if len(raw) == 0 || json.Unmarshal(raw, &was) != nil || was.Family != s.family.Name {
		return nil
	}
	for name, value := range s.program.Typed(was.Values) {
		s.v[name] = value
	}
	s.v["try"], s.entered, s.sent, s.written = was.Try, was.Entered, was.Sent, true
	s.partly = was.Partly || s.program.Terminal != nil && was.Entered // that shell has ended
	return nil
}

// keep writes down what would have to be known after a crash. Nothing of it: it is over.
func (s *session) keep() error {
	if s.at.Keep == nil || !s.keeps() {
		return nil
	}
	now := kept{Family: s.family.Name, Entered: s.entered, Partly: s.partly, Sent: s.sent,
		Values: map[string]json.RawMessage{}}
	now.Try, _ = s.v["try"].(string)
	names := family.Names(s.program.Enter.Steps)
	if s.updating != "" || s.sent != "" {
		names = append(names, s.program.UpdateNames()...)
	}
	for _, name := range names {
		if value, is := s.v[name]; is {
			raw, err := json.Marshal(value)
			if err != nil {
				return err
			}
			now.Values[name] = raw
		}
	}
	if !now.Entered && now.Sent == "" && len(now.Values) == 0 {
		if !s.written {
			return nil
		}
		s.written = false
		return s.at.Keep(dialect.Kept{})
	}
	raw, err := json.Marshal(now)
	if err != nil {
		return err
	}
	s.written = true
	secret := now.Entered || slices.ContainsFunc(s.program.SecretNames(), func(name string) bool {
		return now.Values[name] != nil
	})
	return s.at.Keep(dialect.Kept{Raw: raw, Secret: secret, Entered: now.Entered})
}

// keeps tells whether the family has anything that outlives a session.
func (s *session) keeps() bool {
	return len(s.program.Enter.Steps) > 0 || len(s.program.UpdateNames()) > 0 ||
		len(s.program.Update) > 0 && !s.tells()
}

// arrive enters the device for what is done there, once. Before its first step it is on the disk
// that the device will have to be left, and what each step takes before the next. Where a session
// came only partly in, because it was killed or a step failed, the device is left and entered
// again: it may be in or not, and an update needs that it is.
func (s *session) arrive(ctx context.Context, writing bool) error {
	if err := s.adopt(); err != nil {
		return err
	}
	if s.hub != nil {
		return s.arriveBy(ctx, writing)
	}
	e := s.program.Enter
	if len(e.Steps) == 0 || s.entered && !s.partly || !writing && !e.Reads {
		return nil
	}
	if s.entered {
		_ = s.depart(ctx) // it may never have been in; whether it was left in the end is checked then
	}
	s.entered, s.partly, s.v["try"] = true, true, strings.ToLower(rand.Text()[:8])
	if s.replayed != nil {
		s.v["try"] = placeholder("try")
	}
	if err := s.keep(); err != nil {
		s.entered, s.partly = false, false
		return err
	}
	for _, step := range e.Steps {
		if err := s.step(ctx, step, nil); err != nil {
			return err
		}
		if len(step.Take) > 0 {
			if err := s.keep(); err != nil {
				return err
			}
		}
	}
	s.partly = false
	return s.keep()
}

// depart leaves a device that was entered, whatever has become of ctx, and has the proof of it.
// What cannot be left stays kept for the next session.
func (s *session) depart(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaveWithin)
	defer cancel()
	s.sent, s.updating = "", ""
	if !s.entered {
		return s.keep()
	}
	var err error
	for try := range leaveTries {
		if err = s.departed(ctx); err == nil {
			s.entered, s.partly = false, false
			s.forget(s.program.Enter.Steps)
			return s.keep()
		}
		if errors.Is(err, device.ErrIdentityChanged) || errors.Is(err, device.ErrLoginRefused) ||
			s.sleep(ctx, time.Second<<try) != nil {
			break
		}
	}
	return errors.Join(device.Because(device.NotLeft, "%v", err), s.keep())
}

func (s *session) departed(ctx context.Context) error {
	if err := s.enter(ctx); err != nil {
		return err
	}
	if err := s.take(ctx, s.program.Enter.Leave); err != nil || s.program.Enter.Undone == nil {
		return err
	}
	if err := s.take(ctx, s.program.Read); err != nil {
		return err
	}
	left, err := s.program.Enter.Undone.Holds(s.v, nil)
	if err == nil && !left {
		err = fmt.Errorf("%s does not hold", s.program.Enter.Undone.Source)
	}
	return err
}
