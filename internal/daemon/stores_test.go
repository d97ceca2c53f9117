package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

// troubled is a place that may be full, or hang: every call waits then until it is well again.
type troubled struct {
	blob.Backend
	mu   sync.Mutex
	full bool
	hung chan struct{}
}

func (p *troubled) fill(full bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.full = full
}

func (p *troubled) hang() (wake func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	hung := make(chan struct{})
	p.hung = hung
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.hung = nil
		close(hung)
	}
}

// wait returns whether the place is full, once it answers. As a file system that hangs it does not
// heed the context.
func (p *troubled) wait() bool {
	for {
		p.mu.Lock()
		full, hung := p.full, p.hung
		p.mu.Unlock()
		if hung == nil {
			return full
		}
		<-hung
	}
}

func (p *troubled) Create(ctx context.Context, name string, data []byte) error {
	if p.wait() {
		return errors.New("no space left on device")
	}
	return p.Backend.Create(ctx, name, data)
}

func (p *troubled) Read(ctx context.Context, name string) ([]byte, error) {
	p.wait()
	return p.Backend.Read(ctx, name)
}

func (p *troubled) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	p.wait()
	return p.Backend.ReadAt(ctx, name, off, n)
}

func (p *troubled) List(ctx context.Context, prefix string, fn func(blob.Info) error) error {
	p.wait()
	return p.Backend.List(ctx, prefix, fn)
}

func (p *troubled) Remove(ctx context.Context, name string) error {
	p.wait()
	return p.Backend.Remove(ctx, name)
}

// twoStores is a daemon with two stores, the first of which gets into trouble, and a cluster in
// each.
type twoStores struct {
	larder *troubled
	places map[string]blob.Backend
	d      *Daemon
	mu     sync.Mutex
	told   []toldAt
}

type toldAt struct {
	notify.Alert
	at time.Time
}

func newTwoStores(t *testing.T) (y *twoStores, stop func()) {
	y = &twoStores{larder: &troubled{Backend: blob.NewMemory()}, places: map[string]blob.Backend{
		"pantry": blob.NewMemory()}}
	y.places["larder"] = y.larder
	for _, p := range y.places {
		_, err := store.Create(t.Context(), p, store.CreateOptions{Plain: true, Tool: "test"})
		require.NoError(t, err)
	}
	for _, name := range []string{"meadow", "orchard"} {
		f := newFakeCluster(name)
		f.put("hive-1", "full")
		fakeClusters.Store(name, f)
	}
	cfg, err := config.Parse([]byte(`
stores: { larder: { location: "mem:" }, pantry: { location: "mem:" } }
clusters:
  meadow: { address: "field://meadow", store: larder }
  orchard: { address: "field://orchard", store: pantry }
policies:
  all: { clusters: ["*"], time_zone: UTC, snapshot: every 10m, retention: every 30m, clusters_at_once: 1, rpo: 11m, keep: { never_more: 10, never_fewer: 3 } }
`), "two.yaml")
	require.NoError(t, err)
	y.d = &Daemon{Log: slog.New(slog.DiscardHandler),
		Channels: tells(func(_ context.Context, a notify.Alert) error {
			y.mu.Lock()
			defer y.mu.Unlock()
			y.told = append(y.told, toldAt{a, time.Now()})
			return nil
		}),
		Deps: Deps{Config: cfg,
			OpenEnv: func(ctx context.Context, _ *config.Config, name, _ string) (*run.Runner, error) {
				s, err := store.Open(ctx, y.places[name], store.Options{Workers: 1})
				if err != nil {
					return nil, err
				}
				return &run.Runner{Store: s, Tool: "test", Parallel: 1, Memory: 1 << 20,
					OnEvent: func(run.Event) {}}, nil
			},
			OpenCluster: func(ctx context.Context, c *config.Config, name string, _ *bool) (engine.Cluster, error) {
				return fakeDriver{}.Open(ctx, engine.Target{Address: c.Clusters[name].Address})
			}}}
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() { _ = y.d.Run(ctx) })
	return y, func() { cancel(); wg.Wait() }
}

