package jobview

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/words"
)

// How often the live view looks at the ledger, and works out what waits and when the job ends.
const (
	liveEvery    = 250 * time.Millisecond
	reasonsEvery = time.Second
	outlookEvery = 10 * time.Second
)

// Jobs is what the live view reads of the jobs of a site, and what an operator asks of them.
type Jobs interface {
	Name() string // of the site
	JobState(id string) (job.State, error)
	FollowJob(id string) *job.Follower
	Timeline(id string) (map[string][]job.Span, error)
	Stop(id string) error
	Answer(id, device string, skip bool, because string) error
}

// live is the view of a job that continues. Its state comes from the ledger alone.
type live struct {
	w      Jobs
	id     string
	follow *job.Follower
	now    func() time.Time
	// interrupt is what Ctrl-C does; nil: the view is left, and the job continues elsewhere.
	interrupt func() string
	theme     view.Theme

	state    job.State
	waits    map[string]*order.Reason
	waitsAt  time.Time
	outlook  string
	outAt    time.Time
	err      error
	width    int
	height   int
	sorted   int // a place in sorts
	selected string
	open     string // the ID of a device
	scroll   int
	showDone bool
	message  string
	mode     liveMode
	input    textinput.Model
	left     bool // a person left the view
}

// liveMode is what keys mean now.
type liveMode int

const (
	looking   liveMode = iota
	filtering          // a text to filter by is typed
	answering          // y: it was done, s: it is skipped
	skipping           // why it is skipped is typed
	stopping           // y: no more start
)

// sorts are the orders of the rows.
var sorts = []string{"attention first", "by name", "by step", "slowest first"}

type (
	tickMsg    struct{}
	outlookMsg string
	messageMsg string // of the program, such as that the ledger cannot be written
)

func (l *live) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, l.tick(),
		l.lookOut())
}

func (l *live) tick() tea.Cmd {
	return tea.Tick(liveEvery, func(time.Time) tea.Msg { return tickMsg{} })
}

// lookOut works out when the job is expected to end: that takes a whole reading of it.
func (l *live) lookOut() tea.Cmd {
	return func() tea.Msg {
		state, err := l.w.JobState(l.id)
		if err != nil {
			return outlookMsg("")
		}
		return outlookMsg(strings.TrimPrefix(outlook(state, l.now()), " · "))
	}
}

// look reads what is new.
func (l *live) look() {
	state, err := l.follow.Look()
	if l.err = err; err != nil {
		l.message = err.Error()
		return
	}
	l.state = state
	if now := l.now(); now.Sub(l.waitsAt) >= reasonsEvery {
		l.waits, l.waitsAt = state.Waiting(now), now
	}
}

// over tells whether nothing more will happen.
func (l *live) over() bool { return l.state.ID != "" && !l.state.Alive }

func (l *live) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		l.width, l.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		l.theme.Dark = msg.IsDark()
	case tea.ColorProfileMsg:
		l.theme.Few, l.theme.Plain = msg.Profile <= colorprofile.ANSI, l.theme.Plain ||
			msg.Profile <= colorprofile.ASCII
	case messageMsg:
		l.message = string(msg)
	case outlookMsg:
		l.outlook, l.outAt = string(msg), l.now()
	case tickMsg:
		l.look()
		if l.over() {
			return l, tea.Quit
		}
		if l.now().Sub(l.outAt) >= outlookEvery {
			l.outAt = l.now()
			return l, tea.Batch(l.tick(), l.lookOut())
		}
		return l, l.tick()
	case tea.KeyPressMsg:
		return l, l.key(msg)
	}
	return l, nil
}

// key does what a key means.
func (l *live) key(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		if l.interrupt == nil {
			l.left = true
			return tea.Quit
		}
		l.mode, l.message = looking, l.interrupt()
		return nil
	}
	switch l.mode {
	case filtering, skipping:
		return l.typed(k)
	case answering:
		switch k.String() {
		case "y":
			l.answer(false, "")
		case "s":
			l.mode = skipping
			return l.promptFor("why is it skipped? ")
		default:
			l.mode = looking
		}
	case stopping:
		l.mode = looking
		if k.String() == "y" {
			l.message = "Stopping: devices in progress will finish; no more will start."
			if err := l.w.Stop(l.id); err != nil {
				l.message = err.Error()
			}
		}
	default:
		return l.command(k.String())
	}
	return nil
}

// promptFor starts to take a text.
func (l *live) promptFor(prompt string) tea.Cmd {
	l.input = textinput.New()
	l.input.Prompt, l.input.CharLimit = prompt, 200
	return l.input.Focus()
}

