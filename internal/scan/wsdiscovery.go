package scan

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/net/ipv4"
	"golang.org/x/sync/errgroup"

	"catena/internal/dialect"
	"catena/internal/dialect/onvif"
	"catena/internal/site"
)

// WS-Discovery as ONVIF uses it (Core, 7.3): the namespace of 2005/04, SOAP 1.2
// over UDP.
const (
	wsdPort   = 3702
	wsdGroup  = "239.255.255.250"
	wsdRepeat = 2                      // datagrams get lost; each is sent so often …
	wsdApart  = 150 * time.Millisecond // … so far apart
	// A device waits up to 500 ms before it answers (APP_MAX_DELAY, 2005/04, 2.4),
	// so that not all answer at once.
	wsdWait   = 900 * time.Millisecond
	wsdPacket = 32 << 10             // bytes of one answer that are looked at
	wsdPause  = time.Millisecond / 4 // between directed probes: a switch drops bursts
)

// wsDiscovery probes the network's adapters by multicast and its ranges address by
// address.
func (s *Scanner) wsDiscovery(ctx context.Context, n Network, take func(Sighting)) error {
	adapters, err := probeAdapters(n)
	if err != nil {
		return err
	}
	var group errgroup.Group
	for _, a := range adapters {
		group.Go(func() error {
			err := probeAll(ctx, a, take)
			if err != nil { // an adapter without multicast is no reason to stop
				s.Log.Info("no multicast discovery", "adapter", a.Name, "err", err)
			}
			return nil
		})
	}
	if len(n.Ranges) > 0 {
		group.Go(func() error { return probeEach(ctx, n, take) })
	}
	return group.Wait()
}

// probeAdapters returns the adapter that is named, or all that are up and can
// multicast. Without ranges and without a name, loopback is not among them.
func probeAdapters(n Network) ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	var out []net.Interface
	var names []string
	for _, a := range all {
		names = append(names, a.Name)
		up := a.Flags&net.FlagUp != 0
		switch {
		case n.Adapter == a.Name && !up:
			return nil, fmt.Errorf("adapter %s is down; bring it up or choose another", a.Name)
		case n.Adapter == a.Name:
			return []net.Interface{a}, nil
		case n.Adapter == "" && up && a.Flags&net.FlagMulticast != 0 && a.Flags&net.FlagLoopback == 0:
			out = append(out, a)
		}
	}
	if n.Adapter != "" {
		return nil, fmt.Errorf("there is no adapter %q; this machine has %s", n.Adapter, strings.Join(names, ", "))
	}
	return out, nil
}

// probeAll asks everybody on one adapter.
func probeAll(ctx context.Context, a net.Interface, take func(Sighting)) error {
	addrs, err := a.Addrs()
	if err != nil {
		return err
	}
	for _, addr := range addrs {
		ip, ok := addr.(*net.IPNet)
		if !ok || ip.IP.To4() == nil {
			continue
		}
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: ip.IP})
		if err != nil {
			return err
		}
		p := ipv4.NewPacketConn(conn)
		if err = errors.Join(p.SetMulticastInterface(&a), p.SetMulticastTTL(1), p.SetMulticastLoopback(true)); err != nil {
			_ = conn.Close()
			return err
		}
		group := netip.AddrPortFrom(netip.MustParseAddr(wsdGroup), wsdPort)
		return exchange(ctx, conn, []netip.AddrPort{group}, take)
	}
	return fmt.Errorf("it has no IPv4 address")
}

// probeEach asks every address of the ranges by itself: multicast does not cross
// routers, and some switches drop it.
func probeEach(ctx context.Context, n Network, take func(Sighting)) error {
	n.Ports = []uint16{wsdPort}
	var to []netip.AddrPort
	seen := map[netip.Addr]bool{}
	for _, r := range n.Ranges {
		r.Port = 0
		for _, a := range n.expand(r) {
			if a.Addr().Is4() && !seen[a.Addr()] {
				seen[a.Addr()] = true
				to = append(to, a)
			}
		}
	}
	conn, err := net.ListenUDP("udp4", nil)
	if err != nil {
		return err
	}
	return exchange(ctx, conn, to, take)
}

