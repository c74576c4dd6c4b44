package discover

import (
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
)

// The stand-ins answer WS-Discovery by the standard: who learns from them learns that.
func TestWSDiscoveryOfStandIns(t *testing.T) {
	place, err := sim.Start(sim.Scenario{Devices: []sim.Device{{Name: "cam-11", Kind: "camera",
		Model:  "WX-40",
		Serial: "S", Version: "1.0", Host: 11}}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	host, _, _ := net.SplitHostPort(place.StandIns()[0].Address)
	c, err := net.Dial("udp", net.JoinHostPort(host, "3702"))
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	asked := &numbers{given: map[string]bool{}}
	// Who is asked something that it must not answer is asked something else right after: the
	// first answer is to that.
	ask := func(action, what string) string {
		id := asked.next()
		for _, m := range [][]byte{wsdMessage(wsd2005, id, action, what),
			wsdMessage(wsd2005, asked.next(), "Probe", "")} {
			_, err := c.Write(m)
			require.NoError(t, err)
		}
		_ = c.SetReadDeadline(time.Now().Add(time.Minute))
		buf := make([]byte, maxPacket)
		n, err := c.Read(buf)
		require.NoError(t, err)
		if !strings.Contains(string(buf[:n]), id) {
			return "" // it is to the second question
		}
		first := string(buf[:n])
		_, err = c.Read(buf)
		require.NoError(t, err)
		return first
	}
	answer := ask("Probe", "")
	require.Contains(t, answer, "ProbeMatches")
	assert.Contains(t, answer, "AppSequence")
	uuid := answer[strings.Index(answer, "<wsa:Address>urn")+len("<wsa:Address>"):]
	uuid = uuid[:strings.Index(uuid, "<")]
	for what, answered := range map[string]bool{
		`<d:Types xmlns:x="http://www.onvif.org/ver10/network/wsdl">x:NetworkVideoTransmitter</d:Types>`: true,
		`<d:Types xmlns:x="urn:other">x:NetworkVideoTransmitter</d:Types>`:                               false,
		`<d:Scopes>onvif://www.onvif.org/hardware</d:Scopes>`:                                            true,
		`<d:Scopes>onvif://www.onvif.org/hard</d:Scopes>`:                                                false,
		`<d:Scopes MatchBy="` + wsd2005 +
			`/strcmp0">onvif://www.onvif.org/hardware</d:Scopes>`: false,
	} {
		assert.Equal(t, answered, ask("Probe", what) != "", what)
	}
	resolved := ask("Resolve", `<a:EndpointReference><a:Address>`+uuid+
		`</a:Address></a:EndpointReference>`)
	assert.Contains(t, resolved, "ResolveMatches")
	assert.Empty(t, ask("Resolve",
		`<a:EndpointReference><a:Address>urn:uuid:0</a:Address></a:EndpointReference>`))
	// Our own reader understands both.
	for _, packet := range []string{answer, resolved} {
		got, _ := parseMatches([]byte(packet), asked, at(host+":3702").Addr())
		assert.Len(t, got, 1)
	}
}
