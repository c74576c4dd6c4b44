package scan

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/scan/discover"
	"catena/internal/sim"
)

// front stands before a gate at an address, with TLS and its own certificate or without, and
// counts the requests that carry a login.
func front(t *testing.T, address, gate string, secure bool) (logins *atomic.Int64, stop func()) {
	t.Helper()
	to, err := url.Parse("http://" + gate)
	require.NoError(t, err)
	logins = &atomic.Int64{}
	proxy := httputil.NewSingleHostReverseProxy(to)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		body, _ := io.ReadAll(r.Body) // a truncated body carries no login
		r.Body = io.NopCloser(bytes.NewReader(body))
		if r.Header.Get("Authorization") != "" || bytes.Contains(body, []byte("keeper")) {
			logins.Add(1)
		}
		proxy.ServeHTTP(w, r)
	}))
	l, err := net.Listen("tcp", address)
	require.NoError(t, err)
	_ = server.Listener.Close()
	server.Listener = l
	if secure {
		server.TLS = &tls.Config{Certificates: []tls.Certificate{certificate(t)}}
		server.StartTLS()
	} else {
		server.Start()
	}
	t.Cleanup(server.Close)
	return logins, server.Close
}

// A login that was sent to a device over TLS goes nowhere else: not to another port of its host
// with another certificate, not without TLS, and not to another host, whatever is said there.
func TestWhatWasVerifiedOverTLSGoesNowhereElse(t *testing.T) {
	for name, c := range map[string]struct {
		address string
		secure  bool
	}{
		"another port, another certificate":  {"127.66.7.109:18444", true},
		"another port, without TLS":          {"127.66.7.109:18080", false},
		"the same port, without TLS":         {"127.66.7.109:18443", false},
		"the same port, another certificate": {"127.66.7.109:18443", true},
		"another host, another certificate":  {"127.66.7.110:18443", true},
		"another host, without TLS":          {"127.66.7.110:18080", false},
	} {
		t.Run(name, func(t *testing.T) {
			place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: right},
				Devices: []sim.Device{gate("gate-1", 101, sim.Faults{})}}, "", slog.New(slog.DiscardHandler))
			require.NoError(t, err)
			defer place.Stop()
			if place.OneHost {
				t.Skip("this machine has one loopback address")
			}
			behind := place.StandIns()[0].Address
			h := &hill{t: t, place: place, scanner: newScanner(3 * time.Second)}
			h.networks = []discover.Network{{Adapter: place.Adapter, Ranges: ranges(t, "127.66.7.109:18443",
				"127.66.7.109:18444", "127.66.7.109:18080", "127.66.7.110:18443", "127.66.7.110:18080")}}
			h.scanner.Via = []string{"sweep"}
			h.logins(login.Credential{ID: "l1", User: "keeper", Password: right})
			honest, stop := front(t, "127.66.7.109:18443", behind, true)
			first := h.scan().Devices
			require.Len(t, first, 1)
			require.Equal(t, device.OK, first[0].Access, first[0].Why())
			require.Positive(t, honest.Load())
			stop()

			rogue, _ := front(t, c.address, behind, c.secure)
			r := h.scan()
			assert.Zero(t, rogue.Load(), "requests with the login")
			for _, d := range r.Devices {
				if d.Address == c.address {
					assert.Equal(t, device.IdentityChanged, d.Access, d.Why())
					assert.Equal(t, first[0].ID, d.ID)
				}
			}
			// what a person accepts is talked to
			h.scanner.Trusted = append(h.scanner.Trusted, r.Keys.Refused...)
			h.scan()
			assert.Positive(t, rogue.Load(), "after it was accepted")
			assert.NotEmpty(t, netip.MustParseAddrPort(c.address))
		})
	}
}

// certificate makes a new certificate.
func certificate(t *testing.T) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{raw}, PrivateKey: key}
}

// A device that showed its serial number before a login and shows none any more gets no login, until a person
// accepts it.
func TestADeviceThatStopsShowingItsSerialNumber(t *testing.T) {
	place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: right},
		Devices: []sim.Device{gate("gate-1", 101, sim.Faults{})}}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer place.Stop()
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	to, err := url.Parse("http://" + place.StandIns()[0].Address)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	logins, silent := &atomic.Int64{}, &atomic.Bool{}
	proxy.ModifyResponse = func(r *http.Response) error {
		body, err := io.ReadAll(r.Body)
		if silent.Load() && r.Request.URL.Path == "/tg/v1/about" {
			body = bytes.Replace(body, []byte(`"TG2-gate-1"`), []byte(`""`), 1)
		}
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
		r.Header.Del("Content-Length")
		return err
	}
	l, err := net.Listen("tcp", "127.66.7.120:18080")
	require.NoError(t, err)
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		if r.Header.Get("Authorization") != "" || bytes.Contains(body, []byte("keeper")) {
			logins.Add(1)
		}
		proxy.ServeHTTP(w, r)
	}))
	_ = server.Listener.Close()
	server.Listener = l
	server.Start()
	defer server.Close()
	h := &hill{t: t, place: place, scanner: newScanner(3 * time.Second)}
	h.networks = []discover.Network{{Adapter: place.Adapter, Ranges: ranges(t, "127.66.7.120:18080")}}
	h.scanner.Via = []string{"sweep"}
	h.logins(login.Credential{ID: "l1", User: "keeper", Password: right})
	first := h.scan().Devices
	require.Len(t, first, 1)
	require.Equal(t, device.OK, first[0].Access, first[0].Why())
	require.NotEmpty(t, first[0].Serial)

	silent.Store(true)
	before := logins.Load()
	r := h.scan()
	require.Len(t, r.Devices, 1)
	assert.Equal(t, device.IdentityChanged, r.Devices[0].Access, r.Devices[0].Why())
	assert.Equal(t, before, logins.Load(), "no login was sent")
	h.scanner.Trusted = append(h.scanner.Trusted, r.Keys.Refused...)
	assert.Equal(t, device.OK, h.scan().Devices[0].Access, "after a person accepted it")
}
