// Package bacnet speaks BACnet/IP (ASHRAE 135, Annex J) as a client: it reads and writes properties
// and files, has a device restart, and finds devices.
//
// Its central type is Client, a conversation with one device. Requests and answers that are longer
// than one message are sent in segments, both ways (5.4). What a device sends is bounded in size,
// number and time.
package bacnet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"
)

// Port is the usual one of BACnet/IP.
const Port = 47808

// Bounds of one request.
const (
	answerIn  = 3 * time.Second // for an answer, before the request is sent once more
	segmentIn = 2 * time.Second // for a segment, or for what acknowledges one
	retries   = 2               // besides the first time
	window    = 16              // segments that are sent at once
	longest   = 2 * time.Minute // of all tries together, whatever arrives
	maxAnswer = 1 << 20         // bytes of an answer in segments
	maxPacket = 2048            // bytes; the standard's longest message has 1497
)

// Client is a conversation with one device over one socket. It is for one goroutine.
type Client struct {
	conn   net.Conn
	invoke byte
	// what the device takes; see Limits
	maxAPDU                      int
	segments                     bool // it takes requests in segments
	maxSegments                  int  // 0: it has not told
	buf                          [maxPacket]byte
	answerIn, segmentIn, longest time.Duration
	// WriteWithin is how long the device may take to answer when it stores something, such as flash
	// that has to be erased first; 0: as usual.
	WriteWithin time.Duration
}

// Why a request has no result.
var (
	// ErrSilent is returned when no answer came in time.
	ErrSilent = errors.New("no answer in time")
	// ErrClosed is returned when nothing listens at the port.
	ErrClosed = errors.New("its BACnet port is closed")
	// ErrTooLong is returned for a request that does not fit what the device accepts.
	ErrTooLong = errors.New("the request is longer than the device accepts")
)

// RefusalError is returned for a request that a device has refused.
type RefusalError struct {
	// How it is refused: by an error (Class and Code), a reject or an abort (Code is the reason).
	How         string
	Class, Code uint64
}

func (e *RefusalError) Error() string {
	switch e.How {
	case "error":
		return fmt.Sprintf("%s: %s", named(errorClasses, e.Class), named(errorCodes, e.Code))
	case "reject":
		return "rejected: " + named(rejectReasons, e.Code)
	}
	return "aborted: " + named(abortReasons, e.Code)
}

func named(names map[uint64]string, n uint64) string {
	if name, is := names[n]; is {
		return name
	}
	return fmt.Sprintf("%d", n)
}

// IsCode reports whether a refusal is an error with one of some codes.
func (e *RefusalError) IsCode(codes ...uint64) bool {
	for _, c := range codes {
		if e.How == "error" && e.Code == c {
			return true
		}
	}
	return false
}

// Codes of errors that callers tell apart (18.1).
const (
	CodePassword      = 26
	CodeReadDenied    = 27
	CodeServiceDenied = 29
	CodeWriteDenied   = 40
	CodeInProgress    = 2
	CodeUnknownObject = 31
	CodeUnknownProp   = 32
	CodeDeviceBusy    = 3
	CodeBusy          = 82
	CodeDenied        = 85
)

