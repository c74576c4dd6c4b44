package job_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"catena/internal/job"
	"catena/internal/ledger"
	"catena/internal/order"
)

// oracle judges a night. It knows what the devices really are, and reads of the ledger only what
// anyone can read; it shares no code with the engine.
type oracle struct {
	mu       sync.Mutex
	first    string
	timeline []string
	active   map[string]map[string]string // step by device, by job
	written  map[string]bool              // devices by "job device": an image was started to be sent
	ended    map[string]string            // end by "job device"
	started  map[string]order.Order       // by job
	stopped  map[string]bool              // jobs that an operator stopped
	newest   map[string]string            // newest end by device
	out      map[string]bool              // stranded devices
}

func (o *oracle) init() {
	o.active, o.written, o.ended = map[string]map[string]string{}, map[string]bool{},
		map[string]string{}
	o.started, o.out, o.newest = map[string]order.Order{}, map[string]bool{}, map[string]string{}
	o.stopped = map[string]bool{}
}

func (o *oracle) wrong(format string, args ...any) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.fail(format, args...)
}

func (o *oracle) fail(format string, args ...any) {
	if o.first == "" {
		o.first = fmt.Sprintf(format, args...)
	}
}

// body is what the oracle reads of an entry.
type body struct {
	Step      string `json:"step"`
	Version   string `json:"version"`
	Direction string `json:"direction"`
	End       string `json:"end"`
	Component string `json:"component"`
	SHA256    string `json:"sha256"`
	Busy      bool   `json:"busy"`
	Cause     *struct {
		Why  string          `json:"why"`
		Then json.RawMessage `json:"then"`
	} `json:"cause"`
}

// entries judges entries that are about to be written.
func (o *oracle) entries(n *simulatedNight, entries []ledger.Entry) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, e := range entries {
		var b body
		_ = json.Unmarshal(e.Body, &b)
		at := time.Since(n.site.begin).Round(time.Second)
		cause := ""
		if b.Cause != nil {
			cause = b.Cause.Why + " " + string(b.Cause.Then)
		}
		o.timeline = append(o.timeline, strings.TrimSpace(fmt.Sprintf("%8s %s %s %s %s%s %s %s %s", at,
			e.Job, e.Device, e.Kind, b.Step, b.End,
			b.Direction, b.Version, cause)))
		key := e.Job + " " + e.Device
		switch e.Kind {
		case job.Started:
			var started order.Order
			_ = json.Unmarshal(e.Body, &started)
			o.started[e.Job], o.active[e.Job] = started, map[string]string{}
		case job.StepStarted:
			fresh := o.active[e.Job][e.Device] == ""
			if fresh && b.Direction == "forward" {
				o.window(n, e.Job, e.Device)
			}
			o.active[e.Job][e.Device] = b.Step
			if b.Step != "checking" {
				o.written[key] = true
			}
			o.paths(n, e.Job, e.Device)
			if fresh {
				o.limits(n, e.Job, e.Device)
			}
		case job.Asked:
			if !b.Busy {
				o.active[e.Job][e.Device] = "asking"
			}
		case job.Over:
			o.active[e.Job][e.Device] = b.Step
		case job.Postponed:
			delete(o.active[e.Job], e.Device)
		case job.Ended:
			delete(o.active[e.Job], e.Device)
			o.ended[key], o.newest[e.Device] = b.End, b.End
			o.end(n, key, e.Device, b)
		case job.Stopping:
			o.stopped[e.Job] = true
		case job.Closed:
			for _, d := range o.started[e.Job].Devices {
				if o.ended[e.Job+" "+d.ID] == "" {
					o.fail("%s is closed, and %s has not ended", e.Job, d.ID)
				}
			}
			o.sets(n, e.Job)
		}
	}
}

// paths: nothing is active on the path of an active device, over all jobs.
func (o *oracle) paths(n *simulatedNight, in, id string) {
	d := n.site.named(id)
	for j, active := range o.active {
		for other := range active {
			b := n.site.named(other)
			if other == id && j != in {
				o.fail("%s is active in %s and %s", id, in, j)
			}
			if other != id && (d.below(b) || b.below(d)) {
				o.fail("%s is active beside %s, on one path", id, other)
			}
		}
	}
}

