// Package view draws: tables, the live view of a job, sizes and times. It knows
// nothing of devices but the texts and numbers it is given.
package view

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	clean "catena/internal/text"
	"catena/internal/words"
)

// Style is what the place that is printed to can do.
type Style struct {
	Terminal bool
	Colors   bool
	Width    int // of the terminal; 0: not known, or all is to be printed
}

// Tone is what a text means, and so its colour. The text says it too.
type Tone int

const (
	Plain Tone = iota
	Quiet      // less important than the rest
	Good
	Busy
	Warn
	Bad
)

var colors = map[Tone]text.Colors{
	Quiet: {text.Faint}, Good: {text.FgGreen}, Busy: {text.FgCyan}, Warn: {text.FgYellow},
	Bad: {text.FgRed, text.Bold},
}

// Painted is a text that may have colours, and is harmless otherwise.
type Painted string

// Paint makes a text harmless and colours it where the style has colours.
func (s Style) Paint(t Tone, what string) Painted {
	what = clean.Harmless(what)
	if !s.Colors || t == Plain || what == "" {
		return Painted(what)
	}
	return Painted(colors[t].EscapeSeq() + what + text.Reset.EscapeSeq())
}

// Print is fmt.Fprintf for people: what comes from a file, a device or an error is made
// harmless for a terminal here, whoever cleaned it before. The format is the program's own.
func Print(w io.Writer, format string, args ...any) {
	fmt.Fprintf(w, format, harmless(args)...)
}

// Sprint is Print into a text.
func Sprint(format string, args ...any) string { return fmt.Sprintf(format, harmless(args)...) }

func harmless(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case Painted:
			out[i] = string(v)
		case string:
			out[i] = clean.Harmless(v)
		case error:
			out[i] = clean.Harmless(v.Error())
		case fmt.Stringer:
			out[i] = clean.Harmless(v.String())
		default:
			out[i] = a
		}
	}
	return out
}

// Cell is one field of a table.
type Cell struct {
	Text  string
	raw   bool // it is Painted
	right bool // it is a number
	Tone  Tone
}

// Number is a field that is aligned by its end.
func Number(text string) Cell { return Cell{Text: text, right: true} }

// Table is rows under names. It keeps to the width of the terminal: the last column takes what is
// left, or its own line below each row. Where there is no terminal all of it is printed.
type Table struct {
	Columns []string
	Rows    [][]Cell
	OneLine bool // the last column is cut, not wrapped
	// Less are columns that a narrow terminal does without, the least important first.
	Less []string
	Tail int // how many columns get lines of their own on a narrow terminal; 0: the last one
}

// Cell is a field with a text of that tone.
func (t Tone) Cell(text string) Cell { return Cell{Text: text, Tone: t} }

// Without is the table without a column that no row has a text in.
func (t Table) Without(column string) Table {
	at := slices.Index(t.Columns, column)
	if at < 0 || slices.ContainsFunc(t.Rows, func(r []Cell) bool { return r[at].Text != "" }) {
		return t
	}
	t.Columns = slices.Delete(slices.Clone(t.Columns), at, at+1)
	rows := make([][]Cell, len(t.Rows))
	for i, r := range t.Rows {
		rows[i] = slices.Delete(slices.Clone(r), at, at+1)
	}
	t.Rows = rows
	return t
}

// Add adds a row. A field is a Cell, or a value that is printed plainly.
func (t *Table) Add(fields ...any) {
	row := make([]Cell, len(fields))
	for i, f := range fields {
		switch v := f.(type) {
		case Cell:
			row[i] = v
		case Painted:
			row[i] = Cell{Text: string(v), raw: true}
		case int, int64:
			row[i] = Number(fmt.Sprint(v))
		default:
			row[i] = Cell{Text: fmt.Sprint(v)}
		}
	}
	t.Rows = append(t.Rows, row)
}

// Widths of the last column: narrower than the first it stands on its own line; where it may
// not, it is never narrower than the second.
const (
	minLast  = 30
	leastCut = 12
	// no column is cut to less
	leastLeft = 6
)

// leastAlike is how many rows must have the same value in a column for it to be stated once.
const leastAlike = 4

// Draw prints the table. What is the same in every row is stated once, above it.
func (t *Table) Draw(w io.Writer, s Style) {
	if len(t.Rows) == 0 {
		return
	}
	fit, same, hidden, below := t.fitted(s)
	s.note(w, same)
	lines := strings.Split(fit.render(s), "\n")
	for i, line := range lines {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
		if below == nil || i == 0 {
			continue
		}
		for _, c := range below[i-1] {
			if c.Text == "" {
				continue
			}
			for _, part := range strings.Split(text.WrapSoft(harmlessLine(c.Text), max(20, s.Width-4)),
				"\n") {
				fmt.Fprintln(w, strings.TrimRight("    "+string(s.Paint(c.Tone, part)), " "))
			}
		}
	}
	s.note(w, hidden)
}

