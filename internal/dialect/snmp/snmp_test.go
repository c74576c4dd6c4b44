package snmp_test

import (
	"bytes"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/simtest"
	"catena/internal/dialect/snmp"
	"catena/internal/login"
	"catena/internal/sim"
)

func agent(t *testing.T, community string) dialect.At {
	s, err := sim.Start(sim.Scenario{Devices: []sim.Device{
		{Name: "switch-basin", Kind: "switch", Model: "OS-8", Hardware: "1", Serial: "OS8-60",
			Version: "4.2", Host: 60, Sees: []string{"switch-top", "cam-11"}, Community: community},
		{Name: "switch-top", Kind: "switch", Model: "OS-8", Serial: "OS8-61", Version: "4.2",
			Host: 61, MAC: "02:00:5e:00:53:61"},
		{Name: "cam-11", Kind: "silent", Host: 11},
	}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address}}
}

func TestConformance(t *testing.T) {
	s := simtest.Subject(t, snmp.Dialect{}, "",
		sim.Device{Kind: "switch", Model: "OS-8", Hardware: "1"}, "")
	s.Login = login.Credential{Password: snmp.Community}
	start := s.Start
	s.Start = func(t *testing.T, f dialecttest.Faults) dialect.At {
		at := start(t, f)
		at.ProtocolVersion, at.Open = snmp.V2c, true
		return at
	}
	dialecttest.Run(t, s)
}

func TestReads(t *testing.T) {
	p := agent(t, "")
	facts, err := snmp.Dialect{}.Probe(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, "switch-basin", facts.Called)
	for _, version := range []string{snmp.V1, snmp.V2c} {
		p.ProtocolVersion = version
		facts, err := snmp.Dialect{}.Open(p, login.Credential{}).Read(t.Context())
		require.NoError(t, err, version)
		assert.Equal(t, []string{"Osmere", "OS-8", "1", "OS8-60", "4.2"},
			[]string{facts.Vendor, facts.Model, facts.Hardware, facts.Serial, facts.Version})
		assert.Equal(t, "02:00:5e:00:53:3c", facts.MAC)
		assert.Equal(t, []device.Neighbour{
			{Port: "port 1", Chassis: "02:00:5e:00:53:61", Name: "switch-top"},
			{Port: "port 2", Chassis: "cam-11", Name: "cam-11"},
		}, facts.Neighbours)
	}
}

func TestAnotherCommunity(t *testing.T) {
	p := agent(t, "towpath")
	_, err := snmp.Dialect{}.Probe(t.Context(), p)
	assert.ErrorIs(t, err, device.ErrAway, "an agent does not answer a wrong community at all")
	_, err = snmp.Dialect{}.Open(p, login.Credential{}).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrAway, "nor is it there for those who know no other")
	facts, err := snmp.Dialect{}.Open(p, login.Credential{Password: "towpath"}).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "OS8-60", facts.Serial)
}

func TestUnderstand(t *testing.T) {
	for _, p := range snmp.Probes("towpath") {
		_, _, ok := snmp.Understand(p)
		assert.False(t, ok, "a question is not an answer")
	}
	assert.Len(t, snmp.Probes("towpath"), 5, "two versions with two communities, and v3")
	answer := func(id uint32, text string) []byte {
		raw, err := (&gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "public",
			PDUType: gosnmp.GetResponse, RequestID: id,
			Variables: []gosnmp.SnmpPDU{{Name: ".1.3.6.1.2.1.1.1.0", Type: gosnmp.OctetString,
				Value: []byte(text)}}}).MarshalMsg()
		require.NoError(t, err)
		return raw
	}
	facts, at, ok := snmp.Understand(answer(0x0ca7e4a, "a\x1b[2J\nb"))
	assert.True(t, ok)
	assert.Equal(t, "a[2J b", facts.Says)
	assert.Equal(t, device.Endpoint{Dialect: "snmp", ProtocolVersion: snmp.V2c, Open: true}, at)
	_, _, ok = snmp.Understand(answer(7, "x"))
	assert.False(t, ok, "an answer to someone else")
}

// An agent that is known to use another community is never sent the usual one: it may report that
// as an intrusion, and a job asks often.
func TestARejectedCommunityIsNotRepeated(t *testing.T) {
	for open, want := range map[bool]int{false: 0, true: 2} { // v2c and v1
		c, err := net.ListenPacket("udp4", "127.0.0.1:0")
		require.NoError(t, err)
		_, err = snmp.Dialect{}.Probe(t.Context(), dialect.At{Endpoint: device.Endpoint{
			Address: c.LocalAddr().String(), ProtocolVersion: snmp.V2c, Open: open}})
		require.ErrorIs(t, err, device.ErrAway)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Second)))
		questions, usual := 0, 0
		for buf := make([]byte, 4096); ; questions++ {
			n, _, err := c.ReadFrom(buf)
			if err != nil {
				break
			}
			usual += bytes.Count(buf[:n], []byte(snmp.Community))
		}
		assert.Equal(t, want, usual)
		assert.Equal(t, want+1, questions, "and that of v3, which needs none")
		require.NoError(t, c.Close())
	}
}

// An agent whose tables never end is read as far as a device can have them.
func TestEndlessAgent(t *testing.T) {
	c, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	go func() {
		buf := make([]byte, 4096)
		n := 0
		for {
			size, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			in, err := (&gosnmp.GoSNMP{Version: gosnmp.Version2c}).SnmpDecodePacket(buf[:size])
			if err != nil {
				continue
			}
			out := gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "public",
				PDUType: gosnmp.GetResponse, RequestID: in.RequestID}
			for _, v := range in.Variables {
				for range max(1, int(in.MaxRepetitions)) {
					n++
					name := v.Name
					if in.PDUType != gosnmp.GetRequest {
						name = v.Name + ".1"
					}
					out.Variables = append(out.Variables,
						gosnmp.SnmpPDU{Name: name, Type: gosnmp.Integer, Value: n})
				}
			}
			raw, _ := out.MarshalMsg()
			_, _ = c.WriteTo(raw, from)
		}
	}()
	began := time.Now()
	_, err = snmp.Dialect{}.Open(dialect.At{Endpoint: device.Endpoint{Address: c.LocalAddr().String(),
		ProtocolVersion: snmp.V2c}}, login.Credential{}).Read(t.Context())
	assert.NoError(t, err)
	assert.Less(t, time.Since(began), time.Minute, "it ended") // far beyond its bounds
}
