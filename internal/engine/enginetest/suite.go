// Package enginetest is the conformance suite of package engine: every adapter
// runs it, on every server it has. What a server cannot do is declared by its
// Fixture and then checked to be refused clearly.
package enginetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Fixture is a running cluster and a way to change it that does not go through
// the adapter.
type Fixture struct {
	Target engine.Target
	Driver engine.Driver
	// Namespace is an empty one that the suite may fill; Other is a name that
	// is free.
	Namespace, Other string
	// Put writes a record of this number, Remove takes it away.
	Put    func(t testing.TB, namespace string, number int, text string)
	Remove func(t testing.TB, namespace string, number int)
	// Drop removes a namespace.
	Drop func(t testing.TB, namespace string)
	// Shard is the one that holds Namespace, in clusters of several.
	Shard string
	// Log says that the cluster keeps one; Hides, that drops are not in it.
	Log, Hides bool
	// Forget makes the log lose its beginning; nil where that cannot be done.
	Forget func(t testing.TB)
	// Undated: the servers keep no times, so that changes are dated when they are
	// read.
	Undated bool
	// Exact: it is read as of one position of its log.
	Exact bool
	// InPlace: content is changed in place and comes into view little by little.
	InPlace bool
	// WrongLogin gives a target that must be refused; nil without logins.
	WrongLogin *engine.Target
}

// shard returns the shard whose log tells of the fixture's namespace.
func (f *Fixture) shard(topo *engine.Topology) string {
	if f.Shard != "" {
		return f.Shard
	}
	return topo.Shards[0].Name
}

