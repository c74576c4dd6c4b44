package cli

import (
	"bufio"
	"context"
	"errors"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/login"
	"catena/internal/machine"
)

// Bounds of how long a passphrase is kept.
const (
	unlockFor  = 8 * time.Hour
	unlockMost = 24 * time.Hour
)

func (a *app) loginUnlockCmd() *cobra.Command {
	var length time.Duration
	var keep bool
	c := &cobra.Command{
		Use:   "unlock",
		Short: "Unlock the logins once for a night's work",
		Long: `Ask for the passphrase of this site's logins and keep it for some hours. A small
process holds it in memory and gives it to other commands of the same user through a socket that
only this user can open. It is never written to disk. The process ends automatically after that
time, with catena login lock, or when the machine stops.

Every program of this user can use it. In a script, use CATENA_PASSPHRASE or an identity file
instead.`,
		Example: "  catena login unlock\n  catena login unlock --for 4h\n  catena login lock",
		Args:    exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if length <= 0 || length > unlockMost {
				return usage("--for %s: write for example 8h, at most 24h", length)
			}
			if keep {
				return a.keepUnlocked(c.Context(), length)
			}
			return a.unlock(length)
		},
	}
	c.Flags().DurationVar(&length, "for", unlockFor, "the duration")
	c.Flags().BoolVar(&keep, "keep", false, "be the process that keeps it")
	_ = c.Flags().MarkHidden("keep") // it is there
	return c
}

// unlock asks, looks whether it opens the logins, and leaves a process that keeps it.
func (a *app) unlock(length time.Duration) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	if !login.Exists(dir) {
		return exit{exitUsage, errors.New("this site has no logins yet; add one: catena login add")}
	}
	passphrase := a.getenv("CATENA_PASSPHRASE")
	if passphrase == "" {
		if passphrase, err = a.askSecret("Passphrase of the site's logins: "); err != nil {
			return usage("no terminal to ask on; in a script, use CATENA_PASSPHRASE or an identity file")
		}
	}
	secret, err := login.Passphrase(passphrase)
	if err != nil {
		return err
	}
	if _, err := login.Open(dir, secret); err != nil {
		return usage("%w; nothing is stored", err)
	}
	if err := login.Release(dir); err != nil {
		return err
	}
	cmd, err := machine.Self(secretNames, "-C", dir, "login", "unlock", "--keep", "--for",
		length.String())
	if err != nil {
		return err
	}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	_, err = io.WriteString(in, passphrase)
	_ = in.Close()
	said, _ := bufio.NewReader(out).ReadString('\n') // what it says once it listens, or nothing
	if err != nil || !strings.HasPrefix(said, "kept") {
		_ = cmd.Process.Kill()
		return errors.New("the process that holds the passphrase did not start; use " +
			"CATENA_PASSPHRASE instead")
	}
	a.say("The logins of this site are unlocked until %s, for every command of this user. Lock "+
		"them: catena login lock", a.now().Add(length).Format("15:04"))
	return cmd.Process.Release()
}

// keepUnlocked is the process that keeps a passphrase. It takes it from its input.
func (a *app) keepUnlocked(ctx context.Context, length time.Duration) error {
	dir, err := a.siteDir()
	if err != nil {
		return err
	}
	passphrase, err := io.ReadAll(io.LimitReader(a.in, 4<<10))
	if err != nil || len(passphrase) == 0 {
		return usage("there is no passphrase to hold")
	}
	socket, err := login.KeeperSocket(dir, true)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, length)
	defer cancel()
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGTERM, os.Interrupt)
	defer stop()
	signal.Ignore(syscall.SIGHUP)
	return login.Keep(ctx, socket, string(passphrase), func() { view.Print(a.out, "kept\n") })
}

func (a *app) loginLockCmd() *cobra.Command {
	return &cobra.Command{
		Use: "lock", Short: "Lock the logins again",
		Args: exactly(0, "no arguments"),
		Long: `End the process that holds the passphrase of this site's logins. From then on Catena
asks for it again.`,
		Example: "  catena login lock\n  catena -C ~/sites/marrow-hill login lock",
		RunE: func(*cobra.Command, []string) error {
			dir, err := a.siteDir()
			if err != nil {
				return err
			}
			_, kept := login.Kept(dir)
			if err := login.Release(dir); err != nil {
				return err
			}
			a.say("%s", map[bool]string{true: "The logins are locked.",
				false: "The logins were not unlocked."}[kept == nil])
			return nil
		},
	}
}
