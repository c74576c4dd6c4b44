// Package view draws: tables, the live view of a job, sizes and times. It knows
// nothing of devices but the texts and numbers it is given.
package view

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	clean "catena/internal/text"
)

// Style is what the place that is printed to can do.
type Style struct {
	Terminal      bool
	Colors        bool
	Width, Height int // of the terminal; 0: not known
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
	Text string
	raw  bool // it is Painted
	Tone Tone
}

// Table is rows under names. The last column takes what width is left.
type Table struct {
	Columns []string
	Rows    [][]Cell
	OneLine bool // the last column is cut, not wrapped
}

// Cell is a field with a text of that tone.
func (t Tone) Cell(text string) Cell { return Cell{Text: text, Tone: t} }

// Add adds a row. A field is a Cell, or a value that is printed plainly.
func (t *Table) Add(fields ...any) {
	row := make([]Cell, len(fields))
	for i, f := range fields {
		switch v := f.(type) {
		case Cell:
			row[i] = v
		case Painted:
			row[i] = Cell{Text: string(v), raw: true}
		default:
			row[i] = Cell{Text: fmt.Sprint(v)}
		}
	}
	t.Rows = append(t.Rows, row)
}

// minLast is the narrowest that the last column becomes before lines get longer
// than the terminal is wide.
const minLast = 24

// Draw prints the table.
func (t *Table) Draw(w io.Writer, s Style) {
	if len(t.Rows) == 0 {
		return
	}
	tw := table.NewWriter()
	style := table.StyleDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	tw.SetStyle(style)
	head := table.Row{}
	for _, c := range t.Columns {
		head = append(head, string(s.Paint(Quiet, strings.ToUpper(c))))
	}
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
	if last := t.lastWidth(s); last > 0 {
		enforce := text.WrapSoft
		if t.OneLine {
			enforce = text.Trim
		}
		tw.SetColumnConfigs([]table.ColumnConfig{{Number: len(t.Columns), WidthMax: last,
			WidthMaxEnforcer: enforce}})
	}
	for line := range strings.Lines(tw.Render() + "\n") {
		fmt.Fprintln(w, strings.TrimRight(line, " \n"))
	}
}

// lastWidth is what the other columns leave to the last one; 0: no bound.
func (t *Table) lastWidth(s Style) int {
	if s.Width == 0 {
		return 0
	}
	used := 0
	for i := range len(t.Columns) - 1 {
		widest := text.StringWidthWithoutEscSequences(t.Columns[i])
		for _, r := range t.Rows {
			widest = max(widest, text.StringWidthWithoutEscSequences(r[i].Text))
		}
		used += widest + 2
	}
	return max(minLast, s.Width-used-2)
}

// CSV prints rows as comma-separated values. A text that a spreadsheet would take
// for a formula gets an apostrophe before it.
func CSV(w io.Writer, columns []string, rows [][]string) error {
	c := csv.NewWriter(w)
	if err := c.Write(columns); err != nil {
		return err
	}
	for _, row := range rows {
		safe := make([]string, len(row))
		for i, v := range row {
			if v != "" && strings.ContainsRune("=+-@", rune(v[0])) {
				v = "'" + v
			}
			safe[i] = v
		}
		if err := c.Write(safe); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// Bytes writes a size for a person: 1.2 MiB.
func Bytes(n float64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	i := 0
	for n >= 1023.5 && i < len(units)-1 {
		n, i = n/1024, i+1
	}
	if i == 0 || n >= 100 {
		return fmt.Sprintf("%.0f %s", n, units[i])
	}
	return fmt.Sprintf("%.1f %s", n, units[i])
}

// Clock writes a duration as minutes and seconds: 3:07, or 1:02:33 with hours.
func Clock(d time.Duration) string {
	s := max(0, int(d.Round(time.Second).Seconds())) // a clock may have been put back
	if s >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", s/3600, s/60%60, s%60)
	}
	return fmt.Sprintf("%d:%02d", s/60, s%60)
}

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

// Plural writes a number and its noun: 1 device, 3 devices.
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if stem, ok := strings.CutSuffix(noun, "y"); ok {
		return fmt.Sprintf("%d %sies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, noun)
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
		m.Show(Bytes(float64(done)) + " " + what)
		return
	}
	percent := int(100 * min(done, total) / total)
	m.Show(fmt.Sprintf("%s %3d %%  %s of %s %s", m.Style.Bar(percent, 24), percent,
		Bytes(float64(done)), Bytes(float64(total)), what))
}

// Clear removes the line.
func (m *Meter) Clear() {
	if m.drawn {
		fmt.Fprint(m.W, "\r\x1b[K")
		m.drawn = false
	}
}
