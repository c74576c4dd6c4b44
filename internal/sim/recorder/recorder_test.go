package recorder_test

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

func start(t *testing.T) string {
	return "https://" + standintest.Start(t, sim.Device{Kind: "recorder", Model: "BR-5",
		Hardware: "r2",
		Version:  "1.0", Idle: "0.9"})
}

func basic(password string) []string {
	return []string{"Authorization", "Basic " +
		base64.StdEncoding.EncodeToString([]byte(standintest.User+":"+password))}
}

// The paths that need no login are those of DSP0266, 13.3.2: all else is 401, with a challenge, and
// an error as 8.6 has it.
func TestOpenPaths(t *testing.T) {
	at := start(t)
	for _, path := range []string{"/redfish", "/redfish/v1/", "/redfish/v1/odata",
		"/redfish/v1/$metadata"} {
		got, body := standintest.Call(t, "GET", at+path, "")
		assert.Equal(t, http.StatusOK, got.StatusCode, "%s: %s", path, body)
		assert.Equal(t, "4.0", got.Header.Get("OData-Version"), path)
	}
	for _, fields := range [][]string{nil, basic("mitre"), {"X-Auth-Token", "x"}} {
		got, body := standintest.Call(t, "GET", at+"/redfish/v1/Systems/1", "", fields...)
		assert.Equal(t, http.StatusUnauthorized, got.StatusCode)
		assert.Contains(t, got.Header.Get("WWW-Authenticate"), "Basic ")
		wrong, _ := standintest.JSON(t, body)["error"].(map[string]any)
		assert.NotEmpty(t, wrong["code"])
		assert.NotEmpty(t, wrong["@Message.ExtendedInfo"])
	}
}

// Every resource that its collections lead to has a path, type, Id and Name (DSP0266, 9.6), and an
// ETag that a change needs (6.5).
func TestResources(t *testing.T) {
	at := start(t)
	seen := map[string]bool{}
	for next := []string{"/redfish/v1/"}; len(next) > 0; next = next[1:] {
		if seen[next[0]] {
			continue
		}
		seen[next[0]] = true
		got, body := standintest.Call(t, "GET", at+next[0], "", basic(standintest.Password)...)
		require.Equal(t, http.StatusOK, got.StatusCode, "%s: %s", next[0], body)
		r := standintest.JSON(t, body)
		assert.Equal(t, next[0], r["@odata.id"])
		assert.Regexp(t, `^#\w+(\.v\d+_\d+_\d+)?\.\w+$`, r["@odata.type"], next[0])
		assert.NotEmpty(t, r["Name"], next[0])
		assert.NotEmpty(t, got.Header.Get("ETag"), next[0])
		if members, is := r["Members"].([]any); is {
			assert.EqualValues(t, len(members), r["Members@odata.count"], next[0])
		} else {
			assert.NotEmpty(t, r["Id"], next[0])
		}
		var follow func(v any)
		follow = func(v any) {
			switch v := v.(type) {
			case map[string]any:
				if to, is := v["@odata.id"].(string); is {
					next = append(next, to)
				}
				for _, inner := range v {
					follow(inner)
				}
			case []any:
				for _, inner := range v {
					follow(inner)
				}
			}
		}
		follow(r)
	}
	assert.Greater(t, len(seen), 15)
	path := at + "/redfish/v1/Chassis/1"
	const on = `{"LocationIndicatorActive": true}`
	got, _ := standintest.Call(t, "PATCH", path, on, append(basic(standintest.Password), "If-Match",
		`W/"old"`)...)
	assert.Equal(t, http.StatusPreconditionFailed, got.StatusCode)
	got, _ = standintest.Call(t, "GET", path, "", basic(standintest.Password)...)
	got, _ = standintest.Call(t, "PATCH", path, on, append(basic(standintest.Password), "If-Match",
		got.Header.Get("ETag"))...)
	assert.Equal(t, http.StatusNoContent, got.StatusCode)
	got, _ = standintest.Call(t, "DELETE", path, "", basic(standintest.Password)...)
	assert.Equal(t, http.StatusMethodNotAllowed, got.StatusCode) // RFC 9110, 15.5.6
	assert.Contains(t, got.Header.Get("Allow"), "GET")
}

