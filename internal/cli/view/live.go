package view

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	clean "catena/internal/text"
)

// Theme is how a live view is painted: for a light terminal or a dark one, and with which signs.
type Theme struct {
	Dark  bool
	Few   bool // it has sixteen colours, of its owner's own choice
	Plain bool // no colours
	ASCII bool // the terminal cannot show more
}

// toneColors are legible on their ground: the first on white, the second on black. fewColors are
// those of a terminal that has only sixteen; a yellow is none on white.
var (
	toneColors = map[Tone][2]string{Quiet: {"#5f6a73", "#8d99a3"}, Good: {"#1b6e3c", "#79d19a"},
		Busy: {"#1f5f9e", "#6db3f2"},
		Warn: {"#8a5a00", "#f0b95b"}, Bad: {"#b3261e", "#ff8a80"}}
	fewColors = map[Tone][2]string{Good: {"", "10"}, Busy: {"4", "14"}, Warn: {"5", "11"},
		Bad: {"1", "9"}}
)

// paint colours a text that is harmless already.
func (t Theme) paint(tone Tone, what string) string {
	pair, is := toneColors[tone]
	if !is || what == "" {
		return what
	}
	style := lipgloss.NewStyle()
	if t.Few {
		pair = fewColors[tone]
	}
	if tone == Quiet && (t.Few || t.Plain) {
		style = style.Faint(true)
	} else if !t.Plain && pair != [2]string{} && !(t.Few && !t.Dark && pair[0] == "") {
		style = style.Foreground(lipgloss.LightDark(t.Dark)(lipgloss.Color(pair[0]),
			lipgloss.Color(pair[1])))
	}
	if tone == Bad {
		style = style.Bold(true)
	}
	return style.Render(what)
}

// sign is a sign, or what stands for it where the terminal has none.
func (t Theme) sign(s, ascii string) string {
	if t.ASCII {
		return ascii
	}
	return s
}

// text makes a foreign text harmless, and its signs those that the terminal has.
func (t Theme) text(s string) string {
	return t.spaced(strings.Join(strings.Fields(clean.Harmless(s)), " "))
}

// spaced is text that keeps its spaces.
func (t Theme) spaced(s string) string {
	s = clean.Harmless(strings.ReplaceAll(s, "\n", " "))
	if !t.ASCII {
		return s
	}
	s = strings.NewReplacer("→", "->", "·", "-", "…", "...", "└", "`-", "×", "x", "↑↓", "up/down", "←",
		"<-", "“", "\"", "”", "\"", "▏", "_").Replace(s)
	return strings.Map(func(r rune) rune {
		if r > '~' {
			return '?'
		}
		return r
	}, s)
}

// fit cuts a text that is too wide, with a mark, and fills up one that is too narrow.
func (t Theme) fit(s string, width int) string {
	if width <= 0 {
		return ""
	}
	s = ansi.Truncate(s, width, t.sign("…", "~"))
	return s + strings.Repeat(" ", max(0, width-ansi.StringWidth(s)))
}

func (t Theme) bar(percent, width int) string {
	full := max(0, min(width, percent*width/100))
	if percent < 0 {
		return strings.Repeat(t.sign("·", "."), width)
	}
	return strings.Repeat(t.sign("━", "#"), full) + strings.Repeat(t.sign("·", "."), width-full)
}

// LiveRow is one device of a live view.
type LiveRow struct {
	ID              string
	Name            string
	Parent          string // ID of the device that tells of it; empty: it is not a child
	Via             string // and how that is called; empty: it is not worked on
	Model           string
	Path            string // from → to
	Step            string
	Tone            Tone
	Percent         int // -1: not known; -2: no bar
	Rate, Remaining string
	What            string
	Attention       bool // it is never cut off the screen
	Done            bool // it is summed up
	under           bool // its parent, or another child of it, stands above it
}

// Part is a number of devices that are alike.
type Part struct {
	N    int
	Word string
	Tone Tone
}

// Live is all that a live view shows.
type Live struct {
	Title, Clock string
	Percent      int // of the whole
	Parts        []Part
	Rate         string
	Outlook      string   // when it ends, as expected; how long the window is open
	Writing      []string // the names of those that are being written
	Message      string   // of this program
	Ask          string   // what a key answers now; it takes the place of Message
	Rows         []LiveRow
	Selected     string   // an ID
	Detail       []string // in the place of the rows, under DetailOf
	DetailOf     string
	Filter       string // what is filtered by, in words
	ShowDone     bool
	DoneText     string // what the devices are that are summed up: 3 done, 1 skipped
	Keys         string
	Scroll       int // of Detail
}

// What each column is at least as wide as the terminal for.
const (
	pathFrom, partsFrom, rateFrom, modelFrom, longPathFrom = 94, 110, 114, 130, 160
	stepWidth, liveBar                                     = 12, 10
)

