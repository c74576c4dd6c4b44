package scan

import (
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/dialect/scripted"
	"catena/internal/family"
	"catena/internal/login"
	"catena/internal/scan/discover"
	"catena/internal/sim"
	"catena/internal/site"
)

const right, other = "quoin", "heron"

// hill is a simulated site with a scanner for it.
type hill struct {
	t        *testing.T
	place    *sim.Site
	scanner  *Scanner
	networks []discover.Network
	known    []device.Device
}

func newHill(t *testing.T, devices ...sim.Device) *hill {
	t.Parallel()
	place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: right},
		Devices: devices}, "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	h := &hill{t: t, place: place, scanner: newScanner(3 * time.Second)}
	var ports []site.Port
	for _, text := range append(place.Ports(), "8080") {
		p, err := site.ParsePort(text)
		require.NoError(t, err)
		ports = append(ports, p)
	}
	h.networks = []discover.Network{{Adapter: place.Adapter, Ranges: ranges(t, place.Ranges()...),
		Ports: ports}}
	h.logins(login.Credential{ID: "l1", User: "keeper", Password: right})
	return h
}

func (h *hill) logins(all ...login.Credential) {
	h.scanner.Logins = func(device.Device) []login.Credential { return all }
}

// scan looks, and keeps what came as the ledger would.
func (h *hill) scan() Result {
	r, err := h.scanner.Scan(h.t.Context(), h.networks, h.known)
	require.NoError(h.t, err)
	byID := map[string]device.Device{}
	for _, d := range h.known {
		byID[d.ID] = d
	}
	for i, d := range r.Devices {
		if d.ID == "" {
			d.ID = fmt.Sprintf("d%d", len(byID)+1)
			r.Devices[i].ID = d.ID
		}
		byID[d.ID] = d
	}
	h.known = slices.Collect(maps.Values(byID))
	h.scanner.Trusted = append(h.scanner.Trusted, r.Keys.Fresh...)
	return r
}

func (h *hill) device(r Result, name string) device.Device {
	for _, d := range r.Devices {
		if d.Name == name {
			return d
		}
	}
	h.t.Fatalf("no %s among %v", name, r.Devices)
	return device.Device{}
}

func gate(name string, host int, faults sim.Faults) sim.Device {
	return sim.Device{Name: name, Kind: "gate", Model: "TG-200", Hardware: "2",
		Serial: "TG2-" + name, Version: "K42", Host: host, Faults: faults}
}

func camera(name string, host int, faults sim.Faults) sim.Device {
	return sim.Device{Name: name, Kind: "camera", Model: "WX-40", Hardware: "B",
		Serial: "WX4-" + name, Version: "3.1.0", Host: host, Faults: faults}
}

func TestMovedDeviceStaysTheSame(t *testing.T) {
	h := newHill(t, camera("cam-11", 11, sim.Faults{}), gate("gate-1", 101, sim.Faults{}))
	before := h.device(h.scan(), "cam-11")
	require.NoError(t, h.place.Move("cam-11", 31))
	r := h.scan()
	after := h.device(r, "cam-11")
	assert.Equal(t, before.ID, after.ID)
	assert.True(t, strings.HasSuffix(after.Address, ".31:8080"), after.Address)
	assert.Equal(t, "3.1.0", after.Version)
	require.Len(t, r.Changed, 1)
	assert.Equal(t, "address", r.Changed[0].What)
	assert.Empty(t, r.Gone)
	assert.Error(t, h.place.Move("cam-99", 3))

	// Someone else takes the old address: its serial number is another, and it gets no
	// password until a person says that this is right.
	require.NoError(t, h.place.Move("gate-1", 11))
	r = h.scan()
	stopped := h.device(r, "gate-1")
	assert.Equal(t, device.IdentityChanged, stopped.Access)
	assert.Contains(t, stopped.Why(), "its serial number is TG2-gate-1, not WX4-cam-11")
	require.Len(t, r.Keys.Refused, 1)
	assert.Equal(t, KeySerial, r.Keys.Refused[0].Kind)
}

