package cli

import (
	"errors"
	"strings"

	"catena/internal/cli/view"
	"catena/internal/firmware"
	"catena/internal/plan"
	"catena/internal/workspace"
)

// showVersions lists the versions of a device.
func (a *app) showVersions(name string) error {
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	chosen, err := w.Choose(workspace.Choice{Names: []string{name}})
	if err != nil {
		return err
	}
	mains := workspace.Mains(chosen)
	if len(mains) > 1 {
		return usage("%s means %s; name one", name, many(chosen))
	}
	all, err := w.Versions(mains[0].Match.Device)
	if err != nil {
		return err
	}
	if a.format == "table" && len(all) == 0 {
		a.say("No version of %s is known: it was not read, and the shelf has nothing for it.",
			mains[0].Name)
		return nil
	}
	return a.emit(all, versionsTable(all))
}

// versionsTable has a row for each version, and a column for the component where there are several.
func versionsTable(all []plan.Version) view.Table {
	t := view.Table{Columns: []string{"component", "version", "known by", "path", "rollback",
		"settings", "cautions", "advice", "notes"}, Less: []string{"notes", "advice"}}
	for _, v := range all {
		component := v.Component
		if component == firmware.Main {
			component = ""
		}
		known := v.Known
		if v.Feed != "" {
			known += " " + v.Feed
		}
		path := strings.Join(v.Path, " → ")
		version := view.Cell{Text: v.Version}
		switch {
		case v.Runs:
			path = "runs"
		case path == "":
			path = v.Reason
		}
		if v.Target && !v.Runs {
			path = strings.TrimSuffix("target: "+path, ": ")
		}
		advice := view.Cell{Text: because(v.Advice, v.Because)}
		if v.Advice == string(firmware.Withdrawn) {
			version, advice = view.Bad.Cell(v.Version), view.Bad.Cell(because(v.Advice, v.Because))
		}
		t.Add(component, version, known, path, rollbackCell(v.Rollback), v.Settings,
			strings.Join(v.Cautions, " "), advice, view.Quiet.Cell(v.Notes))
	}
	return t.Without("component")
}

// because is a word and its reason, where there are any.
func because(what, why string) string {
	if what == "" || why == "" {
		return what
	}
	return what + ": " + why
}

// unreachable prints the versions that a device may be brought to, where the one that was named is
// none of them.
func (a *app) unreachable(err error) error {
	var u *plan.UnreachableError
	if !errors.As(err, &u) {
		return err
	}
	if a.format == "table" && len(u.Versions) > 0 {
		t := versionsTable(u.Versions)
		t.Draw(a.err, a.style(a.err))
	}
	return refused("%w; see: catena show %s --versions", err, u.Device.Name)
}
