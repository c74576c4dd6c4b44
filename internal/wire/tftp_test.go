package wire_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/wire"
)

// server is a TFTP server that answers each packet as a test says.
func server(t *testing.T, answer func(p []byte) [][]byte) string {
	l, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		p := make([]byte, 70_000)
		for {
			n, from, err := l.ReadFrom(p)
			if err != nil {
				return
			}
			for _, a := range answer(bytes.Clone(p[:n])) {
				_, _ = l.WriteTo(a, from)
			}
		}
	}()
	return l.LocalAddr().String()
}

func ack(n uint16) []byte { return binary.BigEndian.AppendUint16([]byte{0, 4}, n) }

// Packets that are lost, come twice or come from the past do no harm: each byte arrives once, in
// its place.
func TestTFTPOverABadLink(t *testing.T) {
	image := bytes.Repeat([]byte("sluice "), 20_000)
	var mu sync.Mutex
	var got []byte
	next, seen := uint16(1), 0
	address := server(t, func(p []byte) [][]byte {
		mu.Lock()
		defer mu.Unlock()
		seen++
		switch op, n := binary.BigEndian.Uint16(p), binary.BigEndian.Uint16(p[2:]); {
		case op == 2:
			if seen == 1 {
				return nil // the first request is lost
			}
			return [][]byte{[]byte("\x00\x06windowsize\x004\x00blksize\x00600\x00")}
		case seen%7 == 0:
			return nil // lost
		case n == next:
			got = append(got, p[4:]...)
			next++
			if len(p) < 604 || (next-1)%4 == 0 {
				return [][]byte{ack(n), ack(n), ack(n - 1)} // twice, and one of the past
			}
			return nil
		default: // RFC 7440, 4: what is out of order is answered with the last that was not
			return [][]byte{ack(next - 1)}
		}
	})
	var told []int64
	require.NoError(t, wire.PutTFTP(t.Context(), address, "image.bin", wire.Body{
		From: bytes.NewReader(image), Size: int64(len(image)), Sent: func(n int64) {
			told = append(told,
				n)
		}}))
	mu.Lock()
	defer mu.Unlock()
	assert.True(t, bytes.Equal(image, got), "%d of %d bytes", len(got), len(image))
	assert.True(t, slices.IsSorted(told))
	assert.Equal(t, int64(len(image)), told[len(told)-1])
}

// What a server may say instead ends in a clear error, and a context ends the waiting.
func TestTFTPRefusals(t *testing.T) {
	body := wire.Body{From: bytes.NewReader([]byte("lock")), Size: 4}
	full := server(t, func([]byte) [][]byte {
		return [][]byte{
			[]byte("\x00\x05\x00\x03disk full\x00")}
	})
	err := wire.PutTFTP(t.Context(), full, "image.bin", body)
	assert.ErrorIs(t, err, device.ErrRefused)
	assert.ErrorContains(t, err, "disk full (TFTP error 3)")
	rubbish := server(t, func([]byte) [][]byte {
		return [][]byte{{0}, []byte("\x00\x09xx"),
			[]byte("\x00\x06blksize"), ack(9)}
	})
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	assert.Error(t, wire.PutTFTP(ctx, rubbish, "image.bin", body))
	silent := server(t, func([]byte) [][]byte { return nil })
	ctx, cancel = context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	assert.Error(t, wire.PutTFTP(ctx, silent, "image.bin", body))
}

// A dead port is reported as such, after a few requests.
func TestTFTPToADeadPort(t *testing.T) {
	t.Parallel()
	var requests atomic.Int32
	dead := server(t, func([]byte) [][]byte { requests.Add(1); return nil })
	body := wire.Body{From: bytes.NewReader([]byte("lock")), Size: 4}
	err := wire.PutTFTP(t.Context(), dead, "image.bin", body)
	require.ErrorIs(t, err, device.ErrAway)
	assert.ErrorContains(t, err, "nothing answers by TFTP")
	assert.EqualValues(t, 5, requests.Load())
}