// A session is made, used and ended as DSP0266, 13.3.4 has it; few may be open at once, and a
// restart ends all.
func TestSessions(t *testing.T) {
	at := start(t)
	open := func() *http.Response {
		got, _ := standintest.Call(t, "POST", at+"/redfish/v1/SessionService/Sessions",
			`{"UserName": "keeper", "Password": "`+standintest.Password+`"}`)
		return got
	}
	first := open()
	require.Equal(t, http.StatusCreated, first.StatusCode)
	token := []string{"X-Auth-Token", first.Header.Get("X-Auth-Token")}
	read := func() int {
		got, _ := standintest.Call(t, "GET", at+"/redfish/v1/Systems/1", "", token...)
		return got.StatusCode
	}
	assert.Equal(t, http.StatusOK, read())
	for range 3 {
		assert.Equal(t, http.StatusCreated, open().StatusCode)
	}
	assert.Equal(t, http.StatusServiceUnavailable, open().StatusCode)
	got, _ := standintest.Call(t, "DELETE", at+first.Header.Get("Location"), "", token...)
	assert.Equal(t, http.StatusNoContent, got.StatusCode)
	assert.Equal(t, http.StatusUnauthorized, read())
	again := open()
	assert.Equal(t, http.StatusCreated, again.StatusCode, "there is room again")

	// They are listed for who is logged in, and what is not there is an error object.
	token = []string{"X-Auth-Token", again.Header.Get("X-Auth-Token")}
	_, body := standintest.Call(t, "GET", at+"/redfish/v1/SessionService/Sessions", "", token...)
	assert.EqualValues(t, 4, standintest.JSON(t, body)["Members@odata.count"])
	_, body = standintest.Call(t, "GET", at+again.Header.Get("Location"), "", token...)
	assert.Equal(t, "keeper", standintest.JSON(t, body)["UserName"])
	got, body = standintest.Call(t, "GET", at+"/redfish/v1/Systems/7", "", token...)
	assert.Equal(t, http.StatusNotFound, got.StatusCode)
	assert.NotEmpty(t, standintest.JSON(t, body)["error"])
}

// An update wants its parameters before its file (DSP0266, 10.7.2), rejects anything but an image, and
// is followed by a task.
func TestUpdate(t *testing.T) {
	at := start(t)
	send := func(body string) (*http.Response, string) {
		return standintest.Call(t, "POST", at+"/redfish/v1/UpdateService/upload",
			strings.ReplaceAll(body, "\n", "\r\n"), append(basic(standintest.Password), "Content-Type",
				"multipart/form-data; boundary=b")...)
	}
	const parameters = "--b\nContent-Disposition: form-data; name=\"UpdateParameters\"\n\n" +
		"{\"Targets\": [], \"@Redfish.OperationApplyTime\": \"OnReset\"}\n"
	const file = "--b\nContent-Disposition: form-data; name=\"UpdateFile\"; filename=\"x\"\n\n"
	got, _ := send(file + "x\n--b--\n")
	assert.Equal(t, http.StatusBadRequest, got.StatusCode)
	got, body := send(parameters + file + "x\n--b--\n")
	assert.Equal(t, http.StatusBadRequest, got.StatusCode)
	assert.Contains(t, body, "Brackwell.1.0.ImageRefused")
	got, _ = standintest.Call(t, "GET", at+"/redfish/v1/TaskService/Tasks/1", "",
		basic(standintest.Password)...)
	assert.Equal(t, http.StatusNotFound, got.StatusCode)
}

// It is found by SSDP, and says where its root is: DSP0266, 10.2.
func TestSearch(t *testing.T) {
	at := start(t)
	host, _, _ := net.SplitHostPort(strings.TrimPrefix(at, "https://"))
	const target = "urn:dmtf-org:service:redfish-rest:1"
	raw := standintest.Ask(t, host+":1900", []byte("M-SEARCH * HTTP/1.1\r\nHost: "+
		"239.255.255.250:1900\r\n"+
		"Man: \"ssdp:discover\"\r\nMX: 1\r\nST: "+target+"\r\n\r\n"))
	answer, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(raw)), nil)
	require.NoError(t, err)
	defer func() { _ = answer.Body.Close() }()
	assert.Equal(t, target, answer.Header.Get("ST"))
	_, body := standintest.Call(t, "GET", answer.Header.Get("AL"), "")
	assert.Equal(t, "uuid:"+standintest.JSON(t, body)["UUID"].(string)+"::"+target,
		answer.Header.Get("USN"))
}