// Draw is the screen: exactly as many lines as the terminal has, none wider.
func (l Live) Draw(width, height int, t Theme) string {
	width, height = max(width, 20), max(height, 6)
	lines := l.head(width, t)
	foot := []string{t.paint(Quiet, t.fit(t.text(l.Keys), width))}
	room := height - len(lines) - len(foot)
	if l.DetailOf != "" {
		lines = append(lines, l.detail(width, room, t)...)
	} else {
		lines = append(lines, l.rows(width, room, t)...)
	}
	for len(lines) < height-len(foot) {
		lines = append(lines, "")
	}
	return strings.Join(append(lines[:height-len(foot)], foot...), "\n")
}

// head is the whole: who, how far, how many, until when; what must not lose power; what this
// program says.
func (l Live) head(width int, t Theme) []string {
	clock := t.text(l.Clock)
	title := t.fit(t.text(l.Title), width-ansi.StringWidth(clock)-1) + " " + clock
	var parts []string
	all := l.Parts
	if width < partsFrom {
		all = together(all)
	}
	for _, p := range all {
		parts = append(parts, t.paint(p.Tone, fmt.Sprintf("%d %s", p.N, t.text(p.Word))))
	}
	barWide := max(10, min(30, width/5))
	whole := fmt.Sprintf("%s %3d%%  %s", t.paint(Busy, t.bar(l.Percent, barWide)), l.Percent,
		strings.Join(parts, t.sign(" · ", ", ")))
	if l.Rate != "" {
		whole += t.sign(" · ", ", ") + t.text(l.Rate)
	}
	lines := []string{lipgloss.NewStyle().Bold(true).Render(title), t.fit(whole, width), t.paint(Quiet,
		t.fit(t.text(l.Outlook), width))}
	power := t.paint(Quiet, t.fit("Nothing is being written or restarting now.", width))
	if len(l.Writing) > 0 {
		power = t.paint(Warn, t.fit(l.power(width, t), width))
	}
	message := t.fit(t.text(l.Message), width)
	if l.Ask != "" {
		message = t.paint(Busy, t.fit(t.text(l.Ask), width))
	} else if l.Message != "" {
		message = t.paint(Warn, message)
	}
	return append(lines, power, message)
}

// together brings those that are at work into one part.
func together(all []Part) (out []Part) {
	at := -1
	for _, p := range all {
		switch {
		case p.Tone != Busy:
			out = append(out, p)
		case at < 0:
			at, out = len(out), append(out, Part{p.N, "in progress", Busy})
		default:
			out[at].N += p.N
		}
	}
	return out
}

// power names what must not lose power or network now: as many as have room.
func (l Live) power(width int, t Theme) string {
	const lead = "! Keep power and network on: "
	for n := len(l.Writing); n > 0; n-- {
		text := lead + strings.Join(l.Writing[:n], ", ")
		if n < len(l.Writing) {
			text += fmt.Sprintf(" and %d more", len(l.Writing)-n)
		}
		if text = t.text(text); ansi.StringWidth(text) <= width || n == 1 {
			return text
		}
	}
	return lead
}

// rows are the devices: what needs attention on top and never cut, what is done summed up.
func (l Live) rows(width, room int, t Theme) []string {
	var shown []LiveRow
	var done []string
	over := LiveRow{}
	for _, r := range l.Rows {
		if r.Done && !l.ShowDone {
			done = append(done, r.Name)
			continue
		}
		r.under = r.Parent != "" && (r.Via == "" || over.ID == r.Parent || over.under &&
			over.Parent == r.Parent)
		over = r
		shown = append(shown, r)
	}
	name := 8
	for _, r := range shown {
		name = max(name, ansi.StringWidth(t.text(r.label())))
	}
	name = min(name, max(12, width/4))
	head, _ := l.line(LiveRow{Name: "NAME", Model: "MODEL", Path: "FROM → TO", Step: "STEP",
		Percent: -3,
		Rate:    "RATE", Remaining: "LEFT", What: "DETAILS"}, width-2, name, t)
	out := []string{t.paint(Quiet, t.fit("  "+head, width))}
	if len(done) > 0 {
		room--
	}
	room = max(2, room-1) // of a terminal without room the end is cut off
	pinned := 0
	for pinned < len(shown) && shown[pinned].Attention {
		lines := l.whole(shown[pinned], width, name, t)
		if len(lines) > room-3 {
			break
		}
		out, room, pinned = append(out, lines...), room-len(lines), pinned+1
	}
	first, cut := l.window(shown[pinned:], room)
	first += pinned
	last := min(len(shown), first+room)
	if cut {
		last--
	}
	for _, r := range shown[first:max(first, last)] {
		out = append(out, l.marked(r, width, name, t))
	}
	if cut {
		out = append(out, t.paint(Quiet, t.fit(fmt.Sprintf("  %d above, %d below", first-pinned,
			len(shown)-last), width)))
	}
	if len(shown) == 0 && len(l.Rows) > 0 && len(done) == 0 {
		out = append(out, t.paint(Quiet, "  no device of that name"))
	}
	if len(done) > 0 {
		text := fmt.Sprintf("%s %s: %s", t.sign("✓", "+"), l.DoneText, strings.Join(done, ", "))
		out = append(out, t.paint(Good, t.fit(t.text(text), width)))
	}
	return out
}

