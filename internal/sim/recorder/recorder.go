// Package recorder is the stand-in of Brackwell recorder appliances, which speak Redfish.
package recorder

import (
	"bytes"
	"crypto/rand"
	"crypto/sha1"
	"crypto/subtle"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"catena/internal/sim/standin"
)

// recorder is a Brackwell recorder appliance: a Redfish service (DMTF DSP0266) over TLS,
// with its own certificate, found by SSDP (DSP0266, 10.2). Its root is open to all,
// the rest wants a session or Basic.
type recorder struct {
	*standin.StandIn
	uuid string

	mu       sync.Mutex
	tokens   map[string]opened // the open sessions, by their token
	wrong    int               // wrong logins since the last right one
	locked   time.Time         // the start of the recorder in which the account was locked
	sessions int
	lit      bool
	idle     string            // the version in the other slot
	task     int               // the number of the last one
	pending  map[string]string // attributes that it takes with its next restart

}

// opened is a session. A restart ends it.
type opened struct {
	id   string
	boot time.Time // the start of the recorder in which it was opened
}

// New makes the stand-in a recorder.
func New(s *standin.StandIn, _ []standin.Device) error {
	r := &recorder{StandIn: s, tokens: map[string]opened{}, idle: s.Idle}
	sum := sha1.Sum([]byte(s.Model + s.Serial))
	r.uuid = fmt.Sprintf("%x-%x-%x-%x-%x", sum[0:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
	certificate, err := standin.SelfSigned(s.Name)
	if err != nil {
		return err
	}
	s.Secure = &tls.Config{Certificates: []tls.Certificate{certificate}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /redfish/v1/{$}", r.root)
	mux.HandleFunc("GET /redfish", document("application/json", `{"v1": "/redfish/v1/"}`)) // 6.2
	mux.HandleFunc("GET /redfish/v1/odata", document("application/json", odata))           // 8.4.2
	mux.HandleFunc("GET /redfish/v1/$metadata", document("application/xml", metadata))     // 8.4.1
	mux.HandleFunc("POST /redfish/v1/SessionService/Sessions", r.session)
	mux.HandleFunc("DELETE /redfish/v1/SessionService/Sessions/{id}", r.inside(r.endSession))
	for path, body := range r.resources() {
		mux.HandleFunc("GET /redfish/v1/"+path,
			r.inside(func(w http.ResponseWriter, _ *http.Request) { r.resource(w, path, body()) }))
	}
	mux.HandleFunc("GET /redfish/v1/SessionService/Sessions/{id}", r.inside(r.tellSession))
	mux.HandleFunc("GET /redfish/v1/", r.inside(func(w http.ResponseWriter, _ *http.Request) {
		redfishError(w, http.StatusNotFound, "ResourceMissingAtURI", "there is no such resource")
	}))
	mux.HandleFunc("PATCH /redfish/v1/Chassis/1", r.inside(r.light))
	mux.HandleFunc("POST /redfish/v1/UpdateService/upload", r.inside(r.upload))
	mux.HandleFunc("GET /redfish/v1/TaskService/Tasks/{n}", r.inside(r.tellTask))
	mux.HandleFunc("POST /redfish/v1/Managers/1/Actions/Manager.Reset", r.inside(r.reboot))
	mux.HandleFunc("POST /redfish/v1/Systems/1/Actions/ComputerSystem.Reset", r.inside(r.reboot))
	mux.HandleFunc("PATCH /redfish/v1/Managers/1/EthernetInterfaces/eth0", r.inside(r.setAddress))
	mux.HandleFunc("PATCH /redfish/v1/Systems/1/Bios/Settings", r.inside(r.setAttributes))
	mux.HandleFunc("PATCH /redfish/v1/Managers/1", r.inside(r.switchSlot))
	mux.HandleFunc("PATCH /redfish/v1/AccountService/Accounts/1", r.inside(r.setPassword))
	s.Handler = http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		w.Header().Set("OData-Version", "4.0") // of every answer: DSP0266, 7.2
		mux.ServeHTTP(w, req)
	})
	s.Factory = map[string]string{"BootMode": "Uefi", "WatchdogMinutes": "5", "AssetTag": ""}
	s.UDP = map[string]func([]byte) [][]byte{"ssdp": r.hearSearch}
	return nil
}

// What clients of OData read: where the resources start, and of which types they are.
const (
	odata = `{"@odata.context": "/redfish/v1/$metadata", "value": [
{"name": "Systems", "kind": "Singleton", "url": "/redfish/v1/Systems"},
{"name": "Managers", "kind": "Singleton", "url": "/redfish/v1/Managers"},
{"name": "Chassis", "kind": "Singleton", "url": "/redfish/v1/Chassis"}]}`
	metadata = `<?xml version="1.0" encoding="UTF-8"?>
<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices>
<Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Service">
<EntityContainer Name="Service"/></Schema></edmx:DataServices></edmx:Edmx>`
)

// document answers with a text that never changes.
func document(kind, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		_, _ = io.WriteString(w, text+"\n")
	}
}

