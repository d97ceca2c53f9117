package enginetest

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

func checkStaged(t *testing.T, start Start) {
	f := start(t)
	for i := range 50 {
		f.Put(t, f.Namespace, i, "content")
	}
	cluster := open(t, f)
	c := engine.ApplicationView(cluster) // as applications see it
	ns := find(t, c, f.Namespace)
	want := scan(t, c, ns)
	wr, err := cluster.Writer(ctx)
	require.NoError(t, err)
	w, ok := wr.(engine.StagingWriter)
	if !ok {
		require.True(t, f.InPlace, "declared")
		return
	}
	target := ns.Namespace
	target.Name = f.Other
	claims, err := w.Reserve(ctx, []string{f.Other})
	require.NoError(t, err)
	rival, err := cluster.Writer(ctx)
	require.NoError(t, err)
	_, err = rival.Reserve(ctx, []string{f.Other})
	require.ErrorIs(t, err, engine.ErrClaimed)
	stage := func() record.Namespace {
		st, err := w.Stage(ctx, target)
		require.NoError(t, err)
		var recs []record.Record
		for k, v := range want {
			recs = append(recs, record.Record{Key: []byte(k), Value: []byte(v)})
		}
		require.NoError(t, w.Write(ctx, st.Name, recs[:20]))
		require.NoError(t, w.Write(ctx, st.Name, recs[20:]))
		return st
	}
	st := stage()
	require.Equal(t, want, scan(t, c, engine.Namespace{Namespace: st}), "what was written is read back at once")
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	for _, n := range list {
		require.NotEqual(t, f.Other, n.Name, "not in view yet")
	}
	require.NoError(t, w.Index(ctx, st.Name, target))
	look, err := w.CurrentNamespace(ctx, st.Name)
	require.NoError(t, err)
	m := f.Driver.Model()
	require.Equal(t, m.Describe(target.Definition), m.Describe(look.Definition))
	require.NoError(t, w.Publish(ctx, st.Name, f.Other, false))
	require.Equal(t, want, scan(t, c, find(t, c, f.Other)))
	if w.Trusted(ctx) {
		look, err = w.CurrentNamespace(ctx, f.Other)
		require.NoError(t, err)
		require.Equal(t, st.Ident, look.Ident)
	}
	count, err := w.Count(ctx, f.Other)
	require.NoError(t, err)
	require.EqualValues(t, len(want), count)

	second := stage()
	require.Error(t, w.Publish(ctx, second.Name, f.Other, false), "a name that is taken is not replaced unasked")
	require.Equal(t, want, scan(t, c, find(t, c, f.Other)))
	left, err := w.Stages(ctx)
	require.NoError(t, err)
	require.Empty(t, left, "a stage of a restore that goes on is left alone")
	require.NoError(t, claims.Check())
	require.NoError(t, claims.Release(ctx, true))
	left, err = rival.Stages(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{second.Name}, left)
	claims, err = w.Reserve(ctx, []string{f.Other})
	require.NoError(t, err)
	require.Equal(t, []string{f.Other}, claims.TakenOver())
	f.Remove(t, f.Other, 7)
	require.NoError(t, w.Publish(ctx, second.Name, f.Other, true))
	require.Equal(t, want, scan(t, c, find(t, c, f.Other)))

	third := stage()
	require.NoError(t, w.Discard(ctx, third.Name))
	require.Error(t, w.Discard(ctx, f.Other), "what is no stage is left alone")
	require.NoError(t, claims.Release(ctx, true))
	left, err = w.Stages(ctx)
	require.NoError(t, err)
	require.Empty(t, left)
	_, err = w.CurrentNamespace(ctx, third.Name)
	require.Error(t, err)
	list, err = cluster.Namespaces(ctx)
	require.NoError(t, err)
	for _, n := range list {
		require.NotContains(t, n.Name, "dexamen", "what is Dexamen's own is no content")
	}
}
