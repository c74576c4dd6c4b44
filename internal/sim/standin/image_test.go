package standin

import (
	"bytes"
	"crypto/sha256"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A stand-in reads the whole of an image before it believes any of it.
func TestReceive(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, Image(&b, "Wexcombe", []string{"WX-40"}, "", "2.0", 5000))
	good := b.Bytes()
	line := bytes.IndexByte(good, '\n')
	damaged := bytes.Clone(good)
	damaged[line+10] ^= 1
	for what, c := range map[string]struct {
		image              []byte
		maker, model, part string
		err                error
	}{
		"good":               {good, "Wexcombe", "WX-40", "", nil},
		"another maker":      {good, "Osmere", "WX-40", "", errNoImage},
		"another model":      {good, "Wexcombe", "WX-50", "", errOtherModel},
		"another part":       {good, "Wexcombe", "WX-40", "lens", errOtherPart},
		"its end is missing": {good[:len(good)-1], "Wexcombe", "WX-40", "", ErrTruncated},
		"more follows":       {append(bytes.Clone(good), 0), "Wexcombe", "WX-40", "", ErrChecksum},
		"a changed byte":     {damaged, "Wexcombe", "WX-40", "", ErrChecksum},
		"no line":            {bytes.Repeat([]byte("x"), 100<<10), "Wexcombe", "WX-40", "", errNoImage},
		"nothing":            {nil, "Wexcombe", "WX-40", "", errNoImage},
	} {
		t.Run(what, func(t *testing.T) {
			h := sha256.New()
			version, err := Receive(bytes.NewReader(c.image), c.maker, c.model, c.part, h)
			assert.Equal(t, c.err, err)
			if c.err == nil {
				assert.Equal(t, "2.0", version)
				want := sha256.Sum256(c.image)
				assert.Equal(t, want[:], h.Sum(nil))
			}
		})
	}
}

// A digest holds for one nonce, one address and one method: RFC 7616, 3.4.
func TestDigest(t *testing.T) {
	// the response was computed with sha256sum
	a := &DigestAuth{realm: "gate", algorithm: "SHA-256", nonce: "n-1",
		login: func() Login { return Login{User: "keeper", Password: "quoin"} }}
	field := func(uri, nonce, response string) string {
		return `Digest username="keeper", realm="gate", uri="` + uri + `", algorithm=SHA-256, nonce="` +
			nonce + `", nc=00000001, cnonce="c-1", qop=auth, response="` + response + `"`
	}
	const right = "d10375d9c75c6a8a337d03a1b8645175350e479f7a18d9842a9adb4272d908a1"
	for what, c := range map[string]struct {
		method, uri, field string
		holds, given       bool
	}{
		"right":          {"GET", "/a", field("/a", "n-1", right), true, true},
		"another method": {"PUT", "/a", field("/a", "n-1", right), false, true},
		"another place":  {"GET", "/b", field("/a", "n-1", right), false, true},
		"another nonce":  {"GET", "/a", field("/a", "n-2", right), false, true},
		"no answer":      {"GET", "/a", "", false, false},
		"Basic":          {"GET", "/a", "Basic a2VlcGVyOnF1b2lu", false, false},
	} {
		r, err := http.NewRequestWithContext(t.Context(), c.method, "http://127.0.0.1"+c.uri, nil)
		require.NoError(t, err)
		r.RequestURI = c.uri
		r.Header.Set("Authorization", c.field)
		holds, given := a.Holds(r)
		assert.Equal(t, c.holds, holds, what)
		assert.Equal(t, c.given, given, what)
	}
}