// Logins are tried in their order: one that has not worked before by each command, however often
// that looks, or as many as a person asks for. Refused ones are not tried again, and the one that
// worked comes first and does not count.
func TestLoginsAreTriedInOrder(t *testing.T) {
	h := newHill(t, gate("gate-1", 101, sim.Faults{OtherPassword: other}))
	command := func() device.Device {
		h.scanner.spent.Clear()
		return h.device(h.scan(), "gate-1")
	}
	wrong := func(n int) login.Credential {
		return login.Credential{ID: fmt.Sprintf("w%d", n), User: "keeper",
			Password: fmt.Sprintf("wrong-%d", n)}
	}
	good := login.Credential{ID: "good", User: "keeper", Password: other}
	h.logins(wrong(1), wrong(2), wrong(3), good)
	d := command()
	assert.Equal(t, device.LoginRefused, d.Access)
	assert.Equal(t, []string{"w1"}, d.Refused)
	for range 3 { // rounds of the same command
		assert.Equal(t, []string{"w1"}, h.device(h.scan(), "gate-1").Refused)
	}
	h.scanner.Attempts = 2
	d = command()
	assert.Equal(t, []string{"w1", "w2", "w3"}, d.Refused)
	assert.Contains(t, d.Why(), "refused the login (2 logins were tried)")
	h.scanner.Attempts = 0
	d = command()
	assert.Equal(t, device.OK, d.Access,
		"what was refused is not tried again, so that the gate, which locks up after five, has not")
	assert.Equal(t, "good", d.Login)
	h.logins(wrong(4), wrong(5), good)
	d = command()
	assert.Equal(t, device.OK, d.Access)
	assert.Equal(t, []string{"w1", "w2", "w3"}, d.Refused, "the one that worked comes first")

	good.Password = "changed" // one attempt for that, and one new one
	h.logins(good, wrong(4), wrong(5))
	d = command()
	assert.Equal(t, []string{"w1", "w2", "w3", "good", "w4"}, d.Refused)
	h.scanner.spent.Clear()

	h.logins(wrong(1))
	d = h.device(h.scan(), "gate-1")
	assert.Contains(t, d.Why(), "rejected 1 of its logins before")
	tested, _ := h.scanner.Again(t.Context(), []device.Device{d})
	assert.Equal(t, "refused the login", tested[0].Why(), "a person asked for it")
	h.logins()
	assert.Equal(t, "no login for it", h.device(h.scan(), "gate-1").Why())
}

// The lockout policy that a device or its family reports lowers the number of attempts: the device
// is never locked, whatever a person asks for and however many commands there are.
func TestALockoutPolicyLowersTheNumberOfAttempts(t *testing.T) {
	h := newHill(t, sim.Device{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "BR5-1",
		Version: "2.10", Host: 70, Lockout: 3})
	wrong := func(n int) login.Credential {
		return login.Credential{ID: fmt.Sprintf("w%d", n), User: "keeper",
			Password: fmt.Sprintf("wrong-%d", n)}
	}
	good := login.Credential{ID: "good", User: "keeper", Password: "quoin"}
	h.logins(good)
	d := h.device(h.scan(), "recorder-1")
	require.Equal(t, device.OK, d.Access)
	assert.Equal(t, 3, d.Lockout)

	good.Password = "changed"
	h.logins(good, wrong(1), wrong(2), wrong(3), wrong(4))
	for range 4 { // commands
		h.scanner.spent.Clear()
		d = h.device(h.scan(), "recorder-1")
	}
	assert.Equal(t, []string{"good", "w1"}, d.Refused, "the third wrong one would lock it")
	assert.Equal(t, 2, count(h.place.StandIns()[0].Log, "refused login"))
	good.ID, good.Password = "new", "quoin"
	h.logins(good)
	h.scanner.Attempts = 3
	h.scanner.spent.Clear()
	d = h.device(h.scan(), "recorder-1")
	assert.Equal(t, device.OK, d.Access, "it is not locked, and takes the right one")

	// A family says it of its devices, which are not known yet.
	assert.Equal(t, 3, h.scanner.lockout(d, d.Endpoint))
	d.Lockout = 0
	h.scanner.Dialects = dialect.NewRegistry(scripted.New(family.Family{Name: "tollgarth-gates",
		Lockout: 4, Program: &family.Program{}}, 0))
	assert.Equal(t, 4, h.scanner.lockout(d, device.Endpoint{Dialect: "tollgarth-gates"}))
}

