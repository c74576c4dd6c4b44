package scripted

import (
	"context"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/text"
)

// Act is how far a device is that is played by a recording.
type Act struct {
	Images int  // that it has been sent; each starts again
	Fresh  bool // it has started since then
}

// Act opens a session with the device that was recorded; it answers as often as it is asked. now
// says how far it is. Nothing leaves the machine. A recording without an update can only be read.
func (d Dialect) Act(r Recording, now func() Act) dialect.Session {
	a := &act{of: r, now: now, next: map[nth]int{}, went: map[string]bool{}}
	for _, e := range r.Exchanges {
		if e.Trouble.Is(device.ErrAway) {
			a.went[nameless(e.Sent)] = true
		}
	}
	s := d.recorded(r, a)
	if d.base != nil {
		s.base = replayed{of: a}
	}
	return s
}

// act is a carrier that answers as a recording has it, in any order.
type act struct {
	of     Recording
	now    func() Act
	images int
	next   map[nth]int     // the next exchange for a request
	went   map[string]bool // requests after which the device had gone
}

// nth identifies a request within a part of a recording.
type nth struct {
	part int
	sent string
}

func (*act) close() {}

func (a *act) ask(_ context.Context, step *family.Step, f family.Filled, _ *cargo) (family.Answer,
	error) {
	e, err := a.give(inWords(step, f), step.Line)
	if err != nil && step.Gone && a.went[nameless(inWords(step, f))] {
		err = device.ErrAway // as then
	}
	return e.answer(), err
}

// give is what came back for what is sent: in the part of the recording that the device has come
// to, else in any. What is asked more often than it was is answered as it was last.
func (a *act) give(sent string, line int) (Exchange, error) {
	now := a.now()
	if now.Images != a.images {
		a.images, a.next = now.Images, map[nth]int{}
	}
	parts, part := [][]Exchange{a.of.Exchanges}, 0
	if u := a.of.Update; u != nil {
		parts = [][]Exchange{a.of.Exchanges[:u.Sent], a.of.Exchanges[u.Sent:u.Fresh],
			a.of.Exchanges[u.Fresh:]}
		switch {
		case now.Images > 0 && now.Fresh:
			part = 2
		case now.Images > 0:
			part = 1
		}
	}
	sent = nameless(sent)
	for _, in := range []int{part, 0, 1, 2} {
		if in >= len(parts) {
			break
		}
		same := slices.DeleteFunc(slices.Clone(parts[in]), func(e Exchange) bool {
			return e.Trouble != nil || nameless(e.Sent) != sent
		})
		if len(same) == 0 {
			continue
		}
		at := nth{in, sent}
		e := same[min(a.next[at], len(same)-1)]
		a.next[at]++
		return e, nil
	}
	first, _, _ := strings.Cut(sent, "\n")
	return Exchange{}, device.Because(device.Refusal,
		"the recording of its family has no answer to %s (line %d)", first, line)
}

// nameless is a request without the names of its secrets: a token may belong to any login.
func nameless(sent string) string {
	return secretName().ReplaceAllString(plainly.Replace(sent), "‹›")
}

var secretName = text.Later(`‹[^›]*›`)
