// Package dialect says what a dialect is: how one kind of device talks.
//
// Its central types are Dialect, which recognises devices, and Talk, which reads
// one device, sends it an image, restarts it and tells whether it is well. A Talk
// does what it is asked, once; when to ask, how long to wait and what to make of
// the answers is the engine's. Nothing here retries a login: a wrong password is
// tried once.
//
// What a device answers is hostile until checked: every dialect bounds it in size
// and time and cleans its texts.
package dialect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware"
	"catena/internal/site"
)

// What can be wrong with a device; callers test with errors.Is.
var (
	ErrNotMine      = errors.New("speaks another dialect")
	ErrAway         = errors.New("does not answer")
	ErrLoginRefused = errors.New("refuses the login")
	// It would have the password in the clear. No login was sent.
	ErrPlain = errors.New("wants the password in the clear (Basic without TLS)")
	// The login is right, but before anything else the device wants a new password.
	ErrNewPassword = errors.New("wants a new password before anything else")
	// The login is right, but it may not read what it must.
	ErrNoRight = errors.New("tells its version only to an administrator")
	// Its certificate or key is another than before. No login was sent.
	ErrIdentityChanged = errors.New("is not the device that was here")
	ErrRefused         = errors.New("refuses")
	ErrMalformed       = errors.New("answers what cannot be understood")
)

// Login is a user and a password. It shows neither when it is printed or logged.
type Login struct {
	ID             string // names it without showing it; empty: given for this run
	User, Password string
}

func (l Login) String() string       { return "login" }
func (l Login) GoString() string     { return "login" }
func (l Login) LogValue() slog.Value { return slog.StringValue("login") }

// Peer is a device to talk to.
type Peer struct {
	Address string // host:port
	Path    string // where its service lives; empty: the dialect's usual place
	Login   Login
	TLS     bool
	// PlainBasic allows a password to be shown on the wire: HTTP Basic without TLS.
	PlainBasic bool
	// Trust is asked before anything is sent over a connection with a key of the
	// device's: kind is KeyTLS or KeySSH. Its error, an ErrIdentityChanged, ends the talk.
	Trust func(kind, fingerprint string) error
}

// Kinds of keys that Trust is asked about.
const (
	KeyTLS = "TLS certificate"
	KeySSH = "SSH host key"
	// KeySerial is the kind of what a device tells openly of itself.
	KeySerial = "serial number"
)

// IdentityChangedError is an ErrIdentityChanged that says what is another than before, and what to do.
func IdentityChangedError(host, kind, was, is string) error {
	return fmt.Errorf("%w: another %s than before, was %s, is %s; if that is right: catena login accept %s",
		ErrIdentityChanged, kind, site.Clean(was), site.Clean(is), host)
}

// VerifyIdentity looks, before a login is sent, whether the device that was known by this serial
// number is still at its address, as far as it tells that openly. Its error is an
// ErrIdentityChanged; who does not answer is for the login to find out.
func VerifyIdentity(ctx context.Context, r Reader, p Peer, serial string) error {
	f, err := r.Recognise(ctx, p)
	if errors.Is(err, ErrIdentityChanged) {
		return err
	}
	if err == nil && serial != "" && f.Serial != "" && !strings.EqualFold(serial, f.Serial) {
		return IdentityChangedError(site.Device{Address: p.Address}.Host(), KeySerial, serial, f.Serial)
	}
	return nil
}

// URL is the address of something on the device. The zone of an IPv6 link-local address
// is escaped as URLs want it (RFC 6874).
func (p Peer) URL(path string) string {
	return p.Scheme() + "://" + strings.ReplaceAll(p.Address, "%", "%25") + path
}

// Scheme is http or https.
func (p Peer) Scheme() string {
	if p.TLS {
		return "https"
	}
	return "http"
}

// Facts are what a device says of itself, cleaned.
type Facts struct {
	Name, Vendor, Model, Hardware, Serial, Version, UUID, Path string

	Says       string // what it said of itself in words: a description, a banner
	MAC        string // its hardware address
	Neighbours []site.Neighbour
	Behind     []string // what it says hangs behind it

	Services   []string          // what it offers while it is well
	Components map[string]string // versions of other components than the main one
}