// since returns what was told after a time, as "key over".
func (y *twoStores) since(at time.Time) (keys []string, first time.Time) {
	y.mu.Lock()
	defer y.mu.Unlock()
	for _, a := range y.told {
		if !a.at.Before(at) {
			if first.IsZero() {
				first = a.at
			}
			keys = append(keys, fmt.Sprintf("%s%s %v", a.Store, " "+a.Key, a.Over))
		}
	}
	return keys, first
}

func (y *twoStores) points(t *testing.T, storeName, cluster string) int {
	s, err := store.Open(t.Context(), y.places[storeName], store.Options{Workers: 1})
	require.NoError(t, err)
	defer s.Close()
	runs, _, err := s.Runs(t.Context(), store.RunFilter{Cluster: cluster, Kinds: []string{store.RunSnapshot}})
	require.NoError(t, err)
	n := 0
	for _, r := range runs {
		if r.Good() {
			n++
		}
	}
	return n
}

// TestAHungStore is told within a minute, is seen at the endpoints, keeps nothing else waiting, is
// over when it is over, and what it held up is then made up for within a minute.
func TestAHungStore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y, stop := newTwoStores(t)
		time.Sleep(61 * time.Minute)
		require.NoError(t, y.d.ready())
		require.True(t, y.d.Status().Well, "%+v", y.d.Status())
		before := y.points(t, "pantry", "orchard")
		for range 3 { // at any time of the round
			at := time.Now()
			wake := y.larder.hang()
			time.Sleep(50 * time.Second)
			keys, _ := y.since(at)
			require.Equal(t, []string{"larder store false"}, keys)
			require.ErrorContains(t, y.d.ready(), "store larder: since")
			require.NoError(t, y.d.healthy(), "the process works")
			s := y.d.Status()
			require.False(t, s.Well)
			i := slices.IndexFunc(s.Stores, func(s StoreStatus) bool { return s.Store == "larder" })
			require.False(t, s.Stores[i].Up)
			_, err := DueNow(t.Context(), y.d.Deps, Assignments(y.d.Config))
			require.ErrorContains(t, err, "store larder: it does not answer within 15s")
			_, err = Once(t.Context(), y.d.Deps, tells(nil))
			require.ErrorContains(t, err, "store larder: it does not answer within 15s")
			time.Sleep(60*time.Minute - time.Since(at))
			keys, _ = y.since(at)
			require.Equal(t, []string{"larder store false"}, keys, "told once")
			now := y.points(t, "pantry", "orchard")
			require.Equal(t, before+6, now, "the other goes on as ever")
			had := time.Now()
			wake()
			time.Sleep(time.Minute)
			require.GreaterOrEqual(t, y.d.Status().Clusters[0].Newest.Unix(), had.Add(-10*time.Minute).Unix(),
				"what was held up is made up for within a minute")
			require.NoError(t, y.d.ready())
			time.Sleep(9 * time.Minute)
			keys, _ = y.since(had)
			require.Contains(t, keys, "larder store true")
			time.Sleep(51 * time.Minute)
			before = y.points(t, "pantry", "orchard")
			require.True(t, y.d.Status().Well, "%+v", y.d.Status())
		}
		stop()
	})
}

// TestAFullStore silences nothing: that it is full, that runs fail, and that the promise is broken
// are each told in time, though the store can keep no mark of it, and are over once there is room.
func TestAFullStore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y, stop := newTwoStores(t)
		time.Sleep(61 * time.Minute)
		at := time.Now()
		y.larder.fill(true)
		time.Sleep(50 * time.Second)
		keys, _ := y.since(at)
		require.Equal(t, []string{"larder store false"}, keys)
		time.Sleep(29 * time.Minute)
		keys, _ = y.since(at)
		require.Contains(t, keys, "larder rpo false")
		require.Len(t, keys, 2, "each once: %v", keys)
		had := time.Now()
		y.larder.fill(false)
		time.Sleep(3 * time.Minute)
		keys, _ = y.since(had)
		require.ElementsMatch(t, []string{"larder store true", "larder rpo true"}, keys)
		require.NoError(t, y.d.ready())
		time.Sleep(57 * time.Minute)
		keys, _ = y.since(had)
		require.Len(t, keys, 2, "and nothing since: %v", keys)
		stop()
	})
}
