// Package snmp reads devices that speak SNMP: v1, v2c (RFC 1157, RFC 3416) and v3 with
// the user-based security model (RFC 3414). It reads the system group (RFC 3418), the
// ENTITY-MIB (RFC 6933) and the LLDP-MIB (IEEE 802.1AB), and writes nothing.
//
// A login without a user is a community; one with a user is a v3 user.
package snmp

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/login"
	"catena/internal/text"
)

// Versions, as an endpoint's ProtocolVersion tells them.
const (
	V1  = "v1"
	V2c = "v2c"
	V3  = "v3"
)

// Community is what a device is read with that no one gave a login for: what the trade
// sets at the factory for reading.
const Community = "public"

const (
	answerIn = time.Second // for one question …
	retries  = 1           // … asked so often more
	maxRows  = 1024        // of one column of a table
)

// Dialect is the dialect, as far as it reads.
type Dialect struct{}

// Name of the dialect.
const Name = "snmp"

// About describes the dialect.
func (Dialect) About() dialect.About {
	return dialect.About{Name: Name, Rank: 40, Transport: "udp", Ports: []uint16{161},
		Better: Better,
		Form: func(e device.Endpoint) login.Form {
			if e.ProtocolVersion == V3 {
				return login.UserPassword
			}
			return login.Community
		}}
}

// Probe asks in every version at once.
func (d Dialect) Probe(ctx context.Context, at dialect.At) (device.Reading, error) {
	a, err := netip.ParseAddrPort(at.Address)
	if err != nil {
		return device.Reading{}, device.ErrNotMine
	}
	reading, _, ok := ask(ctx, at.Endpoint, a)
	if !ok {
		return device.Reading{}, device.ErrAway
	}
	return reading, nil
}

// Open starts a session.
func (Dialect) Open(at dialect.At, as login.Credential) dialect.Session {
	return &session{at: at, as: as}
}

type session struct {
	dialect.ReadOnly
	at       dialect.At
	as       login.Credential
	answered bool // with this login
}

// objects of the system group, the ENTITY-MIB, the interfaces group and the LLDP-MIB.
const (
	sysDescr = ".1.3.6.1.2.1.1.1.0"
	sysName  = ".1.3.6.1.2.1.1.5.0"

	entPhysical  = ".1.3.6.1.2.1.47.1.1.1.1."
	entClass     = entPhysical + "5"
	entName      = entPhysical + "7"
	entHardware  = entPhysical + "8"
	entFirmware  = entPhysical + "9"
	entSoftware  = entPhysical + "10"
	entSerial    = entPhysical + "11"
	entMaker     = entPhysical + "12"
	entModel     = entPhysical + "13"
	classChassis = 3
	classModule  = 9

	ifPhysAddress = ".1.3.6.1.2.1.2.2.1.6"

	lldpLocal         = ".1.0.8802.1.1.2.1.3."
	lldpLocChassisSub = lldpLocal + "1.0"
	lldpLocChassis    = lldpLocal + "2.0"
	lldpLocPortDesc   = lldpLocal + "7.1.4"
	lldpRemote        = ".1.0.8802.1.1.2.1.4.1.1."
	lldpRemChassisSub = lldpRemote + "4"
	lldpRemChassis    = lldpRemote + "5"
	lldpRemName       = lldpRemote + "9"
	lldpRemManAddr    = ".1.0.8802.1.1.2.1.4.2.1.3"
	subtypeMAC        = 4 // LldpChassisIdSubtype
)

// Read reads the device with its login.
func (t *session) Read(ctx context.Context) (facts device.Reading, err error) {
	defer func() { // a device's message has made the decoder panic before
		if r := recover(); r != nil {
			err = device.Because(device.Malformed, "an unreadable SNMP message")
		}
	}()
	var last error
	for _, c := range Clients(t.at.Endpoint, t.as) {
		c.Context = ctx
		if err := c.Connect(); err != nil {
			return facts, device.Because(device.NoAnswer, "%v", err)
		}
		facts, last = read(c)
		last = Silence(ctx, last, t.at.Endpoint, t.answered)
		_ = c.Close()
		if last == nil || !errors.Is(last, device.ErrLoginRefused) {
			break
		}
	}
	t.answered = t.answered || last == nil
	return facts.Clean(), last
}

