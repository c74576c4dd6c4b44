package job

import (
	"time"

	"catena/internal/ledger"
)

// Poll sets how often a job reads what other processes have written, until the function that it returns is
// called: a simulated night of many hours would spend most of its time on that.
func Poll(every time.Duration) (reset func()) {
	was := pollEvery
	pollEvery = every
	return func() { pollEvery = was }
}

// Live describes the dispatcher of a job as it has lived.
func Live(j *Job) []string { return j.live.state.dispatch.Describe() }

// Folded describes the dispatcher of a job as its entries up to the number seq make it.
func Folded(l *ledger.Ledger, j *Job) ([]string, error) {
	entries, err := l.Entries(ledger.Filter{Job: j.ID})
	if err != nil {
		return nil, err
	}
	for len(entries) > 0 && entries[len(entries)-1].Seq > j.live.state.Seq {
		entries = entries[:len(entries)-1]
	}
	s, err := fold(entries)
	if err != nil || s.dispatch == nil {
		return nil, err
	}
	return s.dispatch.Describe(), nil
}
