// Package camera is the stand-in of Wexcombe cameras, which speak ONVIF.
package camera

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"html"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"catena/internal/sim/standin"
)

// camera is a Wexcombe camera: the device service of the ONVIF Core
// Specification, SOAP 1.2 over HTTP. Its login is a WS-UsernameToken with a
// password digest, or HTTP Digest, or the first for SOAP and the second for the upload, as
// its scenario says.
type camera struct {
	*standin.StandIn
	uuid string

	mu     sync.Mutex
	nonces map[string]bool // of tokens already used
	digest *standin.DigestAuth
	upload string    // the path that waits for an image; empty: none
	opens  time.Time // when it may come

	messages int // of WS-Discovery since it came up
}

const (
	servicePath = "/onvif/device_service"
	maxSOAP     = 256 << 10
	clockWindow = 5 * time.Minute // how old a token may be
)

// New makes the stand-in a camera.
func New(s *standin.StandIn, _ []standin.Device) error {
	c := &camera{StandIn: s, nonces: map[string]bool{},
		digest: standin.NewDigestAuth("camera", "MD5", s.LoginNow)}
	sum := sha1.Sum([]byte(s.Model + s.Serial))
	sum[6], sum[8] = sum[6]&0x0f|0x50, sum[8]&0x3f|0x80 // RFC 9562, 5.5
	c.uuid = fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", sum[0:4], sum[4:6], sum[6:8], sum[8:10],
		sum[10:16])
	mux := http.NewServeMux()
	mux.HandleFunc("POST "+servicePath, c.service)
	mux.HandleFunc("POST /upload/{key}", c.receiveImage)
	mux.HandleFunc("GET /backup", c.backup)
	mux.HandleFunc("POST /restore", c.takeBack)
	s.Handler = mux
	s.Factory = map[string]string{"night": "auto", "bitrate": "4096", "osd": ""}
	s.UDP = map[string]func([]byte) [][]byte{"ws-discovery": c.hearProbe}
	return nil
}

// request is what every call has: a header that may hold a token, and one element
// in the body.
type request struct {
	XMLName xml.Name `xml:"http://www.w3.org/2003/05/soap-envelope Envelope"`
	Token   *struct {
		Username string `xml:"Username"`
		Password struct {
			Type  string `xml:"Type,attr"`
			Value string `xml:",chardata"`
		} `xml:"Password"`
		Nonce   string `xml:"Nonce"`
		Created string `xml:"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd Created"`
	} `xml:"Header>Security>UsernameToken"`
	Body struct {
		Call struct {
			XMLName  xml.Name
			Category string `xml:"Category"`
			Command  string `xml:"AuxiliaryCommand"`
			Relay    string `xml:"RelayOutputToken"`
			Token    string `xml:"InterfaceToken"`
			Address  string `xml:"NetworkInterface>IPv4>Manual>Address"`
			HostName string `xml:"Name"`
			State    string `xml:"LogicalState"`
			Include  struct {
				Href string `xml:"href,attr"`
			} `xml:"Firmware>Include"`
			File struct {
				Href string `xml:"href,attr"`
			} `xml:"BackupFiles>Data>Include"`
			User struct {
				Name     string  `xml:"Username"`
				Password *string `xml:"Password"`
				Level    string  `xml:"UserLevel"`
			} `xml:"User"`
		} `xml:",any"`
	} `xml:"http://www.w3.org/2003/05/soap-envelope Body"`
}

const deviceNS = "http://www.onvif.org/ver10/device/wsdl"

