package workers_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/workers"
	"dexamen/internal/workers/workerstest"
)

const beat = 100 * time.Millisecond

func open(t *testing.T, s *workerstest.Servers) *workers.Engine {
	o := workers.Options{LostAfter: 6 * beat, Name: t.Name(), Alone: time.Minute}
	if s != nil {
		o.Servers = s.Addresses()
	}
	e, err := workers.Open(t.Context(), o)
	require.NoError(t, err)
	t.Cleanup(e.Close)
	return e
}

func job(t *testing.T, e *workers.Engine, id string, edit func(*workers.JobInfo)) *workers.Job {
	info := workers.JobInfo{ID: id, Kind: "snapshot", Cluster: "farm", Identity: "farm-set", Store: "main",
		StoreID: "0123", Parallel: 8, By: "test", Version: "1.0"}
	if edit != nil {
		edit(&info)
	}
	j, err := e.NewJob(t.Context(), info)
	require.NoError(t, err)
	t.Cleanup(j.Close)
	return j
}

// crowd are workers of a test.
type crowd struct {
	t    *testing.T
	e    *workers.Engine
	each func(ctx context.Context, worker string, n int) error
	ends map[string]func() // by worker: ends it and waits

	mu   sync.Mutex
	did  map[int][]string // by number: who did it
	busy atomic.Int32
	most int32
}

func newCrowd(t *testing.T, e *workers.Engine, each func(ctx context.Context, worker string, n int) error) *crowd {
	return &crowd{t: t, e: e, each: each, did: map[int][]string{}, ends: map[string]func(){}}
}

