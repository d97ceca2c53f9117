package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	_ "dexamen/internal/engine/all"
	"dexamen/internal/explain"
	"dexamen/internal/guard"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/remedy"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// config reads the configuration, once.
func (a *app) config(c *cli.Command) (*config.Config, error) {
	if a.cfg != nil {
		return a.cfg, nil
	}
	path, err := config.Find(c.String("config"))
	if err == nil {
		a.cfg, err = config.Load(path)
	}
	if err != nil {
		return nil, usageError{err}
	}
	boundMemory(int64(a.cfg.Limits.Memory))
	return a.cfg, nil
}

// boundMemory keeps what the program occupies near a number of bytes: the
// collector works the harder the nearer it comes. The rest goes to what the
// heap does not count, above all the program itself.
func boundMemory(bound int64) {
	const outside = 24 << 20
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(bound - outside)
	}
}

// backend returns a configured store's place.
func (a *app) backend(ctx context.Context, c *cli.Command, name string) (blob.Backend, string, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, "", err
	}
	if name, err = cfg.StoreOf(name, ""); err != nil {
		return nil, "", usageError{err}
	}
	b, err := cfg.Open(ctx, name)
	return b, name, err
}

// openRunner opens the store for a cluster (any, when empty) and makes what verbs work
// with. The progress view must be ended with Done.
func (a *app) openRunner(ctx context.Context, c *cli.Command, cluster string) (*run.Runner, *view.Progress, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, nil, err
	}
	if _, configured := cfg.Clusters[cluster]; cluster != "" && !configured {
		return a.openWhereHeld(ctx, c, cfg, cluster)
	}
	name, err := cfg.StoreOf(c.String("store"), cluster)
	if err != nil {
		return nil, nil, usageError{err}
	}
	return a.openRunnerOf(ctx, c, name, cluster)
}

// openWhereHeld opens the store that holds points of a cluster which is not, or not any more,
// configured. Where none does the name is taken for mistyped.
func (a *app) openWhereHeld(ctx context.Context, c *cli.Command, cfg *config.Config,
	cluster string) (*run.Runner, *view.Progress, error) {
	names := config.Names(cfg.Stores)
	if named := c.String("store"); named != "" || len(names) == 0 {
		name, err := cfg.StoreOf(named, "")
		if err != nil {
			return nil, nil, usageError{err}
		}
		names = []string{name}
	}
	known := config.Names(cfg.Clusters)
	var unread []error
	for _, name := range names {
		e, p, err := a.openRunnerOf(ctx, c, name, "")
		if err == nil {
			var points []*store.Point
			if points, _, err = e.Store.Points(ctx, ""); err == nil {
				for _, pt := range points {
					if pt.Cluster == cluster {
						return e, p, nil
					}
					if !slices.Contains(known, pt.Cluster) {
						known = append(known, pt.Cluster)
					}
				}
			}
			p.Done()
		}
		if err != nil {
			unread = append(unread, fmt.Errorf("store %s: %w", name, err))
		}
	}
	if len(unread) > 0 {
		return nil, nil, errors.Join(append(unread,
			fmt.Errorf("there is no cluster %q in the configuration, nor in what stores could be read", cluster))...)
	}
	return nil, nil, usageError{fmt.Errorf("%w; no store holds a point of it", config.UnknownError("cluster",
		cluster, known))}
}

// openRunnerOf is env for a store that is known.
func (a *app) openRunnerOf(ctx context.Context, c *cli.Command, name,
	cluster string) (*run.Runner, *view.Progress, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, nil, err
	}
	b, err := cfg.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	s, err := a.openAt(ctx, b, name)
	if err != nil {
		return nil, nil, err
	}
	p := a.screen.NewProgress()
	return &run.Runner{Store: s, StoreName: name, Explain: explain.Error, Tool: "dexamen " + Version,
			Temp:     cfg.Limits.Temp,
			Memory:   int(cfg.Limits.Memory) / 4,
			Parallel: cfg.Limits.ReadersPerCluster, ScratchServer: a.scratchServer(c, cfg), Guard: guardOf(cfg),
			Attest: a.attest(cfg, s), OnEvent: p.Event}, p,
		nil
}

// guardOf returns what has a guard stand by for a cluster of a configuration.
func guardOf(cfg *config.Config) func(context.Context, string, engine.Hold) (func() error, error) {
	return func(ctx context.Context, cluster string, h engine.Hold) (func() error, error) {
		t, err := cfg.Target(ctx, cluster)
		if err != nil {
			return nil, err
		}
		return guard.Start(ctx, t, h)
	}
}

// connect opens a configured cluster.
func (a *app) connect(ctx context.Context, c *cli.Command, name string) (engine.Cluster, error) {
	return a.connectAs(ctx, c, name, nil)
}

// connectAs is connect, with settings protected or not as a policy says.
func (a *app) connectAs(ctx context.Context, c *cli.Command, name string, settings *bool) (engine.Cluster, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, err
	}
	return a.openCluster(ctx, c, cfg, name, settings)
}