// reference refers to a resource (DSP0266, 7.3).
func reference(id string) map[string]string {
	return map[string]string{"@odata.id": "/redfish/v1/" + id}
}

// list is a collection of resources.
func list(ids ...string) func() map[string]any {
	return func() map[string]any {
		members := []map[string]string{}
		for _, id := range ids {
			members = append(members, reference(id))
		}
		return map[string]any{"Members": members, "Members@odata.count": len(members)}
	}
}

// resources are what is read, by their path below the root.
func (r *recorder) resources() map[string]func() map[string]any {
	all := r.services()
	maps.Copy(all, r.accounts())
	maps.Copy(all, registries)
	maps.Copy(all, r.machines())
	return all
}

// accounts are the resources of the one account and its roles.
func (r *recorder) accounts() map[string]func() map[string]any {
	return map[string]func() map[string]any{
		"AccountService": func() map[string]any {
			return map[string]any{"Id": "AccountService", "Name": "Accounts", "ServiceEnabled": true,
				"AccountLockoutThreshold": r.Lockout,
				"Accounts":                reference("AccountService/Accounts"),
				"Roles":                   reference("AccountService/Roles")}
		},
		"AccountService/Accounts": list("AccountService/Accounts/1"),
		"AccountService/Accounts/1": func() map[string]any {
			return map[string]any{"@odata.type": "#ManagerAccount.v1_12_0.ManagerAccount",
				"UserName": r.Login.User, "Enabled": true, "RoleId": r.role(),
				"Links": map[string]any{"Role": reference("AccountService/Roles/" + r.role())}}
		},
		"AccountService/Roles": list("AccountService/Roles/Administrator",
			"AccountService/Roles/ReadOnly"),
		"AccountService/Roles/Administrator": role("Administrator", "Login", "ConfigureManager",
			"ConfigureUsers", "ConfigureSelf", "ConfigureComponents"),
		"AccountService/Roles/ReadOnly": role("ReadOnly", "Login", "ConfigureSelf"),
	}
}

// services are the resources of updates and tasks.
func (r *recorder) services() map[string]func() map[string]any {
	return map[string]func() map[string]any{
		"Systems":  list("Systems/1"),
		"Managers": list("Managers/1"),
		"Chassis":  list("Chassis/1"),
		"UpdateService": func() map[string]any {
			return map[string]any{"FirmwareInventory": reference("UpdateService/FirmwareInventory"),
				"ServiceEnabled": true, "Actions": map[string]any{},
				"MultipartHttpPushUri":               "/redfish/v1/UpdateService/upload",
				"MaxImageSizeBytes":                  64 << 20,
				"@Redfish.OperationApplyTimeSupport": map[string]any{"SupportedValues": []string{"OnReset"}}}
		},
		"TaskService": func() map[string]any {
			return map[string]any{"Tasks": reference(
				"TaskService/Tasks")}
		},
		"TaskService/Tasks": func() map[string]any {
			r.mu.Lock()
			n := r.task
			r.mu.Unlock()
			if n == 0 {
				return list()()
			}
			return list(fmt.Sprintf("TaskService/Tasks/%d", n))()
		},
		"SessionService": func() map[string]any {
			return map[string]any{"ServiceEnabled": true, "Sessions": reference("SessionService/Sessions")}
		},
		"SessionService/Sessions": func() map[string]any {
			r.mu.Lock()
			defer r.mu.Unlock()
			open := []string{}
			for _, o := range r.tokens {
				open = append(open, "SessionService/Sessions/"+o.id)
			}
			slices.Sort(open)
			body := list(open...)()
			body["@odata.type"] = "#SessionCollection.SessionCollection"
			return body
		},
		"UpdateService/FirmwareInventory": list("UpdateService/FirmwareInventory/BMC",
			"UpdateService/FirmwareInventory/BMC-other", "UpdateService/FirmwareInventory/Disks"),
		"UpdateService/FirmwareInventory/BMC-other": func() map[string]any {
			r.mu.Lock()
			defer r.mu.Unlock()
			return map[string]any{"Id": "BMC-other", "Version": r.idle, "Updateable": true}
		},
		"UpdateService/FirmwareInventory/BMC": func() map[string]any {
			version, _ := r.Running()
			return map[string]any{"Id": "BMC", "Version": version}
		},
		"UpdateService/FirmwareInventory/Disks": func() map[string]any {
			return map[string]any{"Id": "Disks", "Version": "D12", "Updateable": false}
		},
	}
}

