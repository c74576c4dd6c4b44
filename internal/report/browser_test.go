package report_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/job"
	"catena/internal/report"
)

// night is a report of a whole night: sixty devices, some with long names and long reasons.
func night() report.Report {
	r := full()
	r.Site, r.Visits, r.Untouched, r.Tree = "Marrow Hill Locks", nil, nil, nil
	j := &r.Jobs[0]
	j.Devices, j.Counts = nil, map[job.Step]int{job.Done: 58, job.Returned: 2}
	for n := range 60 {
		d := full().Jobs[0].Devices[0]
		d.ID, d.Name, d.End, d.Model, d.Serial = fmt.Sprint("d", n), fmt.Sprintf("camera-%02d",
			n), job.Done, "WX-40", "WX4-100"+strconv.Itoa(n)
		d.From, d.Runs, d.Parent, d.Rollback, d.Place, d.Saved = "3.1.0", "3.2.1", "", "image",
			"chamber 2", ""
		if n < 2 {
			d.End, d.Name = job.Returned, strings.Repeat("a-name-of-many-words-", 4)
			d.Reason = strings.Repeat("after its restart it runs 3.1.0, not 3.2.1; ", 6) + strings.Repeat(
				"x", 200)
		}
		j.Devices = append(j.Devices, d)
		r.Tree = append(r.Tree, report.Node{ID: d.ID, Name: d.Name, Model: d.Model, Version: d.Runs,
			Status: "current"})
	}
	return r
}

// A browser shows it without anything off the page, on a wide screen and on a narrow one, and
// prints it on A4 so that every device is there, whole.
func TestInABrowser(t *testing.T) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("there is no chromium")
	}
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	run := func(args ...string) string {
		cmd := exec.Command(browser, append([]string{"--headless", "--no-sandbox", "--disable-gpu",
			"--user-data-dir=" + filepath.Join(dir, "profile")}, args...)...)
		cmd.Env = append(os.Environ(), "HOME="+dir)
		var said strings.Builder
		cmd.Stderr = &said
		timer := time.AfterFunc(2*time.Minute, func() { _ = cmd.Process.Kill() })
		defer timer.Stop()
		out, err := cmd.Output()
		require.NoError(t, err, said.String())
		return string(out)
	}
	var b strings.Builder
	require.NoError(t, night().HTML(&b))
	page := b.String()
	whole := write("report.html", page)
	// the page itself lets no script run: the copy that is measured does
	measured := regexp.MustCompile(
		`<meta http-equiv="Content-Security-Policy"[^>]*>`).ReplaceAllString(page, "")
	measured = strings.Replace(measured, "</body>",
		`<script>document.body.dataset.wide = document.documentElement.scrollWidth + " " + innerWidth</script></body>`, 1)
	copied := write("measured.html", measured)
	for _, width := range []int{1280, 500} {
		dom := run(fmt.Sprintf("--window-size=%d,900", width), "--dump-dom", "file://"+copied)
		m := regexp.MustCompile(`data-wide="(\d+) (\d+)"`).FindStringSubmatch(dom)
		require.NotNil(t, m, "%d", width)
		needs, _ := strconv.Atoi(m[1])
		has, _ := strconv.Atoi(m[2])
		assert.LessOrEqual(t, needs, has, "nothing is off the page at %d", width)
	}
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("there is no pdftotext: the print was not looked at")
	}
	pdf := filepath.Join(dir, "report.pdf")
	run("--no-pdf-header-footer", "--print-to-pdf="+pdf, "file://"+whole)
	out, err := exec.Command("pdftotext", "-bbox", pdf, "-").Output()
	require.NoError(t, err)
	words := regexp.MustCompile(`xMax="([\d.]+)" yMax="[\d.]+">([^<]*)<`).FindAllStringSubmatch(
		string(out), -1)
	require.Greater(t, len(words), 500)
	seen := map[string]bool{}
	for _, w := range words {
		right, _ := strconv.ParseFloat(w[1], 64)
		assert.LessOrEqual(t, right, 596.0, "%s is off the paper", w[2])
		seen[w[2]] = true
	}
	for n := 2; n < 60; n++ {
		assert.True(t, seen[fmt.Sprintf("camera-%02d", n)], "camera-%02d is printed", n)
	}
}