// What the standard calls them (clause 18 and 20.1.8, 20.1.9).
var (
	errorClasses = map[uint64]string{0: "device", 1: "object", 2: "property", 3: "resources",
		4: "security", 5: "services", 7: "communication"}
	errorCodes = map[uint64]string{0: "other", CodeInProgress: "configuration in progress",
		CodeDeviceBusy: "device busy", 5: "file access denied", 7: "inconsistent parameters",
		9: "invalid data type", 10: "invalid file access method", 11: "invalid file start position",
		16: "missing required parameter", 18: "no space for object", 20: "no space to write property",
		25: "operational problem", CodePassword: "password failure", CodeReadDenied: "read access denied",
		CodeServiceDenied: "service request denied", CodeUnknownObject: "unknown object",
		CodeUnknownProp: "unknown property", 37: "value out of range",
		CodeWriteDenied: "write access denied", 42: "invalid array index",
		45: "optional functionality not supported", 46: "invalid configuration data",
		50: "property is not an array", CodeBusy: "busy", 83: "communication disabled",
		CodeDenied: "access denied", 128: "file full", 131: "internal error", 133: "out of memory"}
	rejectReasons = map[uint64]string{0: "other", 1: "buffer overflow", 2: "inconsistent parameters",
		3: "invalid parameter data type", 4: "invalid tag", 5: "missing required parameter",
		6: "parameter out of range", 7: "too many arguments", 8: "undefined enumeration",
		9: "unrecognized service"}
	abortReasons = map[uint64]string{0: "other", 1: "buffer overflow", 2: "invalid APDU in this state",
		3: "preempted by a higher priority task", 4: "segmentation not supported", 5: "security error",
		6: "insufficient security", 7: "window size out of range", 8: "application exceeded reply time",
		9: "out of resources", 10: "transaction timed out", 11: "APDU too long"}
)

// Dial opens a conversation with the device at host:port. It sends nothing yet.
func Dial(ctx context.Context, address string) (*Client, error) {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "udp", address)
	if err != nil {
		return nil, err
	}
	// the shortest that any device takes, until it tells more
	return &Client{conn: conn, invoke: byte(rand.Uint32()), maxAPDU: sizes[0], answerIn: answerIn,
		segmentIn: segmentIn, longest: longest}, nil
}

// Close ends the conversation.
func (c *Client) Close() { _ = c.conn.Close() }

// Limits says what the device takes: the bytes of one message, whether it takes requests in
// segments, and how many of them; 0: it does not say.
func (c *Client) Limits(maxAPDU int, segments bool, maxSegments int) {
	c.maxAPDU = min(max(maxAPDU, sizes[0]), MaxAPDU)
	c.segments, c.maxSegments = segments, maxSegments
}

// Room is how many bytes of a request's own data fit into a message, or into the longest request in
// segments.
func (c *Client) Room(inSegments bool) int {
	one := c.maxAPDU - segmentHeader
	if !inSegments || !c.segments {
		return one
	}
	n := c.maxSegments
	if n <= 0 {
		n = window // as many as are sent at once
	}
	return one * min(n, maxSequence)
}

const (
	requestHeader = 4 // bytes before a request's data
	segmentHeader = 6 // bytes before a segment's data
	maxSequence   = 256
)

// request sends a confirmed request and returns the data of its answer. once: it is not sent again
// when no answer comes. Its error is ErrSilent, ErrClosed, ErrTooLong, a RefusalError, or the end
// of ctx.
func (c *Client) request(ctx context.Context, service byte, data []byte, once bool,
	within time.Duration) ([]byte, error) {
	c.invoke++
	ctx, cancel := context.WithTimeoutCause(ctx, c.longest, ErrSilent)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = c.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	t := &transaction{Client: c, ctx: ctx, service: service, data: data,
		within: cmp.Or(within, c.answerIn)}
	tries := 1 + retries
	if once {
		tries = 1
	}
	for range tries {
		got, err := t.once()
		if !errors.Is(err, ErrSilent) || ctx.Err() != nil {
			return got, err
		}
	}
	return nil, ErrSilent
}

// transaction is one confirmed request on its way (5.4).
type transaction struct {
	*Client
	ctx     context.Context
	service byte
	data    []byte
	within  time.Duration
	answer  []byte // that has come in segments so far
	next    byte   // the number of the next segment
	got     int    // how many came since the last acknowledgement
	missed  bool   // that one is missing was told
	parts   bool   // the request goes in segments
}

// accepts is what a request says that its answer may be (20.1.2.4, 20.1.2.5): 64 segments of 1,476
// bytes.
const accepts = 6<<4 | 5

// once sends the request and awaits its answer.
func (t *transaction) once() ([]byte, error) {
	if len(t.data) <= t.maxAPDU-requestHeader {
		head := []byte{confirmed<<4 | acceptsSegments, accepts, t.invoke, t.service}
		if err := t.send(append(head, t.data...)); err != nil {
			return nil, err
		}
		return t.await()
	}
	return t.inSegments()
}

