package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"catena/internal/cli/view"
	"catena/internal/files"
	"catena/internal/firmware"
	"catena/internal/firmware/version"
	"catena/internal/shelf"
	"catena/internal/signature"
	"catena/internal/words"
	"catena/internal/workspace"
)

// pullFlags choose what a pull brings.
type pullFlags struct {
	key, ca       string
	vendor, model string
	images        []string        // MODEL@VERSION
	found         map[string]bool // those of images that a feed offers
	forSite, look bool
}

func (a *app) shelfPullCmd() *cobra.Command {
	var f pullFlags
	c := &cobra.Command{
		Use:   "pull [FEED]",
		Short: "Fetch images from a feed",
		Long: `Fetch images from a feed: a folder, a stick, or an HTTPS address with a signed index and
its images. The first pull names the key to trust; it is stored. Without FEED all feeds are pulled.

An interrupted download continues where it stopped. An index is refused if it has expired, is signed
by another key, or is older than the last one received. In a site folder the recipients in
site.yaml (tell:) are notified, once, of later versions for its devices and of versions that became
unsafe.`,
		Example: `  catena shelf pull https://firmware.wexcombe.example/feed --key 'ssh-ed25519 AAAA…'
  catena shelf pull /media/stick/feed --for-site
  catena shelf pull --image WX-40@3.2.1
  catena shelf pull --look`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usage("catena shelf pull takes at most one feed")
			}
			return nil
		},
		RunE: func(c *cobra.Command, args []string) error { return a.pull(c.Context(), args, f) },
	}
	c.Flags().StringVar(&f.key, "key", "",
		"the feed's SSH public key, or its file; required the first time")
	c.Flags().StringVar(&f.ca, "ca", "",
		"a file with certificates (PEM) to trust besides the system's")
	c.Flags().StringVar(&f.vendor, "vendor", "", "only images of this maker")
	c.Flags().StringVar(&f.model, "model", "", "only images for this model")
	c.Flags().StringArrayVar(&f.images, "image", nil,
		"only this image: MODEL@VERSION; may be repeated")
	c.Flags().BoolVar(&f.forSite, "for-site", false, "only images for known devices of the site")
	c.Flags().BoolVar(&f.look, "look", false, "only show which models have new images")
	return c
}

func (a *app) pull(ctx context.Context, args []string, f pullFlags) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	sources, err := feedSources(s, args)
	if err != nil {
		return err
	}
	f.found = map[string]bool{}
	wanted, err := a.wantedModels(f)
	if err != nil {
		return err
	}
	var key ssh.PublicKey
	if f.key != "" {
		key, err = publicKey(f.key)
		if err != nil {
			return err
		}
	}
	release, ok, err := s.HoldPulls()
	if err != nil || !ok {
		return errors.Join(err, errors.New("another Catena is filling this shelf from a feed; "+
			"wait for it"))
	}
	defer release()
	failed := false
	for _, source := range sources {
		source, err = shelf.FeedSource(source)
		if err != nil {
			return usage("%w", err)
		}
		meter := &view.Meter{W: a.err, Style: a.style(a.err)}
		p := &shelf.Puller{Shelf: s, Source: source, Key: key, Now: a.now}
		if err := p.Trust(f.ca); err != nil {
			return usage("%s: %w", cmp.Or(f.ca, source), err)
		}
		bad, err := a.pullOne(ctx, p, wanted, f.look, meter)
		meter.Clear()
		if err != nil && (len(sources) == 1 || ctx.Err() != nil) {
			return err
		}
		if err != nil { // a stick that is not there keeps no one from the other feeds
			view.Print(a.err, "%v\n", err)
		}
		failed = failed || bad || err != nil
	}
	for _, i := range f.images {
		if !f.found[i] {
			view.Print(a.err, "no feed offers %s that is not on the shelf; see: catena shelf pull --look\n",
				i)
			failed = true
		}
	}
	return a.pulled(failed)
}

// pulled tells what is new, and reports whether something failed.
func (a *app) pulled(failed bool) error {
	err := a.tellNews()
	if err == nil && failed {
		return exit{exitError, errSilent}
	}
	return err
}

// feedSources are the feeds to pull: those named, or all that are trusted.
func feedSources(s *shelf.Shelf, named []string) ([]string, error) {
	if len(named) > 0 {
		return named, nil
	}
	all, err := s.Feeds()
	if err == nil && len(all) == 0 {
		err = usage("no feed is trusted yet; add one: catena shelf pull FEED --key KEY")
	}
	return all, err
}

