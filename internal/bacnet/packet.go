package bacnet

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// Functions of the BACnet Virtual Link Layer (Annex J.2).
const (
	linkType = 0x81

	linkResult           = 0x00
	linkForwarded        = 0x04
	linkRegister         = 0x05
	linkDistribute       = 0x09
	linkUnicast          = 0x0a
	linkBroadcast        = 0x0b
	linkHeader           = 4 // bytes
	linkForwardedAddress = 6 // bytes of the address before a forwarded message
)

// Types of APDUs (20.1), and the bits beside them.
const (
	confirmed   = 0
	unconfirmed = 1
	simpleAck   = 2
	complexAck  = 3
	segmentAck  = 4
	errorAnswer = 5
	reject      = 6
	abort       = 7

	segmented       = 0x08
	more            = 0x04
	acceptsSegments = 0x02
	negative        = 0x02 // of a segment acknowledgement
	fromServer      = 0x01
)

// Services (20.1.2.8, 20.1.3.3).
const (
	iAm   = 0
	whoIs = 8

	readFile     = 6
	writeFile    = 7
	readProperty = 12
	setProperty  = 15
	reinitialize = 20
)

// sizes are the lengths of an APDU that a request can ask for, by their codes (20.1.2.5).
var sizes = []int{50, 128, 206, 480, 1024, MaxAPDU}

// MaxAPDU is the longest APDU over IP, in bytes.
const MaxAPDU = 1476

// onLink wraps an NPDU in the link layer.
func onLink(function byte, npdu []byte) []byte {
	b := []byte{linkType, function, 0, 0}
	binary.BigEndian.PutUint16(b[2:], uint16(linkHeader+len(npdu)))
	return append(b, npdu...)
}

// local wraps an APDU for the device itself, not for one behind it (6.2).
func local(apdu []byte, expectsReply bool) []byte {
	control := byte(0)
	if expectsReply {
		control = 4
	}
	return append([]byte{1, control}, apdu...)
}

// fromLink unwraps a datagram. origin is the first sender of a forwarded one; behind is the device
// on another network that it comes from, through the sender; empty: it comes from the sender
// itself. ok is false for what has no APDU, or is damaged.
func fromLink(b []byte) (apdu []byte, origin netip.AddrPort, behind string, ok bool) {
	if len(b) < linkHeader || b[0] != linkType || int(binary.BigEndian.Uint16(b[2:])) != len(b) {
		return nil, origin, "", false
	}
	function := b[1]
	b = b[linkHeader:]
	switch function {
	case linkForwarded:
		if len(b) < linkForwardedAddress {
			return nil, origin, "", false
		}
		origin = netip.AddrPortFrom(netip.AddrFrom4([4]byte(b[:4])), binary.BigEndian.Uint16(b[4:]))
		b = b[linkForwardedAddress:]
	case linkUnicast, linkBroadcast:
	default:
		return nil, origin, "", false
	}
	apdu, behind, ok = fromNetwork(b)
	return apdu, origin, behind, ok
}

// fromNetwork unwraps an NPDU (6.2).
func fromNetwork(b []byte) (apdu []byte, behind string, ok bool) {
	if len(b) < 2 || b[0] != 1 || b[1]&0x80 != 0 { // a message of the network layer
		return nil, "", false
	}
	control := b[1]
	b = b[2:]
	address := func() (string, bool) { // a network, a length, and that number of bytes
		if len(b) < 3 || len(b) < 3+int(b[2]) {
			return "", false
		}
		whole := fmt.Sprintf("%d:%x", binary.BigEndian.Uint16(b), b[3:3+int(b[2])])
		b = b[3+int(b[2]):]
		return whole, true
	}
	if control&0x20 != 0 {
		if _, ok := address(); !ok {
			return nil, "", false
		}
	}
	if control&0x08 != 0 {
		if behind, ok = address(); !ok {
			return nil, "", false
		}
	}
	if control&0x20 != 0 { // the hop count
		if len(b) == 0 {
			return nil, "", false
		}
		b = b[1:]
	}
	return b, behind, len(b) > 0
}

// answer is an APDU that came back.
type answer struct {
	kind      byte
	more      bool // of a segmented one: more follow
	segmented bool
	negative  bool
	server    bool
	invoke    byte
	sequence  byte
	window    byte
	service   byte // or the reason
	data      []byte
}

