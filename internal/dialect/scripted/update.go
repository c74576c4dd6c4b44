package scripted

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"path"
	"slices"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/wire"
)

// Update starts to move an image into a component, where the family says how.
func (s *session) Update(component string) (dialect.Update, error) {
	part := s.program.Of(component)
	if len(part.Update) == 0 {
		return nil, device.ErrUnsupported
	}
	if _, own := s.program.Parts[component]; component != firmware.Main && !own && !s.program.ByPart {
		return nil, device.Because(device.Refusal, "the family %s has no update for the component %s",
			s.family.Name, component)
	}
	steps := part.Update
	first := slices.IndexFunc(steps, (*family.Step).MayWrite)
	u := &update{session: s, sent: s.sent == component, component: component, part: part,
		before: steps[:first], send: steps[first:]}
	if poll := slices.IndexFunc(u.send, func(s *family.Step) bool {
		return s.Kind == family.Poll || s.Progress != nil
	}); poll >= 0 {
		u.send, u.after = u.send[:poll], u.send[poll:]
	}
	return u, nil
}

// update is one image on its way. The steps before the first that may write are taken as often as
// the engine asks; those from there to the first poll, or the first command that tells its
// progress, once; the rest as far as the device is.
type update struct {
	session             *session
	component           string
	part                family.Part
	before, send, after []*family.Step
	sent                bool // send was taken, in this session or in one before
	followed            bool // it was in this one
	lost                bool // the answer to a step after it was: the device's state tells
	at                  int  // of after
}

// Traits: a device that the family has no restart for restarts automatically.
func (u *update) Traits() dialect.Traits {
	return dialect.Traits{RestartsByItself: len(u.part.Restart) == 0,
		Restarts: u.part.Restarts}
}

// Interlock reads the device again, where the family has interlocks.
func (u *update) Interlock(ctx context.Context) error {
	s := u.session
	s.v["component"] = u.component
	if len(u.part.Interlocks)+len(s.at.Interlocks) > 0 {
		if err := s.look(ctx); err != nil {
			return err
		}
	}
	for _, i := range u.part.Interlocks {
		holds, err := i.Holds.Holds(s.v, nil)
		switch {
		case err != nil:
			return s.mistaken(err)
		case !holds:
			return device.Because(device.NotNow, "%s", i.Else)
		}
	}
	for _, i := range s.at.Interlocks { // they came with the images
		condition, err := s.program.Condition(i.Holds)
		holds := false
		if err == nil {
			holds, err = condition.Holds(s.v, nil)
		}
		switch {
		case err != nil:
			return device.Because(device.Refusal, "an interlock of its image cannot be checked: %s: %v",
				i.Holds, err)
		case !holds:
			return device.Because(device.NotNow, "%s", i.Else)
		}
	}
	return nil
}

// Ready reads the interlocks, and takes the steps before the first byte. They know the image.
func (u *update) Ready(ctx context.Context, image dialect.Image) error {
	if err := u.Interlock(ctx); err != nil {
		return err
	}
	if err := u.name(image); err != nil {
		return err
	}
	u.session.updating = u.component
	return u.session.inside(ctx, u.before)
}

// body is a whole image for a transfer.
func (c *cargo) body() wire.Body { return wire.Body{From: c, Size: c.Size, Sent: c.sent} }

// bytesOf is a value that an upload sends instead of the image.
func bytesOf(raw []byte) *cargo {
	return &cargo{Image: dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw))},
		to: int64(len(raw))}
}

// name sets $image for the steps of the update, also for those before the first byte.
func (u *update) name(image dialect.Image) error {
	s := u.session
	if s.image.SHA256 != image.SHA256 {
		values, err := imageValues(image, s.program)
		if err != nil {
			return device.Because(device.OwnFault, "the family %s: image_name: %v", s.family.Name, err)
		}
		s.image = values
	}
	if s.replayed != nil && s.replayed.Update != nil { // which has an image of the same size
		s.image = s.replayed.Update.Image
	}
	s.v["image"] = s.image
	return nil
}