func count(all []string, one string) (n int) {
	for _, a := range all {
		if a == one {
			n++
		}
	}
	return n
}

// A login for one device is not sent to another that only claims its name.
func TestClaimedNamesBringNoLogin(t *testing.T) {
	h := newHill(t, gate("gate-1", 101, sim.Faults{}))
	h.scan()
	var asked []string
	h.scanner.Logins = func(d device.Device) []login.Credential {
		asked = append(asked, d.ID+" "+d.Name)
		return nil
	}
	h.known = nil
	h.scan()
	assert.Equal(t, []string{" "}, asked, "who is not known has no name yet")
}

func TestWhoNeedsAPerson(t *testing.T) {
	h := newHill(t, gate("gate-new", 101, sim.Faults{NewPassword: true}),
		gate("gate-low", 102, sim.Faults{NoRight: true}),
		gate("gate-1", 103, sim.Faults{}), sim.Device{Name: "mute", Kind: "silent", Host: 77},
		sim.Device{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "BR5-1",
			Version: "2.10", Host: 70, Faults: sim.Faults{NewPassword: true}})
	r := h.scan()
	for name, want := range map[string]struct {
		reach device.Access
		says  string
	}{
		"gate-new": {device.LoginRefused, "requires a new password first"},
		"gate-low": {device.LoginRefused, "shows its version only to an administrator"},
		"gate-1":   {device.OK, ""},
	} {
		d := h.device(r, name)
		assert.Equal(t, want.reach, d.Access, name)
		assert.Equal(t, want.says, d.Why(), name)
		assert.Equal(t, "l1", d.Login, "the login itself is right")
		assert.Empty(t, d.Refused)
	}
	for _, d := range r.Devices {
		switch {
		case strings.HasSuffix(d.Address, ".77:8080"):
			assert.Equal(t, device.Silent, d.Access)
			assert.Equal(t, "accepts connections, but sends no answer", d.Why())
		case d.Model == "BR-5":
			assert.Equal(t, "requires a new password first", d.Why())
		}
	}
}

// Every kind of stand-in is heard in its own way and read as far as it can be.
func TestKindsAreHeard(t *testing.T) {
	h := newHill(t, camera("cam-11", 11, sim.Faults{}), gate("gate-1", 101, sim.Faults{}),
		sim.Device{Name: "switch-1", Kind: "switch", Model: "OS-8", Serial: "OS8-1", Version: "4.2",
			Host: 60, MAC: "02:00:5e:00:53:60"},
		sim.Device{Name: "recorder-1", Kind: "recorder", Model: "BR-5", Serial: "BR5-1",
			Version: "2.10", Host: 70},
		sim.Device{Name: "drive-1", Kind: "drive", Model: "HD-7", Version: "7.4", Host: 81},
		sim.Device{Name: "hub-1", Kind: "hub", Model: "PK-1", Serial: "PK1-1", Version: "5",
			Host: 91},
		sim.Device{Name: "io-1", Kind: "io", Model: "HD-IO4", Serial: "0A0B0C0D", Version: "2.7",
			Host: 95},
		sim.Device{Name: "fans-1", Kind: "ventilation", Model: "VC-3", Serial: "VC3-1", Version: "5.1",
			Host: 96})
	h.scanner.Patience = 10 * time.Second // this machine may be busy
	r := h.scan()
	heard := map[string]string{}
	for _, d := range r.Devices {
		heard[d.Model] = fmt.Sprintf("%s %s %s", strings.Join(d.FoundVia, "+"), d.Access, d.Version)
	}
	assert.Equal(t, map[string]string{
		"WX-40": "http+ws-discovery ok 3.1.0", "TG-200": "http+mdns ok K42", "OS-8": "snmp ok 4.2",
		"BR-5": "https+ssdp ok 2.10",
		"HD-7": "modbus+ssh ok 7.4", "PK-1": "http+ssdp unreadable ",
		"HD-IO4": "ethernet-ip ok 2.7", "VC-3": "bacnet ok 5.1",
	}, heard)
	kinds := map[string]bool{}
	for _, k := range r.Keys.Fresh {
		kinds[k.Kind] = true
	}
	assert.Equal(t, map[string]bool{KeySerial: true, device.KeyShown: true, device.KeyTLS: true, device.KeySSH: true},
		kinds)
	for _, in := range h.place.StandIns() {
		assert.NotContains(t, strings.Join(in.Log, " "), "ssh password", "no one logs in by SSH")
	}
	r = h.scan()
	assert.Empty(t, r.New)
	assert.Empty(t, r.Changed)
	assert.Empty(t, r.Keys.Fresh)

	// By some protocols only, those that are found by others are not gone.
	h.scanner.Via = []string{"snmp"}
	r = h.scan()
	require.Len(t, r.Devices, 1)
	assert.Equal(t, "OS-8", r.Devices[0].Model)
	h.scanner.Via = []string{"ethernet-ip", "snmp"}
	h.place.Stop()
	r = h.scan()
	var gone []string
	for _, d := range r.Gone {
		gone = append(gone, d.Model)
	}
	assert.ElementsMatch(t, []string{"OS-8", "HD-IO4"}, gone)
}

