package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"catena/internal/cli/view"
	"catena/internal/match"
	"catena/internal/sheet"
	"catena/internal/words"
	"catena/internal/workspace"
)

// printDevices prints devices in the format asked for; table makes the table.
func (a *app) printDevices(devices []workspace.Row, table func([]workspace.Row) view.Table) error {
	if a.format == "table" {
		return a.emit(devices, table(devices))
	}
	if a.format == "json" {
		return a.printJSON(devices)
	}
	lines := make([][]string, len(devices))
	for i := range devices {
		lines[i] = devices[i].Fields()
	}
	return view.CSV(a.out, workspace.Columns, lines, a.csvCell())
}

// emit prints a list in the format asked for: value as JSON, t as a table or as CSV. A
// table without columns has no CSV, and is not drawn.
func (a *app) emit(value any, t view.Table) error {
	switch a.format {
	case "json":
		return a.printJSON(value)
	case "csv":
		if len(t.Columns) == 0 {
			return usage("this command has no CSV; use --format json")
		}
		var lines [][]string
		for _, r := range t.Rows {
			var line []string
			for _, c := range r {
				line = append(line, c.Text)
			}
			lines = append(lines, line)
		}
		return view.CSV(a.out, t.Columns, lines, a.csvCell())
	}
	t.Draw(a.out, a.style(a.out))
	return nil
}

// encode writes a value as JSON for programs that read it, not for a web page.
func encode(value any) (string, error) {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(value)
	return strings.TrimSuffix(b.String(), "\n"), err
}

// printJSON prints one array, with a line for each of its values, or one object.
func (a *app) printJSON(value any) error {
	var lines []string
	if list := reflect.ValueOf(value); list.Kind() == reflect.Slice {
		for i := range list.Len() {
			line, err := encode(list.Index(i).Interface())
			if err != nil {
				return err
			}
			lines = append(lines, line)
		}
		_, err := fmt.Fprintf(a.out, "[%s]\n", strings.Join(lines, ",\n "))
		return err
	}
	text, err := encode(value)
	if err == nil {
		_, err = fmt.Fprintln(a.out, text)
	}
	return err
}

// statusTone is the colour of a status: what needs a person stands out, and nothing else.
func statusTone(s string) view.Tone {
	if match.Status(s).NeedsPerson() {
		return view.Bad
	}
	return view.Quiet
}

// many counts devices and, where there are more rows than devices, components.
func many(devices []workspace.Row) string {
	ids := map[string]bool{}
	for _, d := range devices {
		ids[d.ID] = true
	}
	text := words.Plural(len(ids), "device")
	if len(devices) > len(ids) {
		text += fmt.Sprintf(" with %d components", len(devices))
	}
	return text
}

// counted writes how many devices have which status: 3 behind, 1 held.
func counted(devices []workspace.Row) string {
	n := map[string]int{}
	for _, d := range devices {
		n[d.Status]++
	}
	return inWords(n)
}

func inWords(n map[string]int) string {
	var parts []string
	for _, s := range match.Statuses {
		if c := n[string(s)]; c > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", c, s))
		}
	}
	return strings.Join(parts, ", ")
}

// csvCell returns how cells of CSV are written.
func (a *app) csvCell() func(string) string {
	if a.raw {
		return view.AsItIs
	}
	return sheet.Guard
}
