package enginetest

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// checkShared holds that connections of several processes read one state: where it is pinned nothing that
// was written since, else nothing older.
func checkShared(t *testing.T, start Start) {
	f := start(t)
	for i := range 300 {
		f.Put(t, f.Namespace, i, fmt.Sprint("colony ", i))
	}
	c := open(t, f)
	if _, ok := c.(engine.Shareable); !ok {
		return
	}
	pinned, isPinned := c.(engine.Pinned)
	if isPinned {
		v, err := pinned.Pin(ctx, nil)
		require.NoError(t, err)
		if v.Release != nil {
			defer v.Release()
		}
		c = v.Cluster
	}
	ns := find(t, c, f.Namespace)
	want := scan(t, c, ns)
	require.Len(t, want, 300)
	parts, err := c.Partitions(ctx, ns, 4)
	require.NoError(t, err)
	shared, err := c.(engine.Shareable).Share()
	require.NoError(t, err)
	require.NotContains(t, string(shared), f.Target.Address)
	f.Put(t, f.Namespace, 1000, "a new one")
	f.Put(t, f.Namespace, 7, "another one")

	other, ok := open(t, f).(engine.Shareable)
	require.True(t, ok)
	view, err := other.Join(shared)
	require.NoError(t, err)
	got := map[string]string{}
	for _, p := range parts {
		b, err := c.(engine.Shareable).EncodePartition(p)
		require.NoError(t, err)
		p, err := other.DecodePartition(b)
		require.NoError(t, err)
		require.NoError(t, view.Scan(ctx, ns, p, func(r record.Record) error {
			require.NotContains(t, got, string(r.Key), "a record came twice")
			got[string(r.Key)] = string(r.Value)
			return nil
		}))
	}
	if isPinned {
		require.Equal(t, want, got)
	} else {
		require.Len(t, got, 301)
	}
	// What the other has read is known here, so that the log's end is no older.
	seen, err := view.(engine.Shareable).Share()
	require.NoError(t, err)
	if _, err = c.(engine.Shareable).Join(seen); err != nil {
		t.Fatal(err)
	}
	_, err = other.Join([]byte("{"))
	require.Error(t, err)
	_, err = other.DecodePartition([]byte{1})
	require.Error(t, err)
}
