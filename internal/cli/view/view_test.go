package view_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"catena/internal/cli/view"
	"catena/internal/sheet"
)

func TestMarkdown(t *testing.T) {
	got := view.Markdown("# Release 3.2.1\n\nThe *presets* are kept,\nand `zoom` is fixed. See "+
		"[the page](https://wexcombe.example/n).\n\n"+
		"1. first\n2. second\n   * inner\n\n> mind the gate\n\n    code\n\n<script>alert(1)</script>\n"+
		"\n\x1b[2Jend ![x](y)\n", view.Style{})
	assert.Equal(t, "Release 3.2.1\n\nThe presets are kept,\nand zoom is fixed. See the page "+
		"<https://wexcombe.example/n>.\n\n"+
		"1. first\n2. second\n   • inner\n\n│ mind the gate\n\n    code\n\n[2Jend\n", string(got))
}

func TestTableKeepsToItsWidth(t *testing.T) {
	table := view.Table{Columns: []string{"name", "reason"}}
	table.Add(view.Cell{Text: "cam-11"},
		view.Cell{Text: strings.Repeat("the newest recommended ", 8), Tone: view.Bad})
	for _, oneLine := range []bool{false, true} {
		var b strings.Builder
		table.OneLine = oneLine
		table.Draw(&b, view.Style{Width: 60})
		lines := strings.Split(strings.TrimSpace(b.String()), "\n")
		for _, l := range lines {
			assert.LessOrEqual(t, len([]rune(l)), 60, l)
		}
		assert.Equal(t, oneLine, len(lines) == 2)
	}
}

func TestCSVIsNoFormula(t *testing.T) {
	var b strings.Builder
	rows := [][]string{{"=cmd()"}, {"cam,11"}, {"-1"}, {"-1+cmd()"}}
	assert.NoError(t, view.CSV(&b, []string{"name"}, rows, sheet.Guard))
	assert.Equal(t, "name\n'=cmd()\n\"cam,11\"\n-1\n'-1+cmd()\n", b.String())
	b.Reset()
	assert.NoError(t, view.CSV(&b, []string{"name"}, rows, view.AsItIs))
	assert.Equal(t, "name\n=cmd()\n\"cam,11\"\n-1\n-1+cmd()\n", b.String())
}

func TestBarAndPaint(t *testing.T) {
	assert.EqualValues(t, "━━━···", view.Style{}.Bar(50, 6))
	assert.EqualValues(t, "plain", view.Style{}.Paint(view.Bad, "plain"))
}

func TestMeter(t *testing.T) {
	var b strings.Builder
	m := view.Meter{W: &b, Style: view.Style{Terminal: true, Width: 80}}
	m.ShowBytes(1<<20, 2<<20, "read")
	m.ShowBytes(2<<20, 2<<20, "read") // too soon to be drawn again
	m.Clear()
	assert.Equal(t, "\r\x1b[K━━━━━━━━━━━━············  50 %  1.0 MiB of 2.0 MiB read\r\x1b[K",
		b.String())

	b.Reset()
	m = view.Meter{W: &b} // no terminal: nothing
	m.ShowBytes(1, 0, "read")
	m.Clear()
	assert.Empty(t, b.String())
}

// Colours take no room: the last column gets all that the others leave.
func TestColoursHaveNoWidth(t *testing.T) {
	var plain, coloured bytes.Buffer
	for w, colours := range map[*bytes.Buffer]bool{&plain: false, &coloured: true} {
		s := view.Style{Width: 60, Colors: colours}
		table := view.Table{Columns: []string{"bar", "what"}, OneLine: true}
		table.Add(s.Bar(50, 20), view.Quiet.Cell("waits for gate-2, which is reached"))
		table.Draw(w, s)
	}
	assert.Contains(t, plain.String(), "which is reached")
	assert.Contains(t, coloured.String(), "which is reached")
}

