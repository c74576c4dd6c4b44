package report

import (
	"fmt"
	"html"
	"html/template"
	"slices"
	"strings"
	"time"

	"catena/internal/job"
	"catena/internal/match"
)

// Sizes of the pictures, in units of their own.
const (
	pictureWide = 1000
	nameWide    = 190 // for the names beside the lanes
	laneHigh    = 20
	axisHigh    = 26
	ticksAtMost = 6
)

// drawing is an SVG picture that is being drawn. All text in it is escaped.
type drawing struct{ strings.Builder }

func (d *drawing) put(format string, args ...any) {
	for i, a := range args {
		if s, is := a.(string); is {
			args[i] = html.EscapeString(s)
		}
	}
	fmt.Fprintf(d, format, args...)
}

// start starts a picture; what it shows is read out to who cannot see it.
func begin(class string, wide, high int, shows string) *drawing {
	d := &drawing{}
	d.put(`<svg xmlns="http://www.w3.org/2000/svg" class="%s" viewBox="0 0 %d %d" role="img" aria-label="%s">`, class, wide, high, shows)
	return d
}

func (d *drawing) end() template.HTML {
	d.WriteString("</svg>")
	return template.HTML(d.String()) // every text in it was escaped by put
}

// Timeline draws the job: a lane for each device that was worked on, in the order in which they
// started.
func (j Job) Timeline(zone *time.Location) template.HTML {
	var lanes []Device
	var from, to time.Time
	for _, d := range j.Devices {
		if len(d.Steps) == 0 {
			continue
		}
		lanes = append(lanes, d)
		for _, s := range d.Steps {
			if from.IsZero() || s.Began.Before(from) {
				from = s.Began
			}
			if s.Ended.After(to) {
				to = s.Ended
			}
		}
	}
	if len(lanes) == 0 || !to.After(from) {
		return ""
	}
	slices.SortStableFunc(lanes, func(a, b Device) int {
		return a.Steps[0].Began.Compare(
			b.Steps[0].Began)
	})
	whole := to.Sub(from)
	x := func(at time.Time) float64 {
		return nameWide + float64(pictureWide-nameWide-10)*float64(at.Sub(from))/float64(whole)
	}
	high := axisHigh + len(lanes)*laneHigh + 4
	d := begin("timeline", pictureWide, high, fmt.Sprintf("%d devices over %s, each with its steps",
		len(lanes), length(whole)))
	for n := 0; n <= ticksAtMost; n++ {
		at := from.Add(whole * time.Duration(n) / ticksAtMost)
		anchor := "middle"
		if n == ticksAtMost {
			anchor = "end"
		}
		d.put(`<line class="tick" x1="%.1f" y1="%d" x2="%.1f" y2="%d"/>`, x(at), axisHigh-6, x(at), high)
		d.put(`<text class="axis" x="%.1f" y="14" text-anchor="%s">%s</text>`, x(at), anchor,
			at.In(zone).Format("15:04:05"))
	}
	for n, lane := range lanes {
		d.lane(lane, axisHigh+n*laneHigh, to, x, zone)
	}
	return d.end()
}