// exchange sends probes and takes the answers until the waiting time is over. It
// closes conn.
func exchange(ctx context.Context, conn *net.UDPConn, to []netip.AddrPort, take func(Sighting)) error {
	id := "urn:uuid:" + uuid.NewString()
	listening := make(chan struct{})
	go func() {
		defer close(listening)
		hearMatches(conn, id, take)
	}()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	message := probeMessage(id)
	for range wsdRepeat {
		for i, a := range to {
			// A refused datagram only says that nobody is there.
			_, _ = conn.WriteToUDPAddrPort(message, a)
			if i%16 == 15 {
				time.Sleep(16 * wsdPause)
			}
			if ctx.Err() != nil {
				break
			}
		}
		time.Sleep(wsdApart)
	}
	_ = conn.SetReadDeadline(time.Now().Add(wsdWait))
	<-listening
	_ = conn.Close()
	return ctx.Err()
}

func probeMessage(id string) []byte {
	return []byte(`<?xml version="1.0" encoding="UTF-8"?><s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"` +
		` xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="http://schemas.xmlsoap.org/ws/2005/04/discovery"` +
		` xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><s:Header><a:MessageID>` + id + `</a:MessageID>` +
		`<a:To>urn:schemas-xmlsoap-org:ws:2005:04:discovery</a:To>` +
		`<a:Action>http://schemas.xmlsoap.org/ws/2005/04/discovery/Probe</a:Action></s:Header>` +
		`<s:Body><d:Probe><d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe></s:Body></s:Envelope>`)
}

// hearMatches takes answers to the probe id until the socket's deadline.
func hearMatches(conn *net.UDPConn, id string, take func(Sighting)) {
	buf := make([]byte, wsdPacket)
	seen := map[netip.AddrPort]bool{}
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		var timeout net.Error
		if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		for _, sight := range parseMatches(buf[:n], id, from.Addr().Unmap()) {
			if !seen[sight.Address] && len(seen) < maxSightings {
				seen[sight.Address] = true
				take(sight)
			}
		}
	}
}

// matches is a ProbeMatches message: WS-Discovery 2005/04, 5.3.
type matches struct {
	XMLName   xml.Name `xml:"Envelope"`
	RelatesTo string   `xml:"Header>RelatesTo"`
	Matches   []struct {
		Endpoint string `xml:"EndpointReference>Address"`
		Types    string `xml:"Types"`
		Scopes   string `xml:"Scopes"`
		XAddrs   string `xml:"XAddrs"`
	} `xml:"Body>ProbeMatches>ProbeMatch"`
}

// maxMatches is how many devices one answer may name. A proxy names several; the
// rest is somebody's joke.
const maxMatches = 256

// parseMatches reads one answer. Only what answers our probe counts, and of the
// addresses it names only those on the host that it came from: nobody can send us
// with a password to somebody else.
func parseMatches(packet []byte, id string, from netip.Addr) []Sighting {
	var m matches
	if xml.Unmarshal(packet, &m) != nil || strings.TrimSpace(m.RelatesTo) != id {
		return nil
	}
	var out []Sighting
	for _, match := range m.Matches[:min(len(m.Matches), maxMatches)] {
		for x := range strings.FieldsSeq(match.XAddrs) {
			u, err := url.Parse(x)
			if err != nil || u.Scheme != "http" {
				continue
			}
			port := u.Port()
			if port == "" {
				port = "80"
			}
			address, err := netip.ParseAddrPort(net.JoinHostPort(u.Hostname(), port))
			if err != nil || address.Addr().Unmap() != from {
				continue
			}
			name, model := onvif.Scopes(strings.Fields(match.Scopes))
			out = append(out, Sighting{Heard: "ws-discovery", Address: address, Dialect: onvif.Dialect{}.Name(), Facts: dialect.Facts{
				Name: name, Model: model, UUID: site.Clean(strings.TrimSpace(match.Endpoint)), Path: cleanPath(u)}})
			break
		}
	}
	return out
}

// cleanPath is the path that a device announced, where it is a plain one.
func cleanPath(u *url.URL) string {
	p := u.EscapedPath()
	if u.RawQuery != "" || len(p) > site.MaxText || !strings.HasPrefix(p, "/") {
		return ""
	}
	return p
}
