package family

// standardObjects are the objects of SNMP that a family may call by their names: those of RFC 3418
// (SNMPv2-MIB), RFC 2863 (IF-MIB), RFC 6933 (ENTITY-MIB), RFC 2790 (HOST-RESOURCES-MIB) and
// RFC 3621 (POWER-ETHERNET-MIB) that integrators use. A file names others itself.
var standardObjects = map[string]string{
	"sysDescr":                    "1.3.6.1.2.1.1.1",
	"sysObjectID":                 "1.3.6.1.2.1.1.2",
	"sysUpTime":                   "1.3.6.1.2.1.1.3",
	"sysContact":                  "1.3.6.1.2.1.1.4",
	"sysName":                     "1.3.6.1.2.1.1.5",
	"sysLocation":                 "1.3.6.1.2.1.1.6",
	"sysServices":                 "1.3.6.1.2.1.1.7",
	"ifNumber":                    "1.3.6.1.2.1.2.1",
	"ifDescr":                     "1.3.6.1.2.1.2.2.1.2",
	"ifPhysAddress":               "1.3.6.1.2.1.2.2.1.6",
	"ifAdminStatus":               "1.3.6.1.2.1.2.2.1.7",
	"ifOperStatus":                "1.3.6.1.2.1.2.2.1.8",
	"ifName":                      "1.3.6.1.2.1.31.1.1.1.1",
	"ifAlias":                     "1.3.6.1.2.1.31.1.1.1.18",
	"hrSystemUptime":              "1.3.6.1.2.1.25.1.1",
	"hrSystemDate":                "1.3.6.1.2.1.25.1.2",
	"entPhysicalDescr":            "1.3.6.1.2.1.47.1.1.1.1.2",
	"entPhysicalName":             "1.3.6.1.2.1.47.1.1.1.1.7",
	"entPhysicalHardwareRev":      "1.3.6.1.2.1.47.1.1.1.1.8",
	"entPhysicalFirmwareRev":      "1.3.6.1.2.1.47.1.1.1.1.9",
	"entPhysicalSoftwareRev":      "1.3.6.1.2.1.47.1.1.1.1.10",
	"entPhysicalSerialNum":        "1.3.6.1.2.1.47.1.1.1.1.11",
	"entPhysicalMfgName":          "1.3.6.1.2.1.47.1.1.1.1.12",
	"entPhysicalModelName":        "1.3.6.1.2.1.47.1.1.1.1.13",
	"pethPsePortAdminEnable":      "1.3.6.1.2.1.105.1.1.1.3",
	"pethPsePortDetectionStatus":  "1.3.6.1.2.1.105.1.1.1.6",
	"pethMainPsePower":            "1.3.6.1.2.1.105.1.3.1.1.2",
	"pethMainPseOperStatus":       "1.3.6.1.2.1.105.1.3.1.1.3",
	"pethMainPseConsumptionPower": "1.3.6.1.2.1.105.1.3.1.1.4",
}
