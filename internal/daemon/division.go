package daemon

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
	"dexamen/internal/explain"
	"dexamen/internal/workers"
)

// division is which assignments are this daemon's, where daemons divide them ([config.Workers.Divide]).
type division struct {
	self string         // its [workers.Info.Instance]; empty as long as it knows of no others
	list []workers.Info // who is there
	// own are the assignments by their key, others how many each other daemon has, as of a configuration.
	own    map[string]bool
	others map[string]int
	of     time.Time
}

// aloneAfter is for how long a daemon that begins waits to hear of the others before it sees to all clusters itself,
// and avoidFor for how long one that does not reach a cluster leaves it to others.
const (
	aloneAfter = 30 * time.Second
	avoidFor   = 10 * time.Minute
)

// divides reports whether daemons divide the clusters. The caller holds the lock.
func (d *Daemon) divides() bool {
	return d.Config.Workers != nil && d.Config.Workers.Divide && d.Deps.Workers != nil
}

// assignments lists what this daemon sees to. The caller holds the lock.
func (d *Daemon) assignments() []Assignment {
	all := Assignments(d.Config)
	v := &d.division
	switch {
	case !d.divides():
		return all
	case v.self == "" && time.Since(d.began) < aloneAfter:
		return nil
	case v.self == "":
		return all // it knows of nobody: rather twice than not at all, and the claims in the store see to that
	}
	if v.own == nil || !v.of.Equal(d.loaded) {
		v.divide(d.loaded, all, d.Config.Only)
	}
	return slices.DeleteFunc(all, func(a Assignment) bool { return !v.own[key(a)] })
}

// divide works out whose each assignment is.
func (v *division) divide(of time.Time, all []Assignment, only func(cluster string) map[string]string) {
	v.own, v.others, v.of = map[string]bool{}, map[string]int{}, of
	name := map[string]string{}
	for i := range v.list {
		name[v.list[i].Instance] = v.list[i].Name
	}
	for _, a := range all {
		labels := only(a.Cluster)
		home := workers.Home(a.Cluster, v.list, func(w *workers.Info) bool {
			return w.CanWork(a.Cluster, a.Store, labels)
		})
		if home == v.self || home == "" {
			v.own[key(a)] = true
		} else {
			v.others[name[home]]++
		}
	}
}

// followDivision keeps up with who is there, until the context ends.
func (d *Daemon) followDivision(ctx context.Context, e *workers.Engine, w *workers.Worker, every time.Duration) {
	for wait.For(ctx, every) == nil {
		once, cancel := context.WithTimeout(ctx, 10*time.Second)
		list, err := e.Workers(once)
		cancel()
		self := w.Info()
		if err != nil || self.Instance == "" ||
			!slices.ContainsFunc(list, func(i workers.Info) bool { return i.Instance == self.Instance }) {
			// What it knows of the others counts on: they may be cut off from the servers just as it is.
			d.mu.Lock()
			alone := d.division.self == "" && time.Since(d.began) >= aloneAfter && d.divides()
			d.mu.Unlock()
			if alone {
				d.Log.Warn("nothing is heard of other daemons: this one sees to all clusters", "error", err)
				d.redivided()
				every = max(every, aloneAfter)
			}
			continue
		}
		d.mu.Lock()
		v := &d.division
		changed := v.self != self.Instance || !slices.EqualFunc(v.list, list, sameToDivide)
		if changed {
			*v = division{self: self.Instance, list: list}
		}
		d.mu.Unlock()
		if changed {
			d.redivided()
		}
	}
}

// sameToDivide reports whether clusters are divided alike with one as with the other.
func sameToDivide(a, b workers.Info) bool {
	return a.Instance == b.Instance && a.Plans == b.Plans && a.Draining == b.Draining && a.Parallel == b.Parallel &&
		maps.EqualFunc(a.Cannot, b.Cannot, func(_, _ string) bool { return true }) // whatever the reason
}

// redivided drops what others see to from now on, and has what is this daemon's looked at.
func (d *Daemon) redivided() {
	d.mu.Lock()
	mine := map[string]bool{}
	for _, a := range d.assignments() {
		mine[key(a)] = true
	}
	for _, g := range d.going {
		if !mine[key(g.ward)] && g.kind == store.RunCapture {
			g.told = true
			g.cancel() // it stores what it has read; the other goes on from there
		}
	}
	d.changes.Add(1)
	for name := range d.stores {
		d.nudge(name)
	}
	n, others, w := len(mine), len(d.division.others), d.worker
	said := [2]int{n, others}
	news := d.saidOfDivision != said
	d.saidOfDivision = said
	d.mu.Unlock()
	if w != nil {
		w.SeesTo(n)
	}
	if news {
		d.Log.Info("the daemons have divided the clusters", "of this one", n, "other daemons with some", others)
	}
	d.forgetUnwanted()
}

// avoid leaves a cluster that this daemon has not reached to others for some time, where they divide the clusters.
func (d *Daemon) avoid(a Assignment, err error) {
	d.mu.Lock()
	w, divides := d.worker, d.divides()
	d.mu.Unlock()
	if w != nil && divides && errors.Is(err, engine.ErrUnreachable) {
		w.Avoid("cluster "+a.Cluster, explain.Error(err), avoidFor)
	}
}
