package discover

import (
	"bytes"
	"context"
	"net"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/machine"
	"catena/internal/site"
)

// hears serves what comes to an address by BACnet; answer may send from it.
func hears(
	t *testing.T,
	address string,
	answer func(conn net.PacketConn, packet []byte, from net.Addr),
) {
	listen := net.ListenConfig{Control: machine.Reuse}
	conn, err := listen.ListenPacket(context.Background(), "udp4", address)
	if err != nil {
		t.Skipf("left out: this machine does not let us hear at %s: %v", address, err)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 2048)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			answer(conn, bytes.Clone(buf[:n]), from)
		}
	}()
	t.Cleanup(func() {
		_ = conn.Close()
		<-done
	})
}

// iAm is a device's answer to Who-Is, by a function of the link layer: instance 1001.
func iAm(function byte, before ...byte) []byte {
	b := append([]byte{0x81, function, 0, 0}, before...)
	b = append(b, 1, 0, 0x10, 0, 0xc4, 2, 0, 3, 0xe9, 0x22, 1, 0xe0, 0x91, 0, 0x22, 0xfd, 0xe9)
	b[3] = byte(len(b))
	return b
}

func byBACnet(t *testing.T, n Network) Found {
	s := newDiscoverer(UsualPatience)
	s.Via = []string{"bacnet"}
	n.Adapter = "lo"
	found, err := s.Run(t.Context(), []Network{n})
	require.NoError(t, err)
	return found
}

var broadcast = &net.UDPAddr{IP: net.IPv4(127, 255, 255, 255), Port: 47808}

// A strict device answers a broadcast by a broadcast, at the standard's port, and no one else.
func TestADeviceThatTellsEverybody(t *testing.T) {
	listen := net.ListenConfig{Control: machine.Reuse}
	device, err := listen.ListenPacket(t.Context(), "udp4", "127.44.250.9:47808")
	require.NoError(t, err)
	defer func() { _ = device.Close() }()
	hears(t, broadcast.String(), func(_ net.PacketConn, packet []byte, _ net.Addr) {
		if bytes.Equal(packet, []byte{0x81, 0x0b, 0, 8, 1, 0, 0x10, 8}) {
			_, _ = device.WriteTo(iAm(0x0b), broadcast)
		}
	})
	found := byBACnet(t, Network{Ranges: ranges(t, "127.44.250.9")})
	require.NotEmpty(t, found.Sightings)
	s := found.Sightings[0]
	assert.Equal(t, netip.MustParseAddrPort("127.44.250.9:47808"), s.Address)
	assert.Equal(t, []string{"bacnet", "device,1001"}, []string{s.Dialect, s.Path})
	assert.True(t, s.Open)
}

// A BBMD is asked for a registration first, and then to ask everybody that it reaches. One that
// refuses is left alone.
func TestABBMDAsksOtherNetworks(t *testing.T) {
	var asked sync.Map // what each was asked, by its address
	bbmd := func(result byte) func(net.PacketConn, []byte, net.Addr) {
		return func(conn net.PacketConn, packet []byte, from net.Addr) {
			key := conn.LocalAddr().String()
			switch {
			case len(packet) == 6 && packet[1] == 5:
				asked.Store(key, packet)
				_, _ = conn.WriteTo([]byte{0x81, 0, 0, 6, 0, result}, from)
			case packet[1] == 9:
				asked.Store(key+" all", packet)
				_, _ = conn.WriteTo(iAm(4, 127, 44, 251, 7, 0xba, 0xc0), from)
				_, _ = conn.WriteTo(iAm(4, 10, 99, 0, 7, 0xba, 0xc0), from) // outside of the site
				_, _ = conn.WriteTo([]byte{0x81, 4, 0, 6, 127, 44}, from)
				for device := range byte(3) { // on a network behind a router, twice each
					b := []byte{0x81, 0x0a, 0, 26, 1, 0x08, 0x07, 0xd1, 1, device}
					b = append(b, iAm(0x0a)[6:]...)
					b[3] = byte(len(b))
					_, _ = conn.WriteTo(b, from)
					_, _ = conn.WriteTo(b, from)
				}
			}
		}
	}
	hears(t, "127.44.250.10:47808", bbmd(0))
	hears(t, "127.44.250.11:47808", bbmd(0x30))
	n := site.Network{
		Ranges: []string{"127.44.251.7"},
		BBMD:   []string{"127.44.250.10", "127.44.250.11:47808"},
	}
	found := byBACnet(t, Networks([]site.Network{n})[0])
	require.NotEmpty(t, found.Sightings)
	for _, s := range found.Sightings {
		assert.Equal(t, "127.44.251.7:47808", s.Address.String())
	}
	require.Len(t, found.Outside, 1)
	assert.Equal(t, "10.99.0.7:47808", found.Outside[0].Address.String())
	assert.Equal(t, []string{"BACnet controllers behind the router 127.44.250.10: 3; Catena cannot " +
		"reach them yet"}, found.Warnings)
	of := func(key string) any { was, _ := asked.Load(key); return was }
	assert.Equal(t, []byte{0x81, 5, 0, 6, 0, 60}, of("127.44.250.10:47808"))
	assert.Equal(t, []byte{0x81, 9, 0, 8, 1, 0, 0x10, 8}, of("127.44.250.10:47808 all"))
	assert.Nil(t, of("127.44.250.11:47808 all"))
}
