package redfish

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/firmware"
	"catena/internal/wire"
)

// service is the UpdateService (DSP2046, UpdateService).
type service struct {
	Push      string `json:"HttpPushUri"`
	Multipart string `json:"MultipartHttpPushUri"`
	Most      int64  `json:"MaxImageSizeBytes"`
	Firmware  ref    `json:"FirmwareInventory"`
	Enabled   *bool  `json:"ServiceEnabled"`
	Actions   struct {
		Simple struct {
			Target string `json:"target"`
		} `json:"#UpdateService.SimpleUpdate"`
	} `json:"Actions"`
	// when an update is applied: DSP0266, 11.6
	Apply struct {
		Values []string `json:"SupportedValues"`
	} `json:"@Redfish.OperationApplyTimeSupport"`
}

// onReset tells whether an image waits for a restart that is asked for.
func (s service) onReset() bool { return slices.Contains(s.Apply.Values, "OnReset") }

// task is a Task (DSP0266, 12.2).
type task struct {
	State    string    `json:"TaskState"`
	Status   string    `json:"TaskStatus"`
	Percent  int       `json:"PercentComplete"`
	Messages []message `json:"Messages"`
	ID       string    `json:"@odata.id"`
}

// ended is the refusal of a task that has ended badly, in the words of its last message.
func (t *session) ended(ctx context.Context, of task) error {
	slices.Reverse(of.Messages)
	general := ""
	if len(of.Messages) == 0 {
		general = "the task ended with " + of.State
	}
	return t.refusal(ctx, of.Messages, general)
}

// States of a task that has ended badly, and of one that continues.
var (
	taskFailed = []string{"Exception", "Killed", "Cancelled", "Interrupted"}
	taskGoesOn = []string{"New", "Starting", "Running", "Suspended", "Pending", "Stopping", "Service",
		"Cancelling"}
)

// Update moves an image into a component: the manager's own, or one of the firmware inventory.
func (t *session) Update(component string) (dialect.Update, error) {
	return &update{session: t, component: component}, nil
}

type update struct {
	dialect.NoInterlocks
	session   *session
	component string
	monitor   string // the task that this session has started; empty: none
	ended     bool   // and it was seen to end well
}

// Traits: where the service supports it, an image waits for the restart that it is told; else the
// device applies it automatically.
func (u *update) Traits() dialect.Traits {
	return dialect.Traits{RestartsByItself: !u.session.service.onReset()}
}

// Ready looks whether the service takes images for the component now.
func (u *update) Ready(ctx context.Context, _ dialect.Image) error {
	t := u.session
	if err := t.inside(ctx, func() error { return t.readService(ctx) }); err != nil {
		return err
	}
	part, known := t.parts[u.component]
	switch s := t.service; {
	case s.Push+s.Multipart+s.Actions.Simple.Target == "":
		return device.Because(device.Refusal, "its update service accepts no images")
	case !known && u.component != firmware.Main:
		return device.Because(device.Refusal, "its firmware inventory no longer has %s", u.component)
	case s.Enabled != nil && !*s.Enabled:
		return device.Because(device.Refusal, "its update service is switched off")
	case known && part.Updateable != nil && !*part.Updateable:
		return device.Because(device.Refusal, "it reports that %s cannot be updated", u.component)
	}
	return nil
}

// Transfer sends the image: as a form with its targets (DSP0266, 10.7.2), as it is, or by telling
// the device where to fetch it.
func (u *update) Transfer(ctx context.Context, image dialect.Image, sent func(int64)) error {
	t := u.session
	if most := t.service.Most; most > 0 && image.Size > most {
		return device.Because(device.Refusal, "it accepts images of at most %d bytes", most)
	}
	u.monitor, u.ended = "", false
	return t.inside(ctx, func() error {
		switch s := t.service; {
		case s.Multipart != "":
			return u.pushForm(ctx, image, sent)
		case s.Push != "":
			return u.push(ctx, s.Push, "application/octet-stream", nil, image, nil, sent)
		default:
			return u.pull(ctx, image, sent)
		}
	})
}

// parameters are what goes with an image: DSP0266, 10.7.2.
func (u *update) parameters() map[string]any {
	p := map[string]any{"Targets": []string{}}
	if part, known := u.session.parts[u.component]; known {
		p["Targets"] = []string{part.ODataID}
	}
	if u.session.service.onReset() {
		p["@Redfish.OperationApplyTime"] = "OnReset"
	}
	return p
}

