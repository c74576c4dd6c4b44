package scripted_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
)

// A password, or what a family makes of it, does not leave in the clear, wherever in a request it
// stands; over TLS it does, and a recording has a placeholder in its place.
func TestNoSecretLeavesInTheClear(t *testing.T) {
	for name, step := range map[string]string{
		"path":      "  - get: /in/$login.password\n",
		"query":     "  - get: /in\n    query: {p: $login.password}\n",
		"in a path": "  - get: /in?p=$login.password\n",
		"header":    "  - get: /in\n    header: {X-Pass: $login.password}\n",
		"json":      "  - post: /in\n    json: {a: [{p: $login.password}]}\n",
		"form":      "  - post: /in\n    form: {p: $login.password}\n",
		"xml":       "  - post: /in\n    xml: '<p>$login.password</p>'\n",
		"text":      "  - post: /in\n    text: p=$login.password\n",
		"ini":       "  - post: /in\n    ini: p=$login.password\n",
		"raw":       "  - post: /in\n    raw: $login.password\n",
		"multipart": "  - post: /in\n    multipart: {p: $login.password}\n",
		"a secret":  "  - get: /in\n    query: {p: $login.code}\n",
		"derived":   "  - get: /in\n    query: {p: '$(login.password[2:])'}\n",
		"upper":     "  - post: /in\n    raw: '$(upper(login.password))'\n",
	} {
		t.Run(name, func(t *testing.T) {
			var mu sync.Mutex
			asked := 0
			o := newOdd("1.0")
			handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if strings.HasPrefix(r.URL.Path, "/in") {
					mu.Lock()
					asked++
					mu.Unlock()
					body, _ := io.ReadAll(r.Body)
					_, _ = w.Write([]byte("you sent " + r.URL.Path + r.URL.Query().Get("p") + r.Header.Get(
						"X-Pass") +
						string(body)))
					return
				}
				o.ServeHTTP(w, r)
			})
			plain := httptest.NewServer(handler)
			defer plain.Close()
			secure := httptest.NewTLSServer(handler)
			defer secure.Close()
			f, err := family.Parse("odd.yaml", []byte(strings.Replace(oddHead, "plain_basic: true\n",
				"secrets: {code: reading}\n", 1)+"login:\n"+step+oddRead))
			require.NoError(t, err)
			as := login.Credential{User: "keeper", Password: "quoin-and-sluice",
				More: login.More{Secrets: map[string]string{"code": "quoin-and-sluice"}}}
			at := dialect.At{Endpoint: device.Endpoint{Address: plain.Listener.Addr().String()}}
			_, err = scripted.New(f, 1).Open(at, as).Read(t.Context())
			assert.ErrorIs(t, err, device.ErrPlain)
			assert.Zero(t, asked, "nothing was sent")

			at.Address, at.Scheme = secure.Listener.Addr().String(), "https"
			var shown []string
			recorder := scripted.New(f, 1).Recorder(at, as, func(s scripted.Seen) {
				shown = append(append(shown, s.Sent...), s.Got...)
			})
			_, _, err = recorder.First(t.Context())
			require.NoError(t, err)
			assert.Equal(t, 1, asked)
			recorded := ""
			for _, e := range recorder.Recording().Exchanges {
				recorded += e.Sent + e.Body + "\n"
			}
			for _, text := range []string{recorded, strings.Join(shown, "\n")} {
				assert.NotContains(t, strings.ToLower(text), "oin-and-sluice", text)
				assert.Contains(t, text, "you sent")
			}
			assert.Empty(t, scripted.New(f, 1).Replay(t.Context(), recorder.Recording()))
		})
	}
}
