package plan_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
	"catena/internal/plan"
	"catena/internal/plan/plantest"
)

func names(o order.Order) (out []string) {
	for _, d := range o.Devices {
		out = append(out, d.Name)
	}
	return out
}

func texts(all []plan.Difference) (out []string) {
	for _, d := range all {
		out = append(out, fmt.Sprintf("%s: %s (%t)", d.Device, d.Text, d.Refuses))
	}
	return out
}

const marrowHill = `site: Marrow Hill
hold: [{device: cam-3, because: for the swans}]
`

// An order takes what is behind and can be sent an image; what is held or current is skipped with
// its reason.
func TestAnOrderTakesWhatIsBehind(t *testing.T) {
	h := plantest.New(t, marrowHill, "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.2.1", "cam-3": "3.1.0"})
	o, skipped := h.Order(t, h.Open(t), plan.Request{Parallel: 2})
	assert.Equal(t, []string{"cam-1"}, names(o))
	hop := o.Devices[0].Path[0]
	assert.Equal(t, []string{"3.1.0", "3.2.1"}, []string{hop.From, hop.To})
	require.NotNil(t, hop.Back)
	assert.Equal(t, "3.1.0.bin", hop.Back.File)
	assert.Empty(t, o.Cautions)
	assert.Equal(t, 2, o.Rules.Parallel)
	var left []string
	for _, r := range skipped {
		left = append(left, r.Name+" "+r.Status)
	}
	assert.ElementsMatch(t, []string{"cam-2 current", "cam-3 held"}, left)
}

// Without the image of the current version, the order says that it cannot be rolled back.
func TestAnOrderCautionsWhereNothingReturns(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0"})
	o, _ := h.Order(t, h.Open(t), plan.Request{})
	require.Len(t, o.Cautions, 1)
	assert.Equal(t, firmware.NoRollback, o.Cautions[0].Name)
	assert.Equal(t, []string{"cam-1"}, o.Cautions[0].Devices)
}

// A hold that names no device is refused: it would hold nothing.
func TestAnOrderRefusesUnresolvedReferences(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\nhold: [{device: cam-9, because: for the swans}]\n",
		"3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0"})
	w := h.Open(t)
	_, _, err := w.Order(plan.Request{Purpose: order.Forward}, w.Rows, h.Now)
	var unresolved *plan.UnresolvedError
	require.ErrorAs(t, err, &unresolved)
	assert.Contains(t, err.Error(), "cam-9")
}

// Differences name what has changed since an order was made: in devices, images and rules.
func TestDifferences(t *testing.T) {
	for name, c := range map[string]struct {
		change func(t *testing.T, h *plantest.Hill, o *order.Order)
		want   []string
	}{
		"nothing": {func(*testing.T, *plantest.Hill, *order.Order) {}, nil},
		"another version": {func(t *testing.T, h *plantest.Hill, _ *order.Order) {
			h.Sees(t, map[string]string{"cam-1": "2.9.0"})
		}, []string{"cam-1: it runs 2.9.0, not 3.1.0 (false)"}},
		"already there": {func(t *testing.T, h *plantest.Hill, _ *order.Order) {
			h.Sees(t, map[string]string{"cam-1": "3.2.1"})
		}, []string{"cam-1: it already runs 3.2.1 (false)"}},
		"held since": {func(t *testing.T, h *plantest.Hill, _ *order.Order) {
			h.File(t, "site.yaml", "site: Marrow Hill\nhold: [{device: cam-1, because: ice}]\n")
		}, []string{"cam-1: it is held: ice (false)"}},
		"another site": {func(t *testing.T, h *plantest.Hill, _ *order.Order) {
			h.File(t, "site.yaml", "site: Sedge Lane\n")
		}, []string{`: it is an order of the site "Marrow Hill" (true)`}},
		"a stricter limit": {func(t *testing.T, h *plantest.Hill, _ *order.Order) {
			h.File(t, "site.yaml", "site: Marrow Hill\nlimits: {parallel: 1}\n")
		}, []string{": limits: the site allows 1 at the same time, the order 4 (true)"}},
		"another serial number": {func(_ *testing.T, _ *plantest.Hill, o *order.Order) {
			o.Devices[0].Serial = "WX4-other"
		}, []string{`cam-1: the device d028134426 of the order differs: its serial number is "WX4-cam-1", not "WX4-other" (true)`}},
		"no serial number": {func(_ *testing.T, _ *plantest.Hill, o *order.Order) {
			o.Devices[0].Serial = ""
		}, []string{`cam-1: the device d028134426 of the order differs: its serial number is "WX4-cam-1", not "" (true)`}},
		"another name and model": {func(_ *testing.T, _ *plantest.Hill, o *order.Order) {
			o.Devices[0].Name, o.Devices[0].Model = "gate-9", "TG-200"
		}, []string{`gate-9: the device d028134426 of the order differs: its name is "cam-1", not "gate-9", its ` +
			`model is "WX-40", not "TG-200" (true)`}},
		"an image that is gone": {func(_ *testing.T, _ *plantest.Hill, o *order.Order) {
			o.Devices[0].Path[0].Image.SHA256 = "0123456789abcdef"
		}, []string{"cam-1: the image 3.2.1.bin (0123456789ab…) is not on the shelf (true)"}},
		"an unknown device": {func(_ *testing.T, _ *plantest.Hill, o *order.Order) {
			o.Devices[0].ID = "d99"
		}, []string{"cam-1: no device d99 is known (true)"}},
	} {
		t.Run(name, func(t *testing.T) {
			h := plantest.New(t, "site: Marrow Hill\n", "3.1.0", "3.2.1")
			h.Sees(t, map[string]string{"cam-1": "3.1.0"})
			w := h.Open(t)
			o, _ := h.Order(t, w, plan.Request{Parallel: 4})
			w.Close()
			c.change(t, h, &o)
			assert.Equal(t, c.want, texts(h.Open(t).Differences(o, false)))
		})
	}
}

