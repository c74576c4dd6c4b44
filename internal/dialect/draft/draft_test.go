package draft_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/dialect/draft"
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/simtest"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/sim"
)

// A draft proposes what the type of the answer allows, by the names that it has, and says what is
// missing.
func TestADraftByTheAnswersType(t *testing.T) {
	for body, c := range map[string]struct{ has, hasNot []string }{
		`{"device": {"model": "TG-200", "serialNumber": "S-1"}, "firmware": "K42", "maker": "Tollgarth"}`: {
			[]string{"model: $.device.model", "serial: $.device.serialNumber", "{version: $.firmware}",
				"vendor: $.maker", "#   family: a name"},
			[]string{"//", "where the answer names the model", "a serial number, UUID"}},
		`<!doctype html><title>TG-200</title>`: {
			[]string{"says: //title", "model: '~ FILL-IN'", "its page is called TG-200",
				"such as model: ~ <title>"}, []string{"$.model"}},
		"model=TG-200 version=K42": {[]string{"such as model: ~ model="}, []string{"$.model", "//title"}},
	} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(body))
		}))
		t.Cleanup(s.Close)
		text, answered, err := draft.Of(t.Context(), login.Credential{}, s.Listener.Addr().String())
		require.NoError(t, err)
		for _, want := range c.has {
			assert.Contains(t, text, want)
		}
		for _, not := range c.hasNot {
			assert.NotContains(t, text, not)
		}
		assert.Contains(t, text, "\nports: [")
		assert.Equal(t, body, answered.Exchanges[0].Body)
	}
}

// With a login it is seen whether SSH accepts commands, or the device has only a shell.
func TestADraftOfAShell(t *testing.T) {
	as := login.Credential{User: "keeper", Password: simtest.Password}
	at := simtest.Start(t, sim.Device{Name: "first", Kind: "router", Model: "OR-4", Host: 1,
		Serial: "S-1", Version: "1.0"})
	text, _, err := draft.Of(t.Context(), as, at.Address)
	require.NoError(t, err)
	assert.Contains(t, text, "\nterminal: {prompt: '^first> ?$'}\n")
	at = simtest.Start(t, sim.Device{Name: "first", Kind: "drive", Model: "HD-7", Host: 1,
		Serial: "S-1", Version: "1.0"})
	text, _, err = draft.Of(t.Context(), as, at.Address)
	require.NoError(t, err)
	assert.Contains(t, text, "ssh: it accepts commands")
	assert.NotContains(t, text, "\nterminal: {")
}

// A controller of BACnet is drafted by its device object, with its files by their names.
func TestADraftOfAController(t *testing.T) {
	at := simtest.Start(t, sim.Device{Name: "fans", Kind: "ventilation", Model: "VC-3", Host: 1,
		Serial: "S-1", Version: "1.0"})
	text, _, err := draft.Of(t.Context(), login.Credential{}, at.Address)
	require.NoError(t, err)
	for _, want := range []string{"it is a Harrow & Dene VC-3, serial number S-1, and runs 1.0",
		"file,1 is called firmware", "file,2 is called configuration", "\nprotocol: bacnet\n"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "ports:")
	f, err := family.Parse("draft.yaml", []byte(strings.ReplaceAll(text, "FILL-IN", "fans")))
	require.NoError(t, err)
	r, err := scripted.New(f, -1).Open(at, login.Credential{}).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1.0", r.Version)
}
