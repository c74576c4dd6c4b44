package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"catena/internal/cli/view"
	"catena/internal/family"
	"catena/internal/firmware"
	"catena/internal/plan"
	"catena/internal/shelf"
	"catena/internal/signature"
	"catena/internal/words"
)

func (a *app) shelfCmd() *cobra.Command {
	c := &cobra.Command{
		Use:   "shelf",
		Short: "Manage the firmware images",
		Long: `The shelf is the local store of firmware images. All your sites share it, and it
works without a network. Each image has a manifest, a small YAML file that lists the devices it is
for.`,
		Args: onlyCommands, RunE: help,
	}
	c.AddCommand(a.shelfAddCmd(), a.shelfListCmd(), a.shelfNotesCmd(), a.shelfMarkCmd(),
		a.shelfDropCmd(), a.shelfTidyCmd(), a.shelfExportCmd(),
		a.shelfCheckCmd(), a.shelfPullCmd(), a.shelfFeedCmd())
	return c
}

func (a *app) shelfAddCmd() *cobra.Command {
	var as, key string
	c := &cobra.Command{
		Use:   "add PATH…",
		Short: "Put images on the shelf",
		Long: `Put images on the shelf: files, folders, and archives (.zip, .tgz, .tar, .tar.xz, and
archives within them), with their manifests. A manifest is a YAML file beside its image:

  manifest: 1
  vendor: Wexcombe
  models: [WX-40]
  version: 3.2.1
  file: wx40_3.2.1.bin
  sha256: 9f2c…            # 64 digits, as sha256sum prints them

An image without a manifest is recognised by the rules of the families (catena family --help). Open
formats that describe themselves are read, and their checksums verified: U-Boot FIT and legacy
images, USB DFU, Intel HEX, S-record, PLDM packages, SUIT. Security advisories (CSAF 2.0, .json)
are stored too: devices that run an affected version are unsafe. Files that no rule recognises are
set aside and listed with the reason; identify them with --as. Files that do not match their
manifest are refused; the others are added.`,
		Example: `  catena shelf add ~/Downloads/wexcombe-2026.zip
  catena shelf add firmware/ tg200-K44.img
  catena shelf list --aside
  catena shelf add --as vendor=Tollgarth,model=TG-200,version=K44 update.img`,
		Args: atLeast(1, "at least one file, folder or archive"),
		RunE: func(c *cobra.Command, args []string) error {
			if key != "" {
				public, err := publicKey(key)
				if err != nil {
					return err
				}
				for _, p := range args {
					if err := signature.VerifyFile(p, public, signature.Feed); err != nil {
						return refused("%w; nothing was added", err)
					}
				}
			}
			if as != "" {
				return a.shelfSettle(c.Context(), as, args)
			}
			return a.shelfAdd(c.Context(), args)
		},
	}
	c.Flags().StringVar(&key, "key", "",
		"a public key, or its file; every file must have its signature beside it, as FILE.sig")
	c.Flags().StringVar(&as, "as", "",
		"identify one image: vendor=…,model=…,version=…[,component=…][,hardware=…]")
	return c
}

func (a *app) importOptions(
	s *shelf.Shelf, meter *view.Meter, paths []string,
) (shelf.Options, error) {
	families, err := a.families(s)
	total := shelf.Size(paths)
	return shelf.Options{Manifest: families.Manifest,
		Progress: func(n int64) { meter.ShowBytes(n, total, "read") }}, err
}

