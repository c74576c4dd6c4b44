package report_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/report"
)

// workNight is a report of a night in which every outcome occurred.
func workNight() report.Report {
	start := time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC)
	away := &job.Reason{Why: job.WrongVersion, Is: "3.1.0", Then: &job.Reason{Why: job.StillAway}}
	return report.Report{Site: "Marrow Hill <Locks>", Engineer: "A. Fenwright", Made: start,
		Zone: time.UTC, Jobs: []report.Job{{ID: "j1", Order: "night-1", Started: start,
			Ended: start.Add(time.Hour), Devices: []report.Device{
				{ID: "d1", Name: "gate-1", Place: "lower gate", Model: "TG-200", Serial: "TG2-00101",
					From: "K42", To: "K44", End: job.Stranded, Cause: away,
					Reason: "does not answer; run: catena resume"},
				{ID: "d2", Name: "cam-12", Model: "WX-40", From: "3.1.0", Runs: "3.1.0", End: job.Returned,
					Cause: &job.Reason{Why: job.WrongVersion}},
				{ID: "d3", Name: "cam-11", Model: "WX-40", From: "3.1.0", Runs: "3.2.1", End: job.Done},
			}, Limits: order.Rules{Parallel: 8, Pilot: true, PerUplink: 2}.Each(func(s string) string {
				return s
			})}},
		Visits: []report.Visit{{ID: "d1", Name: "gate-1"}},
		Untouched: []report.Untouched{{Name: "cam-21", Status: "current"},
			{Name: "cam-22", Status: "held"}, {Name: "cam-91", Status: "behind", Spare: true}}}
}

func texts(t *testing.T, language string, own map[string][]byte) report.Texts {
	out, err := report.TextsOf(language, own)
	require.NoError(t, err)
	return out
}

// The customer reads what was achieved in two sentences, and neither commands nor words of the
// program.
func TestTheCustomersEdition(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, workNight().ForCustomer(texts(t, "en", nil)).HTML(&b, nil))
	page := b.String()
	for _, want := range []string{"On 27 November 2026, 1 of 3 devices were updated and verified. Of the " +
		"others, 1 must be visited, and 1 stayed without the intended version.",
		`<td>lower gate</td><th scope="row">gate-1</th><td>TG-200</td><td>TG2-00101</td>` +
			`<td>It has not answered since its restart.</td>`,
		"previous version restored<small>It did not start the new version.</small>",
		"Made by A. Fenwright on 27 November 2026", "27 November 2026, 22:00 to 23:00",
		"no more than 8 are updated at the same time", "no more than 2 at the same time behind one " +
			"network device", "1 further device is up to date.", "left as it is, by agreement",
		"Marrow Hill &lt;Locks&gt;", "Signature"} {
		assert.Contains(t, page, want)
	}
	visible := regexp.MustCompile(`(?s)<style>.*?</style>|<[^>]*>`).ReplaceAllString(page, " ")
	for _, word := range []string{"catena", "stranded", "returned", "j1", "lockstep", "ledger", "signed",
		"cam-91"} {
		assert.NotContains(t, strings.ToLower(visible), word)
	}
	partly := workNight()
	partly.Jobs[0].Devices[1].End, partly.Jobs[0].Devices[1].Runs = job.Skipped, "3.2.1, modem 11.0"
	assert.Equal(t, "updated in part", partly.ForCustomer(texts(t, "en", nil)).Devices[1].Result)
	set := workNight()
	set.Jobs[0].Purpose, set.Jobs[0].Devices, set.Visits = order.Backward, set.Jobs[0].Devices[2:], nil
	there := set.ForCustomer(texts(t, "en", nil))
	assert.Equal(t, "On 27 November 2026, 1 of 1 devices received the intended version, and were "+
		"verified. All of them report that version.", there.Summary)
	assert.Equal(t, "set back to an earlier version", there.Devices[0].Result)
	one := workNight()
	one.Jobs[0].Signed = []string{"SHA256:abc"}
	one.Jobs[0].Devices = one.Jobs[0].Devices[2:]
	one.Visits = nil
	c := one.ForCustomer(texts(t, "de", nil))
	assert.Equal(t, "Am 27.11.2026 wurde 1 von 1 Gerät aktualisiert und geprüft. Alle melden ihre "+
		"neue Version.", c.Summary)
	assert.Contains(t, c.Works[0].Signed, "SHA256:abc")
	one.Jobs[0].Ended = time.Time{}
	assert.Contains(t, one.ForCustomer(texts(t, "en", nil)).Summary, "has not ended")
}

