package address

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	mine   = net.HardwareAddr{2, 0, 0x5e, 0, 0x53, 0x61}
	theirs = net.HardwareAddr{2, 0, 0x5e, 0, 0x53, 0x62}
	lease  = Lease{MAC: mine, To: netip.MustParsePrefix("10.20.4.61/24"),
		Server:  netip.MustParseAddr("10.20.4.1"),
		Gateway: netip.MustParseAddr("10.20.4.254"), Lasts: time.Hour}
)

// One address is given to one device, and to no one else, whatever they ask.
func TestAnswer(t *testing.T) {
	discover, err := dhcpv4.NewDiscovery(mine)
	require.NoError(t, err)
	offer, step, err := lease.Answer(discover)
	require.NoError(t, err)
	assert.Equal(t, Asks, step)
	assert.Equal(t, dhcpv4.MessageTypeOffer, offer.MessageType())
	assert.Equal(t, "10.20.4.61", offer.YourIPAddr.String())
	assert.Equal(t, "ffffff00", offer.SubnetMask().String())
	assert.Equal(t, "10.20.4.254", offer.Router()[0].String())
	assert.Equal(t, time.Hour, offer.IPAddressLeaseTime(0))
	assert.Equal(t, discover.TransactionID, offer.TransactionID)

	request, err := dhcpv4.NewRequestFromOffer(offer)
	require.NoError(t, err)
	ack, step, err := lease.Answer(request)
	require.NoError(t, err)
	assert.Equal(t, Takes, step)
	assert.Equal(t, dhcpv4.MessageTypeAck, ack.MessageType())

	renew, err := dhcpv4.NewRenewFromAck(ack)
	require.NoError(t, err)
	again, _, err := lease.Answer(renew)
	require.NoError(t, err)
	assert.Equal(t, dhcpv4.MessageTypeAck, again.MessageType())

	other, err := dhcpv4.NewDiscovery(theirs)
	require.NoError(t, err)
	none, step, err := lease.Answer(other)
	require.NoError(t, err)
	assert.Nil(t, none)
	assert.Equal(t, Ignored, step)

	before, err := dhcpv4.New(dhcpv4.WithHwAddr(mine),
		dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest),
		dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(192, 168, 0, 7))))
	require.NoError(t, err)
	nak, step, err := lease.Answer(before)
	require.NoError(t, err)
	assert.Equal(t, Insists, step)
	assert.Equal(t, dhcpv4.MessageTypeNak, nak.MessageType())
	assert.True(t, nak.YourIPAddr.IsUnspecified())

	request.UpdateOption(dhcpv4.OptServerIdentifier(net.IPv4(10, 20, 4, 9)))
	none, _, err = lease.Answer(request)
	assert.Nil(t, none)
	var server *OtherServerError
	require.ErrorAs(t, err, &server)
	assert.Equal(t, "10.20.4.9", server.Address.String())

	decline, err := dhcpv4.New(dhcpv4.WithHwAddr(mine),
		dhcpv4.WithMessageType(dhcpv4.MessageTypeDecline))
	require.NoError(t, err)
	_, step, err = lease.Answer(decline)
	assert.ErrorIs(t, err, ErrInUse)
	assert.Equal(t, Declined, step)
}

func TestFrames(t *testing.T) {
	frame := func(kind uint16, body ...byte) []byte {
		return append(append(append([]byte{1, 0x80, 0xc2, 0, 0, 0xe}, theirs...), byte(kind>>8),
			byte(kind)), body...)
	}
	arp := append([]byte{0, 1, 8, 0, 6, 4, 0, 1}, append(append(append([]byte{}, mine...), 0, 0, 0, 0),
		0, 0, 0, 0, 0, 0, 192, 168, 0, 7)...)
	h, is := parseFrame(frame(typeARP, arp...))
	require.True(t, is)
	assert.Equal(t, Heard{MAC: mine.String(), Address: netip.MustParseAddr("192.168.0.7"), Via: "arp"},
		h, "a probe")
	lldp := append([]byte{2, 7, 4}, mine...)
	lldp = append(lldp, 5<<1, 5, 'c', 'a', 'm', 27, '1', 8<<1, 12, 5, 1, 10, 1, 2, 3, 2, 0, 0, 0, 1, 0,
		0, 0)
	h, is = parseFrame(frame(typeLLDP, lldp...))
	require.True(t, is)
	assert.Equal(t, Heard{MAC: mine.String(), Address: netip.MustParseAddr("10.1.2.3"), Via: "lldp",
		Name: "cam1"}, h)
	for n := range lldp { // one that is cut off says less, and harms no one
		_, _ = parseFrame(frame(typeLLDP, lldp[:n]...))
	}
}

func FuzzFrame(f *testing.F) {
	f.Add([]byte("\x01\x80\xc2\x00\x00\x0e\x02\x00\x5e\x00\x53\x61\x08\x06\x00\x01\x08\x00\x06\x04"))
	m, _ := dhcpv4.NewDiscovery(mine)
	f.Add(append(append(make([]byte, 12), 8, 0, 0x45, 0, 0, 0, 0, 0, 0, 0, 64, 17, 0, 0, 0, 0, 0, 0,
		255, 255, 255, 255, 0, 68, 0, 67, 0, 0, 0, 0), m.ToBytes()...))
	f.Fuzz(func(t *testing.T, frame []byte) {
		if h, is := parseFrame(frame); is && h.MAC == "" {
			t.Error("heard from no one")
		}
	})
}
