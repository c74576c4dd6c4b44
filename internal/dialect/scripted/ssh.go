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
}

// commandWithin is how long a command may take where its step does not say.
const commandWithin = time.Minute

func (c *sshCarrier) close() {
	if c.conn != nil {
		c.conn.Close()
		c.conn = nil
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
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	var prompts []wire.Prompt
	for i, r := range step.Reply {
		prompts = append(prompts, wire.Prompt{Question: r.Prompt, Answer: f.Typed[i]})
	}
	out, status, err := c.conn.Run(ctx, f.Command, prompts)
	return family.Answer{Body: out, Status: status}, c.broken(err)
}

// broken drops a connection that does not carry any more.
func (c *sshCarrier) broken(err error) error {
	if err != nil && device.Because(device.NoAnswer, "").Is(asCause(err)) {
		c.close()
	}
	return err
}