// machines are the resources of what the recorder is built of.
func (r *recorder) machines() map[string]func() map[string]any {
	return map[string]func() map[string]any{
		"Systems/1": func() map[string]any {
			return map[string]any{"Id": "1", "Manufacturer": "Brackwell", "Model": r.Model,
				"SerialNumber": r.Serial, "PartNumber": r.Hardware, "HostName": r.Name,
				"Bios": reference("Systems/1/Bios"),
				"Boot": map[string]any{"BootSourceOverrideEnabled": "Disabled"},
				"Actions": map[string]any{"#ComputerSystem.Reset": map[string]any{
					"target":                            "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset",
					"ResetType@Redfish.AllowableValues": []string{"ForceRestart"}}}}
		},
		"Systems/1/Bios": func() map[string]any {
			return map[string]any{"@odata.type": "#Bios.v1_2_1.Bios", "Id": "Bios",
				"AttributeRegistry": "BR5Attributes.1.0", "Attributes": r.attributes(false),
				"@Redfish.Settings": map[string]any{"@odata.type": "#Settings.v1_3_5.Settings",
					"SettingsObject":      reference("Systems/1/Bios/Settings"),
					"SupportedApplyTimes": []string{"OnReset"}}}
		},
		"Systems/1/Bios/Settings": func() map[string]any {
			return map[string]any{"@odata.type": "#Bios.v1_2_1.Bios", "Id": "Settings",
				"Attributes": r.attributes(true)}
		},
		"Managers/1": func() map[string]any {
			return r.manager()
		},
		"Managers/1/EthernetInterfaces":      list("Managers/1/EthernetInterfaces/eth0"),
		"Managers/1/EthernetInterfaces/eth0": r.ethernet,
		"Chassis/1": func() map[string]any {
			r.mu.Lock()
			defer r.mu.Unlock()
			return map[string]any{"ChassisType": "RackMount", "LocationIndicatorActive": r.lit}
		},
	}
}

