package onvif_test

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/onvif"
	"catena/internal/dialect/simtest"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/settings"
	"catena/internal/sim"
	"catena/internal/sim/standin"
)

func TestConformance(t *testing.T) {
	for name, d := range map[string]sim.Device{
		"token":        {Auth: "token"},
		"digest":       {Auth: "digest"},
		"wrong clock":  {Auth: "token", ClockOff: -26 * time.Hour},
		"does not ask": {},
		"older":        {Auth: "token", Older: true},
		"older digest": {Auth: "digest", Older: true},
	} {
		t.Run(name, func(t *testing.T) {
			d.Kind, d.Model, d.Hardware = "camera", "WX-40", "B"
			d.Auxiliary = []string{"tt:IRLamp|On", "tt:IRLamp|Off"}
			s := simtest.Subject(t, onvif.Dialect{}, "Wexcombe", d, "gate")
			s.Can = dialecttest.Abilities{Settings: true, Foreign: []byte("not a backup"), Shows: true,
				Moves: simtest.Moved, Permission: true, Password: true, Clock: true, Ahead: d.ClockOff}
			dialecttest.Run(t, s)
		})
	}
}

// answering is a device that answers every call with the body that f gives for it.
func answering(t *testing.T, f func(call string, r *http.Request) string) dialect.Session {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		var in struct {
			Body struct {
				Call struct{ XMLName xml.Name } `xml:",any"`
			} `xml:"Body"`
		}
		_ = xml.Unmarshal(raw, &in)
		fmt.Fprintf(
			w,
			`<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Body>%s</s:Body></s:Envelope>`,
			f(in.Body.Call.XMLName.Local, r),
		)
	}))
	t.Cleanup(s.Close)
	at := dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}}
	return onvif.Dialect{}.Open(at, login.Credential{User: "keeper", Password: "quoin"})
}

func TestAnImageGoesToNoOtherHost(t *testing.T) {
	for _, uri := range []string{"http://127.0.0.9:1/upload", "https://127.0.0.1/upload",
		"ftp://x/", "", "http://", "http://127.0.0.1:9/upload"} {
		p := answering(t, func(string, *http.Request) string {
			return "<r:StartFirmwareUpgradeResponse xmlns:r='x'><UploadUri>" + uri +
				"</UploadUri></r:StartFirmwareUpgradeResponse>"
		})
		update, err := p.Update(firmware.Main)
		require.NoError(t, err)
		err = update.Transfer(t.Context(), dialect.Image{ReaderAt: strings.NewReader("x"), Size: 1},
			nil)
		assert.ErrorIs(t, err, device.ErrMalformed, uri)
		assert.ErrorContains(t, err, "upload address")
	}
}

func TestHostileXML(t *testing.T) {
	for name, body := range map[string]string{
		"nested":       strings.Repeat("<a>", 20_000),
		"entities":     `<!DOCTYPE x [<!ENTITY a "b">]>&a;`,
		"unclosed":     "<GetDeviceInformationResponse>",
		"no version":   "<GetDeviceInformationResponse><Model>WX-40</Model></GetDeviceInformationResponse>",
		"endless":      strings.Repeat(" ", 1<<20),
		"odd duration": "<StartFirmwareUpgradeResponse><UploadDelay>PT9X</UploadDelay></StartFirmwareUpgradeResponse>",
	} {
		t.Run(name, func(t *testing.T) {
			p := answering(t, func(string, *http.Request) string { return body })
			_, err := p.Read(t.Context())
			assert.ErrorIs(t, err, device.ErrMalformed)
		})
	}
}

func TestScopes(t *testing.T) {
	name, hardware := onvif.Scopes([]string{"onvif://www.onvif.org/Profile/T",
		"onvif://www.onvif.org/name/upper%20basin%1b", "onvif://www.onvif.org/hardware/WX-40"})
	assert.Equal(t, "upper basin", name)
	assert.Equal(t, "WX-40", hardware)
}

func TestAnnouncedTimesAreBounded(t *testing.T) {
	p := answering(t, func(call string, r *http.Request) string {
		if strings.HasPrefix(r.URL.Path, "/up") {
			return ""
		}
		return "<StartFirmwareUpgradeResponse><UploadUri>http://" + r.Host +
			"/up</UploadUri><UploadDelay>PT0.01S</UploadDelay>" +
			"<ExpectedDownTime>P400DT1H1M1S</ExpectedDownTime></StartFirmwareUpgradeResponse>"
	})
	update, err := p.Update(firmware.Main)
	require.NoError(t, err)
	require.NoError(t, update.Transfer(t.Context(),
		dialect.Image{ReaderAt: strings.NewReader("x"), Size: 1}, nil))
	assert.Equal(t, time.Hour, update.Traits().Down)
}

// A device is asked how it wants the login: none is tried in vain, whatever it wants for SOAP
// and whatever for the upload.
func TestNoLoginIsTriedInVain(t *testing.T) {
	for _, auth := range []string{"token", "digest", "mixed"} {
		t.Run(auth, func(t *testing.T) {
			s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
				Devices: []sim.Device{{Name: "cam-11", Kind: "camera", Model: "WX-40", Serial: "S",
					Version: "1.0",
					Host:    11, Auth: auth}}}, "", slog.New(slog.DiscardHandler))
			require.NoError(t, err)
			t.Cleanup(s.Stop)
			session := onvif.Dialect{}.Open(
				dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address}},
				login.Credential{User: "keeper", Password: "quoin"})
			_, err = session.Read(t.Context())
			require.NoError(t, err)
			var image bytes.Buffer
			require.NoError(t, standin.Image(&image, "Wexcombe", []string{"WX-40"}, "", "2.0", 1000))
			update, err := session.Update(firmware.Main)
			require.NoError(t, err)
			require.NoError(t, update.Transfer(t.Context(),
				dialect.Image{ReaderAt: bytes.NewReader(image.Bytes()), Size: int64(image.Len())},
				nil))
			assert.NotContains(t, s.StandIns()[0].Log, "refused login")
		})
	}
}

// The settings of a camera are kept and restored, by the calls of today's and those of older
// ones, however it wants the login.
func TestSettings(t *testing.T) {
	for name, d := range map[string]sim.Device{
		"today": {}, "today, digest": {Auth: "digest"},
		"older": {Older: true}, "older, digest": {Older: true, Auth: "digest"},
	} {
		t.Run(name, func(t *testing.T) {
			d.Name, d.Kind, d.Host, d.Model, d.Hardware, d.Serial, d.Version = "first", "camera", 1, "WX-40",
				"B", "S-1", "1.0"
			d.Settings = map[string]string{"night": "on"}
			session := onvif.Dialect{}.Open(simtest.Start(t, d), login.Credential{User: "keeper",
				Password: simtest.Password})
			s, err := session.Settings()
			require.NoError(t, err)
			assert.Equal(t, settings.Opaque, s.Format())
			saved, err := s.Save(t.Context())
			require.NoError(t, err)
			assert.ErrorIs(t, s.Restore(t.Context(), saved[:len(saved)-9]), device.ErrRefused)
			require.NoError(t, s.Restore(t.Context(), saved))
			var again []byte
			require.Eventually(t, func() bool { // it restarts to take them
				again, err = s.Save(t.Context())
				return err == nil
			}, time.Minute, 20*time.Millisecond)
			assert.Equal(t, saved, again)
		})
	}
}