// typed takes a sign of a text, or its end.
func (l *live) typed(k tea.KeyPressMsg) (cmd tea.Cmd) {
	switch k.String() {
	case "esc":
		if l.mode == filtering {
			l.input.SetValue("")
		}
		l.mode = looking
	case "enter":
		if l.mode == skipping && strings.TrimSpace(l.input.Value()) != "" {
			l.answer(true, strings.TrimSpace(l.input.Value()))
			l.input.SetValue("")
		}
		l.mode = looking
	default:
		l.input, cmd = l.input.Update(k)
	}
	return cmd
}

// command is what a key does while a person looks.
func (l *live) command(key string) tea.Cmd {
	rows := slices.DeleteFunc(l.rows(), func(r view.LiveRow) bool { return r.Done && !l.showDone })
	at := slices.IndexFunc(rows, func(r view.LiveRow) bool { return r.ID == l.selected })
	pick := func(to int) {
		if len(rows) > 0 {
			l.selected = rows[max(0, min(len(rows)-1, to))].ID
		}
	}
	switch key {
	case "q":
		l.left = true
		return tea.Quit
	case "up", "k":
		if l.scroll = max(0, l.scroll-1); l.open == "" {
			pick(max(at, 0) - 1)
		}
	case "down", "j":
		if l.scroll++; l.open == "" {
			pick(at + 1)
		}
	case "pgup":
		pick(max(at, 0) - max(1, l.height/2))
	case "pgdown":
		pick(at + max(1, l.height/2))
	case "home":
		pick(0)
	case "end":
		pick(len(rows) - 1)
	case "esc":
		l.open, l.message = "", ""
	case "enter":
		if at < 0 {
			pick(0)
		}
		l.open, l.scroll = map[bool]string{true: l.selected}[l.open == ""], 0
	case "/":
		l.mode, l.open = filtering, ""
		return l.promptFor("only: ")
	case "o":
		l.sorted = (l.sorted + 1) % len(sorts)
		l.message = "Sorted: " + sorts[l.sorted] + "."
	case "d":
		l.showDone = !l.showDone
	case "x":
		l.mode = stopping
	case "a":
		if d, asks := l.asking(); asks {
			l.selected, l.mode = d.ID, answering
		} else {
			l.message = "No device waits for an operator."
		}
	}
	return nil
}

// asking is the device that asks a person: the selected one, or the first that does.
func (l *live) asking() (found job.DeviceState, asks bool) {
	for _, d := range l.state.Devices {
		if d.Asks != "" && (!asks || d.ID == l.selected) {
			found, asks = d, true
		}
	}
	return found, asks
}

func (l *live) answer(skip bool, because string) {
	l.mode = looking
	if err := l.w.Answer(l.id, l.selected, skip, because); err != nil {
		l.message = err.Error()
		return
	}
	l.message = "The job continues with it."
}

// filter is what the rows are filtered by.
func (l *live) filter() string {
	if l.mode == skipping {
		return ""
	}
	return strings.ToLower(strings.TrimSpace(l.input.Value()))
}

// attention tells whether a device needs a person's eyes.
func attention(d job.DeviceState) bool {
	return d.Asks != "" || d.Step == job.Stranded || d.Step == job.Failed || d.Step == job.Returned ||
		d.Direction == job.Back && !d.Step.End()
}

// rank is the place of a device among others: what needs attention, what is at work, what waits,
// what is over.
func rank(d job.DeviceState) int {
	switch {
	case attention(d):
		return slices.Index([]job.Step{job.Stranded, "", job.Failed, job.Returned}, d.Step)
	case d.Step == job.Waiting:
		return 6
	case d.Step.End():
		return 7
	}
	return 5
}

// rows are the devices as they are shown.
func (l *live) rows() (out []view.LiveRow) {
	all := slices.Clone(l.state.Devices)
	slices.SortStableFunc(all, func(x, y job.DeviceState) int {
		switch l.sorted {
		case 1:
			return strings.Compare(x.Name, y.Name)
		case 2:
			return cmp.Compare(slices.Index(FrameOrder, x.Step), slices.Index(FrameOrder, y.Step))
		case 3:
			return cmp.Compare(l.age(y), l.age(x))
		}
		return cmp.Compare(rank(x), rank(y))
	})
	of := map[string]order.Device{}
	for _, d := range l.state.Order.Devices {
		of[d.ID] = d
	}
	for _, d := range all {
		r := l.row(d, of[d.ID], of[of[d.ID].Parent].Name)
		if f := l.filter(); f != "" && !strings.Contains(strings.ToLower(r.Name+" "+r.Model+" "+r.Step+
			" "+r.What), f) {
			continue
		}
		out = append(out, r)
	}
	return out
}