// Run checks an adapter; start gives a fresh cluster each time.
func Run(t *testing.T, start func(t *testing.T) *Fixture) {
	ctx := context.Background()
	open := func(t *testing.T, f *Fixture) engine.Cluster {
		c, err := f.Driver.Open(ctx, f.Target)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	find := func(t *testing.T, c engine.Cluster, name string) engine.Namespace {
		list, err := c.Namespaces(ctx)
		require.NoError(t, err)
		for _, ns := range list {
			if ns.Name == name {
				return ns
			}
		}
		t.Fatalf("%s is not listed", name)
		return engine.Namespace{}
	}
	scan := func(t *testing.T, c engine.Cluster, ns engine.Namespace) map[string]string {
		parts, err := c.Partitions(ctx, ns, 3)
		require.NoError(t, err)
		require.NotEmpty(t, parts)
		got := map[string]string{}
		for _, p := range parts {
			require.NoError(t, c.Scan(ctx, ns, p, func(r record.Record) error {
				require.NotContains(t, got, string(r.Key), "a record came twice")
				got[string(r.Key)] = string(r.Value)
				return nil
			}))
		}
		return got
	}

	t.Run("discovery tells what is there", func(t *testing.T) {
		f := start(t)
		c := open(t, f)
		topo, err := c.Topology(ctx)
		require.NoError(t, err)
		require.NotEmpty(t, topo.Identity)
		require.NotEmpty(t, topo.Version)
		require.NotEmpty(t, topo.Shards)
		require.Equal(t, f.Hides, topo.HidesDrops)
		require.Equal(t, f.Exact, topo.Exact)
		for _, s := range topo.Shards {
			require.NotEmpty(t, s.Members)
			require.Equal(t, f.Log, s.Log != nil)
			ch, err := c.Choose(ctx, s.Name)
			require.NoError(t, err)
			require.NotEmpty(t, ch.Member.Address)
			require.NotEmpty(t, ch.Why)
		}
		for _, l := range topo.Limitations {
			require.NotEmpty(t, l.What)
			require.NotEmpty(t, l.Consequence)
		}
	})

	t.Run("a scan gives every record once", func(t *testing.T) {
		f := start(t)
		for i := range 300 {
			f.Put(t, f.Namespace, i*7919%1000, fmt.Sprint("colony ", i))
		}
		c := open(t, f)
		ns := find(t, c, f.Namespace)
		require.EqualValues(t, 300, ns.Records)
		require.Len(t, scan(t, c, ns), 300)
		enough := errors.New("enough")
		require.ErrorIs(t, c.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { return enough }), enough, "the caller's error comes back")
		m := f.Driver.Model()
		for k, v := range scan(t, c, ns) {
			require.NotEmpty(t, m.Label([]byte(v)))
			require.NotEmpty(t, m.Render([]byte(v)))
			require.NotEmpty(t, k)
		}
		require.NotEmpty(t, m.Describe(ns.Definition))
		require.Equal(t, m.Portable(ns.Definition), m.Portable(find(t, c, f.Namespace).Definition))
	})

	t.Run("the log tells what happened, in order, and can be taken up anywhere", func(t *testing.T) {
		f := start(t)
		f.Put(t, f.Namespace, 0, "before")
		c := open(t, f)
		l, ok := c.(engine.Logged)
		topo, err := c.Topology(ctx)
		require.NoError(t, err)
		shard := f.shard(topo)
		if !f.Log {
			if ok {
				_, err := l.LogEnd(ctx, shard)
				require.ErrorIs(t, err, engine.ErrNoLog)
				require.ErrorIs(t, l.Follow(ctx, shard, "", nil), engine.ErrNoLog)
			}
			return
		}
		from, err := l.LogEnd(ctx, shard)
		require.NoError(t, err)
		for i := range 40 {
			f.Put(t, f.Namespace, i, "then")
		}
		for i := range 10 {
			f.Remove(t, f.Namespace, i)
		}
		end, err := l.LogEnd(ctx, shard)
		require.NoError(t, err)
		require.Greater(t, end.Position, from.Position)
		follow := func(after record.Position) (out []record.Change) {
			require.NoError(t, l.Follow(ctx, shard, after, func(chs []record.Change, p engine.Progress) error {
				for _, ch := range chs {
					require.Greater(t, ch.At, after)
					require.LessOrEqual(t, ch.At, p.Mark.Position)
					if n := len(out); n > 0 {
						require.GreaterOrEqual(t, ch.At, out[n-1].At)
					}
					out = append(out, ch)
				}
				if p.Mark.Position >= end.Position {
					return engine.ErrStopFollowing
				}
				return nil
			}))
			return out
		}
		all := follow(from.Position)
		require.Len(t, all, 50)
		for i, ch := range all {
			require.Equal(t, f.Namespace, ch.Namespace)
			require.NotEmpty(t, ch.Key)
			if f.Driver.Model().Traits().Commands {
				require.Equal(t, record.Command, ch.Op)
			} else {
				require.Equal(t, i >= 40, ch.Op == record.Delete)
			}
			require.WithinDuration(t, time.Now(), ch.Time(), time.Minute)
		}
		again := follow(all[19].At)
		if f.Undated {
			for _, list := range [][]record.Change{all, again} {
				for i := range list {
					list[i].Wall = 0
				}
			}
		}
		require.Equal(t, all[20:], again)
		require.NotEmpty(t, l.LogMember(shard))
		m := f.Driver.Model()
		back, err := m.ParsePosition(m.FormatPosition(all[3].At))
		require.NoError(t, err)
		require.Equal(t, all[3].At, back)
		_, err = m.ParsePosition("nowhere")
		require.Error(t, err)
		failed := errors.New("failed")
		require.ErrorIs(t, l.Follow(ctx, shard, from.Position, func([]record.Change, engine.Progress) error { return failed }), failed)
		stop, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
		defer cancel()
		require.ErrorIs(t, l.Follow(stop, shard, end.Position, func([]record.Change, engine.Progress) error { return nil }), context.DeadlineExceeded)
	})

	t.Run("a log that lost its beginning is said so", func(t *testing.T) {
		f := start(t)
		if f.Forget == nil {
			return // declared: it cannot be made to happen on this server
		}
		c := open(t, f)
		l := c.(engine.Logged)
		topo, err := c.Topology(ctx)
		require.NoError(t, err)
		from, err := l.LogEnd(ctx, f.shard(topo))
		require.NoError(t, err)
		f.Forget(t)
		err = l.Follow(ctx, f.shard(topo), from.Position, func([]record.Change, engine.Progress) error { return nil })
		require.ErrorIs(t, err, engine.ErrLogLost)
	})

	t.Run("a namespace dropped and made again is not taken for the same", func(t *testing.T) {
		f := start(t)
		f.Put(t, f.Namespace, 1, "first")
		c := open(t, f)
		ns := find(t, c, f.Namespace)
		if len(ns.Ident) == 0 {
			return // declared by the server: it has no identities
		}
		f.Drop(t, f.Namespace)
		f.Put(t, f.Namespace, 1, "second")
		require.False(t, bytes.Equal(ns.Ident, find(t, c, f.Namespace).Ident))
		err := c.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { return nil })
		require.ErrorIs(t, err, engine.ErrMoved)
	})

	t.Run("what is written comes into view whole, in one step", func(t *testing.T) {
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
	})

	t.Run("what is written in place is marked until it is all there", func(t *testing.T) {
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
	})

	t.Run("a wrong login is refused, and shows no secret", func(t *testing.T) {
		f := start(t)
		if f.WrongLogin == nil {
			return // declared: the server lets everyone in
		}
		_, err := f.Driver.Open(ctx, *f.WrongLogin)
		require.ErrorIs(t, err, engine.ErrLogin)
		require.NotContains(t, err.Error(), f.WrongLogin.Secret)
	})

	t.Run("calls at the same time do not disturb each other", func(t *testing.T) {
		f := start(t)
		for i := range 100 {
			f.Put(t, f.Namespace, i, "content")
		}
		c := open(t, f)
		ns := find(t, c, f.Namespace)
		var failed atomic.Value
		done := make(chan bool)
		for range 6 {
			go func() {
				defer func() { done <- true }()
				n := 0
				err := c.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { n++; return nil })
				if _, terr := c.Topology(ctx); err != nil || terr != nil || n != 100 {
					failed.Store(fmt.Sprint(n, err, terr))
				}
			}()
		}
		for range 6 {
			<-done
		}
		require.Nil(t, failed.Load())
	})
}
