package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"runtime/debug"
	"sync"
	"time"

	"dexamen/internal/command"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
)

// Hook is a command that runs before or after runs of a kind.
type Hook struct {
	Kind        string // of run
	After       bool
	Command     []string
	Timeout     time.Duration // default 1m
	Environment []string      // names of variables that it is given besides those that say what runs
	Optional    bool          // its failing does not keep the run from being done
}

// RecordOptions describes how a run is kept.
type RecordOptions struct {
	// Exclusive: no other run of this kind and cluster may go on meanwhile.
	Exclusive bool
	// Check, where not nil, is asked with the claim in hand.
	Check func() error
	Hooks []Hook
	// EvenUnrecorded: it is done also where the store takes no record of it.
	EvenUnrecorded bool
	// Deadline bounds how long it may take; zero does not.
	Deadline time.Duration
}

const (
	maxWarnings = 50
)

// ErrDeadline is returned when a run took longer than it may.
var ErrDeadline = errors.New("it took longer than its deadline")

// Record does a piece of work and keeps in the store who did it, when, and what
// came of it: hooks before, the work, hooks after whatever came of it.
func (e *Runner) Record(ctx context.Context, r *store.Run, o RecordOptions,
	work func(ctx context.Context, e *Runner, r *store.Run) error) error {
	r.Host, _ = os.Hostname()
	r.Process, r.Tool = os.Getpid(), e.Tool
	if u, err := user.Current(); err == nil {
		r.User = u.Username
	}
	var before []Hook
	for _, h := range o.Hooks {
		if h.Kind == r.Kind && h.After {
			r.After = append(r.After, store.RunHook{Phase: "after", Command: h.Command,
				Timeout:     record.Seconds(h.Timeout),
				Environment: h.Environment})
		} else if h.Kind == r.Kind {
			before = append(before, h)
		}
	}
	claim, err := e.Store.BeginRun(ctx, r, o.Exclusive, o.Check)
	if err != nil && o.EvenUnrecorded {
		e.Emit(Warning, "the run is not recorded, and cannot be undone by its name: %v", err)
		r.ID = "" // nobody is to look for it
		return work(ctx, e, r)
	}
	if err != nil {
		return err
	}
	heard := *e
	var mu sync.Mutex
	heard.OnEvent = func(ev Event) {
		if ev.Kind == Warning {
			mu.Lock()
			if len(r.Warnings) < maxWarnings {
				r.Warnings = append(r.Warnings, ev.Text)
			}
			mu.Unlock()
		}
		if e.OnEvent != nil {
			e.OnEvent(ev)
		}
	}
	wctx, cancel := ctx, func() {}
	if o.Deadline > 0 {
		wctx, cancel = context.WithTimeoutCause(ctx, o.Deadline, ErrDeadline)
	}
	err = func() error {
		defer cancel()
		for _, h := range before {
			done := runHook(wctx, r, store.RunHook{Phase: "before", Command: h.Command,
				Timeout:     record.Seconds(h.Timeout),
				Environment: h.Environment})
			r.Hooks = append(r.Hooks, done)
			if done.Error != "" && !h.Optional {
				return fmt.Errorf("the hook before it failed, so it was not done: %s: %s", h.Command[0], done.Error)
			}
			if done.Error != "" {
				heard.Emit(Warning, "hook %s failed: %s", h.Command[0], done.Error)
			}
		}
		err := recovered(wctx, &heard, r, work)
		if err != nil && ctx.Err() == nil && wctx.Err() != nil {
			err = fmt.Errorf("%w, %s: %w", ErrDeadline, o.Deadline, err)
		}
		return err
	}()
	mu.Lock()
	defer mu.Unlock()
	r.Result = Result(ctx, err)
	if err != nil {
		r.Error = e.Text(err)
	}
	keep, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Minute)
	defer stop()
	runAfter(keep, r)
	if end := e.Store.EndRun(keep, r, claim); end != nil {
		if !errors.Is(end, store.ErrRunEnded) {
			e.Store.EndLater(r, claim)
		}
		return errors.Join(err, fmt.Errorf("keeping what came of run %s: %w", r.ID, end))
	}
	return errors.Join(err, e.attest(keep, r))
}

