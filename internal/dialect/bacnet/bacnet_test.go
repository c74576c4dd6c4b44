package bacnet_test

import (
	"testing"

	"catena/internal/dialect"
	"catena/internal/dialect/bacnet"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/simtest"
	"catena/internal/sim"
)

// ventilation starts a controller, and returns how many passwords it has refused.
func ventilation(t *testing.T) (dialect.At, func() int) {
	at, site := simtest.StartSite(
		t,
		sim.Device{Name: "fans", Kind: "ventilation", Model: "VC-3", Host: 9,
			Version: "5.1"},
	)
	return at, func() (n int) {
		for _, deed := range site.StandIns()[0].Log {
			if deed == "refused login" {
				n++
			}
		}
		return n
	}
}

func TestConformance(t *testing.T) {
	s := simtest.Subject(t, bacnet.Dialect{}, "", sim.Device{Kind: "ventilation", Model: "VC-3"}, "")
	s.Login.PlainBasic, s.Want.Vendor = true, "Harrow & Dene"
	s.Can = dialecttest.Abilities{Settings: true, Clock: true, Permission: true}
	dialecttest.Run(t, s)
}
