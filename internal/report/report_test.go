package report_test

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/job"
	"catena/internal/order"
	"catena/internal/report"
)

const hostile = `<script>alert("&'x")</script>` + "\u202e"

// full is a report in which every text is hostile.
func full() report.Report {
	at := time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC)
	span := func(step job.Step, way job.Direction, from, to int) job.Span {
		return job.Span{Step: step, Direction: way, To: hostile,
			Began: at.Add(time.Duration(from) * time.Second),
			Ended: at.Add(time.Duration(to) * time.Second), Reason: hostile, Asked: hostile, Answer: hostile}
	}
	d := report.Device{ID: "d1", Name: hostile, Place: hostile, Model: hostile, Serial: hostile,
		Parent: hostile, Set: hostile,
		By: "hand", From: hostile, To: hostile, Runs: hostile, End: job.Returned, Reason: hostile,
		Next: hostile, Took: 61,
		Rollback: hostile, Saved: hostile, Images: []string{"ab"},
		Steps: []job.Span{span(job.Sending, job.Forward, 0, 30), span(job.Proving, job.Back, 30, 61)}}
	return report.Report{Format: 1, Site: hostile, Engineer: hostile, Note: hostile, Made: at,
		Program: hostile,
		Jobs: []report.Job{{ID: "j1", Order: hostile, Note: hostile, Purpose: order.Forward, Started: at,
			Ended:  at.Add(time.Hour),
			Signed: []string{hostile}, Rules: []string{hostile},
			Plays: &report.Plays{Runs: 9, From: 10, To: 20, Counts: []int{1, 5, 3}, Half: 14,
				Most: 19, Took: 24}, Counts: map[job.Step]int{job.Returned: 1},
			Devices: []report.Device{d},
			Cautions: []order.Caution{{Name: hostile, Text: hostile, Devices: []string{hostile},
				Accepted: hostile}},
			Images: []report.Image{{File: hostile, SHA256: hostile, Model: hostile, Version: hostile,
				Notes: hostile, Size: 3 << 20}}}},
		Visits: []report.Visit{{Name: hostile, Place: hostile, Model: hostile, Why: hostile,
			Next: hostile}},
		Untouched: []report.Untouched{{Name: hostile, Model: hostile, Runs: hostile, Status: hostile,
			Why: hostile}},
		Tree: []report.Node{{ID: "d1", Name: hostile, Model: hostile, Version: hostile,
			Status: hostile}},
		Ledger: report.Ledger{Entries: 3, Last: hostile}}
}

// No text of a device or a person is markup, in the page and in its pictures; nothing is fetched.
func TestEveryTextIsEscaped(t *testing.T) {
	var b strings.Builder
	require.NoError(t, full().HTML(&b))
	page := b.String()
	assert.NotContains(t, page, "<script")
	assert.Equal(t, 1, strings.Count(page,
		"&lt;script&gt;alert(&#34;&amp;&#39;x&#34;)&lt;/script&gt;\u202e: firmware report</title>"))
	assert.Greater(t, strings.Count(page, "&lt;script&gt;"), 50)
	for _, fetches := range []string{"http://", "https://", "<link", "<iframe", "url("} {
		assert.NotContains(t, strings.ReplaceAll(page, "http://www.w3.org/2000/svg", ""), fetches)
	}
	for _, picture := range []string{report.SVG(full().Tree),
		string(full().Jobs[0].Timeline(time.UTC))} {
		d := xml.NewDecoder(strings.NewReader(picture))
		for {
			token, err := d.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err, picture)
			if e, is := token.(xml.StartElement); is {
				assert.NotEqual(t, "script", e.Name.Local)
			}
		}
	}
}

// A rollback is known without its colour; what was asked is framed; times are told in the site's
// zone.
func TestTimeline(t *testing.T) {
	zone := time.FixedZone("X", 3600)
	picture := string(full().Jobs[0].Timeline(zone))
	assert.Contains(t, picture, `class="s-proving back asked"`)
	assert.Equal(t, 1, strings.Count(picture, `class="backline"`))
	assert.Contains(t, picture, ">23:00:00<")
	assert.Contains(t, picture, ">23:01:01<")
	assert.Empty(t, report.Job{}.Timeline(zone), "nothing was started")
}

// The plot has a bar for each part, and the job where it lies.
func TestPlot(t *testing.T) {
	picture := string(full().Jobs[0].Plays.Plot())
	assert.Equal(t, 3, strings.Count(picture, `class="s-sending"`))
	assert.Contains(t, picture, "the job: 0:24")
	assert.Contains(t, picture, "3 runs ended after 0:17 to 0:20")
	assert.Empty(t, report.Plays{Counts: []int{3}, From: 5, To: 5}.Plot(), "all took the same")
}

// Devices stand below the one that they are reached through; what is behind itself, or behind no
// one that is known, is still shown.
func TestTree(t *testing.T) {
	placed := report.Laid([]report.Node{{ID: "c", Through: "b"}, {ID: "a"}, {ID: "b", Through: "a"},
		{ID: "x", Through: "y"},
		{ID: "y", Through: "x"}, {ID: "z", Through: "gone"}})
	var got []string
	for _, p := range placed {
		got = append(got, strings.Repeat(".", p.Depth)+p.ID)
	}
	assert.Equal(t, []string{"a", ".b", "..c", "z", "x", ".y"}, got)
	dot := report.DOT(`a "hill"`, []report.Node{{ID: "d1", Name: `gate"1\`},
		{ID: "d2", Through: "d1"}})
	assert.Contains(t, dot, `digraph "a \"hill\"" {`)
	assert.Contains(t, dot, `"d1" [label="gate\"1\\ · `)
	assert.Contains(t, dot, `"d1" -> "d2";`)
}
