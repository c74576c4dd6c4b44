// Package simtest makes stand-ins the subjects of the dialects' conformance suite.
package simtest

import (
	"bytes"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/sim"
	"catena/internal/sim/standin"
)

// Password is that of the stand-ins; it has what would be markup elsewhere.
const Password = "quoin & <sluice>"

// Family is the dialect of one of the demo's families, by the name of its file.
func Family(name string) dialect.Dialect {
	f, err := family.Parse(name+".yaml", sim.Families()[name+".yaml"])
	if err != nil || f.Program == nil {
		panic(fmt.Sprintf("the demo has no family %s: %v", name, err))
	}
	return scripted.New(f, -1)
}

// Start starts one stand-in alone, and stops it when the test ends.
func Start(t *testing.T, d sim.Device) dialect.At {
	at, _ := StartSite(t, d)
	return at
}

// StartSite is Start, and returns the site, too.
func StartSite(t *testing.T, d sim.Device) (dialect.At, *sim.Site) {
	s, err := sim.Start(sim.Scenario{
		Login: sim.Login{User: "keeper", Password: Password},
		Pace: sim.Pace{Write: 100 * time.Millisecond, Restart: 100 * time.Millisecond,
			Delay: 10 * time.Millisecond},
		Devices: []sim.Device{d},
	}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	at := dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address}}
	if d.Kind == "recorder" {
		at.Scheme = "https"
	}
	return at, s
}

// Moved is the ability of a stand-in that takes another address: from the first host of its network
// to the second.
func Moved(at dialect.At) (dialect.NetworkConfig, dialect.At) {
	was := netip.MustParseAddrPort(at.Address)
	to := was.Addr().Next()
	at.Address = netip.AddrPortFrom(to, was.Port()).String()
	return dialect.NetworkConfig{Address: netip.PrefixFrom(to, 24)}, at
}

// Slots starts a stand-in whose other slot holds 0.9.
func Slots(d sim.Device) func(t *testing.T) dialect.At {
	return func(t *testing.T) dialect.At {
		d.Name, d.Host, d.Serial, d.Version, d.Idle = "first", 1, "S-1", "1.0", "0.9"
		return Start(t, d)
	}
}

// Child is how a child of a family is talked to through its parent.
func Child(name string, as login.Credential) func(dialect.At, device.Child) (dialect.Dialect,
	dialect.At) {
	return func(parent dialect.At, c device.Child) (dialect.Dialect, dialect.At) {
		d := Family(name).(scripted.Dialect).Children(-2)
		at := dialect.At{Endpoint: device.Endpoint{Dialect: c.Dialect, Unit: c.Unit},
			Parent: &dialect.Parent{Contact: dialect.Contact{At: parent, As: as},
				Shared: &dialect.SharedSession{}}}
		return d, at
	}
}

// Subject is a stand-in, named first, with the serial number S-1, on version 1.0. maker
// makes images for it; empty: none can be sent to it. other is a kind of stand-in that
// speaks another dialect; empty: none.
func Subject(t *testing.T, d dialect.Dialect, maker string, model sim.Device,
	other string) dialecttest.Subject {
	model.Name, model.Host, model.Serial, model.Version = "first", 1, "S-1", "1.0"
	var sites sync.Map // *sim.Site, by address
	start := func(t *testing.T, d sim.Device) dialect.At {
		at, site := StartSite(t, d)
		sites.Store(at.Address, site)
		return at
	}
	s := dialecttest.Subject{
		Dialect: d, Keyed: model.Kind == "recorder" || model.Kind == "drive" || model.Kind == "router" ||
			model.TLS,
		HTTP: !slices.Contains([]string{"drive", "router", "switch", "ventilation"}, model.Kind),
		Open: model.Kind == "ventilation",
		Login: login.Credential{User: "keeper", Password: Password,
			More: login.More{Secrets: map[string]string{"service": sim.ServiceCode,
				"full": sim.SecondPassword, "bacnet": Password}}},
		Want: device.Reading{Called: "first",
			Identity: device.Identity{Model: model.Model, Hardware: model.Hardware, Serial: "S-1"}},
		Start: func(t *testing.T, f dialecttest.Faults) dialect.At {
			faulty := model
			faulty.Faults = sim.Faults{Silent: f.Silent, DropAfter: f.DropAfter, Sick: f.Sick, Rate: f.Rate,
				Flaps: f.Flaps, NewKey: f.NewKey, ReadsOnly: f.ReadsOnly}
			return start(t, faulty)
		},
	}
	if model.Kind != "switch" { // who has another community gets no answer
		s.Rejected = func(at dialect.At) (n int) {
			site, _ := sites.Load(at.Address)
			for _, deed := range site.(*sim.Site).StandIns()[0].Log {
				if deed == "refused login" {
					n++
				}
			}
			return n
		}
	}
	if other != "" {
		s.Other = func(t *testing.T) dialect.At {
			return Start(t, sim.Device{Name: "other", Kind: other, Host: 1, Model: "X",
				Version: "1.0"})
		}
	}
	if maker == "" {
		return s
	}
	image := func(maker, model string) []byte {
		var b bytes.Buffer
		require.NoError(t, standin.Image(&b, maker, []string{model}, "", "2.0", 300_000))
		return b.Bytes()
	}
	s.Want.Vendor, s.Good = maker, image(maker, model.Model)
	damaged := bytes.Clone(s.Good)
	damaged[len(damaged)-1] ^= 1
	s.Bad = map[string][]byte{
		"not an image":      bytes.Repeat([]byte("x"), 5000),
		"another model":     image(maker, "another"),
		"not an image of":   image("another", model.Model),
		"truncated":         s.Good[:len(s.Good)-1000],
		"checksum is wrong": damaged,
	}
	return s
}
