// Package device holds what is known about one device: who it is (Identity), where it
// is talked to (Endpoint), what it said when it was read (Reading), and all of that
// together with how far Catena gets with it (Device). It is pure.
//
// Every text in these types comes from a device and has passed text.Clean.
package device

import (
	"bytes"
	"cmp"
	"encoding/json"
	"net"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/text"
)

// Access says how far Catena gets with a device.
type Access string

const (
	OK           Access = "ok"            // it was read
	LoginRefused Access = "login-refused" // it answers, but no login that is known opens it
	// its certificate, host key or serial number is not the trusted one
	IdentityChanged Access = "identity-changed"
	// it takes connections and answers nothing that can be understood
	Silent Access = "silent"
	// it answers, but Catena does not know how to read it
	Unreadable Access = "unreadable"
	Away       Access = "away" // it was known, and does not answer now
)

// Identity says which device it is. What a device does not tell is empty.
type Identity struct {
	Vendor   string `json:"vendor,omitempty"`
	Model    string `json:"model,omitempty"`
	Hardware string `json:"hardware,omitempty"` // revision
	Serial   string `json:"serial,omitempty"`
	UUID     string `json:"uuid,omitempty"`
	MAC      string `json:"mac,omitempty"` // MAC address: 02:00:5e:00:53:11
}

// fields are pointers to all fields: whatever is done to each of them is done here once.
func (i *Identity) fields() []*string {
	return []*string{&i.Vendor, &i.Model, &i.Hardware, &i.Serial, &i.UUID, &i.MAC}
}

// Other tells by what another identity shows that it belongs to another device: by its
// serial number or its model, and where one of them tells no serial number, by its MAC
// address or its UUID. What one of them does not tell shows nothing. nil: nothing does.
func (i Identity) Other(now Identity) *Cause {
	same := i.Serial != "" && strings.EqualFold(i.Serial, now.Serial)
	for _, f := range []struct {
		key, was, is string
		counts       bool
	}{
		{KeySerial, i.Serial, now.Serial, true}, {KeyModel, i.Model, now.Model, true},
		{KeyMAC, i.MAC, now.MAC, !same}, {KeyUUID, i.UUID, now.UUID, !same},
	} {
		if f.counts && f.was != "" && f.is != "" && !strings.EqualFold(f.was, f.is) {
			return IdentityChangedError(f.key, f.was, f.is)
		}
	}
	return nil
}

// Endpoint is where and how a device is talked to.
type Endpoint struct {
	Dialect string `json:"dialect,omitempty"`
	// host:port; port 0: it is not talked to at any
	Address string `json:"address"`
	// http, https; empty: the dialect's only one
	Scheme string `json:"scheme,omitempty"`
	// where its service is; empty: the dialect's usual place
	Path            string `json:"path,omitempty"`
	ProtocolVersion string `json:"protocol_version,omitempty"` // where it matters: v1, v2c, v3
	Open            bool   `json:"open,omitempty"`             // it can be read without a login
	// The ID of the parent that it is reached through, of a child; it has no address then, and Unit
	// tells which of that one's children it is, whatever its place among them.
	Through string `json:"through,omitempty"`
	Unit    string `json:"unit,omitempty"`
}

// Secure tells whether it is talked to over TLS.
func (e Endpoint) Secure() bool { return e.Scheme == "https" }

// URL is the address of something on the device. The zone of an IPv6 link-local
// address is escaped as URLs require it (RFC 6874).
func (e Endpoint) URL(path string) string {
	scheme := e.Scheme
	if scheme == "" {
		scheme = "http"
	}
	return scheme + "://" + strings.ReplaceAll(e.Address, "%", "%25") + path
}

// Host is the address without its port, and without an IPv6 zone.
func (e Endpoint) Host() string {
	a, err := netip.ParseAddrPort(e.Address)
	if err != nil {
		return e.Address
	}
	return a.Addr().Unmap().WithZone("").String()
}

