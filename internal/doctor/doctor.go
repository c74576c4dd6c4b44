// Package doctor checks the machine that Catena runs on and the site folder for what could spoil a
// night's work.
//
// Its central function is Examine, which returns Findings; the rest reads single facts of the
// machine. It changes nothing, and sends nothing to a device.
package doctor

import (
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/net/ipv4"
)

// nearest is a folder, or the nearest one above it that is there.
func nearest(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || dir == filepath.Dir(dir) {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}

// Writable tells whether files can be made in a folder, or in the nearest one above that is there;
// the error is the system's.
func Writable(dir string) error {
	f, err := os.CreateTemp(nearest(dir), ".catena-doctor-")
	if err != nil {
		return err
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// ErrNotHeard is that a multicast was sent and not heard.
var ErrNotHeard = errors.New("it was sent and not received")

// hearWithin is how long a multicast of this machine's own may take to come back.
const hearWithin = 500 * time.Millisecond

// Multicast sends a word to a group on one adapter, and hears it itself: by an administratively
// scoped group (RFC 2365) that no one else uses, and never beyond this machine (TTL 0).
func Multicast(adapter string, from netip.Addr) error {
	on, err := net.InterfaceByName(adapter)
	if err != nil {
		return err
	}
	group := &net.UDPAddr{IP: net.IPv4(239, 255, 44, 44)}
	hears, err := net.ListenMulticastUDP("udp4", on, group)
	if err != nil {
		return err
	}
	defer func() { _ = hears.Close() }()
	says, err := net.ListenUDP("udp4", &net.UDPAddr{IP: from.AsSlice()})
	if err != nil {
		return err
	}
	defer func() { _ = says.Close() }()
	p := ipv4.NewPacketConn(says)
	if err := errors.Join(p.SetMulticastInterface(on), p.SetMulticastTTL(0),
		p.SetMulticastLoopback(true)); err != nil {
		return err
	}
	group.Port = hears.LocalAddr().(*net.UDPAddr).Port
	if _, err := says.WriteToUDP([]byte("catena doctor"), group); err != nil {
		return err
	}
	if err := hears.SetReadDeadline(time.Now().Add(hearWithin)); err != nil {
		return err
	}
	if _, _, err := hears.ReadFromUDP(make([]byte, 64)); err != nil {
		return ErrNotHeard
	}
	return nil
}

// Power says whether the machine runs on mains; known is false where it does not tell.
func Power() (mains, known bool) {
	// Linux: ABI/testing/sysfs-class-power
	supplies, err := filepath.Glob("/sys/class/power_supply/*/online")
	if err != nil {
		return false, false
	}
	for _, name := range supplies {
		online, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		known, mains = true, mains || strings.TrimSpace(string(online)) == "1"
	}
	return mains, known
}

// Firewall is the name of a firewall program that is switched on; empty: none was seen, which is
// not to say that there is none.
func Firewall() string {
	if conf, err := os.ReadFile("/etc/ufw/ufw.conf"); err == nil &&
		strings.Contains("\n"+string(conf), "\nENABLED=yes") {
		return "ufw"
	}
	for _, name := range []string{"firewalld", "nftables"} {
		if _, err := os.Stat("/run/" + name); err == nil {
			return name
		}
	}
	return ""
}
