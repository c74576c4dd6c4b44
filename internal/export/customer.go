package export

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"catena/internal/atomicfile"
	"catena/internal/files"
	"catena/internal/plan"
	"catena/internal/report"
)

// Customer is the customer's edition of a report, with the template and the texts of the site
// folder where it has them.
type Customer struct {
	report.Customer
	own map[string][]byte
}

// ForCustomer makes the customer's edition of a report. An empty language is the one of site.yaml,
// or else English. Its errors are those of the texts.
func ForCustomer(w *plan.Site, r report.Report, language string) (Customer, error) {
	own, err := ownTemplates(w.Dir)
	if err != nil {
		return Customer{}, err
	}
	if language == "" {
		language = w.Site.Language
	}
	if language == "" {
		language = report.English
	}
	t, err := report.TextsOf(language, own)
	if err != nil {
		return Customer{}, err
	}
	return Customer{r.ForCustomer(t), own}, nil
}

// ownTemplates reads the template and the texts of a site folder. They go into a report that is
// given away: a folder of someone else must not fetch another file by a link.
func ownTemplates(dir string) (map[string][]byte, error) {
	own := map[string][]byte{}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	for _, pattern := range []string{"*.html", "*.css", "*.yaml"} {
		found, err := files.In(filepath.Join(dir, report.TemplateFolder), pattern)
		if err != nil {
			return nil, err
		}
		for _, path := range found {
			name := report.TemplateFolder + "/" + filepath.Base(path)
			i, err := root.Stat(name)
			switch {
			case err != nil:
				return nil, fmt.Errorf("%s cannot be read, or is not in the site folder", name)
			case !i.Mode().IsRegular() || i.Size() > files.Family:
				return nil, fmt.Errorf("%s is not a file of at most %d KiB", name, files.Family>>10)
			}
			if own[filepath.Base(path)], err = root.ReadFile(name); err != nil {
				return nil, err
			}
		}
	}
	return own, nil
}

// Own are the files of the site folder that replace those of report.Templates, by name.
func (c Customer) Own() map[string][]byte { return c.own }

// WriteTemplates writes the template and the texts of the customer's edition into the site folder.
// It returns their paths. A file that is there is left as it is, and is not returned.
func WriteTemplates(w *plan.Site) (written []string, err error) {
	all, err := report.Templates()
	if err != nil {
		return nil, err
	}
	folder := filepath.Join(w.Dir, report.TemplateFolder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		path := filepath.Join(folder, name)
		switch _, err := os.Stat(path); {
		case err == nil:
			continue
		case !errors.Is(err, os.ErrNotExist):
			return written, fmt.Errorf("%s: %w", path, err)
		}
		if err := atomicfile.Replace(path, all[name], 0o644); err != nil {
			return written, err
		}
		written = append(written, path)
	}
	return written, nil
}
