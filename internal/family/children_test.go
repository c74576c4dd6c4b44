package family_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/family"
)

// kin is a family with children; each line of it may be replaced.
func kin(replace ...string) string {
	return whole(strings.NewReplacer(replace...).Replace(`read:
  - get: /a
    take: {version: $.v}
children:
  family: units
  models: [TU-1]
  parallel: 2
  goes: last
  list:
    - get: /units
      each: $.units[*]
      take: {place: int $.place, serial: $.serial, version: $.fw, does: $.state}
  state: {busy: does == "busy", away: does == "starting"}
  store:
    steps:
      - upload: PUT /images/$image.sha256
  update:
    - post: /units/$place/install
      writes: true
      outcome: {404: image}
`))
}

func TestChildrenOfAFamily(t *testing.T) {
	f, err := family.Parse("f.yaml", []byte(kin()))
	require.NoError(t, err)
	c := f.Children
	require.NotNil(t, c)
	assert.Equal(t, []string{"units", f.Vendor, "TU-1"}, []string{c.Name, c.Vendor, c.Models[0]})
	b := c.Program.ParentRoute
	assert.Equal(t, []string{"serial"}, b.Identity)
	assert.Equal(t, 2, b.Parallel)
	assert.True(t, b.Last)
	set, err := family.NewSet([]family.Family{f})
	require.NoError(t, err)
	assert.Equal(t, "units", set.Of(f.Vendor, "TU-1").Name)
	_, err = family.NewSet([]family.Family{f, {Name: "other", Vendor: f.Vendor,
		Models: []string{"TU-1"}}})
	assert.ErrorContains(t, err, "both claim the model TU-1")

	_, err = family.NewSet([]family.Family{f, {Name: "Units", Vendor: f.Vendor,
		Models: []string{"TU-2"}, File: "b.yaml"}})
	assert.ErrorContains(t, err, "two families are called Units")
	_, err = family.Parse("f.yaml", []byte("family: snmp\nvendor: Osmere\nmodels: [OS-9]\n"))
	assert.ErrorContains(t, err, "f.yaml:1:9: family: snmp is the name of a standard's own")

	for want, replace := range map[string][2]string{
		"children: list: requires steps, one of them with each:": {"each: $.units[*]",
			"expect: true"},
		"children: list: must take serial of each of them, which tells one":   {"serial: $.serial, ", ""},
		"children: list: must take version of each of them, which tells what": {"version: $.fw, ", ""},
		"children: goes: is first, before their parent's own update, or last": {"goes: last",
			"goes: never"},
		"parallel: is how many are updated at a time: 1 to 1000": {"parallel: 2",
			"parallel: 0"},
		`unknown key "recognise"`: {"parallel: 2",
			"recognise: []"},
		`unknown key "paralel"; did you mean parallel?`: {"parallel: 2",
			"paralel: 2"},
		"store: has neither upload: nor offer: among its steps:": {"upload: PUT /images/$image.sha256",
			"get: /images"},
		"update: has neither upload: nor offer:, nor a step that says writes": {"writes: true",
			"repeat: true"},
		"no step extracts version1":                  {`does == "busy"`, `version1 == "busy"`},
		"models: must list the models of the family": {"models: [TU-1]", "models: []"},
		"each: belongs to a step of children: list:": {"get: /a\n",
			"get: /a\n    each: $.a\n"},
		"each: finds the children by JSONPath, XPath, or ~ RE2": {"each: $.units[*]", "each: status"},
	} {
		_, err := family.Parse("f.yaml", []byte(kin(replace[0], replace[1])))
		assert.ErrorContains(t, err, want)
	}
}

// Each child has its own values, in JSON, XML, HTML and lines; one that lacks something is named.
func TestEachChild(t *testing.T) {
	for _, c := range []struct{ each, serial, version, kind, body string }{
		{"$.u[*]", "$.s", "$.v", "application/json", `{"u":[{"s":"A","v":"1"},{"s":"B","v":"2"}]}`},
		{"//u", "string(/u/@s)", "//v", "text/xml", `<l><u s="A"><v>1</v></u><u s="B"><v>2</v></u></l>`},
		{"//tr", "//td[1]", "//td[2]", "text/html",
			`<!doctype html><table><tr><td>A<td>1<tr><td>B<td>2</table>`},
		{"~ (?m)^unit .*$", `~ ^unit (\S+)`, `~ (\S+)$`, "text/plain", "units:\nunit A 1\nunit B 2\n"},
	} {
		f, err := family.Parse("f.yaml", []byte(kin("each: $.units[*]", fmt.Sprintf("each: '%s'", c.each),
			"{place: int $.place, serial: $.serial, version: $.fw, does: $.state}",
			fmt.Sprintf("{place: 'int status', serial: '%s', version: '%s', does: 'status'}", c.serial,
				c.version))))
		require.NoError(t, err, c.each)
		step := f.Children.Program.ParentRoute.List[0]
		answer := family.Answer{Status: 200, Body: []byte(c.body),
			Header: map[string][]string{"Content-Type": {c.kind}}}
		rows, err := step.TakeEach(answer)
		require.NoError(t, err, c.each)
		require.Len(t, rows, 2, c.each)
		for i, want := range [][2]string{{"A", "1"}, {"B", "2"}} {
			assert.Equal(t, want[0], rows[i]["serial"], c.each)
			assert.Equal(t, want[1], rows[i]["version"], c.each)
		}
	}
	f, err := family.Parse("f.yaml", []byte(kin()))
	require.NoError(t, err)
	step := f.Children.Program.ParentRoute.List[0]
	_, err = step.TakeEach(family.Answer{
		Body: []byte(`{"units":[{"place":1,"serial":"A","fw":"1","state":"idle"},{"place":2}]}`)})
	assert.ErrorContains(t, err, "child 2 of its list: it has no serial")
	many := `{"units":[` + strings.Repeat(`{},`, 600) + `{}]}`
	_, err = step.TakeEach(family.Answer{Body: []byte(many)})
	assert.ErrorContains(t, err, "it lists 601 children; at most 512 are taken")
}
