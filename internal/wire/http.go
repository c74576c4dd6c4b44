// Package wire holds the bounded transports on which Catena talks to devices. What
// comes over them is bounded in size and time; whom they talk to is checked before
// anything is sent.
package wire

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"catena/internal/device"
	"catena/internal/login"
)

// Bounds of what a device may take and give over HTTP.
const (
	dialWithin   = 4 * time.Second
	answerWithin = 15 * time.Second // for a small question, from first to last byte
	stallAfter   = 60 * time.Second // without a byte going out, a transfer is given up
	verdictIn    = 5 * time.Minute  // from the last byte to the answer: some write first
	maxAnswer    = 256 << 10        // bytes
	maxHeader    = 64 << 10         // bytes
	// sendBuffer is what the system may hold of a transfer. A larger one would let the
	// progress run ahead of the device.
	sendBuffer = 256 << 10
)

// Trust is asked before anything is sent over a connection that shows a key: kind is
// device.KeyTLS or device.KeySSH. Its error, a device.ErrIdentityChanged, ends the
// connection. nil trusts every key.
type Trust func(kind, fingerprint string) error

// HTTP is the bounded client of one session. It uses no proxy, follows no redirect, and
// makes a new connection for each request, because devices restart.
type HTTP struct {
	client *http.Client
	trust  Trust
	own    *tls.Certificate
}

// NewHTTP makes a client whose TLS connections are shown to trust first.
func NewHTTP(trust Trust) *HTTP {
	h := &HTTP{trust: trust}
	h.client = &http.Client{
		Transport: &http.Transport{
			DialContext:            dial,
			DialTLSContext:         h.dialTLS,
			DisableKeepAlives:      true,
			DisableCompression:     true,
			MaxResponseHeaderBytes: maxHeader,
			ExpectContinueTimeout:  2 * time.Second,
			WriteBufferSize:        64 << 10,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		},
	}
	return h
}

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialWithin}
	c, err := d.DialContext(ctx, network, address)
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.SetWriteBuffer(sendBuffer)
	}
	return c, err
}

// With is the client that shows the login's certificate to who asks for one (RFC 8446, 4.3.2). It
// is not a secret: its private key stays here.
func (h *HTTP) With(as login.Credential) *HTTP {
	if as.Certificate != "" { // that they belong together was checked when they were added
		if own, err := tls.X509KeyPair([]byte(as.Certificate), []byte(as.Key)); err == nil {
			h.own = &own
		}
	}
	return h
}

// dialTLS shows the device's certificate to trust before anything else is sent. Devices
// sign their certificates themselves: what counts is that it is the one of the first
// contact, not who signed it.
func (h *HTTP) dialTLS(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	t := tls.Client(c, &tls.Config{
		InsecureSkipVerify: true, // see above
		MinVersion:         tls.VersionTLS10,
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			if h.own == nil {
				return &tls.Certificate{}, nil // as who has none
			}
			return h.own, nil
		},
		VerifyConnection: func(state tls.ConnectionState) error {
			if len(state.PeerCertificates) == 0 {
				return errors.New("no certificate")
			}
			if h.trust == nil {
				return nil
			}
			return h.trust(device.KeyTLS, Fingerprint(state.PeerCertificates[0].Raw))
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
	Body   []byte // bounded
}

// Ask sends a small request and reads the whole answer. Its errors are causes: no
// answer, malformed, or a changed identity.
func (h *HTTP) Ask(ctx context.Context, r *http.Request) (Answer, error) {
	return h.fetch(ctx, r, answerWithin, maxAnswer)
}

// Bounds of what is fetched as a whole, such as a device's settings.
const (
	fetchWithin = 2 * time.Minute
	maxFetch    = 32 << 20 // bytes
)

// Fetch is Ask for an answer that may be long: at most 32 MiB, within two minutes.
func (h *HTTP) Fetch(ctx context.Context, r *http.Request) (Answer, error) {
	return h.fetch(ctx, r, fetchWithin, maxFetch)
}

func (h *HTTP) fetch(ctx context.Context, r *http.Request, within time.Duration, most int) (Answer,
	error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	resp, err := h.client.Do(r.WithContext(ctx))
	if err != nil {
		return Answer{}, cause(ctx, err)
	}
	return readAnswer(ctx, resp, most)
}

// Read is Ask for a request that only reads, and has no body: it is asked once more where the
// device breaks the connection off before it has answered.
func (h *HTTP) Read(ctx context.Context, r *http.Request) (Answer, error) {
	a, err := h.Ask(ctx, r)
	if BrokenOff(err) && ctx.Err() == nil {
		return h.Ask(ctx, r.Clone(ctx))
	}
	return a, err
}

// TooLate tells whether an error is that no whole answer came in time.
func TooLate(err error) bool {
	var cause *device.Cause
	return errors.As(err, &cause) && cause.Detail == device.NotInTime
}

// BrokenOff tells whether an error is that the device was there, and went before it answered.
func BrokenOff(err error) bool {
	var cause *device.Cause
	return errors.As(err, &cause) && cause.Detail == device.BrokenOff
}

func readAnswer(ctx context.Context, resp *http.Response, most int) (Answer, error) {
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, int64(most)+1))
	switch {
	case err != nil:
		return Answer{}, cause(ctx, err)
	case len(body) > most:
		return Answer{}, device.Because(device.Malformed, "an answer of more than %d KiB", most>>10)
	}
	return Answer{resp.StatusCode, resp.Header, body}, nil
}

