package redis

import (
	"context"
	"fmt"
	"testing"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
)

// TestManyAreWhatEachIs: several namespaces that are read in one pass have the records that each has by itself,
// whatever their prefixes have in common, and so has the number of what is there.
func TestManyAreWhatEachIs(t *testing.T) {
	ctx := context.Background()
	s := redistest.Start(t)
	for db := range 2 {
		cl := goredis.NewClient(&goredis.Options{Addr: s.Address, DB: db})
		t.Cleanup(func() { _ = cl.Close() })
		for i := range 400 {
			for _, k := range []string{"colony:%d", "colony:%d:queen", "colony:hive:%d", "colonyx:%d", "colo:%d",
				"plain%d", "a:b:c:%d", "a:b:%d", "[a]*:%d"} {
				k = fmt.Sprintf(k, i)
				require.NoError(t, cl.RPush(ctx, k, k, "b").Err())
			}
		}
	}
	c, err := Driver{}.Open(ctx, engine.Target{Name: "bramble", Address: redistest.Address(s),
		Options: map[string]any{"prefix_depth": 1}})
	require.NoError(t, err)
	defer c.Close()
	found, err := c.Namespaces(ctx)
	require.NoError(t, err)
	require.Greater(t, len(found), 8)
	many := c.(engine.ManyScanner)
	require.True(t, many.Together(found))
	overlapping := func(names ...string) (list []engine.Namespace) {
		for _, name := range names {
			list = append(list, engine.Namespace{Namespace: record.Namespace{Name: name, Kind: keysKind}})
		}
		return list
	}
	require.False(t, many.Together(overlapping("db0", "db0/colony:")), "a key would be in two")
	require.False(t, many.Together(overlapping("db0/a:", "db0/a:b:")))
	require.False(t, many.Together(overlapping("db0/a:", "db0/a:")))
	require.False(t, many.Together(overlapping("db0", "db1")), "nothing is gone through twice")
	require.True(t, many.Together(overlapping("db0/a:b:", "db1/a:b:", "db1/a:c:")))
	// Of other lengths than the configured one too.
	some := overlapping("db0/a:b:", "db0/colony:", "db1/colony:", "db1/a:b:c:", "db0/nothing:")
	w, err := c.Writer(ctx)
	require.NoError(t, err)
	for _, list := range [][]engine.Namespace{found, some} {
		want := map[string]map[string]string{}
		var names []record.Namespace
		for _, ns := range list {
			want[ns.Name] = map[string]string{}
			names = append(names, ns.Namespace)
			require.NoError(t, c.Scan(ctx, ns, engine.Partition{}, func(r record.Record) error {
				want[ns.Name][string(r.Key)] = string(r.Value)
				return nil
			}))
		}
		got := map[string]map[string]string{}
		for _, ns := range list {
			got[ns.Name] = map[string]string{}
		}
		require.NoError(t, many.ScanMany(ctx, list, func(ns *engine.Namespace, r record.Record) error {
			got[ns.Name][string(r.Key)] = string(r.Value)
			return nil
		}))
		require.Equal(t, want, got)
		there, err := w.(engine.ManyWriter).OccupiedMany(ctx, names)
		require.NoError(t, err)
		for i, ns := range names {
			n, err := w.(engine.InPlaceWriter).Occupied(ctx, ns)
			require.NoError(t, err)
			require.Equal(t, n, there[i], ns.Name)
		}
	}
}
