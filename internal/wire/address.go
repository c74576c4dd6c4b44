package wire

import (
	"net"
	"strings"
)

// AtPort returns an address with a port, where it has none.
func AtPort(where, port string) string {
	if _, _, err := net.SplitHostPort(where); err == nil {
		return where
	}
	return net.JoinHostPort(strings.Trim(where, "[]"), port)
}
