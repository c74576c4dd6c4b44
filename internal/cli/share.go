package cli

import (
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/login"
	"catena/internal/text"
	"catena/internal/words"
)

func (a *app) loginShareCmd() *cobra.Command {
	var with, name string
	c := &cobra.Command{
		Use:   "share --with KEY.pub",
		Short: "Let a colleague open the logins with an SSH key or age key",
		Long: `Encrypt the logins for a colleague as well: for a public SSH key (Ed25519 or RSA) or a public
age key. Your passphrase or identity file still opens them. The colleague names the private key:
catena --identity ~/.ssh/id_ed25519 …, or CATENA_IDENTITY.

Whoever can open the logins can read and change all of them, and can share them.
catena sync does not exchange logins: give the colleague the file logins.age, or a pack with
--logins.`,
		Example: "  catena login share --with bea.pub\n" +
			"  catena login share --with ~/keys/cai.age.pub --name cai",
		Args: exactly(0, "no arguments (name the key with --with)"),
		RunE: func(*cobra.Command, []string) error { return a.share(with, name) },
	}
	c.Flags().StringVar(&with, "with", "", "the file with the colleague's public key")
	c.Flags().StringVar(&name, "name", "", "what the colleague is called (default: as in the key)")
	return c
}

func (a *app) share(with, name string) error {
	if with == "" {
		return usage("name the colleague's public key: --with KEY.pub")
	}
	r, err := login.ReadPublicKey(with)
	if err != nil {
		return usage("%w", err)
	}
	if name != "" {
		r.Name = name
	}
	if !text.IsName(r.Name) {
		return usage("%q cannot be a name; give one with --name: letters, digits, and the signs . _ -",
			r.Name)
	}
	r.Since = a.now().UTC()
	dir, secret, err := a.bookToChange()
	if err != nil {
		return err
	}
	switch err := login.Share(dir, secret, r); {
	case errors.Is(err, login.ErrShared):
		return usage("%s: %w; list who can: catena login list", r.Name, err)
	case err != nil:
		return err
	}
	a.say("%s can open the logins now. To end that: catena login unshare %s", r.Name, r.Name)
	return nil
}

// bookToChange opens the logins of the site, which must exist.
func (a *app) bookToChange() (dir string, s login.Secret, err error) {
	dir, err = a.siteDir()
	if err != nil {
		return dir, s, err
	}
	s, _, err = a.openBook(dir, false)
	if errors.Is(err, login.ErrNone) {
		err = usage("there are no logins yet; add one: catena login add")
	}
	return dir, s, err
}

func (a *app) loginUnshareCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "unshare NAME",
		Short: "Encrypt the logins without a colleague's key, and list what the colleague knew",
		Long: `Encrypt the logins again, without the key of a colleague, and list the logins whose
passwords the colleague could read: change those on the devices (catena login rotate). Settings
saved from now on are encrypted for a new key.

Copies of the file that the colleague has can still be opened.`,
		Example: "  catena login unshare bea\n  catena login unshare bea --format json",
		Args:    exactly(1, "the name of the colleague; list them: catena login list"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.unshare(args[0]) },
	}
}

func (a *app) unshare(name string) error {
	dir, secret, err := a.bookToChange()
	if err != nil {
		return err
	}
	known, err := login.Unshare(dir, secret, name)
	if errors.Is(err, login.ErrNotShared) {
		return usage("%w: %s; list who can open them: catena login list", err, name)
	}
	if err != nil {
		return err
	}
	type line struct {
		ID   string `json:"id"`
		For  string `json:"for"`
		User string `json:"user"`
	}
	rows := []line{}
	t := view.Table{Columns: []string{"id", "for", "user"}}
	for _, e := range known {
		user := e.User
		if user == "" {
			user = "(community)"
		}
		rows = append(rows, line{e.ID, e.For(), e.User})
		t.Add(view.Quiet.Cell(e.ID), e.For(), user)
	}
	if a.format == "table" {
		a.say("%s cannot open the logins any more, and knew the passwords of %s:", name,
			words.Plural(len(known), "login"))
	}
	if err := a.emit(rows, t); err != nil {
		return err
	}
	if a.format == "table" {
		a.say("Change them: catena login rotate; and copies of logins.age still open with that key.")
	}
	return nil
}

// sayReaders says who can open the logins besides their owner.
func (a *app) sayReaders(b login.Book) {
	others := slices.DeleteFunc(slices.Clone(b.Readers), func(r login.Reader) bool { return r.Owner })
	if len(others) == 0 || a.format != "table" {
		return
	}
	a.say("\nAlso opened by:")
	for _, r := range others {
		a.say("  %s, since %s", r.Name, r.Since.Local().Format("2006-01-02"))
	}
}
