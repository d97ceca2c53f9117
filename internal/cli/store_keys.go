package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/pin"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) keysCommands() *cli.Command {
	return &cli.Command{Name: "keys", Usage: "who can open a store", OnUsageError: onUsage, Commands: []*cli.Command{
		a.command("", "list", "STORE", "list who can open the store", "", a.keysList),
		a.command("", "new", "FILE", "make a key, put it into a file, and print its public part", "", a.keysNew),
		a.command("", "add", "STORE", "let somebody else open it; nothing is rewritten", "", a.keysAdd,
			&cli.StringFlag{Name: "recipient", Usage: "a public `KEY` (age1…)"},
			&cli.StringFlag{Name: "passphrase-file", Usage: "a `FILE` with a passphrase"},
			&cli.BoolFlag{Name: "write-only", Usage: "it can snapshot and capture, and not read what is there"},
			&cli.StringFlag{Name: "label", Usage: "whose it is"}),
		a.command("", "drop", "STORE HOLDER", "take a holder away, named by its number or its public key", "",
			a.keysDrop,
			&cli.BoolFlag{Name: "yes", Usage: "also the key that the configuration names, without asking"}),
		a.command("", "renew", "STORE", "have what is stored from now on be readable for its holders alone",
			"For after a key was stolen, and its holder dropped: who had it may have kept the store's own keys. "+
				"What is there stays as it is. The store has another identity then, which other hosts must be told.",
			a.keysRenew, &cli.BoolFlag{Name: "yes", Usage: "without asking"}),
	}}
}

// holders finds who a new store is encrypted for; a key is made where the key
// names a file that is not there.
func (a *app) holders(ctx context.Context, c *cli.Command,
	name string) (holders []store.Holder, made string, err error) {
	conf := a.cfg.Stores[name]
	if conf.Key != nil && conf.Key.File != "" {
		if _, err := os.Stat(conf.Key.File); errors.Is(err, fs.ErrNotExist) {
			if _, err := newKeyFile(conf.Key.File); err != nil {
				return nil, "", err
			}
			made = conf.Key.File
		}
	}
	secret, err := a.cfg.Key(ctx, name)
	if err != nil {
		return nil, "", usageError{err}
	}
	if secret != "" {
		h, err := store.HolderOf(secret, "", store.Read)
		if err != nil {
			return nil, "", usage("%s: stores.%s.key: %v", a.cfg.Path, name, err)
		}
		holders = append(holders, h)
	}
	for _, r := range c.StringSlice("recipient") {
		h, err := store.NewHolder(r, "", store.Read)
		if err != nil {
			return nil, "", usage("--recipient: %v", err)
		}
		holders = append(holders, h)
	}
	if len(holders) == 0 {
		return nil, "", usage("a store is encrypted unless --plain is given: say where its key is to be with "+
			"stores.%s.key in %s (a file that is not there is made), or give a --recipient", name, a.cfg.Path)
	}
	return holders, made, nil
}

// newKeyFile makes a key and puts it into a file that must not be there.
func newKeyFile(path string) (public string, err error) {
	secret, public, err := store.NewSecret()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	_, err = fmt.Fprintf(f, "# made %s\n# public key: %s\n%s\n", time.Now().Format(time.RFC3339), public, secret)
	return public, errors.Join(err, f.Sync(), f.Close(), blob.SyncFolder(filepath.Dir(path)))
}

func (a *app) keysList(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	holders, bad, err := s.KeyHolders(ctx)
	if err != nil {
		return err
	}
	for i := range holders {
		holders[i].Sealed = nil
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "encrypted": s.Encrypted(), "holders": holders})
	}
	if !s.Encrypted() {
		a.screen.Line("%s is not encrypted", name)
		return nil
	}
	t := a.screen.Table("holder", "can", "opens with", "label", "added", "")
	for _, holder := range holders {
		can := "read and write"
		if holder.Access == store.Write {
			can = "write only"
		}
		by := ""
		if !holder.Refused.IsZero() {
			by = fmt.Sprintf("dropped %s: opens nothing, and goes when its lock ends", view.Time(holder.Refused))
		} else if !holder.Vouched {
			by = a.screen.Loss("nobody added it who can read: drop it unless you know whose it is")
		}
		t.Row(holder.ID, can, holder.For, holder.Label, view.Time(holder.Added), by)
	}
	t.Print(0)
	for _, e := range bad {
		a.screen.Line("%s", a.screen.Loss(e.Error()))
	}
	return nil
}

func (a *app) keysNew(_ context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	public, err := newKeyFile(c.Args().First())
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%w: %s is there already; a key is never replaced", run.ErrRefused, c.Args().First())
	}
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"file": c.Args().First(), "public": public})
	}
	a.screen.Line("key made in %s; its public part:\n%s", c.Args().First(), public)
	return nil
}

