package cli

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/bundle"
	"catena/internal/shelf"
	"catena/internal/words"
	"catena/internal/workspace"
)

// packEnding is that of a pack's file.
const packEnding = ".pack"

func (a *app) packCmd() *cobra.Command {
	var out string
	var logins bool
	c := &cobra.Command{
		Use:   "pack ORDER",
		Short: "Pack everything that a night needs into one verified file",
		Long: `Write one file for the laptop that goes offline: the site and its families, an order
with its signatures, the images for update and rollback, and the known devices with their keys.
There, run: catena unpack FILE. The ledger remains here, and so do the logins, unless you include
them, encrypted, with --logins.`,
		Example: "  catena pack night-1\n  catena pack night-1 --logins --out /media/stick/night-1.pack",
		Args:    exactly(1, "one order"),
		RunE: func(c *cobra.Command, args []string) error {
			if out == "" {
				out = args[0] + packEnding
			}
			return a.pack(c.Context(), args[0], out, logins)
		},
	}
	c.Flags().StringVar(&out, "out", "", "the file to write (default: ORDER.pack, here)")
	c.Flags().BoolVar(&logins, "logins", false, "include the logins, encrypted")
	return c
}

func (a *app) pack(ctx context.Context, name, out string, logins bool) error {
	if err := notThere(out); err != nil {
		return err
	}
	w, err := a.match()
	if err != nil {
		return err
	}
	defer w.Close()
	images, err := bundle.Pack(ctx, w, name, out, logins)
	if err != nil {
		return err
	}
	a.say("Packed the order %s with %s into %s. On the other machine: catena unpack %s", name,
		words.Plural(images, "image"), out, filepath.Base(out))
	return nil
}

func (a *app) unpackCmd() *cobra.Command {
	return &cobra.Command{
		Use:   "unpack FILE [FOLDER]",
		Short: "Unpack a file into a site folder and the shelf",
		Long: `Verify a file written by catena pack, make a site folder from it, and put its images
on the shelf. An existing folder is never changed.`,
		Example: "  catena unpack night-1.pack\n  catena unpack /media/stick/night-1.pack marrow-hill",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 && len(args) != 2 {
				return usage("catena unpack takes a file, and the name of the folder to make")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error {
			dir := strings.TrimSuffix(filepath.Base(args[0]), packEnding)
			if len(args) == 2 {
				dir = args[1]
			}
			return a.unpack(c.Context(), args[0], dir)
		},
	}
}

func (a *app) unpack(ctx context.Context, file, dir string) error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	by := a.writer()
	results, err := bundle.Unpack(ctx, file, dir, s, a.now, by)
	if err != nil {
		return err
	}
	if err := a.printImport(results); err != nil {
		return err
	}
	if err := a.sayForeign(dir); err != nil {
		return err
	}
	a.say("\nMade the site folder %s of %s. Next: cd %[1]s, then catena order list, and add the "+
		"logins if they did not come with it.", dir, file)
	if slices.ContainsFunc(results, func(r shelf.Result) bool { return r.Outcome == shelf.Refused }) {
		return exit{exitFailed, errSilent}
	}
	return nil
}

// sayForeign shows which commands a site folder of someone else would run.
func (a *app) sayForeign(dir string) error {
	s, err := workspace.ReadSite(dir)
	if err != nil {
		return err
	}
	var commands [][]string
	for _, t := range s.Tell {
		if len(t.Command) > 0 {
			commands = append(commands, t.Command)
		}
	}
	if len(commands) > 0 {
		a.say("\nThis folder names commands for events of jobs. None runs before you allow it on this " +
			"machine (catena tell --allow):")
		a.sayCommands(commands)
	}
	return nil
}
