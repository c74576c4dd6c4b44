package wire

import (
	"context"
	"io"
	"regexp"
	"time"

	"github.com/pin/tftp/v3"

	"catena/internal/device"
)

// PutTFTP writes a body to a device's TFTP server (RFC 1350, with the options of RFC 2347 to 2349
// where it grants them). It is given up when not one block was taken for a minute.
func PutTFTP(ctx context.Context, address, remote string, b Body) error {
	client, err := tftp.NewClient(address)
	if err != nil {
		return device.Because(device.NoAnswer, "%v", err)
	}
	client.SetTimeout(tftpWithin)
	client.SetRetries(tftpTries)
	client.SetBlockSize(tftpBlock)
	w, err := client.Send(remote, "octet")
	if err != nil {
		return cause(ctx, tftpRefusal(err))
	}
	body := &counted{Reader: io.NewSectionReader(b.From, 0, b.Size), read: func(n int64) {
		if b.Sent != nil && n < b.Size {
			b.Sent(n)
		}
	}}
	if _, err := w.ReadFrom(body); err != nil {
		return cause(ctx, tftpRefusal(err))
	}
	if b.Sent != nil {
		b.Sent(b.Size)
	}
	return nil
}

// tftpRefusal is the device's own refusal in an error (RFC 1350, 5), or that it does not answer.
func tftpRefusal(err error) error {
	if m := tftpError.FindStringSubmatch(err.Error()); m != nil {
		return device.Because(device.Refusal, "%s (TFTP error %s)", m[2], m[1])
	}
	return device.Because(device.NoAnswer, "it takes no more of the image by TFTP")
}

var tftpError = regexp.MustCompile(`code=(\d+), error: (.*)$`)

// Of TFTP.
const (
	tftpWithin = 5 * time.Second // for one answer
	tftpTries  = 5
	tftpBlock  = 1468 // bytes: with all headers just the 1,500 of a frame
)