// window: nothing starts after the end of the window, but for the rest of a lockstep set.
func (o *oracle) window(n *simulatedNight, in, id string) {
	started := o.started[in]
	if started.Closes.IsZero() || n.site.now().Before(started.Closes) {
		return
	}
	for _, set := range started.Rules.Lockstep {
		if slices.Contains(set.Of, id) {
			return
		}
	}
	o.fail("%s started after the end of the window", id)
}

// limits: no more are active than the rules of a job allow, and its cover sets are kept.
func (o *oracle) limits(n *simulatedNight, in, id string) {
	r := o.started[in].Rules
	slots, through := 0, map[int]int{}
	models, children := map[string]int{}, map[string]int{}
	for other, step := range o.active[in] {
		if step == "asking" {
			continue
		}
		slots++
		b := n.site.named(other)
		models[b.Model]++
		if b.Child {
			children[n.site.devices[b.Up].Name]++
		}
		for up := n.site.named(other).Up; up >= 0; up = n.site.devices[up].Up {
			through[up]++
		}
	}
	if r.Parallel > 0 && slots > r.Parallel {
		o.fail("%d devices are active in %s, not %d", slots, in, r.Parallel)
	}
	for model, most := range r.PerModel {
		if models[model] > most {
			o.fail("%d devices of model %s are active in %s, not %d", models[model], model, in, most)
		}
	}
	for parent, most := range r.PerParent {
		if children[parent] > most {
			o.fail("%d children of %s are active in %s, not %d", children[parent], parent, in, most)
		}
	}
	for up, count := range through {
		if r.PerUplink > 0 && count > r.PerUplink {
			o.fail("%d devices are active behind %s, not %d", count, n.site.devices[up].Name, r.PerUplink)
		}
	}
	for _, c := range r.Cover {
		if !slices.Contains(c.Of, id) || o.out[id] {
			continue
		}
		out := 0
		for _, m := range c.Of {
			busy := o.out[m]
			for _, active := range o.active {
				for other := range active {
					busy = busy || other == m || slices.Contains(r.Feeds[other], m)
				}
			}
			if busy {
				out++
			}
		}
		if len(c.Of)-out < c.Keep {
			o.fail("%s started, and cover set %s has %d of %d in service", id, c.Name, len(c.Of)-out,
				len(c.Of))
		}
	}
}

// end: what is reported of a device is what it is.
func (o *oracle) end(n *simulatedNight, key, id string, b body) {
	box := n.site.named(id)
	is, spec := box.truth(), box.spec
	in, _, _ := strings.Cut(key, " ")
	row := o.row(in, id)
	previous, target := row.From, row.Path[len(row.Path)-1].To
	runs := is.version["main"]
	if spec.Modem {
		runs += ", modem " + is.version["modem"]
	}
	skipped := slices.ContainsFunc(n.Deeds, func(d deed) bool {
		return d.What == "skip" &&
			n.Devices[d.On].Name == id
	})
	all := func(v string) bool {
		return is.version["main"] == v && (!spec.Modem ||
			is.version["modem"] == v)
	}
	same := is.serial == "S-"+id
	switch b.End {
	case "done":
		if row.Again && is.transfers == 0 {
			o.fail("%s is reported done, and got nothing", id)
		}
		if !all(target) || is.sick || !same {
			o.fail("%s is reported done, and runs %s (sick %v, same device %v)", id, runs, is.sick, same)
		}
	case "returned":
		if !all(previous) || is.sick || !same {
			o.fail("%s is reported returned, and runs %s (sick %v, same device %v)", id, runs, is.sick, same)
		}
	case "failed":
		onlyMain := spec.Part == "modem" && is.version["main"] == target &&
			is.version["modem"] == previous
		if spec.Part == "modem" && spec.Fault == "" && spec.Flaky == 0 && spec.AwayFrom == 0 &&
			!skipped && n.FullAt == 0 &&
			o.written[key] && len(n.Crashes) == 0 && !onlyMain &&
			!o.stopped[in] {
			o.fail("only the modem of %s is forbidden, and it runs %s", id, runs)
		}
		if o.written[key] && !onlyMain && (!all(previous) || is.sick) {
			o.fail("%s is reported as before, and runs %s", id, runs)
		}
		if !o.written[key] && is.transfers > 0 && o.tookPart(key) == 1 {
			o.fail("%s is reported untouched, and took an image", id)
		}
	case "skipped":
		if !o.written[key] && is.transfers > 0 && o.tookPart(key) == 1 {
			o.fail("%s is reported untouched, and took an image", id)
		}
	}
	switch {
	case b.End != "stranded" && is.up && same && !is.sick: // it serves, whatever feeds it
		delete(o.out, id)
	case b.End == "stranded":
		o.out[id] = true
		for _, fed := range o.started[in].Rules.Feeds[id] {
			o.out[fed] = true
		}
	}
	if b.Version != "" && b.End != "stranded" && b.End != "failed" && b.Version != runs && same &&
		is.up {
		o.fail("%s is reported to run %s, and runs %s (%s)", id, b.Version, runs, b.End)
	}
	unread := spec.Wipes && !spec.Clears && spec.Flaky > 0 // too many answers may have been lost
	if (b.End == "done" || b.End == "returned" || b.End == "failed" && o.written[key]) &&
		is.config != asSet && !unread {
		o.fail("%s is reported %s, and its settings are %s", id, b.End, is.config)
	}
	// However many answers get lost, a device is not stranded if nothing else was wrong.
	unseen := spec.Blind && spec.Uncounted && spec.Down == 0 // nothing shows its restart
	if b.End == "stranded" && !unseen && !skipped && spec.Fault == "" && spec.AwayFrom == 0 &&
		spec.Returns && len(n.Crashes) == 0 && n.FullAt == 0 && n.GiveUp == 0 && spec.Up < 0 &&
		len(n.Rules.Cover) == 0 && !n.faultBelow(box) {
		o.fail("%s is reported stranded, and nothing was wrong with it", id)
	}
}

