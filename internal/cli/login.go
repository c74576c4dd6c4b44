package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"catena/internal/advice"
	"catena/internal/cli/view"
	"catena/internal/contact"
	"catena/internal/device"
	"catena/internal/files"
	"catena/internal/login"
	"catena/internal/plan"
	"catena/internal/site"
	"catena/internal/survey"
	"catena/internal/words"
	"catena/internal/workspace"
)

func (a *app) loginCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "login",
		Short: "Manage the encrypted logins of devices",
		Long: `Keep the logins of the devices in the site folder, in ` + login.File + `, encrypted with a
passphrase or, for unattended use, for an identity file.

A login applies to one device, a model, a group, or the whole site, and logins are tried in this
order. A command tries the one that worked last on a device, and at most one that has not worked
there; catena login test tries three. A login that a device rejected is not tried there again
automatically, so that the device does not lock.

Catena asks for the passphrase, only once every few hours after catena login unlock, or takes it
from CATENA_PASSPHRASE. Name an identity file with --identity or in CATENA_IDENTITY.`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.loginAddCmd(), a.loginListCmd(), a.loginTestCmd(), a.loginDropCmd(),
		a.loginAcceptCmd(), a.loginRotateCmd(), a.loginShareCmd(), a.loginUnshareCmd(),
		a.loginPassphraseCmd(),
		a.loginUnlockCmd(), a.loginLockCmd())
	return c
}

// loginFlags say what a login is and for whom.
type loginFlags struct {
	place                string // a host
	hook                 string // a host
	device, model, group string
	user                 string
	snmp                 login.SNMP
	stdin, community     bool
	secrets              []string // the names of those that families ask for
	key, certificate     string   // files
	agent                bool
}

func (a *app) loginAddCmd() *cobra.Command {
	var f loginFlags
	c := &cobra.Command{
		Use:   "add",
		Short: "Add a login for a device, a model, a group or the site",
		Long: `Add a login for the whole site, or with --device, --model or --group for those
devices. Catena asks for the password without showing it, reads it from standard input with
--password-stdin, or takes it from CATENA_PASSWORD. A password is never an argument, because
arguments are visible in the list of processes.

An SNMPv3 user with --privacy has a second password: the next answer or line of standard input, or
CATENA_PRIVACY_PASSWORD. Secrets that a family requires by name (--secret) are entered in the same
way, or taken from CATENA_SECRET_NAME.

With --key an SSH private key is stored with the login. Together with --certificate it is the key of
a TLS client. If the key has a passphrase, Catena asks for it once. With --agent the keys of the SSH
agent are used; name a public key with --key to choose one.`,
		Example: `  catena login add --user keeper
  catena login add --device cam-31 --user keeper
  catena login add --model WX-20 --user admin --password-stdin < password
  catena login add --device switch-basin --community    an SNMP community
  catena login add --user monitor --auth sha256 --privacy aes
  catena login add --model HD-7 --user service --secret enable
  catena login add --model HD-7 --user service --key ~/.ssh/id_ed25519
  catena login add --user keeper --identity ~/catena-identity`,
		Args: exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error { return a.loginAdd(f) },
	}
	c.Flags().StringVar(&f.device, "device", "",
		"for one device: its name, address or serial number")
	c.Flags().StringVar(&f.model, "model", "", "for all devices of a model")
	c.Flags().StringVar(&f.group, "group", "", "for a group of site.yaml")
	c.Flags().StringVar(&f.place, "second-place", "", "for the host that stores copies of "+
		"settings (second_place: in site.yaml)")
	c.Flags().StringVar(&f.hook, "webhook", "", "the secret that signs notifications to the "+
		"webhook at this host (tell: in site.yaml)")
	c.Flags().StringVar(&f.user, "user", "", "the user (default: asked for)")
	c.Flags().BoolVar(&f.community, "community", false,
		"the login is an SNMP community, without a user")
	c.Flags().StringVar(&f.snmp.Auth, "auth", "",
		"SNMPv3: the authentication protocol: "+strings.Join(login.AuthProtocols, ", "))
	c.Flags().StringVar(&f.snmp.Privacy, "privacy", "",
		"SNMPv3: the privacy protocol: "+strings.Join(login.PrivacyProtocols, ", "))
	c.Flags().StringArrayVar(&f.secrets, "secret", nil,
		"a secret that a family requires, by its name; may be repeated")
	c.Flags().StringVar(&f.key, "key", "",
		"a file with an SSH private key, or with the certificate's key")
	c.Flags().StringVar(&f.certificate, "certificate", "", "a file with a TLS client's certificate")
	c.Flags().BoolVar(&f.agent, "agent", false, "log in with the keys of the SSH agent")
	c.Flags().BoolVar(&f.stdin, "password-stdin", false, "read the password from standard input")
	return c
}

