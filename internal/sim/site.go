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
)

// Site is a running simulated site.
type Site struct {
	Scenario Scenario
	Adapter  string // the loopback adapter's name
	Net      string // the first three numbers of its addresses, such as "127.44.1"; or 127.0.0.1 for all
	OneHost  bool   // every stand-in is on 127.0.0.1, on a port of its own
	claim    net.Listener
	standIns []*standIn
	sockets  []net.PacketConn
	hearing  sync.WaitGroup // an address is free again only when nobody reads from it
}

// OneAddress is the place where every stand-in has a port of its own.
const OneAddress = "127.0.0.1"

// SNMPPort is where agents listen that have an address of their own; the standard's
// port needs rights.
const SNMPPort = 1161

// ports are where stand-ins listen that have an address of their own.
var ports = map[string]int{"camera": 8080, "gate": 8080, "silent": 8080, "switch": SNMPPort, "recorder": 8443, "drive": 2222, "hub": 8080, "io": 44818}

// kinds make what is particular to a kind of stand-in.
var kinds = map[string]func(*standIn, Scenario) error{
	"camera": newCamera, "gate": newGate, "silent": func(*standIn, Scenario) error { return nil },
	"switch": newSwitch, "recorder": newRecorder, "drive": newDrive, "hub": newHub, "io": newIO,
}

// claimPort is bound for as long as a site lives, so that two sites on one
// machine never share addresses.
const claimPort = 4400

// Start brings a site up. place is where: OneAddress, the first three numbers of
// its addresses, or empty for the first that are free. Where the machine has no
// other loopback address than 127.0.0.1, all stand-ins share that one.
func Start(s Scenario, place string, log *slog.Logger) (*Site, error) {
	site := &Site{Scenario: s, Adapter: loopbackName()}
	var err error
	switch place {
	case OneAddress:
	case "":
		site.claim, site.Net = claim()
	default:
		if site.claim, err = net.Listen("tcp4", fmt.Sprintf("%s.254:%d", place, claimPort)); err != nil {
			return nil, fmt.Errorf("%s cannot be had: %w", place, err)
		}
		site.Net = place
	}
	if site.claim == nil {
		site.OneHost, site.Net = true, OneAddress
	}
	for _, d := range s.Devices {
		in := &standIn{Device: d, pace: s.Pace, login: s.Login, log: log, version: d.Version, original: d.Version, parts: maps.Clone(d.Parts)}
		if d.Faults.OtherPassword != "" {
			in.login.Password = d.Faults.OtherPassword
		}
		in.addr = net.JoinHostPort(site.Net+"."+strconv.Itoa(d.Host), strconv.Itoa(ports[d.Kind]))
		if site.OneHost {
			in.addr = "127.0.0.1:0"
		}
		if make := kinds[d.Kind]; make != nil {
			if err := make(in, s); err != nil {
				site.Stop()
				return nil, fmt.Errorf("%s cannot be made: %w", d.Name, err)
			}
		}
		if err := in.start(); err != nil {
			site.Stop()
			return nil, fmt.Errorf("%s cannot listen: %w", d.Name, err)
		}
		site.standIns = append(site.standIns, in)
	}
	if err := site.announce(); err != nil {
		site.Stop()
		return nil, err
	}
	return site, nil
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
	{"snmp", SNMPPort, ""},
	{"ethernet-ip", 44818, ""},
}

// announce lets the stand-ins answer over UDP: what comes to a group all together, what
// comes to one each on its own address.
func (s *Site) announce() error {
	listen := net.ListenConfig{Control: reuse}
	for _, service := range services {
		own := map[*standIn]net.PacketConn{}
		var answering []*standIn
		for _, in := range s.standIns {
			if in.udp[service.name] == nil {
				continue
			}
			answering = append(answering, in)
			host, _, _ := net.SplitHostPort(in.addr)
			at := net.JoinHostPort(host, strconv.Itoa(service.port))
			switch {
			case s.OneHost && service.group == "":
				at = "127.0.0.1:0"
			case s.OneHost && len(answering) > 1:
				own[in] = own[answering[0]]
				continue
			}
			conn, err := listen.ListenPacket(context.Background(), "udp4", at)
			if err != nil {
				return fmt.Errorf("%s cannot listen for %s: %w", in.Name, service.name, err)
			}
			own[in] = conn
			if in.handler == nil && in.conn == nil { // this is its only door
				in.addr = conn.LocalAddr().String()
			}
			if !s.OneHost || service.group == "" {
				s.hear(conn, service.name, []*standIn{in}, own)
			}
		}
		if len(answering) == 0 {
			continue
		}
		if s.OneHost && service.group != "" {
			s.hear(own[answering[0]], service.name, answering, own)
		}
		adapter, err := net.InterfaceByName(s.Adapter)
		if err != nil || service.group == "" {
			continue // only who is asked itself answers
		}
		group, err := net.ListenMulticastUDP("udp4", adapter, &net.UDPAddr{IP: net.ParseIP(service.group), Port: service.port})
		if err != nil {
			continue // not every system lets a group be joined on loopback
		}
		s.hear(group, service.name, answering, own)
	}
	return nil
}

// hear answers what comes in on conn for the stand-ins given, each from its own socket.
func (s *Site) hear(conn net.PacketConn, service string, answering []*standIn, own map[*standIn]net.PacketConn) {
	s.sockets = append(s.sockets, conn)
	s.hearing.Go(func() {
		buf := make([]byte, 64<<10)
		for {
			n, to, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			for _, in := range answering {
				if !in.isUp() || in.Faults.Silent {
					continue
				}
				for _, answer := range in.udp[service](buf[:n]) {
					_, _ = own[in].WriteTo(answer, to)
				}
			}
		}
	})
}

// StandIn tells where one stand-in is.
type StandIn struct {
	Name    string   `json:"name"`
	Kind    string   `json:"kind"`
	Model   string   `json:"model"`
	Address string   `json:"address"`
	Version string   `json:"version"`
	Deeds   []string `json:"deeds,omitempty"` // what was done to it: lamps, relays, logins
}

// StandIns lists the stand-ins of the site.
func (s *Site) StandIns() []StandIn {
	var out []StandIn
	for _, in := range s.standIns {
		version, _ := in.running()
		in.mu.Lock()
		out = append(out, StandIn{in.Name, in.Kind, in.Model, in.addr, version, slices.Clone(in.deeds)})
		in.mu.Unlock()
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
		if in.Kind == "switch" {
			have[fmt.Sprintf("snmp:%d", SNMPPort)] = true
		} else if in.Kind != "io" {
			have[strconv.Itoa(ports[in.Kind])] = true
		}
		if in.Kind == "drive" {
			have[fmt.Sprintf("modbus:%d", modbusPort)] = true
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
		out = append(out, in.addr)
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
		go func() { in.stop(); done <- struct{}{} }()
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
