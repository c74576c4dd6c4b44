package redfish_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/json"
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
	"catena/internal/dialect/redfish"
	"catena/internal/dialect/simtest"
	"catena/internal/login"
	"catena/internal/sim"
)

func recorder(t *testing.T, faults sim.Faults) (*sim.Site, dialect.At) {
	s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Hardware: "r2",
			Serial: "BR5-1", Version: "2.10.3", Host: 70, Faults: faults}}},
		"", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	return s, dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address,
		Scheme: "https"}}
}

var keeper = login.Credential{User: "keeper", Password: "quoin"}

func TestConformance(t *testing.T) {
	d := sim.Device{Kind: "recorder", Model: "BR-5", Hardware: "r2"}
	s := simtest.Subject(t, redfish.Dialect{}, "Brackwell", d, "")
	s.Can = dialecttest.Abilities{Settings: true, Foreign: []byte(`{"Colour": "blue"}`), Shows: true,
		Moves: simtest.Moved, Slots: simtest.Slots(d), Permission: true,
		Password: true, Clock: true}
	dialecttest.Run(t, s)
}

func TestReadsAndShows(t *testing.T) {
	s, p := recorder(t, sim.Faults{})
	facts, err := redfish.Dialect{}.Probe(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, "Brackwell", facts.Vendor)
	assert.Empty(t, facts.Version, "that wants a login")
	facts, err = redfish.Dialect{}.Open(p, keeper).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "BR-5 BR5-1 2.10.3 r2 recorder-1",
		strings.Join([]string{facts.Model, facts.Serial, facts.Version, facts.Hardware,
			facts.Called}, " "))
	assert.Equal(t, map[string]string{"Disks": "D12"}, facts.Components)
	locator, err := redfish.Dialect{}.Open(p, keeper).Locate()
	require.NoError(t, err)
	_, err = locator.Show(t.Context(), true, "")
	require.NoError(t, err)
	_, err = locator.Show(t.Context(), false, "")
	require.NoError(t, err)
	assert.Equal(t, []string{"indicator true", "indicator false"}, s.StandIns()[0].Log)
	_, err = locator.Show(t.Context(), true, "relay-1")
	assert.ErrorIs(t, err, device.ErrRefused)
}

func TestRefusals(t *testing.T) {
	for name, c := range map[string]struct {
		faults   sim.Faults
		password string
		want     error
	}{
		"a wrong password":      {sim.Faults{}, "wrong", device.ErrLoginRefused},
		"a new password is due": {sim.Faults{NewPassword: true}, "quoin", device.ErrNewPassword},
		"only an administrator": {sim.Faults{NoRight: true}, "quoin", device.ErrNoRight},
		"another than the login": {sim.Faults{OtherPassword: "heron"}, "quoin",
			device.ErrLoginRefused},
	} {
		t.Run(name, func(t *testing.T) {
			_, p := recorder(t, c.faults)
			as := keeper
			as.Password = c.password
			_, err := redfish.Dialect{}.Open(p, as).Read(t.Context())
			assert.ErrorIs(t, err, c.want)
		})
	}
}

// A restart ends all sessions, and a service may reject their tokens even at its root, which is
// open to all. That is one new login, not another device.
func TestARestartEndsTheSession(t *testing.T) {
	s, p := recorder(t, sim.Faults{})
	session := redfish.Dialect{}.Open(p, keeper)
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	other := redfish.Dialect{}.Open(p, keeper)
	_, err = other.Read(t.Context())
	require.NoError(t, err)
	update, err := other.Update("main")
	require.NoError(t, err)
	before := s.StandIns()[0].Counts.Logins
	require.NoError(t, update.Activate(t.Context()))
	var facts device.Reading
	require.Eventually(t, func() bool { // it restarts in a moment; until then the session is open
		facts, err = session.Read(t.Context())
		return err == nil && s.StandIns()[0].Counts.Logins > before
	}, time.Minute, 20*time.Millisecond)
	assert.Equal(t, "2.10.3", facts.Version)
	assert.NoError(t, session.Healthy(t.Context(), facts))
	assert.Equal(t, 1, s.StandIns()[0].Counts.Logins-before, "one new login")
}

