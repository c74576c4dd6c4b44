// Package jobview shows jobs: as a line for each step, as one frame, and live in a terminal (Live).
package jobview

import (
	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/words"
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// Of the names in lines of steps: they stand straight up to the second.
const (
	ShortName = 12
	LongName  = 40
)

// EventLine returns what happened in a job as a line: from is what the device ran, wide the column
// of names.
func EventLine(e job.Event, from string, wide int) string {
	name := e.Name + strings.Repeat(" ", max(0, wide-ansi.StringWidth(e.Name)))
	if e.Asks != "" {
		return fmt.Sprintf("%s  %s asks: %s  (when it is done: catena track --done %s)",
			e.At.Local().Format("15:04:05"), name, e.Asks, advice.Quoted(e.Name))
	}
	detail := from + " → " + e.To
	if e.Direction == job.Back {
		detail = "back to " + e.To
	}
	if e.Step.End() {
		detail = strings.TrimSpace(e.Version + "  " + e.Reason)
	}
	return strings.TrimRight(fmt.Sprintf("%s  %s %-11s %s", e.At.Local().Format("15:04:05"),
		name, e.Step, detail), " ")
}

// FrameOrder is the order in which devices stand in a frame when not all have room: those at work
// first, then those that went wrong.
var FrameOrder = []job.Step{job.Proving, job.Restarting, job.Writing, job.Sending, job.Checking,
	job.Stranded,
	job.Returned, job.Failed, job.Waiting, job.Parked, job.Skipped, job.Done}

// Frame is one picture of a job.
func Frame(siteName string, state job.State, now time.Time, s view.Style) view.Painted {
	var b strings.Builder
	until := now
	switch {
	case !state.Ended.IsZero():
		until = state.Ended
	case !state.Alive: // no one knows when it died, or how far it is elsewhere; its last entry is near
		until = state.Last
	}
	waits := state.Waiting(now)
	if state.Scheduled() {
		waits = nil // all wait for its start
	}
	fmt.Fprintf(&b, "%s\n\n", frameHead(siteName, state, now, until, s))

	t := view.Table{Columns: []string{"name", "from → to", "step", "progress", "%", "rate", "left",
		"details"},
		Less: []string{"rate", "left", "progress"}}
	for _, d := range state.Devices {
		t.Add(frameRow(d, waits[d.ID], until, s)...)
	}
	t.Draw(&b, s)
	if state.Interrupted() {
		view.Print(&b, "\n%s\n", Notice(state))
	}
	return view.Painted(b.String())
}

// frameHead is the first line of a frame: how far the whole is, and when it is expected to end.
func frameHead(siteName string, state job.State, now, until time.Time, s view.Style) string {
	ended, working := 0, 0
	for _, d := range state.Devices {
		switch {
		case d.Step.End():
			ended++
		case d.Step != job.Waiting:
			working++
		}
	}
	called := state.ID
	if state.Name != "" && state.Name != state.ID {
		called = state.Name + ", " + state.ID
	}
	head := view.Sprint("%s · %s %s · %d of %d ended · %d in progress · %d waiting · %s%s", siteName,
		state.Purpose, called, ended, len(state.Devices), working,
		len(state.Devices)-ended-working, words.Clock(until.Sub(state.Started)),
		outlook(state, now))
	switch {
	case state.Missed(now):
		head += string(s.Paint(view.Bad, " · its start was missed"))
	case state.Scheduled() && state.Alive:
		head += view.Sprint(" · starts %s, in %s", When(state.Order.Start, now),
			words.Clock(state.Order.Start.Sub(now).Round(time.Second)))
	case state.Interrupted():
		head += string(s.Paint(view.Bad, " · interrupted"))
	case state.Elsewhere() && state.Ended.IsZero():
		head += " · on another laptop, as of the last sync"
	}
	return head
}

// outlook says when a job is expected to end, and when it could at the earliest, whatever the
// sequence. Empty: that cannot be told.
func outlook(state job.State, now time.Time) string {
	rest, ok := state.Rest(now)
	if !ok {
		return ""
	}
	bound, _, err := order.Bound(state.Order)
	if err != nil {
		return ""
	}
	took := rest.End.Sub(state.Started)
	return view.Sprint(" · expected until %s (%.2f × the shortest)",
		rest.End.Local().Format("15:04"), max(1, float64(took)/float64(max(bound, 1))))
}

const barWidth = 12

// rateAfter is how long a transfer must last before its rate says something: at
// first the buffers on the way fill.
const rateAfter = 1500 * time.Millisecond

func frameRow(d job.DeviceState, waits *order.Reason, now time.Time, s view.Style) []any {
	step := StepTone(d.Step).Cell(string(d.Step))
	if d.Direction == job.Back {
		step = view.Warn.Cell(string(d.Step) + " back")
	}
	bar, percent, rate, left := view.Painted(""), "", "", ""
	if p := d.Percent(); p >= 0 {
		bar, percent = s.Bar(p, barWidth), fmt.Sprintf("%d", p)
		if d.Rate > 0 && now.Sub(d.Since) > rateAfter && d.Stalled(now) == 0 {
			rate, left = words.Bytes(d.Rate)+"/s", words.Clock(
				time.Duration(d.Left*float64(time.Second)))
		}
	} else if !d.Step.End() && d.Step != job.Waiting {
		bar = s.Bar(-1, barWidth)
	}
	what := d.Reason
	switch {
	case what != "":
	case d.Asks != "":
		return []any{d.Name, d.From + " → " + d.To, view.Warn.Cell("asks"), bar, percent, rate, left,
			d.Asks + "  (catena track --done " + advice.Quoted(d.Name) + ")"}
	case waits != nil:
		what = waits.Error()
	case d.Stalled(now) > 0:
		what = "no data accepted for " + words.Clock(d.Stalled(now))
	case d.Step == job.Done:
		what = fmt.Sprintf("proven on %s in %s", d.Version,
			words.Clock(time.Duration(d.Took*float64(time.Second))))
	case d.Step == job.Sending && d.Total > 0 && d.Done >= d.Total: // what is left is on the wire
		what, left = "all sent, waiting for its answer", ""
	case !d.Step.End() && d.Step != job.Waiting:
		what = sight(d) + "for " + words.Clock(now.Sub(d.Since))
	}
	return []any{d.Name, d.From + " → " + d.To, step, bar, percent, rate, left,
		view.Quiet.Cell(what)}
}

// sight is what people see at a device now, to be followed by something else; empty: nothing that
// is known.
func sight(d job.DeviceState) string {
	if d.Shows == "" {
		return ""
	}
	return "at the device: " + d.Shows + " · "
}

// StepTone returns how loud a step is.
func StepTone(s job.Step) view.Tone {
	switch s {
	case job.Done:
		return view.Plain
	case job.Stranded:
		return view.Bad
	case job.Failed, job.Returned:
		return view.Warn
	case job.Waiting, job.Skipped, job.Parked:
		return view.Quiet
	}
	return view.Busy
}

// When says a time for a sentence.
func When(start, now time.Time) string {
	switch {
	case !start.After(now):
		return "now"
	case start.Sub(now) < 12*time.Hour:
		return "at " + start.Local().Format("15:04")
	}
	return "on " + start.Local().Format("Mon 2006-01-02 at 15:04")
}

// Open says what of a job is open.
func Open(s job.State) string {
	var names []string
	for _, d := range s.Open() {
		names = append(names, d.Name)
	}
	what := words.Plural(s.Count(job.Waiting), "device") + " not started"
	if len(names) > 0 {
		what = words.Few(names) + " left open, " + what
	}
	return what
}

// Notice is what a person reads who looks at a job that was interrupted.
func Notice(state job.State) string {
	if state.Scheduled() {
		return fmt.Sprintf("No process is waiting to start this job, which was scheduled for "+
			"%s.\nStart it: catena resume %s. Or cancel it: catena stop %[2]s",
			state.Order.Start.Local().Format("2006-01-02 15:04"), state.ID)
	}
	return fmt.Sprintf("The process of this job ended: %s. The result of the step shown is "+
		"unknown.\nContinue: catena resume %s. Or abandon it: catena stop %[2]s --give-up",
		Open(state), state.ID)
}