func (a *app) keysAdd(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	access := store.Read
	if c.Bool("write-only") {
		access = store.Write
	}
	var h store.Holder
	var err error
	switch file := c.String("passphrase-file"); {
	case (file == "") == (c.String("recipient") == ""):
		return usage("give either --recipient or --passphrase-file")
	case file != "":
		b, rerr := os.ReadFile(file)
		if rerr != nil {
			return usageError{rerr}
		}
		h, err = store.HolderOf(strings.TrimSpace(string(b)), c.String("label"), access)
	default:
		h, err = store.NewHolder(c.String("recipient"), c.String("label"), access)
	}
	if err != nil {
		return usageError{err}
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	holder, err := s.AddHolder(ctx, h)
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"store": name, "holder": holder.ID, "for": holder.For, "access": holder.Access})
	}
	a.screen.Line("%s opens with %s too, holder %s", name, holder.For, holder.ID)
	return nil
}

func (a *app) keysDrop(ctx context.Context, c *cli.Command) error {
	if err := args(c, 2, 2); err != nil {
		return err
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	holder, err := a.sureToDrop(ctx, c, s, name)
	if err != nil {
		return err
	}
	kept, err := s.DropHolder(ctx, holder)
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "dropped": holder, "locked": kept})
	}
	gone := "is gone"
	if kept {
		gone = "is refused from now on, and removed when its lock ends"
	}
	a.screen.Line("holder %s of %s %s", holder, name, gone)
	a.screen.Line("who has opened the store with it before may have kept its keys; to have others for what is stored "+
		"from now on: dexamen store keys renew %s", name)
	a.screen.Line("mirrors made of %s before still open with it: drop it there too (dexamen store keys list "+
		"MIRROR)", name)
	return nil
}

// sureToDrop returns which holder is meant, by number or public key, and asks before the one by which the
// configuration opens the store is dropped: daemons and commands would be locked out.
func (a *app) sureToDrop(ctx context.Context, c *cli.Command, s *store.Store, name string) (holder string, err error) {
	holders, _, err := s.KeyHolders(ctx)
	if err != nil {
		return "", err
	}
	holder = c.Args().Get(1)
	var opened []string
	for _, h := range holders {
		if strings.HasPrefix(holder, "age1") && h.For == holder {
			opened = append(opened, h.ID)
		}
	}
	if len(opened) > 1 { // one that reads, and one that only writes
		return "", usage("%s is several holders: %s; say which", holder, strings.Join(opened, ", "))
	}
	if len(opened) == 1 {
		holder = opened[0]
	}
	secret, err := a.cfg.Key(ctx, name)
	if err != nil || secret == "" {
		return holder, err
	}
	mine, err := store.HolderOf(secret, "", store.Read)
	if err != nil {
		return holder, nil // a passphrase has no public part to be known by
	}
	for _, h := range holders {
		if h.ID != holder || h.For != mine.For || c.Bool("yes") {
			continue
		}
		what := fmt.Sprintf("holder %s is the key that stores.%s.key of %s opens the store with: without it "+
			"daemons and "+
			"commands that use it are locked out", h.ID, name, a.cfg.Path)
		if !a.screen.Terminal {
			return "", fmt.Errorf("%w: %s; configure another key first, or say --yes", run.ErrRefused, what)
		}
		a.screen.Note("%s.", what)
		if !a.ask("drop it all the same?") {
			return "", fmt.Errorf("%w: nothing was dropped", run.ErrRefused)
		}
	}
	return holder, nil
}

// keysRenew makes a new content key, for those who open the store now.
func (a *app) keysRenew(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	if !c.Bool("yes") {
		if !a.screen.Terminal {
			return fmt.Errorf("%w: other hosts that use %s refuse it until they are told its new identity; "+
				"say --yes too", run.ErrRefused, name)
		}
		if !a.ask(fmt.Sprintf("Renew the keys of %s? Other hosts refuse it until they are told its new identity.",
			name)) {
			return fmt.Errorf("%w: nothing was changed", run.ErrRefused)
		}
	}
	was := s.Identity()
	secret, err := a.cfg.Key(ctx, name)
	if err != nil {
		return usageError{err}
	}
	holders, kept, err := s.RenewKeys(ctx, secret)
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	_ = pin.Host().Set(placeOf(a.cfg, name), s.Identity()) // a host that cannot remember it goes without
	if a.screen.JSON {
		for i := range holders {
			holders[i].Sealed = nil
		}
		return a.screen.Encode(map[string]any{"store": name, "holders": holders, "locked": kept,
			"identity": s.Identity()})
	}
	sc := a.screen
	sc.Line("%s: what is stored from now on is under new keys, for %s", sc.Accent(name),
		view.Plural(int64(len(holders)), "holder"))
	if kept > 0 {
		sc.Line("  %s from before are locked: they open nothing any more, and are removed when that ends",
			view.Plural(int64(kept), "holder"))
	}
	sc.Line("  what was there before stays readable for who had its keys")
	sc.Line("  restart daemons that use it; mirrors have the new keys when they are next brought up to date")
	if a.cfg.Stores[name].Identity == was {
		sc.Line("  %s", sc.Loss("put this line in the place of the old one under stores."+name+
			", here and on other hosts:"))
	} else {
		sc.Line("  other hosts that use it need this line under stores.%s:", name)
	}
	sc.Line("    identity: %s", s.Identity())
	return nil
}
