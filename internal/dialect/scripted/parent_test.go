package scripted_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	"catena/internal/dialect/scripted"
	"catena/internal/dialect/simtest"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/sim"
	"catena/internal/sim/standin"
)

// behind opens sessions with children of a server, which share one at their parent.
func (o *odd) behind(t *testing.T, lines string) func(unit string) dialect.Session {
	f, err := family.Parse("odd.yaml", []byte(oddHead+oddRead+lines))
	require.NoError(t, err)
	s := httptest.NewServer(o)
	t.Cleanup(s.Close)
	shared := &dialect.SharedSession{}
	as := login.Credential{User: "keeper", Password: "quoin", PlainBasic: true}
	return func(unit string) dialect.Session {
		return scripted.New(f, 1).Children(-1).Open(dialect.At{Endpoint: device.Endpoint{Unit: unit},
			Parent: &dialect.Parent{Shared: shared, Contact: dialect.Contact{As: as,
				At: dialect.At{Endpoint: device.Endpoint{Address: s.Listener.Addr().String()}}}}}, as)
	}
}

func (o *odd) count(request string) (n int) {
	for _, r := range o.requests() {
		if r == request {
			n++
		}
	}
	return n
}

// A parent that has no seat for a login, or rejects it, is asked once, not once for each child.
func TestAParentThatLetsNobodyIn(t *testing.T) {
	for answer, problem := range map[string]device.Problem{"refused No seat is free.": device.Refusal,
		"credential": device.BadLogin} {
		o := newOdd("1.0")
		o.HandleFunc("POST /in", func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "full", http.StatusConflict)
		})
		open := o.behind(t, "login:\n  - post: /in\n    outcome: {409: "+answer+"}\n"+units)
		for _, unit := range []string{"U-1", "U-2", "U-3"} {
			s := open(unit)
			_, err := s.Read(t.Context())
			_ = s.Close(t.Context()) // a later session is one of the same parent
			var cause *device.Cause
			require.ErrorAs(t, err, &cause)
			assert.Equal(t, problem, cause.Problem)
			assert.Contains(t, strings.ToLower(answer), strings.ToLower(cause.Detail))
		}
		assert.Equal(t, 1, o.count("POST /in"))
	}
}

const units = `children:
  family: odd-units
  models: [U]
  list:
    - get: /units
      each: $.units[*]
      take: {model: $.m, serial: $.s, version: $.v}
`

// A parent that gives the stored image an ID: it is stored once, and every child is told the ID.
func TestAParentThatNumbersItsImages(t *testing.T) {
	o := newOdd("1.0")
	o.answer("GET /units", `{"units": [{"m": "U", "s": "U-1", "v": "1"}, {"m": "U", "s": "U-2", "v": "1"}]}`)
	stores := 0
	o.HandleFunc("POST /images", func(w http.ResponseWriter, _ *http.Request) {
		stores++
		_, _ = fmt.Fprintf(w, `{"id": "image-%d"}`, stores)
	})
	o.HandleFunc("POST /units/{unit}/{image}", func(w http.ResponseWriter, r *http.Request) {
		if r.PathValue("image") != fmt.Sprintf("image-%d", stores) {
			http.Error(w, "no such image", http.StatusNotFound)
		}
	})
	open := o.behind(t, units+`  store:
    steps:
      - upload: POST /images
        take: {id: $.id}
  update:
    - post: /units/$serial/$id
      writes: true
`)
	for _, unit := range []string{"U-1", "U-2"} {
		s := open(unit)
		_, err := s.Read(t.Context())
		require.NoError(t, err)
		_, _, err = send(t, s, 5000)
		require.NoError(t, err, unit)
	}
	assert.Equal(t, 1, stores)
	assert.Equal(t, 1, o.count("POST /units/U-2/image-1"))
}

// A poll is over once the answer says that it is done, and where the device may go away, when it has.
func TestAPollThatIsOver(t *testing.T) {
	o := newOdd("1.0")
	o.HandleFunc("PUT /firmware", func(_ http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
	})
	o.HandleFunc("GET /done", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "nothing to do", http.StatusGone)
	})
	o.HandleFunc("GET /gone", func(w http.ResponseWriter, _ *http.Request) {
		panic(http.ErrAbortHandler)
	})
	s := o.session(t, oddRead+`update:
  - upload: PUT /firmware
  - poll: /done
    until: false
    outcome: {410: done}
  - poll: /gone
    until: false
    gone: true
`)
	u, _, err := send(t, s, 5000)
	require.NoError(t, err)
	percent, err := u.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 100, percent)
}

