package sim

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
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

// Port is where stand-ins listen that have an address of their own.
const Port = 8080

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
	var cameras []*camera
	for _, d := range s.Devices {
		in := &standIn{Device: d, pace: s.Pace, login: s.Login, log: log, version: d.Version, original: d.Version, parts: maps.Clone(d.Parts)}
		if d.Faults.OtherPassword != "" {
			in.login.Password = d.Faults.OtherPassword
		}
		in.addr = net.JoinHostPort(site.Net+"."+strconv.Itoa(d.Host), strconv.Itoa(Port))
		if site.OneHost {
			in.addr = "127.0.0.1:0"
		}
		switch d.Kind {
		case "camera":
			cameras = append(cameras, newCamera(in))
		case "gate":
			newGate(in)
		}
		if err := in.start(); err != nil {
			site.Stop()
			return nil, fmt.Errorf("%s cannot listen: %w", d.Name, err)
		}
		site.standIns = append(site.standIns, in)
	}
	if err := site.announce(cameras); err != nil {
		site.Stop()
		return nil, err
	}
	return site, nil
}

// announce lets the cameras answer probes: directed ones each on its own address,
// multicast ones together.
func (s *Site) announce(cameras []*camera) error {
	own := map[*camera]net.PacketConn{}
	listen := net.ListenConfig{Control: reuse}
	if s.OneHost {
		conn, err := listen.ListenPacket(context.Background(), "udp4", fmt.Sprintf("127.0.0.1:%d", discoveryPort))
		if err != nil {
			return fmt.Errorf("discovery cannot listen: %w", err)
		}
		for _, c := range cameras {
			own[c] = conn
		}
		s.hear(conn, cameras, own)
	} else {
		for _, c := range cameras {
			host, _, _ := net.SplitHostPort(c.addr)
			conn, err := listen.ListenPacket(context.Background(), "udp4", fmt.Sprintf("%s:%d", host, discoveryPort))
			if err != nil {
				return fmt.Errorf("%s cannot listen for probes: %w", c.Name, err)
			}
			own[c] = conn
			s.hear(conn, []*camera{c}, map[*camera]net.PacketConn{c: conn})
		}
	}
	adapter, err := net.InterfaceByName(s.Adapter)
	if err != nil {
		return nil // directed probes only
	}
	group, err := net.ListenMulticastUDP("udp4", adapter, &net.UDPAddr{IP: net.ParseIP(discoveryGroup), Port: discoveryPort})
	if err != nil {
		return nil // not every system lets a group be joined on loopback
	}
	s.hear(group, cameras, own)
	return nil
}

func (s *Site) hear(conn net.PacketConn, cameras []*camera, own map[*camera]net.PacketConn) {
	s.sockets = append(s.sockets, conn)
	s.hearing.Go(func() { hearProbes(conn, cameras, own) })
}

// StandIn tells where one stand-in is.
type StandIn struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Model   string `json:"model"`
	Address string `json:"address"`
	Version string `json:"version"`
}

// StandIns lists the stand-ins of the site.
func (s *Site) StandIns() []StandIn {
	var out []StandIn
	for _, in := range s.standIns {
		version, _ := in.running()
		out = append(out, StandIn{in.Name, in.Kind, in.Model, in.addr, version})
	}
	return out
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