func (t *transaction) send(apdu []byte) error {
	_, err := t.conn.Write(onLink(linkUnicast, local(apdu, apdu[0]>>4 == confirmed)))
	return closed(err)
}

// closed is ErrClosed for an error that says so.
func closed(err error) error {
	if err != nil && strings.Contains(err.Error(), "refused") {
		return ErrClosed
	}
	return err
}

// inSegments sends a request in segments (5.4.4.2): as many at once as the device acknowledges at
// once, and from the one after the last acknowledged. Only a negative acknowledgement, or none in
// time, has segments sent again.
func (t *transaction) inSegments() ([]byte, error) {
	size := t.maxAPDU - segmentHeader
	count := (len(t.data) + size - 1) / size
	if !t.segments || count > maxSequence || t.maxSegments > 0 && count > t.maxSegments {
		return nil, ErrTooLong
	}
	t.parts = true
	t.invoke++       // the device may still wait for segments of the try before
	from, at := 0, 1 // the first one goes alone: the device then says how many it takes
	for tries := 0; tries <= retries; {
		for i := from; i < min(from+at, count); i++ {
			part := t.data[i*size : min((i+1)*size, len(t.data))]
			if err := t.sendSegment(i, i == count-1, part); err != nil {
				return nil, err
			}
		}
		a, err := t.acknowledged(from, min(from+at, count))
		switch {
		case errors.Is(err, ErrSilent):
			tries++
			continue
		case err != nil:
			return nil, err
		case a.kind != segmentAck:
			return t.finish(a)
		}
		done := t.upTo(a, from)
		if tries++; done > from {
			tries = 0
		}
		at, from = min(max(int(a.window), 1), maxWindow), done
		if from == count {
			return t.await()
		}
	}
	return nil, ErrSilent
}

// Reasons of an abort by which a device says that it has not had all segments of a request.
const (
	abortState   = 2
	abortTimeout = 10
)

func (t *transaction) sendSegment(i int, last bool, data []byte) error {
	head := []byte{
		confirmed<<4 | segmented | acceptsSegments,
		accepts,
		t.invoke,
		byte(i),
		window,
		t.service,
	}
	if !last {
		head[0] |= more
	}
	return t.send(append(head, data...))
}

// upTo is how many segments have arrived when from of them had before.
func (t *transaction) upTo(a answer, from int) int { return from + int(a.sequence-byte(from-1)) }

// acknowledged awaits what tells how far the segments up to a number have arrived: an
// acknowledgement of more than before, a negative one, or the answer. Of several negative ones that
// arrive together, as after a segment that came twice, the last counts.
func (t *transaction) acknowledged(from, to int) (answer, error) {
	var refused *answer
	for within := t.segmentIn; ; {
		a, err := t.receive(within)
		switch {
		case errors.Is(err, ErrSilent) && refused != nil:
			return *refused, nil
		case err != nil || a.kind != segmentAck:
			return a, err
		case t.upTo(a, from) > to: // of segments of long ago
		case a.negative:
			refused, within = &a, together
		case t.upTo(a, from) > from:
			return a, nil
		}
	}
}

// together is how far apart messages may arrive that were sent at once.
const together = 20 * time.Millisecond

// maxWindow is the largest window (20.1.2.8).
const maxWindow = 127

// await awaits the answer to a request that was sent whole.
func (t *transaction) await() ([]byte, error) {
	for {
		a, err := t.receive(t.within)
		if err != nil {
			return nil, err
		}
		if a.kind != segmentAck { // the last one again
			return t.finish(a)
		}
	}
}