// wantedModels tells which images a pull brings.
func (a *app) wantedModels(f pullFlags) (func(firmware.Manifest) bool, error) {
	var known []workspace.Row
	if f.forSite {
		w, err := a.match()
		if err != nil {
			return nil, err
		}
		defer w.Close()
		known = w.Rows
		var unknown []string
		for _, r := range workspace.Mains(known) {
			if r.Vendor == "" || r.Model == "" {
				unknown = append(unknown, r.Name)
			}
		}
		if len(unknown) > 0 {
			a.say("Skipped, because their vendor or model is unknown: %s.",
				strings.Join(unknown, ", "))
		}
	}
	for _, i := range f.images {
		if model, v, ok := strings.Cut(i, "@"); !ok || model == "" || version.Valid(v) != nil {
			return nil, usage("--image %s: write MODEL@VERSION, for example WX-40@3.2.1", i)
		}
	}
	return func(c firmware.Manifest) bool {
		i := firmware.Image{Manifest: c}
		named := len(f.images) == 0
		for _, want := range f.images {
			model, v, _ := strings.Cut(want, "@")
			if i.IsFor("", model) && version.Equal(i.Version, v) {
				named, f.found[want] = true, true
			}
		}
		return named && i.IsFor(f.vendor, f.model) &&
			(!f.forSite || slices.ContainsFunc(known, func(d workspace.Row) bool {
				return i.Fits(d.Vendor, d.Model, d.Hardware.Text)
			}))
	}, nil
}

func (a *app) pullOne(ctx context.Context, p *shelf.Puller, wanted func(firmware.Manifest) bool,
	look bool, meter *view.Meter) (failed bool, err error) {
	f, err := p.Index(ctx)
	switch {
	case errors.Is(err, shelf.ErrNoKey):
		return true, usage("%s: %w; name it with --key", p.Shown(), err)
	case err != nil:
		return true, refused("%s: %w", p.Shown(), err)
	}
	var images []shelf.FeedImage
	for _, e := range p.Shelf.Missing(f) {
		if wanted(e.Manifest) {
			images = append(images, e)
		}
	}
	a.say("%s, number %d of %s, good until %s: %s, %d new here.", f.Name, f.Number,
		f.Made.Format(time.DateOnly), f.Expires.Format(time.DateOnly),
		words.Plural(len(f.Images), "image"), len(images))
	for _, w := range f.Withdrawn {
		a.say("Withdrawn: %s %s %s: %s", w.Vendor, w.Model, w.Versions, w.Because)
	}
	if look {
		t := view.Table{Columns: []string{"vendor", "models", "version", "advice", "size"}}
		for _, e := range images {
			advice := view.Cell{Text: string(e.Manifest.Advice)}
			if f.Withdraws(e.Manifest) {
				advice = view.Bad.Cell(string(firmware.Withdrawn))
			}
			t.Add(e.Manifest.Vendor, strings.Join(e.Manifest.Models, ", "), e.Manifest.Version,
				advice,
				view.Number(words.Bytes(float64(e.Size))))
		}
		t.Draw(a.out, a.style(a.out))
		return false, nil
	}
	total := int64(0)
	for _, e := range images {
		total += e.Size
	}
	p.Progress = func(n int64) { meter.ShowBytes(n, total, "fetched") }
	results := p.Pull(ctx, images)
	meter.Clear()
	if err := a.printImport(results); err != nil {
		return true, err
	}
	return slices.ContainsFunc(results,
		func(r shelf.Result) bool { return r.Outcome == shelf.Refused }), ctx.Err()
}

func (a *app) shelfFeedCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "feed", Short: "Make feeds for others to pull", Args: onlyCommands, RunE: help,
		Long: `A feed is a folder with a signed index and images. Put it on a web server or a
stick. Others fill their shelves from it: catena shelf pull.`,
	}
	c.AddCommand(a.feedKeyCmd(), a.feedMakeCmd())
	return c
}

func (a *app) feedKeyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "key FILE", Short: "Make a key pair to sign feeds with",
		Long: `Make an SSH key pair (Ed25519): the private key in FILE, encrypted with a password,
and the public key in FILE.pub. Catena asks for the password, or reads it from CATENA_KEY_PASSWORD.
You can use an existing key instead.`,
		Example: "  catena shelf feed key wexcombe.key\n  catena shelf feed key ~/keys/ours.key",
		Args:    exactly(1, "a file for the private key"),
		RunE: func(_ *cobra.Command, args []string) error {
			for _, name := range []string{args[0], args[0] + ".pub"} {
				if _, err := os.Stat(name); err == nil {
					return usage("%s already exists; a key is never overwritten", name)
				}
			}
			password, err := a.keyPassword()
			if err != nil {
				return err
			}
			private, public, err := signature.NewKey(password)
			if err != nil {
				return err
			}
			line := signature.Line(public)
			err = errors.Join(os.WriteFile(args[0], private, 0o600),
				os.WriteFile(args[0]+".pub", []byte(line+"\n"), 0o644))
			if err != nil {
				return err
			}
			a.say("The public key, for those who pull: %s", line)
			return nil
		},
	}
}

