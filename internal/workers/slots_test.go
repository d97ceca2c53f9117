package workers_test

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/workers"
	"dexamen/internal/workers/workerstest"
)

// TestLimitsHoldOverJobs holds that tasks of two jobs keep to a limit of both, whoever does them, and that the
// process that has a job's own place does tasks with it.
func TestLimitsHoldOverJobs(t *testing.T) {
	t.Parallel()
	s := workerstest.Start(t, 1, nil)
	e := open(t, s)
	limits := []workers.Limit{{Name: "site", Slots: 3}}
	c := newCrowd(t, e, func(context.Context, string, int) error { time.Sleep(5 * time.Millisecond); return nil })
	for i := range 3 {
		c.join(fmt.Sprint("w", i), func(w *workers.Worker) { w.Parallel = 4 })
	}
	own, err := e.AwaitSlot(t.Context(), limits, "own", nil)
	require.NoError(t, err)
	var wg sync.WaitGroup
	for _, id := range []string{"first", "second"} {
		j := job(t, e, id, func(i *workers.JobInfo) { i.Limits = limits })
		if id == "first" {
			c.join("own", func(w *workers.Worker) { w.For, w.Own = id, own })
		}
		wg.Go(func() {
			got, err := doAll(t.Context(), j, 30)
			if err != nil || len(got) != 30 {
				t.Error(len(got), err)
			}
		})
	}
	wg.Wait()
	require.LessOrEqual(t, c.most, int32(3))
	require.Greater(t, c.most, int32(1))
	taken := func() int {
		all, err := e.Slots(t.Context())
		require.NoError(t, err)
		return all["site"]
	}
	require.Eventually(t, func() bool { return taken() == 1 }, 5*time.Second, 20*time.Millisecond, "the job's own")
	own.Free()
	require.Zero(t, taken())
}

// TestAPlaceIsLost holds that who does not reach the servers any more gives up its place before others get it, and that
// who waits gets it then.
func TestAPlaceIsLost(t *testing.T) {
	t.Parallel()
	s := workerstest.Start(t, 1, nil)
	gone, e := open(t, s), open(t, s)
	limits := []workers.Limit{{Name: "site", Slots: 1}}
	slot, err := gone.AwaitSlot(t.Context(), limits, "gone", nil)
	require.NoError(t, err)
	select { // it is held for longer than an entry lives by itself
	case <-slot.Lost():
		t.Fatal("lost while it was held")
	case <-time.After(12 * beat):
	}
	var waited atomic.Bool
	gone.Close()
	next, err := e.AwaitSlot(t.Context(), limits, "next", func() { waited.Store(true) })
	require.NoError(t, err)
	require.True(t, waited.Load())
	select {
	case <-slot.Lost():
	default:
		t.Fatal("two have it")
	}
	next.Free()
}

// TestUrgentComesFirst holds that a capture is not kept waiting by a worker that is busy with what takes long.
func TestUrgentComesFirst(t *testing.T) {
	t.Parallel()
	s := workerstest.Start(t, 1, nil)
	e := open(t, s)
	free := make(chan struct{})
	long := newCrowd(t, e, func(ctx context.Context, _ string, n int) error {
		if n < 100 {
			select {
			case <-free:
			case <-ctx.Done():
			}
		}
		return nil
	})
	long.join("only", nil)
	slow := job(t, e, "slow", nil)
	ended := make(chan error, 1)
	go func() {
		_, err := doAll(t.Context(), slow, 4)
		ended <- err
	}()
	require.Eventually(t, func() bool { return long.busy.Load() == 2 }, 5*time.Second, 10*time.Millisecond)
	quick := job(t, e, "quick", func(i *workers.JobInfo) { i.Urgent = true })
	var n int
	require.NoError(t, quick.Do(t.Context(), "count", "capturing", raw(100, 101, 102),
		func(int, workers.Outcome) error { n++; return nil }))
	require.Equal(t, 3, n)
	require.Equal(t, int32(2), long.busy.Load(), "what takes long still goes on, and no more of it was begun")
	close(free)
	require.NoError(t, <-ended)
}

// TestWhatWritesIsFenced holds that a task that writes is given up before the servers may give it to another, and one
// that reads is not.
func TestWhatWritesIsFenced(t *testing.T) {
	t.Parallel()
	s := workerstest.Start(t, 1, nil)
	e := open(t, s)
	began, ended := make(chan struct{}, 2), make(chan time.Time, 1)
	c := newCrowd(t, e, func(ctx context.Context, name string, _ int) error {
		began <- struct{}{}
		<-ctx.Done()
		if name == "writes" {
			ended <- time.Now()
		}
		return ctx.Err()
	})
	c.join("writes", func(w *workers.Worker) { w.Fenced, w.Parallel, w.Drain = []string{"count"}, 1, beat })
	c.join("reads", func(w *workers.Worker) { w.Parallel, w.Drain = 1, beat })
	j := job(t, e, "both", nil)
	ctx, cancel := context.WithCancel(t.Context())
	go func() { _, _ = doAll(ctx, j, 2) }()
	<-began
	<-began
	cut := time.Now()
	s.Kill(0)
	at := <-ended
	require.Less(t, at.Sub(cut), 6*beat, "before the servers take it for lost")
	require.Equal(t, int32(1), c.busy.Load(), "the other one goes on")
	cancel()
}

func raw(n ...int) (out []json.RawMessage) {
	for _, i := range n {
		out = append(out, json.RawMessage(fmt.Sprint(i)))
	}
	return out
}
