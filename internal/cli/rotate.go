package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/care"
	"catena/internal/cli/view"
	"catena/internal/device"
	"catena/internal/login"
	"catena/internal/words"
	"catena/internal/workspace"
)

// rotateFlags are those of login rotate.
type rotateFlags struct {
	choose         workspace.Choice
	stdin          bool
	plain          bool // a new password may be sent without TLS
	yes, unsettled bool
}

// inTheClear is the caution for a password that is sent without TLS.
const inTheClear = "in-the-clear"

func (a *app) loginRotateCmd() *cobra.Command {
	var f rotateFlags
	var accept []string
	c := &cobra.Command{
		Use:   "rotate [DEVICE…]",
		Short: "Change the password on devices",
		Long: `Change the password of the login that each device is reached with, over ONVIF (SetUser),
Redfish (the account), or the password: steps of a family. The first device is the pilot: only if it
accepts the new password, and a login with it works, do the others follow.

The new password is stored before it is sent. The old one is dropped only after a login with the new
one has worked. If a device stops answering in between, both stay stored: catena login rotate
--settle finds out, with one login each, which one it has.

A device that is reached without TLS or SSH would get its new password in the clear. That requires
--accept in-the-clear.`,
		Example: `  catena login rotate --where 'kind == "camera"'
  catena login rotate gate-1 gate-2 --password-stdin --yes < new-password
  catena login rotate --settle`,
		RunE: func(c *cobra.Command, args []string) error {
			for _, word := range accept {
				if word != inTheClear {
					return usage("the only caution here is %s", inTheClear)
				}
				f.plain = true
			}
			f.choose.Names = args
			if f.unsettled {
				return a.settle(c.Context(), f)
			}
			if len(args) == 0 && f.choose.Where == "" {
				return usage("name the devices, or choose them with --where")
			}
			return a.rotate(c.Context(), f)
		},
	}
	whereFlag(c, &f.choose)
	c.Flags().BoolVar(&f.stdin, "password-stdin", false, "read the new password from standard input")
	c.Flags().StringArrayVar(&accept, "accept", nil,
		inTheClear+": a new password may be sent without TLS")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&f.unsettled, "settle", false,
		"find out which password devices have whose change did not end")
	return c
}

func (a *app) rotate(ctx context.Context, f rotateFlags) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	rows, err := s.Choose(f.choose)
	if err != nil {
		return err
	}
	var devices []device.Device
	for _, r := range workspace.Mains(rows) {
		d := r.Match.Device
		switch err := s.Rotatable(d, f.plain); {
		case errors.Is(err, care.ErrInTheClear):
			return refused("%s: %w; to accept that: --accept %s", d.Name, err, inTheClear)
		case err != nil:
			a.say("Left out: %s: %v", d.Name, err)
		default:
			devices = append(devices, d)
		}
	}
	if len(devices) == 0 {
		return refused("none of the chosen devices can get a new password")
	}
	secret, _, err := a.openBook(s.Dir, false)
	if errors.Is(err, login.ErrNone) {
		return usage("there are no stored logins; add one: catena login add")
	}
	if err != nil {
		return err
	}
	e := login.Entry{Kind: login.Site, User: "x"}
	if err := a.newPasswords(&e, loginFlags{stdin: f.stdin}); err != nil {
		return err
	}
	if e.Password == "" {
		return usage("the new password is empty")
	}
	a.say("%s will get the new password, %s first.", words.Plural(len(devices), "device"),
		devices[0].Name)
	if !f.yes {
		if err := a.confirm("Change it?"); err != nil {
			return err
		}
	}
	keep := func(change func(*login.Book) error) error { return login.Change(s.Dir, secret, change) }
	done, err := s.Rotate(ctx, devices, care.NewPassword{Password: e.Password, Plain: f.plain},
		keep, a.sayRotation)
	if err != nil {
		return err
	}
	return a.rotations(done)
}

// settle finds out which password devices have whose change did not end.
func (a *app) settle(ctx context.Context, f rotateFlags) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.cared()
	if err != nil {
		return err
	}
	defer s.Close()
	secret, book, err := a.openBook(s.Dir, false)
	if err != nil {
		return err
	}
	rows, err := s.Choose(f.choose)
	if err != nil {
		return err
	}
	var devices []device.Device
	for _, r := range workspace.Mains(rows) {
		devices = append(devices, r.Match.Device)
	}
	pending := slices.DeleteFunc(book.Pending(), func(e login.Entry) bool {
		return !slices.ContainsFunc(devices, func(d device.Device) bool { return d.ID == e.Of })
	})
	if len(pending) == 0 {
		a.say("No change of a password is open.")
		return nil
	}
	keep := func(change func(*login.Book) error) error { return login.Change(s.Dir, secret, change) }
	return a.rotations(s.Settle(ctx, devices, pending, keep, a.sayRotation))
}

// sayRotation reports a device whose turn is over.
func (a *app) sayRotation(r care.Rotation) {
	if a.verbose {
		a.notice("%s: %s", r.Device.Name, r.Outcome)
	}
}

// rotations prints how changing passwords ended, and sets the exit code.
func (a *app) rotations(all []care.Rotation) error {
	type line struct {
		Device  string `json:"device"`
		ID      string `json:"id"`
		User    string `json:"user"`
		Outcome string `json:"outcome"` // changed, kept, unknown or not tried
		Reason  string `json:"reason"`
	}
	rows := []line{}
	t := view.Table{Columns: []string{"device", "user", "password", "reason"}}
	tones := map[care.RotationOutcome]view.Tone{care.Changed: view.Good, care.Unknown: view.Bad,
		care.Kept: view.Warn, care.NotTried: view.Quiet}
	counts := map[care.RotationOutcome]int{}
	for _, r := range all {
		why := ""
		if r.Err != nil {
			why = strings.ReplaceAll(r.Err.Error(), "\n", "; ")
		}
		if errors.Is(r.Err, device.ErrUnsupported) {
			why = "neither its protocol nor its family can change a password"
		}
		if r.Outcome == care.Unknown {
			why += "; both are stored; when it answers: catena login rotate --settle"
		}
		counts[r.Outcome]++
		rows = append(rows, line{r.Device.Name, r.Device.ID, r.User, string(r.Outcome), why})
		t.Add(r.Device.Name, r.User, tones[r.Outcome].Cell(string(r.Outcome)), why)
	}
	if err := a.emit(rows, t); err != nil {
		return err
	}
	if a.format == "table" {
		a.say("\n%d changed, %d kept, %d unknown, %d not tried.", counts[care.Changed],
			counts[care.Kept], counts[care.Unknown], counts[care.NotTried])
	}
	switch {
	case counts[care.Unknown] > 0:
		return exit{exitStranded, errSilent}
	case counts[care.Changed] < len(all) && !(counts[care.Kept] == len(all) && noErrors(all)):
		return exit{exitFailed, errSilent}
	}
	return nil
}

func noErrors(all []care.Rotation) bool {
	return !slices.ContainsFunc(all, func(r care.Rotation) bool { return r.Err != nil })
}
