package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/audit"
	"catena/internal/cli/view"
	"catena/internal/notify"
	"catena/internal/plan"
	"catena/internal/record"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) auditCmd() *cobra.Command {
	var choose workspace.Choice
	var defaults bool
	c := &cobra.Command{
		Use:   "audit [DEVICE…]",
		Short: "Check the health of the devices, without changing them",
		Long: `Read the devices and list what is wrong with them, the worst first: versions that were withdrawn,
certificates that have expired or will soon, wrong clocks, full storage, and logins sent without
TLS. Further findings are settings that differ from the last save (where they can be read one by
one), missing saves, devices that do not answer, and holds and targets that match no device. Each
finding has its meaning and a remedy. Nothing is changed on a device.

With --defaults, also try the login that the maker publishes (default_login of a family): once, and
never on a device that is known to lock after wrong logins.

The result goes into the ledger and the report, and new findings to those who are told (tell: in
site.yaml). Exit code: 0 if nothing is open, 3 if something is, 4 if something bad is.`,
		Example: `  catena audit
  catena audit --where 'kind == "camera"' --defaults
  catena audit accept no-tls gate-1 --until 2027-03-01 --because 'replaced in spring'`,
		RunE: func(c *cobra.Command, args []string) error {
			choose.Names = args
			return a.audit(c.Context(), choose, defaults)
		},
	}
	whereFlag(c, &choose)
	c.Flags().BoolVar(&defaults, "defaults", false,
		"try the login that the maker publishes, once, where the device does not lock")
	c.AddCommand(a.auditAcceptCmd())
	return c
}

func (a *app) audit(ctx context.Context, choose workspace.Choice, defaults bool) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	rows, err := s.Choose(choose)
	if err != nil {
		return err
	}
	whole := len(choose.Names) == 0 && choose.Where == ""
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	all, err := s.Site.Audit(
		ctx,
		s.Care,
		plan.AuditRequest{Rows: rows, Defaults: defaults, Whole: whole},
		func(n, of int) { meter.Show(fmt.Sprintf("%d of %d devices read", n, of)) },
	)
	meter.Clear()
	if bad := new(plan.AuthorityError); errors.As(err, &bad) {
		return usage("%w", err)
	}
	if err != nil {
		return err
	}
	if err := a.emit(all, findingsTable(all)); err != nil {
		return err
	}
	if whole {
		if err := a.tellAudit(s.Site, all); err != nil {
			return err
		}
	}
	return a.auditOutcome(all, len(workspace.Mains(rows)))
}

// findingsTable has a line for what was found of several devices in the same words.
func findingsTable(all []audit.Finding) view.Table {
	t := view.Table{Columns: []string{"device", "finding", "severity", "found", "what to do"}, Tail: 2}
	type line struct {
		audit.Finding
		names []string
	}
	var lines []line
	for _, f := range all {
		one := f
		one.Device, one.ID = "", ""
		if f.Device != "" {
			one.Remedy = strings.ReplaceAll(f.Remedy, f.Device, "DEVICE")
		}
		at := slices.IndexFunc(lines, func(l line) bool { return l.Finding == one })
		if at < 0 {
			at, lines = len(lines), append(lines, line{Finding: one})
		}
		lines[at].names = append(lines[at].names, f.Device)
	}
	for _, l := range lines {
		f := l.Finding
		if f.Device = words.FewOf(l.names, 5); len(l.names) == 1 {
			f.Remedy = strings.ReplaceAll(f.Remedy, "DEVICE", f.Device)
		}
		severity := view.Warn.Cell(string(f.Severity))
		if f.Severity == audit.Bad {
			severity.Tone = view.Bad
		}
		remedy := f.Remedy
		if f.Accepted != "" {
			severity = view.Quiet.Cell("accepted")
			remedy = "until " + f.Until + ": " + f.Accepted
		}
		t.Add(f.Device, string(f.Kind), severity, f.Text, view.Quiet.Cell(remedy))
	}
	return t
}

// auditOutcome counts the findings, and sets the exit code.
func (a *app) auditOutcome(all []audit.Finding, devices int) error {
	bad, look, accepted := 0, 0, 0
	for _, f := range all {
		switch {
		case f.Accepted != "":
			accepted++
		case f.Severity == audit.Bad:
			bad++
		default:
			look++
		}
	}
	if a.format == "table" {
		a.say("\n%s: %d bad, %d to look at, %d accepted.", words.Plural(devices, "device"), bad, look,
			accepted)
	}
	switch audit.Worst(all) {
	case audit.Bad:
		return exit{exitStranded, errSilent}
	case audit.Look:
		return exit{exitFailed, errSilent}
	}
	return nil
}

// tellAudit tells whoever the site names of new findings.
func (a *app) tellAudit(w *plan.Site, all []audit.Finding) error {
	t, ok, err := a.unaskedTeller(w)
	if err != nil || !ok || w.ReadOnly() != nil {
		return err
	}
	t.Failed = func(target notify.Target, err error) {
		a.notice("could not notify the %s: %v; the next audit tries again", target.Name(), err)
	}
	return t.Audited(all)
}

func (a *app) auditAcceptCmd() *cobra.Command {
	var accept record.Acceptance
	c := &cobra.Command{
		Use:   "accept FINDING [DEVICE]",
		Short: "Accept a finding until a day, with a reason",
		Long: `Accept a finding about a device, or about the site, until a day. It stays in the list
and in the report, marked as accepted, and does not count. With --undo, it counts again.`,
		Example: `  catena audit accept no-tls gate-1 --until 2027-03-01 --because 'replaced in spring'
  catena audit accept no-tls gate-1 --undo`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return usage("name a finding, as catena audit lists it, and its device")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			accept.Kind, accept.By = audit.Kind(args[0]), whoami()
			word := ""
			if len(args) > 1 {
				word = args[1]
			}
			w, err := a.openSite()
			if err != nil {
				return err
			}
			defer w.Close()
			err = w.AcceptFinding(accept, word)
			if bad := new(plan.AcceptError); errors.As(err, &bad) {
				return usage("%w", err)
			}
			if err != nil {
				return err
			}
			if accept.Dropped {
				a.say("It counts again.")
			} else {
				a.say("Accepted until %s.", accept.Until)
			}
			return nil
		},
	}
	c.Flags().StringVar(&accept.Until, "until", "", "the day on which it counts again: 2027-03-01")
	c.Flags().StringVar(&accept.Because, "because", "", "the reason")
	c.Flags().BoolVar(&accept.Dropped, "undo", false, "do not accept it any more")
	return c
}