// attached takes an image that comes with its call: UpgradeSystemFirmware (ONVIF Core 8.3.8) with
// XOP (multipart/related, RFC 2387).
func (c *camera) attached(w http.ResponseWriter, r *http.Request, boundary string) {
	parts := multipart.NewReader(r.Body, boundary)
	first, err := parts.NextPart()
	var in request
	if err == nil {
		var raw []byte
		raw, err = io.ReadAll(io.LimitReader(first, maxSOAP))
		if err == nil {
			err = xml.Unmarshal(raw, &in)
		}
	}
	call := in.Body.Call
	known := []string{"UpgradeSystemFirmware", "RestoreSystem"}
	if err != nil || call.XMLName.Space != deviceNS || !slices.Contains(known, call.XMLName.Local) {
		fault(w, http.StatusBadRequest, "Sender", "ter:WellFormed", "The request is not well-formed.")
		return
	}
	if !c.let(w, r, in) {
		return
	}
	id, isContent := strings.CutPrefix(cmp.Or(call.Include.Href, call.File.Href), "cid:")
	image, err := parts.NextPart()
	if err != nil || !isContent || image.Header.Get("Content-Id") != "<"+id+">" {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidArgVal", "The firmware is not attached.")
		return
	}
	if call.XMLName.Local == "RestoreSystem" {
		raw, err := io.ReadAll(io.LimitReader(image, standin.MaxUpload))
		if err == nil {
			err = c.putBack(raw)
		}
		if err != nil {
			fault(w, http.StatusBadRequest, "Sender", "ter:InvalidBackup", err.Error())
			return
		}
		reply(w, http.StatusOK, `<tds:RestoreSystemResponse/>`)
		c.Restart(0)
		return
	}
	ended := c.Receives()
	version, err := standin.Receive(image, "Wexcombe", c.Model, "", nil)
	ended()
	if err != nil {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidFirmware", err.Error())
		return
	}
	c.StandIn.Take("", version)
	reply(
		w,
		http.StatusOK,
		`<tds:UpgradeSystemFirmwareResponse><tds:Message>Restarting</tds:Message></tds:UpgradeSystemFirmwareResponse>`,
	)
	c.Restart(c.Pace.Write)
}

func (c *camera) service(w http.ResponseWriter, r *http.Request) {
	kind, params, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if kind == "multipart/related" && params["type"] == "application/xop+xml" && c.Older {
		c.attached(w, r, params["boundary"])
		return
	}
	if kind != "application/soap+xml" {
		http.Error(w, "SOAP 1.2 wants application/soap+xml", http.StatusUnsupportedMediaType)
		return
	}
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxSOAP))
	var in request
	if err != nil || xml.Unmarshal(raw, &in) != nil || in.Body.Call.XMLName.Local == "" {
		fault(w, http.StatusBadRequest, "Sender", "ter:WellFormed",
			"The request is not well-formed.")
		return
	}
	call := in.Body.Call.XMLName
	if call.Space != deviceNS {
		fault(w, http.StatusBadRequest, "Sender", "ter:Namespace",
			"Only the device service is here.")
		return
	}
	open, closed := c.operations(r.Host)
	if do, ok := open[call.Local]; ok && !(c.Older && call.Local == "GetServices") {
		reply(w, http.StatusOK, do())
		return
	}
	do, ok := closed[call.Local]
	newer := []string{"StartFirmwareUpgrade", "GetSystemUris", "StartSystemRestore"}
	if !ok || c.Older && slices.Contains(newer, call.Local) || !c.Older &&
		call.Local == "GetSystemBackup" {
		fault(w, http.StatusBadRequest, "Receiver", "ter:ActionNotSupported",
			call.Local+" is not supported.")
		return
	}
	if !c.let(w, r, in) {
		return
	}
	forAll := []string{"GetDeviceInformation", "GetScopes", "GetNetworkInterfaces", "GetRelayOutputs"}
	if c.Faults.ReadsOnly && !slices.Contains(forAll, call.Local) {
		fault(w, http.StatusBadRequest, "Sender", "ter:NotAuthorized",
			"The user level does not allow it.")
		return
	}
	switch call.Local {
	case "SetHostname":
		c.setHostname(w, in)
	case "SetUser":
		c.setUser(w, in)
	case "SetNetworkInterfaces":
		c.setAddress(w, in)
	case "GetSystemBackup":
		c.attachBackup(w)
	case "SendAuxiliaryCommand":
		c.auxiliary(w, in)
	case "SetRelayOutputState":
		c.relay(w, in)
	default:
		reply(w, http.StatusOK, do())
	}
}