func (a *app) shelfAdd(ctx context.Context, paths []string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	meter := &view.Meter{W: a.err, Style: a.style(a.err)}
	options, err := a.importOptions(s, meter, paths)
	if err != nil {
		return err
	}
	results, err := s.Import(ctx, paths, options)
	meter.Clear()
	if printErr := a.printImport(results); printErr != nil {
		return printErr
	}
	if err != nil {
		return fmt.Errorf("the import was interrupted: %w; the images listed above are on the "+
			"shelf, run it again for the rest", err)
	}
	count := map[shelf.Outcome]int{}
	for _, r := range results {
		count[r.Outcome]++
	}
	aside := ""
	if n := count[shelf.Aside]; n > 0 {
		aside = fmt.Sprintf(", %d not recognised and set aside", n)
	}
	a.say("\n%d new, %d already on the shelf, %d refused%s.", count[shelf.New], count[shelf.There],
		count[shelf.Refused], aside)
	if aside != "" {
		a.say("Identify them: catena shelf add --as vendor=…,model=…,version=… FILE; or remove " +
			"them: catena shelf drop FILE")
	}
	if count[shelf.Refused] > 0 {
		return exit{exitUsage, errSilent}
	}
	return nil
}

func (a *app) printImport(results []shelf.Result) error {
	if a.format != "table" {
		t := view.Table{Columns: []string{"outcome", "vendor", "models", "version", "sha256",
			"source", "reason"}}
		for _, r := range results {
			i := r.Image
			t.Add(r.Outcome, i.Vendor, strings.Join(i.Models, " "), i.Version, i.SHA256, r.Source,
				r.Reason)
		}
		return a.emit(orEmpty(results), t)
	}
	t := view.Table{Columns: []string{"outcome", "vendor", "models", "version", "size", "file"}}
	for _, r := range results {
		outcome := view.Cell{Text: string(r.Outcome)}
		switch r.Outcome {
		case shelf.Refused, shelf.Aside:
			view.Print(a.err, "%s %s: %s\n", r.Outcome, r.Source, r.Reason)
			continue
		case shelf.There:
			outcome.Tone = view.Quiet
		}
		if r.Advisory != "" {
			t.Add(outcome, "advisory", r.Advisory, "", "", view.Quiet.Cell(r.Reason))
			continue
		}
		i := r.Image
		t.Add(outcome, i.Vendor, strings.Join(i.Models, ", "), i.Version,
			view.Number(words.Bytes(float64(i.Size))), view.Quiet.Cell(r.Source))
	}
	return a.emit(results, t)
}

// shelfSettle puts one image on the shelf as what the person says it is: a file, or
// one that lies aside.
func (a *app) shelfSettle(ctx context.Context, as string, args []string) error {
	manifest, err := shelf.ManifestFrom(as)
	if err != nil {
		return usage("--as: %w", err)
	}
	if len(args) != 1 {
		return usage("--as is for one image at a time")
	}
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	if info, err := os.Stat(args[0]); err == nil {
		if !info.Mode().IsRegular() {
			return usage("--as is for one image, and %s is a folder; name the image in it", args[0])
		}
		results, err := s.Import(ctx, args,
			shelf.Options{Manifest: func(family.Sample) (firmware.Manifest, error) {
				manifest.File = filepath.Base(args[0])
				return manifest, nil
			}})
		if err != nil {
			return err
		}
		if len(results) != 1 || results[0].Outcome == shelf.Refused {
			_ = a.printImport(results)
			return exit{exitUsage, errors.New("the image was not added")}
		}
		return a.printImport(results)
	}
	u, ok := s.FindAside(args[0])
	if !ok {
		return usage("%s is neither a file nor was it set aside; see: catena shelf list --aside", args[0])
	}
	image, err := s.Settle(u, manifest)
	var no *shelf.RefusedError
	if errors.As(err, &no) {
		return usage("%s: %w", u.File, no)
	}
	if err != nil {
		return err
	}
	return a.printImport([]shelf.Result{{Source: u.File, Outcome: shelf.New, Image: image}})
}

// tellFaults names what on the shelf cannot be used.
func (a *app) tellFaults(s *shelf.Shelf) error {
	faults, err := s.Faults()
	for _, f := range faults {
		view.Print(a.err, "Left out: %s: %s; drop it: catena shelf drop %s\n", f.File, f.Reason,
			f.SHA256[:min(12, len(f.SHA256))])
	}
	return err
}

