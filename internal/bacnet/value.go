package bacnet

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

// Type is an application tag (ASHRAE 135, 20.2.1.4).
type Type uint8

// The types of values.
const (
	Null Type = iota
	Boolean
	Unsigned
	Signed
	Real
	Double
	Octets
	Characters
	Bits
	Enumerated
	Date
	Time
	Object
)

// typeNames are the types as people write them.
var typeNames = []string{
	"null",
	"boolean",
	"unsigned",
	"signed",
	"real",
	"double",
	"octets",
	"text",
	"bits",
	"enumerated",
	"date",
	"time",
	"object",
}

func (t Type) String() string {
	if int(t) < len(typeNames) {
		return typeNames[t]
	}
	return fmt.Sprintf("type %d", uint8(t))
}

// Value is one value of a property. Which field holds it depends on its type: Number an Unsigned,
// an Enumerated, a Boolean and the 32 bits of an Object; Integer a Signed; Float a Real and a
// Double; Raw the bytes of all others. The bytes of Characters are UTF-8.
type Value struct {
	Type    Type
	Number  uint64
	Integer int64
	Float   float64
	Raw     []byte
}

// TextOf makes a character string.
func TextOf(s string) Value { return Value{Type: Characters, Raw: []byte(s)} }

// NumberOf makes an unsigned number.
func NumberOf(n uint64) Value { return Value{Type: Unsigned, Number: n} }

// Object returns the object that an object identifier names; false: it is of another type.
func (v Value) Object() (ObjectID, bool) {
	return ObjectID{uint16(v.Number >> instanceBits), uint32(v.Number & maxInstance)}, v.Type == Object
}

// String is a value as people read it: texts and numbers as they are, bytes in hexadecimal digits,
// dates and times as in ISO 8601, where each part is known.
func (v Value) String() string {
	switch v.Type {
	case Null:
		return ""
	case Boolean:
		return strconv.FormatBool(v.Number != 0)
	case Unsigned, Enumerated:
		return strconv.FormatUint(v.Number, 10)
	case Signed:
		return strconv.FormatInt(v.Integer, 10)
	case Real:
		return strconv.FormatFloat(v.Float, 'g', -1, 32)
	case Double:
		return strconv.FormatFloat(v.Float, 'g', -1, 64)
	case Characters:
		return string(v.Raw)
	case Bits:
		return v.bits()
	case Object:
		id, _ := v.Object()
		return id.String()
	case Date:
		if len(v.Raw) == 4 && v.Raw[0] != anyPart && v.Raw[1] <= 12 && v.Raw[2] <= 31 {
			return fmt.Sprintf("%04d-%02d-%02d", 1900+int(v.Raw[0]), v.Raw[1], v.Raw[2])
		}
	case Time:
		if len(v.Raw) == 4 && v.Raw[0] < 24 && v.Raw[1] < 60 && v.Raw[2] < 60 {
			return fmt.Sprintf("%02d:%02d:%02d", v.Raw[0], v.Raw[1], v.Raw[2])
		}
	}
	return hex.EncodeToString(v.Raw)
}

// Moment returns the time that a date and a time of day stand for, as if it were in UTC. ok is
// false where a part of them is not given.
func Moment(date, of Value) (at time.Time, ok bool) {
	d, t := date.Raw, of.Raw
	if date.Type != Date || of.Type != Time || len(d) != 4 || len(t) != 4 ||
		d[0] == anyPart || d[1] == 0 || d[1] > 12 || d[2] == 0 || d[2] > 31 ||
		t[0] > 23 || t[1] > 59 || t[2] > 59 {
		return at, false
	}
	hundredths := int(t[3])
	if t[3] > 99 {
		hundredths = 0
	}
	return time.Date(1900+int(d[0]), time.Month(d[1]), int(d[2]), int(t[0]), int(t[1]), int(t[2]),
		hundredths*10_000_000, time.UTC), true
}

// anyPart is a part of a date or a time that is not given (20.2.12).
const anyPart = 0xff

// bits are the bits of a bit string, the first one first.
func (v Value) bits() string {
	if len(v.Raw) == 0 || v.Raw[0] > 7 {
		return ""
	}
	var b strings.Builder
	for i := range 8*(len(v.Raw)-1) - int(v.Raw[0]) {
		b.WriteByte('0' + v.Raw[1+i/8]>>(7-i%8)&1)
	}
	return b.String()
}

