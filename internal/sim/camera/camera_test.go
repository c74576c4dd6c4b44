package camera_test

import (
	"crypto/sha1"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

func start(t *testing.T, d sim.Device) string {
	d.Kind, d.Model, d.Hardware, d.Version = "camera", "WX-40", "B", "3.1.0"
	return standintest.Start(t, d)
}

const (
	envelope = `<s:Envelope xmlns:s="http://www.w3.org/2003/05/soap-envelope"><s:Header>%s</s:Header><s:Body>%s</s:Body></s:Envelope>`
	deviceNS = "http://www.onvif.org/ver10/device/wsdl"
)

// call makes a call of the device service, and returns the fault's subcode, if it is one.
func call(t *testing.T, address, header, operation string) (status int, subcode, body string) {
	got, body := standintest.Call(t, "POST", "http://"+address+"/onvif/device_service",
		fmt.Sprintf(envelope, header, operation), "Content-Type", "application/soap+xml")
	var in struct {
		Subcode string `xml:"Body>Fault>Code>Subcode>Value"`
	}
	require.NoError(t, xml.Unmarshal([]byte(body), &in), body)
	return got.StatusCode, in.Subcode, body
}

func operation(name string) string { return `<` + name + ` xmlns="` + deviceNS + `"/>` }

// token is a header with a UsernameToken: OASIS WSS UsernameToken Profile 1.1, 3.1.
func token(nonce, password string, created time.Time) string {
	at := created.UTC().Format(time.RFC3339)
	sum := sha1.Sum([]byte(nonce + at + password))
	const wsse = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-"
	return fmt.Sprintf(`<w:Security xmlns:w="%[1]ssecext-1.0.xsd" xmlns:u="%[1]sutility-1.0.xsd"><w:UsernameToken>`+
		`<w:Username>keeper</w:Username><w:Password Type="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest">%s</w:Password>`+
		`<w:Nonce>%s</w:Nonce><u:Created>%s</u:Created></w:UsernameToken></w:Security>`, wsse,
		base64.StdEncoding.EncodeToString(sum[:]), base64.StdEncoding.EncodeToString([]byte(nonce)), at)
}

// The operations of the class PRE_AUTH need no login, the others do (ONVIF Core, 5.9.4.3), and a
// token is good once, for a while, with the right password (UsernameToken Profile, 4).
func TestAccess(t *testing.T) {
	address := start(t, sim.Device{})
	for _, open := range []string{"GetSystemDateAndTime", "GetServices", "GetCapabilities",
		"GetServiceCapabilities"} {
		status, _, body := call(t, address, "", operation(open))
		assert.Equal(t, http.StatusOK, status, body)
	}
	now := time.Now()
	const password = standintest.Password
	for what, header := range map[string]string{
		"none": "", "another password": token("1-nonce-1", "mitre", now),
		"an old one":        token("2-nonce-2", password, now.Add(-time.Hour)),
		"one of the future": token("3-nonce-3", password, now.Add(time.Hour)),
		"a short nonce":     token("4", password, now),
	} {
		_, subcode, _ := call(t, address, header, operation("GetDeviceInformation"))
		assert.Equal(t, "ter:NotAuthorized", subcode, what)
	}
	once := token("5-nonce-5", password, now)
	status, _, body := call(t, address, once, operation("GetDeviceInformation"))
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, body, "<tds:Model>WX-40</tds:Model>")
	_, subcode, _ := call(t, address, once, operation("GetDeviceInformation"))
	assert.Equal(t, "ter:NotAuthorized", subcode, "it was used")
}

// Anything but a call of the service is a fault with the subcode of ONVIF Core, 5.8.2.
func TestFaults(t *testing.T) {
	address := start(t, sim.Device{})
	own := func() string {
		return token(fmt.Sprintf("nonce-%d", time.Now().UnixNano()), standintest.Password, time.Now())
	}
	for what, c := range map[string]struct{ header, operation, subcode string }{
		"another service": {own(), `<GetProfiles xmlns="http://www.onvif.org/ver10/media/wsdl"/>`,
			"ter:Namespace"},
		"an operation that it has not": {own(), operation("GetDot1XConfigurations"),
			"ter:ActionNotSupported"},
		"one of older cameras": {own(), operation("GetSystemBackup"), "ter:ActionNotSupported"},
		"no operation":         {own(), "", "ter:WellFormed"},
		"a relay of no one": {own(), `<SetRelayOutputState xmlns="` + deviceNS +
			`"><RelayOutputToken>r9</RelayOutputToken><LogicalState>active</LogicalState></SetRelayOutputState>`,
			"ter:InvalidArgVal"},
	} {
		status, subcode, body := call(t, address, c.header, c.operation)
		assert.Equal(t, c.subcode, subcode, "%s: %s", what, body)
		assert.Equal(t, http.StatusBadRequest, status, what) // SOAP 1.2, part 2, 7.5.2.2
	}
	got, _ := standintest.Call(t, "POST", "http://"+address+"/onvif/device_service",
		fmt.Sprintf(envelope, "", operation("GetServices")), "Content-Type", "text/xml")
	assert.Equal(t, http.StatusUnsupportedMediaType, got.StatusCode, "that is SOAP 1.1")
}