func (a *app) shelfListCmd() *cobra.Command {
	var aside bool
	var vendor, model string
	c := &cobra.Command{
		Use: "list", Short: "List the images on the shelf",
		Long: `List the images by model, newest first. The newest image of each model is marked,
and so are images added since the last listing.`,
		Example: "  catena shelf list\n  catena shelf list --model WX-40\n  catena shelf list " +
			"--aside\n  catena shelf list --format json",
		Args: exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			s, err := a.openShelf()
			if err != nil {
				return err
			}
			if aside {
				return a.shelfAside(s)
			}
			return a.shelfList(s, vendor, model)
		},
	}
	c.Flags().BoolVar(&aside, "aside", false, "list the files that were not recognised")
	c.Flags().StringVar(&vendor, "vendor", "", "only images of this maker")
	c.Flags().StringVar(&model, "model", "", "only images for this model")
	return c
}

func (a *app) shelfAside(s *shelf.Shelf) error {
	list, err := s.AsideList()
	if err != nil {
		return err
	}
	t := view.Table{Columns: []string{"file", "size", "digest", "why"}}
	for _, u := range list {
		t.Add(u.File, view.Number(words.Bytes(float64(u.Size))), view.Quiet.Cell(u.SHA256[:12]),
			u.Reason)
	}
	if len(list) == 0 && a.format == "table" {
		a.say("Nothing is set aside.")
		return nil
	}
	return a.emit(orEmpty(list), t)
}

func (a *app) shelfList(s *shelf.Shelf, vendor, model string) error {
	images, err := s.List()
	if err != nil {
		return err
	}
	if err := a.tellFaults(s); err != nil {
		return err
	}
	families, err := a.families(s)
	if err != nil {
		return err
	}
	list, err := s.Listed(images, families.Order)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(l shelf.Listed) bool { return !l.IsFor(vendor, model) })
	if a.format != "table" {
		t := view.Table{Columns: []string{"vendor", "models", "hardware", "component", "version",
			"advice", "size", "sha256", "file"}}
		for _, i := range list {
			t.Add(i.Vendor, strings.Join(i.Models, " "), i.Hardware, i.Component, i.Version,
				i.Advice, i.Size, i.SHA256, i.File)
		}
		return a.emit(orEmpty(list), t)
	}
	t := view.Table{Columns: []string{"vendor", "models", "version", "advice", "size", "digest",
		"file", "marks"}, Less: []string{"digest", "vendor"}}
	total := int64(0)
	for _, i := range list {
		total += i.Size
		tone := map[firmware.Advice]view.Tone{firmware.Withdrawn: view.Bad,
			firmware.Superseded: view.Quiet}[i.Advice]
		marks := view.Cell{Text: i.Marks()}
		if i.Because != "" {
			marks.Tone = tone
		}
		t.Add(i.Vendor, strings.Join(i.Models, ", "), i.Version, tone.Cell(string(i.Advice)),
			view.Number(words.Bytes(float64(i.Size))),
			view.Quiet.Cell(i.SHA256[:12]), i.File, marks)
	}
	if err := a.emit(list, t); err != nil {
		return err
	}
	if len(images) == 0 {
		a.say("The shelf %s is empty. Fill it: catena shelf add PATH", s.Dir())
		return nil
	}
	a.say("\n%s, %s, in %s", words.Plural(len(list), "image"), words.Bytes(float64(total)), s.Dir())
	return nil
}

// anImage is what commands on one image want.
const anImage = "an image: its file name, or the first digits of its digest"

// withImage finds the image that a person named.
func (a *app) withImage(name string, do func(s *shelf.Shelf, image firmware.Image) error) error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	images, err := s.List()
	if err != nil {
		return err
	}
	image, err := shelf.Find(images, name)
	if err != nil {
		return usage("%w; see: catena shelf list", err)
	}
	return do(s, image)
}

