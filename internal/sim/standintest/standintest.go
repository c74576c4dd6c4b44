// Package standintest starts stand-ins for tests that hold them against their standards. It speaks
// no protocol: each test writes and reads the bytes itself, or has a program of others do it, so
// that a mistake in Catena's dialects is not repeated.
package standintest

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standin"
)

// The login of every stand-in.
const (
	User     = "keeper"
	Password = "quoin-and-sluice"
)

// Start starts one stand-in, which is named first and has the serial number S-1, and returns its
// address and port. It is stopped when the test ends.
func Start(t *testing.T, d sim.Device) string {
	t.Helper()
	d.Name, d.Serial, d.Host = "first", "S-1", 1
	s, err := sim.Start(sim.Scenario{Login: sim.Login{User: User, Password: Password},
		Pace:    sim.Pace{Write: 200 * time.Millisecond, Restart: 200 * time.Millisecond},
		Devices: []sim.Device{d}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s.StandIns()[0].Address
}

// Image returns an image that a stand-in of that maker and model takes.
func Image(t *testing.T, maker, model string) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, standin.Image(&b, maker, []string{model}, "", "2.0", 300_000))
	return b.Bytes()
}

// Ask sends datagrams, in order, and returns the first answer. To show that a datagram gets no
// answer, send one after it that does.
func Ask(t *testing.T, address string, packets ...[]byte) []byte {
	t.Helper()
	conn, err := net.Dial("udp", address)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	for _, p := range packets {
		_, err := conn.Write(p)
		require.NoError(t, err)
	}
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	answer := make([]byte, 64<<10)
	n, err := conn.Read(answer)
	require.NoError(t, err)
	return answer[:n]
}

// Call makes an HTTP request over its own connection, and returns the answer with its body. Any
// certificate is accepted. Header fields are given in pairs of a name and a value.
func Call(t *testing.T, method, url, body string, fields ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, url, bytes.NewReader([]byte(body)))
	require.NoError(t, err)
	for i := 0; i+1 < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
	}
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	answer, err := client.Do(r)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(raw)
}

// JSON decodes an answer.
func JSON(t *testing.T, body string) map[string]any {
	t.Helper()
	out := map[string]any{}
	require.NoError(t, json.Unmarshal([]byte(body), &out), body)
	return out
}
