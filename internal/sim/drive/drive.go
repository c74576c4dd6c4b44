// Package drive is the stand-in of Harrow & Dene drives, and of gateways and recorders of the same
// design: they take commands over SSH, and files by SFTP.
package drive

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"catena/internal/sim/standin"
)

// drive is a Harrow & Dene pump drive: an SSH server (RFC 4253) with a host key of its own, whose
// commands read and update it, SFTP for its image, and Modbus over TCP.
//
//	show                     model, serial number, version, faults, a line each
//	firmware check DIGEST    look at /update/image.bin, and write it where it is whole
//	firmware show            phase, percent
//	firmware start           asks whether to restart, and does
//	service on               asks for a code; an image is taken only then, also after a restart
//	service off
//	show json                of a gateway: the same, with its parts, and the link that it uses
//	cameras                  of a network video recorder: those that only it reaches
//	images                   of one: the images for cameras that it keeps until it restarts
//	images keep DIGEST       it keeps what lies at /update/image.bin
//	camera PLACE install DIGEST   3: not now, 4: it does not keep that image
//	firmware check DIGEST modem   an image for that part
//	hours show               a counter, which an update clears on some
//	hours set N
//	settings show            a line each; an update clears what was set, on some
//	settings load            take what lies at /update/settings.txt
type drive struct {
	*standin.StandIn
	mine    sync.Mutex
	upload  []byte
	put     []byte // settings that were sent
	service bool
	maker   string
	cameras *standin.Units // of a recorder
	since   time.Time      // when it was first switched on
}

// link is which link a gateway uses now.
func (d *drive) link() string {
	if d.Link == "" || d.LinkFor > 0 && time.Since(d.since) > d.LinkFor {
		return "wired"
	}
	if _, err := os.Stat(d.LinkUntil); d.LinkUntil != "" && err == nil {
		return "wired"
	}
	return d.Link
}

// ServiceCode is what a drive asks for besides the login before it takes an image.
const ServiceCode = "weir-4711"

const (
	uploadName = "/update/image.bin"
	configName = "/update/settings.txt"
)

// New makes the stand-in a drive, a gateway or a network video recorder, by its kind.
func New(s *standin.StandIn, _ []standin.Device) error {
	d := &drive{StandIn: s, service: s.Kind != "drive", since: time.Now(), maker: "Harrow & Dene"}
	if s.Kind == "nvr" {
		d.maker = "Brackwell"
		d.cameras = standin.NewUnits(s, d.maker, 1)
	}
	if err := standin.SSH(s, d.session); err != nil {
		return err
	}
	if s.Kind == "drive" {
		s.Factory = map[string]string{"start_level": "0.80", "stop_level": "0.35", "ramp_s": "12",
			"alarm_pin": "0000"}
	}
	s.Also = []standin.Door{{Port: ModbusPort, Serve: d.modbus}}
	return nil
}

// session serves one command, or SFTP (RFC 4254, 6).
func (d *drive) session(c ssh.Channel, asked <-chan *ssh.Request) {
	defer func() { _ = c.Close() }()
	for r := range asked {
		var in struct{ Text string }
		switch {
		case r.Type == "pty-req":
			_ = r.Reply(true, nil)
		case ssh.Unmarshal(r.Payload, &in) != nil:
			_ = r.Reply(false, nil)
		case r.Type == "subsystem" && in.Text == "sftp":
			_ = r.Reply(true, nil)
			server := sftp.NewRequestServer(c, sftp.Handlers{FileGet: d, FilePut: d, FileCmd: d,
				FileList: d})
			_ = server.Serve()
			_, _ = c.SendRequest("exit-status", false, []byte{0, 0, 0, 0})
			return
		case r.Type == "exec":
			_ = r.Reply(true, nil)
			status := d.run(c, in.Text)
			_, _ = c.SendRequest("exit-status", false, binary.BigEndian.AppendUint32(nil, status))
			return
		default:
			_ = r.Reply(false, nil)
		}
	}
}

// run carries out a command and returns its exit status.
func (d *drive) run(c io.ReadWriter, command string) uint32 {
	say := func(format string, args ...any) { _, _ = fmt.Fprintf(c, format+"\r\n", args...) }
	version, well := d.Running()
	d.mine.Lock()
	defer d.mine.Unlock()
	words := append(strings.Fields(command), "")
	words = words[:max(1, len(words)-1)]
	switch {
	case command == "show":
		fault := "none"
		if !well {
			fault = "motor current"
		}
		service := map[bool]string{true: "on", false: "off"}[d.service]
		say("\x1b[1mmodel\x1b[0m    %s\r\nserial   %s\r\nversion  %s\r\nfault    %s\r\nname     %s\r\n"+
			"service  %s", d.Model, d.Serial,
			version, fault, d.Name, service)
	case d.cameras != nil && (words[0] == "cameras" || words[0] == "camera" || words[0] == "images"):
		return d.record(c, say, words)
	case command == "show json" && d.Kind != "drive":
		_ = json.NewEncoder(c).Encode(map[string]any{"model": d.Model, "serial": d.Serial,
			"version": version,
			"name":    d.Name, "well": well, "link": d.link(), "parts": d.PartVersions()})
	case command == "service on":
		return d.serve(c, say)
	case command == "hours show":
		say("hours    %d", d.Counter())
	case len(words) == 3 && words[0] == "hours" && words[1] == "set" && d.service:
		n, err := strconv.Atoi(words[2])
		if err != nil {
			say("error: no number")
			return 1
		}
		d.SetCounter(n)
		d.Did("hours set")
	case command == "settings show":
		_, _ = c.Write(d.ConfigText())
	case command == "settings load":
		if err := d.SetConfig(d.put); err != nil {
			say("error: %v", err)
			return 1
		}
	case command == "service off":
		d.service = false
		d.Did("service off")
	case words[0] == "firmware":
		return d.firmware(c, say, command, words)
	default:
		say("error: no such command")
		return 2
	}
	return 0
}

