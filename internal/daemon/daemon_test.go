package daemon

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/notify"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
)

// What compresses is made when it is first used. That must not be within a bubble
// of unreal time, which would keep it.
func TestMain(m *testing.M) {
	ctx := context.Background()
	y := &testEnv{field: newFakeCluster("meadow"), place: blob.NewMemory()}
	if _, err := store.Create(ctx, y.place, store.CreateOptions{Plain: true, Tool: "test"}); err != nil {
		panic(err)
	}
	y.field.put("hive", "full")
	e := y.env(ctx)
	if _, err := snapshot.Take(ctx, e, "meadow", fakeConnection{fakeCluster: y.field}); err != nil {
		panic(err)
	}
	if _, err := capture.Run(ctx, e, "meadow", fakeConnection{fakeCluster: y.field}, capture.Options{}); err != nil {
		panic(err)
	}
	e.Store.Close()
	os.Exit(m.Run())
}

// teller is a channel that calls a function.
type teller func(context.Context, notify.Alert) error

func (teller) Name() string { return "tell" }

func (t teller) Send(ctx context.Context, m notify.Message) error { return t(ctx, m.Alert) }

// tells returns a channel that calls a function; where that is nil nobody is told.
func tells(t teller) []notify.Channel {
	if t == nil {
		return []notify.Channel{}
	}
	return []notify.Channel{t}
}

// testEnv is a field, a store in memory and a policy.
type testEnv struct {
	t     *testing.T
	field *fakeCluster
	place *blob.Memory
	cfg   *config.Config
}

func newTestEnv(t *testing.T, policy string) *testEnv {
	y := &testEnv{t: t, field: newFakeCluster("meadow"), place: blob.NewMemory()}
	fakeClusters.Store("meadow", y.field)
	y.cfg = y.config(policy)
	_, err := store.Create(t.Context(), y.place, store.CreateOptions{Plain: true, Tool: "test"})
	require.NoError(t, err)
	y.field.put("hive-1", "full")
	return y
}

func (y *testEnv) config(policy string) *config.Config {
	c, err := config.Parse([]byte("stores: { larder: { location: \"mem:\" } }\nclusters: { meadow: { address: "+
		"\"field://meadow\" } }\npolicies:\n  nightly: { clusters: [meadow], time_zone: UTC, "+policy+" }\n"),
		"yard.yaml")
	require.NoError(y.t, err)
	return c
}

func (y *testEnv) open(ctx context.Context) (*run.Runner, error) {
	s, err := store.Open(ctx, y.place, store.Options{Workers: 1})
	if err != nil {
		return nil, err
	}
	return &run.Runner{Store: s, Tool: "test", Parallel: 1, Memory: 1 << 20, OnEvent: func(run.Event) {}}, nil
}

func (y *testEnv) env(ctx context.Context) *run.Runner {
	e, err := y.open(ctx)
	if err != nil {
		panic(err)
	}
	return e
}

func (y *testEnv) world() Deps {
	return Deps{Config: y.cfg,
		OpenEnv: func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) { return y.open(ctx) },
		OpenCluster: func(ctx context.Context, _ *config.Config, _ string, _ *bool) (engine.Cluster, error) {
			return fakeDriver{}.Open(ctx, engine.Target{Address: "field://meadow"})
		}}
}

// daemon runs a daemon until the returned function is called.
func (y *testEnv) daemon(tell teller) (d *Daemon, stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	d = &Daemon{Deps: y.world(), Log: slog.New(slog.DiscardHandler), Channels: tells(tell), ProbeEvery: time.Hour}
	var wg sync.WaitGroup
	wg.Go(func() { _ = d.Run(ctx) })
	return d, func() { cancel(); wg.Wait() }
}

func (y *testEnv) runs(kinds ...string) []*store.Run {
	e := y.env(context.Background())
	defer e.Store.Close()
	runs, bad, err := e.Store.Runs(context.Background(), store.RunFilter{Kinds: kinds})
	require.NoError(y.t, err)
	require.Empty(y.t, bad)
	return runs
}

