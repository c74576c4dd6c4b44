package sim

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strconv"
	"sync"
	"syscall"

	"catena/internal/machine"
	"catena/internal/sim/netswitch"
	"catena/internal/sim/standin"
)

// Site is a running simulated site.
type Site struct {
	Scenario Scenario
	Adapter  string // the loopback adapter's name
	// the first three numbers of its addresses, such as "127.44.1"; or 127.0.0.1 for all
	Net      string
	OneHost  bool // every stand-in is on 127.0.0.1, on a port of its own
	claim    net.Listener
	standIns []*standin.StandIn
	sockets  []net.PacketConn
	log      *slog.Logger
	moving   sync.Mutex // held while a stand-in takes another place among standIns
	mu       sync.Mutex
	own      map[string]map[*standin.StandIn]net.PacketConn // who answers, by service, and from where
	// an address is free again only when no one reads from it
	hearing sync.WaitGroup
}

// claimPort is bound for as long as a site lives, so that two sites on one
// machine never share addresses.
const claimPort = 4400

// Start brings a site up. place is where: oneAddress, the first three numbers of
// its addresses, or empty for the first that are free. Where the machine has no
// other loopback address than 127.0.0.1, all stand-ins share that one.
func Start(s Scenario, place string, log *slog.Logger) (*Site, error) {
	site := newSite(s, log)
	var err error
	switch place {
	case standin.OneAddress:
	case "":
		site.claim, site.Net = claim()
	default:
		site.claim, err = net.Listen("tcp4", fmt.Sprintf("%s.254:%d", place, claimPort))
		if err != nil {
			return nil, fmt.Errorf("%s cannot be had: %w", place, err)
		}
		site.Net = place
	}
	if site.claim == nil {
		site.OneHost, site.Net = true, standin.OneAddress
	}
	return site, site.up()
}

func newSite(s Scenario, log *slog.Logger) *Site {
	return &Site{Scenario: s, Adapter: loopbackName(), log: log,
		own: map[string]map[*standin.StandIn]net.PacketConn{}}
}

// up starts all stand-ins. Where one cannot be started, none is.
func (s *Site) up() error {
	for _, d := range s.Scenario.Devices {
		in, err := s.bring(d, nil)
		if err != nil {
			s.Stop()
			return err
		}
		s.standIns = append(s.standIns, in)
	}
	s.join()
	if err := s.announce(); err != nil {
		s.Stop()
		return err
	}
	return nil
}

// services are what stand-ins answer over UDP. Group and port are the standards' own,
// but for SNMP, whose port needs rights.
var services = []struct {
	name  string
	port  int
	group string // empty: only who is asked itself answers
}{
	{"ws-discovery", 3702, "239.255.255.250"},
	{"mdns", 5353, "224.0.0.251"},
	{"ssdp", 1900, "239.255.255.250"},
	{"snmp", netswitch.SNMPPort, ""},
	{"ethernet-ip", 44818, ""},
	{"bacnet", 47808, ""},
}

// announce lets the stand-ins answer over UDP: what comes to a group all together, what
// comes to one each on its own address.
func (s *Site) announce() error {
	for _, in := range s.standIns {
		if err := s.answer(in); err != nil {
			return err
		}
	}
	adapter, err := net.InterfaceByName(s.Adapter)
	if err != nil {
		return nil // only who is asked itself answers
	}
	for _, service := range services {
		if service.group == "" || len(s.own[service.name]) == 0 {
			continue
		}
		group, err := net.ListenMulticastUDP("udp4", adapter,
			&net.UDPAddr{IP: net.ParseIP(service.group), Port: service.port})
		if err != nil {
			continue // not every system lets a group be joined on loopback
		}
		s.hear(group, service.name, nil)
	}
	return nil
}

// answer lets one stand-in answer over UDP on its own address. On one address for all,
// those of a service with a fixed port share a socket.
func (s *Site) answer(in *standin.StandIn) error {
	listen := net.ListenConfig{Control: machine.Reuse}
	for _, service := range services {
		if in.UDP[service.name] == nil {
			continue
		}
		if s.own[service.name] == nil {
			s.own[service.name] = map[*standin.StandIn]net.PacketConn{}
		}
		own := s.own[service.name]
		shared := s.OneHost && service.group != ""
		if shared && len(own) > 0 {
			s.mu.Lock()
			for _, conn := range own {
				own[in] = conn
				break
			}
			s.mu.Unlock()
			continue
		}
		host, _, _ := net.SplitHostPort(in.Addr)
		at := net.JoinHostPort(host, strconv.Itoa(service.port))
		if s.OneHost && !shared {
			at = "127.0.0.1:0"
		}
		conn, err := listen.ListenPacket(context.Background(), "udp4", at)
		if err != nil {
			return fmt.Errorf("%s cannot listen for %s: %w", in.Name, service.name, err)
		}
		s.mu.Lock()
		own[in] = conn
		s.mu.Unlock()
		if in.Handler == nil && in.Conn == nil { // this is its only door
			in.Addr = conn.LocalAddr().String()
		}
		if shared {
			s.hear(conn, service.name, nil)
		} else {
			s.hear(conn, service.name, in)
		}
	}
	return nil
}

// hear answers what comes in on conn for one stand-in, or where none is given for all
// of the service, each from its own socket.
func (s *Site) hear(conn net.PacketConn, service string, only *standin.StandIn) {
	s.sockets = append(s.sockets, conn)
	s.hearing.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, to, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			asker, _ := to.(*net.UDPAddr)
			if asker == nil || !asker.IP.IsLoopback() {
				continue // a simulation is no one's but this machine's
			}
			s.mu.Lock()
			own := maps.Clone(s.own[service])
			s.mu.Unlock()
			for in, from := range own {
				if only != nil && in != only || !in.IsUp() || in.Faults.Silent {
					continue
				}
				back := to
				// a querier that hears the group: RFC 6762, 6
				if service == "mdns" && asker.Port == standin.MDNSPort {
					if !in.MayMulticast() {
						continue
					}
					back = standin.MDNSGroup
				}
				for _, answer := range in.UDP[service](buf[:n]) {
					_, _ = from.WriteTo(answer, back)
				}
			}
		}
	})
}

