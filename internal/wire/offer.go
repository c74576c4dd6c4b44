package wire

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pin/tftp/v3"

	"catena/internal/device"
)

// An Offer is a file that a device fetches from Catena: one file, to one address, on the adapter
// that leads there, for one transfer.
type Offer struct {
	Host string // this machine's, as the device reaches it
	Port int
	File string // its name there
	URL  string

	body   Body
	end    func()
	ended  chan struct{} // closed when all of it was fetched
	once   sync.Once
	at     atomic.Int64
	served atomic.Bool // somebody has asked for it
	group  sync.WaitGroup
}

// NewOffer serves a body to the host of device by "tftp" or "http", from a port that needs no
// rights. The caller must Close it.
func NewOffer(by, deviceAddress, file string, b Body) (*Offer, error) {
	host, _, err := net.SplitHostPort(deviceAddress)
	if err != nil {
		return nil, err
	}
	local, err := towards(host)
	if err != nil {
		return nil, device.Because(device.NoAnswer, "there is no route to it")
	}
	o := &Offer{Host: local, File: file, body: b, ended: make(chan struct{})}
	if by == "tftp" {
		err = o.tftp(host)
	} else {
		err = o.http(host)
	}
	return o, err
}

// towards is this machine's address on the way to a host.
func towards(host string) (string, error) {
	c, err := net.Dial("udp", net.JoinHostPort(host, "9")) // nothing is sent
	if err != nil {
		return "", err
	}
	defer func() { _ = c.Close() }()
	local, _, err := net.SplitHostPort(c.LocalAddr().String())
	return local, err
}

// tftp serves by TFTP with its options (RFC 1350, 2347, 2348, 2349).
func (o *Offer) tftp(to string) error {
	conn, err := net.ListenPacket("udp", net.JoinHostPort(o.Host, "0"))
	if err != nil {
		return err
	}
	s := tftp.NewServer(func(name string, w io.ReaderFrom) error {
		out, is := w.(tftp.OutgoingTransfer)
		remote := ""
		if is {
			addr := out.RemoteAddr()
			remote = addr.IP.String()
		}
		if remote != to || strings.TrimPrefix(name, "/") != o.File {
			return errors.New("file not found")
		}
		if !o.served.CompareAndSwap(false, true) {
			return errors.New("it is being fetched already")
		}
		out.SetSize(o.body.Size)
		_, err := w.ReadFrom(o.reader(0))
		if err != nil {
			o.served.Store(false) // the device may ask once more
			return err
		}
		o.done()
		return nil
	}, nil)
	s.SetTimeout(5 * time.Second)
	s.SetRetries(5)
	o.Port = conn.LocalAddr().(*net.UDPAddr).Port
	o.URL = fmt.Sprintf("tftp://%s/%s", net.JoinHostPort(o.Host, strconv.Itoa(o.Port)), o.File)
	o.group.Go(func() { _ = s.Serve(conn) })
	o.end = s.Shutdown
	return nil
}

// http serves below a path that nobody can guess.
func (o *Offer) http(to string) error {
	l, err := net.Listen("tcp", net.JoinHostPort(o.Host, "0"))
	if err != nil {
		return err
	}
	path := "/" + rand.Text() + "/" + o.File
	s := &http.Server{ReadHeaderTimeout: answerWithin, Handler: http.HandlerFunc(
		func(w http.ResponseWriter, r *http.Request) {
			remote, _, _ := net.SplitHostPort(r.RemoteAddr)
			if remote != to || r.URL.Path != path || r.Method != http.MethodGet &&
				r.Method != http.MethodHead {
				http.NotFound(w, r)
				return
			}
			o.served.Store(true)
			body := o.seeker(r.Method == http.MethodGet)
			http.ServeContent(w, r, o.File, time.Time{}, body)
			// All that was read is on its way when the flush says so; Close waits until it has
			// left. A device that hangs up right after its last byte has it all the same.
			if body.counts && body.at == o.body.Size && http.NewResponseController(w).Flush() == nil {
				o.done()
			}
		})}
	o.Port = l.Addr().(*net.TCPAddr).Port
	o.URL = "http://" + net.JoinHostPort(o.Host, strconv.Itoa(o.Port)) + path
	o.group.Go(func() { _ = s.Serve(l) })
	o.end = func() {
		leaving, cancel := context.WithTimeout(context.Background(), answerWithin)
		defer cancel()
		_ = s.Shutdown(leaving) // a device that takes no more is cut off then
		_ = s.Close()
	}
	return nil
}

// reader reads the body and tells how far it is.
func (o *Offer) reader(from int64) io.Reader {
	return &counted{Reader: io.NewSectionReader(o.body.From, from, o.body.Size-from),
		read: func(n int64) { o.tell(from + n) }}
}

func (o *Offer) tell(n int64) {
	o.at.Store(n)
	if o.body.Sent != nil && n < o.body.Size {
		o.body.Sent(n)
	}
}

// seeker is the body for HTTP, which may ask for a part of it.
func (o *Offer) seeker(counts bool) *seeker {
	return &seeker{SectionReader: io.NewSectionReader(o.body.From, 0, o.body.Size), of: o,
		counts: counts}
}

type seeker struct {
	*io.SectionReader
	of     *Offer
	counts bool
	at     int64
}

func (s *seeker) Seek(offset int64, whence int) (int64, error) {
	at, err := s.SectionReader.Seek(offset, whence)
	s.at = at
	return at, err
}

func (s *seeker) Read(p []byte) (int, error) {
	n, err := s.SectionReader.Read(p)
	s.at += int64(n)
	if s.counts && n > 0 {
		s.of.tell(s.at)
	}
	return n, err
}

func (o *Offer) done() {
	o.once.Do(func() {
		if o.body.Sent != nil {
			o.body.Sent(o.body.Size)
		}
		close(o.ended)
	})
}

// Fetched waits until the device has fetched all of it. It gives up when nothing was fetched for
// a minute.
func (o *Offer) Fetched(ctx context.Context) error {
	last, since := int64(0), time.Now()
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-o.ended:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
		if at := o.at.Load(); at != last {
			last, since = at, time.Now()
		}
		if time.Since(since) > stallAfter {
			if !o.served.Load() {
				return device.Because(device.NoAnswer, "it did not fetch the image from %s port %d; does a firewall of this machine forbid it?", o.Host, o.Port)
			}
			return device.Because(device.NoAnswer, "it fetched %d of %d bytes and then no more", last, o.body.Size)
		}
	}
}

// Close ends the offer.
func (o *Offer) Close() {
	if o.end != nil {
		o.end()
	}
	o.group.Wait()
}
