package server

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go/jetstream"

	"catena/internal/office"
)

// NoMachineError is returned where a machine is not one of the office.
type NoMachineError struct {
	Machine string // empty: none was named
	Are     []office.Machine
}

func (e *NoMachineError) Error() string {
	text := "this office is on several machines"
	if e.Machine != "" {
		text = e.Machine + " is none of the machines of this office"
	}
	text += ":"
	for _, m := range e.Are {
		text += " " + m.Address
	}
	return text
}

// join has the server be one of several. The machines know each other by the certificate of the
// office, whose key only they have.
func join(to *server.Options, o *office.Office, as string, pair tls.Certificate) error {
	all := o.Settings.Machines()
	if len(all) == 0 {
		if as != "" {
			return &NoMachineError{Machine: as,
				Are: []office.Machine{{Address: o.Settings.Address}}}
		}
		return nil
	}
	own := office.Fingerprint(pair.Certificate[0])
	to.Cluster = server.ClusterOpts{Name: "catena-office", NoAdvertise: true, TLSTimeout: 10,
		PoolSize: -1, TLSConfig: &tls.Config{Certificates: []tls.Certificate{pair},
			MinVersion: tls.VersionTLS13, ClientAuth: tls.RequireAnyClientCert,
			InsecureSkipVerify: true, // the certificate is known by its digest instead
			VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
				if len(raw) == 0 || office.Fingerprint(raw[0]) != own {
					return errors.New("it is not a machine of this office")
				}
				return nil
			}}}
	found := false
	for i, m := range all {
		if m.Address != as {
			to.Routes = append(to.Routes, &url.URL{Scheme: "nats-route", Host: m.Route})
			continue
		}
		found = true
		to.ServerName = fmt.Sprintf("catena-office-%d", i+1)
		host, port, _ := net.SplitHostPort(m.Address) // office.Open has checked both
		between, route, _ := net.SplitHostPort(m.Route)
		to.Cluster.Host = to.Host
		if ip := net.ParseIP(to.Host); ip == nil || !ip.IsUnspecified() {
			to.Host, to.Cluster.Host = host, between // not at every address of the machine
		}
		var err1, err2 error
		to.Port, err1 = strconv.Atoi(port)
		to.Cluster.Port, err2 = strconv.Atoi(route)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
	}
	if !found {
		return &NoMachineError{as, all}
	}
	return nil
}

const (
	sharedBucket = "office"
	sharedKey    = "sites"
	shareWithin  = 3 * time.Second // without a leader no answer comes
)

// share has all machines of an office know the same sites, and which of them were removed.
func share(ctx context.Context, js jetstream.JetStream, o *office.Office) error {
	within, cancel := context.WithTimeout(ctx, shareWithin)
	defer cancel()
	kv, err := js.KeyValue(within, sharedBucket)
	if errors.Is(err, jetstream.ErrBucketNotFound) {
		kv, err = js.CreateKeyValue(within, jetstream.KeyValueConfig{Bucket: sharedBucket,
			Storage: jetstream.FileStorage, Replicas: len(o.Settings.Machines())})
	}
	if err != nil {
		return err
	}
	var theirs []office.Site
	entry, err := kv.Get(within, sharedKey)
	switch {
	case errors.Is(err, jetstream.ErrKeyNotFound):
	case err != nil:
		return err
	default:
		if err := json.Unmarshal(entry.Value(), &theirs); err != nil {
			return err
		}
	}
	all, err := o.Meet(theirs)
	if err != nil {
		return err
	}
	raw, err := json.Marshal(all)
	switch {
	case err != nil:
		return err
	case entry == nil:
		_, err = kv.Create(within, sharedKey, raw)
	case string(raw) != string(entry.Value()):
		_, err = kv.Update(within, sharedKey, raw, entry.Revision())
	}
	return err
}

// awaited calls do until it succeeds: the machines of an office need each other.
func awaited(ctx context.Context, do func() error) error {
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
		if err := do(); err == nil {
			return nil
		}
	}
}
