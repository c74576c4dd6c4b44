// Package server runs the server of an office: NATS with JetStream and TLS, in this process. It
// makes a stream for each site of the office, and drops those whose credentials were revoked.
package server

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go/jetstream"

	"catena/internal/office"
	"catena/internal/place"
)

// MaxMessage is the largest message that the server takes, in bytes: a part of a file.
const MaxMessage = 4 << 20

// mostWork bounds what the machines of one site may say of their work, in bytes.
const mostWork = 64 << 20

const (
	readyWithin = 20 * time.Second
	lookEvery   = time.Second // for sites that were added or removed
	fullAgain   = time.Hour   // until it is told once more that the disk is full
)

// Options of a server.
type Options struct {
	SiteLimit int64 // bytes of the record of one site; 0: none
	// Machine is the address of this one, where the office is on several.
	Machine string
}

// ErrRunning is returned while another process runs the server of an office.
var ErrRunning = errors.New("another process runs this office")

// Run runs the server until ctx ends. ready is told where it listens, once sites can reach it;
// waiting before, if it needs other machines for that. Its
// errors are ErrRunning, a NoMachineError, and those of the folder and of the server.
func Run(ctx context.Context, o *office.Office, opts Options, log *slog.Logger,
	waiting, ready func(address string)) error {
	lock := flock.New(filepath.Join(o.Dir, "serve.lock"))
	if free, err := lock.TryLock(); err != nil || !free {
		return cmp.Or(err, ErrRunning)
	}
	defer func() { _ = lock.Unlock() }()
	claims, err := o.Claims()
	if err != nil {
		return err
	}
	s, err := start(o, claims, opts, log)
	if err != nil {
		return err
	}
	defer func() { s.Shutdown(); s.WaitForShutdown() }()
	at := s.Addr().String()
	js, err := dial(ctx, o, at)
	if err != nil {
		return err
	}
	defer js.Conn().Close()
	made := map[string]bool{} // sites that have all they need here
	several := len(o.Settings.Machines()) > 1
	look := func() (err error) {
		if several {
			err = share(ctx, js, o)
		}
		if err == nil {
			err = reconcile(ctx, js, o, opts, made)
		}
		return err
	}
	if err := look(); err != nil && !several {
		return err
	} else if err != nil {
		waiting(at)
		if awaited(ctx, look) != nil {
			return nil
		}
	}
	ready(at)
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(lookEvery):
		}
		now, err := o.Claims()
		if err == nil && !now.Same(claims) {
			err = renew(s, now)
		}
		if err == nil {
			claims = now
			err = look()
		}
		if err != nil && ctx.Err() == nil {
			log.Warn("the sites of the office could not be looked at; it is tried again", "err", err)
		}
	}
}

// dial connects the office with its own server.
func dial(ctx context.Context, o *office.Office, at string) (jetstream.JetStream, error) {
	keeper, err := o.Keeper()
	if err != nil {
		return nil, err
	}
	keeper.Address = at
	c, err := place.DialOffice(ctx, keeper, readyWithin)
	if err != nil {
		return nil, fmt.Errorf("the server does not answer: %w", err)
	}
	return jetstream.New(c)
}

// start starts the server, and returns once it takes connections.
func start(o *office.Office, claims office.Claims, opts Options,
	log *slog.Logger) (*server.Server, error) {
	host, portText, err := net.SplitHostPort(o.Settings.Listen)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, fmt.Errorf("listen: %s is not a port", portText)
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	pair, err := tls.LoadX509KeyPair(o.Certificate())
	if err != nil {
		return nil, err
	}
	resolver := &server.MemAccResolver{}
	if err := errors.Join(resolver.Store(claims.Key, claims.Account),
		resolver.Store(claims.System, claims.SystemIs)); err != nil {
		return nil, err
	}
	options := &server.Options{
		ServerName: "catena-office", Host: host, Port: port, NoSigs: true, NoLog: true,
		JetStream: true, StoreDir: filepath.Join(o.Dir, office.DataFolder),
		SyncAlways: true, // what a site was told is stored is on the disk
		// The disk is the limit: what the records may take at the most is more than what they take.
		JetStreamMaxStore: 1 << 62, JetStreamMaxMemory: 64 << 20,
		MaxPayload: MaxMessage + 64<<10,

		TrustedOperators: []*jwt.OperatorClaims{claims.Operator}, AccountResolver: resolver,
		SystemAccount: claims.System,

		TLS: true, TLSTimeout: 10, AuthTimeout: 10,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13},
	}
	if err := join(options, o, opts.Machine, pair); err != nil {
		return nil, err
	}
	s, err := server.NewServer(options)
	if err != nil {
		return nil, err
	}
	said := &logger{to: log}
	s.SetLoggerV2(said, false, false, false)
	go s.Start()
	if !s.ReadyForConnections(readyWithin) {
		s.Shutdown()
		return nil, fmt.Errorf("the server does not start at %s: %s", o.Settings.Listen, said.why())
	}
	return s, nil
}

