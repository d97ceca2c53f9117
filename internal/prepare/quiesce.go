package prepare

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"dexamen/internal/core/process"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/guard"
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
	if guard.HasResumed(left.Hold) {
		// Whoever holds it still now is somebody else.
		e.Emit(run.Warning, "%s of %s: stopped by a run that was killed (%s); it was started again at once", left.What,
			cluster, run.FormatTime(left.Created))
		if err := e.Store.RemoveMark(ctx, cluster, quiescedMark); err != nil {
			return err
		}
		guard.Forget(left.Hold)
		return nil
	}
	if err := q.Resume(ctx, left.Hold); err != nil {
		return err
	}
	e.Emit(run.Warning, "%s of %s: left stopped by a run on %s that was killed (%s); started again",
		left.What, cluster, left.Host, run.FormatTime(left.Created))
	return e.Store.RemoveMark(ctx, cluster, quiescedMark)
}

// Held is what is held still of a cluster. The zero Held is nothing.
type Held struct {
	engine.Hold
	// Took is for how long it was, once it has been let go on.
	Took time.Duration

	e       *run.Runner
	cluster string
	q       engine.Quiescer
	claim   *sealed.Claim
	// relieve ends the guard; its error says that it has let go before.
	relieve func() error
	ctx     context.Context
	cancel  context.CancelCauseFunc
	timer   *time.Timer
	once    sync.Once
	err     error
	mu      sync.Mutex // of since
	since   time.Time
}

// Since returns when it was held still; the zero time when it was not.
func (h *Held) Since() time.Time {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.since
}

// Context is done when what was held still had to be let go on: what is read after that is
// worth nothing.
func (h *Held) Context(ctx context.Context) context.Context {
	if h.ctx == nil {
		return ctx
	}
	return h.ctx
}

// tooLong says that the time is over for which something may be held still.
func (h *Held) tooLong() error {
	return fmt.Errorf(
		"%w: %s was stopped for the %s that are allowed (longest), and was started again; the copy is void",
		engine.ErrHoldLost, h.What, h.Longest)
}

// Resume lets it go on, and reports whether it was held all the time: what was read is
// worth nothing where it was not. Calling it again returns the same.
func (h *Held) Resume() error {
	if h.q == nil {
		return nil
	}
	h.once.Do(func() { h.err = h.resume() })
	return h.err
}

func (h *Held) resume() error {
	defer h.cancel(nil)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(h.ctx), time.Minute)
	defer cancel()
	defer h.claim.Release(context.WithoutCancel(ctx))
	if h.timer != nil {
		h.timer.Stop()
	}
	since := h.Since()
	var lost error
	if c, ok := h.q.(engine.HoldChecker); ok && !since.IsZero() {
		lost = c.StillHeld(ctx, h.Hold)
	}
	err := h.q.Resume(ctx, h.Hold)
	if errors.Is(err, engine.ErrHoldLost) {
		lost, err = errors.Join(lost, err), nil
	}
	if !since.IsZero() {
		h.Took = time.Since(since)
	}
	if rerr := h.relieve(); rerr != nil {
		lost = errors.Join(lost, rerr)
		guard.Forget(h.Hold)
	}
	if h.Longest > 0 && h.Took > h.Longest && lost == nil {
		lost = h.tooLong()
	}
	if err != nil {
		h.e.Emit(run.Warning, "%s could not be started again; the next run will try: %v", h.What, err)
		return errors.Join(err, lost)
	}
	if h.Took > 0 {
		h.e.Emit(run.Note, "%s started again after %s", h.What, h.Took.Round(time.Millisecond))
	}
	if rerr := h.e.Store.RemoveMark(ctx, h.cluster, quiescedMark); rerr != nil {
		return errors.Join(rerr, lost)
	}
	if lost != nil {
		return fmt.Errorf("cluster %s: %w", h.cluster, lost)
	}
	return nil
}

// Quiesce holds still what the cluster's options and the configuration ask for, of the
// namespaces chosen, and returns it; Resume must be called. What somebody else holds
// still stays so.
//
// A process of its own, the guard, lets it go on should this one be killed or stand still
// for too long.
func Quiesce(ctx context.Context, e *run.Runner, cluster string, c engine.Cluster, chosen func(string) bool) (
	*Held, error) {
	nothing := &Held{}
	q, ok := c.(engine.Quiescer)
	_, brief := c.(engine.Pinned)
	if !ok || e.Unheld && !brief {
		return nothing, nil
	}
	claim, err := e.Store.AcquireFor(ctx, quiescedMark, cluster)
	_, revisited := c.(engine.Revisited)
	if errors.Is(err, store.ErrHeld) && (brief || revisited) {
		// What it holds still must not be taken for what somebody has stopped for good, and
		// may be let go on any moment.
		return nothing, fmt.Errorf("%w: another run is just holding %s still", engine.ErrStateGone, cluster)
	}
	if errors.Is(err, store.ErrHeld) {
		return nothing, nil // another run has stopped it, and will start it
	}
	if err != nil {
		return nothing, err
	}
	hold, err := q.Quiescible(ctx, chosen)
	if err != nil || hold.What == "" {
		claim.Release(context.WithoutCancel(ctx))
		return nothing, err
	}
	hold.ID = sealed.NewID(16)
	err = e.Store.PutMark(ctx, cluster, quiescedMark, quiesced{hold, time.Now(), process.Self()})
	if err != nil {
		claim.Release(context.WithoutCancel(ctx))
		return nothing, err
	}
	h := &Held{Hold: hold, e: e, cluster: cluster, q: q, claim: claim, relieve: func() error { return nil }}
	h.ctx, h.cancel = context.WithCancelCause(ctx)
	if e.Guard != nil {
		if relieve, err := e.Guard(ctx, cluster, hold); err != nil {
			e.Emit(run.Warning, "nothing stands by to start %s again should this process be killed: %v", h.What, err)
		} else {
			h.relieve = relieve
		}
	}
	if hold.Longest > 0 {
		h.timer = time.AfterFunc(hold.Longest, func() {
			h.cancel(h.tooLong())
			_ = h.Resume() // whoever reads is told by it again
		})
	}
	begin := time.Now()
	if err := q.Quiesce(h.ctx, hold); err != nil {
		if cause := context.Cause(h.ctx); cause != nil && ctx.Err() == nil {
			err = cause
		}
		return nothing, errors.Join(fmt.Errorf("%s could not be stopped: %w", h.What, err), h.Resume())
	}
	h.mu.Lock()
	h.since = begin
	h.mu.Unlock()
	until := "for the time of the scan"
	if brief {
		until = "for a moment"
	}
	e.Emit(run.Step, "%s stopped %s", h.What, until)
	return h, nil
}
