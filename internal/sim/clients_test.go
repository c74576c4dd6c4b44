package sim_test

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

// The stand-ins answer clients that others have written as a device would: what only talks to
// Catena proves nothing.

const password = standintest.Password

// start starts one stand-in and returns its address without and with its port.
func start(t *testing.T, d sim.Device) (host, port string) {
	host, port, _ = strings.Cut(standintest.Start(t, d), ":")
	return host, port
}

// client runs a program and returns what it says.
func client(t *testing.T, in, program string, args ...string) string {
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("needs %s", program)
	}
	c := exec.Command(program, args...)
	c.Stdin = strings.NewReader(in)
	for _, v := range os.Environ() { // what this machine trusts is not asked for
		if !strings.Contains(v, "_CA_BUNDLE=") && !strings.HasPrefix(v, "SSL_CERT_") {
			c.Env = append(c.Env, v)
		}
	}
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func image(t *testing.T, maker, model string) string {
	name := filepath.Join(t.TempDir(), "image.bin")
	require.NoError(t, os.WriteFile(name, standintest.Image(t, maker, model), 0o600))
	return name
}

// curl: a camera's and a gate's Digest, an image by PUT, a recorder's by a form with two parts.
func TestCurl(t *testing.T) {
	t.Run("gate", func(t *testing.T) {
		host, port := start(t, sim.Device{Kind: "gate", Model: "TG-200", Version: "1.0", Auth: "digest"})
		at := "http://" + host + ":" + port + "/tg/v1"
		var made struct{ Token string }
		out := client(t, "", "curl", "-sS", "--fail-with-body", "--digest", "-u", "keeper:"+password,
			"-X", "POST", at+"/sessions")
		require.NoError(t, json.Unmarshal([]byte(out), &made), out)
		digest := []string{"-sS", "--fail-with-body", "-H", "Authorization: Bearer " + made.Token}
		assert.Contains(t, client(t, "", "curl", append(digest, at+"/state")...), `"firmware":"1.0"`)
		name := image(t, "Tollgarth", "TG-200")
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		sum := sha256.Sum256(raw)
		client(t, "", "curl", append(digest, "-H", "Content-Digest: sha-256=:"+
			base64.StdEncoding.EncodeToString(sum[:])+":",
			"-T", name, at+"/firmware")...)
		require.Eventually(t, func() bool {
			return strings.Contains(client(t, "", "curl", append(digest, at+"/firmware")...), `"ready"`)
		}, time.Minute, 50*time.Millisecond)
		client(t, "", "curl", append(digest, "-X", "POST", at+"/restart")...)
		require.Eventually(t, func() bool {
			return exec.Command("curl", "-sf", at+"/about").Run() == nil // it forgets its sessions
		}, time.Minute, 50*time.Millisecond)
	})
	t.Run("recorder", func(t *testing.T) {
		host, port := start(t, sim.Device{Kind: "recorder", Model: "BR-5", Version: "1.0"})
		at := "https://" + host + ":" + port + "/redfish/v1"
		args := []string{"-sS", "-k", "--fail-with-body", "-u", "keeper:" + password}
		name := image(t, "Brackwell", "BR-5")
		head := client(t, "", "curl", append(
			args,
			"-D",
			"-",
			"-F",
			`UpdateParameters={"Targets":["/redfish/v1/UpdateService/FirmwareInventory/BMC"],"@Redfish.OperationApplyTime":"OnReset"};type=application/json`,
			"-F",
			"UpdateFile=@"+name+";type=application/octet-stream",
			at+"/UpdateService/upload",
		)...)
		assert.Contains(t, head, "202 Accepted")
		assert.Contains(t, head, "Location: /redfish/v1/TaskService/Tasks/1")
	})
}