// feedFlags say what a feed is to be.
type feedFlags struct {
	name, key string
	good      time.Duration
	withdraw  []string
}

func (a *app) feedMakeCmd() *cobra.Command {
	var f feedFlags
	c := &cobra.Command{
		Use:   "make FOLDER [IMAGE…]",
		Short: "Write images of the shelf and a signed index into a folder",
		Long: `Write images of the shelf (all, or the named ones) and a signed index into a folder.
The number of the index is one higher than that of the index already there.`,
		Example: `  catena shelf feed make /srv/feed --name Wexcombe --key wexcombe.key
  catena shelf feed make /srv/feed --name Wexcombe --key wexcombe.key --withdraw 'Wexcombe/WX-40/>= 3.0, < 3.2/it loses its presets'`,
		Args: atLeast(1, "a folder"),
		RunE: func(_ *cobra.Command, args []string) error { return a.feedMake(args, f) },
	}
	c.Flags().StringVar(&f.name, "name", "", "the feed's name")
	c.Flags().StringVar(&f.key, "key", "",
		"the SSH key: a file with a private key, or with a public key held by an agent")
	c.Flags().DurationVar(&f.good, "good-for", 180*24*time.Hour,
		"how long the index is valid")
	c.Flags().StringArrayVar(&f.withdraw, "withdraw", nil,
		"withdrawn versions, as VENDOR/MODEL/VERSIONS/WHY; may be repeated")
	return c
}

func (a *app) feedMake(args []string, f feedFlags) error {
	if f.name == "" || f.key == "" {
		return usage("a feed needs --name and --key; make a key: catena shelf feed key FILE")
	}
	feed := shelf.Feed{Name: f.name, Number: shelf.LastNumber(args[0]) + 1,
		Made:    a.now().UTC().Truncate(time.Second),
		Expires: a.now().UTC().Add(f.good).Truncate(time.Second)}
	for _, w := range f.withdraw {
		part := strings.SplitN(w, "/", 4)
		if len(part) != 4 {
			return usage("--withdraw %q is not VENDOR/MODEL/VERSIONS/WHY", w)
		}
		feed.Withdrawn = append(feed.Withdrawn,
			shelf.Withdrawn{Vendor: part[0], Model: part[1], Versions: part[2], Because: part[3]})
	}
	private, err := a.privateKey(f.key)
	if err != nil {
		return err
	}
	s, err := a.openShelf()
	if err != nil {
		return err
	}
	images, err := s.Choose(args[1:], "", "")
	if err != nil {
		return err
	}
	if err := s.MakeFeed(args[0], feed, images, private); err != nil {
		return err
	}
	a.say("Wrote number %d of %s with %s into %s.", feed.Number, feed.Name,
		words.Plural(len(images), "image"), args[0])
	return nil
}

// publicKey reads a public key, or the file that holds it.
func publicKey(key string) (ssh.PublicKey, error) {
	text := key
	if raw, err := files.Read(key, files.Key); err == nil {
		text = string(raw)
	}
	public, err := signature.Public(text)
	if err != nil {
		return nil, usage("%s is neither a public key nor a file that holds one: %w", key, err)
	}
	return public, nil
}

// privateKey opens the key to sign with.
func (a *app) privateKey(file string) (ssh.Signer, error) {
	raw, err := files.Read(file, files.Key)
	if err != nil {
		return nil, usage("the key cannot be read: %w", err)
	}
	signer, err := signature.Signer(raw, a.keyPassword, a.getenv("SSH_AUTH_SOCK"))
	if err != nil {
		return nil, usage("%s cannot be used to sign: %w", file, err)
	}
	return signer, nil
}

func (a *app) keyPassword() (string, error) {
	if p := a.getenv("CATENA_KEY_PASSWORD"); p != "" {
		return p, nil
	}
	password, err := a.askSecret("Password of the key: ")
	if errors.Is(err, errNoTerminal) {
		return "", usage("the key's password is missing; set CATENA_KEY_PASSWORD, or run this " +
			"in a terminal")
	}
	return password, err
}