// Clients are the ways to log in that are worth a try, the commonest first.
func Clients(at device.Endpoint, as login.Credential) []*gosnmp.GoSNMP {
	host, port := at.Address, uint16(161)
	if a, err := netip.ParseAddrPort(at.Address); err == nil {
		host, port = a.Addr().String(), a.Port()
	}
	base := func(v gosnmp.SnmpVersion) *gosnmp.GoSNMP {
		return &gosnmp.GoSNMP{Target: host, Port: port, Transport: "udp", Version: v,
			Timeout: answerIn, Retries: retries,
			MaxOids: 24, MaxRepetitions: 24}
	}
	if as.User == "" {
		c := base(gosnmp.Version2c)
		if at.ProtocolVersion == V1 {
			c.Version = gosnmp.Version1
		}
		c.Community = as.Password
		if c.Community == "" {
			c.Community = Community
		}
		return []*gosnmp.GoSNMP{c}
	}
	privacy := as.SNMP.Secret
	if privacy == "" {
		privacy = as.Password
	}
	var out []*gosnmp.GoSNMP
	for _, how := range ways(as.SNMP) {
		c := base(gosnmp.Version3)
		c.Retries = 0 // a wrong guess is not worth a second
		c.SecurityModel, c.MsgFlags = gosnmp.UserSecurityModel, how.flags
		s := &gosnmp.UsmSecurityParameters{UserName: as.User, AuthenticationProtocol: how.auth,
			AuthenticationPassphrase: as.Password}
		if how.flags == gosnmp.AuthPriv {
			s.PrivacyProtocol, s.PrivacyPassphrase = how.priv, privacy
		}
		c.SecurityParameters = s
		out = append(out, c)
	}
	return out
}

// secured is a way to secure a message: RFC 3414.
type secured struct {
	flags gosnmp.SnmpV3MsgFlags
	auth  gosnmp.SnmpV3AuthProtocol
	priv  gosnmp.SnmpV3PrivProtocol
}

// ways are those that a login names, or the usual ones.
func ways(named login.SNMP) []secured {
	if named.Auth == "" {
		return []secured{{gosnmp.AuthPriv, gosnmp.SHA, gosnmp.AES},
			{gosnmp.AuthPriv, gosnmp.SHA256, gosnmp.AES},
			{gosnmp.AuthNoPriv, gosnmp.SHA, gosnmp.NoPriv}}
	}
	auth := map[string]gosnmp.SnmpV3AuthProtocol{"md5": gosnmp.MD5, "sha": gosnmp.SHA,
		"sha224": gosnmp.SHA224,
		"sha256": gosnmp.SHA256, "sha384": gosnmp.SHA384, "sha512": gosnmp.SHA512}[named.Auth]
	if named.Privacy == "" {
		return []secured{{gosnmp.AuthNoPriv, auth, gosnmp.NoPriv}}
	}
	priv := map[string]gosnmp.SnmpV3PrivProtocol{"des": gosnmp.DES, "aes": gosnmp.AES,
		"aes192": gosnmp.AES192,
		"aes256": gosnmp.AES256}[named.Privacy]
	return []secured{{gosnmp.AuthPriv, auth, priv}}
}

func read(c *gosnmp.GoSNMP) (device.Reading, error) {
	var f device.Reading
	got, err := c.Get([]string{sysDescr, sysName})
	if err != nil {
		return f, Refusal(err)
	}
	f.Says, f.Called = words(got.Variables, 0), words(got.Variables, 1)
	t := tables{c: c}
	t.entity(&f)
	t.lldp(&f)
	if f.MAC == "" {
		for _, row := range t.column(ifPhysAddress) {
			f.MAC = hexMAC(row.value)
			if f.MAC != "" {
				break
			}
		}
	}
	return f, t.err
}

// errSilent is returned by Refusal where nothing answered in time.
var errSilent = device.Because(device.NoAnswer, device.NotInTime)

// Refusal says what an error of a request means. It is errSilent where nothing answered: an agent
// that rejects a community is as silent as one that is away; see Silence.
func Refusal(err error) error {
	because := func(what string) error { return device.Because(device.BadLogin, "%s", what) }
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case strings.Contains(err.Error(), "timeout"):
		return errSilent
	case strings.Contains(err.Error(), "refused"): // nothing listens at the port
		return device.Because(device.NoAnswer, "its SNMP port is closed")
	case errors.Is(err, gosnmp.ErrUnknownUsername):
		return because("it does not know the user")
	case errors.Is(err, gosnmp.ErrWrongDigest), strings.Contains(err.Error(), "not authentic"):
		return because("the user, or its authentication password or protocol, is wrong")
	case errors.Is(err, gosnmp.ErrDecryption):
		return because("the privacy password or protocol is wrong")
	case errors.Is(err, gosnmp.ErrUnknownSecurityLevel):
		return because("it does not accept the user at this security level")
	}
	return device.Because(device.Malformed, "SNMP: %s", text.Clean(err.Error()))
}

// Silence decides what the silence after a request means. Where the login has been answered in this
// session, the device is away. Else it is asked what it answers without a login (the discovery of
// SNMPv3, RFC 3414, section 4, and the community public): if it answers, it rejected the login.
func Silence(ctx context.Context, err error, at device.Endpoint, answered bool) error {
	var cause *device.Cause
	if !errors.As(err, &cause) || cause != errSilent || answered {
		return err
	}
	a, parseErr := netip.ParseAddrPort(at.Address)
	if parseErr != nil {
		return err
	}
	if _, _, there := ask(ctx, at, a); !there {
		return err
	}
	if at.ProtocolVersion == V3 {
		return device.Because(device.BadLogin, "it does not answer: the user, or its "+
			"privacy password or protocol, is wrong")
	}
	return device.Because(device.BadLogin, "it does not answer this community")
}