// registries are the registries of attributes and messages (DSP0266, 9.5).
var registries = map[string]func() map[string]any{
	"Registries": list("Registries/Base.1.18", "Registries/Brackwell.1.0",
		"Registries/BR5Attributes.1.0"),
	"Registries/Base.1.18": func() map[string]any { // everyone has it
		return map[string]any{"Id": "Base.1.18", "Name": "Messages of the standard",
			"Languages": []string{"en"}, "Registry": "Base.1.18", "Location": []any{}}
	},
	"Registries/BR5Attributes.1.0": func() map[string]any {
		return map[string]any{"Id": "BR5Attributes.1.0", "Name": "Attributes of recorders",
			"Languages": []string{"en"}, "Registry": "BR5Attributes.1.0",
			"Location": []map[string]string{{"Language": "en",
				"Uri": "/redfish/v1/Registries/BR5Attributes.1.0.json"}}}
	},
	"Registries/BR5Attributes.1.0.json": func() map[string]any {
		return map[string]any{"@odata.type": "#AttributeRegistry.v1_3_8.AttributeRegistry",
			"Id": "BR5Attributes.1.0", "Name": "Attributes of recorders",
			"RegistryEntries": map[string]any{"Attributes": []any{map[string]any{"AttributeName": "Disks",
				"ReadOnly": true, "Type": "String"}}}}
	},
	"Registries/Brackwell.1.0": func() map[string]any {
		return map[string]any{"Id": "Brackwell.1.0",
			"Name": "Messages of recorders", "Languages": []string{"de", "en"}, "Registry": "Brackwell.1.0",
			"Location": []map[string]string{
				{"Language": "de", "Uri": "/redfish/v1/Registries/none.json"},
				{"Language": "en", "Uri": "/redfish/v1/Registries/Brackwell.1.0.json"}}}
	},
	"Registries/Brackwell.1.0.json": func() map[string]any {
		return map[string]any{"@odata.type": "#MessageRegistry.v1_6_0.MessageRegistry",
			"Id":   "Brackwell.1.0.0",
			"Name": "Messages of recorders", "Language": "en", "OwningEntity": "Brackwell",
			"RegistryPrefix":  "Brackwell",
			"RegistryVersion": "1.0.0", "Messages": map[string]any{imageRefused: map[string]any{
				"Description": "The image was refused.", "Message": "The image was refused: %1.",
				"Severity":        "Critical",
				"MessageSeverity": "Critical", "NumberOfArgs": 1, "ParamTypes": []string{"string"},
				"Resolution": "Send another one."}}}
	},
}

// attributes are those of its Bios resource, or those that it takes with its next restart.
func (r *recorder) attributes(next bool) map[string]string {
	all := r.Configured()
	r.mu.Lock()
	defer r.mu.Unlock()
	all["Disks"] = "4" // it only tells that
	if next {
		maps.Copy(all, r.pending)
	}
	return all
}

// setAttributes takes attributes that it has, for its next restart (DSP0266, 9.11).
func (r *recorder) setAttributes(w http.ResponseWriter, req *http.Request) {
	var in struct{ Attributes map[string]string }
	err := json.NewDecoder(http.MaxBytesReader(w, req.Body, 16<<10)).Decode(&in)
	own := r.resources()["Systems/1/Bios/Settings"]()
	if match := req.Header.Get("If-Match"); match != tag(encoded("Systems/1/Bios/Settings", own)) {
		redfishError(w, http.StatusPreconditionFailed, "PreconditionFailed",
			"it is not as you have seen it")
		return
	}
	has := r.attributes(false)
	for name := range in.Attributes {
		if _, is := has[name]; !is || name == "Disks" {
			redfishError(w, http.StatusBadRequest, "PropertyUnknown", "there is no attribute "+name)
			return
		}
	}
	if err != nil || len(in.Attributes) == 0 {
		redfishError(w, http.StatusBadRequest, "PropertyMissing", "attributes are expected")
		return
	}
	r.mu.Lock()
	r.pending = in.Attributes
	r.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

// ethernet is its interface (DSP0268, EthernetInterface).
func (r *recorder) ethernet() map[string]any {
	host, _, _ := net.SplitHostPort(r.Addr)
	at := map[string]string{"Address": host, "SubnetMask": "255.255.255.0", "AddressOrigin": "DHCP",
		"Gateway": "0.0.0.0"}
	return map[string]any{"@odata.type": "#EthernetInterface.v1_9_0.EthernetInterface", "Name": "eth0",
		"InterfaceEnabled": true, "IPv4Addresses": []any{at}, "IPv4StaticAddresses": []any{},
		"DHCPv4": map[string]any{"DHCPEnabled": true}}
}

// setAddress moves the recorder to another host of its simulated network.
func (r *recorder) setAddress(w http.ResponseWriter, req *http.Request) {
	var in struct {
		DHCPv4   struct{ DHCPEnabled *bool }
		HostName string
		Static   []struct{ Address, SubnetMask, Gateway string } `json:"IPv4StaticAddresses"`
	}
	err := json.NewDecoder(http.MaxBytesReader(w, req.Body, 4<<10)).Decode(&in)
	own := r.ethernet()
	if match := req.Header.Get("If-Match"); match != tag(encoded("Managers/1/EthernetInterfaces/eth0",
		own)) {
		redfishError(w, http.StatusPreconditionFailed, "PreconditionFailed",
			"it is not as you have seen it")
		return
	}
	where, _, _ := net.SplitHostPort(r.Addr)
	old, _ := netip.ParseAddr(where)
	if err != nil || len(in.Static) != 1 || in.DHCPv4.DHCPEnabled == nil || *in.DHCPv4.DHCPEnabled ||
		r.Move == nil {
		redfishError(w, http.StatusBadRequest, "PropertyMissing",
			"one static address, without DHCP, is expected")
		return
	}
	a, err := netip.ParseAddr(in.Static[0].Address)
	if err != nil || in.Static[0].SubnetMask != "255.255.255.0" ||
		netip.PrefixFrom(old, 24).Masked() != netip.PrefixFrom(a, 24).Masked() {
		redfishError(w, http.StatusBadRequest, "PropertyValueNotInList", "there is no such network here")
		return
	}
	if in.HostName != "" {
		r.Did("hostname " + in.HostName)
	}
	r.Did("address " + a.String())
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusNoContent)
	go func() {
		time.Sleep(100 * time.Millisecond) // the answer leaves first
		r.Move(int(a.As4()[3]))
	}()
}

