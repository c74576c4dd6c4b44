package recorder

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"catena/internal/sim/standin"
)

// manager is the Manager: two images, of which one is active.
func (r *recorder) manager() map[string]any {
	version, well := r.Running()
	health := "OK"
	if !well {
		health = "Critical"
	}
	inventory := "/redfish/v1/UpdateService/FirmwareInventory/"
	link := func(id string) map[string]string { return map[string]string{"@odata.id": inventory + id} }
	return map[string]any{"EthernetInterfaces": map[string]string{
		"@odata.id": "/redfish/v1/Managers/1/EthernetInterfaces"},
		"Id": "1", "ManagerType": "BMC", "FirmwareVersion": version,
		"DateTime": time.Now().Add(r.ClockOff).UTC().Format(time.RFC3339), "Status": map[string]any{
			"Health": health},
		"Links": map[string]any{"ActiveSoftwareImage": link("BMC"),
			"SoftwareImages": []map[string]string{link("BMC"), link("BMC-other")}},
		"Actions": map[string]any{"#Manager.Reset": map[string]any{
			"target":                            "/redfish/v1/Managers/1/Actions/Manager.Reset",
			"ResetType@Redfish.AllowableValues": []string{"ForceRestart"}}}}
}

// upload takes an image as a form: DSP0266, 10.7.2. It is applied OnReset.
func (r *recorder) upload(w http.ResponseWriter, req *http.Request) {
	parts, err := req.MultipartReader()
	if err != nil {
		redfishError(w, http.StatusUnsupportedMediaType, "HeaderInvalid", "a form is expected")
		return
	}
	if percent, next := r.Written(); next != "" && percent < 100 {
		redfishError(w, http.StatusServiceUnavailable, "UpdateInProgress",
			"another image is being written")
		return
	}
	told := false
	for {
		part, err := parts.NextPart()
		if err != nil {
			redfishError(w, http.StatusBadRequest, "ActionParameterMissing", "UpdateFile is missing")
			return
		}
		switch part.FormName() {
		case "UpdateParameters":
			var in struct {
				Targets []string
				Apply   string `json:"@Redfish.OperationApplyTime"`
			}
			if json.NewDecoder(io.LimitReader(part, 4<<10)).Decode(&in) != nil || in.Apply != "OnReset" ||
				slices.ContainsFunc(in.Targets, func(t string) bool {
					return t != "/redfish/v1/UpdateService/FirmwareInventory/BMC"
				}) {
				redfishError(w, http.StatusBadRequest, "ActionParameterValueError",
					"only the BMC can be updated, OnReset")
				return
			}
			told = true
		case "UpdateFile":
			if !told {
				redfishError(w, http.StatusBadRequest, "ActionParameterMissing", "UpdateParameters come first")
				return
			}
			ended := r.Receives()
			version, err := standin.Receive(part, "Brackwell", r.Model, "", nil)
			ended()
			if err != nil {
				redfishError(w, http.StatusBadRequest, imageRefused, err.Error())
				return
			}
			r.mu.Lock()
			r.task++
			r.idle = "" // it is being written over
			at := fmt.Sprintf("/redfish/v1/TaskService/Tasks/%d", r.task)
			r.mu.Unlock()
			r.Take("", version)
			w.Header().Set("Location", at)
			w.WriteHeader(http.StatusAccepted)
			return
		}
	}
}

// tellTask is a Task, and its monitor at once: 202 while it continues.
func (r *recorder) tellTask(w http.ResponseWriter, req *http.Request) {
	r.mu.Lock()
	n := r.task
	r.mu.Unlock()
	if req.PathValue("n") != strconv.Itoa(n) || n == 0 {
		redfishError(w, http.StatusNotFound, "ResourceMissingAtURI", "there is no such task")
		return
	}
	percent, next := r.Written()
	state := "Completed"
	if next != "" && percent < 100 {
		state = "Running"
	}
	w.Header().Set("Content-Type", "application/json")
	if state == "Running" {
		w.WriteHeader(http.StatusAccepted)
	}
	_, _ = w.Write(encoded("TaskService/Tasks/"+strconv.Itoa(n), map[string]any{"TaskState": state,
		"TaskStatus": "OK", "PercentComplete": percent, "Messages": []map[string]string{}}))
}

// reboot starts what was written, or the same again: Manager.Reset.
func (r *recorder) reboot(w http.ResponseWriter, req *http.Request) {
	var in struct{ ResetType string }
	if json.NewDecoder(io.LimitReader(req.Body, 4<<10)).Decode(&in) != nil ||
		in.ResetType != "ForceRestart" {
		redfishError(w, http.StatusBadRequest, "ActionParameterValueError",
			"ResetType must be ForceRestart")
		return
	}
	version, _ := r.Running()
	percent, next := r.Written()
	if next != "" && percent < 100 {
		redfishError(w, http.StatusServiceUnavailable, "UpdateInProgress", "an image is being written")
		return
	}
	r.mu.Lock()
	switch {
	case next != "" && r.Faults.KeepsVersion:
		r.idle = next
	case next != "":
		r.idle = version
	}
	pending := r.pending
	r.pending = nil
	r.mu.Unlock()
	if pending != nil {
		r.Configure(pending)
		r.Did("attributes taken")
	}
	w.Header().Set("Connection", "close")
	w.WriteHeader(http.StatusNoContent)
	r.Restart(0)
}

// switchSlot makes the other image the active one, from the next restart on.
func (r *recorder) switchSlot(w http.ResponseWriter, req *http.Request) {
	raw, err := io.ReadAll(io.LimitReader(req.Body, 4<<10))
	if err != nil || !bytes.Contains(raw, []byte("ActiveSoftwareImage")) ||
		!strings.Contains(string(raw), "FirmwareInventory/BMC-other") {
		redfishError(w, http.StatusBadRequest, "PropertyValueNotInList", "there is no such image")
		return
	}
	if match := req.Header.Get("If-Match"); match != tag(encoded("Managers/1", r.manager())) {
		redfishError(w, http.StatusPreconditionFailed, "PreconditionFailed",
			"it is not as you have seen it")
		return
	}
	r.mu.Lock()
	other := r.idle
	r.mu.Unlock()
	if other == "" {
		redfishError(w, http.StatusConflict, "ResourceInUse", "the other slot is empty")
		return
	}
	r.WillStart(other)
	w.WriteHeader(http.StatusNoContent)
}
