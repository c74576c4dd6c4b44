package hub_test

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

// A search for all, for root devices, or for it alone is answered with what UPnP Device
// Architecture 1.1, 1.3.3 requires, and leads to a description of the device (2.3). Searches for
// others, and without MAN, are not answered.
func TestSearchAndDescription(t *testing.T) {
	address := standintest.Start(t, sim.Device{Kind: "hub", Model: "PH-1", Hardware: "C",
		Version: "1.0"})
	host, _, _ := net.SplitHostPort(address)
	search := func(target, man string) []byte {
		return []byte("M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\n" + man + "MX: 1\r\nST: " +
			target + "\r\n\r\n")
	}
	const man = "MAN: \"ssdp:discover\"\r\n"
	raw := standintest.Ask(t, host+":1900", search("upnp:rootdevice", ""),
		search("urn:schemas-upnp-org:device:Light:1", man), search("upnp:rootdevice", man))
	answer, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(raw)), nil)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	for _, field := range []string{"Cache-Control", "Ext", "Location", "Server", "St", "Usn"} {
		assert.Contains(t, answer.Header, field)
	}
	assert.Equal(t, "upnp:rootdevice", answer.Header.Get("ST"))

	got, body := standintest.Call(t, "GET", answer.Header.Get("Location"), "")
	assert.Contains(t, got.Header.Get("Content-Type"), "text/xml")
	var root struct {
		XMLName xml.Name `xml:"urn:schemas-upnp-org:device-1-0 root"`
		Major   int      `xml:"specVersion>major"`
		Device  struct {
			Type         string `xml:"deviceType"`
			FriendlyName string `xml:"friendlyName"`
			Manufacturer string `xml:"manufacturer"`
			ModelName    string `xml:"modelName"`
			UDN          string `xml:"UDN"`
		} `xml:"device"`
	}
	require.NoError(t, xml.Unmarshal([]byte(body), &root))
	assert.Equal(t, 1, root.Major)
	assert.Equal(t, "PH-1", root.Device.ModelName)
	assert.NotEmpty(t, root.Device.Type)
	assert.Equal(t, root.Device.UDN+"::upnp:rootdevice", answer.Header.Get("USN"))
	own := standintest.Ask(t, host+":1900", search(root.Device.UDN, man))
	assert.Contains(t, string(own), "USN: "+root.Device.UDN+"\r\n")
}

// Its pages are for people: without the cookie of a session they lead to the form, a form without
// its hidden token is refused, and a change needs the token, too.
func TestPages(t *testing.T) {
	at := "http://" + standintest.Start(t, sim.Device{Kind: "hub", Model: "PH-1", Version: "1.0"})
	got, body := standintest.Call(t, "GET", at+"/status", "") // the redirect was followed
	assert.Equal(t, "/login", got.Request.URL.Path)
	_, token, _ := strings.Cut(body, `name="token" value="`)
	token, _, found := strings.Cut(token, `"`)
	require.True(t, found, body)
	form := func(token string) string {
		return "user=keeper&pass=" + standintest.Password + "&token=" + token
	}
	_, body = standintest.Call(t, "POST", at+"/login", form("x"), "Content-Type",
		"application/x-www-form-urlencoded")
	assert.Contains(t, body, "wrong")
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	answer, err := client.Post(at+"/login", "application/x-www-form-urlencoded",
		strings.NewReader(form(token)))
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	require.Len(t, answer.Cookies(), 1)
	cookie := answer.Cookies()[0].String()
	_, body = standintest.Call(t, "GET", at+"/status", "", "Cookie", cookie)
	assert.Contains(t, body, "1.0")
	got, _ = standintest.Call(t, "POST", at+"/restart", "", "Cookie", cookie)
	assert.Equal(t, http.StatusForbidden, got.StatusCode, "the token is missing")
}
