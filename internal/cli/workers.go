package cli

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/remedy"
	"dexamen/internal/explain"
	"dexamen/internal/view"
	"dexamen/internal/workers"
)

func (a *app) workersCommands() *cli.Command {
	return &cli.Command{Name: "workers", Usage: "processes that share the work", Category: protect,
		Commands: []*cli.Command{
			a.command("", "list", "", "who is there, what each does, and which jobs are open",
				"Asks the servers that the configuration names below workers:. A worker that could not reach a "+
					"store or a cluster\nsays why; one whose labels do not fit a job's rule takes no part in it.",
				a.workersList),
			a.command("", "join", "", "do tasks of others until told to stop",
				`Takes tasks of jobs that other processes have begun: a daemon, or a snapshot by hand. What is read goes
straight from the cluster to the store: each worker has its own configuration, logins and key, and secrets are
never sent. Stores and clusters are taken for the same by name and by identity; both are tried first.
SIGTERM ends it: it takes nothing more and ends what it is at. A worker that is lost has its tasks done by
others half a minute later. Every daemon with workers: in its configuration is a worker, too.`, a.workersJoin),
		}}
}

// crew is what work is shared by, once it was asked for.
type crew struct {
	mu     sync.Mutex
	engine *workers.Engine
}

func (w *crew) close() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.engine != nil {
		w.engine.Close()
	}
}

// workersEngine returns what work is shared by; nil where it is not configured.
func (a *app) workersEngine(ctx context.Context, c *cli.Command, cfg *config.Config) (*workers.Engine, error) {
	a.crew.mu.Lock()
	defer a.crew.mu.Unlock()
	if cfg.Workers == nil || a.crew.engine != nil {
		return a.crew.engine, nil
	}
	t, err := cfg.Workers.TLSConfig()
	if err != nil {
		return nil, usage("%s: %v", cfg.Path, err)
	}
	a.crew.engine, err = workers.Open(ctx, workers.Options{Servers: cfg.Workers.Servers,
		Credentials: cfg.Workers.Credentials, TLS: t, Name: "dexamen " + cfg.Workers.Name,
		Replicas: cfg.Workers.Replicas, LostAfter: time.Duration(cfg.Workers.LostAfter),
		Log: slog.New(a.logHandler(c, slog.LevelWarn))})
	return a.crew.engine, err
}

// logHandler returns where is logged to, at the level that is asked for, else at one.
func (a *app) logHandler(c *cli.Command, level slog.Level) slog.Handler {
	if c.IsSet("log-level") {
		_ = level.UnmarshalText([]byte(c.String("log-level"))) // checked before
	} else if a.screen.Quiet {
		level = slog.LevelWarn
	}
	o := &slog.HandlerOptions{Level: level}
	if a.screen.JSON || c.String("log-format") == "json" {
		return slog.NewJSONHandler(a.screen.Err, o)
	}
	return slog.NewTextHandler(a.screen.Err, o)
}

// needWorkers returns what work is shared by, and an error where it is not configured.
func (a *app) needWorkers(ctx context.Context, c *cli.Command) (*workers.Engine, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, err
	}
	if cfg.Workers == nil || len(cfg.Workers.Servers) == 0 {
		return nil, remedy.With(usage("%s: no servers are configured below workers: this process works alone",
			cfg.Path), remedy.SampleConfig, "")
	}
	return a.workersEngine(ctx, c, cfg)
}

func (a *app) workersJoin(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	e, err := a.needWorkers(ctx, c)
	if err != nil {
		return err
	}
	w := a.cfg.Workers
	log := slog.New(a.logHandler(c, slog.LevelInfo))
	log.Info("worker joins", "name", w.Name, "labels", labelsText(w.Labels), "parallel", w.Parallel)
	err = a.deps(c).JoinWorkers(ctx, e, fresh(a.cfg, log))
	log.Info("worker has ended", "name", w.Name)
	return err
}

// fresh returns a configuration as its file has it whenever it is asked for; a broken one is refused, and
// the old one stays.
func fresh(cfg *config.Config, log *slog.Logger) func() *config.Config {
	var mu sync.Mutex
	watch := config.NewWatch(cfg)
	return func() *config.Config {
		mu.Lock()
		defer mu.Unlock()
		if watch.Changed() {
			if now, err := watch.Load(); err != nil {
				log.Error("the new configuration is refused and the old one stays", "error", explain.Error(err))
			} else {
				cfg = now
			}
		}
		return cfg
	}
}

func labelsText(labels map[string]string) string {
	var out []string
	for k, v := range labels {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func (a *app) workersList(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	e, err := a.needWorkers(ctx, c)
	if err != nil {
		return err
	}
	now, err := e.Overview(ctx)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(now)
	}
	a.showWorkers(now)
	return nil
}

func (a *app) showWorkers(now *workers.Overview) {
	s, list, jobs := a.screen, now.Workers, now.Jobs
	divided := slices.ContainsFunc(list, func(w workers.Info) bool { return w.Plans })
	if len(list) == 0 {
		s.Line("no worker is there")
	} else {
		heads := []string{"worker", "on", "labels", "version", ">parallel", ">done", ">failed", "since", "does"}
		if divided {
			heads = slices.Insert(heads, 3, ">clusters")
		}
		t := s.Table(heads...)
		for _, w := range list {
			does := ""
			if len(w.Doing) > 0 {
				does = fmt.Sprintf("%s: %s", w.Doing[0].Of, w.Doing[0].What)
				if n := len(w.Doing) - 1; n > 0 {
					does += fmt.Sprintf(" and %d more", n)
				}
			}
			switch {
			case w.Draining:
				does = joined(s.Accent("ends"), does)
			case w.For != "":
				does = joined("began a job", does)
			case does == "":
				does = "nothing"
			}
			failed := view.Count(w.Failed)
			if w.Failed > 0 {
				failed = s.Loss(failed)
			}
			row := []any{w.Name, fmt.Sprintf("%s %d", w.Host, w.Process), labelsText(w.Labels), w.Version,
				fmt.Sprint(w.Parallel), view.Count(w.Done), failed, view.Time(w.Since), does}
			if divided {
				row = slices.Insert(row, 3, any(view.Count(int64(w.Clusters))))
			}
			t.Row(row...)
		}
		t.Print(0)
		for _, w := range list {
			for _, what := range config.Names(w.Cannot) {
				s.Line("%s %s does not reach %s: %s", s.Loss("!"), w.Name, what, w.Cannot[what])
			}
		}
	}
	if len(jobs) == 0 {
		s.Line("no job is open")
		return
	}
	s.Line("")
	t := s.Table("job", "cluster", "store", "by", "only", ">tasks", ">done", ">working", ">waiting", ">oldest",
		"open for")
	for _, j := range jobs {
		oldest := ""
		if !j.Oldest.IsZero() {
			oldest = view.Duration(time.Since(j.Oldest))
		}
		t.Row(j.Kind, j.Cluster, j.Store, j.By, labelsText(j.Only), view.Count(int64(j.Given)),
			view.Count(int64(j.Done)), view.Count(int64(j.Working)), view.Count(int64(j.Waiting)),
			oldest, view.Duration(time.Since(j.Begun)))
	}
	t.Print(0)
	for _, l := range now.Limits {
		s.Line("limit %s: %d of %s taken", l.Name, l.Taken, view.Plural(int64(l.Slots), "place"))
	}
}

// joined puts two texts together, of which the second may be empty.
func joined(a, b string) string {
	if b == "" {
		return a
	}
	return a + "; " + b
}
