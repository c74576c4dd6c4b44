package cli

import (
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/record"
)

func (a *app) noteCmd() *cobra.Command {
	var photograph string
	var position bool
	c := &cobra.Command{
		Use:   "note DEVICE TEXT",
		Short: "Write a note about a device, with a photograph",
		Long: `Write a note about a device, for those who come after you. It is in catena show, and in
the reports of the jobs that update the device.

A photograph (JPEG or PNG) is copied into photos/ in the site folder, with at most 1600 pixels on
its longer side. What the camera wrote beside the picture is removed, also where it was taken; with
--keep-position, the note states that. A sync exchanges photographs.`,
		Example: "  catena note gate-2 'The cable is chafed at the lower bracket.'\n" +
			"  catena note cam-11 'The bracket is loose.' --photo ~/IMG_0417.jpg",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 || strings.TrimSpace(args[1]) == "" {
				return usage("write: catena note DEVICE 'TEXT'")
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if position && photograph == "" {
				return usage("--keep-position is that of a photograph: --photo FILE")
			}
			return a.note(args[0], strings.TrimSpace(args[1]), photograph, position)
		},
	}
	c.Flags().StringVar(&photograph, "photo", "", "a photograph: a JPEG or PNG file")
	c.Flags().BoolVar(&position, "keep-position", false,
		"keep where the photograph was taken, in the note")
	return c
}

// maxNote is how long a note may be, in bytes.
const maxNote = 4000

func (a *app) note(word, text, photograph string, position bool) error {
	if len(text) > maxNote {
		return usage("a note has at most %d bytes, this one %d", maxNote, len(text))
	}
	w, err := a.openSite()
	if err != nil {
		return err
	}
	defer w.Close()
	_, d, err := w.Device(word)
	if err != nil {
		return err
	}
	var from io.Reader
	if photograph != "" {
		f, err := os.Open(photograph)
		if err != nil {
			return usage("--photo: %w", err)
		}
		defer func() { _ = f.Close() }()
		from = f
	}
	n, err := w.Note(d, text, whoami(), from, position)
	if err != nil && photograph != "" {
		return usage("--photo %s %w", photograph, err)
	}
	if err != nil {
		return err
	}
	a.say("Noted: %s.", d.Name)
	if n.Photo != "" {
		a.say("The photograph is %s.", filepath.Join(record.PhotosFolder, n.Photo))
	}
	return nil
}