// root is open to all, and yet a token that is not a session's is rejected: DSP0266, 13.3.4.
func (r *recorder) root(w http.ResponseWriter, req *http.Request) {
	if token := req.Header.Get("X-Auth-Token"); token != "" && !r.open(token) {
		redfishError(w, http.StatusUnauthorized, "NoValidSession", "there is no such session")
		return
	}
	r.resource(w, "", map[string]any{"@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
		"Id": "RootService", "Name": "Root Service", "RedfishVersion": "1.15.0", "UUID": r.uuid,
		"Vendor": "Brackwell", "Product": r.Model,
		"Tasks": reference("TaskService"), "Systems": reference("Systems"),
		"Managers": reference("Managers"), "AccountService": reference("AccountService"),
		"Chassis":       reference("Chassis"),
		"UpdateService": reference("UpdateService"), "Registries": reference("Registries"),
		"SessionService": reference("SessionService"),
		"Links":          map[string]any{"Sessions": reference("SessionService/Sessions")}})
}

func (r *recorder) resource(w http.ResponseWriter, path string, body map[string]any) {
	raw := encoded(path, body)
	w.Header().Set("ETag", tag(raw))
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(raw)
}

// types are the schemas of resources, by the first and the last word of their path that count.
var types = map[string]string{"Systems": "ComputerSystem.v1_20_0.ComputerSystem",
	"Managers": "Manager.v1_17_0.Manager",
	"Chassis":  "Chassis.v1_23_0.Chassis", "UpdateService": "UpdateService.v1_12_0.UpdateService",
	"SessionService":    "SessionService.v1_1_9.SessionService",
	"TaskService":       "TaskService.v1_2_0.TaskService",
	"AccountService":    "AccountService.v1_15_0.AccountService",
	"FirmwareInventory": "SoftwareInventory.v1_9_0.SoftwareInventory",
	"Tasks":             "Task.v1_7_0.Task",
	"Registries":        "MessageRegistryFile.v1_1_3.MessageRegistryFile"}

// encoded is a resource with what every one has (DSP0266, 9.6.1 and DSP0268): its path, type, Id
// and Name.
func encoded(at string, body map[string]any) []byte {
	body["@odata.id"] = "/redfish/v1/" + at
	add := func(name string, value any) {
		if body[name] == nil {
			body[name] = value
		}
	}
	words := strings.Split(at, "/")
	last := words[len(words)-1]
	kind := types[last]
	if len(words) > 1 && kind == "" {
		kind = types[words[len(words)-2]]
	}
	if _, isList := body["Members"]; isList {
		kind = last + "Collection." + last + "Collection"
	} else {
		add("Id", last)
	}
	add("@odata.type", "#"+kind)
	add("Name", last)
	var b bytes.Buffer
	_ = json.NewEncoder(&b).Encode(body)
	return b.Bytes()
}