// Reading is a device's report about itself. Fields that it did not report are empty.
type Reading struct {
	Identity
	Called     string            `json:"called,omitempty"`     // its own name
	Version    string            `json:"version,omitempty"`    // the version of its main component
	Components map[string]string `json:"components,omitempty"` // versions of the others, by name
	Services   []string          `json:"services,omitempty"`   // its services while it is healthy
	Says       string            `json:"says,omitempty"`       // in words: a description, a banner
	Neighbours []Neighbour       `json:"neighbours,omitempty"` // the neighbours at its ports
	// its downstream devices: serial numbers, names or addresses
	Downstream []string `json:"behind,omitempty"`
	// Idle are the versions in the other slots of components that have two, by name; an empty
	// version: the slot is empty, or cannot be started.
	Idle map[string]string `json:"idle,omitempty"`
	// the number of wrong logins after which it locks; 0: it does not report one
	Lockout int `json:"lockout,omitempty"`
	// Forbids is what forbids an update of a component now, in the words of an interlock; empty: none
	// of those that are known. A component that has no interlocks is missing.
	Forbids map[string]string `json:"forbids,omitempty"`

	// What follows is of the moment: it is not kept with the device (Over).
	Boot *Boot `json:"boot,omitempty"`
	// a digest of its settings, where the engine has read them, and under which name they are kept
	Settings string `json:"settings,omitempty"`
	Saved    string `json:"saved,omitempty"`
	// values that are preserved over an update, in the order in which they are written
	Carried []Value `json:"carried,omitempty"`
}

// Value is a single value of a device, as JSON.
type Value struct {
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"`
}

// Among tells whether a value is one of a device's values.
func (v Value) Among(all []Value) bool {
	return slices.ContainsFunc(all, func(o Value) bool {
		return o.Name == v.Name && bytes.Equal(o.Value, v.Value)
	})
}

// Child is a device that another one, its parent, tells of.
type Child struct {
	Dialect string `json:"family,omitempty"`  // by which it is talked to, through its parent
	Unit    string `json:"unit"`              // which one it is, whatever its place
	Trouble *Cause `json:"trouble,omitempty"` // why it cannot be talked to; nil: it can
	Reading
}

// Boot is a device's report about its last start. Fields that it did not report are 0.
type Boot struct {
	Uptime time.Duration `json:"uptime,omitempty"` // JSON: ns
	Count  int64         `json:"count,omitempty"`  // of its starts so far, or what else rises by each
}

// bootSlack is how far apart two readings of one uptime may be: devices round, and answers take
// time.
const bootSlack = 5 * time.Second

// After reports whether the device has restarted between an earlier reading and this one, which was
// taken later by elapsed: it counts more starts, or it has been up for less time than it would have
// been without a restart. A count or an uptime that either reading lacks proves nothing.
func (b *Boot) After(before *Boot, elapsed time.Duration) bool {
	if b == nil || before == nil {
		return false
	}
	if before.Count > 0 && b.Count > 0 {
		return b.Count > before.Count
	}
	return b.Uptime > 0 && before.Uptime > 0 &&
		(b.Uptime < before.Uptime || b.Uptime+bootSlack+elapsed/100 < before.Uptime+elapsed)
}

// Neighbour is the device at the other end of a port (IEEE 802.1AB, LLDP).
type Neighbour struct {
	Port    string `json:"port"`              // of the device that sees it
	Chassis string `json:"chassis,omitempty"` // the neighbour's MAC address, where it told one
	Name    string `json:"name,omitempty"`
	Address string `json:"address,omitempty"` // for its management
}

// Bounds of one reading: real devices have a dozen services and components, a large
// switch has 52 ports.
const (
	maxServices   = 64
	maxNeighbours = 256
)

// Clean returns the device with every text made harmless, for one that comes from a file: a ledger
// or a pack may be someone else's. What is not a name and not its address is reduced to one.
func (d Device) Clean() Device {
	d.Reading = d.Reading.Clean()
	for _, s := range []*string{&d.ID, &d.Address, &d.Scheme, &d.Dialect, &d.Path, &d.ProtocolVersion,
		&d.Through,
		&d.Unit, &d.Login, &d.Moved} {
		*s = text.Clean(*s)
	}
	if address := strings.TrimSuffix(d.Address, ":0"); d.Name != address && !text.IsName(d.Name) {
		if _, err := netip.ParseAddrPort(d.Name); err != nil {
			d.Name = cmp.Or(text.Name(d.Name), address, d.ID)
		}
	}
	for i := range d.FoundVia {
		d.FoundVia[i] = text.Clean(d.FoundVia[i])
	}
	if d.Right != nil {
		r := *d.Right
		r.Login, r.Why = text.Clean(r.Login), text.Clean(r.Why)
		r.Result = Granted(text.Clean(string(r.Result)))
		d.Right = &r
	}
	if d.Trouble != nil {
		c := *d.Trouble
		for _, s := range []*string{&c.Detail, &c.Key, &c.Was, &c.Now} {
			*s = text.Harmless(*s)
		}
		d.Trouble = &c
	}
	return d
}

