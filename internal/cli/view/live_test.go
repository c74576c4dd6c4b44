package view_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"catena/internal/cli/view"
)

// busy is a job of n devices, some of which need attention; their names are long, of double
// width, or hostile.
func busy(n int) view.Live {
	names := []string{"cam-%d", "gate-at-the-far-end-of-the-basin-%d", "閘門カメラ-%d", "évier-%d",
		"a\x1b[2Jb-%d"}
	l := view.Live{Title: "Marrow Hill Locks · flash night-1, j1", Clock: "1:02:03", Percent: 61,
		Parts: []view.Part{{N: 2, Word: "stranded", Tone: view.Bad}, {N: n, Word: "waiting",
			Tone: view.Quiet},
			{N: 3, Word: "sending", Tone: view.Busy}, {N: 4, Word: "proving", Tone: view.Busy}},
		Rate: "4.2 MiB/s", Outlook: "expected until 03:10", Writing: []string{"cam-1", "cam-2", "cam-3"},
		Selected: "d3",
		DoneText: fmt.Sprintf("%d done", n-max(2, n/2)),
		Message:  "Stopping: no further device is started.", Keys: "q leave · enter open · ↑↓"}
	for i := range n {
		r := view.LiveRow{ID: fmt.Sprint("d", i), Name: fmt.Sprintf(names[i%len(names)], i),
			Model: "WX-40",
			Path:  "3.1.0 → 3.2.1", Step: "sending", Tone: view.Busy, Percent: i % 101, Rate: "1.1 MiB/s",
			Remaining: "0:42", What: "for 0:03"}
		if i%3 == 0 { // of the first one, and of one that does not stand above it
			r.Parent, r.Via = fmt.Sprint("d", i-1), "hub-1"
			if i%2 == 0 {
				r.Parent = "d99999"
			}
		}
		if i < 2 {
			r.Attention, r.Step, r.Tone, r.Percent, r.What = true, "stranded", view.Bad, -2, strings.Repeat(
				"it did not come back ", 9)
		}
		if i >= n/2 && i > 1 {
			r.Done, r.Step = true, "done"
		}
		l.Rows = append(l.Rows, r)
	}
	return l
}

// At every size there are as many lines as the terminal has, none is wider, and who needs attention
// is on the screen.
func TestLiveFitsEverySize(t *testing.T) {
	for _, n := range []int{1, 2, 60, 500} {
		for _, size := range [][2]int{{80, 24}, {142, 44}, {200, 60}, {20, 6}, {41, 9}, {96, 10},
			{116, 30}} {
			for _, theme := range []view.Theme{{Dark: true}, {}, {Few: true}, {Plain: true}, {ASCII: true,
				Plain: true}} {
				for _, selected := range []string{"", "d0", fmt.Sprint("d", n/2-1), "gone"} {
					l := busy(n)
					l.Selected = selected
					text := l.Draw(size[0], size[1], theme)
					at := fmt.Sprintf("%d devices at %v, %+v, on %q:\n%s", n, size, theme, selected, text)
					lines := strings.Split(text, "\n")
					assert.Len(t, lines, size[1], at)
					for _, line := range lines {
						assert.LessOrEqual(t, ansi.StringWidth(line), size[0], at)
					}
					plain := ansi.Strip(text)
					assert.NotContains(t, plain, "\x1b", at)
					if size[1] >= 20 {
						assert.Equal(t, min(n, 2), strings.Count(plain, "stranded  "), at)
						assert.Contains(t, plain, "Stopping: no further", at)
					}
					if theme.ASCII {
						assert.Equal(t, -1, strings.IndexFunc(plain, func(r rune) bool { return r > '~' }), at)
					}
				}
			}
		}
	}
}

// What needs no line of its own is summed up; a narrow terminal has fewer columns, not broken ones.
func TestLiveSumsUp(t *testing.T) {
	wide := ansi.Strip(busy(10).Draw(142, 24, view.Theme{}))
	assert.Contains(t, wide, "✓ 5 done: cam-5, ")
	assert.Contains(t, wide, "3 sending · 4 proving")
	assert.Regexp(t, `! cam-0 via hub-1`, wide)
	assert.Regexp(t, `▸ └ évier-3 +WX-40 +3\.1\.0 → 3\.2\.1 +sending +·{10} +3% +1\.1 MiB/s +0:42 for 0:03`, wide)
	narrow := ansi.Strip(busy(10).Draw(80, 24, view.Theme{}))
	// What needs a person is never cut: it has lines of its own where the column is too narrow.
	for _, width := range []int{80, 142, 200} {
		text := strings.Join(strings.Fields(ansi.Strip(busy(10).Draw(width, 24, view.Theme{}))),
			" ")
		assert.Equal(t, 2, strings.Count(text,
			strings.TrimSpace(strings.Repeat("it did not come back ",
				9))), "%d columns:\n%s", width, text)
	}
	assert.Contains(t, narrow, "7 in progress")
	assert.NotContains(t, narrow, "3.1.0")
	assert.Contains(t, narrow, "! Keep power and network on: cam-1, cam-2, cam-3")
	many := busy(3)
	for i := range 40 {
		many.Writing = append(many.Writing, fmt.Sprint("gate-", i))
	}
	assert.Regexp(t, `on: cam-1, .* and \d+ more`, many.Draw(80, 24, view.Theme{Plain: true}))
	l := busy(3)
	l.DetailOf, l.Detail = "cam-1", []string{"22:00:01 sending", strings.Repeat("a long word ", 30)}
	assert.Regexp(t, `(?s)cam-1 +\n  22:00:01 sending +\n  a long word`,
		ansi.Strip(l.Draw(80, 24, view.Theme{})))
}

// A frame of 500 devices; four are drawn each second.
func BenchmarkLive500(b *testing.B) {
	l := busy(500)
	for b.Loop() {
		_ = l.Draw(142, 44, view.Theme{Dark: true})
	}
}