// TestWhatIsDue checks, for one policy and what happened, what is due next.
func TestWhatIsDue(t *testing.T) {
	midnight := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	at := func(h, m int) time.Time {
		return midnight.Add(time.Duration(h)*time.Hour + time.Duration(m)*time.Minute)
	}
	point := func(when time.Time) *store.Point {
		return &store.Point{ID: "p", Cluster: "meadow", Engine: "field", Made: "scan", Exact: true, Time: when,
			Started: when, Finished: when,
			Shards: []store.PointShard{{Name: "meadow", Mark: record.Mark{Position: "a", Wall: when}}}}
	}
	run := func(result string, dueAt, ended time.Time, attempt int) *store.Run {
		return &store.Run{ID: ended.Format("20060102-150405"), Kind: store.RunSnapshot, Policy: "nightly", Due: dueAt,
			Started: ended, Finished: ended, Result: result, Attempt: attempt}
	}
	yesterday := []*store.Point{point(at(-23, 15))}
	for _, c := range []struct {
		name, policy string
		state        State
		now, due     time.Time
		attempt      int
	}{
		{"nothing yet", "", State{}, at(12, 0), at(1, 15), 1},
		{"before the night", "", State{Points: yesterday}, at(0, 30), at(1, 15), 1},
		{"a missed night", "", State{Points: yesterday}, at(9, 0), at(1, 15), 1},
		{"three missed nights are made up for once", "", State{Points: []*store.Point{point(at(-71, 15))}}, at(9, 0),
			at(1, 15), 1},
		{"done", "", State{Points: []*store.Point{point(at(1, 15))}}, at(9, 0), at(25, 15), 1},
		{"done, by a server whose clock is behind", "",
			State{Points: []*store.Point{point(at(1, 14))},
				Runs: []*store.Run{run(store.RunDone, at(1, 15), at(1, 16), 1)}}, at(9, 0), at(25, 15), 1},
		{"failed once", "", State{Points: yesterday,
			Runs: []*store.Run{run(store.RunFailed, at(1, 15), at(1, 16), 1)}}, at(1, 16), at(1, 17), 2},
		{"failed again", "", State{Points: yesterday,
			Runs: []*store.Run{run(store.RunFailed, at(1, 15), at(1, 17), 2)}}, at(1, 17), at(1, 19), 3},
		{"given up for today", "retry: { for: 30m }",
			State{Points: yesterday, Runs: []*store.Run{run(store.RunFailed, at(1, 15), at(1, 44), 5)}}, at(1, 50),
			at(25, 15), 1},
		{"a point that is dated in the future is no newest one", "",
			State{Points: []*store.Point{point(at(-23, 15)), point(at(200, 0))}}, at(9, 0), at(1, 15), 1},
		{"nor does a run that is stand for what is to come", "", State{Points: yesterday,
			Runs: []*store.Run{run(store.RunDone, at(97, 15), at(97, 20), 1)}}, at(9, 0), at(1, 15), 1},
		{"done, beside a point that is dated in the future", "",
			State{Points: []*store.Point{point(at(-23, 15)), point(at(200, 0))},
				Runs: []*store.Run{run(store.RunDone, at(1, 15), at(1, 20), 1)}}, at(9, 0), at(25, 15), 1},
		{"died", "", State{Points: yesterday, Runs: []*store.Run{run(store.RunKilled, at(1, 15), at(1, 20), 1)}},
			at(1, 21), at(1, 20), 2},
		{"told to stop", "", State{Points: yesterday,
			Runs: []*store.Run{run(store.RunInterrupted, at(1, 15), at(1, 20), 1)}}, at(1, 21), at(1, 20), 1},
		{"quiet hours", "no_scans: [\"01:00-06:00\"]", State{Points: yesterday}, at(1, 15), at(6, 0), 1},
		{"out of the quiet hours", "no_scans: [\"01:00-06:00\"]", State{Points: yesterday}, at(6, 0), at(1, 15), 1},
		{"folding is quiet", "no_scans: [\"01:00-06:00\"], full_read: every 7d, capture: 10m",
			State{Points: []*store.Point{point(at(0, 1))}}, at(1, 15), at(1, 15), 1},
	} {
		cfg, err := config.Parse([]byte("stores: { larder: { location: \"mem:\" } }\nclusters: { meadow: { address: "+
			"\"field://meadow\" } }\npolicies:\n  nightly: { clusters: [meadow], time_zone: UTC, snapshot: \"15 1 * "+
			"* *\", "+c.policy+" }\n"), "y")
		require.NoError(t, err)
		w := Assignments(cfg)[0]
		if strings.Contains(c.policy, "rescan") {
			// Monday at midnight is when every week begins.
			require.Equal(t, midnight, w.Config.When.FullRead.Last(c.now))
		}
		d := snapshotDuty(w, &c.state, c.now)
		require.Equal(t, c.due.UTC(), d.At.UTC(), c.name)
		require.Equal(t, c.attempt, d.Attempt, c.name)
	}
}

