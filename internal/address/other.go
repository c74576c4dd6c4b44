//go:build !linux

package address

import (
	"context"
	"errors"
)

// Give is not supported: this system does not let one adapter alone be spoken on.
func Give(context.Context, string, Lease, func(Step)) error {
	return errors.New("addresses can be assigned only on Linux")
}

// Listen is not supported.
func Listen(context.Context, string, func(Heard)) error {
	return errors.New("ARP, LLDP and DHCP are received only on Linux")
}
