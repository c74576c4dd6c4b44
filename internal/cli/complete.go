package cli

import (
	"io"
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/scan/discover"
	"catena/internal/schema"
	"catena/internal/suggest"
)

// A shell asks by each Tab what a word may become. The answer is quick, and silent: where something
// cannot be read there are no suggestions, and nothing is printed into the line that a person
// types.

// flagSuggestions are what flags take, by their names.
var flagSuggestions = map[string]suggest.Suggest{
	"format":  suggest.Fixed("table", "json", "csv"),
	"device":  suggest.Devices,
	"done":    suggest.Devices,
	"skip":    suggest.Devices,
	"at":      suggest.Devices,
	"model":   suggest.Models,
	"group":   suggest.Groups,
	"job":     suggest.Jobs,
	"sort":    suggest.Fields,
	"field":   suggest.Fields,
	"to":      suggest.Versions,
	"adapter": suggest.Adapters,
	"via":     suggest.Fixed(discover.Protocols...),
	"by":      suggest.Fixed("model", "group"),
	"start":   suggest.Fixed("now", "window", "+1h"),
}

// wordSuggestions are what commands take as words, by the commands' names.
var wordSuggestions = map[string]suggest.Suggest{
	"show":             suggest.Devices,
	"name":             suggest.Devices,
	"hold":             suggest.Devices,
	"blink":            suggest.Devices,
	"note":             suggest.Devices,
	"audit":            suggest.Both(suggest.Groups, suggest.Devices),
	"audit accept":     suggest.Devices,
	"device replace":   suggest.Devices,
	"device retire":    suggest.Devices,
	"device spare":     suggest.Devices,
	"list":             suggest.Both(suggest.Groups, suggest.Devices),
	"match":            suggest.Both(suggest.Groups, suggest.Devices),
	"login test":       suggest.Devices,
	"login accept":     suggest.Devices,
	"login rotate":     suggest.Devices,
	"address set":      suggest.Devices,
	"flash":            suggest.Both(suggest.Orders, suggest.Groups, suggest.Devices),
	"rollback":         suggest.Devices,
	"order new":        suggest.Devices,
	"order show":       suggest.Both(suggest.Orders, suggest.Jobs),
	"order check":      suggest.Both(suggest.Orders, suggest.Jobs),
	"order sign":       suggest.Orders,
	"rehearse":         suggest.Both(suggest.Orders, suggest.Jobs),
	"pack":             suggest.Orders,
	"track":            suggest.Jobs,
	"stop":             suggest.Jobs,
	"resume":           suggest.Jobs,
	"retry":            suggest.Jobs,
	"finish":           suggest.Jobs,
	"prove":            suggest.Jobs,
	"report":           suggest.Jobs,
	"settings save":    suggest.Devices,
	"settings list":    suggest.Devices,
	"settings show":    suggest.Devices,
	"settings diff":    suggest.Devices,
	"settings restore": suggest.Devices,
	"target set":       suggest.Versions,
	"shelf notes":      suggest.Images,
	"shelf mark":       suggest.Images,
	"shelf drop":       suggest.Images,
	"shelf export":     suggest.Images,
	"family show":      suggest.Families,
	"schema":           suggest.Fixed(schema.Kinds()...),
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
func (a *app) suggestion(name string, s suggest.Suggest) cobra.CompletionFunc {
	return func(_ *cobra.Command, args []string, typed string) ([]string,
		cobra.ShellCompDirective) {
		a.err, a.log = io.Discard, slog.New(slog.DiscardHandler)
		w, err := a.openSite()
		if err == nil {
			defer w.Close()
		} else if !needNoSite[name] {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		out := slices.DeleteFunc(s(w, a.openShelf), func(line string) bool {
			word, _, _ := strings.Cut(line, "\t")
			return slices.Contains(args, word) || !strings.HasPrefix(word, typed)
		})
		return slices.Compact(out),
			cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}