// operations are those that need no login and those that do (access classes: ONVIF Core,
// 5.9.4.3), by name. nil: it takes arguments.
func (c *camera) operations(host string) (open, closed map[string]func() string) {
	open = map[string]func() string{
		"GetSystemDateAndTime": c.dateAndTime,
		"GetServices":          c.services,
		"GetCapabilities":      c.capabilities,
		"GetServiceCapabilities": func() string {
			return `<tds:GetServiceCapabilitiesResponse><tds:Capabilities><tds:Misc AuxiliaryCommands="` +
				html.EscapeString(strings.Join(c.Auxiliary, " ")) +
				`"/></tds:Capabilities></tds:GetServiceCapabilitiesResponse>`
		},
	}
	closed = map[string]func() string{
		"SendAuxiliaryCommand": nil, "SetRelayOutputState": nil, "SetNetworkInterfaces": nil,
		"SetHostname": nil, "GetSystemBackup": nil, "SetUser": nil,
		"GetDeviceInformation": c.information,
		"GetScopes":            c.scopes,
		"GetUsers": func() string { // ONVIF Core 8.4.4
			return `<tds:GetUsersResponse><tds:User><tt:Username>` + html.EscapeString(c.Login.User) +
				`</tt:Username><tt:UserLevel>Administrator</tt:UserLevel></tds:User></tds:GetUsersResponse>`
		},
		"StartFirmwareUpgrade": func() string { return c.startUpgrade(host) },
		"GetRelayOutputs": func() string {
			var b strings.Builder
			for _, r := range c.Relays {
				fmt.Fprintf(
					&b,
					`<tds:RelayOutputs token="%s"><tt:Properties><tt:Mode>Bistable</tt:Mode></tt:Properties></tds:RelayOutputs>`,
					html.EscapeString(r),
				)
			}
			return `<tds:GetRelayOutputsResponse>` + b.String() + `</tds:GetRelayOutputsResponse>`
		},
		"GetNetworkInterfaces": func() string {
			where, _, _ := net.SplitHostPort(c.Addr)
			return `<tds:GetNetworkInterfacesResponse><tds:NetworkInterfaces token="eth0"><tt:Enabled>true</tt:Enabled><tt:IPv4><tt:Enabled>true</tt:Enabled><tt:Config><tt:Manual><tt:Address>` + where + `</tt:Address><tt:PrefixLength>8</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP></tt:Config></tt:IPv4></tds:NetworkInterfaces></tds:GetNetworkInterfacesResponse>`
		},
		"SetNetworkDefaultGateway": func() string { return `<tds:SetNetworkDefaultGatewayResponse/>` },
		"GetSystemUris": func() string {
			return `<tds:GetSystemUrisResponse><tds:SystemBackupUri>http://` + html.EscapeString(host) +
				`/backup</tds:SystemBackupUri></tds:GetSystemUrisResponse>`
		},
		"StartSystemRestore": func() string {
			return `<tds:StartSystemRestoreResponse><tds:UploadUri>http://` + html.EscapeString(host) +
				`/restore</tds:UploadUri><tds:ExpectedDownTime>` + xsDuration(c.Pace.Restart) +
				`</tds:ExpectedDownTime></tds:StartSystemRestoreResponse>`
		},
		"SystemReboot": func() string {
			c.Restart(0)
			return `<tds:SystemRebootResponse><tds:Message>Rebooting</tds:Message></tds:SystemRebootResponse>`
		},
	}
	return open, closed
}

// auxiliary does an auxiliary command that the camera has: ONVIF Core 8.6.1.
func (c *camera) auxiliary(w http.ResponseWriter, in request) {
	command := strings.TrimSpace(in.Body.Call.Command)
	if !slices.Contains(c.Auxiliary, command) {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidArgVal",
			"There is no such auxiliary command.")
		return
	}
	c.Did("auxiliary " + command)
	reply(w, http.StatusOK, `<tds:SendAuxiliaryCommandResponse/>`)
}

