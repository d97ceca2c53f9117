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
	if len(parts) > 2 { // neighbours can be read as one
		parts = append([]engine.Partition{parts[0].Through(parts[1])}, parts[2:]...)
	}
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

// checkSharedWriter holds that writers of several processes write one namespace for a restore, some of it twice, and
// that none writes once the restore has ended.
func checkSharedWriter(t *testing.T, start Start) {
	f := start(t)
	for i := range 300 {
		f.Put(t, f.Namespace, i, fmt.Sprint("colony ", i))
	}
	cluster := open(t, f)
	c := engine.ApplicationView(cluster)
	ns := find(t, c, f.Namespace)
	want := scan(t, c, ns)
	w, err := c.Writer(ctx)
	require.NoError(t, err)
	s, ok := w.(engine.SharedWriter)
	if !ok {
		return
	}
	target := ns.Namespace
	target.Name, target.Ident = f.Other, nil
	claims, err := w.Reserve(ctx, []string{f.Other})
	require.NoError(t, err)
	at := target
	staging, isStaging := w.(engine.StagingWriter)
	if isStaging {
		at, err = staging.Stage(ctx, target)
	} else {
		err = w.(engine.InPlaceWriter).Begin(ctx, target, func(string, func(record.Record) error) error { return nil })
	}
	require.NoError(t, err)
	ticket, err := s.ShareWrites(ctx, at)
	require.NoError(t, err)
	require.NotNil(t, ticket)
	var recs []record.Record
	for k, v := range want {
		recs = append(recs, record.Record{Key: []byte(k), Value: []byte(v)})
	}
	var others []engine.SharedWriter
	for _, part := range [][]record.Record{recs[:200], recs[100:], recs[:200]} { // some of it more than once
		ow, err := engine.ApplicationView(open(t, f)).Writer(ctx)
		require.NoError(t, err)
		others = append(others, ow.(engine.SharedWriter))
		require.NoError(t, others[len(others)-1].WriteShared(ctx, ticket, at, part))
	}
	require.Equal(t, want, scan(t, c, engine.Namespace{Namespace: at}), "each is there once")
	elsewhere := record.Namespace{Name: f.Other, Ident: []byte{1}}
	require.Error(t, others[0].WriteShared(ctx, []byte("{}"), elsewhere, recs[:1]))
	if isStaging {
		require.NoError(t, staging.Publish(ctx, at.Name, f.Other, false))
	} else {
		require.NoError(t, w.(engine.InPlaceWriter).End(ctx, target))
	}
	require.NoError(t, claims.End(ctx, f.Other))
	require.NoError(t, claims.Release(ctx, true))
	// One that was cut off, and does not know.
	err = others[0].WriteShared(ctx, ticket, at, []record.Record{recs[0]})
	require.ErrorIs(t, err, engine.ErrClaimLost)
	require.Equal(t, want, scan(t, c, find(t, c, f.Other)))
	now, err := c.Namespaces(ctx)
	require.NoError(t, err)
	for _, n := range now {
		require.True(t, n.Name == f.Other || !isStaging || n.Name != at.Name, "a stage was made anew: %s", n.Name)
	}
}