func tag(body []byte) string { return fmt.Sprintf(`W/"%x"`, sha1.Sum(body)) }

const imageRefused = "ImageRefused"

// redfishError answers with an error as DSP0266, 8.6 has it.
func redfishError(w http.ResponseWriter, status int, id, message string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if id == imageRefused { // a message of the maker's own, whose words are in its registry
		_ = json.NewEncoder(w).Encode(
			map[string]any{"error": map[string]any{"code": "Base.1.18.GeneralError",
				"message": "A general error has occurred. See ExtendedInfo for more information.",
				"@Message.ExtendedInfo": []map[string]any{{"MessageId": "Brackwell.1.0." + id,
					"MessageArgs": []string{message}}}}})
		return
	}
	_ = json.NewEncoder(w).Encode(map[string]any{"error": map[string]any{"code": "Base.1.18." + id,
		"message":               message,
		"@Message.ExtendedInfo": []map[string]string{{"MessageId": "Base.1.18." + id}}}})
}

// role is the role of the one account (DSP0266, 13.2).
func (r *recorder) role() string {
	if r.Faults.ReadsOnly {
		return "ReadOnly"
	}
	return "Administrator"
}

// role is one of the standard's own roles.
func role(id string, privileges ...string) func() map[string]any {
	return func() map[string]any {
		return map[string]any{"@odata.type": "#Role.v1_3_2.Role", "IsPredefined": true, "RoleId": id,
			"AssignedPrivileges": privileges}
	}
}

func (r *recorder) knows(user, password string) bool {
	return subtle.ConstantTimeCompare([]byte(user),
		[]byte(r.Login.User))&subtle.ConstantTimeCompare([]byte(password),
		[]byte(r.Password())) == 1
}

// letsIn checks a login by the account's policy (DSP8010, AccountService): a locked account rejects
// the right one as well.
func (r *recorder) letsIn(user, password string) bool {
	right, boot := r.knows(user, password), r.CameUp()
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.Lockout > 0 && r.wrong >= r.Lockout && r.locked.Equal(boot) {
		r.Did("locked")
		return false
	}
	if right {
		r.wrong = 0
	} else {
		r.wrong, r.locked = r.wrong+1, boot
	}
	return right
}

func (r *recorder) session(w http.ResponseWriter, req *http.Request) {
	var in struct{ UserName, Password string }
	if json.NewDecoder(http.MaxBytesReader(w, req.Body, 4<<10)).Decode(&in) != nil ||
		!r.letsIn(in.UserName, in.Password) {
		r.Did("refused login")
		redfishError(w, http.StatusUnauthorized, "ResourceAtUriUnauthorized",
			"user or password is wrong")
		return
	}
	boot := r.CameUp()
	r.mu.Lock()
	defer r.mu.Unlock()
	maps.DeleteFunc(r.tokens, func(_ string, o opened) bool { return o.boot != boot })
	if len(r.tokens) >= maxSessions {
		redfishError(w, http.StatusServiceUnavailable, "SessionLimitExceeded",
			"as many sessions are open as can be")
		return
	}
	token := rand.Text()
	r.sessions++
	id := strconv.Itoa(r.sessions)
	r.tokens[token] = opened{id, boot}
	r.LoggedIn()
	at := "/redfish/v1/SessionService/Sessions/" + id
	w.Header().Set("X-Auth-Token", token)
	w.Header().Set("Location", at)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusCreated)
	body := map[string]any{"@odata.id": at, "@odata.type": "#Session.v1_6_0.Session", "Id": id,
		"Name": "Session " + id, "UserName": in.UserName}
	if r.Faults.NewPassword { // DSP0266, 13.3.7.1
		body["@Message.ExtendedInfo"] = []map[string]string{
			{"MessageId": "Base.1.18.PasswordChangeRequired"}}
	}
	_ = json.NewEncoder(w).Encode(body)
}

// maxSessions is how many sessions may be open: real controllers allow few.
const maxSessions = 4

// tellSession is a session that is open.
func (r *recorder) tellSession(w http.ResponseWriter, req *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range r.tokens {
		if o.id == req.PathValue("id") {
			r.resource(w, "SessionService/Sessions/"+o.id, map[string]any{"Name": "Session " + o.id,
				"UserName": r.Login.User, "@odata.type": "#Session.v1_6_0.Session"})
			return
		}
	}
	redfishError(w, http.StatusNotFound, "ResourceMissingAtURI", "there is no such session")
}

