package ledger

import (
	"time"
)

// SetProgress keeps the passing progress of devices of a job. It does not wait
// for the disk, and a crash may lose it.
func (l *Ledger) SetProgress(job string, of map[string]Progress) error {
	if l.passing == nil {
		return nil
	}
	tx, err := l.passing.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for device, p := range of {
		if _, err := tx.Exec(`INSERT OR REPLACE INTO progress VALUES (?,?,?,?,?)`,
			job, device, p.Done, p.Total, p.At.UTC().Format(time.RFC3339Nano)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Progress returns the last progress of each device of a job.
func (l *Ledger) Progress(job string) (map[string]Progress, error) {
	if l.passing == nil {
		return nil, nil
	}
	rows, err := l.passing.Query(`SELECT device, done, total, at FROM progress WHERE job = ?`, job)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	out := map[string]Progress{}
	for rows.Next() {
		var device, at string
		var p Progress
		if err := rows.Scan(&device, &p.Done, &p.Total, &at); err != nil {
			return nil, err
		}
		p.At, _ = time.Parse(time.RFC3339Nano, at) // the zero time where it is unreadable
		out[device] = p
	}
	return out, rows.Err()
}
