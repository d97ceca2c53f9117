package enginetest

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

func checkDiscovery(t *testing.T, start Start) {
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
		require.NotEmpty(t, ch.Reason)
	}
	for _, l := range topo.Limitations {
		require.NotEmpty(t, l.What)
		require.NotEmpty(t, l.Consequence)
	}
}

func checkScanOnce(t *testing.T, start Start) {
	f := start(t)
	for i := range 300 {
		f.Put(t, f.Namespace, i*7919%1000, fmt.Sprint("colony ", i))
	}
	c := open(t, f)
	ns := find(t, c, f.Namespace)
	require.EqualValues(t, 300, ns.Records)
	require.Len(t, scan(t, c, ns), 300)
	enough := errors.New("enough")
	require.ErrorIs(t, c.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { return enough }), enough,
		"the caller's error comes back")
	m := f.Driver.Model()
	for k, v := range scan(t, c, ns) {
		require.NotEmpty(t, m.Label([]byte(v)))
		require.NotEmpty(t, m.Render([]byte(v)))
		require.NotEmpty(t, k)
	}
	require.NotEmpty(t, m.Describe(ns.Definition))
	require.Equal(t, m.Portable(ns.Definition), m.Portable(find(t, c, f.Namespace).Definition))
}

// checkRevisited reads a namespace, changes it at once, and reads what has changed.
func checkRevisited(t *testing.T, start Start) {
	f := start(t)
	for i := range 5 {
		f.Put(t, f.Namespace, i, "before")
	}
	c := open(t, f)
	rv, ok := c.(engine.Revisited)
	if !ok {
		return // it is read whole each time, or by its log
	}
	got := map[string]string{}
	var notes []record.Record
	visit := func(before func() (record.Record, bool, error)) {
		notes = nil
		require.NoError(t, rv.Revisit(ctx, find(t, c, f.Namespace), before, engine.Visit{
			Replace: func(prefix []byte) error {
				maps.DeleteFunc(got, func(k, _ string) bool { return strings.HasPrefix(k, string(prefix)) })
				return nil
			},
			Put: func(r record.Record) error {
				got[string(r.Key)] = string(r.Value)
				return nil
			},
			Note: func(n record.Record) error {
				notes = append(notes, record.Record{Key: bytes.Clone(n.Key), Value: bytes.Clone(n.Value)})
				return nil
			},
			Skip:   func(name, reason string) { t.Errorf("%s: %s", name, reason) },
			Caveat: func(string) {}, Say: func(string) {},
		}))
	}
	visit(nil)
	require.Equal(t, scan(t, c, find(t, c, f.Namespace)), got)
	require.NotEmpty(t, got)
	for round := range 3 {
		f.Remove(t, f.Namespace, round)
		f.Put(t, f.Namespace, 4, fmt.Sprint("after", round)) // as long as before
		last, at := notes, 0
		visit(func() (record.Record, bool, error) {
			if at == len(last) {
				return record.Record{}, false, nil
			}
			at++
			return last[at-1], true, nil
		})
		require.Equal(t, scan(t, c, find(t, c, f.Namespace)), got)
	}
}

func checkMadeAnew(t *testing.T, start Start) {
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
}

func checkWrongLogin(t *testing.T, start Start) {
	f := start(t)
	if f.WrongLogin == nil {
		return // declared: the server lets everyone in
	}
	_, err := f.Driver.Open(ctx, *f.WrongLogin)
	require.ErrorIs(t, err, engine.ErrLogin)
	require.NotContains(t, err.Error(), f.WrongLogin.Secret)
}

func checkConcurrent(t *testing.T, start Start) {
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
}