// cause says why a request failed. What a person ended is not the device's fault and
// stays the context's error.
func cause(ctx context.Context, err error) error {
	var known *device.Cause
	if errors.As(err, &known) {
		return known
	}
	var timeout net.Error
	var op *net.OpError
	switch {
	case errors.Is(ctx.Err(), context.Canceled):
		if errors.As(context.Cause(ctx), &known) {
			return known
		}
		return ctx.Err()
	case OwnFault(err):
		return device.Because(device.OwnFault, "%s", OwnWords(err))
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return device.Because(device.NoAnswer, device.NotInTime)
	case errors.Is(err, syscall.ECONNREFUSED):
		return device.Because(device.NoAnswer, "connection refused")
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed), // by the reader, which saw it first, while the rest was sent
		errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return device.Because(device.NoAnswer, device.BrokenOff)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return device.Because(device.NoAnswer, "there is no route to it")
	case errors.As(err, &op):
		return device.Because(device.NoAnswer, "%v", op.Err)
	}
	if inner := errors.Unwrap(err); inner != nil {
		err = inner // without the address, which the message around it has
	}
	return device.Because(device.Malformed, "%v", err)
}

// OwnFault tells whether an error is this machine's own: it has no file descriptor, port or
// memory left to ask anybody.
func OwnFault(err error) bool {
	for _, own := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM,
		syscall.EADDRNOTAVAIL} {
		if errors.Is(err, own) {
			return true
		}
	}
	return false
}

// OwnWords are the system's words for an error, without the addresses around them.
func OwnWords(err error) string {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number.Error()
	}
	return err.Error()
}

// Body is what a transfer sends.
type Body struct {
	From io.ReaderAt
	Size int64             // bytes
	Sent func(bytes int64) // told how far it is; may be nil
}

// Send sends a body with r and returns the device's answer. It ends a transfer only when
// not one byte has left this machine for a minute, or when no answer has come five minutes
// after the last byte; both are device.ErrAway.
func (h *HTTP) Send(ctx context.Context, r *http.Request, b Body) (Answer, error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	out := &outgoing{body: b}
	ended := make(chan struct{})
	var group sync.WaitGroup
	defer group.Wait()
	defer close(ended)
	group.Go(func() { out.watch(ended, cancel) })
	trace := &httptrace.ClientTrace{GotConn: func(c httptrace.GotConnInfo) { out.over(c.Conn) }}
	r = r.WithContext(httptrace.WithClientTrace(ctx, trace))
	r.Body, r.ContentLength = io.NopCloser(out), b.Size
	r.Header.Set("Expect", "100-continue") // a refusal comes before the body
	resp, err := h.client.Do(r)
	if err != nil {
		return Answer{}, cause(ctx, err)
	}
	return readAnswer(ctx, resp, maxAnswer)
}

// outgoing reads an image for the wire. What was read is not yet sent: on a slow link the
// system holds a part of it for minutes. How far the transfer is, the socket tells.
type outgoing struct {
	body   Body
	read   atomic.Int64
	queued atomic.Pointer[func() int64] // bytes that the system still holds; nil: not known
}

func (o *outgoing) Read(p []byte) (int, error) {
	at := o.read.Load()
	if at >= o.body.Size {
		return 0, io.EOF
	}
	n, err := o.body.From.ReadAt(p[:min(int64(len(p)), o.body.Size-at)], at)
	o.read.Add(int64(n))
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// over notes the connection that the transfer goes over.
func (o *outgoing) over(c net.Conn) {
	if secure, ok := c.(*tls.Conn); ok {
		c = secure.NetConn()
	}
	if t, ok := c.(*net.TCPConn); ok {
		queued := func() int64 { return unsent(t) }
		o.queued.Store(&queued)
	}
}

// sent is how many bytes have left this machine, as far as the system tells.
func (o *outgoing) sent() int64 {
	read := o.read.Load()
	if queued := o.queued.Load(); queued != nil {
		return max(0, read-(*queued)())
	}
	return read
}

// watchEvery is how often a transfer is looked at.
const watchEvery = 200 * time.Millisecond

// watch tells how far the transfer is, and gives it up when it does not move any more.
func (o *outgoing) watch(ended <-chan struct{}, giveUp context.CancelCauseFunc) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	last, since := int64(0), time.Now()
	for {
		select {
		case <-ended:
			if at := o.read.Load(); at != last {
				o.tell(at)
			}
			return
		case <-tick.C:
		}
		at, wait := o.sent(), stallAfter
		if at != last {
			last, since = at, time.Now()
			o.tell(at)
		}
		if at == o.body.Size {
			wait = verdictIn
		}
		if time.Since(since) > wait {
			giveUp(device.Because(device.NoAnswer, "it accepted %d of %d bytes and then no more", at,
				o.body.Size))
			return
		}
	}
}

func (o *outgoing) tell(at int64) {
	if o.body.Sent != nil {
		o.body.Sent(at)
	}
}
