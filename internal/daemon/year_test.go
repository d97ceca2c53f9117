package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"regexp"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/notify"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

var digits = regexp.MustCompile(`\d[\d:.-]*`)

var errDead = errors.New("this daemon was killed")

// mortal is a place as a process sees it that may be killed at any time, and a
// store that may be out of reach.
type mortal struct {
	blob.Backend
	dead *atomic.Bool
	away *atomic.Bool
}

func (m mortal) ok() error {
	switch {
	case m.dead.Load():
		return errDead
	case m.away.Load():
		return errors.New("the larder is locked")
	}
	return nil
}

func (m mortal) Create(ctx context.Context, name string, data []byte) error {
	if err := m.ok(); err != nil {
		return err
	}
	return m.Backend.Create(ctx, name, data)
}

func (m mortal) Read(ctx context.Context, name string) ([]byte, error) {
	if err := m.ok(); err != nil {
		return nil, err
	}
	return m.Backend.Read(ctx, name)
}

func (m mortal) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	if err := m.ok(); err != nil {
		return nil, err
	}
	return m.Backend.ReadAt(ctx, name, off, n)
}

func (m mortal) List(ctx context.Context, prefix string, fn func(blob.Info) error) error {
	if err := m.ok(); err != nil {
		return err
	}
	return m.Backend.List(ctx, prefix, fn)
}

func (m mortal) Remove(ctx context.Context, name string) error {
	if err := m.ok(); err != nil {
		return err
	}
	return m.Backend.Remove(ctx, name)
}

// yearOf is the world of a simulated year.
type yearOf struct {
	t       *testing.T
	r       *rand.Rand
	cfg     *config.Config
	place   *blob.Memory
	field   *fakeCluster
	away    atomic.Bool // the store
	mu      sync.Mutex
	told    []string
	memo    *store.Memo
	moments []remembered
	// When something was out of order last: the cluster, the store, or every
	// daemon.
	alerts  atomic.Int64
	running atomic.Int32 // daemons
	everHad map[time.Time]bool
}

type remembered struct {
	at    time.Time
	state map[string]string
}

func (y *yearOf) upset() { y.alerts.Store(time.Now().UnixNano()) }

// calm reports whether all has been in order for so long.
func (y *yearOf) calm(d time.Duration) bool {
	return y.running.Load() > 0 && !y.away.Load() && y.field.alive() == nil &&
		time.Since(time.Unix(0, y.alerts.Load())) > d
}

func (y *yearOf) env(ctx context.Context, place blob.Backend) (*run.Runner, error) {
	s, err := store.Open(ctx, place, store.Options{Workers: 1, Memo: y.memo})
	if err != nil {
		return nil, err
	}
	return &run.Runner{Store: s, Tool: "test", Memory: 1 << 20, Parallel: 1, OnEvent: func(run.Event) {}}, nil
}

// daemon runs a daemon until the context ends; killed, it ends without a word.
func (y *yearOf) daemon(ctx context.Context, dead *atomic.Bool) {
	place := mortal{y.place, dead, &y.away}
	d := &Daemon{
		Deps: Deps{Config: y.cfg,
			OpenEnv: func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) {
				return y.env(ctx, place)
			},
			OpenCluster: func(ctx context.Context, c *config.Config, name string, _ *bool) (engine.Cluster, error) {
				return fakeDriver{}.Open(ctx, engine.Target{Address: c.Clusters[name].Address})
			}},
		CurrentNamespace: 20 * time.Minute,
		Log:              slog.New(slog.DiscardHandler),
		ProbeEvery:       10 * time.Minute,
		Channels: tells(func(_ context.Context, t notify.Alert) error {
			if t.Key == "unread" || t.Key == "store" {
				return nil // told by each daemon for itself: there is no store to agree by
			}
			y.mu.Lock()
			defer y.mu.Unlock()
			y.told = append(y.told, fmt.Sprintf("%s over=%v %s", strings.ReplaceAll(t.Key, " ", "-"), t.Over,
				t.Since.Format(time.RFC3339)))
			return nil
		}),
	}
	y.running.Add(1)
	_ = d.Run(ctx)
	y.running.Add(-1)
}

// lives has a daemon run and be killed, stopped and begun anew until the end.
func (y *yearOf) lives(ctx context.Context, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 7))
	for ctx.Err() == nil {
		life, cancel := context.WithTimeout(ctx, time.Duration(1+r.Int64N(int64(20*24*time.Hour))))
		dead := new(atomic.Bool)
		if r.IntN(3) > 0 {
			context.AfterFunc(life, func() { dead.Store(true) })
			// Killed: nothing is written from then on.
			stop := time.AfterFunc(time.Until(deadline(life))-time.Nanosecond, func() { dead.Store(true) })
			defer stop.Stop()
		}
		y.daemon(life, dead)
		cancel()
		y.upset()
		waitFor(ctx, time.Duration(r.ExpFloat64()*float64(3*time.Hour)))
		y.upset()
	}
}

