package standin

import (
	"net"
	"net/netip"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

const MDNSPort = 5353

// MDNSGroup is where multicast DNS is asked: RFC 6762, 3.
var MDNSGroup = &net.UDPAddr{IP: net.IPv4(224, 0, 0, 251), Port: MDNSPort}

// MayMulticast tells whether the stand-in may answer the group again: a record is not said
// twice within a second (RFC 6762, 6).
func (s *StandIn) MayMulticast() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if time.Since(s.multicast) < time.Second {
		return false
	}
	s.multicast = time.Now()
	return true
}

// AnswerMDNS answers questions of multicast DNS (RFC 6762) for one service (RFC 6763)
// of the stand-in, unicast to who asked from a port of its own (6.7): which services
// there are, which instances, and where and what an instance is.
func (s *StandIn) AnswerMDNS(service string) func(packet []byte) [][]byte {
	return func(packet []byte) [][]byte {
		var in dnsmessage.Message
		if in.Unpack(packet) != nil || in.Response {
			return nil
		}
		at, err := netip.ParseAddrPort(s.Addr)
		if err != nil {
			return nil
		}
		name := func(text string) dnsmessage.Name { n, _ := dnsmessage.NewName(text); return n }
		instance, host := s.Name+"."+service, s.Name+".local."
		header := func(of string, kind dnsmessage.Type) dnsmessage.ResourceHeader {
			// 6.7: at most ten seconds
			return dnsmessage.ResourceHeader{Name: name(of), Type: kind,
				Class: dnsmessage.ClassINET, TTL: 10}
		}
		out := dnsmessage.Message{Header: dnsmessage.Header{ID: in.ID, Response: true,
			Authoritative: true}, Questions: in.Questions}
		explain := func(into *[]dnsmessage.Resource) {
			*into = append(*into,
				dnsmessage.Resource{Header: header(instance, dnsmessage.TypeSRV),
					Body: &dnsmessage.SRVResource{Port: at.Port(), Target: name(host)}},
				dnsmessage.Resource{Header: header(instance, dnsmessage.TypeTXT),
					Body: &dnsmessage.TXTResource{TXT: []string{"txtvers=1"}}},
				dnsmessage.Resource{Header: header(host, dnsmessage.TypeA),
					Body: &dnsmessage.AResource{A: at.Addr().As4()}})
		}
		for _, q := range in.Questions {
			switch asked := q.Name.String(); {
			case strings.EqualFold(asked, "_services._dns-sd._udp.local.") &&
				q.Type == dnsmessage.TypePTR:
				out.Answers = append(out.Answers,
					dnsmessage.Resource{Header: header(asked, dnsmessage.TypePTR),
						Body: &dnsmessage.PTRResource{PTR: name(service)}})
			case strings.EqualFold(asked, service) && q.Type == dnsmessage.TypePTR:
				out.Answers = append(out.Answers,
					dnsmessage.Resource{Header: header(service, dnsmessage.TypePTR),
						Body: &dnsmessage.PTRResource{PTR: name(instance)}})
				if len(out.Additionals) == 0 {
					explain(&out.Additionals)
				}
			case strings.EqualFold(asked, instance) || strings.EqualFold(asked, host):
				var all []dnsmessage.Resource
				explain(&all)
				for _, r := range all {
					if strings.EqualFold(r.Header.Name.String(), asked) &&
						(q.Type == r.Header.Type || q.Type == dnsmessage.TypeALL) {
						out.Answers = append(out.Answers, r)
					} else {
						out.Additionals = append(out.Additionals, r) // RFC 6763, 12
					}
				}
			}
		}
		raw, err := out.Pack()
		if err != nil || len(out.Answers) == 0 {
			return nil
		}
		return [][]byte{raw}
	}
}
