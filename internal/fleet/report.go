package fleet

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"catena/internal/firmware/version"
	"catena/internal/job"
	"catena/internal/match"
	"catena/internal/order"
	"catena/internal/report"
	"catena/internal/workspace"
)

// Report tells of the sites for people in the company: who runs what, what has changed since a
// time, and what needs a person. The jobs since then must have been read.
func (f Fleet) Report(since, now time.Time, program string) report.Fleet {
	out := report.Fleet{Format: report.FleetFormat, Made: now, Since: since, Program: program,
		Sites: []report.FleetSite{}, Models: []report.FleetModel{}, Visits: []report.FleetVisit{},
		Changes: []report.FleetChange{}}
	statuses := map[string]bool{}
	for _, s := range f.Sites {
		if s.Err != nil {
			out.Unread = append(out.Unread, report.Unread{Name: s.Name, Reason: s.Err.Error()})
			continue
		}
		of := report.FleetSite{Name: s.Name, Statuses: map[string]int{}, Last: s.Last}
		for _, r := range workspace.Mains(s.Rows) {
			of.Devices++
			of.Statuses[r.Status]++
			statuses[r.Status] = true
			if match.Status(r.Status).NeedsPerson() {
				out.Visits = append(out.Visits, report.FleetVisit{Site: s.Name, Name: r.Name,
					Model: r.Model, Runs: r.Version.Text, Status: r.Status, Why: r.Reason})
			}
		}
		out.Sites = append(out.Sites, of)
		for _, j := range s.Jobs {
			out.Changes = append(out.Changes, change(s.Name, j))
		}
	}
	for _, status := range match.Statuses {
		if statuses[string(status)] {
			out.Columns = append(out.Columns, string(status))
		}
	}
	slices.SortStableFunc(out.Changes, func(a, b report.FleetChange) int { return b.At.Compare(a.At) })
	out.Models = f.models()
	return out
}

// change is a job, in a line.
func change(site string, s job.State) report.FleetChange {
	c := report.FleetChange{At: s.Started, Site: site, Job: s.ID, Order: s.Name, Ended: s.Result()}
	if s.Ended.IsZero() {
		c.Ended = strings.TrimPrefix(c.Ended+", not ended", ", ")
	}
	counts := map[string]int{}
	for i, d := range s.Devices {
		if d.Step != job.Done {
			continue
		}
		to := d.To
		if s.Purpose == order.Backward {
			to += " (rollback)"
		}
		counts[fmt.Sprintf("%s %s → %s", s.Order.Devices[i].Model, d.From, to)]++
	}
	for _, what := range slices.Sorted(maps.Keys(counts)) {
		c.What = append(c.What, fmt.Sprintf("%d %s", counts[what], what))
	}
	return c
}

// models are what the devices of each model run, site by site. The newest version comes first.
func (f Fleet) models() []report.FleetModel {
	type model struct{ vendor, model string }
	found := map[model]map[string][]workspace.Row{} // by site
	for _, s := range f.Sites {
		if s.Err != nil {
			continue
		}
		for _, r := range workspace.Mains(s.Rows) {
			m := model{r.Vendor, r.Model}
			if found[m] == nil {
				found[m] = map[string][]workspace.Row{}
			}
			found[m][s.Name] = append(found[m][s.Name], r)
		}
	}
	out := []report.FleetModel{}
	for m, sites := range found {
		of := report.FleetModel{Vendor: m.vendor, Model: m.model}
		var newest []string
		for _, rows := range sites {
			for _, r := range rows {
				if !slices.Contains(newest, r.Version.Text) {
					newest = append(newest, r.Version.Text)
				}
			}
		}
		slices.SortFunc(newest, func(a, b string) int { return version.Compare(b, a) })
		for _, v := range newest {
			of.Versions = append(of.Versions, cmp.Or(v, "not read"))
		}
		for _, site := range slices.Sorted(maps.Keys(sites)) {
			row := report.FleetRow{Site: site}
			for _, v := range newest {
				row.Cells = append(row.Cells, cell(sites[site], v))
			}
			of.Rows = append(of.Rows, row)
		}
		out = append(out, of)
	}
	slices.SortFunc(out, func(a, b report.FleetModel) int {
		return cmp.Or(strings.Compare(a.Vendor, b.Vendor), strings.Compare(a.Model, b.Model))
	})
	return out
}

// cell counts the devices that run a version.
func cell(rows []workspace.Row, runs string) (c report.FleetCell) {
	worst := len(match.Statuses)
	for _, r := range rows {
		if r.Version.Text != runs {
			continue
		}
		c.N++
		if at := slices.Index(match.Statuses, match.Status(r.Status)); at >= 0 && at < worst {
			worst, c.Status = at, r.Status
		}
	}
	return c
}
