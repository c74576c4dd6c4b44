package scripted

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/settings"
)

// Rest shows every step that a trial has not sent, filled in with what is known, and whether the
// interlocks hold: a mistake in them surfaces here instead of in the middle of an update. What only
// such a step would take stands there as its name. sent says that an image was sent. It returns the
// first step that cannot be filled in.
func (r *Recorder) Rest(sent bool) error {
	taken := []string{"recognise", "login", "read"}
	if r.program.Enter.Reads || sent {
		taken = append(taken, "enter")
	}
	if sent {
		taken = append(taken, "update", "restart")
	}
	if r.family.Children != nil || r.program.ParentRoute != nil { // First has listed them
		taken = append(taken, "children: list")
	}
	first := r.rest("", r.program, r.v, taken)
	for _, i := range r.program.Interlocks {
		r.interlock("interlock", i)
	}
	for _, name := range slices.Sorted(maps.Keys(r.program.Parts)) {
		for _, i := range r.program.Parts[name].Interlocks {
			r.interlock("interlock of "+name, i)
		}
	}
	c := r.family.Children
	if c == nil {
		return first
	}
	v := maps.Clone(r.v)
	if len(r.rows) > 0 {
		maps.Copy(v, r.rows[0])
	}
	if err := r.rest("children: ", c.Program, v, taken); first == nil {
		first = err
	}
	return first
}

// rest shows the steps of a program, but those of the sections that were taken.
func (r *Recorder) rest(of string, g *family.Program, known family.Values, taken []string) (
	first error) {
	v := maps.Clone(known)
	blank := loginValues(r.blankLogin())
	for _, s := range r.program.Secrets { // also those that were not given
		blank[s.Name] = placeholder("login." + s.Name)
	}
	v["login"], v["on"], v["try"] = blank, true, "xxxxxxxx"
	name, err := g.ImageName("FILE", "VERSION")
	if err != nil {
		return err
	}
	v["image"] = family.ImageValues{Name: name, File: "FILE", Version: "VERSION", Size: 1,
		SHA256: strings.Repeat("0", 64), SHA256Base64: "SHA256", SHA1: strings.Repeat("0", 40),
		MD5: strings.Repeat("0", 32), MD5Base64: "MD5", CRC32: "00000000"}
	v["offer"] = family.OfferValues{URL: "http://192.0.2.1/" + name, Host: "192.0.2.1", Port: 80,
		File: name}
	v["address"] = family.AddressValues{IP: "192.0.2.2", Prefix: 24, Mask: "255.255.255.0",
		Gateway: "192.0.2.1", Name: "NAME"}
	if v["settings"] == nil {
		v["settings"] = "SETTINGS"
	}
	for _, section := range g.Sections() { // what only a later step would take
		for _, name := range family.Names(section.Steps) {
			if v[name] == nil {
				v[name] = g.Placeholder(name)
			}
		}
	}
	for _, part := range g.Sections() {
		if slices.Contains(taken, part.Key) {
			continue
		}
		family.Walk(part.Steps, func(step *family.Step) {
			f, err := step.Fill(v, r.wireOf(step))
			if err != nil && first == nil {
				first = err
			}
			r.showAs(of+part.Key, step, f, err)
		})
	}
	return first
}

// interlock shows an interlock, and whether it holds.
func (r *Recorder) interlock(stage string, i family.Interlock) {
	holds, err := i.Holds.Holds(r.v, nil)
	says := "it holds"
	if !holds {
		says = "it does not hold: " + i.Else
	}
	if r.watch != nil {
		r.watch(Seen{Stage: stage, Took: []string{i.Holds.Source + ": " + says}, Err: err, Unsent: true})
	}
}

// showAs shows a step that is not sent.
func (r *Recorder) showAs(stage string, step *family.Step, f family.Filled, err error) {
	if r.watch == nil {
		return
	}
	watch := r.watch
	defer func() { r.watch = watch }()
	r.watch = func(seen Seen) {
		seen.Stage, seen.Unsent, seen.Took = stage, true, nil
		if step.Kind == family.Wait {
			seen.Sent = append(seen.Sent, "wait "+step.Pause.String())
		}
		if step.When != nil {
			seen.When = step.When.Source
		}
		watch(seen)
	}
	r.show(step, f, family.Answer{}, err)
}

// WriteBack reads the settings and the carried values of a device on a bench and writes them back
// unchanged. wait is that of dialect.RestoreSettings. Its errors are device.ErrUnsupported where
// the family has none, dialect.ErrNotTaken, and the device's.
func (r *Recorder) WriteBack(ctx context.Context, wait func(accepted bool) bool) (own,
	carried error) {
	r.wrote = true
	return r.settingsBack(ctx, wait), r.carriedBack(ctx)
}

// replaySettings does what WriteBack did when it was recorded: what is secret in the settings is
// not there any more, so they are not compared.
func (s *session) replaySettings(ctx context.Context, played *replay) error {
	err := s.replayRestore(ctx, played)
	if err == nil || errors.Is(err, device.ErrUnsupported) {
		err = s.carriedBack(ctx)
	}
	if errors.Is(err, device.ErrUnsupported) {
		return nil
	}
	return err
}

// replayRestore is dialect.RestoreSettings, without what compares.
func (s *session) replayRestore(ctx context.Context, played *replay) error {
	of, err := s.Settings()
	if err != nil {
		return err
	}
	raw, err := of.Save(ctx)
	if err == nil {
		err = of.Restore(ctx, raw)
	}
	for err == nil && played.wrong == nil && ctx.Err() == nil {
		r, away := s.Read(ctx)
		if away != nil || s.Healthy(ctx, r) != nil {
			continue
		}
		if of.Format() != settings.Opaque {
			_, err = of.Save(ctx)
		}
		break
	}
	return err
}

func (r *Recorder) settingsBack(ctx context.Context, wait func(bool) bool) error {
	of, err := r.Settings()
	if err != nil {
		return err
	}
	raw, err := of.Save(ctx)
	if err != nil {
		return err
	}
	return dialect.RestoreSettings(ctx, of, raw, func() error {
		if _, err := r.Read(ctx); err != nil {
			return err
		}
		return r.Healthy(ctx, r.was)
	}, wait)
}

func (s *session) carriedBack(ctx context.Context) error {
	carry, err := s.Carry()
	if err != nil {
		return err
	}
	was, err := carry.Read(ctx)
	for _, v := range was {
		if err == nil {
			err = carry.Write(ctx, v)
		}
	}
	if err != nil {
		return err
	}
	now, err := carry.Read(ctx)
	for _, v := range was {
		if err == nil && !v.Among(now) {
			return dialect.ErrNotTaken
		}
	}
	return err
}
