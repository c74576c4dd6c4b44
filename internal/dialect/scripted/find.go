package scripted

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/wire"
)

// lookWithin is how long a port that may be a device's is waited for.
const lookWithin = 3 * time.Second

// Find returns where a device of the family answers that a person has named by an address or a URL,
// as a scan would find it: at the port that was named, else at the first open one of the family's,
// and over TLS where that speaks it.
func (d Dialect) Find(ctx context.Context, where string) device.Endpoint {
	about := d.About()
	e, ports := device.Endpoint{Dialect: about.Name, Address: where}, about.Ports
	u, err := url.Parse(where)
	named := err == nil && (u.Scheme == "http" || u.Scheme == "https")
	if named {
		e.Scheme, e.Address = strings.TrimSuffix(u.Scheme, "http"), u.Host
		ports = []uint16{80}
		if e.Secure() {
			ports[0] = 443
		}
	}
	first := e
	first.Address = wire.AtPort(e.Address, strconv.Itoa(int(ports[0])))
	if named || about.Protocol != "http" {
		return first
	}
	for _, port := range ports {
		e.Address = wire.AtPort(where, strconv.Itoa(int(port)))
		if open, secure := wire.Looks(ctx, e.Address, lookWithin); open {
			if secure {
				e.Scheme = "https"
			}
			return e
		}
	}
	return first
}
