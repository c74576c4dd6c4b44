package scripted

import (
	"cmp"
	"context"
	"maps"
	"net"
	"strconv"

	"catena/internal/bacnet"
	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/family"
	"catena/internal/login"
)

// place is where a step goes, and as whom: the device as it was found, another port or protocol of
// it, or another device of the site.
type place struct {
	at      dialect.At
	as      login.Credential
	values  family.LoginValues // of as
	carrier carrier
}

// whither is what tells places apart.
type whither struct {
	protocol string
	port     uint16
	on       string
}

// carrier sends the steps of one protocol.
type carrier interface {
	// ask sends a step and returns the answer. image is what an upload sends; nil: nothing.
	ask(ctx context.Context, step *family.Step, f family.Filled, image *cargo) (family.Answer, error)
	close()
}

// place is where a step goes. It is made when the first step goes there, and lasts for the session.
func (s *session) place(ctx context.Context, step *family.Step) (*place, error) {
	key := whither{step.Protocol, step.Port, step.On}
	if p := s.places[key]; p != nil {
		return p, nil
	}
	if s.hub != nil {
		p, err := s.placeBy(ctx, step)
		if err == nil {
			s.places[key] = p
		}
		return p, err
	}
	p, own := &place{at: s.at, as: s.as}, s.program.Protocol
	if step.On != "" {
		if s.at.Other == nil {
			return nil, device.Because(device.Unsupported, "line %d: there is no site here whose %s "+
				"could be asked",
				step.Line, step.On)
		}
		other, err := s.at.Other(ctx, step.On)
		if err != nil {
			return nil, err
		}
		p.at, p.as, own = other.At, other.As, other.Protocol
	}
	if own == "onvif" || own == "redfish" || step.Protocol == "https" && p.at.Secure() {
		own = map[bool]string{true: "https", false: "http"}[p.at.Secure()] // they are HTTP's
	}
	if step.Port != 0 || step.Protocol != own {
		p.elsewhere(s, step)
	}
	p.values = loginValues(p.as)
	p.carrier = s.through(newCarrier(s, p, step.Protocol))
	s.places[key] = p
	return p, nil
}

// portOf is where a protocol usually is.
var portOf = map[string]uint16{"http": 80, "https": 443, "ssh": 22, "snmp": 161, "tftp": 69,
	"bacnet": bacnet.Port}

// elsewhere has a place at another port than where its device was found.
func (p *place) elsewhere(s *session, step *family.Step) {
	port := cmp.Or(step.Port, portOf[step.Protocol])
	address := net.JoinHostPort(p.at.Host(), strconv.Itoa(int(port)))
	p.at.Endpoint = device.Endpoint{Dialect: p.at.Dialect, Address: address}
	if step.Protocol == "https" {
		p.at.Scheme = "https"
	}
	p.at.Trust = nil
	if s.at.TrustAt != nil {
		p.at.Trust = s.at.TrustAt(address)
	}
	if community := p.as.Secrets["community"]; step.Protocol == "snmp" && community != "" {
		p.as = login.Credential{Password: community, PlainBasic: p.as.PlainBasic}
	}
}

// loginValues are the values of a login that a family can use.
func loginValues(as login.Credential) family.LoginValues {
	v := family.LoginValues{"user": as.User, "password": as.Password}
	maps.Copy(v, as.Secrets)
	return v
}

// newCarrier is what sends the steps that go to a place.
func newCarrier(s *session, p *place, protocol string) carrier {
	switch protocol {
	case "ssh":
		return &sshCarrier{session: s, place: p}
	case "snmp":
		return &snmpCarrier{session: s, place: p}
	case "bacnet":
		return &bacnetCarrier{session: s, place: p}
	case "tftp":
		return tftpCarrier{p}
	}
	return newHTTP(s, p)
}

// closePlaces ends the connections of a session.
func (s *session) closePlaces() {
	for key, p := range s.places {
		p.carrier.close()
		delete(s.places, key)
	}
}
