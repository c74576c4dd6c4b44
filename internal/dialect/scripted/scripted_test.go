package scripted_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/simtest"
	"catena/internal/login"
	"catena/internal/sim"
)

func TestMain(m *testing.M) {
	// Tests wait for devices most of the time: more of them than cores may run at once. It is set
	// before the flags are read, so that -parallel says otherwise.
	_ = flag.Set("test.parallel", "8")
	os.Exit(m.Run())
}

func TestConformance(t *testing.T) {
	t.Run("gates", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("tollgarth-gates"), "Tollgarth",
			sim.Device{Kind: "gate", Model: "TG-200", Hardware: "2"}, "camera")
		s.Can.Shows, s.Can.Permission = true, true
		s.Can.Password, s.Can.Clock = true, true
		dialecttest.Run(t, s)
	})
	t.Run("drives", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("harrow-dene-drives"), "Harrow & Dene",
			sim.Device{Kind: "drive", Model: "HD-7"}, "")
		s.Want.Called = "first"
		s.Can = dialecttest.Abilities{Settings: true, Foreign: []byte("no such setting = 1\n"),
			Carry: []string{"hours"}}
		dialecttest.Run(t, s)
	})
	t.Run("hubs", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("pennick-hubs"), "Pennick",
			sim.Device{Kind: "hub", Model: "PK-1", Hardware: "3", Children: handsets}, "camera")
		s.Login.PlainBasic = true
		s.Can = dialecttest.Abilities{Children: []string{"PH2-1", "PH2-2"},
			Child: simtest.Child("pennick-hubs", s.Login), Clock: true}
		dialecttest.Run(t, s)
	})
	t.Run("controllers", func(t *testing.T) {
		t.Parallel()
		units := []sim.ChildDevice{{Name: "unit-1", Model: "TU-1", Serial: "TU-101", Version: "3.0"},
			{Name: "unit-2", Model: "TU-1", Serial: "TU-102", Version: "3.1"}}
		s := simtest.Subject(t, simtest.Family("tollgarth-controllers"), "Tollgarth",
			sim.Device{Kind: "controller", Model: "TC-12", Hardware: "1", Children: units}, "camera")
		s.Can = dialecttest.Abilities{Children: []string{"TU-101", "TU-102"},
			Child: simtest.Child("tollgarth-controllers", s.Login), Clock: true}
		dialecttest.Run(t, s)
	})
	t.Run("gateways", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("harrow-dene-gateways"), "Harrow & Dene",
			sim.Device{Kind: "gateway", Model: "HD-G4"}, "")
		s.Want.Called = "first"
		s.Can.Interlocked = func(t *testing.T) (dialect.At, string) {
			return simtest.Start(t, sim.Device{Name: "first", Kind: "gateway", Model: "HD-G4", Host: 1,
				Serial: "S-1", Version: "1.0", Parts: map[string]string{"modem": "1.0"}, Link: "modem"}), "modem"
		}
		dialecttest.Run(t, s)
	})
	t.Run("panels", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("tollgarth-panels"), "Tollgarth",
			sim.Device{Kind: "panel", Model: "TP-3"}, "camera")
		s.Want.Called, s.Login.PlainBasic, s.Can.Clock = "first", true, true
		s.Datagrams = true // it is sent in pieces
		dialecttest.Run(t, s)
	})
	t.Run("routers", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("osmere-routers"), "Osmere",
			sim.Device{Kind: "router", Model: "OR-4"}, "")
		s.Want.Called, s.Datagrams = "first", true // it fetches its image
		dialecttest.Run(t, s)
	})
	t.Run("switches", func(t *testing.T) {
		t.Parallel()
		d := sim.Device{Kind: "switch", Model: "OS-8", Hardware: "1"}
		s := simtest.Subject(t, simtest.Family("osmere-switches"), "Osmere", d, "")
		s.Can.Slots, s.Can.Permission = simtest.Slots(d), true
		s.Login, s.Datagrams = login.Credential{Password: simtest.Password}, true
		dialecttest.Run(t, s)
	})
	t.Run("ventilation", func(t *testing.T) {
		t.Parallel()
		s := simtest.Subject(t, simtest.Family("harrow-dene-ventilation"), "Harrow & Dene",
			sim.Device{Kind: "ventilation", Model: "VC-3"}, "")
		s.Want.Called, s.Datagrams, s.Login.PlainBasic = "first", true, true
		s.Can = dialecttest.Abilities{Settings: true, Clock: true, Permission: true}
		dialecttest.Run(t, s)
	})
}

