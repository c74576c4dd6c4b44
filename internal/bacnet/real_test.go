package bacnet_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/bacnet"
)

// A conversation is BACnet to a program that knows nothing of this one: no message of either side
// is malformed, and the services are the ones that were asked for.
func TestAsTsharkSeesIt(t *testing.T) {
	for _, need := range []string{"tshark", "text2pcap"} {
		if _, err := exec.LookPath(need); err != nil {
			t.Skipf("left out: there is no %s here", need)
		}
	}
	var mu sync.Mutex
	var seen bytes.Buffer
	saw := func(b []byte) {
		mu.Lock()
		defer mu.Unlock()
		fmt.Fprintf(&seen, "000000 %s\n", strings.TrimSpace(strings.ToLower(fmt.Sprintf("% x", b))))
	}
	c := dial(t, between(t, controller(t), func(int) string { return "" }, saw))
	_, err := c.Acquaint(t.Context(), bacnet.OwnDevice)
	require.NoError(t, err)
	store(t, c, random(9000), c.PartOf(true), 5000)
	assert.NoError(t, c.Write(t.Context(), property(t, "file,1/file-size"), bacnet.NumberOf(0), 0))
	assert.Error(t, c.Write(t.Context(), property(t, "device/model-name"), bacnet.TextOf("X"), 8))
	assert.Error(t, c.Reinitialize(t.Context(), bacnet.ColdStart, "mitre"))
	_, err = c.Read(t.Context(), property(t, "device/object-list"))
	assert.NoError(t, err)
	for _, b := range [][]byte{bacnet.WhoIs(bacnet.ToAll), bacnet.WhoIs(bacnet.ByForeign),
		bacnet.Register(60), bacnet.Probes()[1]} {
		saw(b)
	}
	dir := t.TempDir()
	text, capture := filepath.Join(dir, "seen"), filepath.Join(dir, "seen.pcap")
	mu.Lock()
	err = os.WriteFile(text, seen.Bytes(), 0o600)
	mu.Unlock()
	require.NoError(t, err)
	out, err := exec.Command("text2pcap", "-q", "-u", "47808,47808", text, capture).CombinedOutput()
	require.NoError(t, err, "%s", out)
	fields := func(filter string, names ...string) string {
		args := []string{"-r", capture, "-T", "fields"}
		for _, n := range names {
			args = append(args, "-e", n)
		}
		out, err := exec.Command("tshark", append(args, "-Y", filter)...).Output()
		require.NoError(t, err)
		return string(out)
	}
	assert.Empty(t, fields("_ws.malformed || !bvlc", "frame.number"))
	assert.Contains(t, fields("bacapp.confirmed_service == 7", "bacapp.confirmed_service"), "7")
	assert.Contains(t, fields("bacapp.error_code == 26", "bacapp.error_code"), "26")
	assert.NotEmpty(t, fields("bacapp.segmented_request", "frame.number"))
	assert.NotEmpty(t, fields("bvlc.function == 0x05 && bvlc.reg_ttl == 60", "frame.number"))
	assert.Contains(t, fields("bacapp.type == 0", "_ws.col.Info"), "readProperty")
}

func property(t *testing.T, written string) bacnet.Property {
	p, err := bacnet.ParseProperty(written)
	require.NoError(t, err)
	return p
}