// OpenSSH's own clients: a command, a file by sftp and by nothing else, a wrong password.
func TestOpenSSH(t *testing.T) {
	host, port := start(t, sim.Device{Kind: "drive", Model: "HD-7", Version: "1.0"})
	askpass := filepath.Join(t.TempDir(), "askpass")
	require.NoError(t, os.WriteFile(askpass, []byte("#!/bin/sh\necho \"$SAID\"\n"), 0o700))
	t.Setenv("SSH_ASKPASS", askpass)
	t.Setenv("SSH_ASKPASS_REQUIRE", "force")
	t.Setenv("SAID", password)
	options := []string{"-F", "/dev/null", "-o", "StrictHostKeyChecking=no", "-o",
		"UserKnownHostsFile=/dev/null",
		"-o", "LogLevel=ERROR", "-o", "User=keeper", "-o", "PubkeyAuthentication=no"}
	shell := append([]string{"-p", port}, append(options, host)...)
	assert.Contains(t, client(t, "", "ssh", append(shell, "show")...), "version  1.0")
	client(t, sim.ServiceCode+"\n", "ssh", append(shell, "service on")...)
	name := image(t, "Harrow & Dene", "HD-7")
	raw, err := os.ReadFile(name)
	require.NoError(t, err)
	client(t, "put "+name+" /update/image.bin\n", "sftp", append(append([]string{"-q", "-P", port},
		options...), host)...)
	assert.Contains(t, client(t, "", "ssh", append(shell, fmt.Sprintf("firmware check %x",
		sha256.Sum256(raw)))...), "ok")
	client(t, "", "scp", append(append([]string{"-q", "-P", port}, options...), name, host+
		":/update/image.bin")...)
	assert.Contains(t, client(t, "", "ssh", append(shell, fmt.Sprintf("firmware check %x",
		sha256.Sum256(raw)))...), "ok")
	t.Setenv("SAID", "mitre")
	out, err := exec.Command("ssh", append(shell, "show")...).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "Permission denied")
}

// Two clients for Redfish that others have written read a recorder and restart it.
func TestRedfishClients(t *testing.T) {
	host, port := start(t, sim.Device{Kind: "recorder", Model: "BR-5", Version: "1.0", Hardware: "r2",
		Idle: "0.9"})
	t.Run("sushy", func(t *testing.T) {
		if exec.Command("/usr/bin/python3", "-c", "import sushy").Run() != nil {
			t.Skip("needs python3-sushy")
		}
		out := client(t, "", "/usr/bin/python3", "-c", `import sushy, sys
from sushy.resources.registry.message_registry import MessageRegistry
r = sushy.Sushy("https://" + sys.argv[1], verify=False, auth=sushy.auth.SessionOrBasicAuth(username="keeper", password=sys.argv[2]))
for m in r.get_manager_collection().get_members(): print("manager", m.identity, m.firmware_version)
for s in r.get_system_collection().get_members(): print("system", s.manufacturer, s.serial_number)
for c in r.get_chassis_collection().get_members(): print("chassis", c.identity, c.chassis_type)
for f in r.get_update_service().firmware_inventory.get_members(): print("firmware", f.identity, f.version, f.updateable)
print("words", MessageRegistry(r._conn, "/redfish/v1/Registries/Brackwell.1.0.json").messages["ImageRefused"].message)
m.reset_manager(sushy.RESET_TYPE_FORCE_RESTART)`, host+":"+port, password)
		for _, want := range []string{"manager 1 1.0", "system Brackwell S-1", "chassis 1 ",
			"firmware BMC 1.0",
			"firmware BMC-other 0.9 True", "words The image was refused: %1."} {
			assert.Contains(t, out, want)
		}
	})
	t.Run("redfishtool", func(t *testing.T) {
		for _, program := range []string{"curl", "redfishtool"} {
			if _, err := exec.LookPath(program); err != nil {
				t.Skipf("needs %s", program)
			}
		}
		// It was just told to restart: it may be there still, then it is away, then it is back.
		for up, since := 0, time.Now(); up < 5 && time.Since(since) < time.Minute; up++ {
			if exec.Command("curl", "-skf", "https://"+host+":"+port+"/redfish/v1/").Run() != nil {
				up = -1
			}
			time.Sleep(200 * time.Millisecond)
		}
		out := client(t, "", "redfishtool", "-r", host+":"+port, "-u", "keeper", "-p", password, "-S",
			"Always",
			"Managers", "-1")
		var got struct {
			FirmwareVersion, Name string
			Type                  string `json:"@odata.type"`
		}
		require.NoError(t, json.Unmarshal([]byte(out[strings.Index(out, "{"):]), &got), out)
		assert.Equal(t, "1.0", got.FirmwareVersion)
		assert.Contains(t, got.Type, "#Manager.")
		assert.NotEmpty(t, got.Name)
	})
}