// age is for how long a device has been at its step.
func (l *live) age(d job.DeviceState) time.Duration {
	if d.Step.End() || d.Step == job.Waiting {
		return -1
	}
	return l.now().Sub(d.Since)
}

func (l *live) row(d job.DeviceState, o order.Device, via string) view.LiveRow {
	now := l.now()
	r := view.LiveRow{ID: d.ID, Name: d.Name, Parent: o.Parent, Via: via, Model: o.Model,
		Path: d.From + " → " + d.To,
		Step: string(d.Step), Tone: StepTone(d.Step), Percent: -2, Attention: attention(d),
		What: d.Reason,
		Done: d.Step == job.Done || d.Step == job.Parked || d.Step == job.Skipped}
	if d.Direction == job.Back && !d.Step.End() {
		r.Step, r.Tone = string(d.Step)+" ←", view.Warn
	}
	working := !d.Step.End() && d.Step != job.Waiting
	if working {
		r.Percent = d.Percent()
	}
	if r.Percent >= 0 && d.Rate > 0 && now.Sub(d.Since) > rateAfter {
		r.Rate, r.Remaining = words.Bytes(d.Rate)+
			"/s", words.Clock(time.Duration(d.Left*float64(time.Second)))
	}
	switch waits := l.waits[d.ID]; {
	case r.What != "":
	case d.Asks != "":
		r.Step, r.Tone, r.Percent, r.What = "asks you", view.Warn, -2, d.Asks+" (a: answer)"
	case d.Step == job.Waiting && waits != nil:
		r.What = waits.Error()
	case d.Step == job.Done:
		r.What = "proven on " + d.Version
	case d.Step == job.Sending && d.Total > 0 && d.Done >= d.Total:
		r.What, r.Remaining = "all sent, waiting for its answer", ""
	case working:
		r.What = sight(d) + "for " + words.Clock(now.Sub(d.Since))
	}
	for _, set := range l.state.Order.Rules.Lockstep {
		if slices.Contains(set.Of, d.ID) {
			r.What = strings.TrimSpace(r.What + " · set " + set.Name)
		}
	}
	return r
}

// parts are how many devices are in which step.
func (l *live) parts() (out []view.Part) {
	for _, step := range []job.Step{job.Stranded, job.Failed, job.Returned, job.Done, job.Parked,
		job.Skipped, job.Checking,
		job.Sending, job.Writing, job.Restarting, job.Proving, job.Waiting} {
		if n := l.state.Count(step); n > 0 {
			tone := StepTone(step)
			if step == job.Done {
				tone = view.Good
			}
			out = append(out, view.Part{N: n, Word: string(step), Tone: tone})
		}
	}
	return out
}

// percent is how far the whole is: every step of a device counts alike.
func (l *live) percent() int {
	steps := []job.Step{job.Waiting, job.Checking, job.Sending, job.Writing, job.Restarting,
		job.Proving}
	sum := 0
	for _, d := range l.state.Devices {
		if d.Step.End() {
			sum += 100
			continue
		}
		sum += 100 * max(0, slices.Index(steps, d.Step)) / len(steps)
	}
	return sum / max(1, len(l.state.Devices))
}

// doneText states what became of the devices that need nothing more: 3 done, 1 skipped.
func (l *live) doneText() string {
	var parts []string
	for _, step := range []job.Step{job.Done, job.Parked, job.Skipped} {
		if n := l.state.Count(step); n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, step))
		}
	}
	return strings.Join(parts, ", ")
}

