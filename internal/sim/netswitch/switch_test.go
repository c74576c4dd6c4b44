package netswitch_test

import (
	"encoding/binary"
	"fmt"
	"net"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

func start(t *testing.T) (host string, port uint16) {
	address := standintest.Start(t, sim.Device{Kind: "switch", Model: "OS-24", Hardware: "A",
		Version: "2.1", Idle: "2.0", Sees: []string{"first"}})
	host, text, _ := net.SplitHostPort(address)
	_, err := fmt.Sscan(text, &port)
	require.NoError(t, err)
	return host, port
}

func client(t *testing.T, version gosnmp.SnmpVersion, community string) *gosnmp.GoSNMP {
	host, port := start(t)
	c := &gosnmp.GoSNMP{Target: host, Port: port, Version: version, Community: community,
		Timeout: 10 * time.Second, MaxOids: 60}
	require.NoError(t, c.Connect())
	t.Cleanup(func() { _ = c.Conn.Close() })
	return c
}

const (
	sysDescr  = ".1.3.6.1.2.1.1.1.0"
	sysUpTime = ".1.3.6.1.2.1.1.3.0"
	nothing   = ".1.3.6.1.2.1.1.99.0"
	slotOf    = ".1.3.6.1.4.1.32473.8.6.0"
	fileOf    = ".1.3.6.1.4.1.32473.8.5.0"
)

// What cannot be read is an exception in the second version (RFC 3416, 4.2.1), and in the first an
// error that names the variable (RFC 1157, 4.1.2).
func TestMissingObjects(t *testing.T) {
	got, err := client(t, gosnmp.Version2c, "public").Get([]string{sysDescr, nothing})
	require.NoError(t, err)
	assert.Equal(t, gosnmp.NoError, got.Error)
	require.Len(t, got.Variables, 2)
	assert.Equal(t, gosnmp.OctetString, got.Variables[0].Type)
	assert.Equal(t, gosnmp.NoSuchObject, got.Variables[1].Type)

	got, err = client(t, gosnmp.Version1, "public").Get([]string{sysDescr, nothing})
	require.NoError(t, err)
	assert.Equal(t, gosnmp.NoSuchName, got.Error)
	assert.EqualValues(t, 2, got.ErrorIndex)
}

// A walk names every object once, in ascending sequence, and ends: RFC 3416, 4.2.2.
func TestWalk(t *testing.T) {
	for _, version := range []gosnmp.SnmpVersion{gosnmp.Version1, gosnmp.Version2c} {
		all, err := client(t, version, "public").WalkAll(".1.3.6.1")
		require.NoError(t, err)
		require.Greater(t, len(all), 10)
		for i := 1; i < len(all); i++ {
			assert.Negative(t, slices.Compare(numbers(t, all[i-1].Name), numbers(t, all[i].Name)),
				"%s, %s", all[i-1].Name, all[i].Name)
		}
	}
}

func numbers(t *testing.T, oid string) (out []int) {
	for part := range strings.SplitSeq(strings.Trim(oid, "."), ".") {
		var n int
		_, err := fmt.Sscan(part, &n)
		require.NoError(t, err)
		out = append(out, n)
	}
	return out
}

// GetBulk takes the first variables once and the others as often as asked, and marks the end:
// RFC 3416, 4.2.3.
func TestGetBulk(t *testing.T) {
	c := client(t, gosnmp.Version2c, "public")
	got, err := c.GetBulk([]string{".1.3.6.1.2.1.1.1", ".1.3.6.1.2.1.1.2", ".2.9"}, 1, 2)
	require.NoError(t, err)
	var names []string
	for _, v := range got.Variables {
		names = append(names, v.Name)
	}
	assert.Equal(t, []string{sysDescr, ".1.3.6.1.2.1.1.2.0", ".2.9", sysUpTime, ".2.9"}, names)
	assert.Equal(t, gosnmp.EndOfMibView, got.Variables[4].Type)
}

// The community for reading changes nothing; the errors are those of each version (RFC 3584, 4.4),
// and name the variable.
func TestSet(t *testing.T) {
	file := gosnmp.SnmpPDU{Name: fileOf, Type: gosnmp.OctetString, Value: "image.bin"}
	slot := gosnmp.SnmpPDU{Name: slotOf, Type: gosnmp.Integer, Value: 7}
	name := gosnmp.SnmpPDU{Name: sysDescr, Type: gosnmp.OctetString, Value: "x"}
	for _, c := range []struct {
		version   gosnmp.SnmpVersion
		community string
		set       []gosnmp.SnmpPDU
		err       gosnmp.SNMPError
		index     uint8
	}{
		{gosnmp.Version2c, "public", []gosnmp.SnmpPDU{file}, gosnmp.NoAccess, 1},
		{gosnmp.Version1, "public", []gosnmp.SnmpPDU{file}, gosnmp.NoSuchName, 1},
		{gosnmp.Version2c, standintest.Password, []gosnmp.SnmpPDU{file, slot}, gosnmp.WrongValue, 2},
		{gosnmp.Version1, standintest.Password, []gosnmp.SnmpPDU{file, slot}, gosnmp.BadValue, 2},
		{gosnmp.Version2c, standintest.Password, []gosnmp.SnmpPDU{name}, gosnmp.NotWritable, 1},
		{gosnmp.Version1, standintest.Password, []gosnmp.SnmpPDU{name}, gosnmp.NoSuchName, 1},
	} {
		s := client(t, c.version, c.community)
		got, err := s.Set(c.set)
		require.NoError(t, err)
		assert.Equal(t, c.err, got.Error, "%v %v", c.version, c.set)
		assert.Equal(t, c.index, got.ErrorIndex)
		is, err := s.Get([]string{fileOf})
		require.NoError(t, err)
		assert.Empty(t, is.Variables[0].Value, "all variables are set, or none: RFC 3416, 4.2.5")
	}
}

// Who does not know the community gets no answer: RFC 1157, 4.1.
func TestAnotherCommunity(t *testing.T) {
	host, port := start(t)
	get := func(community string, id byte) []byte {
		body := slices.Concat([]byte{0x02, 0x01, 0x01, 0x04, byte(len(community))}, []byte(community),
			[]byte{0xa0, 0x16, 0x02, 0x01, id, 0x02, 0x01, 0, 0x02, 0x01, 0, 0x30, 0x0b, 0x30, 0x09,
				0x06, 0x05, 0x2b, 6, 1, 2, 1, 0x05, 0})
		return append([]byte{0x30, byte(len(body))}, body...)
	}
	answer := standintest.Ask(t, fmt.Sprintf("%s:%d", host, port), get("private", 1), []byte("x"),
		get("public", 2))
	assert.Contains(t, string(answer), string([]byte{0xa2}))
	assert.Contains(t, string(answer), string([]byte{0x02, 0x01, 2, 0x02, 0x01}), "its ID is the last")
}

// An independent client walks through the standards' objects.
func TestSnmpwalk(t *testing.T) {
	if _, err := exec.LookPath("snmpwalk"); err != nil {
		t.Skip("needs snmpwalk")
	}
	host, port := start(t)
	out, err := exec.Command("snmpwalk", "-v2c", "-cpublic", "-On", fmt.Sprintf("%s:%d", host, port),
		".1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "OS-24")
}

// tftpServer serves one file as RFC 1350 specifies, with the deviations of its fields.
type tftpServer struct {
	file     []byte
	twice    bool // it sends each block twice
	stranger bool // another port sends blocks, too
	breaks   bool // it answers with an error
}

func (s tftpServer) serve(t *testing.T) (port int, done chan struct{}) {
	ask, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	data, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	stranger, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _, _, _ = ask.Close(), data.Close(), stranger.Close() })
	done = make(chan struct{})
	go func() {
		defer close(done)
		buf := make([]byte, 2048)
		_, to, err := ask.ReadFrom(buf)
		if err != nil {
			return
		}
		if s.breaks {
			_, _ = data.WriteTo([]byte("\x00\x05\x00\x01no such file\x00"), to)
			return
		}
		for block := 1; ; block++ { // no options: blocks of 512 bytes
			from := min((block-1)*512, len(s.file))
			part := s.file[from:min(from+512, len(s.file))]
			packet := binary.BigEndian.AppendUint16([]byte{0, 3}, uint16(block))
			packet = append(packet, part...)
			_, _ = data.WriteTo(packet, to)
			if s.twice {
				_, _ = data.WriteTo(packet, to)
			}
			if s.stranger {
				_, _ = stranger.WriteTo(append(binary.BigEndian.AppendUint16([]byte{0, 3},
					uint16(block+1)), make([]byte, 512)...), to)
			}
			for acknowledged := 0; acknowledged < block; {
				n, _, err := data.ReadFrom(buf)
				if err != nil || n < 4 {
					return
				}
				acknowledged = int(binary.BigEndian.Uint16(buf[2:]))
			}
			if len(part) < 512 {
				return
			}
		}
	}()
	return ask.LocalAddr().(*net.UDPAddr).Port, done
}

