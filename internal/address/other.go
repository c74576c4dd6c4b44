//go:build !linux

package address

import (
	"context"
	"errors"
)

// Give is not supported: this system does not let one adapter alone be spoken on.
func Give(context.Context, string, Lease, func(Step)) error {
	return errors.New("giving addresses works on Linux only")
}

// Listen is not supported.
func Listen(context.Context, string, func(Heard)) error {
	return errors.New("ARP, LLDP and DHCP are heard on Linux only")
}