var handsets = []sim.ChildDevice{{Name: "handset-1", Model: "PH-2", Serial: "PH2-1",
	Version: "1.8"},
	{Name: "handset-2", Model: "PH-2", Serial: "PH2-2", Version: "1.9"}}

// What a device answered while it was read and updated replays without it, whatever is another
// value each time: tokens, tasks, ports, names. No secret is in it.
func TestAnUpdateIsRecordedAndReplayed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		maker  string
		device sim.Device
	}{
		"tollgarth-gates":    {"Tollgarth", sim.Device{Kind: "gate", Model: "TG-200", Hardware: "2"}},
		"harrow-dene-drives": {"Harrow & Dene", sim.Device{Kind: "drive", Model: "HD-7"}},
		"pennick-hubs": {"Pennick", sim.Device{Kind: "hub", Model: "PK-1", Hardware: "3",
			Children: handsets}},
		"tollgarth-controllers": {"Tollgarth", sim.Device{Kind: "controller", Model: "TC-12",
			Hardware: "1"}},
		"harrow-dene-gateways": {"Harrow & Dene", sim.Device{Kind: "gateway", Model: "HD-G4"}},
		"tollgarth-panels":     {"Tollgarth", sim.Device{Kind: "panel", Model: "TP-3"}},
		"osmere-routers":       {"Osmere", sim.Device{Kind: "router", Model: "OR-4"}},
		"osmere-switches":      {"Osmere", sim.Device{Kind: "switch", Model: "OS-8", Hardware: "1"}},
		"harrow-dene-ventilation": {"Harrow & Dene", sim.Device{Kind: "ventilation",
			Model: "VC-3"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := simtest.Subject(t, simtest.Family(name), c.maker, c.device, "")
			s.Login.PlainBasic = true
			if name == "osmere-switches" {
				s.Login = login.Credential{Password: simtest.Password, PlainBasic: true}
			}
			d := simtest.Family(name).(scripted.Dialect)
			r := d.Recorder(s.Start(t, dialecttest.Faults{}), s.Login, nil)
			_, children, err := r.First(t.Context())
			require.NoError(t, err)
			require.Len(t, children, len(c.device.Children))
			began := time.Now()
			now, err := r.Bring(t.Context(), r, "main", dialect.Image{ReaderAt: bytes.NewReader(s.Good),
				Size: int64(len(s.Good)), SHA256: fmt.Sprintf("%x", sha256.Sum256(s.Good))}, func() bool {
				time.Sleep(100 * time.Millisecond)
				return time.Since(began) < time.Minute
			})
			require.NoError(t, err)
			assert.Equal(t, "2.0", now.Version)
			require.NoError(t, r.Close(t.Context()))
			raw, err := json.Marshal(r.Recording())
			require.NoError(t, err)
			assert.NotContains(t, string(raw), simtest.Password)
			assert.NotContains(t, string(raw), sim.ServiceCode)
			assert.NotContains(t, string(raw), sim.SecondPassword)
			var again scripted.Recording
			require.NoError(t, json.Unmarshal(raw, &again))
			assert.Empty(t, d.Replay(t.Context(), again))
			if len(children) > 0 {
				again.Children[0].Version = "0"
				assert.NotEmpty(t, d.Replay(t.Context(), again))
			}
			plays(t, d, again)
			again.Exchanges[len(again.Exchanges)-1].Sent += "x"
			assert.NotEmpty(t, d.Replay(t.Context(), again))
		})
	}
}

// plays has a recording play its device: it is read as often as one likes, takes the image, and
// runs it after its restart.
func plays(t *testing.T, d scripted.Dialect, r scripted.Recording) {
	now := scripted.Act{}
	s := d.Act(r, func() scripted.Act { return now })
	reads := func(version string) {
		for range 3 {
			got, err := s.Read(t.Context())
			require.NoError(t, err)
			assert.Equal(t, version, got.Version)
			require.NoError(t, s.Healthy(t.Context(), got))
		}
	}
	for images := range 2 { // and once more, as one that is put back
		reads("1.0")
		u, err := s.Update("main")
		require.NoError(t, err)
		require.NoError(t, u.Ready(t.Context(), dialect.Image{}))
		now = scripted.Act{Images: images + 1}
		size := int64(r.Update.Image.Size)
		require.NoError(t, u.Transfer(t.Context(),
			dialect.Image{ReaderAt: bytes.NewReader(make([]byte, size)),
				Size: size, SHA256: r.Update.Image.SHA256}, nil))
		for percent := 0; percent < 100; {
			percent, err = u.Progress(t.Context())
			if errors.Is(err, device.ErrUnsupported) {
				break
			}
			require.NoError(t, err)
		}
		require.NoError(t, u.Activate(t.Context()))
		now.Fresh = true
		reads("2.0")
		now = scripted.Act{}
	}
	require.NoError(t, s.Close(t.Context()))
}

