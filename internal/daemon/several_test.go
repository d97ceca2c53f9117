package daemon

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// TestSeveralClusters: a policy takes as many clusters at once as it says, all of
// them in the end, each opened with the policy's word on settings; a cluster
// whose labels come to fit joins by itself.
func TestSeveralClusters(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		const n, atOnce = 7, 3
		text := "stores: { larder: { location: \"mem:\" } }\npolicies:\n" +
			"  nightly: { clusters: { label: tier=gold }, time_zone: UTC, snapshot: \"0 2 * * *\", " +
			"clusters_at_once: 3, cluster_wide: false, keep: { thin: [daily for 30d] } }\nclusters:\n"
		parse := func(gold int) *config.Config {
			all := text
			for i := range n {
				tier := "gold"
				if i >= gold {
					tier = "tin"
				}
				all += fmt.Sprintf("  field-%d: { address: \"field://several-%d\", labels: { tier: %s } }\n", i, i,
					tier)
			}
			c, err := config.Parse([]byte(all), "several.yaml")
			require.NoError(t, err)
			return c
		}
		for i := range n {
			f := newFakeCluster(fmt.Sprintf("several-%d", i))
			f.put("hive", fmt.Sprint(i))
			fakeClusters.Store(f.name, f)
		}
		place := blob.NewMemory()
		_, err := store.Create(t.Context(), place, store.CreateOptions{Plain: true, Tool: "test"})
		require.NoError(t, err)
		var open, most atomic.Int32
		world := func(cfg *config.Config) Deps {
			return Deps{Config: cfg,
				OpenEnv: func(ctx context.Context, _ *config.Config, _, _ string) (*run.Runner, error) {
					s, err := store.Open(ctx, place, store.Options{Workers: 1})
					if err != nil {
						return nil, err
					}
					return &run.Runner{Store: s, Tool: "test", Parallel: 1, Memory: 1 << 20,
						OnEvent: func(run.Event) {}}, nil
				},
				OpenCluster: func(ctx context.Context, c *config.Config, name string, settings *bool) (engine.Cluster,
					error) {
					require.NotNil(t, settings, name)
					require.False(t, *settings, name)
					now := open.Add(1)
					most.Store(max(most.Load(), now))
					time.Sleep(10 * time.Minute) // a cluster that takes its time
					open.Add(-1)
					return fakeDriver{}.Open(ctx, engine.Target{Address: c.Clusters[name].Address})
				}}
		}
		gold, reload := n-1, make(chan struct{})
		d := &Daemon{Deps: world(parse(gold)), Log: slog.New(slog.DiscardHandler),
			Channels: tells(nil), ProbeEvery: time.Hour,
			Reload: reload, Load: func() (*config.Config, error) { return parse(n), nil }}
		ctx, cancel := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		wg.Go(func() { _ = d.Run(ctx) })
		defer func() { cancel(); wg.Wait() }()
		points := func() (clusters []string) {
			s, err := store.Open(ctx, place, store.Options{Workers: 1})
			require.NoError(t, err)
			defer s.Close()
			for i := range n {
				list, _, err := s.Points(ctx, fmt.Sprintf("field-%d", i))
				require.NoError(t, err)
				require.LessOrEqual(t, len(list), 1)
				for _, p := range list {
					clusters = append(clusters, p.Cluster)
				}
			}
			return clusters
		}
		time.Sleep(time.Hour)
		require.Len(t, points(), gold, "a cluster without a point gets one at once")
		require.EqualValues(t, atOnce, most.Load())
		reload <- struct{}{}
		time.Sleep(time.Hour)
		require.Len(t, points(), n)
	})
}
