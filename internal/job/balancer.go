package job

import (
	"context"
	"errors"
	"os"
	"syscall"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/engine"
)

// A snapshot is exact while ranges move between shards, so it does not need
// the balancer stopped. Where the configuration asks for it, to keep load and
// remainders down, it is stopped for the time of the scan, and a mark in the
// store says so: a run that was killed in between is noticed by the next one.

const balancerMark = "balancer"

type stopped struct {
	When    time.Time `json:"when"`
	Host    string    `json:"host"`
	Process int       `json:"process"`
}

// longest is how long the scan of a run on another machine, of which it cannot
// be known whether it is alive, is believed to take.
const longest = 24 * time.Hour

// working tells whether the run that left the mark may still be at it.
func (s stopped) working() bool {
	host, _ := os.Hostname()
	if host != s.Host {
		return time.Since(s.When) < longest
	}
	p, err := os.FindProcess(s.Process)
	return err == nil && s.Process != os.Getpid() && p.Signal(syscall.Signal(0)) == nil
}

// resumeBalancer starts a balancer that a run has left stopped.
func (e *Env) resumeBalancer(ctx context.Context, cluster string, c engine.Cluster) error {
	b, ok := c.(engine.Balanced)
	if !ok {
		return nil
	}
	var left stopped
	found, err := e.Store.Mark(ctx, cluster, balancerMark, &left)
	if err != nil || !found || left.working() {
		return err
	}
	if err := b.SetBalancer(ctx, true); err != nil {
		return err
	}
	e.emit(Warning, "the balancer of %s was left stopped by a run on %s that was killed (%s); it is started again", cluster, left.Host, at(left.When))
	return e.Store.RemoveMark(ctx, cluster, balancerMark)
}

// pauseBalancer stops the balancer where it runs, and gives what starts it
// again. What somebody else has stopped stays so.
func (e *Env) pauseBalancer(ctx context.Context, cluster string, c engine.Cluster) (resume func() error, err error) {
	nothing := func() error { return nil }
	b, ok := c.(engine.Balanced)
	if !ok || !e.PauseBalancer {
		return nothing, nil
	}
	on, err := b.Balancer(ctx)
	if err != nil || !on {
		return nothing, err
	}
	host, _ := os.Hostname()
	err = e.Store.PutMark(ctx, cluster, balancerMark, stopped{time.Now(), host, os.Getpid()})
	if errors.Is(err, blob.ErrExists) {
		return nothing, nil // another run has stopped it, and will start it
	}
	if err != nil {
		return nothing, err
	}
	resume = func() error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		if err := b.SetBalancer(ctx, true); err != nil {
			e.emit(Warning, "the balancer could not be started again; the next run will try: %v", err)
			return err
		}
		e.emit(Note, "balancer started again")
		return e.Store.RemoveMark(ctx, cluster, balancerMark)
	}
	if err := b.SetBalancer(ctx, false); err != nil {
		return nothing, errors.Join(err, resume())
	}
	e.emit(Step, "balancer stopped for the time of the scan")
	return resume, nil
}