// nights is a table of devices as match has it.
func nights() view.Table {
	t := view.Table{Columns: []string{"name", "model", "status", "count", "image", "reason"},
		Less: []string{"image", "model"}}
	for i := range 6 {
		reason := "the newest on the shelf"
		if i == 2 {
			reason = strings.Repeat("refused 1 of its logins before and is not tried again ", 3)
		}
		t.Add("camera-"+strings.Repeat("x", i), fmt.Sprint("WX-", 20+i), "behind", i*100,
			strings.Repeat("i", 20)+fmt.Sprint(i), view.Quiet.Cell(reason))
	}
	return t
}

// At every width no line is broken or wider than the terminal; what is the same is said once, what
// has no room is named, and a long last column stands below its row.
func TestTablesFitTheTerminal(t *testing.T) {
	draw := func(width int, table view.Table) string {
		var b strings.Builder
		table.Draw(&b, view.Style{Width: width})
		for line := range strings.Lines(b.String()) {
			assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), max(width, 40),
				"%d: %s", width, line)
		}
		return b.String()
	}
	for width := 20; width <= 220; width += 7 {
		text := draw(width, nights())
		assert.Equal(t, 6, strings.Count(text, "\ncamera-")+strings.Count(text, "\ncam…"),
			"%d:\n%s", width, text)
		words := strings.Join(strings.Fields(text), " ")
		assert.Equal(t, 5, strings.Count(words, "the newest on the shelf"), "%d:\n%s", width, text)
		assert.Equal(t, 1, strings.Count(words,
			"refused 1 of its logins before and is not tried again refused 1"), "%d:\n%s", width, text)
	}
	wide := draw(200, nights())
	assert.True(t, strings.HasPrefix(wide, "All: status behind\n"), wide)
	assert.NotContains(t, wide, "Hidden")
	assert.Contains(t, wide, "camera-xxxxx  WX-25    500  ", "numbers end together")
	assert.Contains(t, wide, "camera-       WX-20      0  ")
	middle := draw(60, nights())
	assert.Contains(t, middle, "Hidden columns: image (use --wide)")
	narrow := draw(40, nights())
	assert.Contains(t, strings.Join(strings.Fields(narrow), " "),
		"Hidden columns: image, model (use --wide)")
	assert.Regexp(t, `camera-xx +200\n    refused 1 of its logins before and\n    is not tried`,
		narrow)
	var piped strings.Builder
	table := nights()
	table.Draw(&piped, view.Style{})
	assert.Contains(t, piped.String(), "NAME          MODEL  STATUS  COUNT  IMAGE",
		"piped, all of it is there")
}

// A bar that has no room is left out: it is neither wrapped nor printed as codes.
func TestBarsAreNotWrapped(t *testing.T) {
	for _, colors := range []bool{false, true} {
		s := view.Style{Width: 40, Colors: colors}
		t1 := view.Table{Columns: []string{"name", "from → to", "takes"}}
		t1.Add("cam-1", strings.Repeat("v", 24), s.Lane(time.Minute, time.Minute, time.Hour, 30))
		var b strings.Builder
		t1.Draw(&b, s)
		assert.NotContains(t, b.String(), "━")
		assert.NotContains(t, ansi.Strip(b.String()), "[3")
	}
}

// A column in which nothing stands takes no room in a terminal; piped it stays.
func TestEmptyColumns(t *testing.T) {
	t1 := view.Table{Columns: []string{"name", "rate", "why"}}
	t1.Add("cam-1", "", "fine")
	t1.Add("cam-2", "", "")
	for width, want := range map[int]string{100: "NAME   WHY\ncam-1  fine\ncam-2\n",
		0: "NAME   RATE  WHY\ncam-1        fine\ncam-2\n"} {
		var b strings.Builder
		t1.Draw(&b, view.Style{Width: width})
		assert.Equal(t, want, b.String())
	}
}

// Two thousand devices on a narrow terminal.
func BenchmarkNarrowTable(b *testing.B) {
	t := nights()
	for len(t.Rows) < 2000 {
		t.Rows = append(t.Rows, t.Rows...)
	}
	for b.Loop() {
		t.Draw(io.Discard, view.Style{Width: 60})
	}
}
