// Package dialect defines a dialect: the protocol of one kind of device.
//
// A Dialect recognises devices and opens sessions. A Session reads one device and, where
// the device can, updates it, keeps its settings and makes it show itself. A session does
// what it is asked, once; when to ask, how long to wait and what to make of the answers
// is the engine's. Nothing here retries a login: a wrong password is tried once.
//
// Every error that is about the device is a *device.Cause.
package dialect

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/login"
	"catena/internal/settings"
	"catena/internal/text"
	"catena/internal/wire"
)

// At is where to talk to a device, and who is trusted there.
type At struct {
	device.Endpoint
	Trust wire.Trust // nil trusts every key
	// Parent is the parent of a child; nil: the device is reached directly.
	Parent *Parent
	Caller
}

// Parent is how the parent of a child is talked to.
type Parent struct {
	Contact
	Identity device.Identity // who it must be
	Shared   *SharedSession  // of all sessions with its children
}

// SharedSession is the common part of the sessions with the children of one parent: the login, and
// what else is open at the parent. It is safe for concurrent use, and its zero value is ready.
type SharedSession struct {
	mu     sync.Mutex
	shares Shared
	users  int
}

// Shared is what sessions share at a parent.
type Shared interface {
	// Leave closes it, once no child uses it any more; a later Acquire opens it again. Its error is
	// that of Session.Close.
	Leave(ctx context.Context) error
}

// Acquire returns the shared value, and opens it if necessary. Each Acquire and each Retain
// needs one Release.
func (m *SharedSession) Acquire(begin func() Shared) Shared {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.shares == nil {
		m.shares = begin()
	}
	m.users++
	return m.shares
}

// Retain keeps the shared session open while no child uses it, because more children will follow.
func (m *SharedSession) Retain() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.users++
}

// Release ends one Acquire or Retain. The last one closes the shared session.
func (m *SharedSession) Release(ctx context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.users--; m.users > 0 || m.shares == nil {
		return nil
	}
	return m.shares.Leave(ctx)
}

// Suspend closes the shared session until a child needs it again, because the parent itself is to
// be talked to: it may have one seat. Its error is that of Session.Close.
func (m *SharedSession) Suspend(ctx context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.shares == nil {
		return nil
	}
	return m.shares.Leave(ctx)
}

// Caller is what a session may ask of the program that runs it. Each field may be nil: then the
// program cannot do that.
type Caller struct {
	// TrustAt is who is trusted at another port of the device; nil trusts every key.
	TrustAt func(address string) wire.Trust
	// Other is how another device of the site is talked to. Who it is was verified.
	Other func(ctx context.Context, name string) (Contact, error)
	// Keep records what the session has started on the device, so that it is ended in any case:
	// the next session is given it by Kept. With nothing, all is ended. It is on disk before Keep
	// returns, encrypted where any of it is secret.
	Keep func(Kept) error
	Kept func() ([]byte, error)
	// Interlocks are those of the images that the device is to get, besides its family's.
	Interlocks []firmware.Interlock
	// Manual is for devices that a person updates; nil: Catena does.
	Manual *Manual
	// Ask has a person do something, and returns once they say that it is done. Its error is that
	// they will not, or that ctx is over. busy says that the device, or its parent, is busy
	// until then.
	Ask func(ctx context.Context, what string, busy bool) error
	// Shows reports what people see at the device from now on; nil: no one is told.
	Shows func(what string)
}

// Kept is what a session has started on a device. The zero Kept: all of it is ended.
type Kept struct {
	Raw     []byte
	Secret  bool // something of Raw is
	Entered bool // the device must be left
}

// Manual describes a device that an operator updates.
type Manual struct {
	Stick  string         // a folder that comes and goes; empty: there is none
	Folder string         // where its images are laid ready, on the stick
	How    string         // the operator's task, in words
	Within time.Duration  // how long they are waited for; 0: as usual
	Known  device.Reading // the declared reading, if the device cannot be read
}

