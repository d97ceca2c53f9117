package daemon

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/explain"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/workers"
)

// crew implements [run.Crew] by workers.
type crew struct{ job *workers.Job }

// Hands implements [run.Crew].
func (c *crew) Hands(ctx context.Context) int {
	n, _, err := c.job.Hands(ctx)
	if len(c.job.Info().Only) > 0 {
		return max(1, n) // they are waited for: nobody else may
	}
	if err != nil {
		return 0
	}
	return n
}

// Do implements [run.Crew].
func (c *crew) Do(ctx context.Context, kind, what string, pieces []json.RawMessage,
	done func(i int, worker string, result json.RawMessage) error) error {
	return c.job.Do(ctx, kind, what, pieces, func(i int, o workers.Outcome) error { return done(i, o.Worker, o.Data) })
}

// rated is how many pieces are read at once of a cluster that is read at a bounded rate.
const rated = 4

// Share has the pieces of a job on a cluster, or on a store alone where c is nil, done by whoever is there,
// until end is called; this process does some, too, where it may. Where nothing is configured for it, or the
// servers cannot be had, it does all of it alone, unless it may not.
func (w Deps) Share(ctx context.Context, r *run.Runner, kind, cluster string, c engine.Cluster) (end func(),
	err error) {
	cfg := w.Config
	if w.Workers == nil || cfg.Workers == nil {
		return func() {}, nil
	}
	only := cfg.Only(cluster)
	alone := func(err error) (func(), error) {
		if len(only) > 0 {
			return nil, fmt.Errorf("cluster %s is read by workers with certain labels only: %w", cluster, err)
		}
		r.Emit(run.Warning, "the work is not shared: %v", err)
		return func() {}, nil
	}
	e, err := w.Workers(ctx)
	if err != nil {
		return alone(err)
	}
	identity := ""
	if c != nil {
		topo, err := c.Topology(ctx)
		if err != nil {
			return nil, err
		}
		identity = identityOf(topo)
	}
	info := workers.JobInfo{ID: rand.Text(), Kind: kind, Cluster: cluster, Identity: identity, Store: r.StoreName,
		StoreID: r.Store.ID, Only: only, Parallel: cfg.Workers.ReadersPerCluster, By: cfg.Workers.Name,
		Version: w.Version, Urgent: kind == store.RunCapture}
	was := r.Rate
	ownRate := bounded(&info, cfg, was)
	var place *workers.Slot
	if len(info.Limits) > 0 {
		place, err = e.AwaitSlot(ctx, info.Limits, cfg.Workers.Name, func() {
			r.Emit(run.Step, "waiting for a place within %s", limitNames(info.Limits))
		})
		if err != nil {
			return alone(err)
		}
	}
	job, err := e.NewJob(ctx, info)
	if err != nil {
		if place != nil {
			place.Free()
		}
		return alone(err)
	}
	own, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	self := &workers.Worker{Engine: e, Name: cfg.Workers.Name, Version: w.Version, Labels: cfg.Workers.Labels,
		Parallel: r.Readers(), For: info.ID, Drain: time.Second, Fenced: fenced, Own: place,
		Handlers: handlers(func(context.Context, *workers.JobInfo, bool) (*run.Runner, engine.Cluster, func(), error) {
			return r, c, func() {}, nil
		}, func() *config.Config { return cfg })}
	go func() {
		defer close(ended)
		if err := self.Run(own); err != nil {
			r.Emit(run.Warning, "this process does nothing of the shared work: %v", err)
		}
	}()
	r.Crew, r.Rate = &crew{job}, ownRate
	return func() {
		r.Crew, r.Rate = nil, was
		stop()
		<-ended
		job.Close()
		if place != nil {
			place.Free()
		}
	}, nil
}

// fenced are the kinds of pieces that write where applications do.
var fenced = []string{restore.PieceWrite}

