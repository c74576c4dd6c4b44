package job_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/job"
	"catena/internal/order"
)

// slotted is a row whose device keeps the version before in its other slot.
func slotted(name string) order.Device {
	r := row(name)
	r.Path[0].Slots, r.Path[0].Back = true, nil
	return r
}

// sick is a device that comes back on 2.0, and is not well there.
func sick(a *acted) {
	a.sickFrom = time.Time{}
	if a.version == "2.0" {
		a.sickFrom = a.until
	}
}

// A device with two slots is brought back by a switch; nothing is sent. One that has fallen back
// automatically is only proven: a switch would start what failed. Another time it is switched back
// although nothing has failed.
func TestSlots(t *testing.T) {
	devices := troupe{"top": {slots: true}, "basin": {slots: true, back: sick},
		"weir": {slots: true, back: func(a *acted) {
			if a.version == "2.0" {
				a.version, a.idle = "1.0", "2.0"
			}
		}}}
	bubble(t, devices, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{Devices: []order.Device{slotted("top"), slotted("basin"),
			slotted("weir")}})
		assert.Equal(t, map[string]string{"top": "done 2.0", "basin": "returned 1.0",
			"weir": "returned 1.0"}, ends(s))
		for name, switches := range map[string]int{"top": 0, "basin": 1, "weir": 0} {
			assert.Equal(t, []int{1, switches}, []int{devices[name].attempts,
				devices[name].switches}, name)
		}
		back := slotted("top")
		back.From, back.Path[0].From, back.Path[0].To = "2.0", "2.0", "1.0"
		back.Path[0].Image = order.Image{}
		s = n.run(t, order.Order{Purpose: order.Backward, Devices: []order.Device{back}})
		assert.Equal(t, "done 1.0", ends(s)["top"], s.Devices[0].Reason)
		assert.Equal(t, []int{1, 1}, []int{devices["top"].attempts, devices["top"].switches})
	})
}

// Where the other slot does not keep the version before, its image is sent.
func TestTheOtherSlotIsLost(t *testing.T) {
	basin := &acted{slots: true, back: func(a *acted) { sick(a); a.idle = "" }}
	bubble(t, troupe{"basin": basin}, func(t *testing.T, n *night) {
		r := row("basin")
		r.Path[0].Slots = true
		s := n.run(t, order.Order{Devices: []order.Device{r}})
		assert.Equal(t, "returned 1.0", ends(s)["basin"])
		assert.Equal(t, []int{2, 0}, []int{basin.attempts, basin.switches})
	})
}

// A switch that a crash interrupts is not told a second time: that would lead back.
func TestASwitchAfterACrash(t *testing.T) {
	basin := &acted{slots: true, back: sick}
	bubble(t, troupe{"basin": basin}, func(t *testing.T, n *night) {
		plan := job.Plan{Order: order.Order{Devices: []order.Device{slotted("basin")}},
			Devices: n.known}
		basin.switching = func() { _ = n.ledger.Close() }
		n.crashing(t, plan)
		basin.switching = nil
		j, err := n.engine.Resume("j1", plan, time.Time{})
		require.NoError(t, err)
		require.NoError(t, j.Run(t.Context(), t.Context()))
		s := n.state(t, "j1")
		assert.Equal(t, "returned 1.0", ends(s)["basin"], s.Devices[0].Reason)
		assert.Equal(t, []int{1, 1}, []int{basin.attempts, basin.switches})
	})
}

// A restart between two looks is seen by the number of starts; without one no one can tell.
func TestARestartThatNobodySaw(t *testing.T) {
	devices := troupe{"tells": {counts: true}, "does-not": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		var rows []order.Device
		for name, a := range devices {
			a.down = 0
			r := row(name)
			r.Path[0].To, r.Again, r.Path[0].Image = "1.0", true, *r.Path[0].Back
			rows = append(rows, r)
		}
		s := n.run(t, order.Order{Devices: rows})
		assert.Equal(t, "done 1.0", ends(s)["tells"])
		assert.NotEqual(t, "done 1.0", ends(s)["does-not"])
	})
	up := func(d time.Duration) *device.Boot { return &device.Boot{Uptime: d} }
	assert.True(t, up(time.Second).After(up(time.Hour), 0))
	assert.False(t, up(2*time.Hour).After(up(time.Hour), time.Hour))
	assert.False(t, up(time.Hour).After(nil, 0), "nothing is known")
	assert.False(t, up(0).After(up(time.Hour), time.Hour), "an unknown uptime proves nothing")
	assert.True(t, up(25*time.Second).After(up(20*time.Second), time.Minute),
		"it would be up for 80 s without a restart")
	assert.False(t, up(79*time.Second).After(up(20*time.Second), time.Minute), "it rounds")
}