// A session that was idle for too long is ended by the service: the same one new login.
func TestAnIdleSessionIsOpenedAgain(t *testing.T) {
	s, p := recorder(t, sim.Faults{})
	session := redfish.Dialect{}.Open(p, keeper)
	_, err := session.Read(t.Context())
	require.NoError(t, err)
	request, err := http.NewRequestWithContext(t.Context(), http.MethodDelete,
		p.URL("/redfish/v1/SessionService/Sessions/1"), nil)
	require.NoError(t, err)
	request.SetBasicAuth(keeper.User, keeper.Password)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{
		InsecureSkipVerify: true}}}
	answer, err := client.Do(request)
	require.NoError(t, err)
	require.Equal(t, http.StatusNoContent, answer.StatusCode)
	require.NoError(t, answer.Body.Close())
	before := s.StandIns()[0].Counts.Logins
	facts, err := session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.10.3", facts.Version)
	assert.NoError(t, session.Healthy(t.Context(), facts))
	assert.Equal(t, 1, s.StandIns()[0].Counts.Logins-before, "one new login")
}

// Another certificate than before ends the talk before anything is sent.
func TestStranger(t *testing.T) {
	_, p := recorder(t, sim.Faults{})
	var shown string
	p.Trust = func(kind, fingerprint string) error {
		shown = kind + " " + fingerprint
		return nil
	}
	_, err := redfish.Dialect{}.Open(p, keeper).Read(t.Context())
	require.NoError(t, err)
	assert.Regexp(t, `^TLS certificate SHA256:[A-Za-z0-9+/]{43}$`, shown)
	p.Trust = func(string, string) error { return device.ErrIdentityChanged }
	_, err = redfish.Dialect{}.Open(p, keeper).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrIdentityChanged)
}

// service is a Redfish service whose resources want HTTP Basic.
func service(t *testing.T, resources map[string]any) *httptest.Server {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, _, ok := r.BasicAuth(); !ok && r.URL.Path != "/redfish/v1/" {
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if resources[r.URL.Path] == nil {
			http.NotFound(w, r)
			return
		}
		_ = json.NewEncoder(w).Encode(resources[r.URL.Path])
	}))
	t.Cleanup(s.Close)
	return s
}

func link(to string) map[string]string { return map[string]string{"@odata.id": to} }

// A password in the clear is sent only where a family allows it, and a link never leads
// to someone else.
func TestPlainBasicAndLinks(t *testing.T) {
	var sent int
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		sent++
	}))
	defer other.Close()
	s := service(t, map[string]any{
		"/redfish/v1/": map[string]any{"RedfishVersion": "1.6.0", "Managers": link("/m"),
			"Systems": link("/s")},
		"/m":   map[string]any{"Members": []any{link("/m/1")}},
		"/m/1": map[string]any{"FirmwareVersion": "2.1", "Model": "BR\x1b[2J"},
		"/s":   map[string]any{"Members": []any{}},
	})
	p := dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}}
	_, err := redfish.Dialect{}.Open(p, keeper).Read(t.Context())
	require.ErrorIs(t, err, device.ErrPlain)
	plain := keeper
	plain.PlainBasic = true
	facts, err := redfish.Dialect{}.Open(p, plain).Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2.1", facts.Version)
	assert.Equal(t, "BR[2J", facts.Model)

	for _, to := range []string{other.URL, "//" + other.Listener.Addr().String() + "/x", "m",
		"/" + strings.Repeat("x", 1000)} {
		s := service(t, map[string]any{"/redfish/v1/": map[string]any{"RedfishVersion": "1.6.0",
			"Systems": link(to)}})
		p.Address = s.Listener.Addr().String()
		_, err := redfish.Dialect{}.Open(p, plain).Read(t.Context())
		assert.ErrorIs(t, err, device.ErrMalformed, to)
	}
	assert.Zero(t, sent)
}

