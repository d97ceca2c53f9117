package daemon

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"dexamen/internal/config"
	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/workers"
)

// desk holds the stores and clusters open of the jobs that a worker takes part in. Each job has a store of
// its own: what one job's pieces rely on must not be relied on since before that job was known to the store.
type desk struct {
	deps    Deps
	current func() *config.Config // the configuration may be read anew

	mu   sync.Mutex
	open map[deskKey]*opened
	gone bool
}

type deskKey struct {
	job      string
	settings bool
}

// opened is what one job's pieces are done with.
type opened struct {
	key     deskKey
	once    sync.Mutex // held while it is opened
	runner  *run.Runner
	cluster engine.Cluster
	filled  bool
	users   int
	ended   bool // the job has, or the worker
}

func newDesk(w Deps, current func() *config.Config) *desk {
	return &desk{deps: w, current: current, open: map[deskKey]*opened{}}
}

// try implements [workers.Worker.Try].
func (d *desk) try(ctx context.Context, j *workers.JobInfo) (string, error) {
	cfg := d.current()
	if _, ok := cfg.Stores[j.Store]; !ok {
		return "store " + j.Store, errors.New("no store of this name is configured here")
	}
	if _, ok := cfg.Clusters[j.Cluster]; !ok && j.Cluster != "" {
		return "cluster " + j.Cluster, errors.New("no cluster of this name is configured here")
	}
	o, err := d.take(ctx, j, cfg.Clusters[j.Cluster].ClusterWide)
	if err != nil {
		if o != nil && o.runner == nil {
			return "store " + j.Store, err
		}
		return "cluster " + j.Cluster, err
	}
	d.give(o)
	return "", nil
}

// take returns what a job's pieces are done with; give must be called. With an error it returns how far it
// came, which is not to be given back.
func (d *desk) take(ctx context.Context, j *workers.JobInfo, settings bool) (*opened, error) {
	key := deskKey{j.ID, settings}
	d.mu.Lock()
	if d.gone {
		d.mu.Unlock()
		return nil, context.Canceled
	}
	o := d.open[key]
	if o == nil {
		o = &opened{key: key}
		d.open[key] = o
	}
	o.users++
	d.mu.Unlock()
	d.closeIdle(d.deps.Config.Workers.Parallel)
	o.once.Lock()
	defer o.once.Unlock()
	if o.filled {
		return o, nil
	}
	if err := d.fill(ctx, o, j); err != nil {
		far := &opened{runner: o.runner}
		if o.runner != nil {
			o.runner.Store.Close()
			o.runner = nil
		}
		d.give(o)
		return far, err
	}
	return o, nil
}

// fill opens a job's store and cluster, which must be those that are meant.
func (d *desk) fill(ctx context.Context, o *opened, j *workers.JobInfo) error {
	cfg := d.current()
	r, err := d.deps.OpenEnv(ctx, cfg, j.Store, j.Cluster)
	if err != nil {
		return err
	}
	if r.Store.ID != j.StoreID {
		defer r.Store.Close()
		return fmt.Errorf("it is another store here (%s) than the job's (%s)", r.Store.ID, j.StoreID)
	}
	o.runner = r
	if j.Cluster == "" {
		o.filled = true
		return nil
	}
	r.Parallel = d.deps.Config.Workers.Parallel
	c, err := d.deps.OpenCluster(ctx, cfg, j.Cluster, &o.key.settings)
	if err != nil {
		return err
	}
	topo, err := c.Topology(ctx)
	if err == nil && identityOf(topo) != j.Identity {
		err = fmt.Errorf("it is another cluster here (%s) than the job's (%s)", identityOf(topo), j.Identity)
	}
	for i := 0; err == nil && i < len(topo.Shards); i++ {
		_, err = c.Choose(ctx, topo.Shards[i].Name)
	}
	if err != nil {
		_ = c.Close()
		return err
	}
	o.cluster, o.filled = c, true
	return nil
}

// give ends the use of what take gave.
func (d *desk) give(o *opened) {
	d.mu.Lock()
	o.users--
	last := o.users == 0 && (o.ended || !o.filled)
	if last {
		delete(d.open, o.key)
	}
	d.mu.Unlock()
	if last {
		o.close()
	}
}

func (o *opened) close() {
	if o.cluster != nil {
		_ = o.cluster.Close()
	}
	if o.filled {
		o.runner.Store.Close()
	}
}

// closeIdle closes what no piece is done with, until at most so many are open.
func (d *desk) closeIdle(most int) {
	d.mu.Lock()
	var idle []*opened
	for k, o := range d.open {
		if len(d.open) > most && o.users == 0 {
			delete(d.open, k)
			idle = append(idle, o)
		}
	}
	d.mu.Unlock()
	for _, o := range idle {
		o.close()
	}
}

// ended implements [workers.Worker.Ended].
func (d *desk) ended(job string) {
	d.mu.Lock()
	var idle []*opened
	for k, o := range d.open {
		if k.job != job {
			continue
		}
		o.ended = true
		if o.users == 0 {
			delete(d.open, k)
			idle = append(idle, o)
		}
	}
	d.mu.Unlock()
	for _, o := range idle {
		o.close()
	}
}

func (d *desk) close() {
	d.mu.Lock()
	d.gone = true
	jobs := map[string]bool{}
	for k := range d.open {
		jobs[k.job] = true
	}
	d.mu.Unlock()
	for j := range jobs {
		d.ended(j)
	}
}