// What is announced by datagrams alone is met before a login is thought of.
func TestAnnouncedOnly(t *testing.T) {
	h := newHill(t, gate("gate-1", 101, sim.Faults{}))
	h.scanner.keys = newKeyring(nil)
	f := merge(dialects, []discover.Sighting{{Via: "ws-discovery", Address: at("127.0.0.1:1"),
		Dialect: "onvif", Facts: device.Reading{Identity: device.Identity{UUID: "u"}}}})
	require.NoError(t, h.scanner.read(t.Context(), f))
	assert.Equal(t, device.Away, f[0].Access)
	assert.Equal(t, "was announced, but accepts no connections", f[0].Why())
}

// A known device that answers more slowly than strangers may is still read, by
// its known protocol.
func TestASlowKnownDeviceIsRead(t *testing.T) {
	place, err := sim.Start(sim.Scenario{Login: sim.Login{User: "keeper", Password: right},
		Pace:    sim.Pace{Answer: 400 * time.Millisecond},
		Devices: []sim.Device{gate("gate-1", 101, sim.Faults{})}}, "",
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(place.Stop)
	if place.OneHost {
		t.Skip("this machine has one loopback address")
	}
	h := &hill{t: t, place: place, scanner: newScanner(10 * time.Second)}
	address := netip.MustParseAddrPort(place.StandIns()[0].Address)
	h.networks = []discover.Network{{Adapter: place.Adapter, Ranges: ranges(t, address.String())}}
	h.scanner.Via = []string{"sweep"}
	h.logins(login.Credential{ID: "l1", User: "keeper", Password: right})
	before := h.scan().Devices[0]
	require.Equal(t, device.OK, before.Access, before.Why())
	h.scanner.Patience = 100 * time.Millisecond
	r := h.scan()
	require.Len(t, r.Devices, 1)
	assert.Equal(t, before.ID, r.Devices[0].ID)
	assert.Equal(t, device.OK, r.Devices[0].Access, r.Devices[0].Why())
	assert.Equal(t, "K42", r.Devices[0].Version)
}

func TestWhoAnswersARPOnly(t *testing.T) {
	var r Result
	there, heard := netip.MustParseAddr("10.20.4.9"), netip.MustParseAddr("10.20.4.11")
	r.mute([]*found{{Device: device.Device{Endpoint: device.Endpoint{Address: "10.20.4.11:80"}}}},
		map[netip.Addr]string{there: "02:00:5e:00:53:09", heard: "02:00:5e:00:53:11",
			netip.MustParseAddr("10.99.0.1"): "02:00:5e:00:53:01"},
		[]discover.Network{{Ranges: ranges(t, "10.20.4.0/24")}})
	assert.Equal(t, []string{"10.20.4.9: present (ARP), but does not answer"}, r.Warnings)
}

// A device that is only announced, and whose port is closed, does not "answer": it accepts no
// connections. One whose port is open answers.
func TestOnlyAnnounced(t *testing.T) {
	open, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = open.Close() })
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, closed.Close())
	for address, want := range map[string]device.Problem{
		open.Addr().String():   device.NotRecognised,
		closed.Addr().String(): device.OnlyAnnounced,
		"127.0.0.1:0":          device.OnlyAnnounced, // an announcement without a port
	} {
		f := &found{Device: device.Device{Endpoint: device.Endpoint{Address: address},
			FoundVia: []string{"mdns", "ssdp"}, Access: device.Unreadable,
			Trouble: device.Because(device.NotRecognised, "it announces _http._tcp")}}
		newScanner(time.Second).readOne(t.Context(), f)
		assert.Equal(t, want, f.Trouble.Problem, address)
	}
}

