package scripted_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
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
			_, err := open(unit).Read(t.Context())
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
