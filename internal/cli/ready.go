package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"

	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/plan"
	"catena/internal/workspace"
)

// askOrder asks the devices of an order whether they can be updated now.
func (a *app) askOrder(ctx context.Context, name string) ([]care.Answer, error) {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	w, err := a.match()
	if err != nil {
		return nil, err
	}
	defer w.Close()
	o, err := w.ReadSigned(name)
	if err != nil {
		return nil, err
	}
	x, err := a.access(w)
	if err != nil {
		return nil, err
	}
	return a.askDevices(ctx, w, x, w.Questions(o))
}

// askDevices asks devices, and shows how far it is.
func (a *app) askDevices(
	ctx context.Context,
	w *plan.Site,
	x *contact.Access,
	all []care.Question,
) (
	[]care.Answer, error) {
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	defer meter.Clear()
	return w.Care(x).Ask(ctx, all, func(n int) {
		meter.Show(fmt.Sprintf("%d of %d devices asked", n, len(all)))
	})
}

// testRights tests whether the logins of the devices that can be read may update them. It puts the
// results into the devices, and returns what went wrong, by the devices' IDs.
func (a *app) testRights(ctx context.Context, w *plan.Site, x *contact.Access,
	tested []device.Device) (map[string]error, error) {
	var all []care.Question
	for _, d := range tested {
		if d.Access == device.OK {
			all = append(all, care.Question{Device: d, ForChange: true})
		}
	}
	answers, err := a.askDevices(ctx, w, x, all)
	trouble := map[string]error{}
	for _, answer := range answers {
		for i := range tested {
			if tested[i].ID == answer.Device.ID {
				tested[i].Right = answer.Device.Right
				trouble[tested[i].ID] = answer.Trouble
			}
		}
	}
	return trouble, err
}

// rightCell says what the test of a right has shown.
func rightCell(d device.Device, trouble error) view.Cell {
	right := d.MayChange()
	switch {
	case trouble != nil:
		return view.Warn.Cell("could not be tested: " + trouble.Error())
	case right == nil, right.Result == device.Untested:
		return view.Cell{Text: "works for reading; only that was tested"}
	case right.Result == device.Denied:
		return view.Bad.Cell("may not update it: " + right.Why)
	}
	return view.Cell{Text: "works, and may update it"}
}

// obstacle is what forbids the update of a device that would be updated, and when that was read;
// empty: nothing that is known.
func obstacle(r workspace.Row) string {
	var no []string
	if r.Ready != "" && r.Ready != workspace.Ready {
		no = append(no, fmt.Sprintf("%s (read %s)", strings.TrimSuffix(r.Ready, "."),
			r.Seen.Local().Format("01-02 15:04")))
	}
	if r.MayChange == string(device.Denied) {
		no = append(no, "its login may not update it")
	}
	if len(r.Path) == 0 {
		return ""
	}
	return strings.Join(no, "; ")
}