// An order that failed after it was made is not repeated without a name.
func TestDifferencesOfAnOrderThatFailed(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0"})
	w := h.Open(t)
	o, _ := h.Order(t, w, plan.Request{Parallel: 4})
	h.Now = h.Now.Add(time.Hour)
	h.Ran(t, w, "j1", job.Returned, "3.1.0", "3.2.1", "cam-1")
	require.NoError(t, w.Match(h.Shelf))
	assert.Equal(t, []string{"cam-1: 3.2.1 failed in j1, after this order was made; to try again, " +
		"name " +
		"it: catena flash cam-1 (false)"}, texts(w.Differences(o, false)))
}

// A rollback leads to what the device ran before the last job that changed it.
func TestRollback(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "3.0.0", "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.2.1", "cam-2": "3.2.1"})
	w := h.Open(t)
	h.Ran(t, w, "j1", job.Done, "3.1.0", "3.2.1", "cam-1")
	require.NoError(t, w.Match(h.Shelf))
	back, err := w.Rollback(w.Rows, firmware.Main, "", "")
	require.NoError(t, err)
	to := map[string]string{}
	for _, r := range back {
		to[r.Name] = fmt.Sprint(r.Path) + " " + r.Reason
	}
	assert.Contains(t, to["cam-1"], "[3.1.0]")
	assert.Contains(t, to["cam-2"], "[] no job has updated it")
	back, err = w.Rollback(w.Rows, firmware.Main, "3.0.0", "j1")
	require.NoError(t, err)
	require.Len(t, back, 1, "j1 changed one device")
	assert.Equal(t, []string{"3.0.0"}, back[0].Path)
	_, err = w.Rollback(w.Rows, "crypto", "", "")
	var component *plan.ComponentError
	require.ErrorAs(t, err, &component)
	_, err = w.Rollback(w.Rows, firmware.Main, "", "j9")
	var unknown *plan.UnknownJobError
	assert.ErrorAs(t, err, &unknown)
}

// What fits into a time is taken, unsafe devices first; the others are named.
func TestFit(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.1.0", "cam-4": "3.1.0"})
	w := h.Open(t)
	o, _ := h.Order(t, w, plan.Request{Parallel: 1, NoPilot: true})
	require.Len(t, o.Devices, 3)
	one := o.Devices[0].Takes + o.Devices[0].Returns
	fits, left := w.Fit(o, h.Now, h.Now.Add(one))
	assert.Len(t, fits.Devices, 1)
	assert.Len(t, left, 2)
	all, left := w.Fit(o, h.Now, h.Now.Add(4*one))
	assert.Len(t, all.Devices, 3)
	assert.Empty(t, left)
	none, _ := w.Fit(o, h.Now, h.Now.Add(time.Second))
	assert.Empty(t, none.Devices)
	_, _, _, err := w.Make(plan.Request{Purpose: order.Forward}, w.Rows, time.Second)
	var short *plan.NoTimeError
	assert.ErrorAs(t, err, &short)
}

// An image is needed by the devices that run it, and by those that would be returned to it.
func TestNeededByAndUnneeded(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "2.0.0", "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.2.1"})
	w := h.Open(t)
	h.Ran(t, w, "j1", job.Done, "3.1.0", "3.2.1", "cam-1")
	require.NoError(t, w.Match(h.Shelf))
	images, err := h.Shelf.List()
	require.NoError(t, err)
	now := func() time.Time { return h.Now }
	needed := map[string][]string{}
	for _, i := range images {
		needed[i.Version], err = plan.NeededBy(h.Shelf, i, h.Dir, now, ledger.Writer{})
		require.NoError(t, err)
	}
	assert.Len(t, needed["3.2.1"], 1, "it runs it")
	assert.Len(t, needed["3.1.0"], 1, "it would be returned to it")
	assert.Empty(t, needed["2.0.0"])
	unneeded, err := plan.Unneeded(h.Shelf, h.Dir, now, ledger.Writer{})
	require.NoError(t, err)
	require.Len(t, unneeded, 1)
	assert.Equal(t, "2.0.0", unneeded[0].Version)
}

