// Package sheet reads and writes tables as people keep them: CSV as spreadsheet programs write it,
// and XLSX (ECMA-376).
package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"catena/internal/files"
	"catena/internal/text"
)

// Limits of what is read.
const (
	maxFile    = 32 << 20  // bytes
	maxContent = 256 << 20 // bytes, of an XLSX file that is unpacked
	maxRows    = 10_000
	maxColumns = 500
)

// Table is a table with its headings in the first row.
type Table struct {
	Name string
	Rows [][]string
}

// Is tells whether a file has the extension of a table.
func Is(path string) bool { return slices.Contains([]string{".csv", ".xlsx"}, ending(path)) }

func ending(path string) string { return strings.ToLower(filepath.Ext(path)) }

// Read reads the rows of a CSV or XLSX file. name is the sheet of an XLSX file; empty: its first
// one. Fields of a CSV file are separated by commas, semicolons or tabs, whichever its first line
// has most of; it is UTF-8, UTF-16 with a byte order mark, or else Windows-1252.
func Read(path, name string) ([][]string, error) {
	raw, err := files.Read(path, maxFile)
	if err != nil {
		return nil, err
	}
	var rows [][]string
	switch ending(path) {
	case ".csv":
		rows, err = readCSV(raw)
	case ".xlsx":
		rows, err = readXLSX(raw, name)
	default:
		return nil, fmt.Errorf("%s: the extension is neither .csv nor .xlsx", path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if len(rows) > maxRows {
		return nil, fmt.Errorf("%s: it has more than %d rows", path, maxRows)
	}
	for i, row := range rows {
		if len(row) > maxColumns {
			return nil, fmt.Errorf("%s: row %d has more than %d columns", path, i+1, maxColumns)
		}
		for j := range row {
			row[j] = strings.TrimSpace(plain(row[j]))
		}
	}
	return rows, nil
}

func readCSV(raw []byte) ([][]string, error) {
	plain, err := decode(raw)
	if err != nil {
		return nil, err
	}
	r := csv.NewReader(strings.NewReader(plain))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = separator(plain), -1, true
	var rows [][]string
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		for len(rows) < line-1 && len(rows) <= maxRows { // empty lines count
			rows = append(rows, nil)
		}
		rows = append(rows, row)
		if len(rows) > maxRows {
			return rows, nil
		}
	}
}

// decode makes UTF-8 of the text of a CSV file.
func decode(raw []byte) (string, error) {
	if !utf8.Valid(raw) || bytes.ContainsRune(raw, 0) {
		plain := charmap.Windows1252.NewDecoder()
		if len(raw) > 1 && (raw[0] == 0xff && raw[1] == 0xfe || raw[0] == 0xfe && raw[1] == 0xff) {
			plain = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder()
		}
		out, _, err := transform.Bytes(plain, raw)
		return string(out), err
	}
	return strings.TrimPrefix(string(raw), "\ufeff"), nil
}

// separator is the sign that separates the fields of the line with most of them among the first
// ones: a title may stand above the headings.
func separator(table string) rune {
	best, most := ',', 0
	lines := strings.SplitN(table, "\n", 21)
	for _, line := range lines[:min(len(lines), 20)] {
		quoted := false
		counts := map[rune]int{}
		for _, r := range line {
			if r == '"' {
				quoted = !quoted
			}
			if !quoted {
				counts[r]++
			}
		}
		for _, r := range []rune{',', ';', '\t'} {
			if counts[r] > most {
				best, most = r, counts[r]
			}
		}
		if most > 0 && best != ',' { // decimal commas of the rows below do not count
			break
		}
	}
	return best
}

// scientific is a number as a spreadsheet program shows it where it does not fit.
var scientific = text.Later(`^\d(\.\d+)?E\+\d+$`)

// digits are a number that is exact: XLSX keeps fifteen digits.
var digits = text.Later(`^\d{1,15}$`)

func readXLSX(raw []byte, name string) ([][]string, error) {
	f, err := excelize.OpenReader(bytes.NewReader(raw), excelize.Options{
		UnzipSizeLimit: maxContent, UnzipXMLSizeLimit: maxContent})
	if err != nil {
		return nil, fmt.Errorf("it cannot be read as XLSX: %w", err)
	}
	defer func() { _ = f.Close() }()
	sheets := f.GetSheetList()
	if name == "" && len(sheets) > 0 {
		name = sheets[0]
	}
	if !slices.Contains(sheets, name) {
		return nil, fmt.Errorf("it has no sheet %q; there are %s", name, strings.Join(sheets, ", "))
	}
	shown, err := f.GetRows(name)
	if err != nil {
		return nil, err
	}
	exact, err := f.GetRows(name, excelize.Options{RawCellValue: true})
	if err != nil {
		return nil, err
	}
	for i, row := range shown {
		for j, cell := range row {
			if scientific().MatchString(cell) && i < len(exact) && j < len(exact[i]) &&
				digits().MatchString(exact[i][j]) {
				row[j] = exact[i][j]
			}
		}
	}
	return shown, nil
}

// Write writes tables as a CSV or XLSX file, by the extension of its name. CSV has the first table
// only.
func Write(w io.Writer, path string, tables ...Table) error {
	if ending(path) == ".xlsx" {
		return writeXLSX(w, tables)
	}
	c := csv.NewWriter(w)
	for _, row := range tables[0].Rows {
		guarded := make([]string, len(row))
		for i, cell := range row {
			guarded[i] = Guard(cell)
		}
		if err := c.Write(guarded); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// formula starts a cell that a spreadsheet program would calculate.
var formula = text.Later(`^[=+\-@\t\r]`)

// number is what is harmless although it starts so.
var number = text.Later(`^[+-]?\d+([.,]\d+)?$`)

// Guard keeps a spreadsheet program from calculating what a device or a list states: it takes a
// cell with an apostrophe as text.
func Guard(cell string) string {
	if formula().MatchString(cell) && !number().MatchString(cell) {
		return "'" + cell
	}
	return cell
}

// plain is a cell without the apostrophe of Guard.
func plain(cell string) string {
	if rest, had := strings.CutPrefix(cell, "'"); had && formula().MatchString(rest) {
		return rest
	}
	return cell
}

func writeXLSX(w io.Writer, tables []Table) error {
	f := excelize.NewFile()
	defer func() { _ = f.Close() }()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return err
	}
	for i, t := range tables {
		if i == 0 {
			err = f.SetSheetName("Sheet1", t.Name)
		} else {
			_, err = f.NewSheet(t.Name)
		}
		if err == nil {
			err = fill(f, t, bold)
		}
		if err != nil {
			return err
		}
	}
	return f.Write(w)
}

// widest is how wide a column becomes at most, in characters.
const widest = 48

// fill writes a table into its sheet: all cells are text, the headings stay in view and filter.
func fill(f *excelize.File, t Table, bold int) error {
	widths := map[int]int{}
	for y, row := range t.Rows {
		for x, cell := range row {
			at, err := excelize.CoordinatesToCellName(x+1, y+1)
			if err != nil {
				return err
			}
			if err := f.SetCellStr(t.Name, at, cell); err != nil {
				return err
			}
			widths[x] = max(widths[x], min(widest, utf8.RuneCountInString(cell)+2))
		}
	}
	if len(t.Rows) == 0 {
		return nil
	}
	for x, width := range widths {
		column, err := excelize.ColumnNumberToName(x + 1)
		if err != nil {
			return err
		}
		if err := f.SetColWidth(t.Name, column, column, float64(width)); err != nil {
			return err
		}
	}
	last, err := excelize.CoordinatesToCellName(len(t.Rows[0]), len(t.Rows))
	if err != nil {
		return err
	}
	if err := f.AutoFilter(t.Name, "A1:"+last, nil); err != nil {
		return err
	}
	if err := f.SetRowStyle(t.Name, 1, 1, bold); err != nil {
		return err
	}
	return f.SetPanes(t.Name, &excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"})
}
