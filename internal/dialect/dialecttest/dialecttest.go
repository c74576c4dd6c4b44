// Package dialecttest is the one suite that every dialect must pass, against its
// stand-in. A new dialect is one call of Run in a test.
package dialecttest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/sim"
)

// Run holds a dialect against the stand-in that device describes. maker is who
// makes images for it. The device is at version 1.0 at first.
func Run(t *testing.T, d dialect.Dialect, maker string, device sim.Device) {
	device.Name, device.Host, device.Serial, device.Hardware, device.Version = "first", 1, "S-1", "B", "1.0"
	c := &suite{Dialect: d, maker: maker, device: device, login: dialect.Login{User: "keeper", Password: "quoin & <sluice>"}}
	t.Run("recognises its own", c.recognises)
	t.Run("knows what is not its own", c.notMine)
	t.Run("reads", c.reads)
	t.Run("tries a wrong password once", c.wrongPassword)
	t.Run("sends, restarts, proves", c.sends)
	t.Run("hears refusals", c.refusals)
	t.Run("hears that a device is not well", c.sick)
	t.Run("ends when the connection is cut", c.cut)
	t.Run("says that nobody is there", c.away)
	t.Run("ends with its context", c.ends)
}

type suite struct {
	dialect.Dialect
	maker  string
	device sim.Device
	login  dialect.Login
}

// site starts the stand-in with the faults given.
func (c *suite) site(t *testing.T, faults sim.Faults) dialect.Peer {
	device := c.device
	device.Faults = faults
	site, err := sim.Start(sim.Scenario{
		Login:   sim.Login{User: c.login.User, Password: c.login.Password},
		Pace:    sim.Pace{Write: 100 * time.Millisecond, Restart: 100 * time.Millisecond, Delay: 10 * time.Millisecond},
		Devices: []sim.Device{device},
	}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(site.Stop)
	return dialect.Peer{Address: site.StandIns()[0].Address, Login: c.login}
}

func (c *suite) image(t *testing.T, maker, model string) []byte {
	var b bytes.Buffer
	require.NoError(t, sim.Image(&b, maker, []string{model}, "", "2.0", 300_000))
	return b.Bytes()
}

func upload(image []byte, sent func(int64)) dialect.Upload {
	return dialect.Upload{Component: firmware.Main, Image: bytes.NewReader(image), Size: int64(len(image)), SHA256: fmt.Sprintf("%x", sha256.Sum256(image)), Sent: sent}
}

func (c *suite) recognises(t *testing.T) {
	_, err := c.Recognise(t.Context(), c.site(t, sim.Faults{}))
	assert.NoError(t, err)
}

func (c *suite) notMine(t *testing.T) {
	other := *c
	other.device.Kind = map[string]string{"camera": "gate", "gate": "camera"}[c.device.Kind]
	_, err := c.Recognise(t.Context(), other.site(t, sim.Faults{}))
	assert.ErrorIs(t, err, dialect.ErrNotMine)
}

func (c *suite) reads(t *testing.T) {
	f, err := c.Open(c.site(t, sim.Faults{})).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"first", c.maker, c.device.Model, "B", "S-1", "1.0"}, []string{f.Name, f.Vendor, f.Model, f.Hardware, f.Serial, f.Version})
}

func (c *suite) wrongPassword(t *testing.T) {
	// The stand-in of a gate stops listening after five wrong passwords: three
	// talks, each with one try, leave it open for the right one.
	p := c.site(t, sim.Faults{})
	wrong := p
	wrong.Login.Password = "mitre"
	for range 3 {
		_, err := c.Open(wrong).Read(t.Context())
		assert.ErrorIs(t, err, dialect.ErrLoginRefused)
		assert.NotContains(t, fmt.Sprintf("%v %+v %#v", err, wrong, wrong), "mitre")
	}
	_, err := c.Open(p).Read(t.Context())
	assert.NoError(t, err)
}

