package bacnet_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/bacnet"
	"catena/internal/dialect/simtest"
	"catena/internal/sim"
)

var image = bacnet.ObjectID{Type: bacnet.TypeFile, Instance: 1}

func controller(t *testing.T) string {
	return simtest.Start(t, sim.Device{Name: "fans", Kind: "ventilation", Model: "VC-3", Host: 9,
		Serial: "VC3-09", Version: "5.1"}).Address
}

func dial(t *testing.T, address string) *bacnet.Client {
	c, err := bacnet.Dial(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

func random(n int) []byte {
	out := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(out)
	return out
}

// store writes a file in parts, and reads it back in others.
func store(t *testing.T, c *bacnet.Client, file []byte, part, back int) {
	for at := 0; at < len(file); at += part {
		require.NoError(t, c.WriteFile(t.Context(), image, int64(at), file[at:min(at+part, len(file))]))
	}
	var got []byte
	for last := false; !last; {
		var some []byte
		var err error
		some, last, err = c.ReadFile(t.Context(), image, int64(len(got)), back)
		require.NoError(t, err)
		got = append(got, some...)
	}
	assert.True(t, bytes.Equal(file, got))
}

func TestRequestsAndAnswersInSegments(t *testing.T) {
	c := dial(t, controller(t))
	own, err := c.Acquaint(t.Context(), bacnet.OwnDevice)
	require.NoError(t, err)
	assert.Equal(t, bacnet.OwnDevice, own)
	assert.Less(t, c.PartOf(false), 480)
	assert.Greater(t, c.PartOf(true), 4000)
	store(t, c, random(50_000), c.PartOf(true), 9000)
	store(t, c, random(50_000), c.PartOf(false), c.PartOf(false))
	_, _, err = c.ReadFile(t.Context(), image, 60_000, 100)
	assert.EqualError(t, err, "services: invalid file start position")
	err = c.WriteFile(t.Context(), image, 0, random(600_000))
	assert.ErrorIs(t, err, bacnet.ErrTooLong)
}

// between is a network that loses, repeats and delays datagrams of both directions.
func between(t *testing.T, device string, trouble func(n int) string, saw func([]byte)) string {
	front, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	back, err := net.Dial("udp", device)
	require.NoError(t, err)
	var mu sync.Mutex
	var asker net.Addr
	var count int
	var work sync.WaitGroup
	pass := func(from func([]byte) (int, error), to func([]byte)) {
		buf := make([]byte, 2048)
		var late []byte
		for {
			n, err := from(buf)
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil {
				continue
			}
			mu.Lock()
			count++
			what := trouble(count)
			if saw != nil {
				saw(buf[:n])
			}
			mu.Unlock()
			switch what {
			case "lose":
			case "twice":
				to(buf[:n])
				to(buf[:n])
			case "late":
				late = bytes.Clone(buf[:n])
			default:
				to(buf[:n])
				if late != nil {
					to(late)
					late = nil
				}
			}
		}
	}
	work.Go(func() {
		pass(func(b []byte) (int, error) {
			n, from, err := front.ReadFrom(b)
			mu.Lock()
			asker = from
			mu.Unlock()
			return n, err
		}, func(b []byte) { _, _ = back.Write(b) })
	})
	work.Go(func() {
		pass(back.Read, func(b []byte) {
			mu.Lock()
			to := asker
			mu.Unlock()
			_, _ = front.WriteTo(b, to)
		})
	})
	t.Cleanup(func() {
		_, _ = front.Close(), back.Close()
		work.Wait()
	})
	return front.LocalAddr().String()
}

func TestANetworkThatLosesDatagrams(t *testing.T) {
	for name, trouble := range map[string]func(int) string{
		"some are lost":     func(n int) string { return map[int]string{0: "lose"}[n%11] },
		"some come twice":   func(n int) string { return map[int]string{0: "twice"}[n%3] },
		"some come late":    func(n int) string { return map[int]string{0: "late"}[n%4] },
		"all of it at once": func(n int) string { return map[int]string{3: "late", 8: "lose", 12: "twice"}[n%17] },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := dial(t, between(t, controller(t), trouble, nil))
			c.Hurry(time.Minute)
			c.Limits(480, true, 64)
			store(t, c, random(30_000), c.PartOf(true), 5000)
		})
	}
}

