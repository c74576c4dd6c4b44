package gate_test

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

// enter logs in with the password in the clear, and returns the header field of the session.
func enter(t *testing.T, at string) []string {
	answer, body := standintest.Call(t, "POST", at+"/sessions",
		`{"user": "keeper", "password": "`+standintest.Password+`"}`)
	require.Equal(t, http.StatusCreated, answer.StatusCode, body)
	token, _ := standintest.JSON(t, body)["token"].(string)
	return []string{"Authorization", "Bearer " + token}
}

func start(t *testing.T, d sim.Device) (at, host string) {
	d.Model, d.Version, d.Auth = "TG-200", "1.0", "json"
	address := standintest.Start(t, d)
	host, _, _ = strings.Cut(address, ":")
	return "http://" + address + "/tg/v1", host
}

// Every error is a problem with the status of its answer: RFC 9457, 3.1.
func TestProblems(t *testing.T) {
	at, _ := start(t, sim.Device{Kind: "gate"})
	session := enter(t, at)
	image := string(standintest.Image(t, "Tollgarth", "TG-200"))
	for what, c := range map[string]struct {
		method, path, body string
		fields             []string
		status             int
	}{
		"no session":        {"GET", "/state", "", nil, 401},
		"a token of no one": {"GET", "/state", "", []string{"Authorization", "Bearer x"}, 401},
		"no Content-Digest": {"PUT", "/firmware", image[:1000], session, 400},
		"another digest": {"PUT", "/firmware", image, append(session[:2:2], "Content-Digest",
			digest("something else")), 422},
		"a weak digest": {"PUT", "/firmware", image[:1000], append(session[:2:2], "Content-Digest",
			"md5=:CY9rzUYh03PK3k6DJie09g==:"), 400},
		"no such part": {"PUT", "/firmware?part=lamp", image[:1000], append(session[:2:2], "Content-Digest",
			digest(image)), 404},
		"not JSON": {"PUT", "/lamp", "on", session, 400},
	} {
		t.Run(what, func(t *testing.T) {
			answer, body := standintest.Call(t, c.method, at+c.path, c.body,
				c.fields...)
			assert.Equal(t, c.status, answer.StatusCode, body)
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
			assert.EqualValues(t, c.status, standintest.JSON(t, body)["status"])
			if c.status == http.StatusUnauthorized { // RFC 9110, 11.6.1
				assert.Contains(t, answer.Header.Get("WWW-Authenticate"), "Bearer ")
			}
		})
	}
}

func digest(body string) string { // RFC 9530, 2
	sum := sha256.Sum256([]byte(body))
	return "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
}

// After five wrong passwords it takes no login any more, not even the right one.
func TestItLocks(t *testing.T) {
	at, _ := start(t, sim.Device{Kind: "gate"})
	for range 5 {
		answer, _ := standintest.Call(t, "POST", at+"/sessions",
			`{"user": "keeper", "password": "mitre"}`)
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	}
	answer, _ := standintest.Call(t, "POST", at+"/sessions",
		`{"user": "keeper", "password": "`+standintest.Password+`"}`)
	assert.Equal(t, http.StatusTooManyRequests, answer.StatusCode)
}

// With one seat there is one session: the next one starts once the first has ended.
func TestOneSeat(t *testing.T) {
	at, _ := start(t, sim.Device{Kind: "gate", Seats: 1})
	session := enter(t, at)
	answer, _ := standintest.Call(t, "POST", at+"/sessions",
		`{"user": "keeper", "password": "`+standintest.Password+`"}`)
	assert.Equal(t, http.StatusConflict, answer.StatusCode)
	answer, _ = standintest.Call(t, "DELETE", at+"/sessions", "", session...)
	assert.Equal(t, http.StatusNoContent, answer.StatusCode)
	answer, _ = standintest.Call(t, "GET", at+"/state", "", session...)
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
	answer, _ = standintest.Call(t, "GET", at+"/state", "", enter(t, at)...)
	assert.Equal(t, http.StatusOK, answer.StatusCode)
}