func (u *update) pushForm(ctx context.Context, image dialect.Image, sent func(int64)) error {
	raw, err := json.Marshal(u.parameters())
	if err != nil {
		return err
	}
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	part, err := w.CreatePart(textproto.MIMEHeader{
		"Content-Disposition": {`form-data; name="UpdateParameters"`},
		"Content-Type":        {"application/json"}})
	if err == nil {
		_, err = part.Write(raw)
	}
	if err == nil {
		_, err = w.CreatePart(textproto.MIMEHeader{
			"Content-Disposition": {`form-data; name="UpdateFile"; filename="` + image.Name() + `"`},
			"Content-Type":        {"application/octet-stream"}})
	}
	if err != nil {
		return err
	}
	before := bytes.Clone(form.Bytes())
	form.Reset()
	if err := w.Close(); err != nil {
		return err
	}
	return u.push(ctx, u.session.service.Multipart, w.FormDataContentType(), before, image,
		form.Bytes(), sent)
}

// push sends an image with what stands before and after it.
func (u *update) push(ctx context.Context, at, kind string, before []byte, image dialect.Image,
	after []byte, sent func(int64)) error {
	t := u.session
	r, err := t.request(authenticated, http.MethodPost, at, nil)
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", kind)
	body := wire.Envelope{Before: before, Image: io.NewSectionReader(image, 0, image.Size),
		After: after}
	a, err := t.http.Send(ctx, r, wire.Body{From: body, Size: body.Size(), Sent: body.Counts(sent)})
	if err == nil {
		err = t.understand(ctx, a)
	}
	if err != nil {
		return err
	}
	return u.followTask(a)
}

// followTask takes the task monitor of an answer: DSP0266, 12.2.
func (u *update) followTask(a wire.Answer) error {
	u.monitor = pathOf(a.Header.Get("Location"))
	if u.monitor == "" {
		var made task
		_ = json.Unmarshal(a.Body, &made) // some answer with the task itself
		u.monitor = made.ID
	}
	if u.monitor == "" && a.Status == http.StatusAccepted {
		return device.Because(device.Malformed, "an update without a task")
	}
	u.ended = u.monitor == ""
	return nil
}

// pathOf is the path of a location, which some write as an absolute address.
func pathOf(location string) string {
	u, err := url.Parse(location)
	if err != nil {
		return ""
	}
	return u.EscapedPath()
}

// pull has the device fetch the image: UpdateService.SimpleUpdate.
func (u *update) pull(ctx context.Context, image dialect.Image, sent func(int64)) error {
	t := u.session
	o, err := wire.NewOffer("http", t.at.Address, image.Name(),
		wire.Body{From: image, Size: image.Size, Sent: sent})
	if err != nil {
		return err
	}
	defer o.Close()
	body := u.parameters()
	body["ImageURI"], body["TransferProtocol"] = o.URL, "HTTP"
	a, err := t.ask(ctx, http.MethodPost, t.service.Actions.Simple.Target, nil, body)
	if err == nil {
		err = u.followTask(a)
	}
	if err != nil {
		return err
	}
	return o.Fetched(ctx, func(ctx context.Context) error {
		_, err := u.Progress(ctx)
		if errors.Is(err, device.ErrRefused) {
			return err
		}
		return nil // what else it answers says less than that it fetches the image
	})
}

// Progress asks the task. Of an image that an earlier session has sent the tasks that continue
// tell; where none does, no one can.
func (u *update) Progress(ctx context.Context) (percent int, err error) {
	t := u.session
	if u.ended {
		return 100, nil
	}
	err = t.inside(ctx, func() error {
		if u.monitor == "" {
			percent, err = t.anyTask(ctx)
			return err
		}
		a, err := t.ask(ctx, http.MethodGet, u.monitor, nil, nil)
		if err != nil {
			return err
		}
		var now task
		_ = json.Unmarshal(a.Body, &now) // one that has ended may have no body
		if slices.Contains(taskFailed, now.State) || now.Status == "Critical" {
			return t.ended(ctx, now)
		}
		goesOn := slices.Contains(taskGoesOn, now.State)
		u.ended = now.State == "Completed" || a.Status != http.StatusAccepted && !goesOn
		percent = max(0, min(now.Percent, 99))
		if u.ended {
			percent = 100
		}
		return nil
	})
	return percent, err
}