func (a *app) loginAdd(f loginFlags) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	e, err := loginFor(w, f)
	if err != nil {
		return err
	}
	if !f.community && f.hook == "" && e.User == "" {
		e.User, _ = a.ask("User: ") // without a terminal there is none
		if e.User == "" {
			return usage("the user is missing; add --user, or --community for an SNMP community")
		}
	}
	if err := a.keys(&e, f); err != nil {
		return err
	}
	if err := a.newPasswords(&e, f); err != nil {
		return err
	}
	secret, _, err := a.openBook(w.Dir, true)
	if err != nil {
		return err
	}
	var beside []login.Entry
	err = login.Change(w.Dir, secret, func(b *login.Book) error {
		var err error
		if e, err = b.Add(e); err != nil {
			return usage("%w", err)
		}
		beside = b.Beside(e)
		return nil
	})
	if err != nil {
		return err
	}
	try := "catena login test"
	if e.Kind == login.Hook {
		try = "catena tell --test"
	}
	a.say("Added login %s for %s. Try it: %s", e.ID, e.For(), try)
	for _, o := range beside {
		a.say("Login %s for %s, user %s, remains: devices may have either password. To remove "+
			"it: catena login drop %[1]s", o.ID, o.For(), cmp.Or(o.User, "none"))
	}
	return nil
}

// loginFor is the login that is added, without its password.
func loginFor(w *plan.Site, f loginFlags) (login.Entry, error) {
	e := login.Entry{Kind: login.Site, User: f.user, SNMP: f.snmp}
	named := 0
	for _, name := range f.secrets {
		if !login.SecretName().MatchString(name) {
			return e, usage("%q cannot be the name of a secret; use lower-case letters, digits and _", name)
		}
	}
	for _, of := range []struct {
		kind login.Kind
		of   string
	}{{login.Device, f.device}, {login.Model, f.model}, {login.Group, f.group},
		{login.Place, f.place}, {login.Hook, f.hook}} {
		if of.of != "" {
			e.Kind, e.Of = of.kind, of.of
			named++
		}
	}
	switch {
	case named > 1:
		return e, usage("a login is for one of --device, --model, --group, --second-place and --webhook")
	case f.community && f.user+f.snmp.Auth+f.snmp.Privacy+f.key != "" || f.community && f.agent:
		return e, usage("an SNMP community has neither a user nor encryption; leave out " +
			"--community or the others")
	case f.group != "" && w.Groups()[f.group] == nil:
		return e, usage("site.yaml has no group %q", f.group)
	}
	if err := f.snmp.Check(); err != nil {
		return e, usage("%w", err)
	}
	if f.device == "" {
		return e, nil
	}
	r, bad := site.ParseRange(f.device)
	switch _, d, err := w.Device(f.device); {
	case err == nil:
		e.Of, e.Label = d.ID, d.Name
	case bad != nil || r.First != r.Last: // an address that is not known yet means itself
		return e, err
	}
	return e, nil
}

