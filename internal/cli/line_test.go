//go:build linux

package cli_test

import (
	"crypto/sha256"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// line is a bad line between two network namespaces: each packet is late, and some are lost.
type line struct {
	prefix  string
	late    time.Duration // each way
	loss    float64
	cut     atomic.Bool
	packets atomic.Int64
}

// newLine makes the namespaces here and there, at 10.20.8.1 and 10.20.8.2.
func newLine(t *testing.T, late time.Duration, loss float64) *line {
	if os.Geteuid() != 0 {
		t.Skip("network namespaces want root")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("there is no ip (Debian's package iproute2)")
	}
	l := &line{prefix: fmt.Sprintf("line%d-", os.Getpid()), late: late, loss: loss}
	var ends []*os.File
	for n, ns := range []string{"here", "there"} {
		name := l.prefix + ns
		if out, err := exec.Command("ip", "netns", "add", name).CombinedOutput(); err != nil {
			t.Skipf("network namespaces cannot be made here: %s", out)
		}
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", name).Run() })
		end, err := tunIn(name)
		if err != nil {
			t.Skipf("a tunnel cannot be made here: %v", err)
		}
		t.Cleanup(func() { _ = end.Close() })
		ends = append(ends, end)
		for _, args := range [][]string{{"link", "set", "lo", "up"}, {"addr", "add",
			fmt.Sprintf("10.20.8.%d/24", n+1), "dev", "line0"}, {"link", "set", "line0", "up"}} {
			out, err := exec.Command("ip", append([]string{"-n", name}, args...)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	go l.pass(ends[0], ends[1])
	go l.pass(ends[1], ends[0])
	return l
}

// tunIn makes the interface line0 in a namespace; its packets are read from the file.
func tunIn(namespace string) (end *os.File, err error) {
	done := make(chan bool)
	go func() { // its thread stays in the namespace, and ends with it
		defer close(done)
		runtime.LockOSThread()
		var at *os.File
		if at, err = os.Open("/run/netns/" + namespace); err != nil {
			return
		}
		defer func() { _ = at.Close() }()
		if err = unix.Setns(int(at.Fd()), unix.CLONE_NEWNET); err != nil {
			return
		}
		var fd int
		if fd, err = unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_NONBLOCK, 0); err != nil {
			return
		}
		request, _ := unix.NewIfreq("line0") // it is short enough
		request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
		if err = unix.IoctlIfreq(fd, unix.TUNSETIFF, request); err == nil {
			end = os.NewFile(uintptr(fd), "line0")
		}
	}()
	<-done
	return end, err
}

func (l *line) pass(from, to *os.File) {
	for {
		packet := make([]byte, 2048)
		n, err := from.Read(packet)
		if err != nil {
			return // the test is over
		}
		l.packets.Add(1)
		if l.cut.Load() || rand.Float64() < l.loss {
			continue
		}
		time.AfterFunc(l.late, func() { _, _ = to.Write(packet[:n]) })
	}
}

// command is a program at one end.
func (l *line) command(end, dir string, args ...string) *exec.Cmd {
	cmd := bounded("ip", append([]string{"netns", "exec", l.prefix + end, "catena"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+filepath.Join(dir, "of-"+end),
		"CATENA_SHELF="+filepath.Join(dir, "of-"+end, "shelf"),
		"CATENA_LOGIN=keeper:quoin-and-sluice")
	return cmd
}

// A site is 300 ms away from its office, one packet in twenty is lost, and the line is cut in the
// middle of an image: the sync goes through, and another laptop gets the very image.
func TestABadLine(t *testing.T) {
	t.Parallel()
	l := newLine(t, 150*time.Millisecond, 0.05)
	work := t.TempDir()
	run := func(end string, args ...string) string {
		out, err := l.command(end, work, args...).CombinedOutput()
		require.NoError(t, err, "%s: %v: %s", end, args, out)
		return string(out)
	}
	require.NoError(t, os.WriteFile(filepath.Join(work, "line.yaml"), []byte(`site: Marrow Hill
login: {user: keeper, password: quoin-and-sluice}
devices:
  - {name: cam-11, kind: camera, model: WX-40, hardware: B, serial: WX4-10011, version: 3.1.0, host: 11}
images:
  - {maker: Wexcombe, models: [WX-40], version: 3.2.1, file: wx40_3.2.1.bin, bytes: 9000000}
`), 0o600))
	s := startSim(func(err error) { require.NoError(t, err) }, work, filepath.Join(work, "families"),
		[]string{"line.yaml", "--images", "firmware"})
	t.Cleanup(s.stop)
	at := l.command("here", work, "new", "Marrow Hill", "-C", "hill", "--adapter", s.adapter,
		"--range", s.net+".11")
	at.Args = at.Args[4:] // on this side of the line: where the devices are
	at.Path, _ = exec.LookPath("catena")
	out, err := at.CombinedOutput()
	require.NoError(t, err, "%s", out)
	scan := l.command("here", work, "scan", "-C", "hill", "--patience", "5s")
	scan.Args, scan.Path = scan.Args[4:], at.Path
	out, err = scan.CombinedOutput()
	require.NoError(t, err, "%s", out)
	run("here", "shelf", "add", "firmware")

	run("there", "office", "init", "office", "--name", "Canal Works", "--address", "10.20.8.2")
	run("there", "office", "add", "marrow-hill", "-C", "office")
	office := l.command("there", work, "office", "serve", "-C", "office")
	require.NoError(t, office.Start())
	t.Cleanup(func() { _ = office.Process.Signal(os.Interrupt); _ = office.Wait() })

	begun := time.Now()
	require.Eventually(t, func() bool { // the record of a new site
		sync := l.command("here", work, "sync", "marrow-hill.office", "-C", "hill", "--rate", "1MiB")
		if err := sync.Start(); err != nil {
			return false
		}
		time.AfterFunc(6*time.Second, func() { l.cut.Store(true) })
		time.AfterFunc(14*time.Second, func() { l.cut.Store(false) })
		return sync.Wait() == nil
	}, 4*time.Minute, time.Second)
	t.Logf("synced in %v, with %d packets", time.Since(begun).Round(time.Second), l.packets.Load())
	run("there", "ledger", "writer", "bea")
	joined := l.command("there", work, "sync", "marrow-hill.office", "--into", "copy")
	said, _ := joined.CombinedOutput() // it names who writes there
	_, print, found := strings.Cut(string(said), "with the key ")
	require.True(t, found, "%s", said)
	run("there", "sync", "marrow-hill.office", "--into", "copy", "--accept",
		strings.Fields(print)[0])
	image, err := os.ReadFile(filepath.Join(work, "firmware", "wx40_3.2.1.bin"))
	require.NoError(t, err)
	sum := fmt.Sprintf("%x", sha256.Sum256(image))
	copied, err := os.ReadFile(filepath.Join(work, "of-there", "shelf", "images", sum[:2], sum))
	require.NoError(t, err)
	assert.Equal(t, image, copied)
}