// An image is taken at the place and after the delay that StartFirmwareUpgrade tells (ONVIF Core,
// 8.3.9), once, and only if it is whole and of this model.
func TestUpgrade(t *testing.T) {
	address := start(t, sim.Device{})
	n := 0
	place := func() string {
		n++
		_, _, body := call(t, address, token(fmt.Sprintf("nonce-%03d", n), standintest.Password,
			time.Now()), operation("StartFirmwareUpgrade"))
		_, uri, _ := strings.Cut(body, "<tds:UploadUri>")
		uri, _, found := strings.Cut(uri, "<")
		require.True(t, found, body)
		return uri
	}
	send := func(uri, image string) int {
		got, _ := standintest.Call(t, "POST", uri, image, "Content-Type", "application/octet-stream")
		return got.StatusCode
	}
	good := string(standintest.Image(t, "Wexcombe", "WX-40"))
	assert.Equal(t, http.StatusUnsupportedMediaType, send(place(), "no image\n"))
	assert.Equal(t, http.StatusUnsupportedMediaType,
		send(place(), string(standintest.Image(t, "Wexcombe", "WX-50"))))
	assert.Equal(t, http.StatusBadRequest, send(place(), good[:len(good)-1]))
	at := place()
	assert.Equal(t, http.StatusOK, send(at, good))
}

// A Probe for its type or scopes is answered with where it is, and says what it answers to; one for
// others, and anything but a message, is not (WS-Discovery 2005/04, 5.3; ONVIF Core, 7.3).
func TestDiscovery(t *testing.T) {
	host, _, _ := net.SplitHostPort(start(t, sim.Device{}))
	const wsd = "http://schemas.xmlsoap.org/ws/2005/04/discovery"
	message := func(id, action, body string) []byte {
		return []byte(fmt.Sprintf(`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope" `+
			`xmlns:a="http://schemas.xmlsoap.org/ws/2004/08/addressing" xmlns:d="%s" `+
			`xmlns:tds="http://www.onvif.org/ver10/device/wsdl" `+
			`xmlns:n="http://www.onvif.org/ver10/network/wsdl"><e:Header><a:MessageID>%s</a:MessageID>`+
			`<a:Action>%s/%s</a:Action></e:Header><e:Body>%s</e:Body></e:Envelope>`, wsd, id, wsd, action,
			body))
	}
	probe := func(id, types, scopes string) []byte {
		return message(id, "Probe", "<d:Probe><d:Types>"+types+"</d:Types><d:Scopes>"+scopes+
			"</d:Scopes></d:Probe>")
	}
	var in struct {
		RelatesTo string `xml:"Header>RelatesTo"`
		Endpoint  string `xml:"Body>ProbeMatches>ProbeMatch>EndpointReference>Address"`
		XAddrs    string `xml:"Body>ProbeMatches>ProbeMatch>XAddrs"`
	}
	const video = "n:NetworkVideoTransmitter"
	raw := standintest.Ask(t, host+":3702", []byte("x"), probe("urn:1", "n:Printer", ""),
		probe("urn:2", "d:NetworkVideoTransmitter", ""),
		probe("urn:3", video, "onvif://www.onvif.org/name/second"),
		message("urn:4", "Hello", ""), probe("urn:4b", "n:Device", ""),
		probe("urn:5", "tds:Device "+video, ""))
	require.NoError(t, xml.Unmarshal(raw, &in), "%s", raw)
	assert.Equal(t, "urn:5", in.RelatesTo)
	assert.Equal(t, "http://"+host+":8080/onvif/device_service", in.XAddrs)

	resolve := func(id, endpoint string) []byte {
		return message(id, "Resolve", "<d:Resolve><a:EndpointReference><a:Address>"+endpoint+
			"</a:Address></a:EndpointReference></d:Resolve>")
	}
	raw = standintest.Ask(t, host+":3702", resolve("urn:6", "urn:uuid:0"), resolve("urn:7",
		in.Endpoint))
	assert.Contains(t, string(raw), "ResolveMatches")
	assert.Contains(t, string(raw), ">urn:7<")
}
