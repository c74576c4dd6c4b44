package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"

	"catena/internal/device"
)

// Certificates returns what a device shows at the start of a TLS connection: its certificate, and
// those of its issuers as it sends them (RFC 8446, 4.4.2). Nothing else is sent. Its errors are
// causes: no answer, or a changed identity.
func Certificates(ctx context.Context, address string, trust Trust) ([]*x509.Certificate, error) {
	c, err := NewHTTP(trust).dialTLS(ctx, "tcp", address)
	if err != nil {
		var cause *device.Cause
		if errors.As(err, &cause) {
			return nil, cause
		}
		return nil, device.Because(device.NoAnswer, "%v", err)
	}
	defer func() { _ = c.Close() }()
	t, is := c.(*tls.Conn)
	if !is {
		return nil, device.Because(device.Malformed, "no TLS")
	}
	return t.ConnectionState().PeerCertificates, nil
}
