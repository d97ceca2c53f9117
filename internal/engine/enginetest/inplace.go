package enginetest

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

func checkInPlace(t *testing.T, start Start) {
	f := start(t)
	for i := range 50 {
		f.Put(t, f.Namespace, i, "content")
	}
	cluster := open(t, f)
	c := engine.ApplicationView(cluster)
	ns := find(t, c, f.Namespace)
	want := scan(t, c, ns)
	wr, err := cluster.Writer(ctx)
	require.NoError(t, err)
	w, ok := wr.(engine.InPlaceWriter)
	require.Equal(t, f.InPlace, ok, "declared")
	if !ok {
		return
	}
	none := func(string, func(record.Record) error) error { return nil }
	target := ns.Namespace
	target.Name = f.Other
	n, err := w.Occupied(ctx, target)
	require.NoError(t, err)
	require.Zero(t, n)
	claims, err := w.Reserve(ctx, []string{f.Other})
	require.NoError(t, err)
	rival, err := cluster.Writer(ctx)
	require.NoError(t, err)
	_, err = rival.Reserve(ctx, []string{f.Other})
	require.ErrorIs(t, err, engine.ErrClaimed)
	require.NoError(t, w.Begin(ctx, target, none))
	var recs []record.Record
	var keys [][]byte
	for k, v := range want {
		recs = append(recs, record.Record{Key: []byte(k), Value: []byte(v)})
		keys = append(keys, []byte(k))
	}
	require.NoError(t, w.Put(ctx, target, recs[:20]))
	require.NoError(t, claims.Release(ctx, true))
	left, err := w.Stages(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{f.Other}, left, "it is not all there yet")
	claims, err = w.Reserve(ctx, []string{f.Other})
	require.NoError(t, err)
	require.Equal(t, []string{f.Other}, claims.TakenOver())
	require.NoError(t, w.Put(ctx, target, recs[10:]), "what is there is written again")
	require.NoError(t, w.End(ctx, target))
	require.NoError(t, claims.End(ctx, f.Other))
	require.NoError(t, claims.Release(ctx, true))
	left, err = w.Stages(ctx)
	require.NoError(t, err)
	require.Empty(t, left)
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	require.Equal(t, len(want), int(find(t, c, f.Other).Records))
	for _, n := range list {
		require.NotContains(t, n.Name, "restoring", "marks are no content")
	}
	require.Equal(t, want, scan(t, c, find(t, c, f.Other)))
	n, err = w.Occupied(ctx, target)
	require.NoError(t, err)
	require.EqualValues(t, len(want), n)
	require.NoError(t, w.Remove(ctx, target, keys[:30]))
	require.Len(t, scan(t, c, find(t, c, f.Other)), 20)
	require.Equal(t, want, scan(t, c, find(t, c, f.Namespace)), "nothing else was touched")
	require.Error(t, f.Driver.Model().CheckName(""))
	require.NoError(t, f.Driver.Model().CheckName(f.Other))
}
