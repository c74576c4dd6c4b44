package bacnet_test

import (
	"testing"

	"catena/internal/dialect/bacnet"
	"catena/internal/dialect/dialecttest"
	"catena/internal/dialect/simtest"
	"catena/internal/sim"
)

func TestConformance(t *testing.T) {
	s := simtest.Subject(t, bacnet.Dialect{}, "", sim.Device{Kind: "ventilation", Model: "VC-3"}, "")
	s.Login.PlainBasic, s.Want.Vendor = true, "Harrow & Dene"
	s.Can = dialecttest.Abilities{Settings: true, Clock: true}
	dialecttest.Run(t, s)
}
