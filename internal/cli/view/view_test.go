package view_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/cli/view"
)

func TestMarkdown(t *testing.T) {
	got := view.Markdown("# Release 3.2.1\n\nThe *presets* are kept,\nand `zoom` is mended. See [the page](https://wexcombe.example/n).\n\n"+
		"1. first\n2. second\n   * inner\n\n> mind the gate\n\n    code\n\n<script>alert(1)</script>\n\n\x1b[2Jend ![x](y)\n", view.Style{})
	assert.Equal(t, "Release 3.2.1\n\nThe presets are kept,\nand zoom is mended. See the page <https://wexcombe.example/n>.\n\n"+
		"1. first\n2. second\n   • inner\n\n│ mind the gate\n\n    code\n\n[2Jend\n", got)
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
	assert.NoError(t, view.CSV(&b, []string{"name"}, [][]string{{"=cmd()"}, {"cam,11"}, {"-1"}}))
	assert.Equal(t, "name\n'=cmd()\n\"cam,11\"\n'-1\n", b.String())
}

func TestWordsForNumbers(t *testing.T) {
	assert.Equal(t, "1023 B", view.Bytes(1023))
	assert.Equal(t, "1.0 KiB", view.Bytes(1024))
	assert.Equal(t, "1.5 MiB", view.Bytes(1.5*(1<<20)))
	assert.Equal(t, "3:07", view.Clock(187*time.Second))
	assert.Equal(t, "1:02:33", view.Clock(3753*time.Second))
	assert.Equal(t, "1 device", view.Plural(1, "device"))
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
