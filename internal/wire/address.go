package wire

import (
	"context"
	"crypto/tls"
	"net"
	"strings"
	"time"
)

// AtPort returns an address with a port, where it has none.
func AtPort(where, port string) string {
	if _, _, err := net.SplitHostPort(where); err == nil {
		return where
	}
	return net.JoinHostPort(strings.Trim(where, "[]"), port)
}

// Looks reports whether an address accepts connections, and whether it speaks TLS there. Nothing is
// sent but the start of a handshake.
func Looks(ctx context.Context, address string, within time.Duration) (open, secure bool) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	conn, err := dial(ctx, "tcp", address)
	if err != nil {
		return false, false
	}
	defer func() { _ = conn.Close() }()
	// who it is is asked later, before any login
	client := tls.Client(conn, &tls.Config{InsecureSkipVerify: true,
		MinVersion: tls.VersionTLS10}) //nolint:gosec
	return true, client.HandshakeContext(ctx) == nil
}