func (c *crowd) join(name string, edit func(*workers.Worker)) *workers.Worker {
	w := &workers.Worker{Engine: c.e, Name: name, Version: "1.0", Parallel: 2}
	w.Handlers = map[string]workers.Handler{"count": func(ctx context.Context, _ *workers.JobInfo,
		t *workers.Task) (json.RawMessage, error) {
		busy := c.busy.Add(1)
		defer c.busy.Add(-1)
		var n int
		if err := json.Unmarshal(t.Data, &n); err != nil {
			return nil, err
		}
		c.mu.Lock()
		c.most = max(c.most, busy)
		c.mu.Unlock()
		if c.each != nil {
			if err := c.each(ctx, name, n); err != nil {
				return nil, err
			}
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.did[n] = append(c.did[n], name)
		return json.Marshal(n * n)
	}}
	if edit != nil {
		edit(w)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		if err := w.Run(ctx); err != nil {
			c.t.Error(err)
		}
	}()
	c.ends[name] = func() { cancel(); <-ended }
	c.t.Cleanup(c.ends[name])
	return w
}

// doAll has n tasks done and returns their outcomes.
func doAll(ctx context.Context, j *workers.Job, n int) (map[int]workers.Outcome, error) {
	var data []json.RawMessage
	for i := range n {
		data = append(data, json.RawMessage(fmt.Sprint(i)))
	}
	got := map[int]workers.Outcome{}
	return got, j.Do(ctx, "count", "counting", data, func(i int, o workers.Outcome) error {
		if _, twice := got[i]; twice {
			return fmt.Errorf("outcome %d came twice", i)
		}
		got[i] = o
		return nil
	})
}

func requireSquares(t *testing.T, n int, got map[int]workers.Outcome) {
	require.Len(t, got, n)
	for i, o := range got {
		require.JSONEq(t, fmt.Sprint(i*i), string(o.Data))
	}
}

// within gives each test both kinds of servers: one within the process, and a cluster of three.
func each(t *testing.T, fn func(t *testing.T, e *workers.Engine)) {
	t.Run("within", func(t *testing.T) { fn(t, open(t, nil)) })
	t.Run("three servers", func(t *testing.T) { fn(t, open(t, workerstest.Start(t, 3, nil))) })
}

func TestTasksAreShared(t *testing.T) {
	each(t, func(t *testing.T, e *workers.Engine) {
		c := newCrowd(t, e, func(context.Context, string, int) error { time.Sleep(5 * time.Millisecond); return nil })
		for _, n := range []string{"a", "b", "c"} {
			c.join(n, nil)
		}
		j := job(t, e, "J1", func(i *workers.JobInfo) { i.Parallel = 3 })
		got, err := doAll(t.Context(), j, 120)
		require.NoError(t, err)
		requireSquares(t, 120, got)
		who := map[string]int{}
		for _, o := range got {
			who[o.Worker]++
		}
		require.Len(t, who, 3, "all take part: %v", who)
		require.LessOrEqual(t, c.most, int32(3), "no more at once than the job allows, over all")
		list, err := e.Workers(t.Context())
		require.NoError(t, err)
		require.Len(t, list, 3)
		require.Equal(t, "a", list[0].Name)
		j.Close()
		jobs, err := e.Jobs(t.Context())
		require.NoError(t, err)
		require.Empty(t, jobs, "a job that has ended is not open")
		require.Zero(t, workers.Left(t.Context(), e), "and leaves nothing")
	})
}

// TestLostWorker holds that what a worker was at that is cut off, or that stands still, is done by
// others, and the outcome of both counts once.
func TestLostWorker(t *testing.T) {
	s := workerstest.Start(t, 1, nil)
	e, cut := open(t, s), open(t, s)
	stuck := make(chan struct{})
	var hung atomic.Int32
	lost := newCrowd(t, cut, func(ctx context.Context, _ string, _ int) error {
		hung.Add(1)
		<-stuck
		return ctx.Err()
	})
	lost.join("lost", func(w *workers.Worker) { w.Drain = beat })
	j := job(t, e, "J1", nil)
	var got map[int]workers.Outcome
	done := make(chan error, 1)
	go func() {
		var err error
		got, err = doAll(t.Context(), j, 10)
		done <- err
	}()
	require.Eventually(t, func() bool { return hung.Load() == 2 }, 10*time.Second, beat/10)
	cut.Close() // no word of it reaches anybody any more
	fresh := newCrowd(t, e, nil)
	fresh.join("fresh", nil)
	require.NoError(t, <-done)
	requireSquares(t, 10, got)
	close(stuck)
	require.Eventually(t, func() bool {
		list, err := e.Workers(t.Context())
		return err == nil && len(list) == 1
	}, 10*time.Second, beat, "who is lost is forgotten")
}

func TestPoisonedTask(t *testing.T) {
	each(t, func(t *testing.T, e *workers.Engine) {
		c := newCrowd(t, e, func(_ context.Context, worker string, n int) error {
			switch n {
			case 7:
				return errors.New(worker + " chokes on it")
			case 8:
				panic("a fault")
			}
			return nil
		})
		for _, n := range []string{"a", "b", "c", "d"} {
			c.join(n, nil)
		}
		_, err := doAll(t.Context(), job(t, e, "J1", nil), 8)
		var failed *workers.FailedError
		require.ErrorAs(t, err, &failed)
		require.Len(t, failed.Tries, 3)
		names := map[string]bool{}
		for _, x := range failed.Tries {
			names[x.Worker] = true
			require.Equal(t, x.Worker+" chokes on it", x.Error)
		}
		require.Len(t, names, 3, "three different ones have tried it")
		require.ErrorContains(t, err, failed.Tries[0].Worker+" chokes on it")
		got, err := doAll(t.Context(), job(t, e, "J2", nil), 7)
		require.NoError(t, err, "others go on")
		requireSquares(t, 7, got)
		_, err = doAll(t.Context(), job(t, e, "J3", nil), 9)
		require.ErrorContains(t, err, "tries of workers have failed")
	})
}

// TestOneWorkerFailsAlone holds that a task is given up also where there is one worker only.
func TestOneWorkerFailsAlone(t *testing.T) {
	e := open(t, nil)
	c := newCrowd(t, e, func(context.Context, string, int) error { return errors.New("no") })
	c.join("a", nil)
	_, err := doAll(t.Context(), job(t, e, "J1", nil), 1)
	var failed *workers.FailedError
	require.ErrorAs(t, err, &failed)
	require.Len(t, failed.Tries, 3)
}

func TestDraining(t *testing.T) {
	e := open(t, nil)
	var begun atomic.Int32
	goOn := make(chan struct{})
	c := newCrowd(t, e, func(_ context.Context, worker string, _ int) error {
		if worker == "a" {
			begun.Add(1)
			<-goOn
		}
		return nil
	})
	c.join("a", nil)
	j := job(t, e, "J1", nil)
	done := make(chan error, 1)
	var got map[int]workers.Outcome
	go func() {
		var err error
		got, err = doAll(t.Context(), j, 20)
		done <- err
	}()
	require.Eventually(t, func() bool { return begun.Load() == 2 }, 10*time.Second, beat/10)
	ended := make(chan struct{})
	go func() { defer close(ended); c.ends["a"]() }()
	require.Eventually(t, func() bool {
		list, err := e.Workers(t.Context())
		return err == nil && len(list) == 1 && list[0].Draining && len(list[0].Doing) == 2
	}, 10*time.Second, beat/10, "it says that it ends, and what it still does")
	c.join("b", nil)
	close(goOn)
	<-ended
	require.NoError(t, <-done)
	requireSquares(t, 20, got)
	require.EqualValues(t, 2, begun.Load(), "it took nothing more")
	byA := 0
	for _, o := range got {
		if o.Worker == "a" {
			byA++
		}
	}
	require.Equal(t, 2, byA, "what it was at it has ended")
}

func TestWhoTakesPart(t *testing.T) {
	e, err := workers.Open(t.Context(), workers.Options{LostAfter: 6 * beat, Alone: 50 * beat})
	require.NoError(t, err)
	defer e.Close()
	c := newCrowd(t, e, nil)
	c.join("south", func(w *workers.Worker) { w.Labels = map[string]string{"site": "south"} })
	c.join("north", func(w *workers.Worker) { w.Labels = map[string]string{"site": "north"} })
	c.join("blind", func(w *workers.Worker) {
		w.Labels = map[string]string{"site": "north"}
		w.Try = func(context.Context, *workers.JobInfo) (string, error) {
			return "cluster farm", errors.New("no server answers")
		}
	})
	require.Eventually(t, func() bool {
		list, err := e.Workers(t.Context())
		return err == nil && len(list) == 3
	}, 30*time.Second, beat)
	onlyNorth := func(i *workers.JobInfo) { i.Only = map[string]string{"site": "north"} }
	j := job(t, e, "J1", onlyNorth)
	got, err := doAll(t.Context(), j, 40)
	require.NoError(t, err)
	for _, o := range got {
		require.Equal(t, "north", o.Worker)
	}
	require.Eventually(t, func() bool {
		n, why, err := j.Hands(t.Context())
		return err == nil && n == 2 &&
			why == " (blind: it does not reach cluster farm: no server answers; south: it has no label site: north)"
	}, 10*time.Second, beat)
	c.ends["north"]()
	_, err = doAll(t.Context(), j, 1)
	require.ErrorIs(t, err, workers.ErrNoWorker)
	require.ErrorContains(t, err, "south: it has no label site: north", "who is there, and why not they")
	other := job(t, e, "J2", func(i *workers.JobInfo) { i.Cluster, i.Protocol = "other", workers.Protocol+1 })
	_, err = doAll(t.Context(), other, 1)
	require.ErrorContains(t, err,
		fmt.Sprintf("south: it is of version 1.0 and speaks form %d of what workers tell each other, not %d",
			workers.Protocol, workers.Protocol+1))
}

// TestOnlyItsOwnJob holds that a process which has a job done does nothing of another job of that cluster.
func TestOnlyItsOwnJob(t *testing.T) {
	e := open(t, nil)
	c := newCrowd(t, e, nil)
	mine, other := job(t, e, "J1", nil), job(t, e, "J2", nil)
	c.join("a", func(w *workers.Worker) { w.For = "J1" })
	theirs := make(chan error, 1)
	var got map[int]workers.Outcome
	go func() {
		var err error
		got, err = doAll(t.Context(), other, 20)
		theirs <- err
	}()
	require.Eventually(t, func() bool { return workers.Left(t.Context(), e) >= 20 }, 10*time.Second, beat/10)
	own, err := doAll(t.Context(), mine, 20)
	require.NoError(t, err, "its own is done")
	requireSquares(t, 20, own)
	require.Zero(t, other.Info().Done)
	c.join("b", nil)
	require.NoError(t, <-theirs)
	for _, o := range got {
		require.Equal(t, "b", o.Worker)
	}
}

// TestSmallJobsDoNotWait holds that a job that comes later has its turn at once.
func TestSmallJobsDoNotWait(t *testing.T) {
	e := open(t, nil)
	c := newCrowd(t, e, func(context.Context, string, int) error { time.Sleep(10 * time.Millisecond); return nil })
	c.join("a", nil)
	big := job(t, e, "BIG", nil)
	done := make(chan error, 1)
	go func() { _, err := doAll(t.Context(), big, 400); done <- err }()
	require.Eventually(t, func() bool { return big.Info().Done > 10 }, 10*time.Second, beat/10)
	got, err := doAll(t.Context(), job(t, e, "SMALL", func(i *workers.JobInfo) { i.Cluster = "other" }), 10)
	require.NoError(t, err)
	requireSquares(t, 10, got)
	require.Less(t, big.Info().Done, 200, "the big one goes on")
	require.NoError(t, <-done)
}

// TestEndedJob holds that the tasks of a job that ends are given up, whether it says so or is lost.
func TestEndedJob(t *testing.T) {
	for _, lost := range []bool{false, true} {
		t.Run(fmt.Sprint("lost ", lost), func(t *testing.T) {
			s := workerstest.Start(t, 1, nil)
			e, cut := open(t, s), open(t, s)
			var stopped atomic.Int32
			c := newCrowd(t, e, func(ctx context.Context, _ string, n int) error {
				select {
				case <-ctx.Done():
					stopped.Add(1)
				case <-time.After(time.Minute):
				}
				return ctx.Err()
			})
			c.join("a", nil)
			j := job(t, cut, "J1", nil)
			ctx, cancel := context.WithCancel(t.Context())
			go func() { _, _ = doAll(ctx, j, 4) }()
			require.Eventually(t, func() bool { return c.busy.Load() == 2 }, 10*time.Second, beat/10)
			if lost {
				cut.Close()
			} else {
				j.Close()
			}
			require.Eventually(t, func() bool { return c.busy.Load() == 0 && stopped.Load() >= 2 }, 20*time.Second,
				beat)
			cancel()
			if !lost {
				require.Zero(t, workers.Left(t.Context(), e))
			}
		})
	}
}

// TestLostMessages holds that a task whose message is gone is handed in again.
func TestLostMessages(t *testing.T) {
	e := open(t, nil)
	j := job(t, e, "J1", nil)
	done := make(chan error, 1)
	var got map[int]workers.Outcome
	go func() {
		var err error
		got, err = doAll(t.Context(), j, 5)
		done <- err
	}()
	require.Eventually(t, func() bool { return workers.Left(t.Context(), e) >= 5 }, 10*time.Second, beat/10)
	workers.LoseMessages(t.Context(), e)
	newCrowd(t, e, nil).join("a", nil)
	require.NoError(t, <-done)
	requireSquares(t, 5, got)
}

// TestTakenBack holds that what nobody has begun is not done any more when who asked for it gives up.
func TestTakenBack(t *testing.T) {
	e := open(t, nil)
	j := job(t, e, "J1", nil)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { _, err := doAll(ctx, j, 5); done <- err }()
	require.Eventually(t, func() bool { return workers.Left(t.Context(), e) == 5 }, 10*time.Second, beat/10)
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
	require.Zero(t, workers.Left(t.Context(), e))
	newCrowd(t, e, nil).join("a", nil)
	got, err := doAll(t.Context(), j, 3)
	require.NoError(t, err)
	requireSquares(t, 3, got)
}

// TestServersAreLost holds that tasks are done while each of the servers goes and comes back, their
// leader first.
func TestServersAreLost(t *testing.T) {
	s := workerstest.Start(t, 3, nil)
	e := open(t, s)
	c := newCrowd(t, e, func(context.Context, string, int) error { time.Sleep(10 * time.Millisecond); return nil })
	for _, n := range []string{"a", "b", "c"} {
		c.join(n, nil)
	}
	j := job(t, e, "J1", nil)
	done := make(chan error, 1)
	var got map[int]workers.Outcome
	go func() {
		var err error
		got, err = doAll(t.Context(), j, 600)
		done <- err
	}()
	for _, i := range []int{s.Leader(), (s.Leader() + 1) % 3, (s.Leader() + 2) % 3} {
		was := j.Info().Done
		s.Kill(i)
		time.Sleep(3 * beat)
		s.Begin(t, i)
		require.Eventually(t, func() bool { return j.Info().Done > was+20 || j.Info().Done == 600 },
			60*time.Second, beat, "it goes on")
	}
	require.NoError(t, <-done)
	requireSquares(t, 600, got)
	twice := 0
	for _, who := range c.did {
		twice += len(who) - 1
	}
	t.Logf("%d of 600 were done more than once", twice)
	require.True(t, slices.Contains([]int{600}, len(c.did)))
}
