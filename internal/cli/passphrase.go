package cli

import (
	"bufio"
	"errors"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/login"
)

func (a *app) loginPassphraseCmd() *cobra.Command {
	var stdin bool
	var to string
	c := &cobra.Command{
		Use:   "passphrase",
		Short: "Change the passphrase of the logins",
		Long: `Encrypt the logins of the site for a new passphrase, or for an identity file (--to). The
old passphrase, or the old identity, opens them no longer. Saved settings stay readable: they are
encrypted for a key among the logins.

Copies of the site folder and packs made before still open with the old passphrase. If someone knew
it who must not, change the passwords on the devices as well.`,
		Example: "  catena login passphrase\n  catena login passphrase --to ~/keys/marrow-hill.age\n" +
			"  catena login passphrase --passphrase-stdin < new-passphrase",
		Args: exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error { return a.newPassphrase(to, stdin) },
	}
	c.Flags().
		StringVar(&to, "to", "", "an identity file instead of a passphrase; one is made if there is none")
	c.Flags().BoolVar(&stdin, "passphrase-stdin", false, "read the new passphrase from standard input")
	return c
}

func (a *app) newPassphrase(to string, stdin bool) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	old, _, err := a.openBook(dir, false)
	if errors.Is(err, login.ErrNone) {
		return usage("there are no logins yet; add one: catena login add")
	}
	if err != nil {
		return err
	}
	fresh, err := a.newSecret(to, stdin)
	if err != nil {
		return err
	}
	if err := login.Rekey(dir, old, fresh); err != nil {
		return err
	}
	a.say("The logins are encrypted again; the old passphrase opens them no longer.")
	return login.Release(dir)
}

// newSecret is what the logins are to be opened by from now on.
func (a *app) newSecret(to string, stdin bool) (login.Secret, error) {
	if to != "" {
		if _, err := os.Stat(to); errors.Is(err, os.ErrNotExist) {
			if err := login.NewIdentityFile(to); err != nil {
				return login.Secret{}, err
			}
			a.say("Made the identity file %s. Without it the logins cannot be read; keep a copy elsewhere.",
				to)
		}
		s, err := login.IdentityFile(to, a.askKeyPassphrase)
		if err != nil {
			return s, usage("%w", err)
		}
		return s, nil
	}
	passphrase, err := a.askNewPassphrase(stdin)
	switch {
	case errors.Is(err, errNoTerminal):
		return login.Secret{}, usage(
			"no terminal to ask for the new passphrase; use --passphrase-stdin or --to",
		)
	case err != nil:
		return login.Secret{}, err
	case passphrase == "":
		return login.Secret{}, usage("the new passphrase is empty")
	}
	a.warnShort(passphrase)
	return login.Passphrase(passphrase)
}

// askKeyPassphrase asks for the passphrase of an SSH key.
func (a *app) askKeyPassphrase() ([]byte, error) {
	passphrase, err := a.askSecret("Passphrase of the key: ")
	return []byte(passphrase), err
}

// askNewPassphrase reads a new passphrase, on a terminal twice.
func (a *app) askNewPassphrase(stdin bool) (string, error) {
	if stdin {
		line, err := bufio.NewReader(io.LimitReader(a.in, 4096)).ReadString('\n')
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return strings.TrimRight(line, "\r\n"), err
	}
	passphrase, err := a.askSecret("New passphrase: ")
	if err != nil {
		return "", err
	}
	return passphrase, a.askAgain(passphrase)
}