// Every outcome, status and rule has its text in every language, and every reason that a device can
// end with has one or needs none.
func TestEveryTextIsThere(t *testing.T) {
	english := texts(t, "en", nil)
	files, err := report.Templates()
	require.NoError(t, err)
	keys := func(file string) (out []string) {
		for _, m := range regexp.MustCompile(`(?m)^([a-z_-]+):`).FindAllSubmatch(files[file], -1) {
			out = append(out, string(m[1]))
		}
		return out
	}
	assert.Greater(t, len(keys("en.yaml")), 60)
	assert.Equal(t, keys("en.yaml"), keys("de.yaml"))
	for _, s := range match.Statuses {
		if s != match.Current {
			assert.NotEmpty(t, english.Say("status_"+string(s)), s)
		}
	}
	every := order.Rules{
		Parallel:  1,
		PerModel:  map[string]int{"a": 1},
		PerKind:   map[string]int{"a": 1},
		PerUplink: 1,
		PerParent: map[string]int{"a": 1},
		Pilot:     true,
		Cover:     []order.Cover{{Keep: 1}},
		Lockstep:  []order.Set{{}},
		StopAfter: order.StopAfter{Failures: 1, Share: 0.2},
	}
	rules := every.Each(func(string) string { return "" })
	assert.Len(t, rules, 10)
	for _, r := range append(rules, order.Rule{Kind: "closes"}, order.Rule{Kind: "giveup"}) {
		assert.NotEmpty(t, english.Say("rule_"+r.Kind), r.Kind)
	}
	used := regexp.MustCompile(`text "([a-z_]+)"`).FindAllSubmatch(files["customer.html"], -1)
	assert.Greater(t, len(used), 30)
	for _, m := range used {
		assert.NotEmpty(t, english.Say(string(m[1])), string(m[1]))
	}
	without := []job.Why{job.RollbackFailed, job.VerifiedAnyway, job.PersonsWord}
	r := workNight()
	for _, why := range job.Whys {
		r.Jobs[0].Devices[1].Cause = &job.Reason{Why: why}
		d := r.ForCustomer(english).Devices[1]
		require.Equal(t, "cam-12", d.Name)
		if why == job.RollbackFailed || why == job.VerifiedAnyway || why == job.PersonsWord {
			assert.Contains(t, without, why)
			assert.Empty(t, d.Why)
		} else {
			assert.NotEmpty(t, d.Why, why)
		}
	}
	r.Jobs[0].Devices[1].Cause = &job.Reason{Why: job.DeviceSaid,
		Device: &device.Cause{Problem: device.BadLogin}}
	assert.Contains(t, r.ForCustomer(english).Devices[1].Why, "login")
}

// An integrator replaces the page, the style and the texts, and adds a language; what cannot be
// used is refused with its place. The page loads nothing, whatever its template has.
func TestTheIntegratorsTemplate(t *testing.T) {
	own := map[string][]byte{"customer.html": []byte(`<h1>{{text "title"}}: {{.Site}}</h1>` +
		`<script>alert(1)</script>`), "customer.css": []byte("h1{color:#123}"),
		"en.yaml": []byte("title: Wartung\n"), "cy.yaml": []byte("title: Adroddiad\nlanguage: cy\n")}
	var b bytes.Buffer
	require.NoError(t, workNight().ForCustomer(texts(t, "cy", own)).HTML(&b, own))
	assert.Contains(t, b.String(), "<h1>Adroddiad: Marrow Hill &lt;Locks&gt;</h1>")
	assert.Contains(t, b.String(), `lang="cy"`)
	assert.Contains(t, b.String(), "h1{color:#123}")
	assert.Less(
		t,
		strings.Index(b.String(), "default-src 'none'"),
		strings.Index(b.String(), "<script>"),
	)
	assert.Equal(t, "Wartung", texts(t, "en", own).Say("title"))
	assert.Equal(t, "Summary", texts(t, "cy", own).Say("summary"), "a text that is missing is English")

	for want, bad := range map[string]map[string][]byte{
		"customer.html": {"customer.html": []byte("{{.Nothing}}")},
		"unclosed":      {"customer.html": []byte("{{if")},
		"128 MiB": {"customer.html": []byte(`{{define "a"}}{{printf "%999999s" ""}}{{template "a"}}{{end}}` +
			`{{template "a"}}`)},
		"style sheet": {"customer.css": []byte("</STYLE><script>")},
	} {
		err := workNight().ForCustomer(texts(t, "en", nil)).HTML(&b, bad)
		var template *report.TemplateError
		assert.ErrorAs(t, err, &template)
		assert.ErrorContains(t, err, want)
	}
	_, err := report.TextsOf("en", map[string][]byte{"en.yaml": []byte("title: x\ncolour: red\n")})
	assert.ErrorContains(t, err, `report/en.yaml:2:9: there is no text "colour"`)
	_, err = report.TextsOf("fr", nil)
	assert.ErrorContains(t, err, `there are no texts in "fr"; there are de and en`)
}

// The PDF has pages of A4 with numbers, and the same report is the same file.
func TestThePDF(t *testing.T) {
	r := workNight()
	for range 60 {
		r.Jobs[0].Devices = append(r.Jobs[0].Devices, report.Device{ID: "x", Name: "lamp", Place: "post",
			Model: "TU-1", End: job.Done, Notes: []report.Note{{Text: "ok \U0001F6A7 門"}}})
		r.Jobs[0].Devices[len(r.Jobs[0].Devices)-1].ID += strings.Repeat("x", len(r.Jobs[0].Devices))
	}
	r.Logo = "data:image/png;base64,AAAA" // damaged: left out
	var a, b bytes.Buffer
	require.NoError(t, r.ForCustomer(texts(t, "en", nil)).PDF(&a, r.Made))
	require.NoError(t, r.ForCustomer(texts(t, "en", nil)).PDF(&b, r.Made))
	assert.Equal(t, a.Bytes(), b.Bytes())
	assert.Equal(t, "%PDF-1.", a.String()[:7])
	tool, err := exec.LookPath("pdftotext")
	if err != nil {
		t.Skip("pdftotext is not installed: the text of the PDF is not read")
	}
	path := filepath.Join(t.TempDir(), "r.pdf")
	require.NoError(t, os.WriteFile(path, a.Bytes(), 0o644))
	out, err := exec.Command(tool, "-layout", path, "-").Output()
	require.NoError(t, err)
	for _, want := range []string{"Marrow Hill <Locks>", "lower gate", "TG2-00101", "page 1 of",
		"It has not answered", "Acceptance"} {
		assert.Contains(t, string(out), want)
	}
	assert.NotContains(t, string(out), "{p}")
}
