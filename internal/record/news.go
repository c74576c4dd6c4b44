package record

import (
	"encoding/json"
	"slices"

	"catena/internal/ledger"
)

// reported is news that someone was told of; the body is a newsBody.
const reported ledger.Kind = "news"

type newsBody struct {
	News []string `json:"news"`
}

// FreshNews returns those pieces of news that no writer has recorded with Told yet.
func FreshNews(l *ledger.Ledger, all []string) ([]string, error) {
	before, err := l.Entries(ledger.Filter{Kind: reported})
	known := map[string]bool{}
	for _, e := range before {
		var b newsBody
		_ = json.Unmarshal(e.Body, &b) // one of a later form is not known
		for _, n := range b.News {
			known[n] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(all), func(n string) bool { return known[n] }), err
}

// Told records news of which everyone was told.
func Told(l *ledger.Ledger, news []string) error {
	return l.Append(reported, "", "", newsBody{news})
}