// Settings that are not as before are a fault of the new version, unless an image alters them.
func TestSettingsAsBefore(t *testing.T) {
	cleared := func(a *acted) {
		a.config = "quiet: true"
		if a.version == "2.0" {
			a.config = "factory"
		}
	}
	for _, alters := range []bool{false, true} {
		drive := &acted{config: "quiet: true", back: cleared}
		bubble(t, troupe{"drive-1": drive}, func(t *testing.T, n *night) {
			known := n.known["drive-1"]
			known.Alters = alters
			n.known["drive-1"] = known
			s := n.run(t, order.Order{Devices: []order.Device{row("drive-1")}})
			if alters {
				assert.Equal(t, "done 2.0", ends(s)["drive-1"])
				assert.Equal(t, "quiet: true", drive.config, "they are restored")
				assert.Equal(t, 1, drive.restored)
				return
			}
			assert.Equal(t, "returned 1.0", ends(s)["drive-1"])
			assert.Equal(t, "after its restart: its settings changed during the update",
				s.Devices[0].Reason)
		})
	}
}

// A setting that only the new version has is none that was lost.
func TestANewSettingIsNoLoss(t *testing.T) {
	drive := &acted{config: "quiet: true"}
	drive.back = func(a *acted) {
		if a.version == "2.0" {
			a.config = "quiet: true\nramp: 12"
		}
	}
	bubble(t, troupe{"drive-1": drive}, func(t *testing.T, n *night) {
		s := n.run(t, order.Order{Devices: []order.Device{row("drive-1")}})
		assert.Equal(t, "done 2.0", ends(s)["drive-1"], s.Devices[0].Reason)
	})
}

// A device that does not take its settings back on the new version goes back to the earlier one,
// and gets them there.
func TestSettingsThatTheNewVersionRefuses(t *testing.T) {
	drive := &acted{config: "quiet: true"}
	drive.back = func(a *acted) {
		a.config, a.deaf = "quiet: false", a.version == "2.0"
	}
	bubble(t, troupe{"drive-1": drive}, func(t *testing.T, n *night) {
		known := n.known["drive-1"]
		known.Alters = true
		n.known["drive-1"] = known
		s := n.run(t, order.Order{Devices: []order.Device{row("drive-1")}})
		assert.Equal(t, "returned 1.0", ends(s)["drive-1"])
		assert.Equal(t, "its settings could not be restored; refused: there is no setting quiet",
			s.Devices[0].Reason)
		assert.Equal(t, "quiet: true", drive.config)
	})
}

// How long a device may take comes from its family and its images, unless the site or a person
// says otherwise.
func TestWhosePatience(t *testing.T) {
	for _, c := range []struct {
		family, said time.Duration
		end          string
	}{
		{0, 0, "stranded ?"}, {20 * time.Minute, 0, "done 2.0"},
		{20 * time.Minute, 5 * time.Minute, "stranded ?"},
	} {
		slow := &acted{writes: time.Minute, down: 15 * time.Minute}
		bubble(t, troupe{"basin": slow}, func(t *testing.T, n *night) {
			known := n.known["basin"]
			known.Patience.Restarting = c.family
			n.known["basin"] = known
			n.engine.Patience = firmware.Patience{Restarting: c.said}
			s := n.run(t, order.Order{Devices: []order.Device{row("basin")}})
			assert.Equal(t, c.end, ends(s)["basin"], s.Devices[0].Reason)
		})
	}
}

// Of a lockstep set nothing is changed where one member is not ready; with time to wait, all of
// it waits for that one.
func TestALockstepSetIsLookedAtFirst(t *testing.T) {
	for _, wait := range []time.Duration{0, 10 * time.Minute} {
		devices := troupe{"handset-1": {}, "handset-2": {}, "handset-3": {}}
		bubble(t, devices, func(t *testing.T, n *night) {
			devices["handset-3"].until = time.Now().Add(5 * time.Minute)
			s := n.run(t, order.Order{WaitAway: wait,
				Devices: []order.Device{row("handset-1"), row("handset-2"), row("handset-3")},
				Rules: order.Rules{Lockstep: []order.Set{{Name: "handsets",
					Of: []string{"handset-1", "handset-2", "handset-3"}}}}})
			sent := devices["handset-1"].attempts + devices["handset-2"].attempts
			if wait == 0 {
				assert.Equal(t, 0, sent, "nothing is sent to any of them")
				assert.Zero(t, s.Count(job.Done)+s.Count(job.Returned))
				assert.Contains(t, s.Devices[0].Reason+s.Devices[1].Reason,
					"its lockstep set does not start without handset-3; it does not answer")
				return
			}
			assert.Equal(t, 2, sent)
			assert.Equal(t, 3, s.Count(job.Done), ends(s))
		})
	}
}