func (a *app) shelfNotesCmd() *cobra.Command {
	return &cobra.Command{
		Use: "notes IMAGE", Short: "Show an image's release notes",
		Example: "  catena shelf notes wx40_3.2.1.bin\n  catena shelf notes tg200-K44.img",
		Args:    exactly(1, anImage),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.withImage(args[0], func(s *shelf.Shelf, image firmware.Image) error {
				notes, err := s.Notes(image)
				if err != nil {
					return err
				}
				if notes == "" {
					a.say("%s came without release notes.", image.File)
					return nil
				}
				view.Print(a.out, "%s", view.Markdown(notes, a.style(a.out)))
				return nil
			})
		},
	}
}

func (a *app) shelfMarkCmd() *cobra.Command {
	var because string
	c := &cobra.Command{
		Use: "mark IMAGE ADVICE", Short: "Give an image an advice: recommended, superseded, " +
			"withdrawn or none",
		Long: `Give an image an advice. A recommended image is preferred over all others, a
superseded one is chosen only if a target names it, and a withdrawn one never: devices that run it
are unsafe.`,
		Example: "  catena shelf mark wx40_3.2.1.bin withdrawn --because 'it loses its presets'\n  " +
			"catena shelf mark wx40_3.2.1.bin none",
		Args: exactly(2, "an image and an advice"),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		return a.withImage(args[0], func(s *shelf.Shelf, image firmware.Image) error {
			advice := firmware.Advice(args[1])
			if args[1] == "none" {
				advice = firmware.NoAdvice
			}
			if err := s.Mark(image, advice, because); err != nil {
				return usage("%w", err)
			}
			a.say("Advice for %s: %s.", image.File, args[1])
			return nil
		})
	}
	c.Flags().StringVar(&because, "because", "", "why")
	return c
}

func (a *app) shelfDropCmd() *cobra.Command {
	var force bool
	c := &cobra.Command{
		Use: "drop IMAGE", Short: "Remove an image, or a file that was set aside",
		Long: `Remove an image from the shelf. Catena refuses if the image is the rollback of a
device at any site that has used this shelf, unless you add --force.`,
		Example: "  catena shelf drop wx40_3.0.0.bin\n  catena shelf drop tg200-K41.img --force",
		Args:    exactly(1, anImage),
	}
	c.RunE = func(_ *cobra.Command, args []string) error {
		s, err := a.openShelf()
		if err != nil {
			return err
		}
		if u, ok := s.FindAside(args[0]); ok {
			if err := s.Forget(u); err != nil {
				return err
			}
			a.say("Removed %s, which was set aside.", u.File)
			return nil
		}
		if f, ok := s.FindFault(args[0]); ok {
			if err := s.DropFault(f); err != nil {
				return err
			}
			a.say("Removed %s, which could not be used.", f.File)
			return nil
		}
		return a.withImage(args[0], func(s *shelf.Shelf, image firmware.Image) error {
			here, _ := a.siteDir() // outside a site, those that used the shelf count
			by := a.writer()
			needed, err := plan.NeededBy(s, image, here, a.now, by)
			if err != nil {
				return err
			}
			if len(needed) > 0 && !force {
				return refused("%s is the rollback of %s; keep it, or add --force", image.File,
					strings.Join(needed, ", "))
			}
			if err := s.Drop(image); err != nil {
				return err
			}
			a.say("Dropped %s (%s).", image.File, image.SHA256[:12])
			return nil
		})
	}
	c.Flags().BoolVar(&force, "force", false, "even if it is the rollback of a device")
	return c
}

func (a *app) shelfTidyCmd() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use:   "tidy",
		Short: "Remove the images that no known device needs",
		Long: `Remove the images that no known device runs, would be updated to, or would be rolled
back to, at any site that has used this shelf. They are listed first, and you are asked before
anything is removed.`,
		Example: "  catena shelf tidy\n  catena shelf tidy --yes",
		Args:    exactly(0, "no arguments"),
		RunE:    func(*cobra.Command, []string) error { return a.shelfTidy(yes) },
	}
	c.Flags().BoolVarP(&yes, "yes", "y", false, "do not ask")
	return c
}

