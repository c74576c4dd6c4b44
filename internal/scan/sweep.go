package scan

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync"

	"golang.org/x/sync/errgroup"

	"catena/internal/dialect"
	"catena/internal/site"
)

// sweepLanes is how many addresses are tried at the same time. Most of them do
// not exist and cost the whole patience; a switch's address table takes this many.
const sweepLanes = 256

// sweep tries to connect to every address of the network's ranges and asks those
// that take the connection who they are, in every dialect. An address that does
// not is no error.
func (s *Scanner) sweep(ctx context.Context, n Network, take func(Sighting)) error {
	var all []netip.AddrPort
	for _, r := range n.Ranges {
		all = append(all, n.expand(r)...)
	}
	var group errgroup.Group
	group.SetLimit(sweepLanes)
	var mu sync.Mutex
	done := 0
	for _, a := range all {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			if s.open(ctx, a) {
				take(s.recognise(ctx, a))
			}
			mu.Lock()
			defer mu.Unlock()
			done++
			s.progress(done, len(all), "addresses tried")
			return nil
		})
	}
	_ = group.Wait() // nothing in it fails
	return ctx.Err()
}

// expand lists every address and port of a range, without the exceptions.
func (n Network) expand(r site.Range) []netip.AddrPort {
	ports := n.Ports
	if len(ports) == 0 {
		ports = UsualPorts
	}
	if r.Port != 0 {
		ports = []uint16{r.Port}
	}
	var out []netip.AddrPort
	for a, left := r.First, site.MaxAddresses; left > 0; a, left = a.Next(), left-1 {
		for _, p := range ports {
			if ap := netip.AddrPortFrom(a, p); !site.Has(n.Except, ap) {
				out = append(out, ap)
			}
		}
		if a == r.Last {
			break
		}
	}
	return out
}

func (s *Scanner) open(ctx context.Context, a netip.AddrPort) bool {
	d := net.Dialer{Timeout: s.Patience}
	c, err := d.DialContext(ctx, "tcp", a.String())
	if err != nil {
		return false
	}
	_ = c.Close()
	return true
}

// recognise asks in every dialect at once; the first in their order that knows the
// device has it.
func (s *Scanner) recognise(ctx context.Context, a netip.AddrPort) Sighting {
	ctx, cancel := context.WithTimeout(ctx, s.Patience)
	defer cancel()
	facts, errs := make([]dialect.Facts, len(s.Dialects)), make([]error, len(s.Dialects))
	var group sync.WaitGroup
	for i, d := range s.Dialects {
		group.Go(func() { facts[i], errs[i] = d.Recognise(ctx, dialect.Peer{Address: a.String()}) })
	}
	group.Wait()
	sight := Sighting{Heard: "http", Address: a, Trouble: "answers, but no dialect knows it"}
	silent := true
	for i, d := range s.Dialects {
		if errs[i] == nil {
			sight.Dialect, sight.Facts, sight.Trouble = d.Name(), facts[i], ""
			return sight
		}
		silent = silent && (errors.Is(errs[i], dialect.ErrAway) || ctx.Err() != nil)
	}
	if silent {
		sight.Trouble = "takes connections, answers nothing"
	}
	return sight
}
