package report

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"catena/internal/yamldoc"
)

// textsFolder holds the texts that the program has, a file for each language.
const textsFolder = "texts"

//go:embed texts/*.yaml
var shipped embed.FS

// English is the language of texts that another one lacks.
const English = "en"

// Texts are the texts of the customer's edition in one language.
type Texts struct{ by map[string]string }

// Languages are those that the program has texts of, sorted.
func Languages() (out []string) {
	names, _ := fs.Glob(shipped, textsFolder+"/*.yaml") // the pattern is right
	for _, n := range names {
		out = append(out, strings.TrimSuffix(path.Base(n), ".yaml"))
	}
	return out
}

// TextsOf returns the texts of a language. own are files of an integrator, by name: LANGUAGE.yaml
// there replaces texts, or adds a language. Its errors have the file, line and column.
func TextsOf(language string, own map[string][]byte) (Texts, error) {
	english, err := shipped.ReadFile(textsFolder + "/" + English + ".yaml")
	if err != nil {
		return Texts{}, err
	}
	t := Texts{}
	if _, err := yamldoc.Decode(English+".yaml", english, &t.by); err != nil {
		return t, err
	}
	file := language + ".yaml"
	ours, err := shipped.ReadFile(textsFolder + "/" + file)
	if err == nil {
		err = t.add(file, ours)
	} else if _, is := own[file]; !is {
		return t, fmt.Errorf("there are no texts in %q; there are %s, and others are in %s/LANGUAGE.yaml",
			language, strings.Join(Languages(), " and "), TemplateFolder)
	} else {
		err = nil
	}
	if raw, is := own[file]; is && err == nil {
		err = t.add(TemplateFolder+"/"+file, raw)
	}
	return t, err
}

// add replaces texts by those of a file.
func (t *Texts) add(name string, raw []byte) error {
	var more map[string]string
	doc, err := yamldoc.Decode(name, raw, &more)
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(more)) {
		if _, is := t.by[key]; !is {
			return doc.Errorf("$."+key, "there is no text %q", key)
		}
	}
	maps.Copy(t.by, more)
	return nil
}

// Say returns the text with that key. with are names and values that are filled in. A key that does
// not exist has an empty text.
func (t Texts) Say(key string, with ...any) string {
	var pairs []string
	for i := 0; i+1 < len(with); i += 2 {
		pairs = append(pairs, fmt.Sprintf("{%v}", with[i]), fmt.Sprint(with[i+1]))
	}
	return strings.NewReplacer(pairs...).Replace(t.by[key])
}

// day is the date of a time.
func (t Texts) day(at time.Time, zone *time.Location) string {
	return at.In(zone).Format(t.Say("date"))
}

// moment is the date and the time of day of a time.
func (t Texts) moment(at time.Time, zone *time.Location) string {
	return at.In(zone).Format(t.Say("date") + ", " + t.Say("time"))
}