// setHostname has the camera call itself otherwise: ONVIF Core 8.2.2.
func (c *camera) setHostname(w http.ResponseWriter, in request) {
	name := strings.TrimSpace(in.Body.Call.HostName)
	if name == "" || len(name) > 63 {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidHostname", "The name is not valid.")
		return
	}
	c.Did("hostname " + name)
	reply(w, http.StatusOK, `<tds:SetHostnameResponse/>`)
}

// setUser changes the password of its user: ONVIF Core 8.4.6. Every User needs a level.
func (c *camera) setUser(w http.ResponseWriter, in request) {
	u := in.Body.Call.User
	switch {
	case u.Name != c.Login.User:
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidArgVal", "Username NOT recognized")
	case u.Level != "Administrator":
		fault(w, http.StatusBadRequest, "Sender", "ter:OperationProhibited",
			"The level of the last administrator cannot change.")
	case u.Password == nil || len(*u.Password) < 8:
		fault(w, http.StatusBadRequest, "Sender", "ter:OperationProhibited", "The password is too weak.")
	default:
		c.SetPassword(*u.Password)
		reply(w, http.StatusOK, `<tds:SetUserResponse/>`)
	}
}

// setAddress moves the camera to another host of its simulated network: ONVIF Core 8.2.6.
func (c *camera) setAddress(w http.ResponseWriter, in request) {
	a, err := netip.ParseAddr(strings.TrimSpace(in.Body.Call.Address))
	where, _, _ := net.SplitHostPort(c.Addr)
	old, badOld := netip.ParseAddr(where)
	if err != nil || badOld != nil || !a.Is4() || in.Body.Call.Token != "eth0" || c.Move == nil ||
		netip.PrefixFrom(old, 24).Masked() != netip.PrefixFrom(a, 24).Masked() {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidArgVal", "There is no such network here.")
		return
	}
	c.Did("address " + a.String())
	w.Header().Set("Connection", "close")
	reply(
		w,
		http.StatusOK,
		`<tds:SetNetworkInterfacesResponse><tds:RebootNeeded>false</tds:RebootNeeded></tds:SetNetworkInterfacesResponse>`,
	)
	go func() {
		time.Sleep(100 * time.Millisecond) // the answer leaves first
		c.Move(int(a.As4()[3]))
	}()
}

// relay switches a relay output: ONVIF Core 8.5.3.
func (c *camera) relay(w http.ResponseWriter, in request) {
	if !slices.Contains(c.Relays, in.Body.Call.Relay) {
		fault(w, http.StatusBadRequest, "Sender", "ter:InvalidArgVal",
			"There is no such relay output.")
		return
	}
	c.Did("relay " + in.Body.Call.Relay + " " + in.Body.Call.State)
	reply(w, http.StatusOK, `<tds:SetRelayOutputStateResponse/>`)
}

// let checks the login and answers itself where it is refused.
func (c *camera) let(w http.ResponseWriter, r *http.Request, in request) bool {
	if c.Auth == "digest" {
		if holds, given := c.digest.Holds(r); holds {
			return true
		} else if given || in.Token != nil {
			c.Did("refused login")
		}
		c.challenge(w)
		return false
	}
	if in.Token != nil {
		if c.tokenHolds(in) {
			return true
		}
		c.Did("refused login")
	}
	fault(w, http.StatusBadRequest, "Sender", "ter:NotAuthorized", "Sender not authorized")
	return false
}

