package report

import (
	"crypto/sha256"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"
	"sync"
	"time"

	ics "github.com/arran4/golang-ical"
)

// Notice is for the people on site: which devices are updated when, and who is without what while
// that happens.
type Notice struct {
	Site     string         `json:"site"`
	Order    string         `json:"order"`
	Note     string         `json:"note,omitempty"`
	Engineer string         `json:"engineer,omitempty"`
	Made     time.Time      `json:"made"`
	Start    time.Time      `json:"start"` // estimated, like all times but Made
	End      time.Time      `json:"end"`
	Places   []NoticePlace  `json:"places"`
	Cautions []string       `json:"cautions"` // sentences, each with the devices that it is about
	Zone     *time.Location `json:"-"`
}

// NoticePlace is what is updated at one place.
type NoticePlace struct {
	Place   string         `json:"place"` // empty: none is known
	Start   time.Time      `json:"start"`
	End     time.Time      `json:"end"`
	Devices []NoticeDevice `json:"devices"`
}

// NoticeDevice is one device that is updated.
type NoticeDevice struct {
	Name   string    `json:"name"`
	What   string    `json:"what"` // its kind and its model
	Start  time.Time `json:"start"`
	End    time.Time `json:"end"`
	CutOff []string  `json:"cut_off,omitempty"` // devices without a connection while it restarts
}

// Heading is the heading of a place of the notice.
func (n Notice) Heading(p NoticePlace) string {
	switch {
	case p.Place != "":
		return p.Place
	case len(n.Places) == 1:
		return "All devices"
	}
	return "Elsewhere"
}

// Day is the day of the notice.
func (n Notice) Day() string { return n.Start.In(n.Zone).Format("2006-01-02") }

// From and To are the times of the whole, in the site's zone.
func (n Notice) From() string { return n.Clock(n.Start) }

// To is when the whole ends.
func (n Notice) To() string { return n.Clock(n.End) }

// Clock is a time in the site's zone; another day than the first one is named.
func (n Notice) Clock(t time.Time) string {
	t = t.In(n.Zone)
	if day := t.Format("2006-01-02"); day != n.Day() {
		return day + " " + t.Format("15:04")
	}
	return t.Format("15:04")
}

// ZoneName is the zone of the times.
func (n Notice) ZoneName() string { return n.Start.In(n.Zone).Format("MST (UTC-07:00)") }

// noticeWords are what every form of a notice says.
const noticeWords = "Each device may not work, or not respond, until the end of its time. The " +
	"times are estimates. Please do not switch a device off or unplug it while it is updated."

// Words are those of every notice.
func (Notice) Words() string { return noticeWords }

// Text writes the notice as plain text.
func (n Notice) Text(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"%s: firmware update on %s, %s to %s %s\n\n%s\n",
		n.Site,
		n.Day(),
		n.From(),
		n.To(),
		n.ZoneName(),
		noticeWords,
	)
	if n.Note != "" {
		fmt.Fprintf(&b, "\n%s\n", n.Note)
	}
	for _, p := range n.Places {
		fmt.Fprintf(&b, "\n%s, %s to %s\n%s", n.Heading(p), n.Clock(p.Start), n.Clock(p.End), n.lines(p))
	}
	if len(n.Cautions) > 0 {
		fmt.Fprintf(&b, "\nWhat to know\n  %s\n", strings.Join(n.Cautions, "\n  "))
	}
	if n.Engineer != "" {
		fmt.Fprintf(&b, "\nContact: %s\n", n.Engineer)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// lines are the devices of a place, one on each line.
func (n Notice) lines(p NoticePlace) string {
	var b strings.Builder
	for _, d := range p.Devices {
		fmt.Fprintf(&b, "  %s to %s  %s (%s)", n.Clock(d.Start), n.Clock(d.End), d.Name, d.What)
		if len(d.CutOff) > 0 {
			fmt.Fprintf(&b, "; without a connection: %s", strings.Join(d.CutOff, ", "))
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// Calendar writes the notice as a calendar (iCalendar, RFC 5545) with one event for each place. The
// UIDs are those of the order and the place, so that a later notice replaces this one.
func (n Notice) Calendar(w io.Writer) error {
	c := ics.NewCalendarFor("Catena")
	c.SetProductId("-//Catena//Catena//EN")
	c.SetMethod(ics.MethodPublish)
	for _, p := range n.Places {
		e := c.AddEvent(uidOf(n.Site, n.Order, p.Place))
		e.SetDtStampTime(n.Made)
		e.SetStartAt(p.Start)
		e.SetEndAt(p.End)
		e.SetSummary(fmt.Sprintf("%s: firmware update, %s", n.Site, n.Heading(p)))
		e.SetDescription(noticeWords + "\n\n" + n.lines(p) + strings.Join(n.Cautions, "\n"))
		if p.Place != "" {
			e.SetLocation(p.Place)
		}
		e.SetTimeTransparency(ics.TransparencyTransparent) // no one is busy
	}
	return c.SerializeTo(w, ics.WithNewLine("\r\n")) // whatever the system
}

// uidOf is a UID that names what an event is about (RFC 7986, 5.3).
func uidOf(parts ...string) string {
	return fmt.Sprintf("%x@catena", sha256.Sum256([]byte(strings.Join(parts, "\x00"))))
}

//go:embed notice.html
var noticePage string

var noticeTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("notice").Parse(noticePage))
})

// HTML writes the notice as a page that can be printed and put up.
func (n Notice) HTML(w io.Writer) error {
	return noticeTemplate().Execute(w, struct {
		Notice
		Sheet template.CSS
	}{n, template.CSS(sheet)})
}