func deadline(ctx context.Context) time.Time {
	t, _ := ctx.Deadline()
	return t
}

func waitFor(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// outages has something fail and come back.
func (y *yearOf) outages(ctx context.Context, seed uint64, every, length time.Duration, set func(bool)) {
	r := rand.New(rand.NewPCG(seed, 8))
	for ctx.Err() == nil {
		waitFor(ctx, time.Duration(r.ExpFloat64()*float64(every)))
		set(true)
		y.upset()
		waitFor(ctx, time.Duration(r.ExpFloat64()*float64(length)))
		set(false)
		y.upset()
	}
}

// content reads what a moment holds.
func content(ctx context.Context, e *run.Runner, m *moment.Moment) (map[string]string, error) {
	x, err := e.Store.NewScratch("")
	if err != nil {
		return nil, err
	}
	defer x.Close()
	spaces, _, err := m.Trees(ctx, x, x, nil)
	out := map[string]string{}
	for _, s := range spaces {
		if err == nil {
			err = tree.Walk(ctx, x, s.Root,
				func(r record.Record) error { out[string(r.Key)] = string(r.Value); return nil })
		}
	}
	return out, err
}

// examine holds what must be true at any time.
func (y *yearOf) examine(ctx context.Context) {
	t := y.t
	if y.away.Load() {
		return
	}
	e, err := y.env(ctx, y.place)
	require.NoError(t, err)
	defer e.Store.Close()
	now := time.Now()
	s, err := ReadState(ctx, e, "meadow")
	require.NoError(t, err)
	require.Empty(t, s.Damaged)
	w := Assignments(y.cfg)[0]
	if y.calm(3 * time.Hour) {
		require.NotEmpty(t, s.Points)
		require.Less(t, now.Sub(s.Latest), 2*time.Hour, "at %s the newest moment is %s", now, s.Latest)
		dueAt := w.Config.When.Snapshot.Last(now.Add(-3 * time.Hour))
		require.True(t, served(s, w, store.RunSnapshot, dueAt, time.Now()) || !s.Newest().Time.Before(dueAt),
			"at %s nothing was done due at %s; runs: %s", now, dueAt, runLines(s.Runs))
	}
	// What could be restored once can be for as long as was promised.
	keep := y.moments[:0]
	for _, m := range y.moments {
		if now.Sub(m.at) > time.Duration(w.Config.Keep.EveryMoment) {
			continue
		}
		keep = append(keep, m)
		at, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Time, Time: m.at}, restore.OnScratch{})
		if y.everHad[m.at] {
			require.NoError(t, err, "at %s the moment %s was lost", now, m.at)
		}
		if err != nil {
			continue
		}
		if first := !y.everHad[m.at]; first || y.r.IntN(20) == 0 {
			y.everHad[m.at] = true
			got, err := content(ctx, e, at)
			require.NoError(t, err)
			require.Equal(t, m.state, got, "the moment %s", m.at)
		}
	}
	y.moments = keep
}

func runLines(runs []*store.Run) string {
	var b strings.Builder
	for _, r := range runs {
		fmt.Fprintf(&b, "\n  %s %s due %s attempt %d %s %s", r.ID, r.Kind, r.Due.Format(time.RFC3339), r.Attempt,
			r.Result, r.Error)
	}
	return b.String()
}

