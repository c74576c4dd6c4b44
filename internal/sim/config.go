package sim

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"
	"strings"
)

// factory are the settings that a device of a kind has out of its box.
var factory = map[string]map[string]string{
	"drive":    {"start_level": "0.80", "stop_level": "0.35", "ramp_s": "12", "alarm_pin": "0000"},
	"recorder": {"BootMode": "Uefi", "WatchdogMinutes": "5", "AssetTag": ""},
	"camera":   {"night": "auto", "bitrate": "4096", "osd": ""},
}

// defaults are the settings that what the device runs comes with; s.mu is held.
func (s *standIn) defaults() map[string]string {
	out := maps.Clone(factory[s.Kind])
	for from, to := range s.Renames {
		if value, is := out[from]; is && s.version != s.original {
			delete(out, from)
			if to != "" {
				out[to] = value
			}
		}
	}
	return out
}

// config is the device's settings now; s.mu is held.
func (s *standIn) config() map[string]string {
	if s.settings == nil {
		s.settings = s.defaults()
		maps.Copy(s.settings, s.Device.Settings)
	}
	return s.settings
}

// configText is the settings, a line each.
func (s *standIn) configText() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	var b bytes.Buffer
	for _, key := range slices.Sorted(maps.Keys(s.config())) {
		fmt.Fprintf(&b, "%s = %s\n", key, s.config()[key])
	}
	return b.Bytes()
}

// setConfig takes settings back, where they are the device's own: all of its keys, and no others.
func (s *standIn) setConfig(raw []byte) error {
	fresh := map[string]string{}
	s.mu.Lock()
	usual := s.defaults()
	s.mu.Unlock()
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		key, value, ok := strings.Cut(lines.Text(), "=")
		if _, known := usual[strings.TrimSpace(key)]; !ok || !known {
			return fmt.Errorf("there is no setting %q", strings.TrimSpace(key))
		}
		fresh[strings.TrimSpace(key)] = strings.TrimSpace(value)
	}
	if len(fresh) != len(usual) {
		return errors.New("settings are missing")
	}
	s.mu.Lock()
	s.settings = fresh
	s.mu.Unlock()
	s.did("settings restored")
	return nil
}

// Of a camera's backup: a mark, the digest of what follows, and that.
const backupMark = "WXBACKUP"

func (c *camera) backup(w http.ResponseWriter, r *http.Request) {
	if c.Auth != "" && c.Auth != "token" && !c.httpDigest(r) {
		c.challenge(w)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	_, _ = w.Write(c.backupOf())
}

func (c *camera) backupOf() []byte {
	text := c.configText()
	sum := sha256.Sum256(text)
	return slices.Concat([]byte(backupMark), sum[:], text)
}

// attachBackup answers with the backup as an attachment (MTOM), as an older camera does.
func (c *camera) attachBackup(w http.ResponseWriter) {
	var out bytes.Buffer
	parts := multipart.NewWriter(&out)
	add := func(id, kind string, body []byte) {
		part, err := parts.CreatePart(textproto.MIMEHeader{"Content-Type": {kind}, "Content-Id": {"<" +
			id + ">"}})
		if err == nil {
			_, _ = part.Write(body) // a buffer takes everything
		}
	}
	add("root", `application/xop+xml; type="application/soap+xml"`,
		[]byte(`<env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope" xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema"><env:Body><tds:GetSystemBackupResponse><tds:BackupFiles><tt:Name>settings.wx</tt:Name><tt:Data><xop:Include xmlns:xop="http://www.w3.org/2004/08/xop/include" href="cid:settings"/></tt:Data></tds:BackupFiles></tds:GetSystemBackupResponse></env:Body></env:Envelope>`))
	add("settings", "application/octet-stream", c.backupOf())
	_ = parts.Close()
	w.Header().Set("Content-Type",
		`multipart/related; type="application/xop+xml"; start="<root>"; boundary="`+parts.Boundary()+`"`)
	_, _ = w.Write(out.Bytes())
}

// putBack takes a backup back, where it is one of this model.
func (c *camera) putBack(raw []byte) error {
	head := len(backupMark) + sha256.Size
	if len(raw) < head || string(raw[:len(backupMark)]) != backupMark ||
		sha256.Sum256(raw[head:]) != [sha256.Size]byte(raw[len(backupMark):head]) {
		return errors.New("no backup of this model")
	}
	return c.setConfig(raw[head:])
}

// takeBack takes a backup at the address that StartSystemRestore gave, and restarts.
func (c *camera) takeBack(w http.ResponseWriter, r *http.Request) {
	if c.Auth != "" && c.Auth != "token" && !c.httpDigest(r) {
		c.challenge(w)
		return
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, maxUpload))
	if err == nil {
		err = c.putBack(raw)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
		return
	}
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusOK)
	c.restart(0)
}