// newPasswords takes the password of a login that is added, and the privacy password where
// it has one.
func (a *app) newPasswords(e *login.Entry, f loginFlags) error {
	lines := bufio.NewReader(io.LimitReader(a.in, 4096))
	take := func(what, variable string) (string, error) {
		if given := a.getenv(variable); given != "" && !f.stdin {
			return given, nil
		}
		if f.stdin {
			line, err := lines.ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return "", err
			}
			return strings.TrimRight(line, "\r\n"), nil
		}
		password, err := a.askSecret(what + ": ")
		if errors.Is(err, errNoTerminal) && e.Keyed() && variable == "CATENA_PASSWORD" {
			return "", nil // the key alone
		}
		if errors.Is(err, errNoTerminal) {
			return "", usage("no terminal to ask for the password; use --password-stdin or %s", variable)
		}
		return password, err
	}
	what := "Password"
	switch {
	case f.community:
		what = "Community"
	case f.hook != "":
		what = "Secret"
	}
	if e.Keyed() {
		what = "Password (empty: none)"
	}
	var err error
	e.Password, err = take(what, "CATENA_PASSWORD")
	if err == nil && f.snmp.Privacy != "" {
		e.SNMP.Secret, err = take("Privacy password (empty: the same)", "CATENA_PRIVACY_PASSWORD")
	}
	for _, name := range f.secrets {
		if e.Secrets == nil {
			e.Secrets = map[string]string{}
		}
		if err == nil {
			e.Secrets[name], err = take("Secret "+name, "CATENA_SECRET_"+strings.ToUpper(name))
		}
	}
	return err
}

// keys reads the key and the certificate of a login that is added.
func (a *app) keys(e *login.Entry, f loginFlags) error {
	for _, file := range []struct {
		path string
		to   *string
	}{{f.key, &e.Key}, {f.certificate, &e.Certificate}} {
		if file.path == "" {
			continue
		}
		raw, err := files.Read(file.path, files.Key)
		if err != nil {
			return usage("%w", err)
		}
		*file.to = string(raw)
	}
	e.Agent = f.agent
	err := e.More.Unlock(func() (string, error) { return a.askSecret("Passphrase of the key: ") })
	switch {
	case errors.Is(err, errNoTerminal):
		return usage("%s has a passphrase, and there is no terminal to ask for it; use the "+
			"agent with --agent, or a copy without a passphrase", f.key)
	case err != nil:
		return usage("%s: %w", f.key, err)
	}
	return nil
}

// openBook opens the site's logins with the secret that was given or is asked for. With
// start it starts a book where there is none.
func (a *app) openBook(dir string, begin bool) (login.Secret, login.Book, error) {
	exists := login.Exists(dir)
	if !exists && !begin {
		return login.Secret{}, login.Book{}, login.ErrNone
	}
	secret, err := a.secret(dir, exists)
	if err != nil {
		return secret, login.Book{}, err
	}
	book, err := login.Open(dir, secret)
	if errors.Is(err, login.ErrSecret) &&
		a.unlocked { // it was changed since: what is kept opens nothing
		a.unlocked = false
		a.remember("CATENA_PASSPHRASE", "")
		if err := login.Release(dir); err != nil {
			return secret, book, err
		}
		return a.openBook(dir, begin)
	}
	switch {
	case errors.Is(err, login.ErrNone):
		err = nil
	case errors.Is(err, login.ErrSecret):
		err = usage("%w; set CATENA_PASSPHRASE, run this in a terminal, or name an identity "+
			"file with --identity", err)
	}
	return secret, book, err
}

// shortPassphrase is how many characters a passphrase should have: fewer are guessed in days.
const shortPassphrase = 8

// warnShort warns of a new passphrase that can be guessed.
func (a *app) warnShort(passphrase string) {
	if utf8.RuneCountInString(passphrase) < shortPassphrase {
		view.Print(a.err, "The passphrase has fewer than %d characters, so it can be guessed. "+
			"Four words are better.\n", shortPassphrase)
	}
}

// askAgain has a new passphrase typed once more.
func (a *app) askAgain(passphrase string) error {
	again, err := a.askSecret("The same again: ")
	if err == nil && again != passphrase {
		err = usage("the two differ; nothing was stored")
	}
	return err
}

