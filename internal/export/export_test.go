package export_test

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/export"
	"catena/internal/job"
	"catena/internal/plan"
	"catena/internal/plan/plantest"
	"catena/internal/report"
)

const hill = `site: Marrow Hill
engineer: the night shift
places: {cam-3: gate hut, "cam-*": basin}
uplinks: [{through: cam-1, reach: [cam-2]}, {through: cam-2, reach: [cam-3]}]
`

func reported(t *testing.T, h *plantest.Hill, w *plan.Site, jobs ...string) report.Report {
	var all []job.State
	for _, id := range jobs {
		s, err := w.JobState(id)
		require.NoError(t, err)
		all = append(all, s)
	}
	r, err := export.Report(w, all, h.Now, "Catena test", func(d job.DeviceState) string {
		return "see to " + d.Name
	})
	require.NoError(t, err)
	return r
}

// Each device is told once: with its job, or with the reason why no job worked on it. Who needs
// hands is listed in the order in which the places are walked to, by the newest job.
func TestReport(t *testing.T) {
	h := plantest.New(t, hill, "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.1.0", "cam-3": "3.1.0",
		"cam-4": "3.2.1"})
	w := h.Open(t)
	h.Ran(t, w, "j1", job.Stranded, "3.1.0", "3.2.1", "cam-1", "cam-2", "cam-3")
	h.Ran(t, w, "j2", job.Done, "3.1.0", "3.2.1", "cam-2")
	r := reported(t, h, w, "j1", "j2")
	assert.Equal(t, []string{"Marrow Hill", "the night shift", "Catena test"},
		[]string{r.Site, r.Engineer, r.Program})
	require.Len(t, r.Jobs, 2)
	assert.Equal(t, map[job.Step]int{job.Stranded: 3}, r.Jobs[0].Counts)
	assert.Equal(t, map[job.Step]int{job.Done: 1}, r.Jobs[1].Counts)
	var visits []string
	for _, v := range r.Visits {
		visits = append(visits, v.Name+", "+v.Place+": "+v.Next)
	}
	assert.Equal(t, []string{"cam-3, gate hut: see to cam-3", "cam-1, basin: see to cam-1"}, visits)
	require.Len(t, r.Untouched, 1)
	assert.Equal(t, "cam-4 current", r.Untouched[0].Name+" "+r.Untouched[0].Status)
	count, _, err := w.Check()
	require.NoError(t, err)
	assert.Equal(t, count, r.Ledger.Entries)
	assert.Len(t, r.Ledger.Last, 64)
	assert.Empty(t, r.Jobs[0].Signed, "no one signed it")
}

// An order's rules are told in words, every one of them.
func TestRulesInWords(t *testing.T) {
	h := plantest.New(t, `site: Marrow Hill
limits: {parallel: 3, per_uplink: 2, per_model: {WX-40: 1}}
`, "3.1.0", "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.1.0"})
	w := h.Open(t)
	o, _ := h.Order(t, w, plan.Request{Parallel: 2})
	h.Runs(t, w, "j1", o)
	rules := reported(t, h, w, "j1").Jobs[0].Rules
	for _, want := range []string{"at most 2 at the same time",
		"at most 1 of model WX-40 at the same time",
		"at most 2 at the same time through one uplink",
		"the first of each model is verified before the next starts; if it is stranded, none does"} {
		assert.Contains(t, rules, want)
	}
	images := reported(t, h, w, "j1").Jobs[0].Images
	require.Len(t, images, 2)
	assert.Equal(t, []any{"3.2.1.bin", false, "3.1.0.bin", true},
		[]any{images[0].File, images[0].Back, images[1].File, images[1].Back})
}

// Each device hangs on the nearest one that it is reached through.
func TestTree(t *testing.T) {
	h := plantest.New(t, hill, "3.2.1")
	h.Sees(t, map[string]string{"cam-1": "3.1.0", "cam-2": "3.1.0", "cam-3": "3.1.0",
		"cam-10": "3.2.1"})
	w := h.Open(t)
	var got []string
	for _, n := range export.Tree(w) {
		got = append(got, n.Name+" through "+w.NameOf(n.Through)+", "+n.Status)
	}
	assert.Equal(t, []string{"cam-1 through , behind", "cam-2 through cam-1, behind",
		"cam-3 through cam-2, behind", "cam-10 through , current"}, got)
}

// The logo goes into a report that is given away: it is a picture from inside the site folder, or
// an error that names it.
func TestLogo(t *testing.T) {
	const svg = `<svg xmlns="http://www.w3.org/2000/svg"/>`
	outside := filepath.Join(t.TempDir(), "secret.svg")
	require.NoError(t, os.WriteFile(outside, []byte(svg), 0o600))
	for name, c := range map[string]struct {
		make func(t *testing.T, path string)
		why  string
	}{
		"logo.svg": {func(t *testing.T, path string) {
			require.NoError(t, os.WriteFile(path, []byte(svg), 0o600))
		}, ""},
		"none.svg": {func(*testing.T, string) {}, "cannot be read"},
		"link.svg": {func(t *testing.T, path string) {
			if os.Symlink(outside, path) != nil {
				t.Skip("needs symbolic links")
			}
		}, "not in the site folder"},
		"folder.svg": {func(t *testing.T, path string) { require.NoError(t, os.Mkdir(path, 0o755)) },
			"is not a file"},
		"large.svg": {func(t *testing.T, path string) {
			require.NoError(t, os.WriteFile(path, make([]byte, 600<<10), 0o600))
		}, "larger than"},
		"page.png": {func(t *testing.T, path string) {
			require.NoError(t, os.WriteFile(path, []byte("<html>"), 0o600))
		}, "not a picture"},
	} {
		t.Run(name, func(t *testing.T) {
			h := plantest.New(t, "site: Marrow Hill\nlogo: "+name+"\n")
			c.make(t, filepath.Join(h.Dir, name))
			r, err := export.Report(h.Open(t), nil, time.Now(), "", nil)
			if c.why == "" {
				require.NoError(t, err)
				assert.Equal(t, "data:image/svg+xml;base64,"+
					base64.StdEncoding.EncodeToString([]byte(svg)), r.Logo)
				return
			}
			var wrong *export.LogoError
			require.ErrorAs(t, err, &wrong)
			assert.ErrorContains(t, err, c.why)
			assert.Empty(t, r.Logo)
		})
	}
}
