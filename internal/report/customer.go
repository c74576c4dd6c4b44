package report

import (
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"catena/internal/device"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
)

// Customer is the edition of a report for the customer: without commands, and in the customer's
// language. Its texts are finished sentences.
type Customer struct {
	Site, Title, Made, Note, Summary string
	Logo                             template.URL
	Visits                           []CustomerDevice
	Works                            []CustomerWork
	Devices                          []CustomerDevice // in the order of their places
	Others                           []CustomerDevice // not part of the work
	UpToDate                         string           // how many others are; empty: none
	Places                           bool             // a device has a place
	Missing, Unlisted                []Listed

	texts Texts
	logo  string
}

// CustomerDevice is a device as a customer reads of it.
type CustomerDevice struct {
	Place, Name, Model, Serial, Was, Is string
	Result                              string // or, of one that was not part of the work, its state
	Why                                 string // empty: nothing to explain
	Good                                bool
	Fields                              string // free fields of the inventory, in words
	Notes                               []CustomerNote
}

// CustomerNote is a remark about a device.
type CustomerNote struct {
	Text, By, At string
	Picture      template.URL // empty: none
	picture      string
}

// CustomerWork is a job as a customer reads of it.
type CustomerWork struct {
	Time, Note, Signed string
	Precautions        []string
	Checks             []CustomerCheck
}

// CustomerCheck is what was checked after the work.
type CustomerCheck struct {
	Text, Result string
	Good         bool
}

//go:embed customer.html
var customerPage string

//go:embed customer.css
var customerSheet string

// Files of an edition that an integrator may replace. They are in TemplateFolder of the site
// folder.
const (
	TemplateFolder = "report"
	pageFile       = "customer.html"
	sheetFile      = "customer.css"
)

// Templates are the files that an integrator may replace, by name.
func Templates() (map[string][]byte, error) {
	out := map[string][]byte{pageFile: []byte(customerPage), sheetFile: []byte(customerSheet)}
	return out, fs.WalkDir(shipped, textsFolder, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		raw, err := shipped.ReadFile(name)
		out[path.Base(name)] = raw
		return err
	})
}

// ForCustomer makes the customer's edition with the texts of a language.
func (r Report) ForCustomer(t Texts) Customer {
	c := Customer{Site: r.Site, Title: t.Say("title"), Note: r.Note, Logo: template.URL(r.Logo),
		logo: r.Logo, texts: t, Missing: r.Missing, Unlisted: r.Unlisted}
	c.Made = t.Say("made", "date", t.day(r.Made, r.zone()))
	if r.Engineer != "" {
		c.Made = t.Say("made_by", "name", r.Engineer, "date", t.day(r.Made, r.zone()))
	}
	for _, j := range r.Jobs {
		c.Works = append(c.Works, r.work(j, t))
	}
	all, visits := r.newest(), map[string]bool{}
	for _, v := range r.Visits {
		visits[v.ID] = true
	}
	done, kept := 0, 0
	back := false
	for _, d := range all {
		x := deviceFor(d.Device, t, r.zone())
		back = back || d.back
		if d.back && d.End == job.Done {
			x.Result = t.Say("result_back")
		}
		switch {
		case d.End == job.Done:
			done++
		case !visits[d.ID]:
			kept++
		}
		if visits[d.ID] {
			x.Result, x.Why = t.Say("result_stranded"), t.Say(cmp.Or(whyKey(last(d.Cause)), whyNone))
		}
		c.Devices = append(c.Devices, x)
	}
	for _, v := range r.Visits { // in walking order
		for i, d := range all {
			if d.ID == v.ID {
				c.Visits = append(c.Visits, c.Devices[i])
			}
		}
	}
	c.Summary = r.summary(t, achieved{done, kept, len(c.Visits), len(all), back})
	slices.SortStableFunc(c.Devices, func(a, b CustomerDevice) int {
		if (a.Place == "") != (b.Place == "") {
			return len(b.Place) - len(a.Place) // those without one come last
		}
		return strings.Compare(a.Place, b.Place)
	})
	c.others(r, t)
	c.Places = slices.ContainsFunc(slices.Concat(c.Devices, c.Others),
		func(d CustomerDevice) bool { return d.Place != "" })
	return c
}

