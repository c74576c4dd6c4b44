package record

import (
	"encoding/json"
	"time"

	"catena/internal/audit"
	"catena/internal/ledger"
	"catena/internal/text"
)

const (
	audited  ledger.Kind = "audit"    // the result of an audit; the body is an auditBody
	accepted ledger.Kind = "accepted" // a finding was accepted, or is not any more; an Acceptance
)

type auditBody struct {
	Findings []audit.Finding `json:"findings"`
}

// Acceptance is that an operator accepts a finding until a day.
type Acceptance struct {
	Kind    audit.Kind `json:"finding"`
	Until   string     `json:"until"` // the day on which it ends, such as 2027-03-01
	Because string     `json:"because"`
	By      string     `json:"by"`
	Dropped bool       `json:"dropped,omitempty"` // it is not accepted any more
}

// AddAudit records the result of an audit.
func AddAudit(l *ledger.Ledger, all []audit.Finding) error {
	return l.Append(audited, "", "", auditBody{all})
}

// LastAudit returns the newest result of an audit, and when it was made; the zero time: there is
// none.
func LastAudit(l *ledger.Ledger) (all []audit.Finding, at time.Time, err error) {
	entries, err := l.Entries(ledger.Filter{Kind: audited, Last: 1})
	if err != nil || len(entries) == 0 {
		return nil, time.Time{}, err
	}
	var b auditBody
	err = json.Unmarshal(entries[0].Body, &b)
	for i := range b.Findings { // another writer may write anything
		f := &b.Findings[i]
		for _, s := range []*string{&f.Device, &f.Text, &f.Meaning, &f.Remedy, &f.Accepted, &f.Until} {
			*s = text.Harmless(*s)
		}
		f.Kind = audit.Kind(text.Clean(string(f.Kind)))
		f.Severity = audit.Severity(text.Clean(string(f.Severity)))
	}
	return b.Findings, entries[0].At, err
}

// Accept records that a finding about a device is accepted, or is not any more. An empty id means
// the site.
func Accept(
	l *ledger.Ledger,
	id string,
	a Acceptance,
) error {
	return l.Append(accepted, "", id, a)
}

// Accepted returns the findings that are accepted at a time, by kind and device.
func Accepted(l *ledger.Ledger, now time.Time, zone *time.Location) (
	map[audit.Kind]map[string]Acceptance, error) {
	entries, err := l.Entries(ledger.Filter{Kind: accepted})
	out := map[audit.Kind]map[string]Acceptance{}
	for _, e := range entries {
		var a Acceptance
		if json.Unmarshal(e.Body, &a) != nil {
			continue
		}
		if out[a.Kind] == nil {
			out[a.Kind] = map[string]Acceptance{}
		}
		ends, bad := time.ParseInLocation(time.DateOnly, a.Until, zone)
		if a.Dropped || bad != nil || !now.Before(ends) {
			delete(out[a.Kind], e.Device)
			continue
		}
		a.Because, a.By = text.Clean(a.Because), text.Clean(a.By)
		out[a.Kind][e.Device] = a
	}
	return out, err
}