func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	s := u.session
	if err := u.name(image); err != nil {
		return err
	}
	s.v["component"], s.updating = u.component, u.component
	if err := s.inside(ctx, nil); err != nil {
		return err
	}
	if b := s.program.ParentRoute; b != nil && len(b.Store) > 0 {
		if err := u.stored(ctx, image, sent); err != nil {
			return err
		}
	}
	if err := u.all(ctx, u.send, image, sent); err != nil {
		return err
	}
	u.sent, u.followed, u.at = true, true, 0
	if !s.tells() { // otherwise the device itself reports after a crash what it holds
		s.sent = u.component
	}
	return s.keep()
}

// all takes steps that send an image; what each takes is kept before the next.
func (u *update) all(ctx context.Context, steps []*family.Step, image dialect.Image,
	sent func(int64)) error {
	for _, step := range steps {
		if err := u.step(ctx, step, image, sent); err != nil {
			return err
		}
		if step.Kind == family.Poll { // of a store: those of update are followed by Progress
			if err := u.session.poll(ctx, step); err != nil {
				return err
			}
		}
		if len(family.Names([]*family.Step{step})) > 0 {
			if err := u.session.keep(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (u *update) step(ctx context.Context, step *family.Step, image dialect.Image,
	sent func(int64)) error {
	s := u.session
	switch step.Kind {
	case family.Offer:
		return s.offer(ctx, step, image, sent)
	case family.Upload:
	default:
		return s.step(ctx, step, nil)
	}
	from := int64(0)
	if step.From != nil {
		has, err := step.From.Int(s.v, nil)
		if err != nil {
			return s.mistaken(err)
		}
		if from = int64(has); from < 0 || from > image.Size {
			return device.Because(device.Refusal, "it reports %d bytes of an image of %d", has,
				image.Size)
		}
	}
	chunk := step.Chunk
	if chunk == 0 {
		chunk = image.Size
	}
	for at := from; at < image.Size; at += chunk {
		whole := &cargo{Image: image, from: at, to: min(at+chunk, image.Size), sent: sent,
			pieces: step.Chunk > 0}
		if err := s.step(ctx, step, whole); err != nil {
			return err
		}
	}
	return nil
}

// offer serves the image, and takes the steps that make the device fetch it. It ends when the
// device has fetched all of it.
func (s *session) offer(ctx context.Context, step *family.Step, image dialect.Image,
	sent func(int64)) error {
	if s.replayed != nil {
		s.v["offer"] = family.OfferValues{URL: placeholder("offer.url"), Host: placeholder("offer.host"),
			Port: placeholder("offer.port"), File: s.image.Name}
		return s.inside(ctx, step.Steps)
	}
	o, err := wire.NewOffer(step.By, s.at.Address, s.image.Name,
		wire.Body{From: image, Size: image.Size, Sent: sent})
	if err != nil {
		return err
	}
	defer o.Close()
	s.v["offer"] = family.OfferValues{URL: o.URL, Host: o.Host, Port: o.Port, File: o.File}
	defer delete(s.v, "offer")
	if err := s.inside(ctx, step.Steps); err != nil {
		return err
	}
	return o.Fetched(ctx, nil)
}

// imageValues are the values of an image that a family can use, and the name under which the device
// receives it.
func imageValues(image dialect.Image, p *family.Program) (v family.ImageValues, err error) {
	name, err := p.ImageName(image.File, image.Version)
	if err != nil {
		return v, err
	}
	raw, err := hex.DecodeString(image.SHA256)
	if err != nil {
		return v, err
	}
	v = family.ImageValues{Name: name, File: path.Base(image.File), Version: image.Version,
		Size:         int(image.Size),
		SHA256:       image.SHA256,
		SHA256Base64: base64.StdEncoding.EncodeToString(raw)}
	if !p.Sums {
		return v, nil
	}
	of := map[string]hash.Hash{"sha1": sha1.New(), "md5": md5.New(), "crc32": crc32.NewIEEE()}
	all := io.MultiWriter(of["sha1"], of["md5"], of["crc32"])
	if _, err := io.Copy(all, io.NewSectionReader(image, 0, image.Size)); err != nil {
		return v, err
	}
	v.SHA1, v.CRC32 = fmt.Sprintf("%x", of["sha1"].Sum(nil)), fmt.Sprintf("%08x", of["crc32"].Sum(nil))
	v.MD5 = fmt.Sprintf("%x", of["md5"].Sum(nil))
	v.MD5Base64 = base64.StdEncoding.EncodeToString(of["md5"].Sum(nil))
	return v, nil
}

// Progress takes one look. What this session has sent is followed by the family's polls; of what
// an earlier one has sent the device's state tells.
func (u *update) Progress(ctx context.Context) (int, error) {
	if !u.sent || len(u.after) == 0 || !u.followed && u.session.tells() || u.lost {
		return u.state(ctx)
	}
	s := u.session
	if err := s.inside(ctx, nil); err != nil {
		return 0, err
	}
	for ; u.at < len(u.after); u.at++ {
		step := u.after[u.at]
		if step.Progress != nil {
			if percent, ended, err := s.follow(ctx, step); err != nil || !ended {
				u.lost = once(step, err)
				return percent, err
			}
		} else if err := s.step(ctx, step, nil); err != nil {
			u.lost = once(step, err)
			return 0, err
		}
		if len(step.Take) > 0 && step.Kind != family.Poll {
			if err := s.keep(); err != nil {
				return 0, err
			}
		}
		if step.Kind != family.Poll {
			continue
		}
		if percent, ended, err := s.polled(step); err != nil || !ended {
			return percent, err
		}
	}
	return 100, nil
}

// once reports whether a step whose answer was lost must not be taken again.
func once(step *family.Step, err error) bool {
	return errors.Is(err, device.ErrAway) && step.Kind != family.Poll && !step.Repeat && !step.Reads
}

// polled evaluates one answer of a poll.
func (s *session) polled(step *family.Step) (percent int, ended bool, err error) {
	if s.over {
		return 100, true, nil
	}
	if step.Fail != nil {
		failed, err := step.Fail.Holds(s.v, nil)
		if err != nil || failed {
			if err == nil {
				message, _ := s.v["message"].(string)
				err = device.Because(device.Refusal, "%s", message)
			}
			return 0, false, err
		}
	}
	ended, err = step.Until.Holds(s.v, nil)
	if err != nil || ended {
		return 100, ended, s.mistaken(err)
	}
	return s.percent(step), false, nil
}

// percent is how far the device says it is, below 100: the end is told by until.
func (s *session) percent(step *family.Step) int {
	n, _ := s.v["percent"].(int)
	if step != nil && step.Percent != nil {
		n, _ = step.Percent.Int(s.v, nil)
	}
	return max(0, min(n, 99))
}

// tells tells whether the family says how it is read that the device writes, or holds an image.
func (s *session) tells() bool { return s.program.Busy != nil || s.program.Pending != nil }

// state is the progress that the device reports.
func (u *update) state(ctx context.Context) (int, error) {
	s := u.session
	if !s.tells() {
		return 0, device.ErrUnsupported
	}
	switch err := s.look(ctx); {
	case errors.Is(err, errStarting) && u.sent: // the image that it accepted
		return 100, nil
	case err != nil:
		return 0, err
	}
	if s.program.Busy != nil {
		busy, err := s.program.Busy.Holds(s.v, nil)
		if err != nil || busy {
			return s.percent(nil), s.mistaken(err)
		}
	}
	if s.program.Pending == nil { // it starts the written image automatically: its version shows
		return 0, device.ErrUnsupported
	}
	pending, err := s.program.Pending.String(s.v)
	switch {
	case err != nil:
		return 0, s.mistaken(err)
	case pending != "":
		return 100, nil
	}
	return 0, device.Because(device.Refusal, "it holds no image")
}

// Activate takes the steps of the restart. They succeed if the device goes away.
func (u *update) Activate(ctx context.Context) error {
	return u.session.leaving(ctx, u.part.Restart)
}

// Revert takes the steps of the switch to the other slot.
func (u *update) Revert(ctx context.Context) error {
	if len(u.session.program.Revert) == 0 {
		return device.ErrUnsupported
	}
	return u.session.leaving(ctx, u.session.program.Revert)
}

// leaving takes steps after which the session is gone.
func (s *session) leaving(ctx context.Context, steps []*family.Step) error {
	err := s.inside(ctx, steps)
	s.in = false
	return err
}
