package care_test

import (
	"context"
	"log/slog"
	"net/netip"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/care"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/simtest"
	"catena/internal/family"
	"catena/internal/ledger"
	"catena/internal/login"
	"catena/internal/sim"
	"catena/internal/site"
)

// A device that moves calls itself otherwise where it is told so by its own protocol; where its
// family does not say how, nothing is changed.
func TestANameOfItsOwn(t *testing.T) {
	place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{
			{Name: "cam-11", Kind: "camera", Model: "WX-40", Serial: "1", Version: "1", Host: 11},
			{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "2", Version: "1", Host: 70},
			{Name: "gate-1", Kind: "gate", Model: "TG-200", Serial: "3", Version: "1", Host: 101},
		}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	for i, d := range []dialect.Dialect{onvif.Dialect{}, redfish.Dialect{},
		simtest.Family("tollgarth-gates")} {
		at := dialect.At{Endpoint: device.Endpoint{Address: place.StandIns()[i].Address,
			Dialect: d.About().Name, Scheme: []string{"http", "https", "http"}[i]}}
		n, err := d.Open(at, login.Credential{User: "keeper", Password: "quoin"}).Network()
		if i == 2 {
			require.ErrorIs(t, err, device.ErrUnsupported)
			continue
		}
		require.NoError(t, err)
		to := netip.MustParsePrefix(place.Net + ".2" + string(rune('0'+i)) + "/24")
		require.NoError(t, n.Move(t.Context(), dialect.NetworkConfig{Address: to, Name: "north-pier"}))
		assert.Contains(t, place.StandIns()[i].Log, "hostname north-pier")
	}
}

// mover is a device with an address that can be changed. It is a dialect, a session and a network.
type mover struct {
	dialect.Session
	at         string // the address at which it answers
	moves      bool   // the request arrives
	answerLost bool
	requests   int
}

func (m *mover) About() dialect.About { return dialect.About{Name: "mover"} }

func (m *mover) Probe(_ context.Context, at dialect.At) (r device.Reading, err error) {
	if at.Address != m.at {
		return r, device.ErrAway
	}
	return device.Reading{Identity: device.Identity{Model: "WX-40", Serial: "WX4-10011"}}, nil
}

func (m *mover) Open(at dialect.At, _ login.Credential) dialect.Session {
	return movedSession{m, at}
}

type movedSession struct {
	*mover
	place dialect.At
}

func (s movedSession) Network() (dialect.Network, error) { return s.mover, nil }
func (s movedSession) Close(context.Context) error       { return nil }
func (s movedSession) Read(ctx context.Context) (device.Reading, error) {
	return s.Probe(ctx, s.place)
}

func (m *mover) Move(_ context.Context, to dialect.NetworkConfig) error {
	m.requests++
	if m.moves {
		m.at = to.Address.Addr().String() + ":80"
	}
	if m.answerLost {
		return device.ErrAway
	}
	return nil
}

// A request for another address is sent once, and what is said of the device is where it answers.
func TestAMoveWhoseAnswerIsLost(t *testing.T) {
	for name, c := range map[string]struct {
		device mover
		says   string
	}{
		"it moved":           {mover{moves: true}, ""},
		"its answer is lost": {mover{moves: true, answerLost: true}, ""},
		"the request is lost": {mover{answerLost: true},
			"it did not take the address: it still answers at 127.44.7.11:80"},
		"it accepts and does nothing": {mover{},
			"it did not take the address: it still answers at 127.44.7.11:80"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				dir, m := t.TempDir(), c.device
				m.at = "127.44.7.11:80"
				l, err := ledger.Create(dir, time.Now, ledger.Writer{})
				require.NoError(t, err)
				defer func() { _ = l.Close() }()
				x, err := contact.New(l, dir, site.Site{}, family.Set{}, login.Book{Entries: []login.Entry{
					{ID: "k1", Kind: login.Site, User: "keeper", Password: "quoin"}}})
				require.NoError(t, err)
				x.Dialects = dialect.NewRegistry(&m)
				d := device.Device{ID: "d1", Name: "cam-11", Reading: device.Reading{
					Identity: device.Identity{Model: "WX-40", Serial: "WX4-10011"}},
					Endpoint: device.Endpoint{Address: m.at, Dialect: "mover"}}
				moved, err := care.Care{Ledger: l, Access: x, Now: time.Now}.Move(t.Context(), d,
					dialect.NetworkConfig{Address: netip.MustParsePrefix("127.44.7.21/24")})
				assert.Equal(t, 1, m.requests)
				assert.Equal(t, m.at, moved.Address)
				if c.says == "" {
					require.NoError(t, err)
				} else {
					require.ErrorContains(t, err, c.says)
				}
			})
		})
	}
}
