// Package server runs the server of an office: NATS with JetStream and TLS, in this process. It makes
// a stream for each site of the office, and drops those whose credentials were revoked.
package server

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"path/filepath"
	"strconv"
	"time"

	"github.com/nats-io/jwt/v2"
	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go/jetstream"

	"catena/internal/office"
	"catena/internal/place"
)

// MaxMessage is the largest message that the server takes, in bytes: a part of a file.
const MaxMessage = 4 << 20

const (
	readyWithin = 20 * time.Second
	lookEvery   = time.Second // for sites that were added or removed
)

// Limits of a server.
type Limits struct {
	Site int64 // bytes of the record of one site; 0: none
}

// Run runs the server until ctx ends. ready is told where it listens, once sites can reach it.
func Run(ctx context.Context, o *office.Office, l Limits, log *slog.Logger, ready func(address string)) error {
	operator, account, key, err := o.Claims()
	if err != nil {
		return err
	}
	host, portText, err := net.SplitHostPort(o.Settings.Listen)
	if err != nil {
		return err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return fmt.Errorf("listen: %s is not a port", portText)
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	certificate, private := o.Certificate()
	pair, err := tls.LoadX509KeyPair(certificate, private)
	if err != nil {
		return err
	}
	resolver := &server.MemAccResolver{}
	if err := resolver.Store(key, account); err != nil {
		return err
	}
	s, err := server.NewServer(&server.Options{
		ServerName: "catena-office", Host: host, Port: port, NoSigs: true, NoLog: true,
		JetStream: true, StoreDir: filepath.Join(o.Dir, office.DataFolder), MaxPayload: MaxMessage + 64<<10,
		TrustedOperators: []*jwt.OperatorClaims{operator}, AccountResolver: resolver,
		TLS: true, TLSTimeout: 10, AuthTimeout: 10,
		TLSConfig:             &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS13},
		SyncAlways:            true, // what a site was told is stored is on the disk
		DisableShortFirstPing: true,
	})
	if err != nil {
		return err
	}
	s.SetLoggerV2(logger{log}, false, false, false)
	go s.Start()
	defer func() { s.Shutdown(); s.WaitForShutdown() }()
	if !s.ReadyForConnections(readyWithin) {
		return fmt.Errorf("the server does not start: is the port %d of %s in use?", port, host)
	}
	at := s.Addr().String()
	keeper, err := o.Keeper()
	if err != nil {
		return err
	}
	keeper.Address = at
	c, err := place.DialOffice(ctx, keeper)
	if err != nil {
		return fmt.Errorf("the server does not answer: %w", err)
	}
	defer c.Close()
	js, err := jetstream.New(c)
	if err != nil {
		return err
	}
	if err := reconcile(ctx, js, o, l); err != nil {
		return err
	}
	ready(at)
	known := account
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(lookEvery):
		}
		_, account, _, err := o.Claims()
		if err == nil && account != known {
			err = errors.Join(renew(s, key, account), reconcile(ctx, js, o, l))
		} else if err == nil {
			err = reconcile(ctx, js, o, l)
		}
		if err != nil && ctx.Err() == nil {
			log.Warn("the sites of the office could not be looked at; it is tried again", "err", err)
			continue
		}
		known = account
	}
}

// renew tells the server which credentials are revoked; it closes the connections that use them.
func renew(s *server.Server, key, account string) error {
	claims, err := jwt.DecodeAccountClaims(account)
	if err != nil {
		return err
	}
	a, err := s.LookupAccount(key)
	if err != nil {
		return err
	}
	s.UpdateAccountClaims(a, claims)
	return nil
}

// reconcile makes the streams of sites that have none. Nothing in one is ever replaced or removed: each
// subject has one message, which the first one to write it decides.
func reconcile(ctx context.Context, js jetstream.JetStream, o *office.Office, l Limits) error {
	sites, err := o.Sites()
	if err != nil {
		return err
	}
	for _, s := range sites {
		if !s.Active() {
			continue
		}
		if _, err := js.Stream(ctx, office.Stream(s.Name)); err == nil {
			continue
		} else if !errors.Is(err, jetstream.ErrStreamNotFound) {
			return err
		}
		limit := l.Site
		if limit <= 0 {
			limit = -1
		}
		_, err = js.CreateStream(ctx, jetstream.StreamConfig{Name: office.Stream(s.Name),
			Subjects: []string{office.Subject(s.Name) + ".>"}, Storage: jetstream.FileStorage,
			MaxMsgsPerSubject: 1, Discard: jetstream.DiscardNew, DiscardNewPerSubject: true,
			DenyDelete: true, DenyPurge: true, AllowDirect: true, MaxBytes: limit,
			Duplicates: time.Second})
		if err != nil {
			return err
		}
	}
	return nil
}

// logger passes on what the server warns of.
type logger struct{ to *slog.Logger }

func (l logger) say(level slog.Level, format string, args []any) {
	l.to.Log(context.Background(), level, "server: "+fmt.Sprintf(format, args...))
}
func (l logger) Noticef(format string, args ...any) { l.say(slog.LevelDebug, format, args) }
func (l logger) Warnf(format string, args ...any)   { l.say(slog.LevelInfo, format, args) }
func (l logger) Fatalf(format string, args ...any)  { l.say(slog.LevelError, format, args) }
func (l logger) Errorf(format string, args ...any)  { l.say(slog.LevelInfo, format, args) }
func (l logger) Debugf(string, ...any)              {}
func (l logger) Tracef(string, ...any)              {}
