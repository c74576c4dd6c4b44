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
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"time"

	"catena/internal/firmware"
	"catena/internal/site"
)

// What can be wrong with a device; callers test with errors.Is.
var (
	ErrNotMine = errors.New("speaks another dialect")
	ErrAway    = errors.New("does not answer")
	ErrLocked  = errors.New("refuses the login")
	ErrRefused = errors.New("refuses")
	ErrOdd     = errors.New("answers what cannot be understood")
)

// Login is a user and a password. It shows neither when it is printed or logged.
type Login struct {
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
}

// Facts are what a device says of itself, cleaned.
type Facts struct {
	Name, Vendor, Model, Hardware, Serial, Version, UUID, Path string

	Services   []string          // what it offers while it is well
	Components map[string]string // versions of other components than the main one
}

// Clean returns the facts with every text made harmless.
func (f Facts) Clean() Facts {
	for _, s := range []*string{&f.Name, &f.Vendor, &f.Model, &f.Hardware, &f.Serial, &f.Version, &f.UUID} {
		*s = site.Clean(*s)
	}
	const most = 64 // services of one device; real ones have a dozen
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

// Into writes the facts that are known into a device. What the device did not say
// this time stays as it was; its name is not touched.
func (f Facts) Into(d *site.Device) {
	for _, p := range []struct{ from, to *string }{
		{&f.Vendor, &d.Vendor}, {&f.Model, &d.Model}, {&f.Hardware, &d.Hardware}, {&f.Serial, &d.Serial},
		{&f.Version, &d.Version}, {&f.UUID, &d.UUID}, {&f.Path, &d.Path},
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

// Outlook is what a device announces once it has an image.
type Outlook struct {
	RestartsAlone bool          // it restarts by itself
	Down          time.Duration // how long it expects to be away; 0: it did not say
}

// Dialect is one way of talking.
type Dialect interface {
	Name() string
	// Recognise asks without a login whether such a device answers there. It
	// returns ErrNotMine where something else does, and ErrAway or ErrOdd.
	Recognise(ctx context.Context, p Peer) (Facts, error)
	// Open starts a talk. It sends nothing yet.
	Open(p Peer) Talk
}

// Talk is a conversation with one device. It is for one goroutine, and outlives
// the device's restarts.
type Talk interface {
	// Read logs in and asks who the device is and what it runs.
	Read(ctx context.Context) (Facts, error)
	// Send sends the image and returns when the device has all of it.
	Send(ctx context.Context, u Upload) (Outlook, error)
	// Writing tells how far the device is with writing what it was sent, in
	// percent; at 100 it can restart. ErrRefused: it wants no more of it.
	Writing(ctx context.Context) (int, error)
	// Restart asks for a restart.
	Restart(ctx context.Context) error
	// Well returns an error that says what is wrong with the device. before are
	// the facts from when it was well.
	Well(ctx context.Context, before Facts) error
}

// Refused is an ErrRefused with the device's own words.
func Refused(words string) error { return fmt.Errorf("%w: %s", ErrRefused, site.Clean(words)) }

// Odd is an ErrOdd that says what was expected.
func Odd(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrOdd, fmt.Sprintf(format, args...))
}
