package job

import (
	"time"

	"catena/internal/ledger"
)

// Poll sets how often a job reads what other processes have written, and how often it reports the
// progress of transfers, until the function that it returns is called: a simulated night of many
// hours would spend most of its time on that.
func Poll(every, progress time.Duration) (reset func()) {
	was, progressWas := pollEvery, progressEvery
	pollEvery, progressEvery = every, progress
	return func() { pollEvery, progressEvery = was, progressWas }
}

// Watch has f called whenever the dispatcher of a job has read entries back.
func Watch(j *Job, f func()) { j.live.watch = f }

// Live describes the dispatcher of a job as it has lived.
func Live(j *Job) []string { return j.live.state.dispatch.Describe() }

// Described describes the dispatcher of a job as a follower of its entries has it, up to the one
// that the job has read last.
func Described(f *Follower, j *Job) ([]string, error) {
	entries, err := f.ledger.Entries(ledger.Filter{Job: f.id, After: f.state.Seq})
	for _, e := range entries {
		if err == nil && e.Seq <= j.live.state.Seq {
			err = f.take(e)
		}
	}
	if err != nil || f.state.dispatch == nil {
		return nil, err
	}
	return f.state.dispatch.Describe(), nil
}
