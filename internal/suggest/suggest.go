// Package suggest has what a word of a command may become: devices, models, versions, jobs. The
// answer is quick, and silent: where something cannot be read there are no suggestions.
package suggest

import (
	"maps"
	"slices"
	"strings"

	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/plan"
	"catena/internal/scan/discover"
	"catena/internal/shelf"
	"catena/internal/words"
	"catena/internal/workspace"
)

// Shelf opens the shelf when it is needed.
type Shelf func() (*shelf.Shelf, error)

// Suggest is what a word may become, each with what it is about after a tab.
type Suggest func(*plan.Site, Shelf) []string

// statusUpTo is of how many devices at most the status is told, too: holding more of them against
// the shelf takes longer than a person waits for a Tab.
const statusUpTo = 500

// Devices are the known devices, with model, version and status.
func Devices(w *plan.Site, shelf Shelf) (out []string) {
	glances, err := w.Summaries()
	if err != nil {
		return nil
	}
	status := map[string]string{}
	if s, err := shelf(); err == nil && len(glances) <= statusUpTo && w.Match(s) == nil {
		for _, r := range workspace.Mains(w.Rows) {
			status[r.Name] = r.Status
		}
	}
	for _, g := range glances {
		how := status[g.Name]
		if how == "" && g.Access != device.OK {
			how = string(g.Access)
		}
		out = append(out,
			g.Name+"\t"+strings.Join(strings.Fields(g.Reading.Model+" "+g.Reading.Version+" "+how),
				" "))
	}
	return out
}

// Models are the models that devices have, with how many are of each.
func Models(w *plan.Site, _ Shelf) (out []string) {
	glances, _ := w.Summaries() // of none there is nothing to suggest
	count := map[string]int{}
	for _, g := range glances {
		count[g.Reading.Model]++
	}
	delete(count, "")
	for _, model := range slices.Sorted(maps.Keys(count)) {
		out = append(out, model+"\t"+words.Plural(count[model], "device"))
	}
	return out
}

// shelfImages are the images on the shelf; none where it cannot be read.
func shelfImages(shelf Shelf) []firmware.Image {
	s, err := shelf()
	if err != nil {
		return nil
	}
	images, _ := s.List() // of none there is nothing to suggest
	return images
}

// Versions are those of the images on the shelf.
func Versions(_ *plan.Site, shelf Shelf) (out []string) {
	for _, i := range shelfImages(shelf) {
		out = append(out, i.Version+"\t"+i.Vendor+" "+strings.Join(i.Models, " "))
	}
	return out
}

// Images are the files on the shelf.
func Images(_ *plan.Site, shelf Shelf) (out []string) {
	for _, i := range shelfImages(shelf) {
		out = append(out, i.File+"\t"+strings.Join(i.Models,
			" ")+" "+i.Version+" "+string(i.Advice))
	}
	return out
}

// Groups are the groups of the site.
func Groups(w *plan.Site, _ Shelf) []string {
	return slices.Sorted(maps.Keys(w.Groups()))
}

// recentJobs is how many jobs are suggested, the newest first.
const recentJobs = 20

// Jobs are the newest jobs, with how they ended.
func Jobs(w *plan.Site, _ Shelf) (out []string) {
	all, _ := w.Jobs(recentJobs) // of none there is nothing to suggest
	slices.Reverse(all)
	for _, s := range all {
		how := s.Result()
		if s.Ended.IsZero() {
			how = "under way"
		}
		name := s.Name
		if name == s.ID { // an order made on the fly is called so
			name = ""
		}
		out = append(out,
			s.ID+"\t"+strings.TrimSpace(name+" "+s.Started.Local().Format("Jan 2 15:04")+" "+how))
	}
	return out
}

// Orders are the names of the stored orders.
func Orders(w *plan.Site, _ Shelf) []string {
	out, _ := w.Orders() // of none there is nothing to suggest
	return out
}

// Families are those of the site and of the shelf.
func Families(w *plan.Site, shelf Shelf) (out []string) {
	s, err := shelf()
	if err != nil {
		return nil
	}
	families, err := workspace.ReadFamilies(w.Dir, s.Dir())
	if err != nil {
		return nil
	}
	for _, f := range families.Families() {
		out = append(out, f.Name+"\t"+f.Vendor+" "+strings.Join(f.Models, " "))
	}
	return out
}

// Fields are the columns of a list, with what they tell.
func Fields(*plan.Site, Shelf) (out []string) {
	for i, name := range workspace.Columns {
		out = append(out, name+"\t"+workspace.Abouts[i])
	}
	return out
}

// Adapters are those of this machine, with their addresses.
func Adapters(*plan.Site, Shelf) (out []string) {
	all, _ := discover.Adapters() // of none there is nothing to suggest
	for _, x := range all {
		var addresses []string
		for _, p := range x.Addresses {
			addresses = append(addresses, p.String())
		}
		out = append(out, x.Name+"\t"+strings.Join(addresses, " "))
	}
	return out
}

// Fixed suggests what is the same everywhere.
func Fixed(of ...string) Suggest { return func(*plan.Site, Shelf) []string { return of } }

// Both suggests one after the other.
func Both(of ...Suggest) Suggest {
	return func(w *plan.Site, shelf Shelf) (out []string) {
		for _, s := range of {
			out = append(out, s(w, shelf)...)
		}
		return out
	}
}