// About describes a dialect to the rest of the program; nothing else about one
// is written down anywhere.
type About struct {
	Name string
	// Protocol is what people read; empty: the name.
	Protocol string
	// Rank orders the dialects that one device speaks: the lowest is the one to use. Those
	// that update come before those that only read.
	Rank      int
	Transport string   // tcp or udp; over udp a discovery protocol of its own finds devices
	Ports     []uint16 // where such devices usually answer
	// Form is the credential that an endpoint requires; nil: a user and a password.
	Form func(device.Endpoint) login.Form
	// Hint marks a dialect that recognises a device only by a hint, which anyone can give, such as
	// a greeting: no login goes there that is not for this very device or model.
	Hint bool
	// Lockout is the number of wrong logins after which such a device locks; 0: not known.
	Lockout int
	// Extends is the dialect by which devices are found and recognised that this one, too, can
	// talk to; empty: it recognises its own. Those that it Claims are talked to by it.
	Extends string
	Claims  func(device.Identity) bool
	// Better tells whether one endpoint of a device is better than another one of the same
	// dialect; nil: no.
	Better func(a, b device.Endpoint) bool
}

// Contact is how a known device is talked to.
type Contact struct {
	At       At
	As       login.Credential
	Protocol string // what people read of its dialect
}

// Dialect is one way of talking.
type Dialect interface {
	About() About
	// Probe asks without a login whether such a device answers there, and returns what it
	// tells openly. It returns device.ErrNotMine where something else answers, with what that
	// told of itself, if it did.
	Probe(ctx context.Context, at At) (device.Reading, error)
	// Open starts a session. It sends nothing yet.
	Open(at At, as login.Credential) Session
}

// Session is a conversation with one device. It is for one goroutine, and outlives the
// device's restarts. What a device can do may depend on data, so abilities are asked
// for: Update, Settings and Locate return device.ErrUnsupported.
type Session interface {
	// Read logs in and reads the identity and the version of the device.
	Read(ctx context.Context) (device.Reading, error)
	// Healthy returns the fault of the device. baseline is a reading from when it
	// was healthy.
	Healthy(ctx context.Context, baseline device.Reading) error
	// Update starts to move an image into a component. It sends nothing yet.
	Update(component string) (Update, error)
	// Settings are the device's own settings.
	Settings() (Settings, error)
	// Carry are single values that an update may lose.
	Carry() (Carry, error)
	// Network is where the device is in its network.
	Network() (Network, error)
	// Children are the devices that this one tells of, which are reached only through it.
	// device.ErrUnsupported: it cannot have any.
	Children(ctx context.Context) ([]device.Child, error)
	// Locate is how the device makes itself known to a person who looks for it.
	Locate() (Locator, error)
	// Close ends everything that the session opened on the device. Its error is device.ErrNotLeft if
	// something stays that must be undone: it is kept for the next session.
	Close(ctx context.Context) error
}

// Permitter is a session that can test, without changing anything, whether its login may update the
// device. The test's error is a NotPermittedError where it may not, device.ErrUnsupported where
// nothing harmless shows it, and otherwise that of a device that could not be asked.
type Permitter interface {
	Permission(ctx context.Context) error
}

// NotPermittedError is returned for a login that may read a device and not update it.
type NotPermittedError struct{ Why string }

func (e *NotPermittedError) Error() string { return "its login may not update it: " + e.Why }

// Permission tests whether the login of a session may update the device.
func Permission(ctx context.Context, s Session) error {
	if p, ok := s.(Permitter); ok {
		return p.Permission(ctx)
	}
	return device.ErrUnsupported
}

// PasswordSetter is implemented by sessions that can change the password of their own login.
// device.ErrUnsupported and device.ErrPlain mean that nothing was sent; after any other error the
// device may have either password.
type PasswordSetter interface {
	SetPassword(ctx context.Context, fresh string) error
}

// SetPassword changes the password of the login of a session.
func SetPassword(ctx context.Context, s Session, fresh string) error {
	if p, ok := s.(PasswordSetter); ok {
		return p.SetPassword(ctx, fresh)
	}
	return device.ErrUnsupported
}

// Vitals are what a device reports about itself besides its version.
type Vitals struct {
	Clock bool          // it reports its time
	Ahead time.Duration // how far its clock is ahead of this machine's; negative: behind
	// Storage: it reports its free storage, and Free is how much of it is free, in percent.
	Storage bool
	Free    float64
}

// Reporter is implemented by sessions that read Vitals, after a Read.
type Reporter interface {
	Vitals(ctx context.Context) (Vitals, error)
}

// VitalsOf reads the vitals of a device. A device that reports none has no error.
func VitalsOf(ctx context.Context, s Session) (Vitals, error) {
	if r, ok := s.(Reporter); ok {
		return r.Vitals(ctx)
	}
	return Vitals{}, nil
}