func (a *app) openCluster(ctx context.Context, c *cli.Command, cfg *config.Config, name string,
	settings *bool) (engine.Cluster, error) {
	t, err := cfg.Target(ctx, name)
	if err != nil {
		return nil, usageError{err}
	}
	if settings != nil {
		t.Settings = *settings
	}
	return a.openTarget(ctx, c, t)
}

// scratchFlag is of commands that look at moments.
func scratchFlag() cli.Flag {
	return &cli.StringFlag{Name: "scratch",
		Usage: "make a moment that only a server can make (between points, where the log holds commands) " +
			"on this `CLUSTER`, an empty server, which is emptied again"}
}

// scratchServer returns how scratch servers are opened.
func (a *app) scratchServer(c *cli.Command, cfg *config.Config) func(context.Context, string) (engine.Cluster, error) {
	return func(ctx context.Context, cluster string) (engine.Cluster, error) {
		t, ok, err := cfg.ScratchTarget(ctx, cluster, c.String("scratch"))
		if err != nil {
			return nil, usageError{fmt.Errorf("the scratch server of %s: %w", cluster, err)}
		}
		if !ok {
			return nil, nil
		}
		return a.openTarget(ctx, c, t)
	}
}

func (a *app) openTarget(ctx context.Context, c *cli.Command, t engine.Target) (engine.Cluster, error) {
	var level slog.Level
	_ = level.UnmarshalText([]byte(c.String("log-level"))) // checked before
	t.Log = slog.New(slog.NewTextHandler(a.screen.Err, &slog.HandlerOptions{Level: level}))
	t.Proved = func(identity, version string) map[string]bool { return provedBy(t.Name, identity, version) }
	_, drv, err := engine.ForAddress(t.Address)
	if err != nil {
		return nil, usageError{err}
	}
	cl, err := drv.Open(ctx, t)
	if errors.Is(err, engine.ErrUnreachable) {
		err = remedy.With(err, remedy.Reach, t.Name)
	}
	return cl, err
}

// address reads an address argument. Its cluster must be configured or have
// points, which is found out later.
func parseAddress(s string) (address.Address, error) {
	ad, err := address.Parse(s, time.Now())
	if err != nil {
		return ad, usageError{err}
	}
	return ad, nil
}

// work is what a command on a store has at hand.
type work struct {
	*run.Runner
	progress *view.Progress
	ad       address.Address
	moment   *moment.Moment
}

// onCluster begins a command whose first argument is a cluster's name.
func (a *app) onCluster(ctx context.Context, c *cli.Command) (w work, name string, err error) {
	if err := args(c, 1, 1); err != nil {
		return w, "", err
	}
	name = c.Args().First()
	w.Runner, w.progress, err = a.openRunner(ctx, c, name)
	return w, name, err
}

// atMoment begins a command whose argument is an address of the store. The
// progress view must be ended with Done.
func (a *app) atMoment(ctx context.Context, c *cli.Command, ad address.Address) (w work, err error) {
	w.ad = ad
	if ad.When.Kind == address.Live {
		return w, usage("%s: a moment of the store is needed here, such as %s@latest, and not the live cluster",
			ad, ad.Cluster)
	}
	if w.Runner, w.progress, err = a.openRunner(ctx, c, ad.Cluster); err != nil {
		return w, err
	}
	if w.moment, err = moment.Resolve(ctx, w.Runner, ad.Cluster, ad.When, restore.OnScratch{}); err != nil {
		w.progress.Done()
		if errors.Is(err, moment.ErrNoPoint) {
			err = usageError{err}
		}
	}
	return w, err
}

// renaming begins a command that takes an address and --rename.
func (a *app) renaming(ctx context.Context, c *cli.Command) (w work, rename map[string]string, err error) {
	if err := args(c, 1, 1); err != nil {
		return w, nil, err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return w, nil, err
	}
	if rename, err = pairs(c.StringSlice("rename")); err != nil {
		return w, nil, err
	}
	w, err = a.atMoment(ctx, c, ad)
	return w, rename, err
}

// ask asks a yes-or-no question of a person at a terminal.
func (a *app) ask(question string) bool {
	if a.held != nil { // what is asked about
		_, _ = a.held.WriteTo(a.screen.Err)
	}
	fmt.Fprintf(a.screen.Err, "%s [yes/no] ", explain.Visible(question, false))
	line, err := a.in.ReadString('\n')
	line = strings.ToLower(strings.TrimSpace(line))
	return err == nil && (line == "yes" || line == "y")
}

// pairs reads FROM=TO flags.
func pairs(list []string) (map[string]string, error) {
	m := map[string]string{}
	for _, p := range list {
		from, to, ok := strings.Cut(p, "=")
		if !ok || from == "" || to == "" {
			return nil, usage("--rename %s: write FROM=TO, as in apiary.harvests=apiary.harvests_restored", p)
		}
		if other, twice := m[from]; twice {
			return nil, usage("--rename %s: %s is to become %s already", p, from, other)
		}
		m[from] = to
	}
	return m, nil
}

var latestMoment = address.When{Kind: address.Latest}
