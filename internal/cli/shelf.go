package cli

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"

	"github.com/spf13/cobra"

	"catena/internal/cli/view"
	"catena/internal/firmware"
	"catena/internal/shelf"
)

func (a *app) shelfCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "shelf",
		Short: "Keep the firmware images",
		Long: `The shelf is the local store of firmware images. It is shared by all your sites and
works without a network. Each image lies there with a card, a small YAML file that
says which devices it is for.`,
		Args: onlyCommands, RunE: help,
	}
	add := &cobra.Command{
		Use:   "add PATH…",
		Short: "Put images on the shelf",
		Long: `Put images on the shelf: files, folders, and archives (.zip, .tgz, .tar), with their
cards. A card is a YAML file beside its image:

  card: 1
  vendor: Wexcombe
  models: [WX-40]
  version: 3.2.1
  file: wx40_3.2.1.bin
  sha256: 9f2c…            # 64 digits, as sha256sum prints them

What does not match its card is refused and named; the rest is added.`,
		Example: `  catena shelf add ~/Downloads/wexcombe-2026.zip
  catena shelf add firmware/ tg200-F0061.img`,
		Args: atLeast(1, "at least one file, folder or archive"),
		RunE: func(c *cobra.Command, args []string) error { return a.shelfAdd(c.Context(), args) },
	}
	list := &cobra.Command{
		Use: "list", Short: "List the images on the shelf",
		Example: "  catena shelf list\n  catena shelf list --format json",
		Args:    exactly(0, "no more words"),
		RunE:    func(*cobra.Command, []string) error { return a.shelfList() },
	}
	c.AddCommand(add, list)
	return c
}

func (a *app) shelfAdd(ctx context.Context, paths []string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	results, err := s.Import(ctx, paths, func(n int64) { meter.Show(view.Bytes(float64(n)) + " read") })
	meter.Clear()
	count := map[shelf.Outcome]int{}
	t := view.Table{Columns: []string{"outcome", "vendor", "models", "version", "size", "file"}}
	var refusedFiles []shelf.Result
	for _, r := range results {
		count[r.Outcome]++
		if r.Outcome == shelf.Refused {
			refusedFiles = append(refusedFiles, r)
			continue
		}
		tone := view.Good
		if r.Outcome == shelf.There {
			tone = view.Quiet
		}
		t.Add(view.Cell{Text: string(r.Outcome), Tone: tone}, view.Cell{Text: r.Image.Vendor}, view.Cell{Text: strings.Join(r.Image.Models, ", ")},
			view.Cell{Text: r.Image.Version}, view.Cell{Text: view.Bytes(float64(r.Image.Size))}, view.Cell{Text: r.Source, Tone: view.Quiet})
	}
	switch a.format {
	case "json":
		if err := a.printJSON(results); err != nil {
			return err
		}
	case "csv":
		var rows [][]string
		for _, r := range results {
			rows = append(rows, []string{string(r.Outcome), r.Image.Vendor, strings.Join(r.Image.Models, " "), r.Image.Version, r.Image.SHA256, r.Source, r.Reason})
		}
		if err := view.CSV(a.out, []string{"outcome", "vendor", "models", "version", "sha256", "source", "reason"}, rows); err != nil {
			return err
		}
	default:
		t.Draw(a.out, a.style(a.out))
	}
	for _, r := range refusedFiles {
		fmt.Fprintf(a.err, "refused %s: %s\n", r.Source, r.Reason)
	}
	if err != nil {
		return fmt.Errorf("the import did not end: %w; what stands above is on the shelf, run it again for the rest", err)
	}
	a.say("\n%d new, %d already there, %d refused.", count[shelf.New], count[shelf.There], count[shelf.Refused])
	if count[shelf.Refused] > 0 {
		return exit{exitUsage, errSilent}
	}
	return nil
}

func (a *app) shelfList() error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	images, err := s.List()
	if err != nil {
		return err
	}
	switch a.format {
	case "json":
		return a.printJSON(images)
	case "csv":
		var rows [][]string
		for _, i := range images {
			rows = append(rows, []string{i.Vendor, strings.Join(i.Models, " "), i.Hardware, i.Component, i.Version, string(i.Status), fmt.Sprint(i.Size), i.SHA256, i.File})
		}
		return view.CSV(a.out, []string{"vendor", "models", "hardware", "component", "version", "status", "size", "sha256", "file"}, rows)
	}
	t := view.Table{Columns: []string{"vendor", "models", "version", "status", "size", "digest", "file"}}
	total := int64(0)
	for _, i := range images {
		total += i.Size
		tone := view.Plain
		if i.Status != firmware.Recommended {
			tone = view.Quiet
		}
		t.Add(view.Cell{Text: i.Vendor}, view.Cell{Text: strings.Join(i.Models, ", ")}, view.Cell{Text: i.Version},
			view.Cell{Text: string(i.Status), Tone: tone}, view.Cell{Text: view.Bytes(float64(i.Size))},
			view.Cell{Text: i.SHA256[:12], Tone: view.Quiet}, view.Cell{Text: i.File})
	}
	t.Draw(a.out, a.style(a.out))
	if len(images) == 0 {
		a.say("The shelf %s is empty. Fill it: catena shelf add PATH", s.Dir())
		return nil
	}
	a.say("\n%s, %s, in %s", view.Plural(len(images), "image"), view.Bytes(float64(total)), s.Dir())
	return nil
}