// others adds the devices that were not part of the work.
func (c *Customer) others(r Report, t Texts) {
	current := 0
	for _, u := range r.Untouched {
		if u.Spare {
			continue
		}
		if u.Status == string(match.Current) {
			current++
			continue
		}
		c.Others = append(c.Others, CustomerDevice{Place: u.Place, Name: u.Name, Model: u.Model,
			Serial: u.Serial, Is: u.Runs, Result: t.Say("status_" + u.Status)})
	}
	switch {
	case current == 1:
		c.UpToDate = t.Say("others_current_one")
	case current > 1:
		c.UpToDate = t.Say("others_current_many", "n", current)
	}
}

// lastState is a device as its newest job left it.
type lastState struct {
	Device
	back bool // that job was to set it back to an earlier version
}

// newest are the devices of all jobs, each as its newest job left it.
func (r Report) newest() (out []lastState) {
	for _, j := range slices.Backward(r.Jobs) {
		for _, d := range j.Devices {
			if !slices.ContainsFunc(out, func(o lastState) bool { return o.ID == d.ID }) {
				out = append(out, lastState{d, j.Purpose == order.Backward})
			}
		}
	}
	return out
}

// achieved are how many devices ended how.
type achieved struct {
	done, kept, visits, all int
	back                    bool // some were to be set back
}

// summary is what was achieved, in two sentences.
func (r Report) summary(t Texts, n achieved) string {
	first, open := "done_many", false
	for _, j := range r.Jobs {
		open = open || j.Ended.IsZero()
	}
	switch {
	case open:
		first = "done_open"
	case n.back:
		first = "done_back"
	case n.all == 1:
		first = "done_one"
	}
	date := ""
	if len(r.Jobs) > 0 {
		date = t.day(r.Jobs[len(r.Jobs)-1].Started, r.zone())
	}
	second := "rest_none"
	switch {
	case n.visits > 0 && n.kept > 0:
		second = "rest_both"
	case n.visits == 1:
		second = "rest_visit_one"
	case n.visits > 1:
		second = "rest_visit_many"
	case n.kept == 1:
		second = "rest_kept_one"
	case n.kept > 1:
		second = "rest_kept_many"
	case n.back:
		second = "rest_back"
	}
	return t.Say(first, "date", date, "done", n.done, "all", n.all) + " " +
		t.Say(second, "kept", n.kept, "visits", n.visits)
}

// work is a job in the customer's words.
func (r Report) work(j Job, t Texts) CustomerWork {
	w := CustomerWork{Note: j.Note}
	from := t.moment(j.Started, r.zone())
	if j.Ended.IsZero() {
		w.Time = t.Say("from_open", "from", from)
	} else {
		to := t.moment(j.Ended, r.zone())
		if t.day(j.Started, r.zone()) == t.day(j.Ended, r.zone()) {
			to = j.Ended.In(r.zone()).Format(t.Say("time"))
		}
		w.Time = t.Say("from_to", "from", from, "to", to)
	}
	for _, rule := range j.Limits {
		w.Precautions = append(w.Precautions, t.Say("rule_"+rule.Kind, "n", rule.N, "of", rule.Of))
	}
	for _, key := range j.Signed {
		w.Signed = t.Say("signed", "key", key)
	}
	for _, c := range j.Checks {
		x := CustomerCheck{Text: c.Text, Good: c.Holds}
		switch {
		case c.Answered.IsZero():
			x.Result = t.Say("check_open")
		case c.Holds:
			x.Result = t.Say("check_holds")
		default:
			x.Result = t.Say("check_fails")
			if c.Because != "" {
				x.Result += ": " + c.Because
			}
		}
		w.Checks = append(w.Checks, x)
	}
	return w
}

// results are the keys of the texts for how a device ended.
var results = map[job.Step]string{job.Done: "result_done", job.Returned: "result_returned",
	job.Failed: "result_failed", job.Skipped: "result_skipped", job.Parked: "result_parked",
	job.Stranded: "result_stranded", job.Waiting: "result_skipped"}

func deviceFor(d Device, t Texts, zone *time.Location) CustomerDevice {
	x := CustomerDevice{Place: d.Place, Name: d.Name, Model: d.Model, Serial: d.Serial, Was: d.From,
		Is: cmp.Or(d.Runs, "?"), Result: t.Say(cmp.Or(results[d.End], "result_open")),
		Good: d.End == job.Done, Fields: d.Shown}
	main, _, _ := strings.Cut(d.Runs, ",") // its other components follow
	if d.End == job.Skipped && main != "" && main != d.From {
		x.Result = t.Say("result_partly")
	}
	if d.End != job.Done {
		x.Why = t.Say(cmp.Or(whyKey(d.Cause), whyNone))
	}
	for _, n := range d.Notes {
		x.Notes = append(x.Notes, CustomerNote{Text: n.Text, By: n.By, At: t.day(n.At, zone),
			Picture: template.URL(n.Picture), picture: n.Picture})
	}
	return x
}