// Image is what an update sends.
type Image struct {
	io.ReaderAt
	Size   int64  // bytes
	SHA256 string // hexadecimal
	// What a person is told of it.
	File, Version string
}

// usualName is the name of an image whose own one a device might read differently.
const usualName = "image.bin"

// Name is the name under which a standard's own update hands on the image: that of its file, if it
// is of letters, digits and . _ - alone.
func (i Image) Name() string {
	name := path.Base(filepath.ToSlash(i.File))
	if !text.IsName(name) || len(name) > 128 || strings.ContainsFunc(name, func(r rune) bool {
		return r > unicode.MaxASCII
	}) {
		return usualName
	}
	return name
}

// Traits are what an update is like.
type Traits struct {
	RestartsByItself bool          // once it has the image
	Down             time.Duration // how long it announced to be away; 0: it did not say
	Restarts         int           // how often it restarts until it runs the image; 0: once
	Settle           time.Duration // how long it must stay well before it counts as proven
}

// Update moves one image into one component. The engine may record or crash between any
// two calls; the order of the calls is the engine's.
type Update interface {
	// Traits are known in full once the image was transferred.
	Traits() Traits
	// Interlock is what forbids the update now, a device.ErrNotNow; it changes nothing.
	Interlock(ctx context.Context) error
	// Ready returns what forbids the update now, and makes the device ready for the image. Nothing of
	// the image is sent yet.
	Ready(ctx context.Context, image Image) error
	// Transfer sends the image and returns when the device has all of it.
	Transfer(ctx context.Context, image Image, sent func(bytes int64)) error
	// Progress is how far the device is with writing, in percent; at 100 it can restart.
	// device.ErrRefused: it will not take the image, or holds none; device.ErrUnsupported: it
	// cannot be asked, and does all automatically.
	Progress(ctx context.Context) (percent int, err error)
	// Activate asks for the restart that makes the image run.
	Activate(ctx context.Context) error
	// Revert asks for the restart that makes the version in the other slot run.
	// device.ErrUnsupported: the component has one slot.
	Revert(ctx context.Context) error
}

// NoInterlocks is for updates that nothing forbids as far as is known.
type NoInterlocks struct{}

// Interlock finds nothing.
func (NoInterlocks) Interlock(context.Context) error { return nil }

func (NoInterlocks) unseen() {} // those of an image cannot be looked at

// OneSlot is for updates of components that have no other slot.
type OneSlot struct{}

// Revert is not supported.
func (OneSlot) Revert(context.Context) error { return device.ErrUnsupported }

// Network is where a device is in its network.
type Network interface {
	// Move gives it another address. It may restart, and answers there from then on: that it goes
	// away for this is device.ErrAway, and no failure. device.ErrUnsupported: it cannot be given a
	// name so; nothing was changed.
	Move(ctx context.Context, to NetworkConfig) error
}

// NetworkConfig is where a device is to be in its network.
type NetworkConfig struct {
	Address netip.Prefix
	Gateway netip.Addr // zero: as it is
	Name    string     // the device's own name, a label of RFC 1123; empty: unchanged
}

// NoNetwork is for sessions that cannot move a device.
type NoNetwork struct{}

// Network is not supported.
func (NoNetwork) Network() (Network, error) { return nil, device.ErrUnsupported }

// NoChildren is for sessions with devices that nothing is behind.
type NoChildren struct{}

// Children are not supported.
func (NoChildren) Children(context.Context) ([]device.Child, error) {
	return nil, device.ErrUnsupported
}

// NoSettings is for sessions that cannot tell a device's settings.
type NoSettings struct{}

// Settings are not supported.
func (NoSettings) Settings() (Settings, error) { return nil, device.ErrUnsupported }

// Settings are a device's own settings.
type Settings interface {
	// Format is how they are written; opaque ones are only kept and restored.
	Format() settings.Format
	// Renamed are settings that are called otherwise in other versions, by path; may be nil.
	Renamed() map[string]string
	// Steady tells whether they are as before after an update that keeps them: then the proof
	// compares.
	Steady() bool
	// Save returns them.
	Save(ctx context.Context) ([]byte, error)
	// Restore gives them back. The device may restart then.
	Restore(ctx context.Context, saved []byte) error
}

// Carry are single values of a device that are preserved over an update, such as counters.
type Carry interface {
	// Read returns them, in the order in which they are written.
	Read(ctx context.Context) ([]device.Value, error)
	// Write sends one of them back.
	Write(ctx context.Context, v device.Value) error
}

