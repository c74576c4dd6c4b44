package camera

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"slices"

	"catena/internal/sim/standin"
)

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
	text := c.ConfigText()
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
	return c.SetConfig(raw[head:])
}

// takeBack takes a backup at the address that StartSystemRestore gave, and restarts.
func (c *camera) takeBack(w http.ResponseWriter, r *http.Request) {
	if c.Auth != "" && c.Auth != "token" && !c.httpDigest(r) {
		c.challenge(w)
		return
	}
	raw, err := io.ReadAll(io.LimitReader(r.Body, standin.MaxUpload))
	if err == nil {
		err = c.putBack(raw)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
		return
	}
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusOK)
	c.Restart(0)
}