// endSession ends a session: DSP0266, 13.3.4.4.
func (r *recorder) endSession(w http.ResponseWriter, req *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for token, o := range r.tokens {
		if o.id == req.PathValue("id") {
			delete(r.tokens, token)
			w.WriteHeader(http.StatusNoContent)
			return
		}
	}
	redfishError(w, http.StatusNotFound, "ResourceMissingAtURI", "there is no such session")
}

// open tells whether a token is an open session's.
func (r *recorder) open(token string) bool {
	boot := r.CameUp()
	r.mu.Lock()
	defer r.mu.Unlock()
	o, ok := r.tokens[token]
	return ok && o.boot.Equal(boot)
}

// inside lets only requests with a session or the login through.
func (r *recorder) inside(h http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, req *http.Request) {
		user, password, basic := req.BasicAuth()
		session := r.open(req.Header.Get("X-Auth-Token"))
		switch {
		case !session && !(basic && r.knows(user, password)):
			if basic {
				r.Did("refused login")
			}
			w.Header().Set("WWW-Authenticate", `Basic realm="recorder"`)
			redfishError(w, http.StatusUnauthorized, "NoValidSession", "no session")
		case r.Faults.NewPassword:
			redfishError(w, http.StatusForbidden, "PasswordChangeRequired",
				"the password must be changed")
		case r.Faults.NoRight:
			redfishError(w, http.StatusForbidden, "InsufficientPrivilege",
				"only an administrator may see this")
		case r.Faults.ReadsOnly && req.Method != http.MethodGet && req.Method != http.MethodDelete:
			redfishError(w, http.StatusForbidden, "InsufficientPrivilege",
				"only an administrator may change this")
		default:
			h(w, req)
		}
	}
}

// setPassword changes the password of the account (DSP0266, 13.3.7).
func (r *recorder) setPassword(w http.ResponseWriter, req *http.Request) {
	var in struct{ Password *string }
	switch {
	case json.NewDecoder(http.MaxBytesReader(w, req.Body, 4<<10)).Decode(&in) != nil ||
		in.Password == nil:
		redfishError(w, http.StatusBadRequest, "MalformedJSON", "only Password can be set")
	case len(*in.Password) < 8:
		redfishError(w, http.StatusBadRequest, "PropertyValueFormatError",
			"the password has fewer than 8 characters")
	default:
		r.SetPassword(*in.Password)
		w.WriteHeader(http.StatusNoContent)
	}
}

// light sets the location indicator: a PATCH against the state that the asker has seen
// (DSP0266, 6.5).
func (r *recorder) light(w http.ResponseWriter, req *http.Request) {
	var in struct{ LocationIndicatorActive *bool }
	if json.NewDecoder(http.MaxBytesReader(w, req.Body, 4<<10)).Decode(&in) != nil ||
		in.LocationIndicatorActive == nil {
		redfishError(w, http.StatusBadRequest, "MalformedJSON",
			"only LocationIndicatorActive can be set")
		return
	}
	seen := tag(encoded("Chassis/1", r.resources()["Chassis/1"]()))
	r.mu.Lock()
	defer r.mu.Unlock()
	if match := req.Header.Get("If-Match"); match != seen {
		redfishError(w, http.StatusPreconditionFailed, "PreconditionFailed",
			"it is not as you have seen it")
		return
	}
	r.lit = *in.LocationIndicatorActive
	r.Did(fmt.Sprintf("indicator %v", r.lit))
	w.WriteHeader(http.StatusNoContent)
}

// hearSearch answers a search for Redfish services: DSP0266, 10.2.
func (r *recorder) hearSearch(packet []byte) [][]byte {
	return standin.Service{UUID: r.uuid,
		Targets: []string{"urn:dmtf-org:service:redfish-rest:1",
			"urn:dmtf-org:service:redfish-rest:1:15"},
		Fields: "AL: https://" + r.Addr + "/redfish/v1/\r\n"}.HearSearch(packet)
}