// TestANightlyPolicy has a daemon follow a policy for some days: folded points
// between scans, captures, proofs, and a hook before and after.
func TestANightlyPolicy(t *testing.T) {
	seen := filepath.Join(t.TempDir(), "seen")
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t,
			fmt.Sprintf(
				`snapshot: every 6h, full_read: every 24h, capture: 1h, keep: { every_moment: 2d, thin: [daily for 30d] },
    hooks: [{ before: snapshot, run: [/bin/sh, -c, "echo before $DEXAMEN_KIND of $DEXAMEN_CLUSTER by $DEXAMEN_POLICY >> %[1]s" ] },
            { after: snapshot, run: [/bin/sh, -c, "echo after: $DEXAMEN_RESULT $DEXAMEN_POINT >> %[1]s; echo said"] }]`, seen))
		_, stop := y.daemon(nil)
		for i := range 60 {
			y.field.put(fmt.Sprint("hive-", i%7), fmt.Sprint("weighed ", i))
			time.Sleep(time.Hour)
		}
		stop()
		made := map[string]int{}
		for _, r := range y.runs(store.RunSnapshot) {
			require.Equal(t, store.RunDone, r.Result, r.Error)
			require.NotEmpty(t, r.Point)
			require.Len(t, r.Hooks, 2)
			require.Equal(t, "said\n", r.Hooks[1].Output)
			made[r.Made]++
		}
		require.Equal(t, map[string]int{"scan": 3, "fold": 7}, made)
		e := y.env(t.Context())
		defer e.Store.Close()
		s, err := ReadState(t.Context(), e, "meadow")
		require.NoError(t, err)
		proven, doubted := moment.Proven(s.Points, s.Proofs)
		require.Empty(t, doubted)
		require.Greater(t, len(proven), 5, "folded points are proven by the next that is read")
		cover, err := moment.Cover(t.Context(), e, "meadow")
		require.NoError(t, err)
		require.Equal(t, s.Points[0].Time, cover[0].Proven.From)
		require.Equal(t, s.Scanned().Time, cover[0].Proven.To)
		text, err := os.ReadFile(seen)
		require.NoError(t, err)
		lines := strings.Split(strings.TrimSpace(string(text)), "\n")
		require.Len(t, lines, 20)
		require.Equal(t, "before snapshot of meadow by nightly", lines[0])
		require.Regexp(t, `^after: done \d{8}-\d{6}-\w{4}$`, lines[1])
	})
}

// TestOnce: without a daemon nobody follows the log. Each time what is due is
// asked for the log is taken up to then, and every point proves it, at once.
func TestOnce(t *testing.T) {
	for _, log := range []string{"1h", "continuous"} {
		t.Run(log, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				y := newTestEnv(t, "snapshot: every 2h, full_read: every 4h, capture: "+log+
					", keep: { every_moment: 2d }")
				for i := range 12 {
					y.field.put("hive", fmt.Sprint("weighed ", i))
					begun := time.Now()
					_, err := Once(t.Context(), y.world(), nil)
					require.NoError(t, err)
					require.Less(t, time.Since(begun), 5*time.Second, "nothing is waited for")
					time.Sleep(time.Hour)
				}
				for _, r := range y.runs() {
					require.Equal(t, store.RunDone, r.Result, r.Error)
					require.Empty(t, r.Warnings)
				}
				e := y.env(t.Context())
				defer e.Store.Close()
				s, err := ReadState(t.Context(), e, "meadow")
				require.NoError(t, err)
				require.GreaterOrEqual(t, len(s.Points), 6)
				proven, doubted := moment.Proven(s.Points, s.Proofs)
				require.Empty(t, doubted)
				require.GreaterOrEqual(t, len(proven), 4)
			})
		})
	}
}