// ParseValue makes a value of a type of what people write. Its error says what is wrong.
func ParseValue(as, text string) (Value, error) {
	v := Value{}
	var err error
	switch as {
	case "null":
		if text != "" {
			err = errors.New("null has no value")
		}
	case "boolean":
		var yes bool
		v.Type = Boolean
		if yes, err = strconv.ParseBool(text); yes {
			v.Number = 1
		}
	case "unsigned", "enumerated":
		v.Type = map[string]Type{"unsigned": Unsigned, "enumerated": Enumerated}[as]
		v.Number, err = strconv.ParseUint(text, 10, 32)
	case "signed":
		v.Type = Signed
		v.Integer, err = strconv.ParseInt(text, 10, 32)
	case "real", "double":
		v.Type = map[string]Type{"real": Real, "double": Double}[as]
		v.Float, err = strconv.ParseFloat(text, 64)
	case "text":
		v = TextOf(text)
	case "octets":
		v.Type = Octets
		v.Raw, err = hex.DecodeString(text)
	default:
		return v, fmt.Errorf("%q is not one of %s", as, strings.Join(WrittenTypes, ", "))
	}
	if err != nil {
		return v, fmt.Errorf("%q is not of the type %s", text, as)
	}
	return v, nil
}

// WrittenTypes are the types that ParseValue knows.
var WrittenTypes = []string{"null", "boolean", "unsigned", "signed", "real", "double", "octets",
	"text", "enumerated"}

// errShort is returned for a message that ends too early or has a length that is not its own.
var errShort = errors.New("the message is damaged")

// tag is the start of a tagged value (20.2.1).
type tag struct {
	number    uint8
	context   bool
	opens     bool
	closes    bool
	length    int // of the data; of an application Boolean the value
	following []byte
}

// readTag splits the first tag off. Its error is errShort.
func readTag(b []byte) (tag, error) {
	if len(b) == 0 {
		return tag{}, errShort
	}
	t := tag{number: b[0] >> 4, context: b[0]&8 != 0}
	kind := int(b[0] & 7)
	b = b[1:]
	if t.number == 15 {
		if len(b) == 0 {
			return t, errShort
		}
		t.number, b = b[0], b[1:]
	}
	switch {
	case t.context && kind == 6:
		t.opens, t.following = true, b
		return t, nil
	case t.context && kind == 7:
		t.closes, t.following = true, b
		return t, nil
	case kind > 5:
		return t, errShort
	case kind == 5:
		var ok bool
		if kind, b, ok = longLength(b); !ok {
			return t, errShort
		}
	}
	t.length, t.following = kind, b
	if !(t.number == uint8(Boolean) && !t.context) && t.length > len(b) {
		return t, errShort
	}
	return t, nil
}

// longLength reads a length of 5 or more (20.2.1.3.1).
func longLength(b []byte) (length int, rest []byte, ok bool) {
	switch {
	case len(b) == 0:
		return 0, b, false
	case b[0] == 254 && len(b) >= 3:
		return int(binary.BigEndian.Uint16(b[1:])), b[3:], true
	case b[0] == 255 && len(b) >= 5:
		n := binary.BigEndian.Uint32(b[1:])
		return int(n & math.MaxInt32), b[5:], n <= math.MaxInt32
	case b[0] >= 254:
		return 0, b, false
	}
	return int(b[0]), b[1:], true
}

// readValue reads an application-tagged value.
func readValue(b []byte) (Value, []byte, error) {
	t, err := readTag(b)
	if err != nil || t.context || t.number > uint8(Object) {
		return Value{}, b, errShort
	}
	v := Value{Type: Type(t.number)}
	if v.Type == Boolean {
		v.Number = uint64(t.length & 1)
		return v, t.following, nil
	}
	if err := v.decode(t.following[:t.length]); err != nil {
		return v, b, err
	}
	return v, t.following[t.length:], nil
}

