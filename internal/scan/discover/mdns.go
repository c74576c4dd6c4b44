package discover

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

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
	maxTexts     = 64  // strings of one TXT record
	maxFollowUps = 24  // questions back, in one packet
)

// mdnsServices are asked for at once; what else there is, the devices tell.
var mdnsServices = []string{
	"_http._tcp.local.", "_https._tcp.local.", "_ssh._tcp.local.", "_redfish._tcp.local.",
	"_workstation._tcp.local.", "_device-info._tcp.local.",
}

func (s *Discoverer) mdns() way {
	return way{
		name: "mdns", port: mdnsPort, wait: mdnsWait,
		group4: netip.MustParseAddr("224.0.0.251"), group6: netip.MustParseAddr("ff02::fb"),
		groupPort: mdnsPort,
		messages: [][]byte{mdnsQuestions(dns.TypePTR,
			append([]string{mdnsTypes}, mdnsServices...))},
		read: parseMDNS,
	}
}

// mdnsQuestions packs questions for names in presentation form. A name that is none is
// left out; without any there is no packet.
func mdnsQuestions(kind uint16, names []string) []byte {
	m := dns.Msg{}
	for _, name := range names {
		if _, ok := dns.IsDomainName(name); ok {
			m.Question = append(m.Question,
				dns.Question{Name: dns.Fqdn(name), Qtype: kind, Qclass: dns.ClassINET})
		}
	}
	raw, err := m.Pack()
	if err != nil || len(m.Question) == 0 {
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

// mdnsAnswer is what one packet says. Names are in presentation form: what is not a letter of
// a host name is escaped in them.
type mdnsAnswer struct {
	services  map[string]*mdnsService // by the instance's name
	types     []string                // of services that there are
	instances []string                // those named, in their order
	host      string                  // the name of the answering host
}

func (a *mdnsAnswer) service(name string) *mdnsService {
	if a.services[name] == nil {
		a.services[name] = &mdnsService{}
	}
	return a.services[name]
}

// add takes one record of a packet that came from that address.
func (a *mdnsAnswer) add(record dns.RR, from netip.Addr) {
	name := record.Header().Name
	switch r := record.(type) {
	case *dns.PTR:
		if strings.EqualFold(name, mdnsTypes) {
			a.types = append(a.types, r.Ptr)
			return
		}
		a.service(r.Ptr)
		a.instances = append(a.instances, r.Ptr)
	case *dns.SRV:
		a.service(name).port = r.Port
		a.service(name).target = r.Target
	case *dns.TXT:
		a.service(name).texts = r.Txt[:min(len(r.Txt), maxTexts)]
	case *dns.A:
		if is, ok := netip.AddrFromSlice(r.A.To4()); ok && is == from {
			a.host = name
		}
	case *dns.AAAA:
		if is, ok := netip.AddrFromSlice(r.AAAA); ok && is == from.WithZone("") {
			a.host = name
		}
	}
}

// parseMDNS reads one answer. A service counts only where its host is the one that
// answers. Types and instances that the answer does not explain are asked for.
func parseMDNS(packet []byte, from netip.AddrPort) (out []Sighting, ask []byte) {
	var m dns.Msg
	if err := m.Unpack(packet); err != nil || !m.Response {
		return nil, nil
	}
	answer := mdnsAnswer{services: map[string]*mdnsService{}}
	records := append(m.Answer, m.Extra...)
	for _, r := range records[:min(len(records), maxRecords)] {
		answer.add(r, from.Addr())
	}
	unexplained := answer.instances
	for _, name := range sortedKeys(answer.services) {
		s := answer.services[name]
		if s.target != "" && (answer.host == "" || strings.EqualFold(answer.host, s.target)) {
			out = append(out, s.sighting(name, from.Addr()))
			unexplained = slices.DeleteFunc(unexplained, func(i string) bool { return i == name })
		}
	}
	if len(out) == 0 && (len(answer.types) > 0 || len(unexplained) > 0) {
		out = append(out, Sighting{Via: "mdns", Address: netip.AddrPortFrom(from.Addr(), 0)})
	}
	return out, mdnsFollowUp(answer.types, unexplained)
}

// mdnsFollowUp asks for the instances of types that were not asked for yet, and for
// where and what the instances are.
func mdnsFollowUp(types, instances []string) []byte {
	types = slices.DeleteFunc(types, func(t string) bool {
		return slices.Contains(mdnsServices, strings.ToLower(t))
	})
	if len(instances) > 0 {
		return mdnsQuestions(dns.TypeANY, instances[:min(len(instances), maxFollowUps)])
	}
	return mdnsQuestions(dns.TypePTR, types[:min(len(types), maxFollowUps)])
}

// sighting makes one of a service instance, such as "cam-11._http._tcp.local.".
func (s *mdnsService) sighting(name string, host netip.Addr) Sighting {
	label, kind := instance(name)
	sight := Sighting{Via: "mdns", Address: netip.AddrPortFrom(host, s.port),
		Facts: device.Reading{Called: label}}
	switch kind {
	case "_http._tcp", "_redfish._tcp", "_https._tcp", "_ssh._tcp":
		sight.Look, sight.TLS = true, kind == "_https._tcp" || kind == "_redfish._tcp"
	default: // its port is kept, and what it says it is
		sight.Trouble = device.Because(device.NotRecognised, "it announces %s", kind)
	}
	if target := strings.TrimSuffix(s.target, ".local."); target != s.target && target != "" {
		// the host's own name; the service's may be a sentence
		sight.Facts.Called = text.Clean(unescaped(target))
	}
	s.texted(&sight.Facts)
	if label != sight.Facts.Called {
		sight.Facts.Says = label
	}
	return sight
}

// texted takes from the TXT record what several trades write alike; RFC 6763 fixes no
// keys. A bare version may be the protocol's: it counts beside a vendor or a model.
func (s *mdnsService) texted(facts *device.Reading) {
	version := ""
	for _, t := range s.texts {
		key, value, _ := strings.Cut(unescaped(t), "=")
		value = text.Clean(value)
		switch strings.ToLower(key) {
		case "uuid":
			facts.UUID = "urn:uuid:" + strings.ToLower(value)
		case "mac":
			facts.MAC = value
		case "vendor", "manufacturer":
			facts.Vendor = value
		case "model":
			facts.Model = value
		case "serial", "serialnumber":
			facts.Serial = value
		case "version", "firmware":
			version = value
		}
	}
	if facts.Vendor+facts.Model != "" {
		facts.Version = version
	}
}

// instance splits an instance's name into its label and its type: RFC 6763, 4.1. In the
// label anything may stand, dots and spaces too (4.1.1); they are escaped in the name.
func instance(name string) (label, kind string) {
	labels := dns.SplitDomainName(name)
	for i, l := range labels {
		if strings.HasPrefix(l, "_") && len(labels) > i+1 {
			return text.Clean(unescaped(strings.Join(labels[:i], "."))),
				strings.ToLower(l + "." + labels[i+1])
		}
	}
	return text.Clean(unescaped(strings.TrimSuffix(name, ".local."))), ""
}

// unescaped takes the escapes of the presentation form out of a text: \. and \032 (RFC
// 1035, 5.1).
func unescaped(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		digit := func(at int) int {
			if at < len(s) && s[at] >= '0' && s[at] <= '9' {
				return int(s[at] - '0')
			}
			return -1
		}
		switch {
		case s[i] != '\\' || i+1 == len(s):
			b.WriteByte(s[i])
		case digit(i+1) >= 0 && digit(i+2) >= 0 && digit(i+3) >= 0:
			b.WriteByte(byte(100*digit(i+1) + 10*digit(i+2) + digit(i+3)))
			i += 3
		default:
			i++
			b.WriteByte(s[i])
		}
	}
	return b.String()
}