const bothPorts = `family: brackwell-panels
vendor: Brackwell
models: [BP-1]
recognise:
  - get: /about
    take: {model: $.model, serial: $.serial}
login:
  - get: /session
read:
  - get: /version
    take: {version: $.version}
`

// One host that answers over HTTP and HTTPS, by one family, is one device: TLS first, one attempt with
// a wrong login, no second device for its rejection or another certificate.
func TestOneHostTwoPorts(t *testing.T) {
	attempts, password := 0, right
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, given, ok := r.BasicAuth()
		switch {
		case r.URL.Path == "/about":
			_, _ = w.Write([]byte(`{"model": "BP-1", "serial": "BP-10070"}`))
			return
		case !ok:
		case given == password && r.TLS != nil:
			_, _ = w.Write([]byte(`{"version": "2.0"}`))
			return
		default:
			attempts++
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="panel"`)
		w.WriteHeader(http.StatusUnauthorized)
	})
	plain, secure := httptest.NewServer(handler), httptest.NewTLSServer(handler)
	t.Cleanup(plain.Close)
	t.Cleanup(secure.Close)
	f, err := family.Parse("panels.yaml", []byte(bothPorts))
	require.NoError(t, err)
	ports := func(urls ...string) (out []site.Port) {
		for _, u := range urls {
			p, err := site.ParsePort(u[strings.LastIndex(u, ":")+1:])
			require.NoError(t, err)
			out = append(out, p)
		}
		return out
	}
	h := &hill{t: t, scanner: newScanner(3 * time.Second), networks: []discover.Network{{Adapter: "lo",
		Ranges: ranges(t, "127.0.0.1"), Ports: ports(plain.URL, secure.URL)}}}
	h.scanner.Dialects = dialect.NewRegistry(scripted.New(f, 0))
	h.scanner.Via = []string{"sweep"}
	one := func(r Result) device.Device {
		require.Len(t, r.Devices, 1)
		assert.Equal(t, "https", r.Devices[0].Scheme)
		return r.Devices[0]
	}

	h.logins(login.Credential{ID: "l1", User: "keeper", Password: other})
	d := one(h.scan())
	assert.Equal(t, device.LoginRefused, d.Access)
	assert.Equal(t, 1, attempts, "one attempt, over TLS")
	h.logins(login.Credential{ID: "l2", User: "keeper", Password: right})
	h.scanner.spent.Clear() // another command
	d = one(h.scan())
	assert.Equal(t, device.OK, d.Access)
	assert.Equal(t, "2.0", d.Version)
	id := d.ID

	// Another certificate stops it, with no second device at the other port; nor is there one after it
	// was accepted.
	for i := range h.scanner.Trusted {
		if h.scanner.Trusted[i].Kind == device.KeyTLS {
			h.scanner.Trusted[i].Fingerprint = "SHA256:another"
		}
	}
	d = one(h.scan())
	assert.Equal(t, device.IdentityChanged, d.Access)
	h.scanner.Trusted = nil // accepted
	d = one(h.scan())
	assert.Equal(t, device.OK, d.Access)
	assert.Equal(t, id, d.ID)
	assert.Len(t, h.known, 1)

	// A device that is known without TLS stays where it is known: at the other port anyone could say
	// that it is the same.
	at := plain.Listener.Addr().String()
	h.known, h.scanner.Trusted = []device.Device{{ID: "d9", Name: "panel", Endpoint: device.Endpoint{
		Address: at, Dialect: "brackwell-panels"}, Reading: device.Reading{Identity: device.Identity{
		Vendor: "Brackwell", Model: "BP-1", Serial: "BP-10070"}}}}, nil
	r := h.scan()
	require.Len(t, r.Devices, 1)
	assert.Equal(t, at, r.Devices[0].Address)

	// Ports that someone names are respected, although the other one answers.
	h.known, h.scanner.Trusted = nil, nil
	h.networks[0].Ports = ports(secure.URL)
	assert.Equal(t, secure.Listener.Addr().String(), one(h.scan()).Address)
	assert.Equal(t, 1, attempts)
}