// A component may have interlocks and restarts of its own; what it runs may be an object of objects.
func TestAComponentOfItsOwn(t *testing.T) {
	o := newOdd("1.0")
	o.answer("GET /parts", `{"parts": {"lens": {"v": "1"}, "modem": {"v": "3"}}, "heater": "off"}`)
	s := o.session(t, strings.TrimSuffix(oddRead, "\n")+`
  - get: /parts
    take: {components: map $.parts of $.v, heater: $.heater}
update:
  - upload: PUT /firmware
restarts: 2
components:
  lens:
    update:
      - upload: PUT /lens
    restarts: 3
    interlocks:
      - {holds: heater == "on", else: Its heater is off.}
`)
	r, err := s.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"lens": "1", "modem": "3"}, r.Components)
	main, err := s.Update("main")
	require.NoError(t, err)
	assert.Equal(t, 2, main.Traits().Restarts)
	require.NoError(t, main.Interlock(t.Context()))
	lens, err := s.Update("lens")
	require.NoError(t, err)
	assert.Equal(t, 3, lens.Traits().Restarts)
	require.ErrorContains(t, lens.Interlock(t.Context()), "Its heater is off.")
}

// What is done with a child goes to its parent, and is recorded without its secrets: it replays, and
// so do settings that were written back.
func TestAChildIsRecorded(t *testing.T) {
	units := []sim.ChildDevice{{Name: "unit-1", Model: "TU-1", Serial: "TU-101", Version: "1.0"}}
	family := simtest.Family("tollgarth-controllers")
	s := simtest.Subject(t, family, "Tollgarth",
		sim.Device{Kind: "controller", Model: "TC-12", Hardware: "1", Children: units}, "")
	at := s.Start(t, dialecttest.Faults{})
	parent := family.Open(at, s.Login)
	kids, err := parent.Children(t.Context())
	require.NoError(t, err)
	require.NoError(t, parent.Close(t.Context()))
	_, child := simtest.Child("tollgarth-controllers", s.Login)(at, kids[0])
	d := family.(scripted.Dialect).Children(0)
	r := d.Recorder(child, s.Login, nil)
	_, _, err = r.First(t.Context())
	require.NoError(t, err)
	var image bytes.Buffer
	require.NoError(t, standin.Image(&image, "Tollgarth", []string{"TU-1"}, "", "2.0", 40_000))
	began := time.Now()
	now, err := r.Bring(t.Context(), r, "main", dialect.Image{ReaderAt: bytes.NewReader(image.Bytes()),
		Size: int64(image.Len()), SHA256: fmt.Sprintf("%x", sha256.Sum256(image.Bytes()))}, func() bool {
		time.Sleep(100 * time.Millisecond)
		return time.Since(began) < time.Minute
	})
	require.NoError(t, err)
	assert.Equal(t, "2.0", now.Version)
	require.NoError(t, r.Close(t.Context()))
	raw, err := json.Marshal(r.Recording())
	require.NoError(t, err)
	assert.NotContains(t, string(raw), simtest.Password)
	assert.NotRegexp(t, `Bearer \w`, string(raw), "the parent's token is a secret, too")
	var again scripted.Recording
	require.NoError(t, json.Unmarshal(raw, &again))
	assert.Equal(t, "TU-101", again.Unit)
	assert.Empty(t, d.Replay(t.Context(), again))
	again.Exchanges[3].Sent += "x"
	assert.NotEmpty(t, d.Replay(t.Context(), again))

	drives := simtest.Family("harrow-dene-drives").(scripted.Dialect)
	drive := simtest.Subject(t, drives, "Harrow & Dene", sim.Device{Kind: "drive", Model: "HD-7"}, "")
	r = drives.Recorder(drive.Start(t, dialecttest.Faults{}), drive.Login, nil)
	_, _, err = r.First(t.Context())
	require.NoError(t, err)
	own, carried := r.WriteBack(t.Context(), func(bool) bool { return false })
	require.NoError(t, errors.Join(own, carried))
	require.NoError(t, r.Close(t.Context()))
	assert.Empty(t, drives.Replay(t.Context(), r.Recording()))
}
