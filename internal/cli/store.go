package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/pin"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeCommands() *cli.Command {
	return &cli.Command{Name: "store", Usage: "make, try, look at, check and copy the places backups go",
		Category: setUp, OnUsageError: onUsage, Commands: []*cli.Command{
			a.command("", "create", "STORE", "make a configured store",
				`It is encrypted unless --plain is given: to the key or the passphrase that
stores.STORE.key names, and to every --recipient. Where it names a file
that is not there, a key is made and put into it.`, a.storeCreate,
				&cli.BoolFlag{Name: "plain", Usage: "do not encrypt"},
				&cli.StringSliceFlag{Name: "recipient",
					Usage: "a public `KEY` (age1…) that can open it too; may be repeated"}),
			a.command("", "list", "", "what is configured, and whether it can be opened", "", a.storeList),
			a.command("", "check", "STORE", "write, read back and delete a probe, timed", "", a.storeCheck),
			a.command("", "inspect", "[STORE]", "show what a store holds and costs", "",
				a.everyStore(a.storeInspect), chartFlag("what points added")),
			a.command("", "scrub", "STORE", "read everything and say what is damaged, and what that means",
				`Exit code 4 where something is lost, 3 where something is damaged that nothing
is lost by. With --one-in 7 every scrub reads another seventh of the content, and
points and logs always; seven scrubs read all.`, a.storeScrub,
				&cli.IntFlag{Name: "one-in", Usage: "read one `N`th of the content, another one each time"},
				&cli.BoolFlag{Name: "repair", Usage: "heal what parity, other copies or --from can give back"},
				&cli.BoolFlag{Name: "relist", Usage: "first make the listings anew from the content files' own"},
				&cli.StringFlag{Name: "from", Usage: "a mirror of it, a `STORE`, to heal from"}),
			a.command("", "mirror", "FROM TO", "copy what TO does not have yet of FROM, checking each object",
				`TO is then a full store, opened by the same keys. It can be ended at any time and
begun again. What was retired in FROM stays in TO.`, a.storeMirror,
				&cli.StringSliceFlag{Name: "cluster", Usage: "only this `CLUSTER`; may be repeated"},
				&cli.StringFlag{Name: "since", Usage: "only points younger than this, such as 30d"}),
			a.command("", "reclaim", "STORE", "give back the room of what no point needs",
				`In two phases: what no point needs is marked, and removed by a later reclaim when
the grace time is over and all who were writing then have ended. It can run
beside anything else.`, a.storeReclaim,
				&cli.BoolFlag{Name: "preview", Usage: "change nothing"},
				&cli.BoolFlag{Name: "accept-missing", Usage: "give up points that are missing though something " +
					"names them; without this nothing is removed while there are any"},
				&cli.StringFlag{Name: "grace", Value: "24h", Usage: "how long marked content stays, 20m at least"},
				&cli.StringFlag{Name: "dropped", Value: "7d",
					Usage: "for how long retired points can be brought back " +
						"(dexamen retention --bring-back); 0s gives their room back now"}),
			a.keysCommands(),
		}}
}

// open opens a configured store, by its argument or the only one.
func (a *app) open(ctx context.Context, c *cli.Command, name string) (*store.Store, blob.Backend, string, error) {
	b, name, err := a.backend(ctx, c, name)
	if err != nil {
		return nil, nil, "", err
	}
	s, err := a.openAt(ctx, b, name)
	return s, b, name, err
}

func (a *app) openAt(ctx context.Context, b blob.Backend, name string) (*store.Store, error) {
	s, err := openStore(ctx, a.cfg, b, name, nil)
	if err == nil {
		a.opened = append(a.opened, s)
	}
	return s, err
}

