package wire

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

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
	served atomic.Bool            // someone has asked for it
	other  atomic.Pointer[string] // a host that asked for it and is not the device
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

// tftp serves by TFTP: one file, to one host, once; each transfer has its own port.
func (o *Offer) tftp(to string) error {
	conn, err := net.ListenPacket("udp", net.JoinHostPort(o.Host, "0"))
	if err != nil {
		return err
	}
	o.Port = conn.LocalAddr().(*net.UDPAddr).Port
	o.URL = fmt.Sprintf("tftp://%s/%s", net.JoinHostPort(o.Host, strconv.Itoa(o.Port)), o.File)
	ctx, cancel := context.WithCancel(context.Background())
	o.end = func() {
		cancel()
		_ = conn.Close()
	}
	o.group.Go(func() {
		p, asker := make([]byte, 1024), ""
		for {
			n, from, err := conn.ReadFrom(p)
			if err != nil {
				return
			}
			if from.String() == asker && o.served.Load() {
				continue // its request once more: the answer to it was lost
			}
			if no := o.refuse(p[:n], from, to); no != nil {
				_, _ = conn.WriteTo(no, from)
				continue
			}
			asker = from.String()
			r, _ := parseRequest(p[:n])
			o.group.Go(func() { o.sendTo(ctx, r, from) })
		}
	})
	return nil
}

// refuse is the error that answers a request; nil: it is served.
func (o *Offer) refuse(p []byte, from net.Addr, to string) []byte {
	host, _, _ := net.SplitHostPort(from.String())
	r, ok := parseRequest(p)
	switch {
	case !ok || r.op != tftpRRQ:
		return tftpFault(tftpIllegal, "files can only be read here")
	case host != to || strings.TrimPrefix(r.file, "/") != o.File:
		return tftpFault(tftpNotFound, "file not found")
	case r.mode != "octet":
		return tftpFault(tftpUndefined, "only octet")
	case !o.served.CompareAndSwap(false, true):
		return tftpFault(tftpUndefined, "it is being fetched already")
	}
	return nil
}

// sendTo sends the file to a port that has asked for it.
func (o *Offer) sendTo(ctx context.Context, r tftpRequest, to net.Addr) {
	conn, err := net.ListenPacket("udp", net.JoinHostPort(o.Host, "0"))
	if err != nil {
		return
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Now()) })
	defer stop()
	t, granted := grant(r.options, o.body.Size)
	x := &transfer{ctx: ctx, conn: conn, peer: to, t: t}
	if granted != nil {
		err = x.ask(func() error { _, err := conn.WriteTo(granted, to); return err },
			func(op, n uint16, _ []byte) bool { return op == tftpACK && n == 0 })
	}
	if err == nil {
		err = x.send(o.body.From, o.body.Size, o.tell)
	}
	if err != nil {
		o.served.Store(false) // the device may ask once more
		return
	}
	o.done()
}

// http serves below a path that no one can guess.
func (o *Offer) http(to string) error {
	l, err := net.Listen("tcp", net.JoinHostPort(o.Host, "0"))
	if err != nil {
		return err
	}
	path := "/" + rand.Text() + "/" + o.File
	s := &http.Server{ReadHeaderTimeout: answerWithin, Handler: http.HandlerFunc(
		func(w http.ResponseWriter, r *http.Request) {
			remote, _, _ := net.SplitHostPort(r.RemoteAddr)
			if remote != to && r.URL.Path == path {
				o.other.Store(&remote)
			}
			if remote != to || r.URL.Path != path || r.Method != http.MethodGet &&
				r.Method != http.MethodHead {
				http.NotFound(w, r)
				return
			}
			o.served.Store(true)
			body := o.seeker(r.Method == http.MethodGet)
			http.ServeContent(w, r, o.File, time.Time{}, body)
			// All that was read is on its way when the flush says so; Close waits until it has
			// left. A device that hangs up right after its last byte has all of it.
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

// lookEvery is how often a device that fetches is asked how it goes.
const lookEvery = 2 * time.Second

// Fetched waits until the device has fetched all of it. It gives up when nothing was fetched for
// a minute. Until then look asks the device every two seconds, and ends the wait by its error: if
// it reports why it does not fetch the image, it need not be waited for. look may be nil.
func (o *Offer) Fetched(ctx context.Context, look func(context.Context) error) error {
	last, since, looked := int64(0), time.Now(), time.Now()
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
		if look != nil && time.Since(looked) > lookEvery {
			if err := look(ctx); err != nil {
				return err
			}
			looked = time.Now()
		}
		if time.Since(since) > stallAfter {
			if other := o.other.Load(); !o.served.Load() && other != nil {
				return device.Because(device.NoAnswer, "it did not fetch the image; %s asked for it in its "+
					"place, and did not get it", *other)
			}
			if !o.served.Load() {
				return device.Because(device.NoAnswer, "it did not fetch the image from %s "+
					"port %d; does a firewall of this machine block it?", o.Host, o.Port)
			}
			return device.Because(device.NoAnswer, "it fetched %d of %d bytes and then no more", last,
				o.body.Size)
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
