package scripted

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"strconv"
	"time"

	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/wire"
)

// Bounds of repeats.
const (
	againWithin = 30 * time.Second // of a step that is answered "not now", where it does not say
	againAfter  = time.Second      // before it is asked again, where the device does not say
	againMost   = 30 * time.Second // a device is not waited for longer than this at once
)

// take takes steps in their order; a poll until it ends.
func (s *session) take(ctx context.Context, steps []*family.Step) error {
	for _, step := range steps {
		err := s.step(ctx, step, nil)
		if err == nil && step.Kind == family.Poll {
			err = s.poll(ctx, step)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// poll takes a poll that was taken once as often as it needs, within its time.
func (s *session) poll(ctx context.Context, step *family.Step) error {
	until := time.Now().Add(cmp.Or(step.Within, againWithin))
	for {
		_, ended, err := s.polled(step)
		switch {
		case err != nil || ended:
			return err
		case time.Now().After(until):
			return device.Because(device.NoAnswer, "%s did not become true in time", step.Until.Source)
		}
		if err = s.sleep(ctx, againAfter); err == nil {
			err = s.step(ctx, step, nil)
		}
		if err != nil {
			return err
		}
	}
}

// step takes one step: when → fill in → send → outcome → take → expect. What is sent once more
// is only what has had no effect: a step that was answered "not now" or "the session is lost",
// the latter once, and what only reads and was broken off, once. Another answer that is lost is not
// asked for again unless the family says so. A poll is over with done, and once the device has
// gone where that is a good end.
func (s *session) step(ctx context.Context, step *family.Step, image *cargo) error {
	s.over = false
	holds, err := step.When.Holds(s.v, nil)
	if err != nil || !holds {
		return s.mistaken(err)
	}
	s.reportSight(step)
	switch step.Kind {
	case family.Wait:
		return s.sleep(ctx, step.Pause)
	case family.Ask:
		f, err := step.Fill(s.v, nil)
		if err != nil {
			return s.mistaken(err)
		}
		return s.askPerson(ctx, step, f.Command)
	}
	try := &attempts{until: time.Now().Add(cmp.Or(step.Within, againWithin))}
	for {
		f, a, err := s.send(ctx, step, image)
		if err != nil {
			s.show(step, f, a, err)
		}
		switch {
		case errors.Is(err, device.ErrAway) && step.Gone:
			s.in, s.over = false, true
			return nil
		case !try.repeated && ctx.Err() == nil && (errors.Is(err, device.ErrAway) && step.Repeat ||
			wire.BrokenOff(err) && step.Reads):
			try.repeated = true
			continue
		case err != nil:
			return err
		}
		word, says, err := step.Means(s.v, a, s.stage == loggingIn)
		if err != nil {
			return s.mistaken(err)
		}
		if word != family.OK {
			s.show(step, f, a, meaning(word, says))
		}
		switch again, err := s.once(ctx, word, a, try); {
		case err != nil:
			return err
		case again:
			continue
		case word == family.Done:
			s.over = true
			return nil
		case word != family.OK:
			return meaning(word, says)
		}
		s.served = s.served || s.stage == within
		err = s.taken(step, a)
		s.show(step, f, a, err)
		if err != nil {
			return device.Because(device.Malformed, "%v", err)
		}
		return s.expected(step, a)
	}
}

// attempts are how often a step was sent once more, by what for.
type attempts struct {
	renewed  bool // after a new login
	repeated bool // after a lost answer
	stored   bool // after its image was left with the parent
	until    time.Time
}

// once reports whether a step is sent once more after an answer that means word, and does what is
// needed before.
func (s *session) once(ctx context.Context, word family.Word, a family.Answer, try *attempts) (
	again bool, err error) {
	switch {
	case word == family.LoginLost && s.stage == within && !try.renewed:
		s.in, s.lost, try.renewed = false, true, true
		return true, s.enter(ctx)
	case s.expired(word, a) && !try.renewed:
		s.in, s.lost, try.renewed = false, true, true
		return true, s.enter(ctx)
	case word == family.NoRight && !try.renewed && s.outdated():
		try.renewed = true // it was asked with what does not count any more
		return true, nil
	case word == family.NoImage && s.store != nil && !try.stored:
		try.stored = true
		return true, s.store(ctx)
	case word == family.Again && time.Now().Before(try.until):
		return true, s.sleep(ctx, retryAfter(a, try.until))
	}
	return false, nil
}

// expired reports whether an answer may be that of a session that has ended, although it does not
// say so: some devices forbid then, or redirect to their login. Only a session that has served
// before can have ended; if a new one gets the same answer, that counts.
func (s *session) expired(word family.Word, a family.Answer) bool {
	return s.served && s.stage == within && len(s.program.Login) > 0 &&
		(word == family.NoRight || word == family.Refused && a.Status/100 == 3)
}

// taken stores the values that a step extracts from an answer.
func (s *session) taken(step *family.Step, a family.Answer) error {
	err := step.TakeFrom(a, s.v)
	if err != nil || step.Each == nil {
		return err
	}
	rows, err := step.TakeEach(a)
	s.rows = append(s.rows, rows...)
	return err
}

// expected checks the expectations of a step.
func (s *session) expected(step *family.Step, a family.Answer) error {
	holds, err := step.Expect.Holds(s.v, &a)
	switch {
	case err != nil:
		return s.mistaken(err)
	case !holds:
		return device.Because(device.Refusal, "it is not as expected: %s", step.Expect.Source)
	}
	return nil
}

// send fills a step in and sends it.
func (s *session) send(ctx context.Context, step *family.Step, image *cargo) (f family.Filled,
	a family.Answer, err error) {
	p, err := s.place(ctx, step)
	if err != nil {
		return f, a, err
	}
	v := maps.Clone(s.v)
	v["login"] = p.values
	for _, name := range step.Logins {
		if _, has := p.values[name]; !has {
			return f, a, device.Because(device.NoSecret, "%s", name)
		}
	}
	f, err = step.Fill(v, s.wireOf(step))
	if err != nil {
		return f, a, device.Because(device.Refusal, "line %d of the family %s: %v",
			step.Line, s.family.Name, err)
	}
	if f.Secret {
		switch {
		case s.stage == recognising:
			return f, a, device.Because(device.NotMine, "recognise: must not send a login")
		case !p.encrypted(step.Protocol) && !p.as.PlainBasic:
			return f, a, device.ErrPlain
		}
		if s.recorded {
			blank := maps.Clone(v)
			blank["login"] = loginValues(s.blankLogin())
			shown, err := step.Fill(blank, s.wireOf(step))
			if err != nil {
				shown = family.Filled{Command: "(not recorded)"}
			}
			f.Shown = &shown
		}
	}
	if step.OfBytes() && step.Kind == family.Upload {
		image = bytesOf(f.Body)
		f.Body = nil
	}
	a, err = p.carrier.ask(ctx, step, f, image)
	return f, a, err
}

// encrypted reports whether the request of a step is protected in transit.
func (p *place) encrypted(protocol string) bool {
	switch protocol {
	case "ssh", "https":
		return true
	case "http":
		return p.at.Secure()
	case "snmp":
		return p.as.User != "" && p.as.SNMP.Privacy != ""
	}
	return false
}

// wireOf are the headers of a step: those of every request go only to where the session is.
func (s *session) wireOf(step *family.Step) []family.Field {
	if step.Port != 0 || step.On != "" || step.Protocol != s.program.Protocol {
		return nil
	}
	return s.program.Wire
}

// retryAfter is how long a device asks to wait (RFC 9110, 10.2.3), within bounds.
func retryAfter(a family.Answer, until time.Time) time.Duration {
	wait := againAfter
	if n, err := strconv.Atoi(a.Header.Get("Retry-After")); err == nil && n > 0 {
		wait = time.Duration(min(n, int(againMost/time.Second))) * time.Second
	}
	return min(wait, max(0, time.Until(until)))
}

// sleep waits, but where a recording is replayed.
func (s *session) sleep(ctx context.Context, d time.Duration) error {
	if s.replayed != nil {
		return ctx.Err()
	}
	return wire.Pause(ctx, d)
}

// meaning is the cause that a word stands for.
func meaning(word family.Word, says string) error {
	problem := map[family.Word]device.Problem{family.LoginLost: device.BadLogin,
		family.Credential: device.BadLogin, family.Locked: device.BadLogin,
		family.NewPassword: device.NewPassword, family.NoRight: device.NoRight,
		family.Away: device.NoAnswer}[word]
	switch {
	case word == family.Changed:
		return device.IdentityChangedError(device.KeySerial, "", says)
	case problem == "":
		problem = device.Refusal
	case word == family.Credential || word == family.NoRight || word == family.NewPassword:
		says = "" // the kind says it
	}
	return device.Because(problem, "%s", says)
}

// reportSight reports, once, what is seen at the device from a step on.
func (s *session) reportSight(step *family.Step) {
	if step.Shows != "" && step.Shows != s.shown && s.at.Shows != nil {
		s.shown = step.Shows
		s.at.Shows(step.Shows)
	}
}