// A start lies in a window of the site, or is refused with the next one.
func TestStartTime(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\ntimezone: UTC\nwindows: [{from: \"22:00\", to: "+
		"\"05:00\"}]\n")
	w := h.Open(t)
	at := func(text string) string {
		start, err := w.StartTime(text)
		if err != nil {
			return err.Error()
		}
		return start.UTC().Format("02 15:04")
	}
	assert.Equal(t, "27 22:00", at("window"))
	assert.Equal(t, "27 23:30", at("23:30"))
	assert.Equal(t, "28 01:00", at("+5h"))
	assert.Equal(t, "28 04:00", at("2026-11-28T04:00:00Z"))
	assert.Contains(t, at("now"), "no window of the site is open")
	assert.Contains(t, at("+1h"), "the next one is from Fri 2026-11-27 22:00 to 05:00")
	assert.Contains(t, at("2026-11-27T04:00:00Z"), "is in the past")
	assert.Contains(t, at("soon"), "write now, window, +2h, 22:30")
	assert.Contains(t, at("+soon"), "write for example +2h")
	h.Now = plantest.Evening.Add(3 * time.Hour)
	assert.Equal(t, "27 23:00", at("now"))
	assert.Equal(t, "27 23:00", at("window"))
}

// An order is prepared as it could start now: what has changed is left out, and an order without
// devices is refused.
func TestPrepare(t *testing.T) {
	h := plantest.New(t, "site: Marrow Hill\n", "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.1.0"})
	w := h.Open(t)
	o, _ := h.Order(t, w, plan.Request{Parallel: 4})
	p, err := w.Prepare(o, plan.Terms{Start: "now", Stage: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"cam-1", "cam-2"}, names(p.Order))
	assert.True(t, p.Order.Stage)
	assert.False(t, p.Order.Rules.Pilot, "nothing is proven that others could wait for")
	assert.Len(t, p.Forecast.Spans, 2)
	_, err = w.Prepare(o, plan.Terms{Start: "now", WaitFor: -time.Minute})
	var term *plan.TermError
	require.ErrorAs(t, err, &term)

	w.Close()
	h.Sees(t, map[string]string{"cam-1": "3.2.1"})
	w = h.Open(t)
	p, err = w.Prepare(o, plan.Terms{Start: "now"})
	require.NoError(t, err)
	assert.Equal(t, []string{"cam-2"}, names(p.Order))
	assert.Equal(t, []string{"cam-1: it already runs 3.2.1 (false)"}, texts(p.Skipped))
	w.Close()
	h.Sees(t, map[string]string{"cam-2": "3.2.1"})
	p, err = h.Open(t).Prepare(o, plan.Terms{Start: "now"})
	assert.ErrorAs(t, err, &plan.EmptyError{})
	assert.Len(t, p.Skipped, 2)
}

// The devices of a job are meant by ID or name, whatever the case; words that mean none are named
// together.
func TestMembers(t *testing.T) {
	s := job.State{ID: "j1", Devices: []job.DeviceState{{ID: "d1", Name: "cam-1"},
		{ID: "d2", Name: "cam-2"}}}
	of, err := plan.Members(s, []string{"CAM-2", "d1"})
	require.NoError(t, err)
	assert.Equal(t, []string{"d2", "d1"}, []string{of[0].ID, of[1].ID})
	_, err = plan.Members(s, []string{"cam-1", "cam-8", "cam-9"})
	assert.EqualError(t, err, "job j1 has no device cam-8, cam-9")
}

// An order made of a part of a signed one has no signature: none is claimed for it.
func TestAPartOfASignedOrderIsNotSigned(t *testing.T) {
	s := job.State{ID: "j1", Order: order.Order{Signed: []string{"SHA256:abc"},
		Devices: []order.Device{{ID: "d1"}, {ID: "d2"}}},
		Devices: []job.DeviceState{{ID: "d1", Step: job.Failed}, {ID: "d2", Step: job.Parked}}}
	again := plan.Failed(s)
	assert.Len(t, again.Devices, 1)
	assert.Empty(t, again.Signed)
	h := plantest.New(t, "site: Marrow Hill\n")
	parked := s.Unfinished(func(string) bool { return true })
	assert.Len(t, parked.Devices, 1)
	assert.Empty(t, parked.Signed)
	assert.Empty(t, h.Open(t).Parked(s, nil).Signed)
}