func TestOthersAreNotMine(t *testing.T) {
	for _, body := range []any{map[string]string{"x": "y"}, []int{1}, "text"} {
		s := service(t, map[string]any{"/redfish/v1/": body})
		_, err := redfish.Dialect{}.Probe(context.Background(),
			dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}})
		assert.ErrorIs(t, err, device.ErrNotMine)
	}
	_, err := redfish.Dialect{}.Probe(context.Background(),
		dialect.At{Endpoint: device.Endpoint{Address: "127.0.0.1:1"}})
	assert.ErrorIs(t, err, device.ErrAway)
}

// The service allows four sessions: each is ended.
func TestSessionsAreEnded(t *testing.T) {
	_, p := recorder(t, sim.Faults{})
	for range 10 {
		session := redfish.Dialect{}.Open(p, keeper)
		_, err := session.Read(t.Context())
		require.NoError(t, err)
		require.NoError(t, session.Close(t.Context()))
	}
}

// The other slot is switched to, and the manager restarted; its version is told before.
func TestRevert(t *testing.T) {
	s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "BR5-1",
			Version: "2.11", Idle: "2.10.3", Host: 70}}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	session := redfish.Dialect{}.Open(dialect.At{Endpoint: device.Endpoint{
		Address: s.StandIns()[0].Address, Scheme: "https"}}, keeper)
	r, err := session.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"main": "2.10.3"}, r.Idle)
	u, err := session.Update("main")
	require.NoError(t, err)
	require.NoError(t, u.Revert(t.Context()))
	require.Eventually(t, func() bool {
		r, err = session.Read(t.Context())
		return err == nil && r.Version == "2.10.3"
	}, time.Minute, 20*time.Millisecond)
}

// The attributes of the system's Bios are its settings: only those that differ are sent, and they
// are taken by a restart of the system.
func TestSettings(t *testing.T) {
	s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "BR5-1",
			Version: "2.11",
			Host:    70, Settings: map[string]string{"AssetTag": "hut"}}}}, "",
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	session := redfish.Dialect{}.Open(dialect.At{Endpoint: device.Endpoint{
		Address: s.StandIns()[0].Address, Scheme: "https"}}, keeper)
	of, err := session.Settings()
	require.NoError(t, err)
	saved, err := of.Save(t.Context())
	require.NoError(t, err)
	assert.JSONEq(t, `{"AssetTag": "hut", "BootMode": "Uefi", "WatchdogMinutes": "5"}`, string(saved))
	require.NoError(t, of.Restore(t.Context(), saved))
	assert.NotContains(t, s.StandIns()[0].Log, "attributes taken", "nothing differs: nothing is sent")
	other := bytes.Replace(saved, []byte(`"5"`), []byte(`"7"`), 1)
	require.NoError(t, of.Restore(t.Context(), other))
	require.Eventually(t, func() bool {
		now, err := of.Save(t.Context())
		return err == nil && string(now) == string(other)
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, s.StandIns()[0].Log, "attributes taken")
}