// It fetches an image from any server of RFC 1350: one without options, one that repeats its
// blocks, and while another port sends blocks, which do not belong to its transfer (RFC 1350,
// 4).
func TestItFetches(t *testing.T) {
	for what, server := range map[string]tftpServer{
		"plain":    {},
		"repeated": {twice: true},
		"stranger": {stranger: true},
		"error":    {breaks: true},
	} {
		t.Run(what, func(t *testing.T) {
			server.file = standintest.Image(t, "Osmere", "OS-24")
			port, done := server.serve(t)
			c := client(t, gosnmp.Version2c, standintest.Password)
			const arc = ".1.3.6.1.4.1.32473.8."
			got, err := c.Set([]gosnmp.SnmpPDU{
				{Name: arc + "3.0", Type: gosnmp.IPAddress, Value: "127.0.0.1"},
				{Name: arc + "4.0", Type: gosnmp.Integer, Value: port},
				{Name: arc + "5.0", Type: gosnmp.OctetString, Value: "image.bin"},
				{Name: arc + "6.0", Type: gosnmp.Integer, Value: 1}})
			require.NoError(t, err)
			require.Equal(t, gosnmp.NoError, got.Error)
			<-done
			var state int
			require.Eventually(t, func() bool {
				got, err := c.Get([]string{arc + "7.0"})
				require.NoError(t, err)
				state, _ = got.Variables[0].Value.(int)
				return state > 3
			}, time.Minute, 20*time.Millisecond)
			want := map[bool]int{false: 4, true: 5}[server.breaks]
			assert.Equal(t, want, state)
		})
	}
}