// note prints a sentence about a table; empty: nothing.
func (s Style) note(w io.Writer, sentence string) {
	if sentence == "" {
		return
	}
	for _, part := range strings.Split(text.WrapSoft(sentence, max(20, s.Width)), "\n") {
		fmt.Fprintln(w, s.Paint(Quiet, strings.TrimRight(part, " ")))
	}
}

// Wrap breaks the lines of a text at the width of the terminal, between words.
func (s Style) Wrap(what string) string {
	if s.Width <= 0 {
		return what
	}
	return text.WrapSoft(what, s.Width)
}

// harmlessLine is a text as one line.
func harmlessLine(s string) string { return strings.ReplaceAll(clean.Harmless(s), "\n", " ") }

// fitted returns the table as it fits the terminal: without columns that are empty or the same in
// every row, which same states, and without the less important ones, which hidden names. below are
// the last columns of each row where those are printed on separate lines.
//
// Each measure is taken only if the one before it was not enough. For example, at 40 columns:
//
//	DEVICE  MODEL  FROM   TO     NOTE  REASON
//	cam-11  WX-40  3.1.0  3.2.1        is held: ice on the chamber
//	gate-1  TG-20  K42    3.2.1        is away
//
//	1. NOTE is empty: it is dropped
//	2. TO is the same in every row: "All: TO 3.2.1" (from three rows on)
//	3. MODEL is less important: "Hidden columns: MODEL (use --wide)"
//	4. REASON is still too narrow: it is printed below its row, indented
func (t *Table) fitted(s Style) (fit Table, same, hidden string, below [][]Cell) {
	fit = Table{Columns: slices.Clone(t.Columns), Rows: t.Rows, OneLine: t.OneLine}
	if s.Width == 0 {
		return fit, "", "", nil
	}
	var alike, gone []string
	for i := len(fit.Columns) - 1; i > 0; i-- {
		first := fit.Rows[0][i]
		if t.OneLine || slices.ContainsFunc(fit.Rows,
			func(r []Cell) bool { return r[i].Text != first.Text }) {
			continue
		}
		if first.Text != "" {
			if len(fit.Rows) < leastAlike || len(t.Columns)-i <= t.Tail || first.raw ||
				fit.Columns[i] == "" {
				continue
			}
			alike = append([]string{fit.Columns[i] + " " + harmlessLine(first.Text)}, alike...)
		}
		fit = fit.without(i)
	}
	if len(alike) > 0 {
		same = "All: " + strings.Join(alike, ", ")
	}
	for _, name := range t.Less {
		i := slices.Index(fit.Columns, name)
		if fit.widthLeft(s) >= fit.lastWidth() || i < 0 || i == len(fit.Columns)-1 {
			continue
		}
		if slices.ContainsFunc(fit.Rows, func(r []Cell) bool { return r[i].Text != "" }) {
			gone = append(gone, name)
		}
		fit = fit.without(i)
	}
	if last := len(fit.Columns) - 1; fit.widthLeft(s) < fit.lastWidth() && last > 0 &&
		fit.Rows[0][last].raw {
		fit = fit.without(last) // a bar is not wrapped
	}
	if len(gone) > 0 {
		hidden = "Hidden columns: " + strings.Join(gone, ", ") + " (use --wide)"
	}
	if last := len(fit.Columns) - 1; fit.widthLeft(s) < fit.lastWidth() && !t.OneLine && last > 0 {
		from := max(1, last+1-max(1, t.Tail))
		for _, r := range fit.Rows {
			below = append(below, r[from:])
		}
		for i := last; i >= from; i-- {
			fit = fit.without(i)
		}
		fit.OneLine = true
	}
	return fit.cut(s), same, hidden, below
}

// lastWidth is how wide the last column should be: what is in it, but no more than a line's worth.
func (t *Table) lastWidth() int {
	if t.OneLine {
		return leastCut
	}
	return min(minLast, t.width(len(t.Columns)-1))
}

// without is the table without a column.
func (t Table) without(i int) Table {
	t.Columns = slices.Delete(slices.Clone(t.Columns), i, i+1)
	rows := make([][]Cell, len(t.Rows))
	for n, r := range t.Rows {
		rows[n] = slices.Delete(slices.Clone(r), i, i+1)
	}
	t.Rows = rows
	return t
}

// width is how wide a column is.
func (t *Table) width(i int) int {
	widest := text.StringWidthWithoutEscSequences(t.Columns[i])
	for _, r := range t.Rows {
		widest = max(widest, text.StringWidthWithoutEscSequences(r[i].Text))
	}
	return widest
}

// widthLeft is what the other columns leave to the last one.
func (t *Table) widthLeft(s Style) int {
	widthLeft := s.Width
	for i := range len(t.Columns) - 1 {
		widthLeft -= t.width(i) + 2
	}
	return widthLeft
}

