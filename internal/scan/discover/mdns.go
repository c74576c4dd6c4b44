package discover

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"catena/internal/device"
	"catena/internal/text"
)

// Multicast DNS (RFC 6762) and service discovery over it (RFC 6763). The questions go
// out from a port of our own, so that the answers come back to us alone (RFC 6762, 6.7).
const (
	mdnsPort = 5353
	// An answer to a shared record comes after 20 to 120 ms (RFC 6762, 6), and the
	// questions about what was heard take as long again.
	mdnsWait     = 700 * time.Millisecond
	mdnsTypes    = "_services._dns-sd._udp.local."
	maxRecords   = 256 // of one packet
	maxFollowUps = 24  // questions back, in one packet
)

// mdnsServices are asked for at once; what else there is, the devices tell.
var mdnsServices = []string{"_http._tcp.local.", "_https._tcp.local.", "_ssh._tcp.local.", "_redfish._tcp.local.", "_workstation._tcp.local.", "_device-info._tcp.local."}

func (s *Discoverer) mdns() way {
	return way{
		name: "mdns", port: mdnsPort, wait: mdnsWait,
		group4: netip.MustParseAddr("224.0.0.251"), group6: netip.MustParseAddr("ff02::fb"), groupPort: mdnsPort,
		messages: [][]byte{mdnsQuestions(dnsmessage.TypePTR, append([]string{mdnsTypes}, mdnsServices...))},
		read:     parseMDNS,
	}
}

func mdnsQuestions(kind dnsmessage.Type, names []string) []byte {
	m := dnsmessage.Message{}
	for _, name := range names {
		n, err := dnsmessage.NewName(name)
		if err != nil {
			continue
		}
		m.Questions = append(m.Questions, dnsmessage.Question{Name: n, Type: kind, Class: dnsmessage.ClassINET})
	}
	raw, err := m.Pack()
	if err != nil || len(m.Questions) == 0 {
		return nil
	}
	return raw
}

// mdnsService is one instance of a service, as far as an answer tells of it.
type mdnsService struct {
	port   uint16
	target string
	texts  []string
}

// parseMDNS reads one answer. A service counts only where its host is the one that
// answers. Types and instances that the answer does not explain are asked for.
func parseMDNS(packet []byte, from netip.AddrPort) (out []Sighting, ask []byte) {
	var p dnsmessage.Parser
	h, err := p.Start(packet)
	if err != nil || !h.Response || p.SkipAllQuestions() != nil {
		return nil, nil
	}
	services := map[string]*mdnsService{}
	var types, instances []string
	at := func(name string) *mdnsService {
		if services[name] == nil {
			services[name] = &mdnsService{}
		}
		return services[name]
	}
	host := "" // what the answering host is called
	record := func(header func() (dnsmessage.ResourceHeader, error), skip func() error) {
		for range maxRecords {
			h, err := header()
			if err != nil {
				return
			}
			name := h.Name.String()
			switch h.Type {
			case dnsmessage.TypePTR:
				r, err := p.PTRResource()
				if err != nil {
					return
				}
				if strings.EqualFold(name, mdnsTypes) {
					types = append(types, r.PTR.String())
				} else {
					at(r.PTR.String())
					instances = append(instances, r.PTR.String())
				}
			case dnsmessage.TypeSRV:
				r, err := p.SRVResource()
				if err != nil {
					return
				}
				at(name).port, at(name).target = r.Port, r.Target.String()
			case dnsmessage.TypeTXT:
				r, err := p.TXTResource()
				if err != nil {
					return
				}
				at(name).texts = r.TXT[:min(len(r.TXT), 64)]
			case dnsmessage.TypeA:
				r, err := p.AResource()
				if err != nil {
					return
				}
				if netip.AddrFrom4(r.A) == from.Addr() {
					host = name
				}
			case dnsmessage.TypeAAAA:
				r, err := p.AAAAResource()
				if err != nil {
					return
				}
				if netip.AddrFrom16(r.AAAA) == from.Addr().WithZone("") {
					host = name
				}
			default:
				if skip() != nil {
					return
				}
			}
		}
	}
	record(p.AnswerHeader, p.SkipAnswer)
	if p.SkipAllAnswers() == nil && p.SkipAllAuthorities() == nil {
		record(p.AdditionalHeader, p.SkipAdditional)
	}
	for _, name := range sortedKeys(services) {
		if s := services[name]; s.target != "" && (host == "" || strings.EqualFold(host, s.target)) {
			out = append(out, s.sighting(name, from.Addr()))
			instances = slices.DeleteFunc(instances, func(i string) bool { return i == name })
		}
	}
	if len(out) == 0 && (len(types) > 0 || len(instances) > 0) {
		out = append(out, Sighting{Via: "mdns", Address: netip.AddrPortFrom(from.Addr(), 0)})
	}
	return out, mdnsFollowUp(types, instances)
}

// mdnsFollowUp asks for the instances of types that were not asked for yet, and for
// where and what the instances are.
func mdnsFollowUp(types, instances []string) []byte {
	types = slices.DeleteFunc(types, func(t string) bool { return slices.Contains(mdnsServices, strings.ToLower(t)) })
	if len(instances) > 0 {
		return mdnsQuestions(dnsmessage.TypeALL, instances[:min(len(instances), maxFollowUps)])
	}
	return mdnsQuestions(dnsmessage.TypePTR, types[:min(len(types), maxFollowUps)])
}

// sighting makes one of a service instance, such as "cam-11._http._tcp.local.".
func (s *mdnsService) sighting(name string, host netip.Addr) Sighting {
	label, kind := instance(name)
	sight := Sighting{Via: "mdns", Address: netip.AddrPortFrom(host, s.port), Facts: device.Reading{Called: label}}
	switch kind {
	case "_http._tcp", "_redfish._tcp", "_https._tcp", "_ssh._tcp":
		sight.Look, sight.TLS = true, kind == "_https._tcp" || kind == "_redfish._tcp"
	default:
		sight.Address = netip.AddrPortFrom(host, 0)
	}
	if target := strings.TrimSuffix(s.target, ".local."); target != s.target && target != "" {
		sight.Facts.Called = text.Clean(target) // the host's own name; the service's may be a sentence
	}
	for _, t := range s.texts {
		k, v, _ := strings.Cut(t, "=")
		switch strings.ToLower(k) { // keys that several trades use alike; RFC 6763 fixes none
		case "uuid":
			sight.Facts.UUID = "urn:uuid:" + strings.ToLower(v)
		case "mac":
			sight.Facts.MAC = v
		}
	}
	if label != sight.Facts.Called {
		sight.Facts.Says = label
	}
	return sight
}

// instance splits an instance's name into its label, in which dots may stand, and its
// type: RFC 6763, 4.1.
func instance(name string) (label, kind string) {
	name = strings.TrimSuffix(name, ".local.")
	i := strings.LastIndex(name, "._")
	if i < 0 {
		return text.Clean(name), ""
	}
	j := strings.LastIndex(name[:i], "._")
	if j < 0 {
		return "", strings.TrimPrefix(name, ".")
	}
	return text.Clean(strings.ReplaceAll(name[:j], `\`, "")), strings.ToLower(name[j+1:])
}