// TestALogThatLies: a write that the log does not tell of is found by the next
// point that is read, with the namespace, and told once.
func TestALogThatLies(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var sentAlert []notify.Alert
		y := newTestEnv(t, `snapshot: every 6h, capture: 1h, keep: { every_moment: 7d }`)
		_, stop := y.daemon(func(_ context.Context, t notify.Alert) error { sentAlert = append(sentAlert, t); return nil })
		time.Sleep(7 * time.Hour)
		y.field.blind = true
		y.field.put("hive-1", "robbed")
		y.field.blind = false
		time.Sleep(6 * time.Hour)
		require.NotEmpty(t, sentAlert)
		require.Equal(t, "proof", sentAlert[len(sentAlert)-1].About, "%+v", sentAlert)
		require.Contains(t, sentAlert[len(sentAlert)-1].Text, "hives")
		time.Sleep(6 * time.Hour) // what comes after is good again
		stop()
		n := map[string]int{}
		for _, x := range sentAlert {
			n[fmt.Sprint(x.About, x.Over)]++
		}
		require.Equal(t, 1, n["prooffalse"], "%v", sentAlert)
		require.Equal(t, 1, n["prooftrue"], "%v", sentAlert)
		require.Len(t, n, 2, "one thing is told one way: %v", sentAlert)
		e := y.env(t.Context())
		defer e.Store.Close()
		cover, err := moment.Cover(t.Context(), e, "meadow")
		require.NoError(t, err)
		require.Len(t, cover[0].Doubts, 1)
		require.Contains(t, cover[0].Doubts[0].What, "hives: the log and point")
		require.Contains(t, cover[0].Doubts[0].What, "1 changed")
		differ := 0
		for _, r := range y.runs(store.RunSnapshot) {
			if r.Result == store.RunDiffers {
				differ++
			}
		}
		require.Equal(t, 1, differ)
	})
}

// TestHooksThatFail: one before keeps the work from being done unless it is said
// otherwise; those after run whatever came of it, and after a kill too.
func TestHooksThatFail(t *testing.T) {
	ctx := context.Background()
	y := newTestEnv(t, "snapshot: every 6h")
	e := y.env(ctx)
	hooks := []run.Hook{{Kind: "snapshot", Command: []string{"/bin/sh", "-c", "echo no; exit 3"}},
		{Kind: "snapshot", After: true, Command: []string{"/bin/sh", "-c", "echo $DEXAMEN_RESULT"}}}
	never := func(context.Context, *run.Runner, *store.Run) error { return errors.New("it was done") }
	r := &store.Run{Kind: "snapshot", Cluster: "meadow"}
	err := e.Record(ctx, r, run.RecordOptions{Hooks: hooks}, never)
	require.ErrorContains(t, err, "the hook before it failed")
	require.Equal(t, 3, r.Hooks[0].Exit)
	require.Equal(t, "failed\n", r.Hooks[1].Output)

	hooks[0].Optional = true
	r = &store.Run{Kind: "snapshot", Cluster: "meadow"}
	require.NoError(t, e.Record(ctx, r, run.RecordOptions{Hooks: hooks},
		func(context.Context, *run.Runner, *store.Run) error { return nil }))
	require.Len(t, r.Warnings, 1)

	slow := []run.Hook{{Kind: "snapshot", Command: []string{"/bin/sh", "-c", "sleep 60 & sleep 60"},
		Timeout: 200 * time.Millisecond}}
	begun := time.Now()
	err = e.Record(ctx, &store.Run{Kind: "snapshot", Cluster: "meadow"}, run.RecordOptions{Hooks: slow}, never)
	require.ErrorContains(t, err, "still running after 200ms")
	require.Less(t, time.Since(begun), 10*time.Second, "what it started ends with it")

	err = e.Record(ctx, &store.Run{Kind: "verify", Cluster: "meadow"},
		run.RecordOptions{Deadline: 50 * time.Millisecond},
		func(ctx context.Context, _ *run.Runner, _ *store.Run) error {
			<-ctx.Done()
			return ctx.Err()
		})
	require.ErrorIs(t, err, run.ErrDeadline)
	runs := y.runs("verify")
	require.Equal(t, store.RunFailed, runs[0].Result, "a deadline is no interruption")
}

// TestReload: a broken configuration is refused and the old one stays; a new
// policy is followed at once.
func TestReload(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, "snapshot: every 24h")
		ctx, cancel := context.WithCancel(t.Context())
		reload := make(chan struct{})
		next := func() (*config.Config, error) { return nil, errors.New("line 3 is broken") }
		d := &Daemon{Deps: y.world(), Log: slog.New(slog.DiscardHandler), Reload: reload,
			Load:     func() (*config.Config, error) { return next() },
			Channels: tells(nil), ProbeEvery: time.Hour}
		var wg sync.WaitGroup
		wg.Go(func() { _ = d.Run(ctx) })
		time.Sleep(25 * time.Hour)
		reload <- struct{}{}
		time.Sleep(24 * time.Hour)
		require.Equal(t, "line 3 is broken", d.broken)
		require.Len(t, y.runs(store.RunSnapshot), 3, "the old one stays")
		next = func() (*config.Config, error) { return y.config("snapshot: every 1h, capture: continuous"), nil }
		reload <- struct{}{}
		time.Sleep(5*time.Hour + time.Minute)
		require.GreaterOrEqual(t, len(y.runs(store.RunSnapshot)), 8)
		require.Contains(t, d.names(), "capture of meadow")
		next = func() (*config.Config, error) { return y.config("snapshot: every 1h"), nil }
		reload <- struct{}{}
		time.Sleep(5 * time.Minute)
		require.Empty(t, d.names(), "a capture that is asked for no longer ends")
		captures := y.runs(store.RunCapture)
		require.Equal(t, store.RunInterrupted, captures[len(captures)-1].Result)
		cancel()
		wg.Wait()
	})
}