// row returns a device's row of the order of a job.
func (o *oracle) row(in, id string) order.Device {
	all := o.started[in].Devices
	return all[slices.IndexFunc(all, func(d order.Device) bool { return d.ID == id })]
}

// faultBelow reports whether something downstream of a device may rightly keep it from being
// verified.
func (n *simulatedNight) faultBelow(b *box) bool {
	return slices.ContainsFunc(n.site.devices, func(d *box) bool {
		return d.below(b) &&
			(d.Fault != "" || d.AwayFrom > 0)
	})
}

// tookPart counts the jobs that a device takes part in.
func (o *oracle) tookPart(key string) (count int) {
	_, id, _ := strings.Cut(key, " ")
	for _, started := range o.started {
		if slices.ContainsFunc(started.Devices, func(d order.Device) bool { return d.ID == id }) {
			count++
		}
	}
	return count
}

// sets: a lockstep set ends as a whole: all members on the target, or none, but for those that are
// stranded.
func (o *oracle) sets(n *simulatedNight, id string) {
	for _, set := range o.started[id].Rules.Lockstep {
		done, not := []string{}, []string{}
		for _, m := range set.Of {
			switch end := o.ended[id+" "+m]; end {
			case "done":
				done = append(done, m)
			case "", "stranded", "parked":
			default:
				if n.site.named(m).truth().version["main"] != "2.0" {
					not = append(not, m)
				}
			}
		}
		if len(done) > 0 && len(not) > 0 {
			o.fail("lockstep set %s of %s has ended in parts: %v on the target, %v not", set.Name, id, done,
				not)
		}
	}
}

// verdict judges what can only be judged at the end.
func (o *oracle) verdict(n *simulatedNight) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, b := range n.site.devices {
		for _, v := range b.violations {
			o.fail("%s", v)
		}
		count := map[string]int{}
		for _, t := range b.transfers {
			key := t.job + " " + t.component + " " + t.version
			again := o.row(t.job, b.Name).Again
			if back := o.started[t.job].Purpose == order.Backward; t.from != t.version &&
				(t.version < t.from) == back {
				count[key]++
			}
			if t.from == t.version && t.held == "" && !b.Blind && !again {
				o.fail("%s was sent %s, which it ran already", b.Name, t.version)
			}
			if count[key] > 1 && !(b.Blind && len(n.Crashes) > 0) {
				o.fail("%s was sent %s %d times", b.Name, key, count[key])
			}
		}
	}
	if o.first == "" {
		return ""
	}
	lines := o.timeline
	if len(lines) > 120 {
		lines = lines[len(lines)-120:]
	}
	return o.first + "\n" + strings.Join(lines, "\n")
}
