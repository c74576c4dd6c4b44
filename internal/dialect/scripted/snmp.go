package scripted

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"github.com/gosnmp/gosnmp"

	"catena/internal/device"
	"catena/internal/dialect/snmp"
	"catena/internal/family"
)

// snmpCarrier sends steps as SNMP (RFC 3416). A get may be sent again automatically, a set never
// is: when its answer is lost, the device is asked what came of it.
type snmpCarrier struct {
	session  *session
	place    *place
	answered bool // with the login of the place
}

func (c *snmpCarrier) close() {}

func (c *snmpCarrier) ask(ctx context.Context, step *family.Step, f family.Filled, _ *cargo) (
	a family.Answer, err error) {
	defer func() { // a device's message has made the decoder panic before
		if r := recover(); r != nil {
			err = device.Because(device.Malformed, "an unreadable SNMP message")
		}
	}()
	err = device.ErrAway
	as, answered := c.place.as, c.answered
	if step.Word == "set" && as.Changes != "" {
		as.Password, answered = as.Changes, false
	}
	for _, client := range snmp.Clients(c.place.at.Endpoint, as) {
		client.Context = ctx
		if err := client.Connect(); err != nil {
			return a, device.Because(device.NoAnswer, "%v", err)
		}
		if step.Word == "set" {
			client.Retries = 0
			a, err = c.set(client, step, f.Objects)
		} else {
			a, err = get(client, step)
		}
		err = snmp.Silence(ctx, err, c.place.at.Endpoint, answered)
		_ = client.Close()
		if err == nil || !errors.Is(err, device.ErrLoginRefused) {
			break
		}
	}
	c.answered = c.answered || err == nil
	return a, err
}

// get reads the objects of a step, and trees of them.
func get(client *gosnmp.GoSNMP, step *family.Step) (family.Answer, error) {
	a := family.Answer{Objects: map[string]any{}}
	var plain []string
	for _, o := range step.Objects {
		if !o.Tail {
			plain = append(plain, "."+o.OID)
			continue
		}
		tree := map[string]string{}
		err := client.BulkWalk("."+o.OID, func(pdu gosnmp.SnmpPDU) error {
			if len(tree) >= maxTree {
				return errors.New("too many objects")
			}
			tree[strings.TrimPrefix(pdu.Name, "."+o.OID+".")] = objectText(pdu)
			return nil
		})
		if err != nil {
			return a, snmp.Refusal(err)
		}
		a.Objects[o.Name] = tree
	}
	for len(plain) > 0 {
		n := min(len(plain), client.MaxOids)
		got, err := client.Get(plain[:n])
		if err != nil {
			return a, snmp.Refusal(err)
		}
		for _, pdu := range got.Variables {
			for _, o := range step.Objects {
				missing := pdu.Type == gosnmp.NoSuchObject || pdu.Type == gosnmp.NoSuchInstance ||
					pdu.Type == gosnmp.Null
				if "."+o.OID == pdu.Name && !missing {
					a.Objects[o.Name] = objectText(pdu)
				}
			}
		}
		plain = plain[n:]
	}
	return a, nil
}

// maxTree bounds the objects below one: a large switch has some thousand.
const maxTree = 4096

// objectText is the value of an object as text, in hexadecimal digits if it is not text.
func objectText(pdu gosnmp.SnmpPDU) string {
	raw, is := pdu.Value.([]byte)
	if !is {
		return strings.TrimPrefix(fmt.Sprint(pdu.Value), ".")
	}
	for _, b := range raw {
		if b < ' ' && b != '\n' && b != '\t' && b != '\r' {
			return hex.EncodeToString(raw)
		}
	}
	return string(raw)
}

// set sets the objects of a step, all in one message.
func (c *snmpCarrier) set(client *gosnmp.GoSNMP, step *family.Step, values []string) (family.Answer,
	error) {
	var pdus []gosnmp.SnmpPDU
	for i, o := range step.Objects {
		text := values[i]
		pdu := gosnmp.SnmpPDU{Name: "." + o.OID, Type: gosnmp.OctetString, Value: []byte(text)}
		switch o.Type {
		case "int":
			n, err := strconv.Atoi(text)
			if err != nil {
				return family.Answer{}, c.session.mistaken(fmt.Errorf("%q is not a whole number", text))
			}
			pdu.Type, pdu.Value = gosnmp.Integer, n
		case "address":
			if _, err := netip.ParseAddr(text); err != nil {
				return family.Answer{}, c.session.mistaken(fmt.Errorf("%q is not an address", text))
			}
			pdu.Type, pdu.Value = gosnmp.IPAddress, text
		case "hex":
			raw, err := hex.DecodeString(text)
			if err != nil {
				return family.Answer{}, c.session.mistaken(fmt.Errorf("%q is not hexadecimal", text))
			}
			pdu.Value = raw
		}
		pdus = append(pdus, pdu)
	}
	got, err := client.Set(pdus)
	if err != nil {
		return family.Answer{}, snmp.Refusal(err)
	}
	a := family.Answer{Status: int(got.Error)}
	if got.Error != gosnmp.NoError {
		a.Body = []byte("SNMP " + got.Error.String())
	}
	return a, nil
}
