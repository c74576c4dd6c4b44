package site

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"catena/internal/yamldoc"
)

// Tell is who is told of what happens in a job: one of a webhook, a command and a bell.
type Tell struct {
	Webhook string   `yaml:"webhook"`
	Command []string `yaml:"command"`
	Bell    bool     `yaml:"bell"`
	On      []string `yaml:"on"` // empty: all of Told
}

// Told are the words of on.
var Told = []string{
	"start",
	"end",
	"stranded",
	"ask",
	"cut-off",
	"window",
	"missed",
	"news",
	"audit",
}

func (s Site) checkTell(doc *yamldoc.Doc) error {
	for i, t := range s.Tell {
		at := fmt.Sprintf("$.tell[%d]", i)
		ways := 0
		for _, is := range []bool{t.Webhook != "", len(t.Command) > 0, t.Bell} {
			if is {
				ways++
			}
		}
		if ways != 1 {
			return doc.Errorf(at, "tell: each requires one of webhook: URL, command: [PROGRAM, …] and "+
				"bell: true")
		}
		if u, err := url.Parse(t.Webhook); t.Webhook != "" && (err != nil || u.Host == "" ||
			u.Scheme != "https" && u.Scheme != "http") {
			return doc.Errorf(at, "tell: webhook: write for example https://office.example/catena")
		}
		if u, err := url.Parse(t.Webhook); err == nil && u.User != nil {
			return doc.Errorf(at, "tell: webhook: a password does not belong here; its secret is added "+
				"with catena login add --webhook %s", u.Hostname())
		}
		for _, word := range t.On {
			if !slices.Contains(Told, word) {
				return doc.Errorf(at, "tell: on: %q is not one of %s", word, strings.Join(Told, ", "))
			}
		}
	}
	return nil
}
