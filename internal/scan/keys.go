package scan

import (
	"net/netip"
	"slices"
	"sync"

	"catena/internal/device"
	"catena/internal/wire"
)

// KeySerial is the kind of key that a serial number is: it too says whether an address
// has the device that was there.
const KeySerial = device.KeySerial

// Key is evidence of a device's identity at an address.
type Key = device.Key

// NoTLS stands for the certificate of a device that was talked to over TLS and is not any
// more.
const NoTLS = "none: it answers without TLS"

// keyring holds the keys met against those known.
type keyring struct {
	mu             *sync.Mutex
	trusted        map[Key]string // by address and kind: the fingerprint
	fresh, refused []Key
	strangers      map[netip.Addr]error
	shown          map[netip.Addr][]string // the fingerprints that each host has shown now
}

func newKeyring(known []Key) *keyring {
	k := &keyring{mu: new(sync.Mutex), trusted: map[Key]string{}, strangers: map[netip.Addr]error{},
		shown: map[netip.Addr][]string{}}
	for _, key := range known {
		k.trusted[Key{Address: key.Address, Kind: key.Kind}] = key.Fingerprint
	}
	return k
}

// check remembers a key at the first contact; another one than before is an
// ErrIdentityChanged with both, and the way to accept it.
func (k *keyring) check(address, kind, fingerprint string) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	host, _ := netip.ParseAddrPort(address) // the zero address where it is none
	if kind != KeySerial && kind != device.KeyShown && fingerprint != NoTLS {
		k.shown[host.Addr()] = append(k.shown[host.Addr()], fingerprint)
	}
	slot := Key{Address: address, Kind: kind}
	was, known := k.trusted[slot]
	switch {
	case known && was == fingerprint:
		return nil
	case !known && fingerprint == device.NotShown:
		return nil // it never showed one
	case !known, was == NoTLS, was == device.NotShown:
		k.trusted[slot] = fingerprint
		k.fresh = append(k.fresh, Key{Address: address, Kind: kind, Fingerprint: fingerprint})
		return nil
	}
	changed := device.IdentityChangedError(kind, was, fingerprint)
	if k.strangers[host.Addr()] == nil {
		k.refused = append(k.refused, Key{Address: address, Kind: kind, Fingerprint: fingerprint})
		k.strangers[host.Addr()] = changed
	}
	return changed
}

// trust is check for the connections to one address.
func (k *keyring) trust(address string) wire.Trust {
	return func(kind, fingerprint string) error { return k.check(address, kind, fingerprint) }
}

// changed is the key that was found to be another one at any port of a host.
func (k *keyring) changed(host netip.Addr) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.strangers[host]
}

// Trust compares the keys shown at an address with those known, without keeping any. A device that
// restarts may show no serial number for a while: that is for scans to notice.
func Trust(known []Key, address string) wire.Trust {
	k := newKeyring(slices.DeleteFunc(slices.Clone(known),
		func(k Key) bool { return k.Kind == device.KeyShown }))
	return k.trust(address)
}