// firmware carries out what has to do with images. d.mine is held.
func (d *drive) firmware(c io.ReadWriter, say func(string, ...any), command string,
	words []string) uint32 {
	phase, percent, next := d.Phase()
	switch {
	case command == "firmware show":
		say("phase    %s\r\npercent  %d\r\nnext     %s", phase, percent, next)
	case len(words) >= 3 && words[0] == "firmware" && words[1] == "check":
		part := ""
		if len(words) == 4 {
			part = words[3]
		}
		if part == "modem" && d.link() == "modem" {
			say("error: the modem carries the link in use")
			return 1
		}
		if d.upload == nil {
			say("error: nothing was uploaded")
			return 1
		}
		h := sha256.New()
		version, err := standin.Receive(bytes.NewReader(d.upload), d.maker, d.Model, part, h)
		if err == nil && fmt.Sprintf("%x", h.Sum(nil)) != words[2] {
			err = standin.ErrChecksum
		}
		d.upload = nil
		if err != nil {
			say("error: %v", err)
			return 1
		}
		d.Take(part, version)
		say("ok")
	case command == "firmware start":
		if next == "" || percent < 100 {
			say("error: no image is written")
			return 1
		}
		_, _ = io.WriteString(c, "The pump stops. Restart now? [y/N] ")
		line, _ := bufio.NewReader(c).ReadString('\n')
		if strings.TrimSpace(line) != "y" {
			say("not restarted")
			return 1
		}
		d.Restart(0)
	default:
		say("error: no such command")
		return 2
	}
	return 0
}

// record is what a recorder does for its cameras. d.mine is held.
func (d *drive) record(c io.Writer, say func(string, ...any), words []string) uint32 {
	switch {
	case len(words) == 1 && words[0] == "cameras":
		out := []map[string]any{}
		d.cameras.Each(func(place int, u *standin.Unit, state string, percent int) {
			out = append(out, map[string]any{"place": place, "name": u.Name, "model": u.Model,
				"serial":  u.Serial,
				"version": u.Runs, "state": state, "percent": percent, "picture": u.Well()})
		})
		_ = json.NewEncoder(c).Encode(map[string]any{"cameras": out})
	case len(words) == 1:
		for _, digest := range d.cameras.Kept() {
			say("%s", digest)
		}
	case len(words) == 3 && words[1] == "keep" && len(d.cameras.All) > 0:
		h, model := sha256.New(), d.cameras.All[0].Model
		version, err := standin.Receive(bytes.NewReader(d.upload), d.maker, model, "", h)
		if err == nil && fmt.Sprintf("%x", h.Sum(nil)) != words[2] {
			err = standin.ErrChecksum
		}
		d.upload = nil
		if err != nil {
			say("error: %v", err)
			return 1
		}
		d.cameras.Keep(words[2], model, version)
	case len(words) == 4 && words[2] == "install":
		place, _ := strconv.Atoi(words[1])
		switch err := d.cameras.Install(place, words[3]); {
		case err == nil:
		case errors.Is(err, standin.ErrNotKept):
			say("error: %v", err)
			return 4
		default:
			say("error: %v", err)
			return 3
		}
	default:
		say("error: no such command")
		return 2
	}
	return 0
}

// serve has someone into the service mode. d.mine is held.
func (d *drive) serve(c io.ReadWriter, say func(string, ...any)) uint32 {
	if d.service {
		say("error: someone is in service mode")
		return 1
	}
	_, _ = io.WriteString(c, "Service code: ")
	line, _ := bufio.NewReader(c).ReadString('\n')
	if strings.TrimSpace(line) != ServiceCode {
		say("error: wrong code")
		return 3
	}
	d.service = true
	d.Did("service on")
	return 0
}

// Fileread refuses: nothing is read from a drive.
func (d *drive) Fileread(*sftp.Request) (io.ReaderAt, error) { return nil, os.ErrPermission }

// Filecmd refuses all but the attributes that a client sets on what it has sent, which a drive does
// not keep.
func (d *drive) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" && r.Filepath == uploadName {
		return nil
	}
	return os.ErrPermission
}

// Filelist refuses.
func (d *drive) Filelist(*sftp.Request) (sftp.ListerAt, error) { return nil, os.ErrPermission }

// Filewrite takes an image.
func (d *drive) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	d.mine.Lock()
	defer d.mine.Unlock()
	switch {
	case !d.service:
		return nil, os.ErrPermission
	case r.Filepath == uploadName:
		d.upload = []byte{}
		return &incoming{of: d, into: &d.upload, ended: d.Receives()}, nil
	case r.Filepath == configName:
		d.put = []byte{}
		return &incoming{of: d, into: &d.put, ended: func() {}}, nil
	}
	return nil, os.ErrPermission
}

type incoming struct {
	of    *drive
	into  *[]byte
	ended func()
}

func (i *incoming) WriteAt(p []byte, at int64) (int, error) {
	i.of.mine.Lock()
	defer i.of.mine.Unlock()
	end := int(at) + len(p)
	if at < 0 || end > standin.MaxUpload {
		return 0, errors.New("too large")
	}
	if end > len(*i.into) {
		*i.into = append(*i.into, make([]byte, end-len(*i.into))...)
	}
	return copy((*i.into)[at:], p), nil
}

// Close is called when the file is, or its connection.
func (i *incoming) Close() error {
	i.ended()
	return nil
}