// Clean returns the facts with every text made harmless.
func (f Facts) Clean() Facts {
	for _, s := range []*string{&f.Name, &f.Vendor, &f.Model, &f.Hardware, &f.Serial, &f.Version, &f.UUID, &f.Says} {
		*s = site.Clean(*s)
	}
	f.MAC = cleanMAC(f.MAC)
	const most = 64 // services of one device; real ones have a dozen
	f.Neighbours = slices.Clone(f.Neighbours[:min(len(f.Neighbours), maxNeighbours)])
	for i, n := range f.Neighbours {
		f.Neighbours[i] = site.Neighbour{Port: site.Clean(n.Port), Chassis: site.Clean(n.Chassis), Name: site.Clean(n.Name), Address: site.Clean(n.Address)}
	}
	f.Behind = slices.Clone(f.Behind[:min(len(f.Behind), maxNeighbours)])
	for i := range f.Behind {
		f.Behind[i] = site.Clean(f.Behind[i])
	}
	f.Services = f.Services[:min(len(f.Services), most)]
	for i := range f.Services {
		f.Services[i] = site.Clean(f.Services[i])
	}
	components := map[string]string{}
	for name, v := range f.Components {
		if name, v = site.Clean(name), site.Clean(v); name != "" && v != "" && name != firmware.Main && len(components) < most {
			components[name] = v
		}
	}
	f.Components = components
	return f
}

// maxNeighbours is how many neighbours of one device are kept; a large switch has 52
// ports.
const maxNeighbours = 256

// cleanMAC writes a hardware address as 02:00:5e:00:53:11; what is none, or is nobody's
// alone (all zeros, a group), is left out.
func cleanMAC(text string) string {
	mac, err := net.ParseMAC(strings.TrimSpace(text))
	if err != nil || len(mac) != 6 || mac[0]&1 == 1 || bytes.Equal(mac, make([]byte, 6)) {
		return ""
	}
	return mac.String()
}

// Into writes the facts that are known into a device. What the device did not say
// this time stays as it was; its name is not touched.
func (f Facts) Into(d *site.Device) {
	for _, p := range []struct{ from, to *string }{
		{&f.Vendor, &d.Vendor}, {&f.Model, &d.Model}, {&f.Hardware, &d.Hardware}, {&f.Serial, &d.Serial},
		{&f.Version, &d.Version}, {&f.UUID, &d.UUID}, {&f.Path, &d.Path}, {&f.MAC, &d.MAC}, {&f.Says, &d.Says},
	} {
		if *p.from != "" {
			*p.to = *p.from
		}
	}
	if len(f.Services) > 0 {
		d.Services = f.Services
	}
	if len(f.Components) > 0 {
		d.Components = f.Components
	}
	if len(f.Neighbours) > 0 {
		d.Neighbours = f.Neighbours
	}
	if len(f.Behind) > 0 {
		d.Behind = f.Behind
	}
}

// Of is the version of a component.
func (f Facts) Of(component string) string {
	if component == firmware.Main {
		return f.Version
	}
	return f.Components[component]
}

// Upload is an image on its way.
type Upload struct {
	Image     io.ReaderAt
	Component string // firmware.Main, or another that the device told of
	Size      int64  // bytes
	SHA256    string // hexadecimal
	Sent      func(bytes int64)
}

// Traits is what a device announces once it has an image.
type Traits struct {
	RestartsAlone bool          // it restarts by itself
	Down          time.Duration // how long it expects to be away; 0: it did not say
}

// Reader recognises a kind of devices and reads them.
type Reader interface {
	Name() string
	// Recognise asks without a login whether such a device answers there. It
	// returns ErrNotMine where something else does, and ErrAway or ErrMalformed.
	Recognise(ctx context.Context, p Peer) (Facts, error)
	// Read logs in and asks who the device is and what it runs.
	Read(ctx context.Context, p Peer) (Facts, error)
}

// Dialect is one way of talking.
type Dialect interface {
	Reader
	// Open starts a talk. It sends nothing yet.
	Open(p Peer) Talk
}

// Blinker is a Reader that can make a device show itself.
type Blinker interface {
	// Blink starts it or ends it, and says what the device does. output is what a
	// person named: an output of the device's, such as a relay; empty: what is made
	// for showing. ErrRefused: the device has nothing of the kind.
	Blink(ctx context.Context, p Peer, on bool, output string) (what string, err error)
}

// Talk is a conversation with one device. It is for one goroutine, and outlives
// the device's restarts.
type Talk interface {
	// Read logs in and asks who the device is and what it runs.
	Read(ctx context.Context) (Facts, error)
	// Send sends the image and returns when the device has all of it.
	Send(ctx context.Context, u Upload) (Traits, error)
	// Writing tells how far the device is with writing what it was sent, in
	// percent; at 100 it can restart. ErrRefused: it wants no more of it.
	Writing(ctx context.Context) (int, error)
	// Restart asks for a restart.
	Restart(ctx context.Context) error
	// Healthy returns an error that says what is wrong with the device. before are
	// the facts from when it was well.
	Healthy(ctx context.Context, before Facts) error
}

// Refused is an ErrRefused with the device's own words.
func Refused(words string) error { return fmt.Errorf("%w: %s", ErrRefused, site.Clean(words)) }

// Malformed is an ErrMalformed that says what was expected.
func Malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}
