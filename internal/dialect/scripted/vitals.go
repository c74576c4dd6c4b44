package scripted

import (
	"context"
	"net/http"
	"strconv"
	"strings"
	"time"

	"catena/internal/dialect"
)

// clockForms are the forms of a time that a family's value clock may have, besides the seconds
// since 1970. One without a zone is UTC.
var clockForms = []string{time.RFC3339, time.RFC1123, time.RFC1123Z, time.ANSIC, time.UnixDate,
	time.DateTime, "2006-01-02T15:04:05"}

// Vitals takes the values clock and free of the family's read steps. Without clock, a device that
// is talked to over HTTP has the date of its answers (RFC 9110, 6.6.1).
func (s *session) Vitals(ctx context.Context) (v dialect.Vitals, err error) {
	if s.base != nil {
		if v, err = dialect.VitalsOf(ctx, s.base); err != nil {
			return v, err
		}
	}
	if err := s.look(ctx); err != nil {
		return v, err
	}
	if free, is := s.v["free"].(float64); is && free >= 0 && free <= 100 {
		v.Storage, v.Free = true, free
	}
	if at, is := clockOf(s.v["clock"]); is {
		v.Clock, v.Ahead = true, time.Until(at)
	} else if s.dated && s.hub == nil && !v.Clock {
		v.Clock, v.Ahead = true, s.ahead
	}
	return v, nil
}

// clockOf reads a time as a device writes it.
func clockOf(value any) (time.Time, bool) {
	switch v := value.(type) {
	case float64:
		return time.Unix(int64(v), 0), v > 0
	case int64:
		return time.Unix(v, 0), v > 0
	case int:
		return time.Unix(int64(v), 0), v > 0
	case string:
		v = strings.TrimSpace(v)
		if seconds, err := strconv.ParseInt(v, 10, 64); err == nil {
			return time.Unix(seconds, 0), seconds > 0
		}
		if at, err := http.ParseTime(v); err == nil {
			return at, true
		}
		for _, form := range clockForms {
			if at, err := time.Parse(form, v); err == nil {
				return at, true
			}
		}
	}
	return time.Time{}, false
}