// tables reads columns of tables; its first error ends the reading.
type tables struct {
	c   *gosnmp.GoSNMP
	err error
}

type row struct {
	index string // the object's number behind the column's
	value gosnmp.SnmpPDU
}

var errEnough = errors.New("enough")

func (t *tables) column(oid string) []row {
	var out []row
	if t.err != nil {
		return nil
	}
	walk := t.c.BulkWalk
	if t.c.Version == gosnmp.Version1 {
		walk = t.c.Walk
	}
	err := walk(oid, func(p gosnmp.SnmpPDU) error {
		index, ok := strings.CutPrefix(p.Name, oid+".")
		if !ok || len(out) >= maxRows || len(index) > 256 {
			return errEnough
		}
		out = append(out, row{index, p})
		return nil
	})
	// A device without the table reports this in several ways; what it has was read.
	if err != nil && !errors.Is(err, errEnough) && t.c.Context.Err() != nil {
		t.err = device.Because(device.NoAnswer, device.NotInTime)
	}
	return out
}

func (t *tables) texts(oid string) map[string]string {
	out := map[string]string{}
	for _, r := range t.column(oid) {
		out[r.index] = plain(r.value)
	}
	return out
}

// entity takes the chassis from the ENTITY-MIB, and the modules with a version of their
// own as components.
func (t *tables) entity(f *device.Reading) {
	chassis, modules := "", []string{}
	for _, r := range t.column(entClass) {
		switch class, _ := r.value.Value.(int); {
		case class == classChassis && chassis == "":
			chassis = r.index
		case class == classModule:
			modules = append(modules, r.index)
		}
	}
	if chassis == "" {
		return
	}
	model, serial, maker, hardware := t.texts(entModel), t.texts(entSerial), t.texts(
		entMaker), t.texts(entHardware)
	firmware, software, name := t.texts(entFirmware), t.texts(entSoftware), t.texts(entName)
	f.Model, f.Serial, f.Vendor, f.Hardware, f.Version = model[chassis], serial[chassis],
		maker[chassis], hardware[chassis], firmware[chassis]
	if f.Version == "" {
		f.Version = software[chassis]
	}
	f.Components = map[string]string{}
	for _, m := range modules {
		if firmware[m] != "" && name[m] != "" {
			f.Components[name[m]] = firmware[m]
		}
	}
}

// lldp takes the device's own chassis number, and its neighbours with the ports that
// they are seen at.
func (t *tables) lldp(f *device.Reading) {
	if t.err != nil {
		return
	}
	if got, err := t.c.Get([]string{lldpLocChassisSub, lldpLocChassis}); err == nil &&
		len(got.Variables) == 2 {
		if sub, _ := got.Variables[0].Value.(int); sub == subtypeMAC {
			f.MAC = hexMAC(got.Variables[1])
		}
	}
	ports, names := t.texts(lldpLocPortDesc), t.texts(lldpRemName)
	subs := map[string]int{}
	for _, r := range t.column(lldpRemChassisSub) {
		subs[r.index], _ = r.value.Value.(int)
	}
	addresses := map[string]string{} // by time, port and number of the neighbour
	for _, r := range t.column(lldpRemManAddr) {
		if neighbour, address, ok := manAddr(r.index); ok {
			addresses[neighbour] = address
		}
	}
	for _, r := range t.column(lldpRemChassis) {
		part := strings.Split(r.index, ".") // lldpRemTimeMark, lldpRemLocalPortNum, lldpRemIndex
		if len(part) != 3 {
			continue
		}
		n := device.Neighbour{Port: ports[part[1]], Name: names[r.index],
			Address: addresses[r.index]}
		if n.Port == "" {
			n.Port = part[1]
		}
		if subs[r.index] == subtypeMAC {
			n.Chassis = hexMAC(r.value)
		} else {
			n.Chassis = plain(r.value)
		}
		f.Neighbours = append(f.Neighbours, n)
	}
}

// manAddr splits the index of lldpRemManAddrTable: the neighbour's three numbers, the
// address family (1 is IPv4), the length, the address.
func manAddr(index string) (neighbour, address string, ok bool) {
	part := strings.Split(index, ".")
	if len(part) != 9 || part[3] != "1" || part[4] != "4" {
		return "", "", false
	}
	a, err := netip.ParseAddr(strings.Join(part[5:], "."))
	return strings.Join(part[:3], "."), a.String(), err == nil
}

func words(v []gosnmp.SnmpPDU, i int) string {
	if i >= len(v) {
		return ""
	}
	return plain(v[i])
}

func plain(p gosnmp.SnmpPDU) string {
	switch v := p.Value.(type) {
	case []byte:
		return text.Clean(string(v[:min(len(v), 4*text.Max)]))
	case string:
		return text.Clean(v)
	case int:
		return strconv.Itoa(v)
	}
	return ""
}

func hexMAC(p gosnmp.SnmpPDU) string {
	v, _ := p.Value.([]byte)
	if len(v) != 6 {
		return ""
	}
	return device.CleanMAC(fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", v[0], v[1], v[2], v[3],
		v[4], v[5]))
}
