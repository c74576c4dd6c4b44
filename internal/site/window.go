package site

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"catena/internal/yamldoc"
)

// Window is when devices may be worked on: from a time of these days on, until the next time
// that it is To. The days name the opening: mon, 22:00 to 05:00 ends on Tuesday.
type Window struct {
	Days string `yaml:"days"` // mon-fri, or sat,sun; empty: every day
	From string `yaml:"from"` // HH:MM in the site's zone
	To   string `yaml:"to"`
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"} // as in time.Weekday

// days are the days that a text names.
func days(text string) (out [7]bool, err error) {
	if strings.TrimSpace(text) == "" {
		text = "mon-sun"
	}
	for part := range strings.SplitSeq(strings.ToLower(text), ",") {
		first, last, isRange := strings.Cut(strings.TrimSpace(part), "-")
		from, to := slices.Index(weekdays, first), slices.Index(weekdays, last)
		if !isRange {
			to = from
		}
		if from < 0 || to < 0 {
			return out, fmt.Errorf("%q is not a day or a range of days; write for example mon-fri, or "+
				"sat,sun", part)
		}
		for d := from; ; d = (d + 1) % 7 {
			out[d] = true
			if d == to {
				break
			}
		}
	}
	return out, nil
}

// clock reads a time of day, in minutes; 24:00 is the midnight that ends the day (ISO 8601).
func clock(text string) (int, error) {
	if text == "24:00" {
		return 24 * 60, nil
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time of day; write for example \"22:00\"", text)
	}
	return t.Hour()*60 + t.Minute(), nil
}

func (s Site) checkWindows(doc *yamldoc.Doc) error {
	if _, err := time.LoadLocation(s.Timezone); err != nil {
		return doc.Errorf("$.timezone",
			"timezone: %q is not a zone of the IANA database, such as Europe/Lisbon",
			s.Timezone)
	}
	for i, w := range s.Windows {
		at := fmt.Sprintf("$.windows[%d]", i)
		if _, err := days(w.Days); err != nil {
			return doc.Errorf(at+".days", "windows: days: %v", err)
		}
		for key, text := range map[string]string{"from": w.From, "to": w.To} {
			if _, err := clock(text); err != nil {
				return doc.Errorf(at+"."+key, "windows: %s: %v", key, err)
			}
		}
		if w.From == w.To {
			return doc.Errorf(at, "windows: from and to are both %s; for the whole day write "+
				"from: \"00:00\", to: \"24:00\"",
				w.From)
		}
	}
	return nil
}

// Zone is that of the site's times: timezone, or else that of this machine.
func (s Site) Zone() *time.Location {
	if s.Timezone == "" {
		return time.Local
	}
	zone, err := time.LoadLocation(s.Timezone)
	if err != nil { // Parse has checked it
		return time.UTC
	}
	return zone
}

// span is one opening of a window.
type span struct{ opens, closes time.Time }

// spans are the openings from the day before a time to a week after it, the soonest first.
// Those that overlap or follow at once are one.
func (s Site) spans(now time.Time) []span {
	now = now.In(s.Zone())
	var all []span
	for day := -1; day <= 8; day++ {
		for _, w := range s.Windows {
			on, _ := days(w.Days) // checked by Parse, like the times
			from, _ := clock(w.From)
			to, _ := clock(w.To)
			y, m, d := now.Date()
			opens := time.Date(y, m, d+day, 0, from, 0, 0, now.Location())
			if !on[time.Date(y, m, d+day, 12, 0, 0, 0, now.Location()).Weekday()] {
				continue
			}
			next := d + day
			if to <= from {
				next++
			}
			all = append(all, span{opens, time.Date(y, m, next, 0, to, 0, 0, now.Location())})
		}
	}
	slices.SortFunc(all, func(a, b span) int { return a.opens.Compare(b.opens) })
	var out []span
	for _, a := range all {
		if last := len(out) - 1; last >= 0 && !a.opens.After(out[last].closes) {
			if a.closes.After(out[last].closes) {
				out[last].closes = a.closes
			}
			continue
		}
		out = append(out, a)
	}
	return out
}

// Window is the window that is open at a time, or else the next one. ok is false where the
// site has none: work may be done at any time.
func (s Site) Window(now time.Time) (opens, closes time.Time, ok bool) {
	for _, a := range s.spans(now) {
		if now.Before(a.closes) {
			return a.opens, a.closes, true
		}
	}
	return opens, closes, false
}

// LongestWindow is how long the longest window of a week is; 0: there are none.
func (s Site) LongestWindow(now time.Time) (longest time.Duration) {
	for _, a := range s.spans(now) {
		longest = max(longest, a.closes.Sub(a.opens))
	}
	return longest
}
