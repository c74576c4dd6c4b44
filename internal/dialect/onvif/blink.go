package onvif

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/dialect"
	"catena/internal/text"
)

// shows are the auxiliary commands (ONVIF Core 8.6) that make a camera show itself and
// move nothing, the plainest first. A wiper or a washer is not among them.
var shows = []string{"led", "indicator", "irlamp", "lamp"}

// Locate is an auxiliary command of the device's.
func (t *session) Locate() (dialect.Locator, error) { return locator{t}, nil }

type locator struct{ session *session }

// Show sends an auxiliary command or, where a person named a relay output, switches
// that. A relay is never chosen here: equipment connected to it may move.
func (l locator) Show(ctx context.Context, on bool, output string) (string, error) {
	t := l.session
	if output != "" {
		state := map[bool]string{true: "active", false: "inactive"}[on]
		var token bytes.Buffer
		_ = xml.EscapeText(&token, []byte(output)) // a buffer takes everything
		_, err := t.call(ctx, `<tds:SetRelayOutputState><tds:RelayOutputToken>`+token.String()+
			`</tds:RelayOutputToken>`+
			`<tds:LogicalState>`+state+`</tds:LogicalState></tds:SetRelayOutputState>`, true)
		return "its relay output " + text.Clean(output) + " is switched", err
	}
	command, err := t.showing(ctx, on)
	if err != nil {
		return "", err
	}
	var text bytes.Buffer
	_ = xml.EscapeText(&text, []byte(command))
	_, err = t.call(ctx, `<tds:SendAuxiliaryCommand><tds:AuxiliaryCommand>`+text.String()+
		`</tds:AuxiliaryCommand></tds:SendAuxiliaryCommand>`, true)
	name, _, _ := strings.Cut(strings.TrimPrefix(command, "tt:"), "|")
	return "its " + name + " is switched", err
}

// showing finds the auxiliary command to send.
func (t *session) showing(ctx context.Context, on bool) (string, error) {
	e, err := t.call(ctx, `<tds:GetServiceCapabilities/>`, false)
	if err != nil && !errors.Is(err, device.ErrRefused) {
		return "", err
	}
	ending := map[bool]string{true: "|on", false: "|off"}[on]
	if m := e.Body.Misc; m != nil {
		commands := strings.Fields(text.Harmless(m.AuxiliaryCommands))
		for _, word := range shows {
			for _, c := range commands[:min(len(commands), 64)] {
				if low := strings.ToLower(c); strings.Contains(low, word) &&
					strings.HasSuffix(low, ending) {
					return c, nil
				}
			}
		}
	}
	e, err = t.call(ctx, `<tds:GetRelayOutputs/>`, true)
	if err != nil && !errors.Is(err, device.ErrRefused) {
		return "", err
	}
	var tokens []string
	for _, r := range e.Body.Relays[:min(len(e.Body.Relays), 16)] {
		tokens = append(tokens, text.Clean(r.Token))
	}
	slices.Sort(tokens)
	if len(tokens) > 0 {
		return "", device.Because(device.Refusal, "%s",
			"it has no indicator; it has relay outputs ("+strings.Join(tokens, ", ")+
				"), and equipment connected to one may move: name an output if you mean it")
	}
	return "", device.Because(device.Refusal, "it has no indicator")
}