// A service without forms takes the image as it is, one without either fetches it; what a task says
// when it fails is said. What is not a path of the device's own is not asked for.
func TestOtherWaysToSend(t *testing.T) {
	raw := bytes.Repeat([]byte("lock "), 50_000)
	image := dialect.Image{ReaderAt: bytes.NewReader(raw), Size: int64(len(raw)),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(raw))}
	for name, c := range map[string]struct{ service, task, want string }{
		"push": {`{"HttpPushUri":"/push"}`, `{"TaskState":"Completed"}`, ""},
		"pull": {`{"Actions":{"#UpdateService.SimpleUpdate":{"target":"/pull"}}}`,
			`{"TaskState":"Completed"}`, ""},
		// It does not fetch the image, and its task says why: no firewall of this machine.
		"a pull that fails": {`{"Actions":{"#UpdateService.SimpleUpdate":{"target":"/refuse"}}}`,
			`{"TaskState":"Exception","Messages":[{"Message":"The transfer protocol is disabled."}]}`,
			"The transfer protocol is disabled."},
		"the task fails": {`{"HttpPushUri":"/push"}`,
			`{"TaskState":"Exception","Messages":[{"Message":"The signature of the image is not valid."}]}`,
			"The signature of the image is not valid."},
		"the task fails by number": {`{"HttpPushUri":"/push"}`,
			`{"TaskState":"Exception","Messages":[{"MessageId":"Update.1.1.VerificationFailed","MessageArgs":["lock.bin","BMC"]}]}`,
			"refused: Verification of image lock.bin at BMC failed."},
		"by a number that no one knows": {`{"HttpPushUri":"/push"}`,
			`{"TaskState":"Exception","Messages":[{"MessageId":"Other.1.1.Bad"}]}`,
			"refused: Other.1.1.Bad"},
		"too large":       {`{"HttpPushUri":"/push","MaxImageSizeBytes":1000}`, "", "at most 1000 bytes"},
		"nothing":         {`{}`, "", "accepts no images"},
		"switched off":    {`{"HttpPushUri":"/push","ServiceEnabled":false}`, "", "is switched off"},
		"leads elsewhere": {`{"HttpPushUri":"//elsewhere.example/x"}`, "", "a link that leads elsewhere"},
	} {
		t.Run(name, func(t *testing.T) {
			var got bytes.Buffer
			mux := http.NewServeMux()
			answer := func(pattern, body string) {
				mux.HandleFunc(pattern, func(w http.ResponseWriter, _ *http.Request) {
					_, _ = io.WriteString(w,
						body)
				})
			}
			answer(
				"GET /redfish/v1/{$}",
				`{"RedfishVersion":"1.15.0","Vendor":"Brackwell","Product":"BR-5","Managers":{"@odata.id":"/m"},"UpdateService":{"@odata.id":"/u"},"Registries":{"@odata.id":"/r"}}`,
			)
			answer("GET /r", `{"Members":[{"@odata.id":"/r/Other.1.1"},{"@odata.id":"/r/Update.1.1"}]}`)
			answer("GET /r/Update.1.1",
				`{"Location":[{"Language":"de","Uri":"/none"},{"Language":"en-GB","Uri":"/words"}]}`)
			answer("GET /words",
				`{"Messages":{"VerificationFailed":{"Message":"Verification of image %1 at %2 failed."}}}`)
			answer("GET /m", `{"Members":[{"@odata.id":"/m/1"}]}`)
			answer("GET /m/1", `{"FirmwareVersion":"1.0"}`)
			answer("GET /u", c.service)
			answer("GET /task", c.task)
			followTask := func(w http.ResponseWriter) {
				w.Header().Set("Location", "https://10.20.4.70/task")
				w.WriteHeader(http.StatusAccepted)
			}
			mux.HandleFunc("POST /push", func(w http.ResponseWriter, r *http.Request) {
				_, _ = got.ReadFrom(r.Body)
				followTask(w)
			})
			mux.HandleFunc("POST /refuse", func(w http.ResponseWriter, _ *http.Request) { followTask(w) })
			fetched := make(chan struct{})
			mux.HandleFunc("POST /pull", func(w http.ResponseWriter, r *http.Request) {
				var in struct{ ImageURI, TransferProtocol string }
				assert.NoError(t, json.NewDecoder(r.Body).Decode(&in))
				go func() {
					defer close(fetched)
					if a, err := http.Get(in.ImageURI); err == nil {
						_, _ = got.ReadFrom(a.Body)
						_ = a.Body.Close()
					}
				}()
				followTask(w)
			})
			s := httptest.NewServer(mux)
			defer s.Close()
			session := redfish.Dialect{}.Open(dialect.At{Endpoint: device.Endpoint{
				Address: s.Listener.Addr().String()}}, login.Credential{})
			_, err := session.Read(t.Context())
			require.NoError(t, err)
			u, err := session.Update("main")
			require.NoError(t, err)
			assert.True(t, u.Traits().RestartsByItself)
			err = u.Ready(t.Context(), dialect.Image{})
			if err == nil {
				err = u.Transfer(t.Context(), image, nil)
			}
			percent := 0
			if err == nil {
				percent, err = u.Progress(t.Context())
			}
			if c.want != "" {
				assert.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, 100, percent)
			if name == "pull" {
				<-fetched
			}
			assert.True(t, bytes.Equal(raw, got.Bytes()))
		})
	}
}
