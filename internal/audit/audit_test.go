package audit_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/audit"
)

func TestLimits(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	for _, c := range []struct {
		name string
		find func() (audit.Finding, bool)
		want audit.Severity // empty: no finding
		text string
	}{
		{"two minutes", func() (audit.Finding, bool) {
			return audit.ClockOf("cam-11", "d1", 2*time.Minute)
		}, "", ""},
		{"behind", func() (audit.Finding, bool) {
			return audit.ClockOf("cam-11", "d1", -3*time.Minute)
		}, audit.Look, "its clock is 3 min behind"},
		{"a day", func() (audit.Finding, bool) { return audit.ClockOf("cam-11", "d1", 26*time.Hour) },
			audit.Bad, "its clock is 26 h ahead"},
		{"enough storage", func() (audit.Finding, bool) { return audit.StorageOf("cam-11", "d1", 10) }, "",
			""},
		{"little storage", func() (audit.Finding, bool) { return audit.StorageOf("cam-11", "d1", 9) },
			audit.Look, "9 % of its storage is free"},
		{"no storage", func() (audit.Finding, bool) { return audit.StorageOf("cam-11", "d1", 1) },
			audit.Bad, ""},
		{"valid", func() (audit.Finding, bool) {
			return audit.CertificateOf("cam-11", "d1", now.Add(-day), now.Add(31*day), now)
		}, "", ""},
		{"expires", func() (audit.Finding, bool) {
			return audit.CertificateOf("cam-11", "d1", now.Add(-day), now.Add(29*day), now)
		}, audit.Look, "its certificate expires on 2026-12-26"},
		{"expired", func() (audit.Finding, bool) {
			return audit.CertificateOf("cam-11", "d1", now.Add(-2*day), now.Add(-day), now)
		}, audit.Bad, "its certificate expired on 2026-11-26"},
		{"not yet", func() (audit.Finding, bool) {
			return audit.CertificateOf("cam-11", "d1", now.Add(day), now.Add(60*day), now)
		}, audit.Bad, "its certificate is not valid before 2026-11-28"},
	} {
		f, is := c.find()
		assert.Equal(t, c.want != "", is, c.name)
		if is {
			assert.Equal(t, c.want, f.Severity, c.name)
			assert.Contains(t, f.Text, c.text)
		}
	}
}

// Every kind has a severity, a meaning and a remedy, and the remedy names the device.
func TestEveryFindingHasAMeaningAndARemedy(t *testing.T) {
	for _, kind := range audit.Kinds {
		f := audit.Of(kind, "cam-11", "d1", "x")
		assert.NotEmpty(t, f.Meaning, kind)
		assert.NotEmpty(t, f.Remedy, kind)
		assert.NotContains(t, f.Remedy, "%", kind)
		assert.Contains(t, []audit.Severity{audit.Bad, audit.Look}, f.Severity, kind)
	}
	assert.Contains(t, audit.Of(audit.NoSave, "cam-11", "d1", "x").Remedy, "settings save cam-11")
}

func TestOrder(t *testing.T) {
	accepted := audit.Of(audit.Unsafe, "cam-1", "d1", "x")
	accepted.Accepted = "until spring"
	all := []audit.Finding{accepted, audit.Of(audit.Plain, "cam-10", "d2", "x"),
		audit.Of(audit.Plain, "cam-2", "d3", "x"), audit.Of(audit.Clock, "cam-3", "d4", "x"),
		audit.Of(audit.Unsafe, "cam-4", "d5", "x")}
	assert.Equal(t, audit.Bad, audit.Worst(all))
	audit.Sort(all)
	var names []string
	for _, f := range all {
		names = append(names, f.Device)
	}
	assert.Equal(t, []string{"cam-4", "cam-3", "cam-2", "cam-10", "cam-1"}, names)
	assert.Equal(t, audit.Look, audit.Worst(all[1:]))
	assert.Empty(t, audit.Worst(all[4:]))
}
