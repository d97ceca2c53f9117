package daemon

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/report"
	"dexamen/internal/run"
	"dexamen/internal/workers"
	"dexamen/internal/workers/workerstest"
)

// dividing are daemons that divide clusters among them.
type dividing struct {
	t       *testing.T
	servers *workerstest.Servers
	place   *blob.Memory
	n       int
	// unreached are clusters that a daemon does not reach, by its name and theirs.
	mu        sync.Mutex
	unreached map[string]bool
	daemons   map[string]*Daemon
	stop      map[string]func()
}

func (v *dividing) start(name, labels string) {
	text := "stores: { larder: { location: \"mem:\" } }\nworkers: { servers: [" +
		strings.Join(quoted(v.servers.Addresses()), ", ") + "], divide: true, lost_after: 3s, name: " + name +
		", labels: { " + labels + " }, rules: [ { clusters: { label: site=north }, " +
		"only: { site: north } } ] }\npolicies:\n" +
		"  all: { clusters: [\"*\"], snapshot: \"0 2 * * *\", capture: continuous, " +
		"keep: { thin: [daily for 30d] } }\n" +
		"clusters:\n"
	for i := range v.n {
		site := "any"
		if i%4 == 0 {
			site = "north"
		}
		text += fmt.Sprintf("  divided-%d: { address: \"field://divided-%d\", labels: { site: %s } }\n", i, i, site)
	}
	cfg, err := config.Parse([]byte(text), name+".yaml")
	require.NoError(v.t, err)
	open := func(ctx context.Context) (*workers.Engine, error) {
		return workers.Open(ctx, workers.Options{Servers: cfg.Workers.Servers, LostAfter: 3 * time.Second, Name: name})
	}
	d := &Daemon{Log: slog.New(slog.DiscardHandler), Channels: tells(nil), ProbeEvery: time.Hour}
	d.Deps = Deps{Config: cfg,
		OpenEnv: func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) {
			s, err := store.Open(ctx, v.place, store.Options{Workers: 1})
			if err != nil {
				return nil, err
			}
			return &run.Runner{Store: s, StoreName: "larder", Tool: "test", Parallel: 1, Memory: 1 << 20,
				OnEvent: func(run.Event) {}}, nil
		},
		OpenCluster: func(ctx context.Context, c *config.Config, cluster string, _ *bool) (engine.Cluster, error) {
			v.mu.Lock()
			no := v.unreached[name+" "+cluster]
			v.mu.Unlock()
			if no {
				return nil, fmt.Errorf("%s: %w", cluster, engine.ErrUnreachable)
			}
			return fakeDriver{}.Open(ctx, engine.Target{Address: c.Clusters[cluster].Address})
		}, Workers: open}
	e, err := open(v.t.Context())
	require.NoError(v.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() {
		if err := d.JoinWorkers(ctx, e); err != nil {
			v.t.Error(err)
		}
	})
	wg.Go(func() { _ = d.Run(ctx) })
	v.daemons[name] = d
	v.stop[name] = func() {
		cancel()
		wg.Wait()
		e.Close()
		delete(v.daemons, name)
	}
}

// captured returns which daemon captures each cluster now; empty while one has none or two.
func (v *dividing) captured() map[string]string {
	out := map[string]string{}
	for name, d := range v.daemons {
		d.mu.Lock()
		for _, g := range d.going {
			if g.kind == store.RunCapture {
				if out[g.ward.Cluster] != "" || g.told {
					d.mu.Unlock()
					return nil
				}
				out[g.ward.Cluster] = name
			}
		}
		d.mu.Unlock()
	}
	if len(out) < v.n {
		return nil
	}
	return out
}

func (v *dividing) settled(within time.Duration, ok func(by map[string]string) bool) (by map[string]string) {
	v.t.Helper()
	require.Eventually(v.t, func() bool { by = v.captured(); return by != nil && (ok == nil || ok(by)) }, within,
		50*time.Millisecond)
	return by
}

