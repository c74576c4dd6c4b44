package sheet_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"catena/internal/sheet"
)

func write(t *testing.T, name string, raw []byte) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, raw, 0o644))
	return path
}

// CSV is read as the spreadsheet programs of several countries write it.
func TestCSV(t *testing.T) {
	want := [][]string{{"Name", "Serial", "Weight"}, {"cam-11", "WX4-10011", "1,5"}}
	for name, raw := range map[string]string{
		"semicolons, decimal commas": "Name;Serial;Weight\r\ncam-11;WX4-10011;1,5\r\n",
		"commas, quoted":             "Name,Serial,Weight\ncam-11,WX4-10011,\"1,5\"\n",
		"tabs":                       "Name\tSerial\tWeight\ncam-11\tWX4-10011\t1,5\n",
		"byte order mark":            "\ufeffName;Serial;Weight\ncam-11 ;WX4-10011;1,5",
	} {
		rows, err := sheet.Read(write(t, "list.csv", []byte(raw)), "")
		require.NoError(t, err, name)
		assert.Equal(t, want, rows, name)
	}
	utf16 := []byte{0xff, 0xfe}
	for _, r := range "Name\tPlace\ncam-11\tSchütz\n" {
		utf16 = append(utf16, byte(r), byte(r>>8))
	}
	for name, raw := range map[string][]byte{"UTF-16": utf16,
		"Windows-1252": []byte("Name;Place\ncam-11;Sch\xfctz\n")} {
		rows, err := sheet.Read(write(t, "list.csv", raw), "")
		require.NoError(t, err, name)
		assert.Equal(t, [][]string{{"Name", "Place"}, {"cam-11", "Schütz"}}, rows, name)
	}
}

// What is written is read again, and is never a formula.
func TestWrittenTablesAreReadAgain(t *testing.T) {
	rows := [][]string{{"name", "note"}, {"cam-11", "=1+1"}, {"cam-12", "-5"}, {"cam-13", "@SUM(A1)"}}
	for _, name := range []string{"list.csv", "list.xlsx"} {
		var b bytes.Buffer
		require.NoError(t, sheet.Write(&b, name, sheet.Table{Name: "Devices", Rows: rows}))
		read, err := sheet.Read(write(t, name, b.Bytes()), "")
		require.NoError(t, err)
		assert.Equal(t, rows, read, name)
		if name == "list.csv" {
			assert.Contains(t, b.String(), "'=1+1")
			continue
		}
		f, err := excelize.OpenReader(&b)
		require.NoError(t, err)
		formula, err := f.GetCellFormula("Devices", "B2")
		require.NoError(t, err)
		assert.Empty(t, formula)
		panes, err := f.GetPanes("Devices")
		require.NoError(t, err)
		assert.True(t, panes.Freeze)
	}
}

// A serial number that a spreadsheet program took as a number has all its digits.
func TestNumbersOfXLSX(t *testing.T) {
	f := excelize.NewFile()
	require.NoError(t, f.SetCellValue("Sheet1", "A1", "Serial"))
	require.NoError(t, f.SetCellValue("Sheet1", "A2", 123456789012))
	var b bytes.Buffer
	require.NoError(t, f.Write(&b))
	path := write(t, "list.xlsx", b.Bytes())
	rows, err := sheet.Read(path, "")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"Serial"}, {"123456789012"}}, rows)
	_, err = sheet.Read(path, "Cameras")
	assert.ErrorContains(t, err, `it has no sheet "Cameras"; there are Sheet1`)
}

func TestNotATable(t *testing.T) {
	for name, want := range map[string]string{"list.xlsx": "cannot be read as XLSX",
		"list.ods": "neither .csv nor .xlsx"} {
		_, err := sheet.Read(write(t, name, []byte("PK no")), "")
		assert.ErrorContains(t, err, want)
	}
}