// last is the last of the reasons that led from one to another.
func last(r *job.Reason) *job.Reason {
	for r != nil && r.Then != nil {
		r = r.Then
	}
	return r
}

// whyNone is the key of the text where nothing is to be explained.
const whyNone = ""

// whys are the keys of the texts for reasons; those that are not here need no explanation.
var whys = map[string][]job.Why{
	"why_version":   {job.WrongVersion, job.StillRuns, job.NotRestarted},
	"why_unhealthy": {job.Unhealthy, job.NotSettled, job.CutOff},
	"why_away":      {job.DidNotReturn, job.StillAway},
	"why_writing":   {job.StillWriting, job.MayWrite},
	"why_settings": {job.SettingsChanged, job.SettingsLost, job.SettingsNotKept, job.NotCarried,
		job.NotTaken, job.SettingsLeft},
	"why_access":      {job.NoLogin},
	"why_rejected":    {job.DeviceSaid, job.CannotUpdate, job.CannotStage, job.NotLeft},
	"why_not_now":     {job.Forbidden},
	"why_image":       {job.ImageGone, job.ImageChanged, job.NoRollback},
	"why_not_started": {job.NotBegun, job.GaveUp, job.Abandoned},
	"why_together":    {job.NotTogether},
	"why_changed":     {job.ChangedSince, job.ThereAlready},
}

// accessProblems are those of a device that its login does not open.
var accessProblems = []device.Problem{device.BadLogin, device.NoLogin, device.NoRight,
	device.PlainLogin, device.NewPassword, device.Changed, device.RefusedBefore}

// whyKey is the key of the text for a reason; empty: there is none.
func whyKey(r *job.Reason) string {
	switch {
	case r == nil:
		return ""
	case r.Device != nil && slices.Contains(accessProblems, r.Device.Problem):
		return "why_access"
	case r.Device != nil && r.Device.Problem == device.NoAnswer:
		return "why_away"
	case r.Device != nil && r.Device.Problem == device.NotNow:
		return "why_not_now"
	}
	for key, of := range whys {
		if slices.Contains(of, r.Why) {
			return key
		}
	}
	return whyKey(r.Then)
}

// frame is what no template replaces: the page loads nothing, and runs nothing.
const frame = `<!DOCTYPE html>
<html lang="%s">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src data:; ` +
	`style-src 'unsafe-inline'">
<title>%s</title>
<style>%s</style>
</head>
<body>
`

// TemplateError is returned for a template of an integrator that cannot be used.
type TemplateError struct {
	File string
	Err  error
}

func (e *TemplateError) Error() string { return fmt.Sprintf("%s: %v", e.File, e.Err) }
func (e *TemplateError) Unwrap() error { return e.Err }

// maxPage bounds a page, in bytes: a template may be someone else's.
const maxPage = 128 << 20

// bounded is a writer with a limit: left is the number of bytes that it still takes.
type bounded struct {
	io.Writer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, fmt.Errorf("the page has more than %d MiB", maxPage>>20)
	}
	return b.Writer.Write(p)
}

// HTML writes the edition as one page that needs nothing else. own are the files that replace those
// of Templates, by name. Its error for one that cannot be used is a TemplateError.
func (c Customer) HTML(w io.Writer, own map[string][]byte) error {
	page, sheet := customerPage, customerSheet
	if raw, is := own[pageFile]; is {
		page = string(raw)
	}
	if raw, is := own[sheetFile]; is {
		sheet = string(raw)
	}
	t, err := template.New(pageFile).Funcs(template.FuncMap{"text": c.texts.Say}).Parse(page)
	if err != nil {
		return &TemplateError{pageFile, err}
	}
	if strings.Contains(strings.ToLower(sheet), "</style") {
		return &TemplateError{sheetFile, fmt.Errorf("it ends the style sheet")}
	}
	_, err = fmt.Fprintf(w, frame, template.HTMLEscapeString(c.texts.Say("language")),
		template.HTMLEscapeString(c.Site+": "+c.Title), sheet)
	if err != nil {
		return err
	}
	if err := t.Execute(&bounded{w, maxPage}, c); err != nil {
		return &TemplateError{pageFile, err}
	}
	_, err = io.WriteString(w, "</body>\n</html>\n")
	return err
}