// A set of which one member is where it should be already waits for the one that is away, and then
// starts: what was found at the first look does not count any more.
func TestALockstepSetIsLookedAtAgain(t *testing.T) {
	devices := troupe{"handset-1": {}, "handset-2": {}}
	bubble(t, devices, func(t *testing.T, n *night) {
		devices["handset-1"].version = "2.0"
		devices["handset-2"].until = time.Now().Add(5 * time.Minute)
		s := n.run(t, order.Order{WaitAway: 10 * time.Minute,
			Devices: []order.Device{row("handset-1"), row("handset-2")},
			Rules: order.Rules{Parallel: 1, Lockstep: []order.Set{{Name: "handsets",
				Of: []string{"handset-1", "handset-2"}}}}})
		assert.Equal(t, map[string]string{"handset-1": "skipped 2.0", "handset-2": "done 2.0"}, ends(s))
	})
}

// Parked members of a set are looked at together, too, and one that is not waits for no one in
// vain.
func TestAParkedSet(t *testing.T) {
	devices := troupe{"gate-1": {parks: true, drains: time.Nanosecond},
		"gate-2": {parks: true, drains: time.Nanosecond}}
	bubble(t, devices, func(t *testing.T, n *night) {
		rules := order.Rules{Lockstep: []order.Set{{Name: "pair", Of: []string{"gate-1", "gate-2"}}}}
		rows := []order.Device{row("gate-1"), row("gate-2")}
		s := n.run(t, order.Order{Stage: true, Devices: rows, Rules: rules})
		assert.Equal(t, 2, s.Count(job.Parked))
		rows[0].Parked = true // a hand has changed the order: gate-2 is sent its image once more
		s = n.run(t, order.Order{Devices: rows, Rules: rules})
		assert.Equal(t, 2, s.Count(job.Done), ends(s))
	})
}

// A device that an image has cleared may report a fault, or cut off what is behind it, until it has
// its settings: it gets them, and is judged after that. In a rollback it gets what it lost in any
// case; and one that runs its earlier version, and has restarted for it, is sent nothing.
func TestSettingsComeBeforeTheVerdict(t *testing.T) {
	cleared := func(a *acted) { a.config = "factory" }
	for name, c := range map[string]struct {
		device   *acted
		alters   bool
		ends     string
		attempts int
	}{
		"unhealthy without them": {&acted{needs: true, back: func(a *acted) {
			a.config, a.sickFrom = "factory", time.Now()
		}}, true, "done 2.0", 1},
		"lost in the rollback": {&acted{back: func(a *acted) {
			cleared(a)
			a.sickFrom = time.Time{}
			if a.version == "2.0" {
				a.sickFrom = time.Now()
			}
		}}, false, "returned 1.0", 2},
		"it fell back": {&acted{drains: time.Nanosecond, back: func(a *acted) {
			cleared(a)
			a.version = "1.0"
		}}, false, "returned 1.0", 1},
		"it fell back, and cannot be asked": {&acted{blind: true, back: func(a *acted) {
			cleared(a)
			a.version = "1.0"
		}}, false, "returned 1.0", 1},
		"it fell back, counts its starts, and cannot be asked": {&acted{blind: true, counts: true,
			back: func(a *acted) { a.version = "1.0" }}, true, "returned 1.0", 1},
	} {
		t.Run(name, func(t *testing.T) {
			drive := c.device
			drive.config = "quiet: true"
			bubble(t, troupe{"drive-1": drive}, func(t *testing.T, n *night) {
				known := n.known["drive-1"]
				known.Alters = c.alters
				n.known["drive-1"] = known
				s := n.run(t, order.Order{Devices: []order.Device{row("drive-1")}})
				assert.Equal(t, c.ends, ends(s)["drive-1"], s.Devices[0].Reason)
				assert.Equal(t, c.attempts, drive.attempts)
				assert.Equal(t, "quiet: true", drive.config)
			})
		})
	}
}

// A slot that holds the target is switched to, and nothing is written; one whose version has failed
// on the device before is not trusted.
func TestASlotThatHoldsTheTarget(t *testing.T) {
	devices := troupe{"top": {slots: true, idle: "2.0"}, "basin": {slots: true, idle: "2.0"},
		"weir": {slots: true, idle: "2.0", back: sick}}
	bubble(t, devices, func(t *testing.T, n *night) {
		failed := n.known["basin"]
		failed.Resend = true
		n.known["basin"] = failed
		s := n.run(t, order.Order{Devices: []order.Device{slotted("top"), slotted("basin"),
			slotted("weir")}})
		assert.Equal(t, map[string]string{"top": "done 2.0", "basin": "done 2.0",
			"weir": "returned 1.0"}, ends(s))
		for name, want := range map[string][]int{"top": {0, 1}, "basin": {1, 0}, "weir": {0, 2}} {
			assert.Equal(t, want, []int{devices[name].attempts, devices[name].switches}, name)
		}
	})
}
