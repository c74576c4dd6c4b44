package address

import (
	"math/rand/v2"
	"net"
	"os"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// flooded is a socket on which many others ask before the device does, and after it.
type flooded struct {
	net.PacketConn
	next    func() []byte // nil: nothing more comes
	answers [][]byte
}

func (f *flooded) ReadFrom(b []byte) (int, net.Addr, error) {
	m := f.next()
	if m == nil {
		return 0, nil, os.ErrDeadlineExceeded
	}
	return copy(b, m), nil, nil
}

func (f *flooded) WriteTo(b []byte, _ net.Addr) (int, error) {
	f.answers = append(f.answers, b)
	return len(b), nil
}

func (*flooded) SetReadDeadline(time.Time) error { return nil }

// Among a hundred thousand requests of others, and messages that are none, the device alone gets an
// answer.
func TestAFloodOfRequests(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	own, err := dhcpv4.NewDiscovery(mine)
	require.NoError(t, err)
	other, err := dhcpv4.NewDiscovery(theirs)
	require.NoError(t, err)
	raw := other.ToBytes()
	count := 0
	f := &flooded{next: func() []byte {
		count++
		switch {
		case count == 50_000:
			return own.ToBytes()
		case count > 100_000:
			return nil
		case count%3 == 0:
			return raw[:r.IntN(len(raw))]
		}
		for i := range 6 { // the address of who asks
			raw[28+i] = byte(r.Uint32())
		}
		raw[28] |= 2
		return raw
	}}
	steps := []Step{}
	require.NoError(t, serve(t.Context(), f, lease, func(s Step) { steps = append(steps, s) }))
	assert.Equal(t, []Step{Asks}, steps)
	require.Len(t, f.answers, 1)
	answer, err := dhcpv4.FromBytes(f.answers[0])
	require.NoError(t, err)
	assert.Equal(t, mine, answer.ClientHWAddr)
}