// marked is a row on one line, with its mark before it.
func (l Live) marked(r LiveRow, width, name int, t Theme) string {
	line, _ := l.line(r, width-2, name, t)
	mark, line := "  ", t.fit(line, width-2)
	if r.ID == l.Selected {
		mark = t.sign("▸ ", "> ")
		line = lipgloss.NewStyle().Bold(true).Render(line)
	} else if r.Attention {
		mark = "! "
	}
	return mark + line
}

// mostWhole is on how many lines more a row says what happens.
const mostWhole = 3

// whole is a row whose last column is never cut: where that has no room, it stands on lines of its
// own.
func (l Live) whole(r LiveRow, width, name int, t Theme) []string {
	what := t.text(r.What)
	if _, used := l.line(r, width-2, name, t); ansi.StringWidth(what) <= width-2-used {
		return []string{l.marked(r, width, name, t)}
	}
	r.What = ""
	out := []string{l.marked(r, width, name, t)}
	lines := strings.Split(ansi.Wrap(what, max(10, width-6), ""), "\n")
	if len(lines) > mostWhole {
		lines[mostWhole-1] = strings.Join(lines[mostWhole-1:], " ")
		lines = lines[:mostWhole]
	}
	for _, line := range lines {
		out = append(out, "    "+t.fit(line, width-4))
	}
	return out
}

// window is the first row that is shown; cut says that not all are. The selected one is among them.
func (l Live) window(rows []LiveRow, room int) (first int, cut bool) {
	if len(rows) <= room {
		return 0, false
	}
	at := 0
	for i, r := range rows {
		if r.ID == l.Selected {
			at = i
		}
	}
	return max(0, min(at-room+2, len(rows)-room+1)), true
}

// label is the name; a child's says whose it is where that does not stand above it.
func (r LiveRow) label() string {
	switch {
	case r.under:
		return "└ " + r.Name
	case r.Parent != "":
		return r.Name + " via " + r.Via
	}
	return r.Name
}

// line is one device on one line: columns by importance. used is how wide they are before the last,
// what happens.
func (l Live) line(r LiveRow, width, name int, t Theme) (text string, used int) {
	var b strings.Builder
	put := func(text string, wide int, tone Tone) {
		b.WriteString(t.paint(tone, t.fit(t.text(text), wide)) + " ")
		used += wide + 1
	}
	put(r.label(), name, Plain)
	if width >= modelFrom {
		put(r.Model, 9, Quiet)
	}
	switch {
	case width >= longPathFrom:
		put(r.Path, 30, Plain)
	case width >= pathFrom:
		put(r.Path, 18, Plain)
	}
	put(r.Step, stepWidth, r.Tone)
	bar, percent := "", ""
	switch {
	case r.Percent >= 0:
		bar, percent = t.bar(r.Percent, liveBar), fmt.Sprintf("%3d%%", r.Percent)
	case r.Percent == -1:
		bar = t.bar(-1, liveBar)
	}
	b.WriteString(t.paint(r.Tone, bar+strings.Repeat(" ", liveBar-ansi.StringWidth(bar))) + " ")
	used += liveBar + 1
	put(percent, 4, Plain)
	if width >= rateFrom {
		fmt.Fprintf(&b, "%*s ", 10, t.text(r.Rate))
		fmt.Fprintf(&b, "%*s ", 6, t.text(r.Remaining))
		used += 18
	}
	tone := Quiet
	if r.Attention {
		tone = Plain
	}
	b.WriteString(t.paint(tone, t.fit(t.text(r.What), width-used)))
	return b.String(), used
}

// detail is one device, opened.
func (l Live) detail(width, room int, t Theme) []string {
	out := []string{lipgloss.NewStyle().Bold(true).Render(t.fit(t.text(l.DetailOf), width))}
	var lines []string
	for _, d := range l.Detail {
		lines = append(lines, strings.Split(ansi.Wrap(t.spaced(d), max(10, width-4), ""), "\n")...)
	}
	from := max(0, min(l.Scroll, len(lines)-(room-1)))
	for _, line := range lines[from:min(len(lines), from+max(1, room-1))] {
		out = append(out, "  "+t.fit(line, width-2))
	}
	return out
}