// Clean returns the reading with every text made harmless and every list bounded.
func (r Reading) Clean() Reading {
	for _, s := range append(r.fields(), &r.Called, &r.Version, &r.Says) {
		*s = text.Clean(*s)
	}
	r.MAC = CleanMAC(r.MAC)
	clean := func(list []string, most int) []string {
		out := slices.Clone(list[:min(len(list), most)])
		for i := range out {
			out[i] = text.Clean(out[i])
		}
		return out
	}
	r.Services, r.Downstream = clean(r.Services, maxServices), clean(r.Downstream, maxNeighbours)
	r.Neighbours = slices.Clone(r.Neighbours[:min(len(r.Neighbours), maxNeighbours)])
	for i, n := range r.Neighbours {
		r.Neighbours[i] = Neighbour{text.Clean(n.Port), text.Clean(n.Chassis), text.Clean(n.Name),
			text.Clean(n.Address)}
	}
	versions := func(of map[string]string, keep func(name, v string) bool) map[string]string {
		out := map[string]string{}
		for name, v := range of {
			name, v = text.Clean(name), text.Clean(v)
			if name != "" && keep(name, v) && len(out) < maxServices {
				out[name] = v
			}
		}
		return out
	}
	r.Components = versions(r.Components, func(name, v string) bool {
		return v != "" && name != firmware.Main
	})
	r.Idle = versions(r.Idle, func(string, string) bool { return true })
	if r.Forbids != nil {
		r.Forbids = versions(r.Forbids, func(string, string) bool { return true })
	}
	return r
}

// Over returns the reading with what it leaves out taken from an older one.
func (r Reading) Over(older Reading) Reading {
	if r.Forbids == nil && r.Version == "" { // it was not read
		r.Forbids = older.Forbids
	}
	from := append(older.fields(), &older.Called, &older.Version, &older.Says)
	for i, to := range append(r.fields(), &r.Called, &r.Version, &r.Says) {
		if *to == "" {
			*to = *from[i]
		}
	}
	if len(r.Components) == 0 {
		r.Components = older.Components
	}
	if len(r.Services) == 0 {
		r.Services = older.Services
	}
	if len(r.Neighbours) == 0 {
		r.Neighbours = older.Neighbours
	}
	if len(r.Downstream) == 0 {
		r.Downstream = older.Downstream
	}
	if len(r.Idle) == 0 {
		r.Idle = older.Idle
	}
	if r.Lockout == 0 {
		r.Lockout = older.Lockout
	}
	r.Boot, r.Settings, r.Saved, r.Carried = nil, "", "", nil
	return r
}

// Of is the version of a component.
func (r Reading) Of(component string) string {
	if component == firmware.Main {
		return r.Version
	}
	return r.Components[component]
}

// Keeps tells whether a component's other slot keeps a version: then a switch brings it back.
func (r Reading) Keeps(component string, is func(v string) bool) bool {
	v := r.Idle[component]
	return v != "" && is(v)
}

// CleanMAC writes a MAC address as 02:00:5e:00:53:11. What is not one, or does not
// belong to one device alone (all zeros, a group), becomes empty.
func CleanMAC(s string) string {
	mac, err := net.ParseMAC(strings.TrimSpace(s))
	if err != nil || len(mac) != 6 || mac[0]&1 == 1 || bytes.Equal(mac, make([]byte, 6)) {
		return ""
	}
	return mac.String()
}