// TestDaemonsDivide holds that daemons divide clusters so that each has one that sees to it, with the labels that
// rules ask for; that those of one that ends, and no others, go to the rest; and that a cluster goes to one that
// reaches it.
func TestDaemonsDivide(t *testing.T) {
	v := &dividing{t: t, servers: workerstest.Start(t, 1, nil), place: blob.NewMemory(), n: 16,
		unreached: map[string]bool{}, daemons: map[string]*Daemon{}, stop: map[string]func(){}}
	_, err := store.Create(t.Context(), v.place, store.CreateOptions{Plain: true, Tool: "test"})
	require.NoError(t, err)
	for i := range v.n {
		f := newFakeCluster(fmt.Sprintf("divided-%d", i))
		f.put("hive", fmt.Sprint(i))
		fakeClusters.Store(f.name, f)
	}
	v.start("one", "site: north")
	v.start("two", "site: south")
	v.start("three", "site: north")
	defer func() {
		for _, name := range []string{"one", "two", "three"} {
			if v.daemons[name] != nil {
				v.stop[name]()
			}
		}
	}()
	count := func(by map[string]string) map[string]int {
		out := map[string]int{}
		for _, name := range by {
			out[name]++
		}
		return out
	}
	first := v.settled(40*time.Second, func(by map[string]string) bool { return len(count(by)) == 3 })
	t.Log(count(first))
	for i := 0; i < v.n; i += 4 {
		require.NotEqual(t, "two", first[fmt.Sprintf("divided-%d", i)], "it has not the label")
	}
	st := v.daemons["one"].Status()
	require.Len(t, st.Clusters, count(first)["one"], "each tells of its own")
	crew := v.daemons["one"].gatherCrew(t.Context())
	require.Empty(t, crew.Note)
	crew.Members = slices.DeleteFunc(crew.Members, func(m report.CrewMember) bool { return len(m.Notes) > 0 }) // have jobs
	crew.Jobs = nil
	require.Len(t, crew.Members, 3)
	require.EqualValues(t, v.n-count(first)["one"], crew.Elsewhere)
	for _, m := range crew.Members {
		require.EqualValues(t, count(first)[m.Name], m.Clusters, m.Name)
	}
	var page strings.Builder
	for _, live := range []*report.Live{{Data: v.daemons["one"].gatherLive(), Crew: crew}, {Crew: crew}} {
		page.Reset()
		require.NoError(t, live.Write(&page, true))
		require.Contains(t, page.String(), "3 are there; 0 tasks are being worked on, 0 wait")
		require.Contains(t, page.String(), fmt.Sprintf("other daemons see to %d more clusters", crew.Elsewhere))
	}
	require.Contains(t, page.String(), `<th scope="row">three</th>`)
	// One ends: its clusters go to others, and no others change hands.
	v.stop["three"]()
	second := v.settled(40*time.Second, nil)
	for cluster, was := range first {
		if was != "three" {
			require.Equal(t, was, second[cluster], cluster)
		}
	}
	// One does not reach a cluster any more: another sees to it.
	var of string
	for cluster, name := range second {
		if name == "two" {
			of = cluster
		}
	}
	v.mu.Lock()
	v.unreached["two "+of] = true
	v.mu.Unlock()
	f, _ := fakeClusters.Load(of)
	f.(*fakeCluster).setDown(true)
	require.Eventually(t, func() bool { return v.captured() == nil }, 20*time.Second, 50*time.Millisecond)
	f.(*fakeCluster).setDown(false)
	third := v.settled(60*time.Second, func(by map[string]string) bool { return by[of] == "one" })
	delete(second, of)
	for cluster, was := range second {
		require.Equal(t, was, third[cluster], cluster)
	}
	var names []string
	s, err := store.Open(t.Context(), v.place, store.Options{Workers: 1})
	require.NoError(t, err)
	defer s.Close()
	points, _, err := s.Points(t.Context(), "")
	require.NoError(t, err)
	for _, p := range points {
		names = append(names, p.Cluster)
	}
	slices.Sort(names)
	require.Len(t, slices.Compact(names), v.n)
	require.Len(t, points, v.n, "each was read once")
}

func quoted(list []string) (out []string) {
	for _, s := range list {
		out = append(out, fmt.Sprintf("%q", s))
	}
	return out
}