// secret is the passphrase or the identity that opens the logins of a site folder.
func (a *app) secret(dir string, exists bool) (login.Secret, error) {
	identity := a.identity
	if identity == "" {
		identity = a.getenv("CATENA_IDENTITY")
	}
	if identity != "" {
		if _, err := os.Stat(identity); errors.Is(err, os.ErrNotExist) && !exists {
			if err := login.NewIdentityFile(identity); err != nil {
				return login.Secret{}, fmt.Errorf("the identity file cannot be made: %w", err)
			}
			a.say("Made the identity file %s. Without it the logins cannot be read; keep a copy elsewhere.",
				identity)
		}
		s, err := login.IdentityFile(identity, a.askKeyPassphrase)
		if err != nil {
			return s, usage("%w", err)
		}
		return s, nil
	}
	passphrase := a.getenv("CATENA_PASSPHRASE")
	var err error
	if passphrase == "" && exists {
		if kept, err := login.Kept(dir); err == nil { // no one keeps it: it is asked for
			a.remember("CATENA_PASSPHRASE", kept)
			a.unlocked = true
			return login.Passphrase(kept)
		}
	}
	if passphrase == "" {
		passphrase, err = a.askSecret("Passphrase of the site's logins: ")
		if err == nil {
			a.remember("CATENA_PASSPHRASE", passphrase)
		}
		if err == nil && !exists {
			err = a.askAgain(passphrase)
		}
	}
	switch {
	case errors.Is(err, errNoTerminal):
		return login.Secret{}, usage(
			"%s is encrypted, and there is no terminal to ask for the passphrase; set CATENA_PASSPHRASE, "+
				"or name an identity file with --identity or in CATENA_IDENTITY",
			filepath.Join(dir, login.File))
	case err != nil:
		return login.Secret{}, err
	case passphrase == "":
		return login.Secret{}, usage("the passphrase is empty")
	case !exists:
		a.warnShort(passphrase)
	}
	return login.Passphrase(passphrase)
}

func (a *app) loginListCmd() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the logins without their passwords",
		Example: "  catena login list\n  catena login list --format json",
		Args:    exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			dir, err := a.siteDir()
			if err != nil {
				return err
			}
			_, book, err := a.openBook(dir, false)
			if errors.Is(err, login.ErrNone) {
				a.say("There are no logins yet. Add one: catena login add --user NAME")
				return a.emit([]string{}, view.Table{Columns: []string{"id", "for", "user"}})
			}
			if err != nil {
				return err
			}
			type line struct {
				ID      string   `json:"id"`
				Kind    string   `json:"kind"`
				Of      string   `json:"of"`
				User    string   `json:"user"`
				Secrets []string `json:"secrets"` // their names
			}
			rows := []line{}
			t := view.Table{Columns: []string{"id", "for", "user"}}
			for _, kind := range login.Kinds { // in the order in which they are tried
				for _, e := range slices.Backward(book.Entries) {
					if e.Kind != kind {
						continue
					}
					of := e.Of
					if e.Label != "" {
						of = e.Label
					}
					more := slices.Sorted(maps.Keys(e.Secrets))
					rows = append(rows, line{e.ID, string(e.Kind), of, e.User, append([]string{}, more...)})
					user := e.User
					if e.Keyed() {
						user += ", a key"
					}
					if len(more) > 0 {
						user += ", " + strings.Join(more, ", ")
					}
					if user == "" {
						user = "(community)"
					}
					t.Add(view.Quiet.Cell(e.ID), e.For(), user)
				}
			}
			if err := a.emit(rows, t); err != nil {
				return err
			}
			a.sayReaders(book)
			return nil
		},
	}
}

func (a *app) loginDropCmd() *cobra.Command {
	return &cobra.Command{
		Use: "drop ID…", Short: "Remove logins",
		Example: "  catena login drop k3x7q2ab\n  catena login drop k3x7q2ab erhjcldp",
		Args:    atLeast(1, "the ids of the logins; list them: catena login list"),
		RunE: func(_ *cobra.Command, args []string) error {
			dir, err := a.siteDir()
			if err != nil {
				return err
			}
			secret, _, err := a.openBook(dir, false)
			if errors.Is(err, login.ErrNone) {
				return usage("there are no logins")
			}
			if err != nil {
				return err
			}
			var dropped []login.Entry
			err = login.Change(dir, secret, func(b *login.Book) error {
				for _, id := range args {
					e, ok := b.Drop(id)
					if !ok {
						return usage(
							"there is no login %q; nothing was removed. List them: catena login list", id)
					}
					dropped = append(dropped, e)
				}
				return nil
			})
			if err != nil {
				return err
			}
			for _, e := range dropped {
				a.say("Removed login %s for %s.", e.ID, e.For())
			}
			return nil
		},
	}
}