// TestAYear has two daemons keep a policy's promises for a year, or for
// DEXAMEN_YEAR_DAYS, on a clock that is not real, with everything else real:
// store, claims, verbs and runs. Daemons are killed, the cluster and the store go
// away, at times for longer than the cluster keeps its log; clocks change twice.
func TestAYear(t *testing.T) {
	days := 30
	if s := os.Getenv("DEXAMEN_YEAR_DAYS"); s != "" {
		days, _ = strconv.Atoi(s)
	}
	begun := time.Now()
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // a small heap would be collected all the time
	synctest.Test(t, func(t *testing.T) {
		// The clock begins on the first of January 2000; two months on they
		// see the change to summer time where a year is not asked for.
		ctx, cancel := context.WithCancel(t.Context())
		if days < 200 {
			time.Sleep(65 * 24 * time.Hour)
		}
		f := newFakeCluster("meadow")
		fakeClusters.Store("meadow", f)
		cfg, err := config.Parse([]byte(`
stores: { larder: { location: "mem:" } }
clusters: { meadow: { address: "field://meadow" } }
policies:
  nightly:
    clusters: [meadow]
    time_zone: Europe/Berlin
    snapshot: "30 2 * * *"
    full_read: every 7d
    capture: 1h
    rpo: 3h
    keep: { every_moment: 7d, thin: [daily for 30d, weekly for 26w], never_fewer: 3 }
`), "year.yaml")
		require.NoError(t, err)
		y := &yearOf{t: t, r: rand.New(rand.NewPCG(1, 1)), cfg: cfg, place: blob.NewMemory(),
			memo: store.NewMemo(4 << 20), field: f, everHad: map[time.Time]bool{}}
		_, err = store.Create(ctx, y.place, store.CreateOptions{Plain: true, Tool: "test"})
		require.NoError(t, err)
		y.upset()
		end := time.Now().Add(time.Duration(days) * 24 * time.Hour)
		done := make(chan struct{})
		n := 0
		defer func() {
			cancel()
			for range n {
				<-done
			}
		}()
		live := func(fn func()) { n++; go func() { defer func() { done <- struct{}{} }(); fn() }() }
		live(func() { y.lives(ctx, 1) })
		live(func() { waitFor(ctx, 20*24*time.Hour); y.lives(ctx, 2) })
		live(func() { y.outages(ctx, 3, 9*24*time.Hour, 8*time.Hour, f.setDown) })
		live(func() { y.outages(ctx, 4, 15*24*time.Hour, 4*time.Hour, y.away.Store) })
		for i := 0; time.Now().Before(end); i++ {
			for range y.r.IntN(6) {
				key, value := fmt.Sprintf("hive-%03d", y.r.IntN(400)), ""
				if y.r.IntN(4) > 0 {
					value = fmt.Sprintf("%d bees at %s", y.r.IntN(50000), time.Now().Format(time.RFC3339))
				}
				f.put(key, value)
			}
			if i%7 == 0 {
				time.Sleep(2 * time.Millisecond)
				state, at := f.state()
				y.moments = append(y.moments, remembered{at, state})
				// Nothing else happens in this millisecond.
				time.Sleep(2 * time.Millisecond)
			}
			if i%13 == 0 {
				y.examine(ctx)
			}
			time.Sleep(time.Duration(1 + y.r.Int64N(int64(80*time.Minute))))
		}
		y.verdict(ctx, days)
	})
	t.Logf("%d days in %s", days, time.Since(begun).Round(time.Millisecond))
}

// verdict looks back at all runs.
func (y *yearOf) verdict(ctx context.Context, days int) {
	t := y.t
	y.away.Store(false)
	e, err := y.env(ctx, y.place)
	require.NoError(t, err)
	defer e.Store.Close()
	runs, bad, err := e.Store.Runs(ctx, store.RunFilter{Cluster: "meadow"})
	require.NoError(t, err)
	require.Empty(t, bad)
	count, dueTimes, made := map[string]int{}, map[string]int{}, map[string]int{}
	proven, reasons := 0, map[string]int{}
	for _, r := range runs {
		count[r.Kind+" "+r.Result]++
		if r.Kind != store.RunCapture && (r.Result == store.RunDone || r.Result == store.RunIncomplete) {
			dueTimes[r.Kind+" "+r.Due.String()]++
		}
		if r.Kind == store.RunSnapshot && r.Point != "" {
			made[r.Made]++
		}
		for _, gone := range r.Retired {
			require.NotEmpty(t, gone.Reason)
			reasons[digits.ReplaceAllString(gone.Reason, "#")]++
		}
	}
	for dueAt, n := range dueTimes {
		require.Equal(t, 1, n, "%s was done %d times", dueAt, n)
	}
	proofs, err := e.Store.Proofs(ctx, "meadow")
	require.NoError(t, err)
	for _, m := range proofs {
		require.Empty(t, m.Doubts)
		if m.Equal {
			proven++
		}
	}
	s, err := ReadState(ctx, e, "meadow")
	require.NoError(t, err)
	kept := map[string]int{}
	for _, v := range s.Plan(Assignments(y.cfg)[0], time.Now()).Verdicts {
		require.NotEmpty(t, v.Reason)
		kept[digits.ReplaceAllString(v.Reason, "#")]++
	}
	require.Greater(t, made["fold"], made["scan"], "most points are folded: %v", made)
	require.Greater(t, proven, 0)
	require.Less(t, len(s.Points), 7+30+27+10)
	segments := 0
	for _, c := range s.Chains {
		segments += len(c.Segments) + len(c.Superseded) + len(c.Joins)
	}
	require.Less(t, segments, 24*9+60, "the log that nobody needs goes, and small segments are put together")
	u, err := e.Store.Usage(ctx)
	require.NoError(t, err)
	lines := []string{}
	for _, k := range slices.Sorted(maps.Keys(count)) {
		lines = append(lines, fmt.Sprintf("%d %s", count[k], k))
	}
	t.Logf("runs kept: %s", strings.Join(lines, ", "))
	t.Logf("points: %d left, made %v, %d proven; retired because: %v; %d log segments; objects %v", len(s.Points),
		made, proven, reasons, segments, u.Objects)
	t.Logf("what is left stays because: %v", kept)
	t.Logf("%d notices; gaps in the log that is left: %d", len(y.told), len(s.Gaps))
	// notify.Alert is told once when it begins and once when it is over.
	open := map[string]bool{}
	for _, n := range y.told {
		about, rest, _ := strings.Cut(n, " ")
		over := strings.HasPrefix(rest, "over=true")
		require.NotEqual(t, open[about], !over, "told twice, or over without having begun: %v", y.told)
		open[about] = !over
	}
}