// NoCarry is for sessions that have none.
type NoCarry struct{}

// Carry is not supported.
func (NoCarry) Carry() (Carry, error) { return nil, device.ErrUnsupported }

// Locator makes a device show itself.
type Locator interface {
	// Show starts or ends it, and describes what the device does. output is named by an operator:
	// an output of the device, such as a relay; empty: the device's own indicator.
	// device.ErrRefused: the device has nothing of the kind.
	Show(ctx context.Context, on bool, output string) (what string, err error)
}

// ReadOnly is for sessions that only read.
type ReadOnly struct {
	NoSettings
	NoNetwork
	NoChildren
	NoCarry
}

// Update is not supported.
func (ReadOnly) Update(string) (Update, error) { return nil, device.ErrUnsupported }

// Locate is not supported.
func (ReadOnly) Locate() (Locator, error) { return nil, device.ErrUnsupported }

// Healthy is always so: nothing of it is known.
func (ReadOnly) Healthy(context.Context, device.Reading) error { return nil }

// Close has nothing to end.
func (ReadOnly) Close(context.Context) error { return nil }

// Registry is the dialects that this program has, by rank.
type Registry []Dialect

// NewRegistry brings dialects together. It panics where two have one name or one rank:
// that is a mistake in the program.
func NewRegistry(all ...Dialect) Registry {
	slices.SortFunc(all, func(a, b Dialect) int { return a.About().Rank - b.About().Rank })
	for i := 1; i < len(all); i++ {
		a, b := all[i-1].About(), all[i].About()
		if a.Rank == b.Rank || a.Name == b.Name {
			panic(fmt.Sprintf("the dialects %s and %s cannot be told apart", a.Name, b.Name))
		}
	}
	return all
}

// Named is the dialect of that name.
func (r Registry) Named(name string) (Dialect, bool) {
	i := slices.IndexFunc(r, func(d Dialect) bool { return d.About().Name == name })
	if i < 0 {
		return nil, false
	}
	return r[i], true
}

// Claiming is the name of the dialect by which a device is to be talked to that was recognised by
// another: one that extends that and claims it, else the same.
func (r Registry) Claiming(name string, i device.Identity) string {
	for _, d := range r {
		if a := d.About(); a.Extends == name && name != "" && a.Claims(i) {
			return a.Name
		}
	}
	return name
}

// Protocol is what people read of a dialect: the protocol that it speaks. One that is not known,
// because its family file is gone, is called by its name.
func (r Registry) Protocol(name string) string {
	if d, ok := r.Named(name); ok && d.About().Protocol != "" {
		return d.About().Protocol
	}
	return name
}

// Rank is a dialect's place; one that is not known comes last.
func (r Registry) Rank(name string) int {
	i := slices.IndexFunc(r, func(d Dialect) bool { return d.About().Name == name })
	if i < 0 {
		return len(r)
	}
	return i
}

// Over is the dialects of a transport, by rank.
func (r Registry) Over(transport string) Registry {
	return slices.DeleteFunc(slices.Clone(r), func(d Dialect) bool {
		return d.About().Transport != transport
	})
}

// Speaking is the dialects whose protocol is ssh, or those that go over HTTP: all others.
func (r Registry) Speaking(protocol string) Registry {
	return slices.DeleteFunc(slices.Clone(r), func(d Dialect) bool {
		return (d.About().Protocol == "ssh") != (protocol == "ssh")
	})
}

// Ports are where devices of these dialects usually answer.
func (r Registry) Ports() []uint16 {
	var out []uint16
	for _, d := range r {
		for _, p := range d.About().Ports {
			if !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out
}

// Form is the credential that an endpoint requires.
func (r Registry) Form(e device.Endpoint) login.Form {
	if d, ok := r.Named(e.Dialect); ok && d.About().Form != nil {
		return d.About().Form(e)
	}
	return login.UserPassword
}

// Better tells whether an endpoint is to be preferred to another one of its dialect.
func (r Registry) Better(a, b device.Endpoint) bool {
	d, ok := r.Named(a.Dialect)
	return ok && d.About().Better != nil && d.About().Better(a, b)
}

// Updates tells whether a device's main component can be updated.
func (r Registry) Updates(e device.Endpoint) bool {
	d, ok := r.Named(e.Dialect)
	if !ok {
		return false
	}
	_, err := d.Open(At{Endpoint: e}, login.Credential{}).Update("main")
	return err == nil
}