func (a *app) shelfTidy(yes bool) error {
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	here, _ := a.siteDir() // outside a site, those that used the shelf count
	by := a.writer()
	unneeded, err := plan.Unneeded(s, here, a.now, by)
	if err != nil {
		return err
	}
	t := view.Table{Columns: []string{"vendor", "models", "version", "size", "file"}}
	total := int64(0)
	for _, i := range unneeded {
		total += i.Size
		t.Add(i.Vendor, strings.Join(i.Models, ", "), i.Version,
			view.Number(words.Bytes(float64(i.Size))),
			i.File)
	}
	if err := a.emit(orEmpty(unneeded), t); err != nil {
		return err
	}
	if len(unneeded) == 0 {
		a.say("Every image on the shelf is needed.")
		return nil
	}
	if !yes {
		if err := a.confirm("Drop " + words.Plural(len(unneeded), "image") + "?"); err != nil {
			return err
		}
	}
	for _, i := range unneeded {
		if err := s.Drop(i); err != nil {
			return err
		}
	}
	a.say("Dropped %s, %s.", words.Plural(len(unneeded), "image"), words.Bytes(float64(total)))
	return nil
}

func (a *app) shelfExportCmd() *cobra.Command {
	var vendor, model, key string
	c := &cobra.Command{
		Use:   "export FILE.zip [IMAGE…]",
		Short: "Write images with their manifests into a bundle for a colleague",
		Long: `Write images with their manifests and release notes into a bundle. With --key the
bundle is signed: the SSH signature is written beside it, and a colleague verifies it with catena
shelf add --key.`,
		Example: "  catena shelf export wexcombe.zip --vendor Wexcombe --key ours.key\n  catena shelf " +
			"export one.zip wx40_3.2.1.bin",
		Args: atLeast(1, "a file to write"),
		RunE: func(c *cobra.Command, args []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			s, err := a.openShelf()
			if err != nil {
				return err
			}
			images, err := s.Choose(args[1:], vendor, model)
			if err != nil {
				return err
			}
			if err := notThere(args[0]); err != nil {
				return err
			}
			var private ssh.Signer
			if key != "" {
				private, err = a.privateKey(key)
				if err != nil {
					return err
				}
			}
			if err := s.Export(ctx, args[0], images, private); err != nil {
				return fmt.Errorf("nothing was written: %w", err)
			}
			a.say("Wrote %s into %s. A colleague adds it: catena shelf add %s",
				words.Plural(len(images), "image"), args[0], filepath.Base(args[0]))
			return nil
		},
	}
	c.Flags().StringVar(&vendor, "vendor", "", "all images of this maker")
	c.Flags().StringVar(&model, "model", "", "all images for this model")
	c.Flags().StringVar(&key, "key", "",
		"the SSH key that signs the bundle: a file with a private key, or with a public key "+
			"held by an agent")
	return c
}

func (a *app) shelfCheckCmd() *cobra.Command {
	return &cobra.Command{
		Example: "  catena shelf check\n  catena shelf check --format json",
		Use:     "check", Short: "Read every image again and list the damaged ones",
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(c.Context(), os.Interrupt)
			defer stop()
			s, err := a.openShelf()
			if err != nil {
				return err
			}
			meter := &view.Meter{W: a.err, Style: a.style(a.err)}
			images, err := s.List()
			if err != nil {
				return err
			}
			total := int64(0)
			for _, i := range images {
				total += i.Size
			}
			count, damaged, err := s.Check(ctx, func(n int64) { meter.ShowBytes(n, total, "read") })
			meter.Clear()
			if err != nil {
				return err
			}
			if a.format == "json" {
				if err := a.printJSON(damaged); err != nil {
					return err
				}
			}
			for _, d := range damaged {
				a.say("%s: %s", d.File, d.Reason)
			}
			if len(damaged) > 0 {
				return fmt.Errorf("%d of %s damaged; a damaged image is never sent: add it again, or drop it",
					len(damaged), words.Plural(count, "image"))
			}
			a.say("%s read, nothing is damaged.", words.Plural(count, "image"))
			return nil
		},
	}
}