// cut cuts the widest columns, with a mark, until a row fits the terminal.
func (t Table) cut(s Style) Table {
	last := len(t.Columns) - 1
	for {
		lacks := min(leastCut, t.width(last)) - t.widthLeft(s)
		widest, second, wide := 0, 0, 0
		for i := range last {
			switch w := t.width(i); {
			case w > wide:
				widest, second, wide = i, wide, w
			case w > second:
				second = w
			}
		}
		to := max(leastLeft, second-1, wide-lacks)
		if lacks <= 0 || last == 0 || to >= wide {
			break
		}
		rows := make([][]Cell, len(t.Rows))
		for n, r := range t.Rows {
			rows[n] = slices.Clone(r)
			if c := &rows[n][widest]; !c.raw && text.StringWidthWithoutEscSequences(c.Text) > to {
				c.Text = text.Snip(harmlessLine(c.Text), to, "…")
			} else if c.raw && text.StringWidthWithoutEscSequences(c.Text) > to {
				return t // a bar is not cut
			}
		}
		t.Rows = rows
		if text.StringWidthWithoutEscSequences(t.Columns[widest]) > to {
			t.Columns = slices.Clone(t.Columns)
			t.Columns[widest] = text.Snip(t.Columns[widest], to, "…")
		}
	}
	return t
}

// render is the table as lines, the head first.
func (t *Table) render(s Style) string {
	tw := table.NewWriter()
	style := table.StyleDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	tw.SetStyle(style)
	head := table.Row{}
	var columns []table.ColumnConfig
	for i, c := range t.Columns {
		head = append(head, string(s.Paint(Quiet, strings.ToUpper(c))))
		config := table.ColumnConfig{Number: i + 1}
		if slices.ContainsFunc(t.Rows, func(r []Cell) bool { return r[i].right }) {
			config.Align, config.AlignHeader = text.AlignRight, text.AlignRight
		}
		if last := t.widthLeft(s); i == len(t.Columns)-1 && s.Width > 0 && last > 0 {
			config.WidthMax, config.WidthMaxEnforcer = max(leastCut, last), text.WrapSoft
			if t.OneLine {
				config.WidthMaxEnforcer = func(s string,
					n int) string {
					return text.Snip(s, n, "…")
				}
			}
		}
		columns = append(columns, config)
	}
	tw.SetColumnConfigs(columns)
	tw.AppendHeader(head)
	for _, row := range t.Rows {
		line := table.Row{}
		for _, c := range row {
			if !c.raw { // one row is one line, whatever a text holds
				c.Text = string(s.Paint(c.Tone, strings.ReplaceAll(c.Text, "\n", " ")))
			}
			line = append(line, c.Text)
		}
		tw.AppendRow(line)
	}
	return tw.Render()
}

// CSV prints rows as comma-separated values: cell returns each text as it is to be.
func CSV(w io.Writer, columns []string, rows [][]string, cell func(string) string) error {
	c := csv.NewWriter(w)
	if err := c.Write(columns); err != nil {
		return err
	}
	for _, row := range rows {
		line := make([]string, len(row))
		for i, v := range row {
			line[i] = cell(v)
		}
		if err := c.Write(line); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// AsItIs changes nothing, for programs.
func AsItIs(v string) string { return v }

// Bar draws how far something is, in a width of columns; percent below 0 is not
// known.
func (s Style) Bar(percent, width int) Painted {
	if percent < 0 {
		return s.Paint(Quiet, strings.Repeat("·", width))
	}
	full := min(width, percent*width/100)
	return s.Paint(Busy, strings.Repeat("━", full)) + s.Paint(Quiet,
		strings.Repeat("·", width-full))
}

// Lane is a bar from a start on, for so long, of a whole.
func (s Style) Lane(start, takes, whole time.Duration, width int) Painted {
	if whole <= 0 {
		return ""
	}
	from := int(int64(width) * int64(start) / int64(whole))
	to := max(from+1, int(int64(width)*int64(start+takes)/int64(whole)))
	return Painted(strings.Repeat("·", from)) + s.Paint(Busy, strings.Repeat("━", to-from)) +
		Painted(strings.Repeat("·", max(0, width-to)))
}

// Meter is one line of progress that is drawn over itself. Where there is no
// terminal it prints nothing.
type Meter struct {
	W     io.Writer
	Style Style
	last  time.Time
	drawn bool
}

const redrawEvery = 100 * time.Millisecond

// Show draws the line, when the last one has stood long enough.
func (m *Meter) Show(line string) {
	if !m.Style.Terminal || time.Since(m.last) < redrawEvery {
		return
	}
	m.last, m.drawn = time.Now(), true
	if m.Style.Width > 0 {
		line = text.Trim(line, m.Style.Width-1)
	}
	fmt.Fprintf(m.W, "\r\x1b[K%s", line)
}

// ShowBytes draws how many bytes of a total are done; without a total, or beyond it, how
// many alone.
func (m *Meter) ShowBytes(done, total int64, what string) {
	if total <= 0 || done > total { // an archive holds more than its size told
		m.Show(words.Bytes(float64(done)) + " " + what)
		return
	}
	percent := int(100 * min(done, total) / total)
	m.Show(fmt.Sprintf("%s %3d %%  %s of %s %s", m.Style.Bar(percent, 24), percent,
		words.Bytes(float64(done)), words.Bytes(float64(total)), what))
}

// Clear removes the line.
func (m *Meter) Clear() {
	if m.drawn {
		fmt.Fprint(m.W, "\r\x1b[K")
		m.drawn = false
	}
}
