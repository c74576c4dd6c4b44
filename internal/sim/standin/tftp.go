package standin

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// Of TFTP (RFC 1350, 5; RFC 2347 for opOACK).
const (
	opRRQ   = 1
	opDATA  = 3
	opACK   = 4
	opERROR = 5
	opOACK  = 6
)

// granted returns the block size and the file's size that a server grants (RFC 2347).
func granted(options []byte, size, total int) (int, int) {
	words := strings.Split(string(options), "\x00")
	for i := 0; i+1 < len(words); i += 2 {
		value, _ := strconv.Atoi(words[i+1])
		switch strings.ToLower(words[i]) {
		case "blksize":
			size = value
		case "tsize":
			total = value
		}
	}
	return size, total
}

// FetchTFTP reads a file as a device's boot loader does: octet mode, one block at a time, with
// larger blocks (RFC 2348) and the file's size (RFC 2349) where the server grants them. local is
// the address that it asks from.
func FetchTFTP(local, server, file string, most int, percent func(int)) ([]byte, error) {
	conn, err := net.ListenPacket("udp", net.JoinHostPort(local, "0"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = conn.Close() }()
	to, err := net.ResolveUDPAddr("udp", server)
	if err != nil {
		return nil, err
	}
	var peer net.Addr = to
	last := []byte("\x00\x01" + file + "\x00octet\x00blksize\x001428\x00tsize\x000\x00")
	var out []byte
	block, size, total := uint16(0), 512, 0
	buffer := make([]byte, 2048)
	first := true // the server answers from a port of its choice
	for tries := 0; tries < 5; {
		if _, err := conn.WriteTo(last, peer); err != nil {
			return nil, err
		}
		_ = conn.SetReadDeadline(time.Now().Add(2 * time.Second))
		n, from, err := conn.ReadFrom(buffer)
		if err != nil {
			tries++
			continue
		}
		if own := peer.String() == from.String(); n < 4 || !own && !first ||
			from.(*net.UDPAddr).IP.String() != to.IP.String() {
			continue // of no transfer of ours: RFC 1350, 4
		}
		first = false
		switch binary.BigEndian.Uint16(buffer) {
		case opERROR:
			return nil, errors.New(strings.TrimRight(string(buffer[4:n]), "\x00"))
		case opOACK:
			size, total = granted(buffer[2:n], size, total)
			peer, last = from, []byte{0, opACK, 0, 0}
		case opDATA:
			if binary.BigEndian.Uint16(buffer[2:]) == block+1 {
				block++
				out = append(out, buffer[4:n]...)
				if len(out) > most {
					return nil, fmt.Errorf("larger than %d bytes", most)
				}
				if total > 0 {
					percent(100 * len(out) / total)
				}
			}
			peer, last = from, binary.BigEndian.AppendUint16([]byte{0, opACK}, block)
			if n-4 < size && len(out) > 0 {
				_, err := conn.WriteTo(last, peer)
				return out, err
			}
			tries = 0
		}
	}
	return nil, errors.New("the server does not answer")
}
