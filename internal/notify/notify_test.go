package notify_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/notify"
)

var event = notify.Event{Kind: notify.Stranded, Site: "Marrow Hill Locks", Job: "j1",
	Device: "gate-1", Text: "gate-1 is\x1b[2J stranded."}

// What a server refuses for good is not tried again, what may pass is; no one else is told where
// one is sent on; the whole address stands in no error.
func TestWebhooks(t *testing.T) {
	for name, c := range map[string]struct {
		answers []int
		asked   int32
		want    string
	}{
		"taken":        {[]int{204}, 1, ""},
		"for a while":  {[]int{503, 429, 200}, 3, ""},
		"for long":     {[]int{500, 500, 500}, 3, "500"},
		"refused":      {[]int{403}, 1, "403"},
		"sent on":      {[]int{302}, 1, "302"},
		"cannot be so": {[]int{0, 0, 0}, 3, "EOF"},
	} {
		t.Run(name, func(t *testing.T) {
			var asked, elsewhere atomic.Int32
			other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
				*http.Request) {
				elsewhere.Add(1)
			}))
			defer other.Close()
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				n := asked.Add(1)
				var e notify.Event
				assert.NoError(t, json.NewDecoder(r.Body).Decode(&e))
				assert.Equal(t, notify.Stranded, e.Kind)
				assert.Equal(t, notify.Format, e.Format)
				assert.Empty(t, r.Header.Get("Signature"), "nothing to sign with")
				code := c.answers[n-1]
				if code == 0 {
					panic(http.ErrAbortHandler)
				}
				w.Header().Set("Location", other.URL)
				w.WriteHeader(code)
			}))
			defer s.Close()
			err := notify.Send(t.Context(), notify.Target{Webhook: s.URL + "/token-of-the-office"},
				event, nil,
				[]time.Duration{time.Millisecond, time.Millisecond})
			assert.Equal(t, c.asked, asked.Load())
			assert.Zero(t, elsewhere.Load())
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.want)
			assert.NotContains(t, err.Error(), "token-of-the-office")
		})
	}
}

// A target that hangs holds no one up, and is told of once; others hear what they asked for alone.
func TestASlowTargetHoldsNobodyUp(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("there is no sh")
	}
	release := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter,
		*http.Request) {
		<-release
	}))
	defer s.Close()
	defer close(release)
	told := filepath.Join(t.TempDir(), "told")
	t.Setenv("CATENA_PASSPHRASE", "a swan a day")
	var failed atomic.Int32
	sender := notify.New([]notify.Target{{Webhook: s.URL},
		{Command: []string{"sh", "-c", `cat >> ` + told + `; env >> ` + told},
			On: []notify.Kind{notify.Stranded}}}, nil, func(target notify.Target, err error) {
		assert.Contains(t, target.Name(), "webhook at 127.0.0.1")
		failed.Add(1)
	})
	for range 1000 {
		sender.Tell(notify.Event{Kind: notify.Start})
	}
	sender.Tell(event)
	require.Eventually(t, func() bool {
		raw, _ := os.ReadFile(told)
		return strings.Contains(string(raw), "CATENA_TEXT=")
	}, time.Minute, 10*time.Millisecond)
	sender.Close(50 * time.Millisecond)
	assert.LessOrEqual(t, failed.Load(), int32(1))
	raw, err := os.ReadFile(told)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "swan", "its variables are not given away")
	assert.Contains(t, string(raw), "CATENA_TEXT=gate-1 is[2J stranded.")
	assert.NotContains(t, string(raw), `"event":"start"`)
}

// The bell rings, and the title says why, without what steers a terminal.
func TestBell(t *testing.T) {
	var b strings.Builder
	require.NoError(t, notify.Send(t.Context(), notify.Target{Bell: true}, event, &b, nil))
	assert.Equal(t, "\a\x1b]2;Catena: gate-1 is[2J stranded.\x1b\\", b.String())
	require.NoError(t, notify.Send(t.Context(), notify.Target{Bell: true}, event, nil, nil),
		"there is no terminal")
}