// attest leaves evidence of a run. A drill is for that: without it something is missing.
func (e *Runner) attest(ctx context.Context, r *store.Run) error {
	if e.Attest == nil {
		return nil
	}
	err := e.Attest(ctx, r)
	if err == nil {
		return nil
	}
	err = fmt.Errorf("the evidence of run %s: %w", r.ID, err)
	if r.Kind == store.RunDrill {
		return fmt.Errorf("%w: %w", ErrIncomplete, err)
	}
	e.Emit(Warning, "%v", err)
	return nil
}

// recovered does a piece of work; that it panics is a failure as any other, with
// its stack among the run's warnings.
func recovered(ctx context.Context, e *Runner, r *store.Run,
	work func(context.Context, *Runner, *store.Run) error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			e.Emit(Warning, "a fault of the program: %v\n%s", p, debug.Stack())
			err = fmt.Errorf("a fault of the program: %v", p)
		}
	}()
	return work(ctx, e, r)
}

// Result names what came of a piece of work.
func Result(ctx context.Context, err error) string {
	switch {
	case err == nil:
		return store.RunDone
	case ctx.Err() != nil:
		return store.RunInterrupted
	case errors.Is(err, ErrRefused):
		return store.RunRefused
	case errors.Is(err, ErrDiffers):
		return store.RunDiffers
	case errors.Is(err, ErrIncomplete):
		return store.RunIncomplete
	}
	return store.RunFailed
}

// EndKilled ends runs whose process was killed or crashed: what was to run
// after them runs now. It gives those it ended.
func (e *Runner) EndKilled(ctx context.Context) ([]*store.Run, error) {
	_, broken, err := e.Store.Running(ctx)
	if err != nil {
		return nil, err
	}
	var out []*store.Run
	for _, r := range broken {
		l, err := e.Store.Acquire(ctx, "run-ending-"+r.ID)
		if errors.Is(err, store.ErrHeld) {
			continue // another process holds the claim
		}
		if err != nil {
			return out, err
		}
		// Who held it before may have ended it in between.
		_, still, err := e.Store.Running(ctx)
		for _, s := range still {
			if s.ID != r.ID {
				continue
			}
			r.Result, r.Error = store.RunKilled, fmt.Sprintf("process %d on %s was killed or crashed", r.Process,
				r.Host)
			runAfter(ctx, r)
			if err = e.Store.EndRun(ctx, r, nil); err == nil {
				out = append(out, r)
			}
		}
		l.Release(ctx)
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

func runAfter(ctx context.Context, r *store.Run) {
	for _, h := range r.After {
		done := runHook(ctx, r, h)
		r.Hooks = append(r.Hooks, done)
		if done.Error != "" {
			r.Warnings = append(r.Warnings, fmt.Sprintf("hook %s failed: %s", h.Command[0], done.Error))
			if r.Result == store.RunDone {
				r.Result, r.Error = store.RunIncomplete, "the hook after it failed: "+done.Error
			}
		}
	}
	r.After = nil
}

// runHook runs a command beside a run, which its environment describes.
func runHook(ctx context.Context, r *store.Run, h store.RunHook) store.RunHook {
	if h.Timeout <= 0 {
		h.Timeout = record.Seconds(time.Minute)
	}
	h.Started = time.Now().UTC().Truncate(time.Millisecond)
	ctx, cancel := context.WithTimeout(ctx, h.Timeout.D())
	defer cancel()
	cmd := command.Command(ctx, h.Command)
	var out command.Tail
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.Env = append(command.Environment(h.Environment),
		"DEXAMEN_RUN="+r.ID, "DEXAMEN_KIND="+r.Kind, "DEXAMEN_CLUSTER="+r.Cluster, "DEXAMEN_POLICY="+r.Policy,
		"DEXAMEN_PHASE="+h.Phase, "DEXAMEN_STARTED="+r.Started.Format(time.RFC3339), "DEXAMEN_RESULT="+r.Result,
		"DEXAMEN_ERROR="+r.Error,
		"DEXAMEN_POINT="+r.Point)
	err := cmd.Run()
	h.Took = record.Seconds(time.Since(h.Started))
	h.Output = out.String()
	if cmd.ProcessState != nil {
		h.Exit = cmd.ProcessState.ExitCode()
	}
	switch {
	case ctx.Err() == context.DeadlineExceeded:
		h.Error = fmt.Sprintf("it was still running after %s and was ended", h.Timeout.D())
	case err != nil:
		h.Error = err.Error()
	}
	return h
}
