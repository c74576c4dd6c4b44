package redfish

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"catena/internal/device"
)

// message is one of a device's messages (DSP0266, 8.6 and 9.5.11): its text, or the number under
// which a registry has it.
type message struct {
	ID   string   `json:"MessageId"`
	Text string   `json:"Message"`
	Args []string `json:"MessageArgs"`
}

// Bounds of registries: a service has a few, and one is read once in a session.
const (
	maxRegistries = 64
	maxSentence   = 1000 // bytes
)

// sentence is a message in words: its own, else those of the service's registry; empty: it has
// none.
func (t *session) sentence(ctx context.Context, m message) string {
	if m.Text != "" || m.ID == "" {
		return m.Text
	}
	words := t.registered(ctx, m.ID)
	for i, arg := range slices.Backward(m.Args) { // %10 before %1
		words = strings.ReplaceAll(words, fmt.Sprintf("%%%d", i+1), arg)
	}
	return words[:min(len(words), maxSentence)]
}

// registered are the words of a message's number, Registry.Major.Minor.Name or Registry.Major.Name,
// in the registry that the service has of it (DSP0266, 9.5); empty: it has none.
func (t *session) registered(ctx context.Context, id string) string {
	parts := strings.Split(id, ".")
	if len(parts) < 3 || t.looking || t.registries.ID == "" {
		return ""
	}
	t.looking = true // a fault of the lookup is not looked up itself
	defer func() { t.looking = false }()
	name := parts[0]
	if t.words == nil {
		t.words = map[string]map[string]string{}
	}
	if t.words[name] == nil {
		t.words[name] = t.registry(ctx, name)
	}
	return t.words[name][parts[len(parts)-1]]
}

// registry reads a registry of that name; what cannot be read has no words.
func (t *session) registry(ctx context.Context, name string) map[string]string {
	words := map[string]string{}
	for _, raw := range t.registryFiles(ctx, name) {
		var registry struct {
			Messages map[string]struct{ Message string }
		}
		if json.Unmarshal(raw, &registry) != nil {
			continue
		}
		for name, m := range registry.Messages {
			words[name] = m.Message
		}
	}
	return words
}

// registryFiles are the registries of a name, in English where there are several.
func (t *session) registryFiles(ctx context.Context, name string) (out [][]byte) {
	var all collection
	if t.get(ctx, t.registries.ID, &all) != nil {
		return nil
	}
	for _, m := range all.Members[:min(len(all.Members), maxRegistries)] {
		var file struct {
			Registry string
			Location []struct {
				Language string
				URI      string `json:"Uri"`
			}
		}
		own := m.ID[strings.LastIndex(m.ID, "/")+1:]
		of, _, _ := strings.Cut(own, ".")
		if of != name && own != name || t.get(ctx, m.ID, &file) != nil || len(file.Location) == 0 {
			continue
		}
		at := file.Location[0]
		for _, l := range file.Location {
			if strings.HasPrefix(l.Language, "en") {
				at = l
			}
		}
		if a, err := t.ask(ctx, "GET", at.URI, nil, nil); err == nil {
			out = append(out, a.Body)
		}
	}
	return out
}

// refusal is a refusal in the words of the first of its messages that has some, else in those about
// all of it, unless they only point to the messages (DSP0266, 8.6).
func (t *session) refusal(ctx context.Context, all []message, general string) error {
	number := ""
	for _, m := range all {
		if strings.HasSuffix(m.ID, ".GeneralError") {
			continue
		}
		if s := t.sentence(ctx, m); s != "" {
			return device.Because(device.Refusal, "%s", s)
		}
		number = cmp.Or(number, m.ID)
	}
	if number != "" && (general == "" || strings.Contains(general, "ExtendedInfo")) {
		general = number
	}
	return device.Because(device.Refusal, "%s", general)
}
