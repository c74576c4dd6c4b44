package panel_test

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

// browser is a client that keeps its cookies (RFC 6265) and follows where it is led.
type browser struct {
	at string
	http.Client
}

func open(t *testing.T) *browser {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &browser{"http://" + standintest.Start(t, sim.Device{Kind: "panel", Model: "TP-3",
		Version: "1.0"}), http.Client{Jar: jar, Transport: &http.Transport{DisableKeepAlives: true}}}
}

func (b *browser) call(t *testing.T, method, path, body string, fields ...string) (*http.Response,
	string) {
	r, err := http.NewRequestWithContext(t.Context(), method, b.at+path, strings.NewReader(body))
	require.NoError(t, err)
	for i := 0; i+1 < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
	}
	got, err := b.Do(r)
	require.NoError(t, err)
	defer func() { _ = got.Body.Close() }()
	raw, err := io.ReadAll(got.Body)
	require.NoError(t, err)
	return got, string(raw)
}

var hidden = regexp.MustCompile(`name="csrf" (?:value|content)="([^"]+)"`)

// login sends the form, and returns what came back.
func (b *browser) login(t *testing.T, token, password string) string {
	_, text := b.call(t, "POST", "/login", "csrf="+token+"&user=keeper&password="+password,
		"Content-Type", "application/x-www-form-urlencoded")
	return text
}

// The form's token counts once, a wrong password gets another form, and no page is shown without a
// session.
func TestTheForm(t *testing.T) {
	b := open(t)
	_, first := b.call(t, "GET", "/", "")
	assert.Contains(t, first, `<meta name="serial" content="S-1">`)
	_, page := b.call(t, "GET", "/login", "")
	token := hidden.FindStringSubmatch(page)[1]
	assert.Contains(t, b.login(t, "made-up", standintest.Password), "too old")
	assert.Contains(t, b.login(t, token, "mitre"), "wrong")
	assert.Contains(t, b.login(t, token, standintest.Password), "too old", "it was used")
	_, page = b.call(t, "GET", "/system", "") // the redirect is followed
	assert.Contains(t, page, "<title>Log in</title>")
	b.login(t, hidden.FindStringSubmatch(page)[1], standintest.Password)
	_, page = b.call(t, "GET", "/system", "")
	assert.Contains(t, page, `id="version">1.0`)
}

// An image comes in pieces, in their order, with the token of the session; what is not whole is
// refused; and it runs only after the second restart.
func TestAnImageInPieces(t *testing.T) {
	b := open(t)
	token := ""
	enter := func() string {
		_, page := b.call(t, "GET", "/login", "")
		b.login(t, hidden.FindStringSubmatch(page)[1], standintest.Password)
		_, page = b.call(t, "GET", "/system", "")
		token = hidden.FindStringSubmatch(page)[1]
		return page
	}
	enter()
	image := string(standintest.Image(t, "Tollgarth", "TP-3"))
	start := func(digest string) string {
		got, body := b.call(t, "POST", "/firmware", fmt.Sprintf(`{"size": %d, "sha256": %q}`, len(image),
			digest), "X-CSRF", token)
		require.Equal(t, http.StatusCreated, got.StatusCode, body)
		return standintest.JSON(t, body)["id"].(string)
	}
	piece := func(id string, from, to int, csrf string) int {
		got, _ := b.call(t, "PUT", "/firmware/"+id, image[from:to], "X-CSRF", csrf, "Content-Range",
			fmt.Sprintf("bytes %d-%d/%d", from, to-1, len(image)))
		return got.StatusCode
	}
	send := func(id string) int {
		for from := 0; from < len(image); from += 64 << 10 {
			require.Equal(t, http.StatusNoContent, piece(id, from, min(from+64<<10, len(image)), token))
		}
		got, _ := b.call(t, "POST", "/firmware/"+id+"/commit", "", "X-CSRF", token)
		return got.StatusCode
	}
	id := start(strings.Repeat("0", 64))
	assert.Equal(t, http.StatusForbidden, piece(id, 0, 100, "made-up"))
	assert.Equal(t, http.StatusConflict, piece(id, 100, 200, token), "not in its order")
	assert.Equal(t, http.StatusRequestEntityTooLarge, piece(id, 0, 64<<10+1, token))
	assert.Equal(t, http.StatusNotFound, piece("other", 0, 100, token))
	assert.Equal(t, http.StatusUnprocessableEntity, send(id), "its digest is another one")
	assert.Equal(t, http.StatusAccepted, send(start(fmt.Sprintf("%x", sha256.Sum256([]byte(image))))))
	_, body := b.call(t, "GET", "/firmware", "")
	assert.Equal(t, "2.0", standintest.JSON(t, body)["next"])
	time.Sleep(300 * time.Millisecond) // it writes for 200 ms
	got, _ := b.call(t, "POST", "/restart", "", "X-CSRF", token)
	require.Equal(t, http.StatusAccepted, got.StatusCode)
	// Between its two restarts it runs the version before, for a moment only.
	version := func() string {
		r, err := b.Get(b.at + "/login")
		if err != nil {
			return ""
		}
		raw, err := io.ReadAll(r.Body)
		_ = r.Body.Close()
		token := hidden.FindSubmatch(raw)
		if err != nil || token == nil {
			return ""
		}
		r, err = b.PostForm(b.at+"/login", url.Values{"csrf": {string(token[1])},
			"user": {standintest.User}, "password": {standintest.Password}})
		if err != nil {
			return ""
		}
		raw, _ = io.ReadAll(r.Body) // what is cut off tells no version
		_ = r.Body.Close()
		_, after, _ := strings.Cut(string(raw), `id="version">`)
		return after[:min(3, len(after))]
	}
	require.Eventually(t, func() bool { return version() == "2.0" }, time.Minute, 20*time.Millisecond)
}
