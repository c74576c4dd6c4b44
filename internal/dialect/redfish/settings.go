package redfish

import (
	"bytes"
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"slices"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/settings"
)

// Settings are the attributes of the system's Bios resource (DSP0268), where it has one: an object
// of names and values. What else a service can be told has no form that could be restored.
func (t *session) Settings() (dialect.Settings, error) { return attributes{t}, nil }

type attributes struct{ session *session }

func (attributes) Format() settings.Format { return settings.JSON }

// Renamed: the standard knows of none.
func (attributes) Renamed() map[string]string { return nil }

// Steady: some attributes only report the system's state, and another version has others.
func (attributes) Steady() bool { return false }

// bios is a Bios resource, as far as it is used.
type bios struct {
	Attributes map[string]json.RawMessage `json:"Attributes"`
	Registry   string                     `json:"AttributeRegistry"`
	Settings   struct {
		Object ref      `json:"SettingsObject"`
		Times  []string `json:"SupportedApplyTimes"`
	} `json:"@Redfish.Settings"`
}

// Save reads them. device.ErrUnsupported: there are none.
func (a attributes) Save(ctx context.Context) (raw []byte, err error) {
	err = a.session.inside(ctx, func() error {
		_, b, _, err := a.bios(ctx)
		if err == nil {
			told := a.readOnly(ctx, b.Registry)
			maps.DeleteFunc(b.Attributes, func(name string, _ json.RawMessage) bool { return told[name] })
			raw, err = json.MarshalIndent(b.Attributes, "", "  ") // names in their order
		}
		return err
	})
	return append(raw, '\n'), err
}

// Restore sends those that differ to the settings object (DSP0266, 9.11), and where they are taken
// only by a restart of the system, has it restart.
func (a attributes) Restore(ctx context.Context, saved []byte) error {
	var want map[string]json.RawMessage
	if json.Unmarshal(saved, &want) != nil {
		return device.Because(device.OwnFault, "the saved settings are not a JSON object")
	}
	t := a.session
	return t.inside(ctx, func() error {
		system, b, at, err := a.bios(ctx)
		if err != nil {
			return err
		}
		change, known := map[string]json.RawMessage{}, 0
		for name, value := range want { // another version of the system may have others
			was, is := b.Attributes[name]
			if is {
				known++
			}
			if is && !same(was, value) {
				change[name] = value
			}
		}
		if known == 0 && len(want) > 0 {
			return device.Because(device.Refusal, "it has none of these settings")
		}
		if len(change) == 0 {
			return nil
		}
		if b.Settings.Object.ID != "" {
			at = b.Settings.Object.ID
		}
		was, err := t.ask(ctx, http.MethodGet, at, nil, nil)
		if err != nil {
			return err
		}
		header := http.Header{}
		if tag := was.Header.Get("ETag"); tag != "" {
			header.Set("If-Match", tag)
		}
		body := map[string]any{"Attributes": change}
		now := slices.Contains(b.Settings.Times, "Immediate")
		if now {
			body["@Redfish.SettingsApplyTime"] = map[string]string{"ApplyTime": "Immediate"}
		}
		if _, err := t.ask(ctx, http.MethodPatch, at, header, body); err != nil || now {
			return err
		}
		return t.resetBy(ctx, system.Actions.System, "its system cannot be restarted, and "+
			"applies its settings only after a restart")
	})
}

// readOnly are the attributes that no one can set, as the registry of them says (DSP0268,
// AttributeRegistry); none where it cannot be read.
func (a attributes) readOnly(ctx context.Context, name string) map[string]bool {
	out := map[string]bool{}
	t := a.session
	r, err := t.root(ctx)
	if err != nil || name == "" {
		return out
	}
	t.registries = r.Registries
	for _, raw := range t.registryFiles(ctx, name) {
		var registry struct {
			Entries struct {
				Attributes []struct {
					Name     string `json:"AttributeName"`
					ReadOnly bool
				}
			} `json:"RegistryEntries"`
		}
		if json.Unmarshal(raw, &registry) != nil {
			continue
		}
		for _, x := range registry.Entries.Attributes {
			out[x.Name] = out[x.Name] || x.ReadOnly
		}
	}
	return out
}

// same compares values, not how they are written.
func same(a, b json.RawMessage) bool {
	var x, y bytes.Buffer
	return json.Compact(&x, a) == nil && json.Compact(&y, b) == nil &&
		bytes.Equal(x.Bytes(), y.Bytes())
}

// bios is the first system and its attributes, and where they are.
func (a attributes) bios(ctx context.Context) (system resource, b bios, at string, err error) {
	t := a.session
	r, err := t.root(ctx)
	if err == nil {
		system, err = t.first(ctx, r.Systems)
	}
	if err == nil && system.Bios.ID == "" {
		err = device.ErrUnsupported
	}
	if err == nil {
		err = t.get(ctx, system.Bios.ID, &b)
	}
	maps.DeleteFunc(b.Attributes, func(_ string, v json.RawMessage) bool {
		return string(
			v) == "null"
	})
	if err == nil && len(b.Attributes) == 0 {
		err = device.ErrUnsupported
	}
	return system, b, system.Bios.ID, err
}