// finish reads the answer: one message, or the first of its segments.
func (t *transaction) finish(a answer) ([]byte, error) {
	t.answer, t.next, t.got, t.missed = nil, 0, 0, false
	for silent := 0; ; {
		switch {
		case a.kind == errorAnswer:
			return nil, refusal(a.data)
		case a.kind == reject:
			return nil, &RefusalError{How: "reject", Code: uint64(a.service)}
		case a.kind == abort && t.parts && (a.service == abortState || a.service == abortTimeout):
			return nil, ErrSilent
		case a.kind == abort:
			return nil, &RefusalError{How: "abort", Code: uint64(a.service)}
		case a.kind == segmentAck: // the last one of the request again
		case a.service != t.service:
			return nil, errShort
		case !a.segmented:
			return a.data, nil
		default:
			if done, err := t.segment(a); err != nil || done {
				return t.answer, err
			}
		}
		next, err := t.receive(t.segmentIn)
		switch {
		case errors.Is(err, ErrSilent) && silent < retries: // the acknowledgement may be lost
			silent++
			a = answer{kind: segmentAck}
			err = t.acknowledge(0)
		case err == nil:
			a, silent = next, 0
		}
		if err != nil {
			return nil, err
		}
	}
}

// segment takes one segment of an answer, and acknowledges it where that is due (5.4.4.4).
func (t *transaction) segment(a answer) (done bool, err error) {
	switch {
	case a.sequence == t.next:
	case a.sequence == t.next-1 && t.next > 0: // it has not heard that it arrived
		return false, t.acknowledge(0)
	case a.sequence-t.next < maxWindow && !t.missed: // one before it is missing
		t.missed = true
		return false, t.acknowledge(negative)
	default:
		return false, nil
	}
	if t.answer = append(t.answer, a.data...); len(t.answer) > maxAnswer {
		_ = t.send([]byte{abort << 4, t.invoke, 1})
		return true, fmt.Errorf("its answer is longer than %d bytes", maxAnswer)
	}
	t.next++
	t.got++
	t.missed = false
	if !a.more || a.sequence == 0 || t.got >= int(a.window) {
		return !a.more, t.acknowledge(0)
	}
	return false, nil
}

// acknowledge tells how far the segments of an answer have come.
func (t *transaction) acknowledge(bits byte) error {
	t.got = 0
	return t.send([]byte{segmentAck<<4 | bits, t.invoke, t.next - 1, window})
}

// receive awaits an answer to this request. What is none of it is dropped.
func (t *transaction) receive(within time.Duration) (answer, error) {
	until := time.Now().Add(within)
	for {
		if t.ctx.Err() != nil {
			return answer{}, context.Cause(t.ctx)
		}
		_ = t.conn.SetReadDeadline(until)
		if t.ctx.Err() != nil { // it has ended before the deadline was set
			continue
		}
		n, err := t.conn.Read(t.buf[:])
		switch {
		case errors.Is(err, os.ErrDeadlineExceeded):
			if t.ctx.Err() != nil {
				continue
			}
			return answer{}, ErrSilent
		case err != nil:
			return answer{}, closed(err)
		}
		apdu, _, behind, ok := fromLink(t.buf[:n])
		if !ok || behind != "" {
			continue
		}
		if a, ok := readAnswer(apdu); ok && a.invoke == t.invoke {
			a.data = append([]byte{}, a.data...)
			return a, nil
		}
	}
}

// whoIs asks the device itself who it is. One that answers by broadcast alone is not heard.
func (c *Client) whoIs(ctx context.Context) (Found, error) {
	stop := context.AfterFunc(ctx, func() { _ = c.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	if _, err := c.conn.Write(WhoIs(ToOne)); err != nil {
		return Found{}, closed(err)
	}
	_ = c.conn.SetReadDeadline(time.Now().Add(c.answerIn))
	for ctx.Err() == nil {
		n, err := c.conn.Read(c.buf[:])
		if err != nil {
			return Found{}, ErrSilent
		}
		if f, ok := ReadIAm(c.buf[:n], netip.AddrPort{}); ok && f.Behind == "" {
			return f, nil
		}
	}
	return Found{}, ctx.Err()
}

// refusal reads the error of an answer: its class and its code (20.1.7).
func refusal(data []byte) error {
	class, rest, err := readValue(data)
	if err == nil {
		var code Value
		if code, _, err = readValue(rest); err == nil {
			return &RefusalError{"error", class.Number, code.Number}
		}
	}
	return &RefusalError{How: "error"}
}