// Device is a known device.
type Device struct {
	ID       string `json:"id"`   // given once by the ledger: d and nine digits
	Name     string `json:"name"` // unique within the site
	Endpoint `json:"endpoint"`
	Reading  `json:"reading"`
	FoundVia []string `json:"found_via,omitempty"` // the discovery protocols that found it
	Access   Access   `json:"access"`
	Trouble  *Cause   `json:"trouble,omitempty"` // why Access is not ok

	// Kind is camera, switch, controller ...; who matches the device sets it. Empty: not known.
	Kind string `json:"-"`
	// a person gave the name; the device's own is not used
	Named bool   `json:"named,omitempty"`
	Login string `json:"login,omitempty"` // the ID of the login that worked last
	// the address at which it was known, where it has moved and only its own word says that it
	// is the same: its own login is not sent to the new address until a person accepts that
	Moved string `json:"moved,omitempty"`
	// IDs of logins that it refused; they are not tried again unasked
	Refused []string `json:"refused,omitempty"`
	// Right is what a test of the login for changes has shown; nil: there was none.
	Right *Right `json:"right,omitempty"`
}

// Right is whether a login may change a device, as far as that could be tested without a change.
type Right struct {
	Login  string    `json:"login,omitempty"` // its ID; empty: it was given for one run
	Result Granted   `json:"result"`
	Why    string    `json:"why,omitempty"` // of Denied: in the device's words
	At     time.Time `json:"at"`            // of the test
}

// Granted is the result of a test.
type Granted string

const (
	Yes      Granted = "yes"      // the login may change the device
	Denied   Granted = "no"       // it may not
	Untested Granted = "untested" // nothing harmless shows it: only reading was tested
)

// MayChange is what is known of the right of the login that the device is read with; nil: nothing.
func (d Device) MayChange() *Right {
	if d.Right == nil || d.Right.Login != d.Login {
		return nil
	}
	return d.Right
}

// IsKind tells whether a kind of devices may be called so.
func IsKind(kind string) bool {
	return kind != "" && len(kind) <= 32 && kind[0] != '-' &&
		strings.Trim(kind, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
}

// Equal tells whether nothing differs that would be kept.
func (d Device) Equal(other Device) bool {
	a, errA := json.Marshal(d)
	b, errB := json.Marshal(other)
	return errA == nil && errB == nil && bytes.Equal(a, b)
}

// Known tells whether Catena can talk to the device at all.
func (d Device) Known() bool { return d.Dialect != "" }

// Is tells whether a person who writes word means exactly this device: by its ID, its
// name, its address with or without port, its serial number or its MAC address,
// in any of the usual ways to write one.
func (d Device) Is(word string) bool {
	if slices.Contains([]string{d.ID, d.Address, d.Host()}, word) ||
		strings.EqualFold(d.Name, word) {
		return true
	}
	return d.Serial != "" && strings.EqualFold(d.Serial, word) || d.MAC != "" &&
		d.MAC == CleanMAC(word)
}

// Answers tells whether pattern means this device: as Is, or as its name with the
// wildcards * and ?.
func (d Device) Answers(pattern string) bool {
	if d.Is(pattern) {
		return true
	}
	ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(d.Name))
	return err == nil && ok
}

// Kinds of keys.
const (
	KeyTLS = "TLS certificate"
	KeySSH = "SSH host key"
	// What a device says of itself.
	KeySerial = "serial number"
	// KeyShown is whether a device shows its serial number without a login: Shown or NotShown. One
	// that has shown it and shows none any more may be another one.
	KeyShown = "serial number before a login"
	KeyModel = "model"
	KeyMAC   = "MAC address"
	KeyUUID  = "UUID"
)

// What a Key of the kind KeyShown says.
const (
	Shown    = "shown"
	NotShown = "not shown"
)

// Key is evidence of a device's identity at an address: a certificate, a host key, a
// serial number. Trusted at the first contact, it must be the same ever after.
type Key struct {
	Address     string `json:"address"` // host:port
	Kind        string `json:"kind"`
	Fingerprint string `json:"fingerprint"`
}

// Host is the key's address without its port.
func (k Key) Host() string { return Endpoint{Address: k.Address}.Host() }

// Why is the sentence of the device's trouble; empty: it has none.
func (d Device) Why() string { return d.Trouble.Error() }
