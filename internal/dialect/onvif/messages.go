package onvif

import (
	"encoding/xml"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// The messages of the device service (ONVIF Core Specification, 8), as far as
// they are used. Elements are told by their local names: makers differ in
// prefixes, and some in namespaces.

type envelope struct {
	XMLName xml.Name `xml:"Envelope"`
	Body    struct {
		Fault        *soapFault         `xml:"Fault"`
		DateAndTime  *dateAndTime       `xml:"GetSystemDateAndTimeResponse>SystemDateAndTime>UTCDateTime"`
		Services     []service          `xml:"GetServicesResponse>Service"`
		Capabilities *capabilities      `xml:"GetCapabilitiesResponse>Capabilities"`
		Information  *information       `xml:"GetDeviceInformationResponse"`
		Scopes       []scope            `xml:"GetScopesResponse>Scopes"`
		Upgrade      *upgrade           `xml:"StartFirmwareUpgradeResponse"`
		SystemURIs   *systemURIs        `xml:"GetSystemUrisResponse"`
		Backup       []backupFile       `xml:"GetSystemBackupResponse>BackupFiles"`
		Interfaces   []networkInterface `xml:"GetNetworkInterfacesResponse>NetworkInterfaces"`
		Moved        *moved             `xml:"SetNetworkInterfacesResponse"`
		Restore      *upgrade           `xml:"StartSystemRestoreResponse"`
		Reboot       *reboot            `xml:"SystemRebootResponse"`
		Misc         *misc              `xml:"GetServiceCapabilitiesResponse>Capabilities>Misc"`
		Users        *users             `xml:"GetUsersResponse"`
		Relays       []relay            `xml:"GetRelayOutputsResponse>RelayOutputs"`
	} `xml:"Body"`
}

// soapFault is SOAP 1.2, part 1, 5.4.
type soapFault struct {
	Subcode string `xml:"Code>Subcode>Value"`
	Deeper  string `xml:"Code>Subcode>Subcode>Value"`
	Reason  string `xml:"Reason>Text"`
}

func (f soapFault) notAuthorized() bool {
	return strings.HasSuffix(f.Subcode, ":NotAuthorized") ||
		strings.HasSuffix(f.Deeper, ":NotAuthorized")
}

// unsupported tells whether the device does not know the call: ONVIF Core 5.8.2.3.
func (f soapFault) unsupported() bool {
	for _, code := range []string{f.Subcode, f.Deeper} {
		if strings.HasSuffix(code, ":ActionNotSupported") ||
			strings.HasSuffix(code, ":OptionalActionNotImplemented") {
			return true
		}
	}
	return false
}

// dateAndTime is ONVIF Core 8.3.5.
type dateAndTime struct {
	Hour   int `xml:"Time>Hour"`
	Minute int `xml:"Time>Minute"`
	Second int `xml:"Time>Second"`
	Year   int `xml:"Date>Year"`
	Month  int `xml:"Date>Month"`
	Day    int `xml:"Date>Day"`
}

func (d dateAndTime) time() time.Time {
	return time.Date(d.Year, time.Month(d.Month), d.Day, d.Hour, d.Minute, d.Second, 0, time.UTC)
}

// service is ONVIF Core 8.1.2.
type service struct {
	Namespace string `xml:"Namespace"`
}

// capabilities is ONVIF Core 8.1.1: the addresses of the services, by category.
type capabilities struct {
	Categories []struct {
		XMLName xml.Name
		XAddr   string `xml:"XAddr"`
	} `xml:",any"`
}

// information is ONVIF Core 8.3.1.
type information struct {
	Manufacturer    string `xml:"Manufacturer"`
	Model           string `xml:"Model"`
	FirmwareVersion string `xml:"FirmwareVersion"`
	SerialNumber    string `xml:"SerialNumber"`
	HardwareID      string `xml:"HardwareId"`
}

// scope is ONVIF Core 8.3.11.
type scope struct {
	Item string `xml:"ScopeItem"`
}

// upgrade is ONVIF Core 8.3.9 and, for a backup, 8.3.14.
type upgrade struct {
	UploadURI        string   `xml:"UploadUri"`
	UploadDelay      duration `xml:"UploadDelay"`
	ExpectedDownTime duration `xml:"ExpectedDownTime"`
}

// systemURIs is ONVIF Core 8.3.13.
type systemURIs struct {
	Backup string `xml:"SystemBackupUri"`
}

// backupFile is ONVIF Core 8.3.10.
type backupFile struct {
	Name string `xml:"Name"`
	Data struct {
		Text    string `xml:",chardata"` // base64
		Include struct {
			Href string `xml:"href,attr"`
		} `xml:"Include"`
	} `xml:"Data"`
}

// moved is ONVIF Core 8.2.6.
type moved struct {
	RebootNeeded bool `xml:"RebootNeeded"`
}

type reboot struct{}

// users is ONVIF Core 8.4.4.
type users struct {
	User []struct {
		Name  string `xml:"Username"`
		Level string `xml:"UserLevel"`
	} `xml:"User"`
}

// duration is XML Schema's, 3.2.6: PT1M30.5S. Years and months have no fixed
// length and are not taken.
type duration time.Duration

// maxDuration bounds an announced duration.
const maxDuration = time.Hour

func (d *duration) UnmarshalText(text []byte) error {
	rest, ok := strings.CutPrefix(strings.TrimSpace(string(text)), "P")
	if !ok {
		return fmt.Errorf("%q is not a duration", text)
	}
	days, clock, _ := strings.Cut(rest, "T")
	total := 0.0
	take := func(s string, units string, seconds map[byte]float64) error {
		for s != "" {
			i := strings.IndexAny(s, units)
			if i < 0 {
				return fmt.Errorf("%q is not a duration", text)
			}
			n, err := strconv.ParseFloat(s[:i], 64)
			if err != nil || n < 0 || math.IsInf(n, 0) || math.IsNaN(n) {
				return fmt.Errorf("%q is not a duration", text)
			}
			total += n * seconds[s[i]]
			s = s[i+1:]
		}
		return nil
	}
	if err := take(days, "D", map[byte]float64{'D': 86400}); err != nil {
		return err
	}
	if err := take(clock, "HMS", map[byte]float64{'H': 3600, 'M': 60, 'S': 1}); err != nil {
		return err
	}
	*d = duration(min(maxDuration.Seconds(), total) * float64(time.Second))
	return nil
}

// misc is ONVIF Core 8.1.2.1: what else the device can do.
type misc struct {
	AuxiliaryCommands string `xml:"AuxiliaryCommands,attr"`
}

// relay is ONVIF Core 8.5.
type relay struct {
	Token string `xml:"token,attr"`
}