// bounded enters what bounds a job's tasks, and returns what bounds what its process reads beside them: by was, the
// bound of this job, and by what the configuration says of all jobs.
func bounded(info *workers.JobInfo, cfg *config.Config, was *rate.Limiter) *rate.Limiter {
	if was != nil {
		// So many pieces at once, and what this process reads beside them, together keep to it.
		info.Parallel = min(info.Parallel, rated)
		info.Rate = max(1, int64(was.Limit())/int64(info.Parallel+1))
	}
	if info.Urgent {
		return run.Limiter(info.Rate)
	}
	for _, l := range cfg.LimitsOf(info.Cluster, info.Store) {
		info.Limits = append(info.Limits, workers.Limit{Name: l.Name, Slots: l.Tasks})
		if each := int64(l.Rate) / int64(l.Tasks); l.Rate > 0 && (info.Rate == 0 || each < info.Rate) {
			info.Rate = max(1, each)
		}
	}
	return run.Limiter(info.Rate)
}

func limitNames(list []workers.Limit) string {
	var names []string
	for _, l := range list {
		names = append(names, l.Name)
	}
	return strings.Join(names, ", ")
}

// identityOf returns what a cluster calls itself.
func identityOf(t *engine.Topology) string {
	if t.ID != "" {
		return t.ID
	}
	return t.Identity
}

// JoinWorkers has a process do tasks of others until the context ends. Current gives the configuration as it
// is by then; what it says of workers counts as it was at first.
func (w Deps) JoinWorkers(ctx context.Context, e *workers.Engine, current func() *config.Config) error {
	d := newDesk(w, current)
	defer d.close()
	return d.worker(e).Run(ctx)
}

// JoinWorkers is [Deps.JoinWorkers] for a daemon, whose metrics tell of it.
func (d *Daemon) JoinWorkers(ctx context.Context, e *workers.Engine) error {
	d.prepare()
	d.mu.Lock()
	deps := d.Deps
	d.mu.Unlock()
	k := newDesk(deps, d.configuration)
	defer k.close()
	w := k.worker(e)
	w.Plans = deps.Config.Workers.Divide
	d.mu.Lock()
	d.worker, d.crewEngine = w, e
	d.mu.Unlock()
	if w.Plans {
		follows, end := context.WithCancel(ctx)
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			d.followDivision(follows, e, w, time.Duration(deps.Config.Workers.LostAfter)/6)
		}()
		defer func() { end(); <-ended }()
	}
	return w.Run(ctx)
}

// configuration returns what the daemon goes by now.
func (d *Daemon) configuration() *config.Config {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.Config
}

// worker returns one that does tasks at the desk.
func (d *desk) worker(e *workers.Engine) *workers.Worker {
	cfg := d.deps.Config.Workers
	return &workers.Worker{Engine: e, Name: cfg.Name, Version: d.deps.Version, Labels: cfg.Labels,
		Parallel: cfg.Parallel, Try: d.try, Ended: d.ended, Fenced: fenced,
		Handlers: handlers(d.lend, d.current)}
}

// lend is take for handlers.
func (d *desk) lend(ctx context.Context, j *workers.JobInfo, settings bool) (*run.Runner, engine.Cluster, func(),
	error) {
	o, err := d.take(ctx, j, settings)
	if err != nil {
		return nil, nil, nil, errors.New(explain.Error(err))
	}
	return o.runner, o.cluster, func() { d.give(o) }, nil
}

// lender returns what a job's tasks are done with, and what ends the use of it.
type lender func(ctx context.Context, j *workers.JobInfo, settings bool) (*run.Runner, engine.Cluster, func(), error)

// handlers returns what does tasks with what is lent.
func handlers(open lender, current func() *config.Config) map[string]workers.Handler {
	out := map[string]workers.Handler{}
	pieces := maps.Clone(Pieces)
	pieces[PieceCopy] = run.PieceOf(func(ctx context.Context, r *run.Runner, _ engine.Cluster, p *copyPiece) (
		*store.FilesCopied, error) {
		return copyFiles(ctx, current(), r, p)
	})
	for kind, do := range pieces {
		out[kind] = func(ctx context.Context, j *workers.JobInfo, t *workers.Task) (json.RawMessage, error) {
			r, c, end, err := open(ctx, j, snapshot.PieceSettings(t.Data))
			if err != nil {
				return nil, err
			}
			defer end()
			one := *r.Alone()
			one.Rate = run.Limiter(j.Rate)
			return do(ctx, &one, c, t.Data)
		}
	}
	return out
}