// lane draws a device with its steps. x is where a time is; a step that did not end lasts to the
// end of the job.
func (d *drawing) lane(lane Device, y int, to time.Time, x func(time.Time) float64,
	zone *time.Location) {
	name := lane.Name
	if lane.Parent != "" {
		name = "└ " + name
	}
	d.put(`<text class="name" x="0" y="%d">%s</text>`, y+14, short(name, 24))
	if lane.Set != "" {
		d.put(`<text class="axis" x="%d" y="%d" text-anchor="end">%s</text>`, nameWide-8, y+14, "set "+
			short(lane.Set, 9))
	}
	for _, s := range lane.Steps {
		ended := s.Ended
		if ended.IsZero() {
			ended = to
		}
		class := "s-" + string(s.Step)
		if s.Direction == job.Back {
			class += " back"
		}
		if s.Asked != "" {
			class += " asked"
		}
		wide := max(1.5, x(ended)-x(s.Began))
		d.put(`<rect class="%s" x="%.1f" y="%d" width="%.1f" height="%d"><title>%s</title></rect>`,
			class, x(s.Began), y+3,
			wide, laneHigh-7, lane.Name+": "+said(s)+", "+s.Began.In(zone).Format("15:04:05")+", "+
				length(ended.Sub(s.Began)))
		if s.Direction == job.Back { // known without its colour, too
			d.put(`<line class="backline" x1="%.1f" y1="%d" x2="%.1f" y2="%d"/>`, x(s.Began),
				y+laneHigh/2-1, x(s.Began)+wide, y+laneHigh/2-1)
		}
	}
	last := lane.Steps[len(lane.Steps)-1].Ended
	if last.IsZero() {
		last = to
	}
	if lane.End != job.Done {
		at, anchor := x(last)+4, "start"
		if at > pictureWide-80 {
			at, anchor = x(lane.Steps[0].Began)-4, "end"
		}
		d.put(`<text class="end e-%s" x="%.1f" y="%d" text-anchor="%s">%s</text>`, string(lane.End), at,
			y+14, anchor, string(lane.End))
	}
}

// Sizes of the plot of plays.
const (
	plotHigh = 120
	plotBase = 96
)

// Plot draws how long the plays took, and where the job itself lies.
func (p Plays) Plot() template.HTML {
	if len(p.Counts) == 0 || p.To <= p.From {
		return ""
	}
	low, high := p.From, p.To
	if p.Took > 0 {
		low, high = min(low, p.Took), max(high, p.Took)
	}
	x := func(seconds float64) float64 { return 10 + (pictureWide-20)*(seconds-low)/(high-low) }
	clock := func(seconds float64) string {
		return length(time.Duration(seconds * float64(
			time.Second)))
	}
	d := begin("plot", pictureWide, plotHigh,
		fmt.Sprintf("Of %d plays half ended within %s, 95 %% within %s", p.Runs, clock(p.Half),
			clock(p.Most)))
	most, part := slices.Max(p.Counts), (p.To-p.From)/float64(len(p.Counts))
	for i, n := range p.Counts {
		from := p.From + part*float64(i)
		tall := float64(plotBase-26) * float64(n) / float64(max(1, most))
		d.put(`<rect class="s-sending" x="%.1f" y="%.1f" width="%.1f" height="%.1f"><title>%s</title></rect>`, x(from), plotBase-tall,
			max(1, x(from+part)-x(from)-2), tall, fmt.Sprintf("%d runs ended after %s to %s", n,
				clock(from), clock(from+part)))
	}
	mark := func(at float64, word string) {
		anchor := "middle"
		switch {
		case x(at) < 80:
			anchor = "start"
		case x(at) > pictureWide-80:
			anchor = "end"
		}
		d.put(`<text class="axis" x="%.1f" y="%d" text-anchor="%s">%s</text>`, x(at), plotHigh-8,
			anchor, word+clock(at))
	}
	mark(p.From, "")
	mark(p.To, "")
	if p.Took > 0 {
		d.put(`<line class="took" x1="%.1f" y1="4" x2="%.1f" y2="%d"/>`, x(p.Took), x(p.Took),
			plotBase+4)
		anchor, at := "start", x(p.Took)+5
		if at > pictureWide-160 {
			anchor, at = "end", at-10
		}
		d.put(`<text class="name" x="%.1f" y="14" text-anchor="%s">%s</text>`, at, anchor,
			"the job: "+clock(p.Took))
	}
	return d.end()
}

// said is a step in words.
func said(s job.Span) string {
	text := string(s.Step)
	if s.Step != job.Checking {
		text += " " + s.To
	}
	if s.Direction == job.Back {
		text += ", during the rollback"
	}
	if s.Reason != "" {
		text += ": " + s.Reason
	}
	return text
}

