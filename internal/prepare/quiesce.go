package prepare

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/process"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// quiescedMark is kept in the store, under a claim, while something of a cluster is
// held still: a run that is killed meanwhile is noticed by the next one, which lets
// it go on.
const quiescedMark = "quiesced"

type quiesced struct {
	engine.Hold
	Created time.Time `json:"created"`
	process.Identity
}

// resumeQuiesced lets go on what a killed run has left held still.
func resumeQuiesced(ctx context.Context, e *run.Runner, cluster string, c engine.Cluster) error {
	q, ok := c.(engine.Quiescer)
	if !ok {
		return nil
	}
	var left quiesced
	found, err := e.Store.Mark(ctx, cluster, quiescedMark, &left)
	if err != nil || !found {
		return err
	}
	claim, err := e.Store.AcquireFor(ctx, quiescedMark, cluster)
	if errors.Is(err, store.ErrHeld) {
		return nil // the run that holds it still is at work
	}
	if err != nil {
		return err
	}
	defer claim.Release(context.WithoutCancel(ctx))
	if err := q.Resume(ctx, left.Hold); err != nil {
		return err
	}
	e.Emit(run.Warning, "%s of %s: left stopped by a run on %s that was killed (%s); started again",
		left.What, cluster, left.Host, run.FormatTime(left.Created))
	return e.Store.RemoveMark(ctx, cluster, quiescedMark)
}

// Quiesce holds still what the cluster's options ask for, of the namespaces chosen, and
// returns what lets it go on again, which must be called. What somebody else holds
// still stays so.
//
// A process of its own, the guard, lets it go on should this one be killed.
func Quiesce(ctx context.Context, e *run.Runner, cluster string, c engine.Cluster, chosen func(string) bool) (
	resume func() error, err error) {
	nothing := func() error { return nil }
	q, ok := c.(engine.Quiescer)
	if !ok {
		return nothing, nil
	}
	claim, err := e.Store.AcquireFor(ctx, quiescedMark, cluster)
	_, brief := c.(engine.Pinned)
	if errors.Is(err, store.ErrHeld) && brief {
		// What it holds still must not be taken for what somebody has stopped for good.
		return nothing, fmt.Errorf("%w: another run is just pinning %s", engine.ErrStateGone, cluster)
	}
	if errors.Is(err, store.ErrHeld) {
		return nothing, nil // another run has stopped it, and will start it
	}
	if err != nil {
		return nothing, err
	}
	h, err := q.Quiescible(ctx, chosen)
	if err != nil || h.What == "" {
		claim.Release(context.WithoutCancel(ctx))
		return nothing, err
	}
	err = e.Store.PutMark(ctx, cluster, quiescedMark, quiesced{h, time.Now(), process.Self()})
	if err != nil {
		claim.Release(context.WithoutCancel(ctx))
		return nothing, err
	}
	stand := func() {}
	if e.Guard != nil {
		if stand, err = e.Guard(ctx, cluster, h); err != nil {
			e.Emit(run.Warning, "nothing stands by to start %s again should this process be killed: %v", h.What, err)
			stand = func() {}
		}
	}
	begin := time.Now()
	resume = func() error {
		defer claim.Release(context.WithoutCancel(ctx))
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		err := q.Resume(ctx, h)
		took := time.Since(begin).Round(time.Millisecond)
		stand()
		if err != nil {
			e.Emit(run.Warning, "%s could not be started again; the next run will try: %v", h.What, err)
			return err
		}
		e.Emit(run.Note, "%s started again after %s", h.What, took)
		return e.Store.RemoveMark(ctx, cluster, quiescedMark)
	}
	if err := q.Quiesce(ctx, h); err != nil {
		return nothing, errors.Join(err, resume())
	}
	until := "for the time of the scan"
	if brief {
		until = "for a moment"
	}
	e.Emit(run.Step, "%s stopped %s", h.What, until)
	return resume, nil
}