// openStore opens a store as it is configured; fit, where not nil, changes how.
func openStore(ctx context.Context, cfg *config.Config, b blob.Backend, name string,
	fit func(*store.Options)) (*store.Store, error) {
	secret, kerr := cfg.Key(ctx, name)
	if kerr != nil && !errors.Is(kerr, fs.ErrNotExist) {
		return nil, usageError{kerr}
	}
	var err error
	o := store.Options{CacheBytes: int(cfg.Limits.Memory) / 8, WriteBytes: int(cfg.Limits.Memory) * 3 / 8,
		IndexBytes: int(cfg.Limits.Memory) / 16, Keep: keptIndex(), Compress: store.Compress(cfg.Stores[name].Compress),
		Temp: cfg.Limits.Temp, Identity: cfg.Stores[name].Identity}
	if fit != nil {
		fit(&o)
	}
	if secret != "" {
		if o.Unlock, err = store.ParseSecret(secret); err != nil {
			return nil, usage("%s: stores.%s.key: %v", cfg.Path, name, err)
		}
	}
	s, err := store.Open(ctx, b, o)
	switch {
	case errors.Is(err, store.ErrNoStore):
		if seen, _ := pin.Host().Known(placeOf(cfg, name)); seen.Identity != "" || cfg.Stores[name].Identity != "" {
			return nil, fmt.Errorf("store %s: %w, and there was one (identity %s): is its disk mounted? A copy of it "+
				"is read with --store; only to begin a new one: dexamen store create %s", name, err,
				cmp.Or(cfg.Stores[name].Identity, seen.Identity), name)
		}
		return nil, fmt.Errorf("store %s: %w; make one with: dexamen store create %s", name, err, name)
	case errors.Is(err, store.ErrNoKey) && kerr != nil:
		return nil, usageError{fmt.Errorf("%w; without its key nothing can be read", kerr)}
	case errors.Is(err, store.ErrNoKey):
		return nil, fmt.Errorf("store %s: %w: say where it is with stores.%s.key in %s", name, err, name, cfg.Path)
	case err != nil:
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	if err := expected(cfg, name, s); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// keptIndex returns the folder of this host where it stays where the nodes of stores lie, as far as that is
// too much for memory: in the cache folder that a service manager gives, or the user's; empty where there
// is none.
func keptIndex() string {
	dir := os.Getenv("CACHE_DIRECTORY")
	if !filepath.IsAbs(dir) {
		var err error
		if dir, err = os.UserCacheDir(); err != nil {
			return ""
		}
	}
	return filepath.Join(dir, "dexamen", "index")
}

// expected returns an error where a store is not as it is configured, or another one than this
// host has used before.
func expected(cfg *config.Config, name string, s *store.Store) error {
	conf := cfg.Stores[name]
	if want := time.Duration(s.ImmutableFor) * time.Second; conf.ImmutableFor > 0 &&
		time.Duration(conf.ImmutableFor) != want {
		return usage("%s: stores.%s.immutable_for is %s, and the store was made with %s, which stays so",
			cfg.Path, name,
			view.Duration(time.Duration(conf.ImmutableFor)), view.Duration(want))
	}
	if conf.Parity != "" && conf.Parity != s.Parity {
		return usage("%s: stores.%s.parity is %s, and the store was made with %s, which stays so", cfg.Path, name,
			conf.Parity, cmp.Or(s.Parity, "none"))
	}
	if conf.Identity != "" {
		return nil // it was compared with that
	}
	if err := pin.Host().Check(placeOf(cfg, name), s.Identity()); err != nil {
		return fmt.Errorf("store %s: %w, or set stores.%s.identity in %s", name, err, name, cfg.Path)
	}
	return nil
}

// placeOf returns what tells the place of a store from every other.
func placeOf(cfg *config.Config, name string) string {
	conf := cfg.Stores[name]
	if conf.Endpoint == "" {
		return conf.Location
	}
	return conf.Location + " at " + conf.Endpoint
}

// objectProgress shows how many objects a stage has gone through.
func (a *app) objectProgress(stage string) (p *view.Progress, emit func(object string, objects int, bytes int64)) {
	p = a.screen.NewProgress()
	p.Event(run.Event{Kind: run.Step, Text: stage})
	return p, func(_ string, n int, size int64) {
		p.Event(run.Event{Kind: run.Progress, Records: int64(n), Unit: "objects", Bytes: size})
	}
}
