package cli

import (
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/firmware"
	"catena/internal/plan"
	"catena/internal/scan/discover"
	"catena/internal/schema"
	"catena/internal/words"
	"catena/internal/workspace"
)

// A shell asks by each Tab what a word may become. The answer is quick, and silent: where something
// cannot be read there are no suggestions, and nothing is printed into the line that a person
// types.

// suggest is what a word may become, each with what it is about after a tab.
type suggest func(a *app, w *plan.Site) []string

// statusUpTo is of how many devices at most the status is told, too: holding more of them against
// the shelf takes longer than a person waits for a Tab.
const statusUpTo = 500

func suggestDevices(a *app, w *plan.Site) (out []string) {
	glances, err := w.Summaries()
	if err != nil {
		return nil
	}
	status := map[string]string{}
	if s, err := a.openShelf(); err == nil && len(glances) <= statusUpTo && w.Match(s) == nil {
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

// suggestModels are the models that devices have, with how many are of each.
func suggestModels(_ *app, w *plan.Site) (out []string) {
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
func shelfImages(a *app) []firmware.Image {
	s, err := a.openShelf()
	if err != nil {
		return nil
	}
	images, _ := s.List() // of none there is nothing to suggest
	return images
}

func suggestVersions(a *app, _ *plan.Site) (out []string) {
	for _, i := range shelfImages(a) {
		out = append(out, i.Version+"\t"+i.Vendor+" "+strings.Join(i.Models, " "))
	}
	return out
}

func suggestImages(a *app, _ *plan.Site) (out []string) {
	for _, i := range shelfImages(a) {
		out = append(out, i.File+"\t"+strings.Join(i.Models,
			" ")+" "+i.Version+" "+string(i.Advice))
	}
	return out
}

func suggestGroups(_ *app, w *plan.Site) []string {
	return slices.Sorted(maps.Keys(w.Groups()))
}

// recentJobs is how many jobs are suggested, the newest first.
const recentJobs = 20

func suggestJobs(_ *app, w *plan.Site) (out []string) {
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

func suggestOrders(_ *app, w *plan.Site) []string {
	out, _ := w.Orders() // of none there is nothing to suggest
	return out
}

func suggestFamilies(a *app, w *plan.Site) (out []string) {
	s, err := a.openShelf()
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

func suggestFields(*app, *plan.Site) (out []string) {
	for i, name := range workspace.Columns {
		out = append(out, name+"\t"+workspace.Abouts[i])
	}
	return out
}

func suggestAdapters(*app, *plan.Site) (out []string) {
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

// fixed suggests what is the same everywhere.
func fixed(of ...string) suggest { return func(*app, *plan.Site) []string { return of } }

// both suggests one after the other.
func both(of ...suggest) suggest {
	return func(a *app, w *plan.Site) (out []string) {
		for _, s := range of {
			out = append(out, s(a, w)...)
		}
		return out
	}
}

// flagSuggestions are what flags take, by their names.
var flagSuggestions = map[string]suggest{
	"format": fixed("table", "json", "csv"), "device": suggestDevices, "model": suggestModels,
	"group": suggestGroups,
	"job":   suggestJobs, "sort": suggestFields, "done": suggestDevices, "skip": suggestDevices,
	"to":      suggestVersions,
	"adapter": suggestAdapters, "via": fixed(discover.Protocols...), "by": fixed("model", "group"),
	"start": fixed("now", "window", "+1h"), "at": suggestDevices,
}

// wordSuggestions are what commands take as words, by the commands' names.
var wordSuggestions = map[string]suggest{
	"show": suggestDevices, "name": suggestDevices, "hold": suggestDevices, "blink": suggestDevices,
	"list": both(suggestGroups, suggestDevices), "match": both(suggestGroups, suggestDevices),
	"login test": suggestDevices, "login accept": suggestDevices, "address set": suggestDevices,
	"flash": both(suggestOrders, suggestGroups, suggestDevices), "order new": suggestDevices,
	"rollback":   suggestDevices,
	"order show": both(suggestOrders, suggestJobs), "order check": both(suggestOrders, suggestJobs),
	"order sign": suggestOrders,
	"rehearse":   both(suggestOrders, suggestJobs), "pack": suggestOrders,
	"track": suggestJobs, "stop": suggestJobs, "resume": suggestJobs, "retry": suggestJobs,
	"finish": suggestJobs, "prove": suggestJobs,
	"report": suggestJobs, "settings save": suggestDevices, "settings list": suggestDevices,
	"settings show": suggestDevices,
	"settings diff": suggestDevices, "settings restore": suggestDevices,
	"target set":  suggestVersions,
	"shelf notes": suggestImages, "shelf mark": suggestImages, "shelf drop": suggestImages,
	"shelf export": suggestImages,
	"family show":  suggestFamilies, "schema": func(*app,
		*plan.Site) []string {
		return schema.Kinds()
	},
}

// needNoSite are commands and flags that have suggestions outside of a site folder, too.
var needNoSite = map[string]bool{"format": true, "sort": true, "via": true, "by": true,
	"start": true, "adapter": true, "schema": true,
	"shelf notes": true, "shelf mark": true, "shelf drop": true, "shelf export": true, "to": true}

// completions has every command suggest what it takes.
func (a *app) completions(root *cobra.Command) {
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		path := strings.TrimPrefix(c.CommandPath(), "catena ")
		if s := wordSuggestions[path]; s != nil && c.ValidArgsFunction == nil {
			c.ValidArgsFunction = a.suggestion(path, s)
		}
		for name, s := range flagSuggestions {
			if name == "to" && path == "settings diff" { // there it is a save
				continue
			}
			if c.LocalNonPersistentFlags().Lookup(name) != nil || c == root &&
				c.PersistentFlags().Lookup(name) != nil {
				_ = c.RegisterFlagCompletionFunc(name,
					a.suggestion(name, s)) // it is there, and has none
			}
		}
		for _, s := range c.Commands() {
			walk(s)
		}
	}
	walk(root)
	if c, _, err := root.Find([]string{"completion", "bash"}); err == nil && c.RunE != nil {
		script := c.RunE
		c.RunE = func(c *cobra.Command, args []string) error {
			view.Print(a.out, "%s", bashAlone)
			return script(c, args)
		}
	}
}

// bashAlone is what the script for bash needs of the package bash-completion, where that is not
// installed.
const bashAlone = `if ! declare -F _get_comp_words_by_ref >/dev/null; then
    _get_comp_words_by_ref() {
        words=("${COMP_WORDS[@]}")
        cword=$COMP_CWORD
        cur=${words[cword]}
        prev=${words[cword - 1]}
    }
fi
`

// suggestion answers a shell about a word that is started. One that stands in the line already is
// not suggested again.
func (a *app) suggestion(name string, s suggest) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		a.err, a.log = io.Discard, slog.New(slog.DiscardHandler)
		w, err := a.openSite()
		if err == nil {
			defer w.Close()
		} else if !needNoSite[name] {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		out := slices.DeleteFunc(s(a, w), func(line string) bool {
			word, _, _ := strings.Cut(line, "\t")
			return slices.Contains(args, word) || !strings.HasPrefix(word, typed)
		})
		return slices.Compact(out),
			cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}