// decode reads the data of a value of the type that v has.
func (v *Value) decode(data []byte) error {
	switch v.Type {
	case Unsigned, Enumerated, Object:
		if len(data) == 0 || len(data) > 8 {
			return errShort
		}
		v.Number = number(data)
	case Signed:
		if len(data) == 0 || len(data) > 8 {
			return errShort
		}
		v.Integer = int64(number(data)<<(64-8*len(data))) >> (64 - 8*len(data))
	case Real:
		if len(data) != 4 {
			return errShort
		}
		v.Float = float64(math.Float32frombits(binary.BigEndian.Uint32(data)))
	case Double:
		if len(data) != 8 {
			return errShort
		}
		v.Float = math.Float64frombits(binary.BigEndian.Uint64(data))
	case Characters:
		text, err := characters(data)
		v.Raw = []byte(text)
		return err
	case Null, Boolean:
	case Octets, Bits, Date, Time:
		v.Raw = append([]byte{}, data...)
	}
	return nil
}

// number reads an unsigned number of up to 8 bytes.
func number(data []byte) (n uint64) {
	for _, b := range data {
		n = n<<8 | uint64(b)
	}
	return n
}

// characters reads a character string (20.2.9): UTF-8, UCS-2, UCS-4 or ISO 8859-1. Any other
// character set is read as far as it is ASCII.
func characters(data []byte) (string, error) {
	if len(data) == 0 {
		return "", errShort
	}
	set, data := data[0], data[1:]
	var b strings.Builder
	switch set {
	case 0:
		return strings.ToValidUTF8(string(data), ""), nil
	case 3:
		for ; len(data) >= 4; data = data[4:] {
			b.WriteRune(rune(binary.BigEndian.Uint32(data) & math.MaxInt32))
		}
	case 4:
		var units []uint16
		for ; len(data) >= 2; data = data[2:] {
			units = append(units, binary.BigEndian.Uint16(data))
		}
		return string(utf16.Decode(units)), nil
	case 5:
		for _, c := range data {
			b.WriteRune(rune(c))
		}
	default:
		for _, c := range data {
			if c < utf8.RuneSelf {
				b.WriteByte(c)
			}
		}
	}
	return b.String(), nil
}

// appendTag writes the start of a value.
func appendTag(b []byte, number uint8, context bool, length int) []byte {
	first := number << 4
	if context {
		first |= 8
	}
	switch {
	case length < 5:
		return append(b, first|byte(length))
	case length < 254:
		return append(b, first|5, byte(length))
	case length <= math.MaxUint16:
		return binary.BigEndian.AppendUint16(append(b, first|5, 254), uint16(length))
	}
	return binary.BigEndian.AppendUint32(append(b, first|5, 255), uint32(length))
}

// opening and closing write the tags around what one context tag holds.
func opening(b []byte, number uint8) []byte { return append(b, number<<4|8|6) }
func closing(b []byte, number uint8) []byte { return append(b, number<<4|8|7) }

// appendValue writes an application-tagged value.
func appendValue(b []byte, v Value) []byte {
	if v.Type == Boolean {
		return appendTag(b, uint8(Boolean), false, int(v.Number&1))
	}
	data := v.data()
	return append(appendTag(b, uint8(v.Type), false, len(data)), data...)
}

// appendContext writes a context-tagged value.
func appendContext(b []byte, number uint8, v Value) []byte {
	data := v.data()
	return append(appendTag(b, number, true, len(data)), data...)
}

// data is a value without its tag.
func (v Value) data() []byte {
	switch v.Type {
	case Unsigned, Enumerated, Boolean:
		return shortest(v.Number)
	case Object:
		return binary.BigEndian.AppendUint32(nil, uint32(v.Number))
	case Signed:
		return shortestSigned(v.Integer)
	case Real:
		return binary.BigEndian.AppendUint32(nil, math.Float32bits(float32(v.Float)))
	case Double:
		return binary.BigEndian.AppendUint64(nil, math.Float64bits(v.Float))
	case Characters:
		return append([]byte{0}, v.Raw...)
	case Null, Octets, Bits, Date, Time:
	}
	return v.Raw
}

// shortest is a number in as few bytes as it needs (20.2.4).
func shortest(n uint64) []byte {
	b := binary.BigEndian.AppendUint64(nil, n)
	for len(b) > 1 && b[0] == 0 {
		b = b[1:]
	}
	return b
}

// shortestSigned is shortest for a number with a sign (20.2.5).
func shortestSigned(n int64) []byte {
	b := binary.BigEndian.AppendUint64(nil, uint64(n))
	for len(b) > 1 && (b[0] == 0 && b[1] < 0x80 || b[0] == 0xff && b[1] >= 0x80) {
		b = b[1:]
	}
	return b
}