// short shortens a text to at most n signs, with a mark where something is left out.
func short(text string, most int) string {
	r := []rune(text)
	if len(r) <= most {
		return text
	}
	return string(r[:most-1]) + "…"
}

// Placed is a node of the tree at its place.
type Placed struct {
	Node
	Depth int
	Last  bool // of its siblings
}

// Laid is the tree from its roots down, each node before those behind it. What says that it is
// behind itself is told as a root.
func Laid(all []Node) (out []Placed) {
	behind := map[string][]Node{}
	known := map[string]bool{}
	for _, n := range all {
		known[n.ID] = true
	}
	for _, n := range all {
		if !known[n.Through] {
			n.Through = ""
		}
		behind[n.Through] = append(behind[n.Through], n)
	}
	told := map[string]bool{}
	var lay func(nodes []Node, depth int)
	lay = func(nodes []Node, depth int) {
		for i, n := range nodes {
			if told[n.ID] {
				continue
			}
			told[n.ID] = true
			out = append(out, Placed{Node: n, Depth: depth, Last: i == len(nodes)-1})
			lay(behind[n.ID], depth+1)
		}
	}
	lay(behind[""], 0)
	for _, n := range all {
		if !told[n.ID] {
			lay([]Node{n}, 0)
		}
	}
	return out
}

// Sizes of the tree.
const (
	nodeHigh = 22
	stepWide = 26
)

// Tree draws what hangs on what.
func Tree(all []Node) template.HTML {
	placed := Laid(all)
	high := len(placed)*nodeHigh + 8
	d := begin("tree", pictureWide, high,
		fmt.Sprintf("%d devices, each below its uplink", len(placed)))
	row := map[string]int{}
	for n, p := range placed {
		row[p.ID] = n
		x, y := 10+p.Depth*stepWide, n*nodeHigh+nodeHigh/2+4
		if up, is := row[p.Through]; is && p.Through != "" && p.Depth > 0 {
			d.put(`<path class="edge" d="M%d %dV%dH%d"/>`, x-stepWide+4, up*nodeHigh+nodeHigh/2+10, y, x-4)
		}
		visit := ""
		if match.Status(p.Status).NeedsPerson() {
			visit = " visit"
		}
		d.put(`<rect class="dot%s" x="%d" y="%d" width="9" height="9" rx="2"/>`, visit, x-1, y-5)
		d.put(`<text class="name" x="%d" y="%d">%s</text>`, x+14, y+4, short(p.Name, 40))
		d.put(`<text class="axis" x="%d" y="%d">%s</text>`, 420, y+4, short(p.Model, 22))
		d.put(`<text class="axis" x="%d" y="%d">%s</text>`, 610, y+4, short(p.Version, 22))
		d.put(`<text class="axis%s" x="%d" y="%d">%s</text>`, visit, 800, y+4, p.Status)
	}
	return d.end()
}

// SVG is the same as a separate file, with its colours, light and dark.
func SVG(all []Node) string {
	picture := string(Tree(all))
	tag := strings.Index(picture, ">") + 1
	return picture[:tag] + "<style>" + sheet + "svg{background:var(--page)}</style>" + picture[tag:] +
		"\n"
}

// DOT is the same for programs that draw graphs.
func DOT(site string, all []Node) string {
	var b strings.Builder
	quote := func(s string) string {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ").Replace(s) + `"`
	}
	fmt.Fprintf(&b, "digraph %s {\n  rankdir=LR;\n  node [shape=box];\n", quote(site))
	for _, p := range Laid(all) {
		fmt.Fprintf(&b, "  %s [label=%s];\n", quote(p.ID), quote(p.Name+" · "+p.Model+" · "+p.Version+
			" · "+p.Status))
		if p.Through != "" {
			fmt.Fprintf(&b, "  %s -> %s;\n", quote(p.Through), quote(p.ID))
		}
	}
	return b.String() + "}\n"
}

// length is a duration as people say it: 0:42, 12:05, 1:02:03.
func length(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}
