package dialect

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"catena/internal/site"
)

// Bounds of what a device may take and give over HTTP.
const (
	dialWithin   = 4 * time.Second
	answerWithin = 15 * time.Second // for a small question, from first to last byte
	stallAfter   = 60 * time.Second // without a byte going out, a transfer is given up
	verdictIn    = 5 * time.Minute  // from the last byte to the answer: some write first
	maxAnswer    = 256 << 10        // bytes
	maxHeader    = 64 << 10         // bytes
)

// client talks to devices: without a proxy, without following a device to
// another host, and on a new connection each time, because devices restart.
var client = &http.Client{
	Transport: &http.Transport{
		DialContext:            dial,
		DialTLSContext:         dialTLS,
		DisableKeepAlives:      true,
		DisableCompression:     true,
		MaxResponseHeaderBytes: maxHeader,
		ExpectContinueTimeout:  2 * time.Second,
		WriteBufferSize:        64 << 10,
	},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// sendBuffer is what the system may hold of a transfer. A larger one would let
// the progress run ahead of the device.
const sendBuffer = 256 << 10

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialWithin}
	c, err := d.DialContext(ctx, network, address)
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.SetWriteBuffer(sendBuffer)
	}
	return c, err
}

// trustKey is where a request's context holds the Peer's Trust.
type trustKey struct{}

// dialTLS connects and shows the device's certificate to Trust before anything else is
// sent. Devices sign their certificates themselves: what counts is that it is the same
// as at the first contact, not who signed it.
func dialTLS(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	trust, _ := ctx.Value(trustKey{}).(func(kind, fingerprint string) error)
	t := tls.Client(c, &tls.Config{
		InsecureSkipVerify: true, // see above
		MinVersion:         tls.VersionTLS10,
		VerifyConnection: func(state tls.ConnectionState) error {
			if len(state.PeerCertificates) == 0 {
				return errors.New("no certificate")
			}
			if trust == nil {
				return nil
			}
			return trust(KeyTLS, Fingerprint(state.PeerCertificates[0].Raw))
		},
	})
	if err := t.HandshakeContext(ctx); err != nil {
		_ = c.Close()
		return nil, err
	}
	return t, nil
}

// Fingerprint is how a key is shown: SHA256 and the digest in base64, as SSH has it.
func Fingerprint(key []byte) string {
	sum := sha256.Sum256(key)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}

// Answer is a device's answer to one request.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte // at most 256 KiB
}

// Ask sends a small request to p and reads the whole answer. Its errors are ErrAway,
// ErrMalformed and ErrIdentityChanged.
func Ask(ctx context.Context, p Peer, r *http.Request) (Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	if p.Trust != nil {
		ctx = context.WithValue(ctx, trustKey{}, p.Trust)
	}
	resp, err := client.Do(r.WithContext(ctx))
	if err != nil {
		return Answer{}, away(ctx, err)
	}
	return read(ctx, resp)
}

func read(ctx context.Context, resp *http.Response) (Answer, error) {
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	switch {
	case err != nil:
		return Answer{}, away(ctx, err)
	case len(body) > maxAnswer:
		return Answer{}, Malformed("an answer of more than %d KiB", maxAnswer>>10)
	}
	return Answer{resp.StatusCode, resp.Header, body}, nil
}

// away says in a few words why a device does not answer. What the person ended
// is not the device's fault and stays the context's error.
func away(ctx context.Context, err error) error {
	var timeout net.Error
	var op *net.OpError
	switch {
	case errors.Is(err, ErrIdentityChanged):
		if inner := errors.Unwrap(err); inner != nil && errors.Is(inner, ErrIdentityChanged) {
			return inner // without the address
		}
		return err
	case errors.Is(ctx.Err(), context.Canceled):
		if cause := context.Cause(ctx); errors.Is(cause, ErrAway) {
			return cause
		}
		return ctx.Err()
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return fmt.Errorf("%w in time", ErrAway)
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Errorf("%w: %v", ErrAway, op.Err)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%w: it closed the connection", ErrAway)
	case op != nil:
		return fmt.Errorf("%w: %v", ErrAway, op.Err)
	}
	if inner := errors.Unwrap(err); inner != nil {
		err = inner // without the address, which the message around it has
	}
	return Malformed("%s", site.Clean(err.Error()))
}

// Transfer sends an image as the body of r and returns the device's answer. It
// ends a transfer only when for a minute not one byte has gone out, or five
// minutes after the last byte no answer has come; both are ErrAway.
func Transfer(ctx context.Context, p Peer, r *http.Request, u Upload) (Answer, error) {
	if p.Trust != nil {
		ctx = context.WithValue(ctx, trustKey{}, p.Trust)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	body := &outgoing{upload: u}
	body.stall = time.AfterFunc(stallAfter, func() {
		cancel(fmt.Errorf("%w: it took %d of %d bytes and then no more", ErrAway, body.at.Load(), u.Size))
	})
	defer body.stall.Stop()
	r = r.WithContext(ctx)
	r.Body, r.ContentLength = io.NopCloser(body), u.Size
	r.Header.Set("Expect", "100-continue") // a refusal comes before the body
	resp, err := client.Do(r)
	if err != nil {
		return Answer{}, away(ctx, err)
	}
	return read(ctx, resp)
}

// outgoing reads an image for the wire, tells how far it is, and winds the clock
// that ends a stalled transfer.
type outgoing struct {
	upload Upload
	at     atomic.Int64
	stall  *time.Timer
}

func (o *outgoing) Read(p []byte) (int, error) {
	at := o.at.Load()
	if at >= o.upload.Size {
		return 0, io.EOF
	}
	n, err := o.upload.Image.ReadAt(p[:min(int64(len(p)), o.upload.Size-at)], at)
	at += int64(n)
	o.at.Store(at)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	wait := stallAfter
	if at == o.upload.Size {
		wait = verdictIn
	}
	o.stall.Reset(wait)
	if o.upload.Sent != nil {
		o.upload.Sent(at)
	}
	return n, err
}