// A device may answer anything at all; each ends in an error that names its kind.
func TestHostileAnswers(t *testing.T) {
	about := `{"maker":"Tollgarth","model":"TG-200","serial":"1"}`
	for name, c := range map[string]struct {
		state http.HandlerFunc
		want  error
	}{
		"endless": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte(strings.Repeat("x", 1<<20)))
		}, device.ErrMalformed},
		"no JSON": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write([]byte("<html>"))
		}, device.ErrMalformed},
		"empty": {func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("{}")) },
			device.ErrMalformed},
		"redirect": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		}, device.ErrRefused},
		"headers": {func(w http.ResponseWriter,
			_ *http.Request) {
			w.Header().Set("X", strings.Repeat("x", 1<<20))
		}, device.ErrMalformed},
		"gone": {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
			device.ErrAway},
	} {
		t.Run(name, func(t *testing.T) {
			mux := http.NewServeMux()
			mux.HandleFunc("GET /tg/v1/about", func(w http.ResponseWriter, _ *http.Request) {
				_, _ = w.Write([]byte(about))
			})
			mux.HandleFunc("POST /tg/v1/sessions", func(w http.ResponseWriter, _ *http.Request) {
				_, _ = w.Write([]byte(`{"token":"t"}`))
			})
			mux.HandleFunc("GET /tg/v1/state", c.state)
			s := httptest.NewServer(mux)
			defer s.Close()
			_, err := simtest.Family("tollgarth-gates").Open(
				dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}},
				login.Credential{}).Read(t.Context())
			assert.ErrorIs(t, err, c.want)
		})
	}
}

func TestTextsAreCleaned(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = w.Write([]byte(
			`{"maker":"Tollgarth","model":"TG-200","hardware":"2\u001b[2J","name":"a\nb"}`))
	}))
	defer s.Close()
	f, err := simtest.Family("tollgarth-gates").Probe(t.Context(),
		dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}})
	assert.NoError(t, err)
	assert.Equal(t, "2[2J", f.Hardware)
	assert.Equal(t, "a b", f.Called)
}

// A password leaves as JSON only where that is allowed.
func TestPasswordInTheClear(t *testing.T) {
	s, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: "quoin"},
		Devices: []sim.Device{{Name: "gate-1", Kind: "gate", Model: "TG-200", Serial: "S",
			Version: "K42", Host: 101, Auth: "json"}}},
		"", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	at := dialect.At{Endpoint: device.Endpoint{Address: s.StandIns()[0].Address}}
	as := login.Credential{User: "keeper", Password: "quoin"}
	_, err = simtest.Family("tollgarth-gates").Open(at, as).Read(t.Context())
	assert.ErrorIs(t, err, device.ErrPlain)
	assert.NotContains(t, s.StandIns()[0].Log, "password in the clear")
	as.PlainBasic = true
	_, err = simtest.Family("tollgarth-gates").Open(at, as).Read(t.Context())
	assert.NoError(t, err)
}

// At the address of a device of the family there is one of another model now: it is another
// device, not one that is still starting.
func TestAnotherModelIsAnotherDevice(t *testing.T) {
	at := simtest.Start(t, sim.Device{Name: "gate-1", Kind: "gate", Model: "TG-300", Host: 1,
		Serial: "S-2", Version: "K42"})
	gates := simtest.Family("tollgarth-gates")
	_, err := gates.Probe(t.Context(), at)
	assert.ErrorIs(t, err, device.ErrNotMine)
	err = dialect.VerifyIdentity(t.Context(), gates, at,
		device.Identity{Vendor: "Tollgarth", Model: "TG-200", Serial: "S-1"})
	assert.ErrorIs(t, err, device.ErrIdentityChanged)
}