func (a *app) loginTestCmd() *cobra.Command {
	var choose workspace.Choice
	var forChange bool
	c := &cobra.Command{
		Use:   "test [DEVICE…]",
		Short: "Show which login works on each device",
		Long: `Log in to all known devices, or to the named ones, and show which login works. At
most three logins are tried per device. This command also retries logins that a device rejected
before. Some devices lock after too many wrong logins, so name the device that you mean.

With --for-change the right to update is tested as well, without changing anything: by the role of
the account, or by a value that is set to what it is. Where nothing harmless shows it, only reading
was tested.`,
		Example: "  catena login test\n  catena login test cam-31 --for-change\n" +
			"  catena login test --where 'access == \"login-refused\"'",
		RunE: func(c *cobra.Command, args []string) error {
			choose.Names = args
			return a.loginTest(c.Context(), choose, forChange)
		},
	}
	choiceFlags(c, &choose)
	c.Flags().BoolVar(&forChange, "for-change", false, "test whether the logins may update, too")
	return c
}

func (a *app) loginTest(ctx context.Context, choose workspace.Choice, forChange bool) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	rows, err := w.Choose(choose)
	if err != nil {
		return err
	}
	access, err := a.access(w)
	if err != nil {
		return err
	}
	var devices []device.Device
	for _, r := range workspace.Mains(rows) {
		if r.Match.Device.Known() {
			devices = append(devices, r.Match.Device)
		}
	}
	tested, err := survey.Again(ctx, w.Workspace, access, devices, a.log, a.now)
	if err != nil {
		return err
	}
	trouble := map[string]error{}
	if forChange {
		if trouble, err = a.testRights(ctx, w, access, tested); err != nil {
			return err
		}
	}
	return a.printLogins(tested, access.Book, forChange, trouble)
}

func (a *app) printLogins(tested []device.Device, book login.Book, forChange bool,
	trouble map[string]error) error {
	type line struct {
		Device  string `json:"device"`
		Address string `json:"address"`
		// the id of the one that works; given: CATENA_LOGIN or as asked for
		Login   string `json:"login"`
		For     string `json:"for"`
		User    string `json:"user"`
		Works   bool   `json:"works"`
		Trouble string `json:"trouble"`
		// whether it may update the device: yes, no or untested; empty: not asked for
		MayChange device.Granted `json:"may_change,omitempty"`
		Why       string         `json:"why,omitempty"` // of no
	}
	rows := []line{}
	t := view.Table{Columns: []string{"device", "address", "login", "user", "result"}}
	failed, denied := 0, 0
	for _, d := range tested {
		r := line{Device: d.Name, Address: d.Address, Works: d.Access == device.OK,
			Trouble: d.Why()}
		result := view.Bad.Cell(advice.Troubled(d))
		if e, ok := book.Find(d.Login); ok {
			r.Login, r.For, r.User = e.ID, e.For(), e.User
		} else if r.Works {
			r.Login = "given"
			if d.Open {
				r.Login = "none"
			}
			r.For = map[string]string{"given": "given for this run",
				"none": "none is needed"}[r.Login]
		}
		right := d.MayChange()
		switch {
		case r.Works && forChange:
			result = rightCell(d, trouble[d.ID])
			if right != nil {
				r.MayChange, r.Why = right.Result, right.Why
			}
			if r.MayChange == device.Denied {
				denied++
			}
		case r.Works:
			result = view.Cell{Text: "works for reading"}
		default:
			failed++
		}
		rows = append(rows, r)
		t.Add(r.Device, r.Address, r.For, r.User, result)
	}
	if err := a.emit(rows, t); err != nil {
		return err
	}
	if a.format == "table" {
		a.say("\n%s: the login works on %d, not on %d.%s", words.Plural(len(tested), "device"),
			len(tested)-failed, failed, map[bool]string{false: " Only reading was tested, not the " +
				"permission to update: add --for-change."}[forChange])
	}
	if failed > 0 && failed == len(tested) || denied > 0 {
		return exit{exitFailed, errSilent}
	}
	return nil
}