// A controller keeps an image for its units, and lets two of them take one at a time.
func TestController(t *testing.T) {
	var units []sim.ChildDevice
	for _, n := range []string{"1", "2", "3"} {
		units = append(units, sim.ChildDevice{Name: "unit-" + n, Model: "TU-1", Serial: "U-" + n,
			Version: "1.0"})
	}
	at, _ := start(t, sim.Device{Kind: "controller", Children: units})
	session := enter(t, at)
	image := string(standintest.Image(t, "Tollgarth", "TU-1"))
	sum := sha256.Sum256([]byte(image))
	name := hex.EncodeToString(sum[:])
	call := func(method, path, body string) int {
		answer, _ := standintest.Call(t, method, at+path, body, session...)
		return answer.StatusCode
	}
	install := `{"image": "` + name + `"}`
	assert.Equal(t, 404, call("POST", "/units/1/install", install), "the image is not there yet")
	assert.Equal(t, 422, call("PUT", "/images/"+strings.Repeat("0", 64), image), "another digest")
	assert.Equal(t, 201, call("PUT", "/images/"+name, image))
	assert.Equal(t, 404, call("POST", "/units/9/install", install), "there is no such unit")
	assert.Equal(t, 202, call("POST", "/units/1/install", install))
	assert.Equal(t, 409, call("POST", "/units/1/install", install), "it takes it already")
	assert.Equal(t, 202, call("POST", "/units/2/install", install))
	assert.Equal(t, 409, call("POST", "/units/3/install", install), "two at a time")
}

// A question of multicast DNS that comes from another port than 5353 is answered as by a plain
// server: to that port, with its ID and the question, and to be kept for ten seconds at most
// (RFC 6762, 6.7). Services are found as RFC 6763, 4, 5, 9 and 12.1 have it.
func TestMulticastDNS(t *testing.T) {
	_, host := start(t, sim.Device{Kind: "gate"})
	question := func(id uint16, response bool, name string, kind dnsmessage.Type) []byte {
		m := dnsmessage.Message{Header: dnsmessage.Header{ID: id, Response: response},
			Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName(name), Type: kind,
				Class: dnsmessage.ClassINET}}}
		raw, err := m.Pack()
		require.NoError(t, err)
		return raw
	}
	ask := func(packets ...[]byte) (m dnsmessage.Message) {
		require.NoError(t, m.Unpack(standintest.Ask(t, host+":5353", packets...)))
		assert.True(t, m.Response && m.Authoritative)
		for _, r := range append(m.Answers, m.Additionals...) {
			assert.LessOrEqual(t, r.Header.TTL, uint32(10), r.Header.Name)
		}
		return m
	}
	const service, instance = "_http._tcp.local.", "first._http._tcp.local."
	all := ask(question(1, false, "_services._dns-sd._udp.local.", dnsmessage.TypePTR))
	require.Len(t, all.Answers, 1)
	assert.Equal(t, service, all.Answers[0].Body.(*dnsmessage.PTRResource).PTR.String())

	one := ask(question(2, false, "_HTTP._tcp.local.", dnsmessage.TypePTR))
	assert.EqualValues(t, 2, one.ID)
	require.Len(t, one.Questions, 1)
	require.Len(t, one.Answers, 1)
	assert.Equal(t, instance, one.Answers[0].Body.(*dnsmessage.PTRResource).PTR.String())
	kinds := map[dnsmessage.Type]bool{}
	for _, r := range one.Additionals {
		kinds[r.Header.Type] = true
	}
	assert.Equal(t, map[dnsmessage.Type]bool{dnsmessage.TypeSRV: true, dnsmessage.TypeTXT: true,
		dnsmessage.TypeA: true}, kinds)

	where := ask(question(3, false, instance, dnsmessage.TypeSRV))
	require.NotEmpty(t, where.Answers)
	for _, r := range where.Answers {
		assert.Equal(t, dnsmessage.TypeSRV, r.Header.Type, "only what was asked for is an answer")
	}
	// answers, other services and malformed messages get no answer
	last := ask(question(4, true, service, dnsmessage.TypePTR),
		question(5, false, "_ipp._tcp.local.", dnsmessage.TypePTR), []byte("x"),
		question(6, false, "first.local.", dnsmessage.TypeA))
	assert.EqualValues(t, 6, last.ID)
}
