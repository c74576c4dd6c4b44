package device_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/device"
)

func TestURL(t *testing.T) {
	assert.Equal(t, "http://10.20.4.11:80/x", device.Endpoint{Address: "10.20.4.11:80"}.URL("/x"))
	assert.Equal(t, "https://[fe80::1%25eth0]:443/",
		device.Endpoint{Address: "[fe80::1%eth0]:443", Scheme: "https"}.URL("/"))
	_, err := http.NewRequest(http.MethodGet,
		device.Endpoint{Address: "[fe80::1%eth0]:443"}.URL("/"), nil)
	assert.NoError(t, err)
}

func TestReadingsAreCleaned(t *testing.T) {
	f := device.Reading{Identity: device.Identity{MAC: "02-00-5E-00-53-11"}, Called: "a\x1b[2Jb",
		Says: "x\ny", Downstream: []string{"\x07z"},
		Neighbours: []device.Neighbour{{Port: "1\n", Name: "n\x00"}}}.Clean()
	assert.Equal(t, "a[2Jb", f.Called)
	assert.Equal(t, "x y", f.Says)
	assert.Equal(t, "02:00:5e:00:53:11", f.MAC)
	assert.Equal(t, []string{"z"}, f.Downstream)
	assert.Equal(t, []device.Neighbour{{Port: "1", Name: "n"}}, f.Neighbours)
	for _, mac := range []string{"", "x", "00:00:00:00:00:00", "01:00:5e:00:00:fb",
		"ff:ff:ff:ff:ff:ff", "02:00:5e:00:53:11:22:33"} {
		assert.Empty(t, device.Reading{Identity: device.Identity{MAC: mac}}.Clean().MAC, mac)
	}
	many := device.Reading{Neighbours: make([]device.Neighbour, 5000), Downstream: make([]string,
		5000),
		Services: make([]string, 5000)}.Clean()
	assert.Less(t, len(many.Neighbours)+len(many.Downstream)+len(many.Services), 1000)
}

func TestDeviceAnswers(t *testing.T) {
	d := device.Device{ID: "d7", Name: "cam-11",
		Endpoint: device.Endpoint{Address: "10.20.4.11:80"},
		Reading: device.Reading{Identity: device.Identity{Serial: "WX4-0011",
			MAC: "02:00:5e:00:53:11"}}}
	for _, p := range []string{"cam-11", "CAM-11", "cam-1?", "d7", "10.20.4.11", "10.20.4.11:80",
		"wx4-0011", "02-00-5E-00-53-11", "02:00:5e:00:53:11", "0200.5e00.5311"} {
		assert.True(t, d.Answers(p), p)
	}
	for _, p := range []string{"cam-1", "d70", "10.20.4.1", "", "10.20.4.11:8080"} {
		assert.False(t, d.Answers(p), p)
	}
}

// What a later reading leaves out stays as it was; what it says replaces the old.
func TestOver(t *testing.T) {
	old := device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"},
		Version: "1.0", Services: []string{"a"}}
	now := device.Reading{Version: "2.0", Called: "cam-11"}.Over(old)
	assert.Equal(t, device.Reading{Identity: device.Identity{Vendor: "Wexcombe", Serial: "S-1"},
		Version: "2.0", Called: "cam-11", Services: []string{"a"}}, now)
}

// Causes are told apart by their kind, never by their wording.
func TestCauses(t *testing.T) {
	changed := device.IdentityChangedError(device.KeyTLS, "A", "B\x1b[2J")
	assert.ErrorIs(t, changed, device.ErrIdentityChanged)
	assert.NotErrorIs(t, changed, device.ErrAway)
	assert.EqualError(t, changed, "its TLS certificate changed: was A, now B[2J")
	assert.EqualError(t, device.Because(device.NoAnswer, "connection refused"),
		"does not answer: connection refused")
	assert.Empty(t, device.Device{}.Why())
}