// screen is all that is shown.
func (l *live) screen() view.Live {
	s := l.state
	called := s.ID
	if s.Name != "" && s.Name != s.ID {
		called = s.Name + ", " + s.ID
	}
	out := view.Live{Title: fmt.Sprintf("%s · %s %s", l.w.Name(), s.Purpose, called),
		Clock: words.Clock(l.now().Sub(s.Started)), Percent: l.percent(), Parts: l.parts(),
		Message: l.message,
		Rows:    l.rows(), Selected: l.selected, ShowDone: l.showDone, DoneText: l.doneText(),
		Scroll: l.scroll,
		Keys:   "q leave · enter open · a answer · x stop · / only · o sort · d done · ↑↓"}
	var rate float64
	for _, d := range s.Devices {
		if d.Step == job.Sending && d.Rate > 0 && d.Done < d.Total {
			rate += d.Rate
		}
		if d.Step == job.Writing || d.Step == job.Restarting {
			out.Writing = append(out.Writing, d.Name)
		}
	}
	if rate > 0 {
		out.Rate = words.Bytes(rate) + "/s"
	}
	out.Outlook = l.outlook
	if closes := s.Order.Closes; !closes.IsZero() {
		out.Outlook = strings.TrimPrefix(fmt.Sprintf("%s · window closes %s, in %s", out.Outlook,
			closes.Local().Format("15:04"),
			words.Clock(closes.Sub(l.now()))), " · ")
	}
	if s.Stopped {
		out.Outlook = strings.TrimPrefix(out.Outlook+" · stopping: no more devices will start", " · ")
	}
	switch l.mode {
	case answering:
		d, _ := l.asking()
		out.Ask = d.Name + " asks: " + d.Asks + "   y: it was done   s: skip it   esc: later"
	case stopping:
		out.Ask = "Stop the job? Devices in progress will finish; no more will start.   y: yes   any " +
			"other key: no"
	case filtering, skipping:
		out.Ask = l.input.Prompt + l.input.Value() + "▏  enter: so   esc: not"
	default:
		if f := l.filter(); f != "" {
			out.Message = strings.TrimSpace("Only: " + f + ". " + out.Message)
		}
	}
	if l.open != "" {
		out.DetailOf, out.Detail = l.detail()
		out.Keys = "q leave · esc back · a answer · x stop · ↑↓ scroll"
	}
	return out
}

// detail is one device with its steps, their times and what was said.
func (l *live) detail() (title string, lines []string) {
	i := slices.IndexFunc(l.state.Devices, func(d job.DeviceState) bool { return d.ID == l.open })
	if i < 0 {
		return "no such device", nil
	}
	d, o := l.state.Devices[i], l.state.Order.Devices[i]
	title = strings.TrimSpace(fmt.Sprintf("%s · %s · %s → %s · rollback: %s", d.Name, o.Model, d.From,
		d.To, o.Rollback()))
	spans, err := l.w.Timeline(l.id)
	if err != nil {
		return title, []string{err.Error()}
	}
	for _, s := range spans[d.ID] {
		took := "…"
		if !s.Ended.IsZero() {
			took = words.Clock(s.Ended.Sub(s.Began))
		}
		line := fmt.Sprintf("%s  %-10s %s  %s", s.Began.Local().Format("15:04:05"), s.Step, s.To, took)
		if s.Direction == job.Back {
			line += "  during the rollback"
		}
		lines = append(lines, line)
		if s.Asked != "" {
			lines = append(lines, "    asked: “"+s.Asked+"” "+s.Answer)
		}
		if s.Reason != "" {
			lines = append(lines, "    it failed: “"+s.Reason+"”")
		}
	}
	if d.Shows != "" {
		lines = append(lines, "at the device: "+d.Shows)
	}
	if w := l.waits[d.ID]; w != nil && d.Step == job.Waiting {
		lines = append(lines, w.Error())
	}
	if d.Step.End() {
		lines = append(lines, strings.TrimSpace(string(d.Step)+", it runs "+d.Version+". "+d.Reason))
		if next := advice.Next(d); next != "" && !l.state.Order.Rehearsal {
			lines = append(lines, "What to do: "+next)
		}
	}
	return title, lines
}

func (l *live) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	v.WindowTitle = "Catena " + l.id
	if l.width > 0 && l.state.ID != "" {
		v.Content = l.screen().Draw(l.width, l.height, l.theme)
	}
	return v
}

// Live shows a job in a terminal.
type Live struct {
	Jobs Jobs
	ID   string // of the job
	Now  func() time.Time
	// Interrupt is what Ctrl-C does; it returns what to say. nil: it leaves the view.
	Interrupt func() string
	Theme     view.Theme
	Out       io.Writer
	// Notices gets a function by which the program says something in the view, and nil when the view
	// has ended.
	Notices func(say func(string))
}

// Show shows the job until it is over, ctx ends, or a person leaves the view.
func (s Live) Show(ctx context.Context) (left bool, err error) {
	l := &live{w: s.Jobs, id: s.ID, follow: s.Jobs.FollowJob(s.ID), now: s.Now, interrupt: s.Interrupt,
		theme: s.Theme}
	l.look()
	if l.err != nil || l.over() {
		return false, l.err
	}
	p := tea.NewProgram(l, tea.WithContext(ctx), tea.WithOutput(s.Out), tea.WithoutSignalHandler(),
		tea.WithFPS(20))
	s.Notices(func(text string) { p.Send(messageMsg(text)) })
	defer s.Notices(nil)
	if _, err := p.Run(); err != nil && ctx.Err() == nil {
		return false, err
	}
	return l.left, nil
}