// Move takes a stand-in away and brings it up at another host's address, as it was.
func (s *Site) Move(name string, host int) error {
	s.moving.Lock()
	defer s.moving.Unlock()
	for i, was := range s.standIns {
		if was.Name != name {
			continue
		}
		was.Stop()
		s.mu.Lock()
		for service := range s.own {
			if conn := s.own[service][was]; conn != nil {
				if !s.OneHost {
					_ = conn.Close()
				}
				delete(s.own[service], was)
			}
		}
		s.mu.Unlock()
		d := was.Device
		d.Host = host
		d.Version, _ = was.Running()
		in, err := s.bring(d, was)
		if err != nil {
			return err
		}
		s.standIns[i] = in
		s.join()
		return s.answer(in)
	}
	return fmt.Errorf("there is no stand-in %s", name)
}

// bring makes a stand-in and starts it; with the certificate that it had before, where it was
// another place's.
func (s *Site) bring(d standin.Device, was *standin.StandIn) (*standin.StandIn, error) {
	in := standin.New(d, s.Scenario.Pace, s.Scenario.Login, s.log)
	if !s.OneHost {
		in.Move = func(host int) {
			if err := s.Move(d.Name, host); err != nil {
				s.log.Error("cannot move", "device", d.Name, "err", err)
			}
		}
	}
	in.Addr = net.JoinHostPort(s.Net+"."+strconv.Itoa(d.Host), strconv.Itoa(kinds[d.Kind].port))
	if s.OneHost {
		in.Addr = "127.0.0.1:0"
	}
	if err := kinds[d.Kind].equip(in, s.Scenario.Devices); err != nil {
		return nil, fmt.Errorf("%s cannot be made: %w", d.Name, err)
	}
	if was != nil && was.Secure != nil {
		in.Secure = was.Secure
	}
	if err := in.Start(); err != nil {
		return nil, fmt.Errorf("%s cannot listen: %w", d.Name, err)
	}
	return in, nil
}

// join tells the stand-ins what is reached through what.
func (s *Site) join() {
	below := map[*standin.StandIn][]*standin.StandIn{}
	leads := map[*standin.StandIn][]*standin.StandIn{}
	for _, up := range s.standIns {
		found := map[*standin.StandIn]bool{up: true}
		for next := []*standin.StandIn{up}; len(next) > 0; next = next[1:] {
			for _, in := range s.standIns {
				if !found[in] && slices.Contains(next[0].Downstream, in.Name) {
					found[in] = true
					next = append(next, in)
					below[up], leads[in] = append(below[up], in), append(leads[in], up)
				}
			}
		}
	}
	for _, in := range s.standIns {
		in.Connect(below[in], leads[in])
	}
}

// StandIn tells where one stand-in is.
type StandIn struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Model   string `json:"model"`
	Address string `json:"address"`
	Version string `json:"version"`
	standin.Seen
}

// StandIns lists the stand-ins of the site.
func (s *Site) StandIns() []StandIn {
	s.moving.Lock()
	defer s.moving.Unlock()
	var out []StandIn
	for _, in := range s.standIns {
		version, _ := in.Running()
		out = append(out, StandIn{in.Name, in.Kind, in.Model, in.Addr, version, in.Seen()})
	}
	return out
}

// Ports are what a site file would name for the stand-ins, as site.ParsePort has them;
// none where each has an address with a port.
func (s *Site) Ports() []string {
	if s.OneHost {
		return nil
	}
	have := map[string]bool{}
	for _, in := range s.standIns {
		for _, port := range kinds[in.Kind].named {
			have[port] = true
		}
	}
	if len(have) == 1 && have["8080"] { // which is a usual one
		return nil
	}
	return slices.Sorted(maps.Keys(have))
}

// Ranges are what a site file would name to have all of the site looked through.
func (s *Site) Ranges() []string {
	if !s.OneHost {
		return []string{s.Net + ".1-" + s.Net + ".253"}
	}
	var out []string
	for _, in := range s.standIns {
		out = append(out, in.Addr)
	}
	return out
}

// Stop takes the site down and waits until nothing of it is left.
func (s *Site) Stop() {
	for _, c := range s.sockets {
		_ = c.Close()
	}
	s.hearing.Wait()
	done := make(chan struct{})
	for _, in := range s.standIns {
		go func() { in.Stop(); done <- struct{}{} }()
	}
	for range s.standIns {
		<-done
	}
	if s.claim != nil {
		_ = s.claim.Close()
	}
}

// claim finds three numbers 127.44.n that no other site on this machine uses.
func claim() (net.Listener, string) {
	for n := 1; n < 255; n++ {
		three := fmt.Sprintf("127.44.%d", n)
		l, err := net.Listen("tcp4", fmt.Sprintf("%s.254:%d", three, claimPort))
		if err == nil {
			return l, three
		}
		if !errors.Is(err, syscall.EADDRINUSE) {
			return nil, "" // only 127.0.0.1 can be bound here
		}
	}
	return nil, ""
}

func loopbackName() string {
	adapters, _ := net.Interfaces()
	for _, a := range adapters {
		if a.Flags&net.FlagLoopback != 0 && a.Flags&net.FlagUp != 0 {
			return a.Name
		}
	}
	return "lo"
}
