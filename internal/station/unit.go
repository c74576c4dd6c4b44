package station

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"catena/internal/atomicfile"
)

// Unit is the unit of systemd that starts a station.
type Unit struct {
	Name, Path string
	system     bool
	dir        string // of the site
}

// ErrNoSystemd is returned on machines without systemd.
var ErrNoSystemd = errors.New("this machine has no systemd")

// HasSystemd returns ErrNoSystemd where there is none.
func HasSystemd() error {
	if _, err := exec.LookPath("systemctl"); err != nil {
		return ErrNoSystemd
	}
	return nil
}

// UnitOf names the unit for a site folder: for the whole machine, or for this user.
func UnitOf(dir string, system bool) (Unit, error) {
	sum := sha256.Sum256([]byte(dir)) // two folders may have one name
	name := fmt.Sprintf("catena-%s-%s.service", atomicfile.Word(filepath.Base(dir)),
		hex.EncodeToString(sum[:3]))
	folder := "/etc/systemd/system"
	if !system {
		config, err := os.UserConfigDir()
		if err != nil {
			return Unit{}, err
		}
		folder = filepath.Join(config, "systemd", "user")
	}
	return Unit{name, filepath.Join(folder, name), system, dir}, nil
}

// Command is how systemd is told something about the unit.
func (u Unit) Command() string {
	if u.system {
		return "systemctl"
	}
	return "systemctl --user"
}

// Write writes the unit, which starts this program with the arguments, and returns its text.
func (u Unit) Write(args []string) (string, error) {
	self, err := os.Executable()
	if err != nil {
		return "", err
	}
	with := "default.target"
	if u.system {
		with = "multi-user.target"
	}
	words := []string{unitWord(self)}
	for _, arg := range args {
		words = append(words, unitWord(arg))
	}
	text := fmt.Sprintf(
		`# Made by catena station install; catena station install --remove takes it away.
[Unit]
Description=Station of the site folder %s
Wants=network-online.target
After=network-online.target

[Service]
ExecStart=%s
Restart=always
RestartSec=30
# A write to a device is never interrupted: the station ends when the last one has finished.
KillMode=mixed
TimeoutStopSec=infinity

[Install]
WantedBy=%s
`,
		strings.ReplaceAll(u.dir, "%", "%%"),
		strings.Join(words, " "),
		with,
	)
	if err := os.MkdirAll(filepath.Dir(u.Path), 0o755); err != nil {
		return "", err
	}
	return text, atomicfile.Replace(u.Path, []byte(text), 0o644)
}

// Remove removes the unit.
func (u Unit) Remove() error { return os.Remove(u.Path) }

// unitWord writes a word of a command as systemd.syntax(7) and systemd.service(5) have it.
func unitWord(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$", "\n", `\n`).
		Replace(s) +
		`"`
}