// anyTask looks for a task that is not finished. device.ErrUnsupported: the service reports none.
func (t *session) anyTask(ctx context.Context) (int, error) {
	var tasks struct {
		Tasks ref `json:"Tasks"`
	}
	var list collection
	for _, step := range []struct {
		from *ref
		into any
	}{{&t.tasks, &tasks}, {&tasks.Tasks, &list}} {
		if step.from.ID == "" {
			return 0, device.ErrUnsupported
		}
		switch err := t.get(ctx, step.from.ID, step.into); {
		case errors.Is(err, device.ErrRefused):
			return 0, device.ErrUnsupported
		case err != nil: // a lost answer or session says nothing about tasks
			return 0, err
		}
	}
	for _, m := range slices.Backward(list.Members[max(0, len(list.Members)-maxInventory):]) {
		var now task
		if err := t.get(ctx, m.ID, &now); err != nil {
			return 0, err
		}
		if slices.Contains(taskGoesOn, now.State) {
			return max(0, min(now.Percent, 99)), nil
		}
	}
	return 0, device.ErrUnsupported
}

// Activate restarts the manager: Manager.Reset.
func (u *update) Activate(ctx context.Context) error {
	t := u.session
	return t.inside(ctx, func() error { return t.reset(ctx) })
}

func (t *session) reset(ctx context.Context) error {
	m, _, err := t.manager(ctx)
	if err != nil {
		return err
	}
	return t.resetBy(ctx, m.Actions.Reset, "its manager cannot be restarted")
}

// resetBy restarts something; cannot says that it has no such action.
func (t *session) resetBy(ctx context.Context, reset reset, cannot string) error {
	if reset.Target == "" {
		return device.Because(device.Refusal, "%s", cannot)
	}
	body := map[string]any{}
	for _, how := range []string{"GracefulRestart", "ForceRestart"} {
		if slices.Contains(reset.Types, how) {
			body["ResetType"] = how
			break
		}
	}
	_, err := t.ask(ctx, http.MethodPost, reset.Target, nil, body)
	t.token, t.opened = "", "" // the restart ends all sessions
	return err
}

// Revert makes the manager's other image the active one, and restarts it.
func (u *update) Revert(ctx context.Context) error {
	t := u.session
	return t.inside(ctx, func() error {
		m, tag, err := t.manager(ctx)
		if err != nil {
			return err
		}
		other := m.other()
		if other == "" || u.component != firmware.Main {
			return device.ErrUnsupported
		}
		header := http.Header{}
		if tag != "" {
			header.Set("If-Match", tag)
		}
		_, err = t.ask(ctx, http.MethodPatch, m.ODataID, header, map[string]any{"Links": map[string]any{
			"ActiveSoftwareImage": ref{other}}})
		if err != nil {
			return err
		}
		return t.reset(ctx)
	})
}

// manager is the first Manager, with its ETag.
func (t *session) manager(ctx context.Context) (m resource, tag string, err error) {
	var list collection
	if t.managers.ID == "" {
		return m, "", device.ErrUnsupported
	}
	if err := t.get(ctx, t.managers.ID, &list); err != nil || len(list.Members) == 0 {
		return m, "", errors.Join(err, device.ErrUnsupported)
	}
	a, err := t.ask(ctx, http.MethodGet, list.Members[0].ID, nil, nil)
	if err == nil && json.Unmarshal(a.Body, &m) != nil {
		err = device.Because(device.Malformed, "unexpected JSON")
	}
	if m.ODataID == "" && err == nil {
		m.ODataID = list.Members[0].ID
	}
	return m, a.Header.Get("ETag"), err
}

// other is the manager's image that is not active, where it has two.
func (r resource) other() string {
	for _, i := range r.Links.Images {
		if r.Links.Active.ID != "" && i.ID != r.Links.Active.ID {
			return i.ID
		}
	}
	return ""
}

// Healthy asks the manager and the system how they are.
func (t *session) Healthy(ctx context.Context, _ device.Reading) error {
	return t.inside(ctx, func() error {
		for what, c := range map[string]ref{"manager": t.managers, "system": t.systems} {
			got, err := t.first(ctx, c)
			if err != nil {
				return err
			}
			if strings.EqualFold(got.Status.Health, "Critical") {
				return device.Because(device.Refusal, "it reports a fault: the health of its %s is critical",
					what)
			}
		}
		return nil
	})
}