// nodeModule has node find a package in the folder that CATENA_NODE_MODULES names.
func nodeModule(t *testing.T, name string) {
	modules := os.Getenv("CATENA_NODE_MODULES")
	if _, err := os.Stat(filepath.Join(modules, name)); modules == "" || err != nil {
		t.Skipf("left out: it needs CATENA_NODE_MODULES, a folder with the package %s", name)
	}
	t.Setenv("NODE_PATH", modules)
}

// A client for BACnet that others have written finds a controller, reads it, and writes and reads
// a file.
func TestBACnetClient(t *testing.T) {
	nodeModule(t, "@bacnet-js/client")
	host, port := start(t, sim.Device{Kind: "ventilation", Model: "VC-3", Version: "5.1"})
	out := client(t, "", "node", "-e", `const { default: Client } = require("@bacnet-js/client")
const [host, port] = process.argv.slice(1), at = { address: host + ":" + port }
const c = new Client({ interface: "127.0.0.1", port: 0, broadcastAddress: "127.255.255.255", apduTimeout: 20000 })
const own = { type: 8, instance: 4194303 }, file = { type: 10, instance: 1 }
const say = (what, v) => console.log(what, JSON.stringify(v))
c.on("iAm", async m => {
  say("device", m.payload.deviceId)
  for (const id of [121, 70, 44, 372]) say(id, (await c.readProperty(at, own, id)).values[0].value)
  say("objects", (await c.readProperty(at, own, 76)).values.length)
  const raw = Buffer.alloc(1200, "k")
  for (let i = 0; i < raw.length; i += 400) say("wrote", await c.writeFile(at, file, i, [[...raw.subarray(i, i + 400)]]))
  let read = 0
  for (let i = 0; i < raw.length; i += 400) read += (await c.readFile(at, file, i, 400)).buffer.length
  say("read", read)
  say("size", (await c.readProperty(at, file, 42)).values[0].value)
  await c.reinitializeDevice(at, 0, { password: "mitre" }).catch(e => say("refused", e.message))
  c.close()
})
c.on("listening", () => c.whoIs(at))`, host, port)
	for _, want := range []string{"device 3001", `121 "Harrow & Dene"`, `70 "VC-3"`, `44 "5.1"`, `372 "S-1"`,
		"objects 7", "read 1200", "size 1200", `refused "BacnetError - Class:4 - Code:26"`} {
		assert.Contains(t, out, want)
	}
}

// A client for ONVIF that others have written reads a camera, old and new. CATENA_NODE_MODULES says
// where it is installed.
func TestONVIFClient(t *testing.T) {
	nodeModule(t, "onvif")
	for name, d := range map[string]sim.Device{
		"digest": {Kind: "camera", Model: "WX-40", Hardware: "B", Version: "3.1.0", Auth: "digest"},
		"wsse":   {Kind: "camera", Model: "WX-40", Hardware: "B", Version: "3.1.0"},
	} {
		t.Run(name, func(t *testing.T) {
			host, port := start(t, d)
			out := client(t, "", "node", "-e", `const {Cam} = require("onvif")
const [host, port, password] = process.argv.slice(1)
const cam = new Cam({hostname: host, port: +port, username: "keeper", password, timeout: 20000}, () =>
  cam.getDeviceInformation((e, i) => { if (e) throw e; console.log(JSON.stringify(i))
  cam.getSystemDateAndTime((e, d) => { if (e) throw e; console.log(d.toISOString()) }) }))`, host, port, password)
			assert.Contains(t, out,
				`"manufacturer":"Wexcombe","model":"WX-40","firmwareVersion":"3.1.0","serialNumber":"S-1"`)
			assert.Contains(t, out, time.Now().UTC().Format("2006-01-02T"))
		})
	}
}