func (a *app) loginAcceptCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "accept DEVICE|ADDRESS",
		Short: "Accept a changed certificate, host key, serial number or address",
		Long: `Catena remembers the TLS certificate, SSH host key and serial number of a device
from the first contact. If they change, nothing more is sent to that address until you accept the
new ones with this command. A device that moved gets the logins of the site, its model and its
groups. It gets its own login only after you accept the move. Accept only if you know what was
exchanged or moved.`,
		Example: "  catena login accept cam-11\n  catena login accept 10.20.4.11 --yes",
		Args:    exactly(1, "one device or address"),
		RunE:    func(_ *cobra.Command, args []string) error { return a.loginAccept(args[0], yes) },
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func (a *app) loginAccept(name string, yes bool) error {
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	met, err := w.Unaccepted(name)
	if err != nil {
		return err
	}
	for _, k := range met.Keys {
		a.say("%s: the %s changed\n  was %s\n  now %s", k.Address, k.Kind, k.Was, k.Fingerprint)
	}
	for _, d := range met.Devices {
		a.say("%s has moved\n  was %s\n  now %s", d.Name, d.Moved, d.Address)
	}
	if len(met.Keys)+len(met.Devices) == 0 {
		return usage("no changed certificate, key, serial number or address was found at %s; "+
			"scan first: catena scan", name)
	}
	if !yes {
		if err := a.confirm("Was the exchange or the move intended?"); err != nil {
			return err
		}
	}
	if err := w.Accept(met); err != nil {
		return err
	}
	a.say("Accepted. Read it again: catena scan")
	return nil
}

// access opens the logins, and asks for what it needs. A login that is given for this
// run comes after those that are kept.
func (a *app) access(w *plan.Site) (*contact.Access, error) {
	s, err := a.openShelf()
	if err != nil {
		return nil, err
	}
	families, err := a.families(s)
	if err != nil {
		return nil, err
	}
	var book login.Book
	_, interactive := a.terminal()
	kept := login.Exists(w.Dir)
	opens := a.identity+a.getenv("CATENA_IDENTITY")+a.getenv("CATENA_PASSPHRASE") != ""
	if kept && (interactive || opens || a.getenv("CATENA_LOGIN") == "") {
		_, book, err = a.openBook(w.Dir, false)
		if err != nil {
			return nil, err
		}
	}
	if kept && a.getenv("CATENA_LOGIN") == "" {
		return w.Access(families, book)
	}
	given, ok, err := a.login()
	if err != nil {
		return nil, err
	}
	if !ok {
		return w.Access(families, book)
	}
	return w.Access(families, book, given)
}

// login is the one that is given for this run: in the environment, or as asked for.
func (a *app) login() (login.Credential, bool, error) {
	if given := a.getenv("CATENA_LOGIN"); given != "" {
		user, password, ok := strings.Cut(given, ":")
		if !ok || user+password == "" {
			return login.Credential{}, false, usage("CATENA_LOGIN must be user:password, or :community")
		}
		return a.marked(login.Credential{User: user, Password: password}), true, nil
	}
	user, err := a.ask("User of the devices (empty: none): ")
	if err != nil || user == "" {
		return login.Credential{}, false, nil
	}
	password, err := a.askSecret("Password: ")
	if err != nil {
		return login.Credential{}, true, err
	}
	a.remember("CATENA_LOGIN", user+":"+password)
	return a.marked(login.Credential{User: user, Password: password}), true, nil
}

// marked marks a login, so that a device that refused it once is not asked again by every scan.
func (a *app) marked(given login.Credential) login.Credential {
	base, err := a.dataDir()
	if err == nil {
		given, err = login.Marked(given, filepath.Join(base, "given-logins.key"))
	}
	if err != nil {
		a.notice("a rejected login will be tried again by the next scan: %v", err)
	}
	return given
}

// remember keeps what an operator typed as if it had been in the environment: for a detached job.
func (a *app) remember(name, value string) {
	env := a.getenv
	a.getenv = func(n string) string {
		if n == name {
			return value
		}
		return env(n)
	}
}