// renew tells the server which credentials are revoked; it closes the connections that use them.
func renew(s *server.Server, now office.Claims) error {
	claims, err := jwt.DecodeAccountClaims(now.Account)
	if err != nil {
		return err
	}
	a, err := s.LookupAccount(now.Key)
	if err != nil {
		return err
	}
	s.UpdateAccountClaims(a, claims)
	return nil
}

// reconcile makes the streams of sites that have none. Nothing in one is ever replaced or removed:
// each subject has one message, which the first one to write it decides.
func reconcile(ctx context.Context, js jetstream.JetStream, o *office.Office, opts Options,
	made map[string]bool) error {
	sites, err := o.Sites()
	if err != nil {
		return err
	}
	copies := max(1, len(o.Settings.Machines()))
	for _, s := range sites {
		if !s.Active() || made[s.Name] {
			continue
		}
		if _, err := js.CreateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: office.Bucket(s.Name),
			Storage: jetstream.FileStorage, MaxBytes: mostWork, Replicas: copies}); err != nil &&
			!errors.Is(err, jetstream.ErrBucketExists) {
			return err
		}
		if _, err := js.Stream(ctx, office.Stream(s.Name)); err == nil {
			made[s.Name] = true
			continue
		} else if !errors.Is(err, jetstream.ErrStreamNotFound) {
			return err
		}
		limit := opts.SiteLimit
		if limit <= 0 {
			limit = -1
		}
		_, err = js.CreateStream(ctx, jetstream.StreamConfig{Name: office.Stream(s.Name),
			Subjects: []string{office.Subject(s.Name) + ".>"}, Storage: jetstream.FileStorage,
			MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
			DenyDelete: true, DenyPurge: true, MaxBytes: limit, Duplicates: time.Second,
			Replicas:    copies,
			AllowDirect: copies == 1, // of several machines one may not have the newest yet
		})
		if err != nil {
			return err
		}
		made[s.Name] = true
	}
	return nil
}

// logger passes on what the server warns of, and keeps what it failed on.
type logger struct {
	to   *slog.Logger
	mu   sync.Mutex
	last string
	full time.Time // when it was last told that the disk is full
}

func (l *logger) say(level slog.Level, format string, args []any) {
	text := fmt.Sprintf(format, args...)
	if strings.Contains(text, "no space left on device") {
		l.mu.Lock()
		if time.Since(l.full) > fullAgain {
			l.full = time.Now()
			l.to.Warn("the disk is full: sites cannot sync until there is room")
		}
		l.mu.Unlock()
	}
	if level == slog.LevelError {
		l.mu.Lock()
		l.last = text
		l.mu.Unlock()
	}
	if level != slog.LevelError { // that one is returned
		l.to.Log(context.Background(), level, "server: "+text)
	}
}

// why is what the server failed on.
func (l *logger) why() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return cmp.Or(l.last, "it gives no reason")
}

func (l *logger) Noticef(string, ...any)            {}
func (l *logger) Warnf(format string, args ...any)  { l.say(slog.LevelInfo, format, args) }
func (l *logger) Fatalf(format string, args ...any) { l.say(slog.LevelError, format, args) }
func (l *logger) Errorf(format string, args ...any) { l.say(slog.LevelInfo, format, args) }
func (l *logger) Debugf(string, ...any)             {}
func (l *logger) Tracef(string, ...any)             {}
