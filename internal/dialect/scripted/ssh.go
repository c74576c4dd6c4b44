package scripted

import (
	"context"
	"time"

	"catena/internal/device"
	"catena/internal/family"
	"catena/internal/wire"
)

// sshCarrier sends steps over SSH. The connection is made when the first step within a login
// needs it, and lasts until it breaks.
type sshCarrier struct {
	session *session
	place   *place
	conn    *wire.SSH
	shell   *wire.Terminal // where the family has one; nil: it was not started
}

// commandWithin is how long a command may take where its step does not say.
const (
	commandWithin = time.Minute
	runningWithin = 30 * time.Minute // of one that tells its progress
)

func (c *sshCarrier) close() {
	if c.conn != nil {
		c.conn.Close()
		if c.shell != nil { // what was entered in it is not in the next one
			c.session.partly = c.session.entered
		}
		c.conn, c.shell = nil, nil
	}
}

func (c *sshCarrier) ask(ctx context.Context, step *family.Step, f family.Filled,
	image *cargo) (family.Answer, error) {
	s := c.session
	if s.stage == recognising { // as far as the greeting: no one logs in
		greeting, err := wire.Greeting(ctx, c.place.at.Address)
		return family.Answer{Body: []byte(greeting)}, err
	}
	if c.conn == nil {
		var err error
		c.conn, err = wire.DialSSH(ctx, c.place.at.Address, c.place.as, c.place.at.Trust)
		if err != nil {
			return family.Answer{}, err
		}
	}
	if image != nil {
		err := c.conn.Upload(ctx, f.Command, image.body())
		return family.Answer{}, c.broken(err)
	}
	within := step.Within
	if within == 0 {
		within = commandWithin
		if step.Progress != nil {
			within = runningWithin
		}
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var prompts []wire.Prompt
	for i, r := range step.Reply {
		prompts = append(prompts, wire.Prompt{Question: r.Prompt, Answer: f.Typed[i]})
	}
	if t := s.program.Terminal; t != nil && step.On == "" && step.Port == 0 {
		out, err := c.typed(ctx, t, f.Command, prompts)
		return family.Answer{Body: out}, c.broken(err)
	}
	out, status, err := c.conn.Run(ctx, f.Command, prompts, s.printed)
	return family.Answer{Body: out, Status: status}, c.broken(err)
}

// typed types a command into the shell of the device, which is started when it is first needed. A
// shell that does not come back to its prompt is of no use any more.
func (c *sshCarrier) typed(ctx context.Context, t *family.Terminal, command string,
	prompts []wire.Prompt) (out []byte, err error) {
	if c.shell == nil {
		style := wire.TerminalStyle{Prompt: t.Prompt}
		for _, p := range t.Pages {
			style.Pages = append(style.Pages, wire.Prompt{Question: p.Question, Answer: p.Key})
		}
		if c.shell, err = c.conn.Terminal(ctx, style); err != nil {
			return nil, err
		}
	}
	out, err = c.shell.Type(ctx, command, prompts, c.session.printed)
	if err != nil {
		c.close()
	}
	return out, err
}

// broken drops a connection that does not carry any more.
func (c *sshCarrier) broken(err error) error {
	if err != nil && device.Because(device.NoAnswer, "").Is(asCause(err)) {
		c.close()
	}
	return err
}
