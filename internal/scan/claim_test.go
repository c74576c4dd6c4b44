package scan

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
)

// moved is a site of n devices that all got other addresses: they are recognised by nothing but
// their keys.
func moved(n int) (found []*device.Device, known []device.Device, ring *keyring) {
	var keys []Key
	for i := range n {
		was, now := fmt.Sprintf("10.20.%d.%d:443", i/250, 1+i%250), fmt.Sprintf("10.21.%d.%d:443", i/250,
			1+i%250)
		known = append(known, device.Device{ID: fmt.Sprintf("d%d", i+1),
			Endpoint: device.Endpoint{Address: was, Scheme: "https"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "W", Model: "M",
				Serial: fmt.Sprint(i)}}})
		found = append(found, &device.Device{Endpoint: device.Endpoint{Address: now, Scheme: "https"},
			Reading: device.Reading{Identity: device.Identity{Vendor: "W", Model: "M"}}})
		keys = append(keys, Key{Address: was, Kind: device.KeyTLS, Fingerprint: fmt.Sprint("key ", i)})
	}
	ring = newKeyring(keys)
	for i, d := range found {
		_ = ring.check(d.Address, device.KeyTLS, fmt.Sprint("key ", i))
	}
	return found, known, ring
}

func TestMovedDevicesAreRecognisedByTheirKeys(t *testing.T) {
	found, known, ring := moved(40)
	for i, o := range claims(found, known, ring, func(device.Device) bool { return true }) {
		assert.Equal(t, known[i].ID, o.ID)
		assert.Equal(t, keyed, o.by)
	}
}

// Two devices with one MAC address and no serial number both stay visible.
func TestTwoDevicesWithOneMAC(t *testing.T) {
	one := func(address string) *found {
		return &found{Device: device.Device{Endpoint: device.Endpoint{Address: address},
			Reading: device.Reading{Identity: device.Identity{MAC: "02:00:00:00:00:01"}}}}
	}
	all := fold([]*found{one("10.20.0.1:80"), one("10.20.0.2:80"), one("10.20.0.2:443")})
	assert.Len(t, all, 2)
	r := Result{}
	for i, d := range all {
		d.Name = fmt.Sprint("cam-", i)
		r.Devices = append(r.Devices, *d)
	}
	r.warn()
	assert.Equal(t, []string{"cam-0 and cam-1 both report MAC address 02:00:00:00:00:01"}, r.Warnings)
}

// BenchmarkClaims shows that recognising devices that moved costs in proportion to their number.
func BenchmarkClaims(b *testing.B) {
	for _, n := range []int{250, 500, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			found, known, ring := moved(n)
			for b.Loop() {
				claims(found, known, ring, func(device.Device) bool { return true })
			}
		})
	}
}
