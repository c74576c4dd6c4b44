package wire

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"catena/internal/device"
)

// TFTP (RFC 1350) with the options of RFC 2347 to 2349 and the window of RFC 7440, which no package
// that is well kept has: one sender serves devices that fetch, and sends to those that take.

const (
	tftpRRQ, tftpWRQ, tftpDATA, tftpACK, tftpERROR, tftpOACK = 1, 2, 3, 4, 5, 6

	tftpWithin    = time.Second // for one answer, then it is sent again
	tftpTries     = 10          // without an answer that leads on
	tftpCalls     = 5           // requests before the first answer
	tftpBlock     = 1468        // bytes: with all headers just the 1,500 of a frame
	tftpWindow    = 16          // blocks under way that are asked for, and granted at most
	tftpMost      = 65464       // bytes of a block: RFC 2348
	tftpUndefined = 0           // codes of errors: RFC 1350, 5
	tftpNotFound  = 1
	tftpIllegal   = 4
	tftpStrange   = 5
)

// terms are what two sides have agreed on.
type terms struct {
	block, window int
	within        time.Duration
}

// request is an RRQ or a WRQ.
type tftpRequest struct {
	op         uint16
	file, mode string
	options    [][2]string // in their order
}

// parseRequest reads a request (RFC 1350, 5; RFC 2347).
func parseRequest(p []byte) (r tftpRequest, ok bool) {
	if len(p) < 4 || p[len(p)-1] != 0 {
		return r, false
	}
	words := strings.Split(string(p[2:len(p)-1]), "\x00")
	if len(words) < 2 || len(words) > 20 || len(words)%2 != 0 {
		return r, false
	}
	r = tftpRequest{op: binary.BigEndian.Uint16(p), file: words[0], mode: strings.ToLower(words[1])}
	for i := 2; i < len(words); i += 2 {
		r.options = append(r.options, [2]string{strings.ToLower(words[i]), words[i+1]})
	}
	return r, true
}

// grant agrees to what a device asks for, within bounds, and returns the answer that says so; nil:
// it asked for nothing that is known.
func grant(asked [][2]string, size int64) (t terms, answer []byte) {
	t = terms{block: 512, window: 1, within: tftpWithin}
	for _, o := range asked {
		n, err := strconv.Atoi(o[1])
		if err != nil || n < 0 {
			continue
		}
		value := n
		switch {
		case o[0] == "blksize" && n >= 8:
			t.block = min(n, tftpMost)
			value = t.block
		case o[0] == "windowsize" && n >= 1:
			t.window = min(n, tftpWindow)
			value = t.window
		case o[0] == "timeout" && n >= 1 && n <= 255:
			t.within = time.Duration(n) * time.Second
		case o[0] == "tsize":
			value = int(size)
		default:
			continue // what is not known is not answered
		}
		answer = append(answer, o[0]+"\x00"+strconv.Itoa(value)+"\x00"...)
	}
	if answer != nil {
		answer = append([]byte{0, tftpOACK}, answer...)
	}
	return t, answer
}

func tftpFault(code uint16, text string) []byte {
	p := binary.BigEndian.AppendUint16([]byte{0, tftpERROR}, code)
	return append(append(p, text...), 0)
}

// transfer is one file on its way to one port of one host.
type transfer struct {
	ctx  context.Context
	conn net.PacketConn
	peer net.Addr // nil: whoever of that host answers first
	host string
	t    terms
}

// receive waits for a packet of the peer, and answers strangers as RFC 1350, 4 has it.
func (x *transfer) receive(until time.Time) ([]byte, error) {
	p := make([]byte, 1024)
	for {
		if err := x.ctx.Err(); err != nil {
			return nil, err
		}
		_ = x.conn.SetReadDeadline(until)
		n, from, err := x.conn.ReadFrom(p)
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(from.String())
		switch {
		case x.peer == nil && host == x.host:
			x.peer = from
		case x.peer == nil || from.String() != x.peer.String():
			_, _ = x.conn.WriteTo(tftpFault(tftpStrange, "unknown transfer"), from)
			continue
		}
		if n < 4 {
			continue
		}
		return p[:n], nil
	}
}