// foe is a device that answers each request as it likes.
func foe(t *testing.T, answer func(invoke byte) [][]byte) string {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	var work sync.WaitGroup
	work.Go(func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := conn.ReadFrom(buf)
			if err != nil {
				return
			}
			if n > 9 && buf[6]>>4 == 0 {
				for _, b := range answer(buf[8]) {
					_, _ = conn.WriteTo(b, from)
				}
			}
		}
	})
	t.Cleanup(func() {
		_ = conn.Close()
		work.Wait()
	})
	return conn.LocalAddr().String()
}

func packet(apdu ...byte) []byte {
	b := []byte{0x81, 0x0a, 0, 0, 1, 0}
	binary.BigEndian.PutUint16(b[2:], uint16(6+len(apdu)))
	return append(b, apdu...)
}

// Whatever a device answers, a request ends with an error that says why.
func TestDevicesThatAnswerBadly(t *testing.T) {
	endless := func(invoke byte) (out [][]byte) { // segments without an end, and none of them in order
		for i := range 600 {
			out = append(out, packet(append([]byte{0x3c, invoke, byte(i), 1, 12}, make([]byte, 1400)...)...))
		}
		return out
	}
	many := func(invoke byte) [][]byte {
		b := []byte{0x30, invoke, 12, 0x0c, 2, 0, 0, 1, 0x19, 70, 0x3e}
		return [][]byte{packet(append(b, bytes.Repeat([]byte{0x10}, 1400)...)...)}
	}
	for name, c := range map[string]struct {
		answer func(invoke byte) [][]byte
		want   string
	}{
		"segments without end": {endless, "no answer in time"},
		"acknowledges for ever": {func(i byte) [][]byte {
			return bytes.Split(bytes.Repeat(append(packet(0x41, i, 0, 1), '|'), 2000), []byte("|"))
		}, "no answer in time"},
		"another request's answer": {func(i byte) [][]byte {
			return [][]byte{packet(0x20, i+1, 12), {0x81}, {0x81, 0x0a, 0, 99, 1, 0, 1}, {}}
		}, "no answer in time"},
		"another service's answer": {func(i byte) [][]byte { return [][]byte{packet(0x20, i, 15)} },
			"the message is damaged"},
		"values without an end": {many, "the message is damaged"},
		"tags that hold each other": {func(i byte) [][]byte {
			return [][]byte{packet(append([]byte{0x30, i, 12, 0x3e}, bytes.Repeat([]byte{0x0e}, 1000)...)...)}
		}, "the message is damaged"},
		"an abort": {func(i byte) [][]byte { return [][]byte{packet(0x71, i, 9)} }, "aborted: out of resources"},
		"a reject": {func(i byte) [][]byte { return [][]byte{packet(0x60, i, 9)} },
			"rejected: unrecognized service"},
		"an unknown error": {func(i byte) [][]byte { return [][]byte{packet(0x50, i, 12, 0x91, 200, 0x92, 1, 0)} },
			"200: 256"},
		"an error without a reason": {func(i byte) [][]byte { return [][]byte{packet(0x50, i, 12)} },
			"device: other"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			client := dial(t, foe(t, c.answer))
			client.Hurry(2 * time.Second)
			p, err := bacnet.ParseProperty("device/model-name")
			require.NoError(t, err)
			got, err := client.Read(t.Context(), p)
			assert.EqualError(t, err, c.want)
			assert.LessOrEqual(t, len(got), 4096)
		})
	}
}

func TestAnAnswerIsBounded(t *testing.T) {
	device, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = device.Close() }()
	go func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := device.ReadFrom(buf)
			if err != nil {
				return
			}
			switch {
			case n > 8 && buf[6]>>4 == 0:
				_, _ = device.WriteTo(
					packet(append([]byte{0x3c, buf[8], 0, 1, 12}, make([]byte, 1400)...)...),
					from,
				)
			case n > 8 && buf[6]>>4 == 4: // the next one, for ever
				_, _ = device.WriteTo(packet(append([]byte{0x3c, buf[7], buf[8] + 1, 1, 12},
					make([]byte, 1400)...)...), from)
			}
		}
	}()
	c := dial(t, device.LocalAddr().String())
	_, err = c.Read(t.Context(), bacnet.Property{Of: bacnet.OwnDevice, ID: 70, Index: -1})
	assert.ErrorContains(t, err, "its answer is longer than 1048576 bytes")
}

func TestARequestEndsWithItsContext(t *testing.T) {
	c := dial(t, foe(t, func(byte) [][]byte { return nil }))
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := c.Read(ctx, bacnet.Property{Of: bacnet.OwnDevice, ID: 70, Index: -1})
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}
