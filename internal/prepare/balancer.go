package prepare

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/core/process"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// A snapshot is exact while ranges move between shards, so it does not need
// the balancer stopped. Where the configuration asks for it, to keep load and
// remainders down, it is stopped for the time of the scan, under a lease, and a mark in the
// store says so: a run that was killed in between is noticed by the next one.

const balancerMark = "balancer"

type stopped struct {
	When time.Time `json:"when"`
	process.Identity
}

// resumeBalancer starts a balancer that a run has left stopped.
func resumeBalancer(ctx context.Context, e *run.Runner, cluster string, c engine.Cluster) error {
	b, ok := c.(engine.Balanced)
	if !ok {
		return nil
	}
	var left stopped
	found, err := e.Store.Mark(ctx, cluster, balancerMark, &left)
	if err != nil || !found {
		return err
	}
	lease, err := e.Store.AcquireFor(ctx, balancerMark, cluster)
	if errors.Is(err, store.ErrHeld) {
		return nil // the run that stopped it is at work
	}
	if err != nil {
		return err
	}
	defer lease.Release(context.WithoutCancel(ctx))
	if err := b.SetBalancer(ctx, true); err != nil {
		return err
	}
	e.Emit(run.Warning, "the balancer of %s was left stopped by a run on %s that was killed (%s); it is started again", cluster, left.Host, run.FormatTime(left.When))
	return e.Store.RemoveMark(ctx, cluster, balancerMark)
}

// PauseBalancer stops the balancer where it runs, and gives what starts it
// again. What somebody else has stopped stays so.
func PauseBalancer(ctx context.Context, e *run.Runner, cluster string, c engine.Cluster) (resume func() error, err error) {
	nothing := func() error { return nil }
	b, ok := c.(engine.Balanced)
	if !ok || !e.PauseBalancer {
		return nothing, nil
	}
	on, err := b.Balancer(ctx)
	if err != nil || !on {
		return nothing, err
	}
	lease, err := e.Store.AcquireFor(ctx, balancerMark, cluster)
	if errors.Is(err, store.ErrHeld) {
		return nothing, nil // another run has stopped it, and will start it
	}
	if err != nil {
		return nothing, err
	}
	err = e.Store.PutMark(ctx, cluster, balancerMark, stopped{time.Now(), process.Self()})
	if err != nil {
		lease.Release(context.WithoutCancel(ctx))
		return nothing, err
	}
	resume = func() error {
		defer lease.Release(context.WithoutCancel(ctx))
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		if err := b.SetBalancer(ctx, true); err != nil {
			e.Emit(run.Warning, "the balancer could not be started again; the next run will try: %v", err)
			return err
		}
		e.Emit(run.Note, "balancer started again")
		return e.Store.RemoveMark(ctx, cluster, balancerMark)
	}
	if err := b.SetBalancer(ctx, false); err != nil {
		return nothing, errors.Join(err, resume())
	}
	e.Emit(run.Step, "balancer stopped for the time of the scan")
	return resume, nil
}