// readAnswer reads an APDU that answers a confirmed request (20.1).
func readAnswer(b []byte) (a answer, ok bool) {
	if len(b) < 3 {
		return a, false
	}
	a = answer{kind: b[0] >> 4, invoke: b[1], service: b[2]}
	switch a.kind {
	case simpleAck, reject, abort:
		a.server = b[0]&fromServer != 0
		return a, true
	case errorAnswer:
		a.data = b[3:]
		return a, true
	case segmentAck:
		a.negative, a.server, a.sequence = b[0]&negative != 0, b[0]&fromServer != 0, b[2]
		if len(b) < 4 {
			return a, false
		}
		a.window = b[3]
		return a, a.server
	case complexAck:
		if b[0]&segmented == 0 {
			a.data = b[3:]
			return a, true
		}
		if len(b) < 5 {
			return a, false
		}
		a.segmented, a.more, a.sequence, a.window, a.service = true, b[0]&more != 0, b[2], b[3], b[4]
		a.data = b[5:]
		return a, true
	}
	return a, false
}

// Found is a device that told who it is.
type Found struct {
	Instance     uint32 // of its device object
	MaxAPDU      int    // bytes
	Segmentation uint64 // 0: both ways; 1: it sends segments; 2: it receives them; 3: none
	Vendor       uint64 // its number with the standard's body
	Address      netip.AddrPort
	// its network and its address there, where it is behind a router, which has Address; empty: it is
	// not
	Behind string
}

// WhoIs is the question to all devices (16.10), as it is sent to one address, as a broadcast, or to
// be distributed by a BBMD.
func WhoIs(how Reach) []byte {
	return onLink(byte(how), local([]byte{unconfirmed << 4, whoIs}, false))
}

// Reach is how a question is to reach devices (Annex J.2).
type Reach byte

// The ways.
const (
	ToOne     Reach = linkUnicast
	ToAll     Reach = linkBroadcast
	ByForeign Reach = linkDistribute
)

// Register asks a BBMD to count this socket as a foreign device for some seconds (J.2.6).
func Register(seconds uint16) []byte {
	return onLink(linkRegister, binary.BigEndian.AppendUint16(nil, seconds))
}

// Registered returns what a BBMD answers to Register or a distribution: true: it has been done. ok
// is false for any other message.
func Registered(packet []byte) (done, ok bool) {
	if len(packet) != linkHeader+2 || packet[0] != linkType || packet[1] != linkResult {
		return false, false
	}
	return binary.BigEndian.Uint16(packet[linkHeader:]) == 0, true
}

// ReadIAm reads the answer to WhoIs. from is who sent the datagram. The device's address is that,
// or the one in a forwarded message.
func ReadIAm(packet []byte, from netip.AddrPort) (f Found, ok bool) {
	b, origin, behind, ok := fromLink(packet)
	if !ok || len(b) < 2 || b[0]>>4 != unconfirmed || b[1] != iAm {
		return f, false
	}
	var v [4]Value
	b = b[2:]
	for i := range v {
		var err error
		if v[i], b, err = readValue(b); err != nil {
			return f, false
		}
	}
	id, is := v[0].Object()
	if !is || id.Type != TypeDevice || v[1].Type != Unsigned || v[2].Type != Enumerated ||
		v[3].Type != Unsigned {
		return f, false
	}
	f = Found{id.Instance, int(min(v[1].Number, MaxAPDU)), v[2].Number, v[3].Number, from, behind}
	if origin.IsValid() {
		f.Address = origin
	}
	return f, true
}

// probeInvoke marks the question of Probes.
const probeInvoke = 0xca

// Probes are the questions to one address: who it is, as an answer to which a device may only tell
// everybody, and, as it answers that to the asker alone, the identifier of its device object.
func Probes() [][]byte {
	ask := appendContext([]byte{confirmed << 4, 5, probeInvoke, readProperty}, 0, OwnDevice.value())
	ask = appendContext(ask, 1, NumberOf(propObjectID))
	return [][]byte{WhoIs(ToOne), onLink(linkUnicast, local(ask, true))}
}

// ReadAnswer reads a device's answer to a question of Probes, to WhoIs, or to one that a BBMD has
// distributed. from is who sent it. A device that does not know the wildcard refuses, and has not
// told its instance: it is AnyInstance.
func ReadAnswer(packet []byte, from netip.AddrPort) (f Found, ok bool) {
	if f, ok := ReadIAm(packet, from); ok {
		return f, true
	}
	apdu, _, behind, ok := fromLink(packet)
	if !ok || behind != "" {
		return f, false
	}
	a, ok := readAnswer(apdu)
	if !ok || a.invoke != probeInvoke {
		return f, false
	}
	f = Found{Instance: AnyInstance, Address: from}
	if a.kind != complexAck {
		return f, a.kind == errorAnswer || a.kind == abort || a.kind == reject
	}
	v, err := property(a.data)
	if a.service != readProperty || err != nil || len(v) != 1 {
		return f, false
	}
	id, is := v[0].Object()
	f.Instance = id.Instance
	return f, is && id.Type == TypeDevice
}