// ask sends packets until the peer answers with one that take accepts. Its error is the peer's own,
// or that it does not answer.
func (x *transfer) ask(send func() error, take func(op, n uint16, p []byte) bool) error {
	tries, silent := tftpTries, "it accepts no more of the image by TFTP"
	if x.peer == nil {
		tries, silent = tftpCalls, "nothing answers by TFTP"
	}
	for range tries {
		if err := send(); err != nil {
			return err
		}
		for until := time.Now().Add(x.t.within); ; {
			p, err := x.receive(until)
			var late net.Error
			switch {
			case errors.As(err, &late) && late.Timeout():
			case err != nil:
				return err
			}
			if err != nil {
				break // it is sent again
			}
			op, n := binary.BigEndian.Uint16(p), binary.BigEndian.Uint16(p[2:])
			if op == tftpERROR {
				text, _, _ := bytes.Cut(p[4:], []byte{0})
				return device.Because(device.Refusal, "%s (TFTP error %d)", text, n)
			}
			if take(op, n, p) {
				return nil
			}
		}
	}
	return device.Because(device.NoAnswer, "%s", silent)
}

// send sends a body in blocks, a window of them before each answer (RFC 7440, 4). acked is told how
// many bytes the peer has.
func (x *transfer) send(body io.ReaderAt, size int64, acked func(int64)) error {
	last := size/int64(x.t.block) + 1 // the last block is not full, and may be empty
	buffer := make([]byte, 4+x.t.block)
	for base := int64(1); base <= last; {
		end := min(base+int64(x.t.window)-1, last)
		next := base
		err := x.ask(func() error {
			for b := base; b <= end; b++ {
				n, err := body.ReadAt(buffer[4:], (b-1)*int64(x.t.block))
				if err != nil && !errors.Is(err, io.EOF) {
					return err
				}
				binary.BigEndian.PutUint16(buffer, tftpDATA)
				binary.BigEndian.PutUint16(buffer[2:], uint16(b)) // it starts again after 65,535
				if b == last {
					n = int(size - (last-1)*int64(x.t.block))
				}
				if _, err := x.conn.WriteTo(buffer[:4+n], x.peer); err != nil {
					return err
				}
			}
			return nil
		}, func(op, n uint16, _ []byte) bool {
			ahead := int64(n - uint16(base-1)) // how many blocks of the window have arrived
			if op != tftpACK || ahead < 1 || ahead > end-base+1 {
				return false // an answer to an earlier one
			}
			next = base + ahead
			return true
		})
		if err != nil {
			return err
		}
		before := min((base-1)*int64(x.t.block), size)
		base = next
		if now := min((base-1)*int64(x.t.block), size); acked != nil && now > before {
			acked(now)
		}
	}
	return nil
}

// PutTFTP writes a body to a device's TFTP server. It is given up when the device does not answer
// for ten seconds. The bytes told are those that the device has acknowledged.
func PutTFTP(ctx context.Context, address, remote string, b Body) error {
	to, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return device.Because(device.NoAnswer, "%v", err)
	}
	conn, err := net.ListenPacket("udp", ":0")
	if err != nil {
		return cause(ctx, err)
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Now()) })
	defer stop()
	x := &transfer{ctx: ctx, conn: conn, host: to.IP.String(),
		t: terms{block: 512, window: 1, within: tftpWithin}}
	request := fmt.Appendf([]byte{0, tftpWRQ},
		"%s\x00octet\x00blksize\x00%d\x00windowsize\x00%d\x00tsize\x00%d\x00",
		remote, tftpBlock, tftpWindow, b.Size)
	err = x.ask(func() error { _, err := conn.WriteTo(request, to); return err },
		func(op, n uint16, p []byte) bool {
			if op == tftpOACK {
				x.t.take(p)
			}
			return op == tftpOACK || op == tftpACK && n == 0
		})
	if err == nil {
		err = x.send(b.From, b.Size, b.Sent)
	}
	if err != nil {
		return cause(ctx, err)
	}
	return nil
}

// take takes the terms that a server has granted of those that were asked for.
func (t *terms) take(p []byte) {
	words := strings.Split(strings.TrimSuffix(string(p[2:]), "\x00"), "\x00")
	for i := 0; i+1 < len(words); i += 2 {
		n, err := strconv.Atoi(words[i+1])
		switch {
		case err != nil:
		case strings.EqualFold(words[i], "blksize") && n >= 8 && n <= tftpBlock:
			t.block = n
		case strings.EqualFold(words[i], "windowsize") && n >= 1 && n <= tftpWindow:
			t.window = n
		}
	}
}
