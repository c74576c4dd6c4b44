package inventory_test

import (
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/inventory"
)

func known(name, serial, mac, address string) device.Device {
	return device.Device{Name: name, Endpoint: device.Endpoint{Address: address + ":80"},
		Reading: device.Reading{Identity: device.Identity{Serial: serial, MAC: mac}}}
}

func anyName(name string) error {
	if name == "" {
		return errors.New("no name")
	}
	return nil
}

// The most certain word counts: an item with another serial number is not the device's, whatever
// else they share.
func TestWhichDeviceAnItemIsAbout(t *testing.T) {
	n, err := inventory.Parse("inventory.yaml", []byte(`devices:
  WX4-10011: {place: mast}
  00:40:8c:10:00:12: {place: basin}
  10.20.4.13: {place: lock, serial: WX4-10013}
  gate-1: {name: gate-1, place: gate}
`), nil)
	require.NoError(t, err)
	for _, c := range []struct {
		d     device.Device
		place string
	}{
		{known("cam-11", "wx4-10011", "", "10.20.4.99"), "mast"},
		{known("cam-12", "WX4-10012", "00:40:8c:10:00:12", "10.20.4.11"), "basin"},
		{known("cam-13", "", "", "10.20.4.13"), "lock"},
		{known("cam-13", "WX4-10013", "", "10.20.4.77"), "lock"},
		{known("cam-13", "WX4-77777", "", "10.20.4.13"), ""},
		{known("GATE-1", "TG2-1", "", "10.20.4.50"), "gate"},
	} {
		item, is := n.Find(c.d)
		assert.Equal(t, c.place, item.Place, c.d.Name)
		assert.Equal(t, c.place != "", is)
	}
	item, is := n.Differs(known("cam-13", "WX4-77777", "", "10.20.4.13"))
	assert.True(t, is)
	assert.Equal(t, "10.20.4.13", item.Key)
	missing, unlisted := n.Compare([]device.Device{known("cam-11", "WX4-10011", "", "10.20.4.11"),
		known("cam-77", "WX4-10077", "", "10.20.4.77")})
	assert.Len(t, missing, 3)
	require.Len(t, unlisted, 1)
	assert.Equal(t, "cam-77", unlisted[0].Name)
}

func TestWhatAnInventoryMayNotState(t *testing.T) {
	for _, c := range []struct{ file, want string }{
		{"devices: {X1: {name: a, colour: red}}", "colour"},
		{"devices: {X1: {groups: ['a b']}}", `"a b" cannot be the name of a group`},
		{"devices: {X1: {fields: {'Asset No': 1}}}", `"Asset No" cannot be the name of a field`},
		{"devices: {X1: {mac: 'zz'}}", "not a MAC address"},
		{"devices: {X1: {address: 'lock 1'}}", "not an address"},
		{"devices: {X1: {name: a}, X2: {name: A}}", "the same name: a"},
	} {
		_, err := inventory.Parse("inventory.yaml", []byte(c.file), nil)
		assert.ErrorContains(t, err, c.want)
		assert.ErrorContains(t, err, "inventory.yaml")
	}
}

// An inventory that was written is read as it was, in its order.
func TestAnInventoryIsReadAsItWasWritten(t *testing.T) {
	n, err := inventory.Of([]inventory.Item{
		{Key: "Z9", Serial: "Z9", Name: "z", Place: "Lock 2: mast", Groups: []string{"a", "b"},
			Spare: true, Fields: map[string]string{"warranty": "2028-03-01", "asset": "0012"}},
		{Key: "10.20.4.7", Address: "10.20.4.7", Fields: map[string]string{}},
	})
	require.NoError(t, err)
	raw, err := inventory.Format(n)
	require.NoError(t, err)
	again, err := inventory.Parse("inventory.yaml", raw, nil)
	require.NoError(t, err)
	assert.Equal(t, n.Items, again.Items)
}

// Headings are recognized below a title, in the words of several lists.
func TestHeadings(t *testing.T) {
	table, err := inventory.Read([][]string{{"Marrow Hill Locks"}, nil,
		{"Host name", "S/N", "Ethernet address", "Asset No.", "Version", "2nd remark"},
		{"Cam 11", "WX4-10011", "00408C100011", "0012", "3.1", "x"},
		{"", "", "", "", "", ""},
		{"", "", "", "7", "", ""}},
		map[string]string{"2nd remark": "-"}, func(name string) error {
			if name != "Cam-11" {
				return errors.New("not a name")
			}
			return nil
		})
	require.NoError(t, err)
	var as []string
	for _, c := range table.Columns {
		as = append(as, c.As)
	}
	assert.Equal(t, []string{"name", "serial", "mac", "fields.asset_no", "-", "-"}, as)
	require.Len(t, table.Lines, 2)
	assert.Equal(t, inventory.Item{Key: "WX4-10011", Name: "Cam-11", Serial: "WX4-10011",
		MAC: "00:40:8c:10:00:11", Fields: map[string]string{"asset_no": "0012"}}, table.Lines[0].Item)
	assert.Equal(t, 4, table.Lines[0].Row)
	assert.Contains(t, table.Lines[0].Remark, `"Cam 11" becomes Cam-11`)
	assert.Contains(t, table.Lines[1].Problem, "no serial number")

	for _, c := range []struct {
		rows [][]string
		as   map[string]string
		want string
	}{
		{[][]string{{"Asset", "Price"}}, nil, "none of the first 20 rows"},
		{[][]string{{"Serial", "S/N"}}, nil, `"Serial" and "S/N" are both read as serial`},
		{[][]string{{"Serial", "Code"}}, map[string]string{"Kode": "asset"}, `no heading "Kode"`},
		{[][]string{{"Serial", "Code"}}, map[string]string{"Code": "Asset No"}, "cannot be the name"},
	} {
		_, err := inventory.Read(c.rows, c.as, anyName)
		assert.ErrorContains(t, err, c.want)
	}
}

