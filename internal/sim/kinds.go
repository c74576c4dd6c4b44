package sim

import (
	"fmt"
	"strconv"

	"catena/internal/sim/camera"
	"catena/internal/sim/drive"
	"catena/internal/sim/gate"
	"catena/internal/sim/hub"
	"catena/internal/sim/iomodule"
	"catena/internal/sim/netswitch"
	"catena/internal/sim/panel"
	"catena/internal/sim/recorder"
	"catena/internal/sim/router"
	"catena/internal/sim/standin"
	"catena/internal/sim/ventilation"
)

// kind is a kind of stand-in.
type kind struct {
	port  int      // where it listens if it has its own address
	named []string // the ports that a site file names to have it found
	// equip gives a stand-in what is particular to its kind; it may look at the site's other devices.
	equip func(*standin.StandIn, []standin.Device) error
}

// kinds are all kinds of stand-ins, by the name that a scenario calls them. A new one is a package
// and a line here.
var kinds = map[string]kind{
	"camera":     onPort(8080, camera.New),
	"gate":       onPort(8080, gate.New),
	"controller": onPort(8080, gate.NewController),
	"hub":        onPort(8080, hub.New),
	"panel":      onPort(8080, panel.New),
	"silent":     onPort(8080, func(*standin.StandIn, []standin.Device) error { return nil }),
	"recorder":   onPort(8443, recorder.New),
	"gateway":    onPort(2222, drive.New),
	"nvr":        onPort(2222, drive.New),
	"router":     onPort(2222, router.New),
	"drive":      {2222, []string{"2222", fmt.Sprintf("modbus:%d", drive.ModbusPort)}, drive.New},
	"switch": {netswitch.SNMPPort, []string{fmt.Sprintf("snmp:%d", netswitch.SNMPPort)},
		netswitch.New},
	"io":          {44818, nil, iomodule.New},
	"ventilation": {47808, nil, ventilation.New},
}

// onPort returns a kind that is found by its one port.
func onPort(port int, equip func(*standin.StandIn, []standin.Device) error) kind {
	return kind{port, []string{strconv.Itoa(port)}, equip}
}