// TestAStoreOutOfReach is told by who cannot read it, once, and that it is over.
func TestAStoreOutOfReach(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, "snapshot: every 6h")
		var away atomic.Bool
		world := y.world()
		world.OpenEnv = func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) {
			if away.Load() {
				return nil, errors.New("the larder is locked")
			}
			return y.open(ctx)
		}
		var sentAlert []notify.Alert
		ctx, cancel := context.WithCancel(t.Context())
		d := &Daemon{Deps: world, Log: slog.New(slog.DiscardHandler),
			Channels:   tells(func(_ context.Context, t notify.Alert) error { sentAlert = append(sentAlert, t); return nil }),
			ProbeEvery: 30 * time.Second}
		var wg sync.WaitGroup
		wg.Go(func() { _ = d.Run(ctx) })
		time.Sleep(time.Hour)
		require.NoError(t, d.ready())
		away.Store(true)
		time.Sleep(time.Hour)
		require.ErrorContains(t, d.ready(), "the larder is locked")
		away.Store(false)
		time.Sleep(time.Hour)
		require.NoError(t, d.ready())
		require.Len(t, sentAlert, 2)
		require.Contains(t, sentAlert[0].Text, "the larder is locked")
		require.True(t, sentAlert[1].Over)
		cancel()
		wg.Wait()
	})
}

// TestHealth asks a daemon how it is, and for its metrics.
func TestHealth(t *testing.T) {
	y := newTestEnv(t, "snapshot: every 6h, capture: continuous, flush: 1s")
	d, stop := y.daemon(nil)
	defer stop()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	served := make(chan error, 1)
	go func() { served <- d.Serve(ctx, l, PageAccess{Loopback: true}) }()
	get := func(path string) (int, string) {
		resp, err := http.Get("http://" + l.Addr().String() + path)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	require.Eventually(t, func() bool {
		code, _ := get("/readyz")
		_, m := get("/metrics")
		return code == 200 && strings.Contains(m, `dexamen_points{cluster="meadow",policy="nightly",store="larder"} 1`)
	}, 20*time.Second, 50*time.Millisecond)
	code, _ := get("/healthz")
	require.Equal(t, 200, code)
	_, m := get("/metrics")
	for _, want := range []string{"dexamen_newest_moment_timestamp_seconds{",
		`dexamen_last_run_success{cluster="meadow",kind="snapshot",policy="nightly",store="larder"} 1`,
		`dexamen_run_in_progress{cluster="meadow",kind="capture",policy="nightly",store="larder"} 1`,
		"dexamen_log_gaps{", "dexamen_store_used_bytes{",
		`dexamen_runs_total{cluster="meadow",kind="snapshot",policy="nightly",result="done"} 1`,
		"dexamen_config_last_reload_success 1", `dexamen_store_up{store="larder"} 1`} {
		require.Contains(t, m, want)
	}
	cancel()
	require.NoError(t, <-served)
}

// TestCapacity has a store nearly full.
func TestRoom(t *testing.T) {
	now := time.Now()
	require.Empty(t, Capacity{Used: 10 << 30, Free: -1, Grows: 1 << 30}.alerts("larder", 0, now), "not known")
	require.Empty(t, Capacity{Used: 10 << 30, Free: 100 << 30, Grows: 1 << 30}.alerts("larder", 0, now))
	require.Contains(t, Capacity{Used: 90 << 30, Free: 10 << 30, Grows: 1 << 30}.alerts("larder", 0, now)[0].Text,
		"full in 10.0 days")
	require.Contains(t, Capacity{Used: 99 << 30, Free: 1 << 30}.alerts("larder", 0, now)[0].Text, "has 1024 MiB left")
}