// Of two rows for one device none is taken: neither is more right.
func TestTwins(t *testing.T) {
	table, err := inventory.Read([][]string{{"serial", "name"}, {"A1", "a"}, {"a1", "b"}, {"B1", "c"},
		{"1.5E+11", "d"}}, nil, anyName)
	require.NoError(t, err)
	assert.Equal(t, "row 3 has the same serial number a1", table.Lines[0].Problem)
	assert.Equal(t, "row 2 has the same serial number a1", table.Lines[1].Problem)
	assert.Empty(t, table.Lines[2].Problem)
	assert.Contains(t, table.Lines[3].Problem, "was rounded by the spreadsheet program")
}

// A newer list changes what it states, and only that.
func TestMerge(t *testing.T) {
	read := func(rows ...[]string) inventory.Table {
		table, err := inventory.Read(rows, nil, anyName)
		require.NoError(t, err)
		return table
	}
	n, err := inventory.Inventory{}.Merge(read([]string{"serial", "name", "address", "asset", "spare"},
		[]string{"A1", "cam-1", "10.20.4.1", "7", "yes"}, []string{"A2", "cam-2", "10.20.4.2", "8", ""}))
	require.NoError(t, err)
	n, err = n.Merge(read([]string{"serial", "name", "address", "place"},
		[]string{"A3", "cam-1", "10.20.4.1", ""}, []string{"A2", "", "", "mast"}))
	require.NoError(t, err)
	assert.Equal(t, []inventory.Item{
		{Key: "A1", Serial: "A1", Spare: true, Fields: map[string]string{"asset": "7"}},
		{Key: "A2", Serial: "A2", Name: "cam-2", Address: "10.20.4.2", Place: "mast",
			Fields: map[string]string{"asset": "8"}},
		{Key: "A3", Serial: "A3", Name: "cam-1", Address: "10.20.4.1", Fields: map[string]string{}},
	}, n.Items)
	// two rows are about what was one item, by its address and by its name
	one, err := inventory.Inventory{}.Merge(read([]string{"address", "name"},
		[]string{"10.20.4.13", "cam-13"}))
	require.NoError(t, err)
	one, err = one.Merge(read([]string{"serial", "address", "name"},
		[]string{"S1", "10.20.4.13", ""}, []string{"S2", "", "cam-13"}))
	require.NoError(t, err)
	assert.Equal(t, []inventory.Item{
		{Key: "S1", Serial: "S1", Address: "10.20.4.13", Fields: map[string]string{}},
		{Key: "S2", Serial: "S2", Name: "cam-13", Fields: map[string]string{}}}, one.Items)
	n, err = n.Merge(read([]string{"serial", "spare"}, []string{"A1", "no"}))
	require.NoError(t, err)
	assert.False(t, n.Items[0].Spare)
}

// The example of the manual is read as it stands there.
func TestTheExampleOfTheManual(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "files.md"))
	require.NoError(t, err)
	found := regexp.MustCompile("(?s)\n## inventory.yaml.*?```yaml\n(.*?)```").FindSubmatch(page)
	require.NotNil(t, found)
	n, err := inventory.Parse("files.md", found[1], nil)
	require.NoError(t, err)
	require.Len(t, n.Items, 2)
	assert.Equal(t, "2028-03-01", n.Items[0].Fields["warranty"])
	assert.True(t, n.Items[1].Spare)
}

// A key alone is a serial number or a name, whichever a device has. A new name of a device is the new
// key of an item that is called so.
func TestKeysAreWhatIsKnown(t *testing.T) {
	n, err := inventory.Parse("inventory.yaml", []byte(`devices:
  WX4-10011: {place: mast}
  gate-1: {place: lock}
  gate-2: {name: gate-2, place: pier}
  TG2-103: {name: gate-3, place: weir}
`), nil)
	require.NoError(t, err)
	for place, d := range map[string]device.Device{
		"mast": known("cam-11", "wx4-10011", "", "10.20.4.11"),
		"lock": known("gate-1", "TG2-101", "", "10.20.4.31"),
		"pier": known("gate-2", "TG2-102", "", "10.20.4.32"),
		"weir": known("127.44.1.33", "TG2-103", "", "10.20.4.33"), // named by its serial number
	} {
		item, is := n.Find(d)
		assert.True(t, is, place)
		assert.Equal(t, place, item.Place)
	}
	n, err = n.Rename("gate-2", "gate-b")
	require.NoError(t, err)
	raw, err := inventory.Format(n)
	require.NoError(t, err)
	n, err = inventory.Parse("inventory.yaml", raw, nil)
	require.NoError(t, err)
	item, is := n.Find(known("gate-b", "TG2-102", "", "10.20.4.32"))
	assert.True(t, is)
	assert.Equal(t, "pier", item.Place)
	item, is = n.Find(known("gate-1", "TG2-101", "", "10.20.4.31"))
	assert.True(t, is, "it is still known by its key")
	assert.Equal(t, "gate-1", item.Called())
}