func (c *suite) sends(t *testing.T) {
	talk := c.Open(c.site(t, sim.Faults{}))
	before, err := talk.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, talk.Healthy(t.Context(), before))
	image := c.image(t, c.maker, c.device.Model)
	last := int64(0)
	traits, err := talk.Send(t.Context(), upload(image, func(n int64) {
		assert.Greater(t, n, last, "progress only rises")
		last = n
	}))
	require.NoError(t, err)
	assert.Equal(t, int64(len(image)), last)
	require.Eventually(t, func() bool {
		percent, err := talk.Writing(t.Context())
		return err == nil && percent == 100
	}, 5*time.Second, 20*time.Millisecond)
	if !traits.RestartsAlone {
		f, err := talk.Read(t.Context())
		require.NoError(t, err)
		assert.Equal(t, "1.0", f.Version, "the version shows only after the restart")
		require.NoError(t, talk.Restart(t.Context()))
	}
	require.Eventually(t, func() bool {
		f, err := talk.Read(t.Context())
		return err == nil && f.Version == "2.0"
	}, 5*time.Second, 20*time.Millisecond)
	assert.NoError(t, talk.Healthy(t.Context(), before))
}

func (c *suite) refusals(t *testing.T) {
	good := c.image(t, c.maker, c.device.Model)
	damaged := bytes.Clone(good)
	damaged[len(damaged)-1] ^= 1
	for why, image := range map[string][]byte{
		"not an image":      bytes.Repeat([]byte("x"), 5000),
		"another model":     c.image(t, c.maker, "another"),
		"not an image of":   c.image(t, "another", c.device.Model),
		"truncated":         good[:len(good)-1000],
		"checksum is wrong": damaged,
	} {
		t.Run(why, func(t *testing.T) {
			talk := c.Open(c.site(t, sim.Faults{}))
			_, err := talk.Send(t.Context(), upload(image, nil))
			assert.ErrorIs(t, err, dialect.ErrRefused)
			assert.ErrorContains(t, err, why)
			f, err := talk.Read(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "1.0", f.Version)
		})
	}
}

func (c *suite) sick(t *testing.T) {
	talk := c.Open(c.site(t, sim.Faults{Sick: true}))
	before, err := talk.Read(t.Context())
	require.NoError(t, err)
	require.NoError(t, talk.Healthy(t.Context(), before))
	traits, err := talk.Send(t.Context(), upload(c.image(t, c.maker, c.device.Model), nil))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		if percent, err := talk.Writing(t.Context()); err == nil && percent == 100 && !traits.RestartsAlone {
			_ = talk.Restart(t.Context())
		}
		f, err := talk.Read(t.Context())
		return err == nil && f.Version == "2.0"
	}, 5*time.Second, 50*time.Millisecond)
	assert.Error(t, talk.Healthy(t.Context(), before))
}

func (c *suite) cut(t *testing.T) {
	talk := c.Open(c.site(t, sim.Faults{DropAfter: 100_000}))
	_, err := talk.Send(t.Context(), upload(c.image(t, c.maker, c.device.Model), nil))
	assert.ErrorIs(t, err, dialect.ErrAway)
	f, err := talk.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1.0", f.Version)
}

func (c *suite) away(t *testing.T) {
	p := c.site(t, sim.Faults{})
	p.Address = "127.0.0.1:1"
	_, err := c.Recognise(t.Context(), p)
	assert.ErrorIs(t, err, dialect.ErrAway)
	_, err = c.Open(p).Read(t.Context())
	assert.ErrorIs(t, err, dialect.ErrAway)
}

func (c *suite) ends(t *testing.T) {
	p := c.site(t, sim.Faults{Silent: true})
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := c.Recognise(ctx, p)
	assert.Error(t, err)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = c.Open(p).Read(stopped)
	assert.ErrorIs(t, err, context.Canceled)
}