// tokenHolds checks a WS-UsernameToken (OASIS WSS UsernameToken Profile 1.1, 3.1):
// Base64(SHA-1(nonce + created + password)), fresh, and never seen before.
func (c *camera) tokenHolds(in request) bool {
	nonce, err := base64.StdEncoding.DecodeString(strings.TrimSpace(in.Token.Nonce))
	created, err2 := time.Parse(time.RFC3339, strings.TrimSpace(in.Token.Created))
	if err != nil || err2 != nil || len(nonce) < 8 ||
		!strings.HasSuffix(in.Token.Password.Type, "#PasswordDigest") {
		return false
	}
	if off := c.clock().Sub(created); off > clockWindow || off < -clockWindow {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.nonces[string(nonce)] {
		return false
	}
	c.nonces[string(nonce)] = true
	sum := sha1.Sum([]byte(string(nonce) + strings.TrimSpace(in.Token.Created) + c.Password()))
	want := base64.StdEncoding.EncodeToString(sum[:])
	return in.Token.Username == c.Login.User &&
		subtle.ConstantTimeCompare([]byte(want),
			[]byte(strings.TrimSpace(in.Token.Password.Value))) == 1
}

func (c *camera) challenge(w http.ResponseWriter) {
	c.digest.Challenge(w)
	http.Error(w, "log in", http.StatusUnauthorized)
}

func (c *camera) httpDigest(r *http.Request) bool {
	holds, _ := c.digest.Holds(r)
	return holds
}

func (c *camera) clock() time.Time { return time.Now().Add(c.ClockOff).UTC() }

func (c *camera) dateAndTime() string {
	t := c.clock()
	return fmt.Sprintf(`<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime>
<tt:DateTimeType>NTP</tt:DateTimeType><tt:DaylightSavings>false</tt:DaylightSavings>
<tt:UTCDateTime><tt:Time><tt:Hour>%d</tt:Hour><tt:Minute>%d</tt:Minute><tt:Second>%d</tt:Second></tt:Time>
<tt:Date><tt:Year>%d</tt:Year><tt:Month>%d</tt:Month><tt:Day>%d</tt:Day></tt:Date></tt:UTCDateTime>
</tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>`, t.Hour(), t.Minute(), t.Second(), t.Year(), t.Month(), t.Day())
}

// namespaces of the services that a camera lists when it is well.
var wellServices = []string{deviceNS, "http://www.onvif.org/ver20/media/wsdl",
	"http://www.onvif.org/ver10/events/wsdl"}

func (c *camera) offered() []string {
	if _, well := c.Running(); !well {
		return wellServices[:1]
	}
	return wellServices
}

func (c *camera) services() string {
	var b strings.Builder
	for _, ns := range c.offered() {
		fmt.Fprintf(
			&b,
			`<tds:Service><tds:Namespace>%s</tds:Namespace><tds:XAddr>http://%s%s</tds:XAddr>`+
				`<tds:Version><tt:Major>21</tt:Major><tt:Minor>12</tt:Minor></tds:Version></tds:Service>`,
			ns,
			c.Addr,
			servicePath,
		)
	}
	return `<tds:GetServicesResponse>` + b.String() + `</tds:GetServicesResponse>`
}

func (c *camera) capabilities() string {
	media := ""
	if _, well := c.Running(); well {
		media = fmt.Sprintf(`<tt:Media><tt:XAddr>http://%s%s</tt:XAddr></tt:Media>`, c.Addr, servicePath)
	}
	return fmt.Sprintf(
		`<tds:GetCapabilitiesResponse><tds:Capabilities><tt:Device><tt:XAddr>http://%s%s</tt:XAddr>
<tt:System><tt:DiscoveryResolve>false</tt:DiscoveryResolve><tt:FirmwareUpgrade>false</tt:FirmwareUpgrade></tt:System>
<tt:Extension><tt:HttpFirmwareUpgrade>true</tt:HttpFirmwareUpgrade></tt:Extension></tt:Device>%s</tds:Capabilities></tds:GetCapabilitiesResponse>`,
		c.Addr,
		servicePath,
		media,
	)
}

func (c *camera) information() string {
	version, _ := c.Running()
	return fmt.Sprintf(
		`<tds:GetDeviceInformationResponse><tds:Manufacturer>Wexcombe</tds:Manufacturer><tds:Model>%s</tds:Model>`+
			`<tds:FirmwareVersion>%s</tds:FirmwareVersion><tds:SerialNumber>%s</tds:SerialNumber><tds:HardwareId>%s</tds:HardwareId></tds:GetDeviceInformationResponse>`,
		html.EscapeString(c.Model),
		html.EscapeString(version),
		html.EscapeString(c.Serial),
		html.EscapeString(c.Hardware),
	)
}

func (c *camera) scopeList() []string {
	return []string{"onvif://www.onvif.org/Profile/T",
		"onvif://www.onvif.org/name/" + url.PathEscape(c.Name),
		"onvif://www.onvif.org/hardware/" + url.PathEscape(c.Model)}
}

func (c *camera) scopes() string {
	var b strings.Builder
	for _, s := range c.scopeList() {
		fmt.Fprintf(
			&b,
			`<tds:Scopes><tt:ScopeDef>Fixed</tt:ScopeDef><tt:ScopeItem>%s</tt:ScopeItem></tds:Scopes>`,
			html.EscapeString(s),
		)
	}
	return `<tds:GetScopesResponse>` + b.String() + `</tds:GetScopesResponse>`
}

func (c *camera) startUpgrade(host string) string {
	c.mu.Lock()
	c.upload, c.opens = "/upload/"+rand.Text(), time.Now().Add(c.Pace.Delay)
	path := c.upload
	c.mu.Unlock()
	return fmt.Sprintf(`<tds:StartFirmwareUpgradeResponse><tds:UploadUri>http://%s%s</tds:UploadUri>`+
		`<tds:UploadDelay>%s</tds:UploadDelay><tds:ExpectedDownTime>%s</tds:ExpectedDownTime></tds:StartFirmwareUpgradeResponse>`,
		html.EscapeString(host), path, xsDuration(c.Pace.Delay),
		xsDuration(c.Pace.Write+c.Pace.Restart))
}

// xsDuration writes a duration as XML Schema has it, 3.2.6.
func xsDuration(d time.Duration) string { return fmt.Sprintf("PT%.3fS", d.Seconds()) }

// receiveImage takes the image at the address that StartFirmwareUpgrade gave, once.
func (c *camera) receiveImage(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	open, opens := c.upload == r.URL.Path, c.opens
	c.mu.Unlock()
	switch {
	case !open:
		http.Error(w, "no upgrade was started here", http.StatusNotFound)
		return
	case time.Now().Before(opens):
		w.Header().Set("Retry-After", "1")
		http.Error(w, "the upload delay is not over", http.StatusServiceUnavailable)
		return
	case !strings.HasPrefix(r.Header.Get("Content-Type"), "application/octet-stream"):
		http.Error(w, "an image is application/octet-stream", http.StatusUnsupportedMediaType)
		return
	case c.Auth != "" && c.Auth != "token" && !c.httpDigest(r):
		c.challenge(w)
		return
	}
	c.mu.Lock()
	c.upload = ""
	c.mu.Unlock()
	ended := c.Receives()
	version, err := standin.Receive(r.Body, "Wexcombe", c.Model, "", nil)
	ended()
	switch {
	case err == nil:
	case errors.Is(err, standin.ErrTruncated):
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	default:
		http.Error(w, err.Error(), http.StatusUnsupportedMediaType)
		return
	}
	c.StandIn.Take("", version)
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusOK)
	if c.Restarts != "asked" {
		c.Restart(c.Pace.Write)
	}
}

func reply(w http.ResponseWriter, status int, body string) {
	var b bytes.Buffer
	b.WriteString(
		`<?xml version="1.0" encoding="UTF-8"?><env:Envelope xmlns:env="http://www.w3.org/2003/05/soap-envelope"` +
			` xmlns:tds="http://www.onvif.org/ver10/device/wsdl" xmlns:tt="http://www.onvif.org/ver10/schema"` +
			` xmlns:ter="http://www.onvif.org/ver10/error"><env:Body>`,
	)
	b.WriteString(body)
	b.WriteString(`</env:Body></env:Envelope>`)
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}

// fault answers with a SOAP 1.2 fault, part 1, 5.4.
func fault(w http.ResponseWriter, status int, code, subcode, reason string) {
	reply(w, status, fmt.Sprintf(
		`<env:Fault><env:Code><env:Value>env:%s</env:Value><env:Subcode><env:Value>%s</env:Value></env:Subcode></env:Code>`+
			`<env:Reason><env:Text xml:lang="en">%s</env:Text></env:Reason></env:Fault>`,
		code,
		subcode,
		html.EscapeString(reason),
	))
}
