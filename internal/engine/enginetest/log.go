package enginetest

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

func checkLogInOrder(t *testing.T, start Start) {
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
	require.ErrorIs(t, l.Follow(ctx, shard, from.Position,
		func([]record.Change, engine.Progress) error { return failed }), failed)
	stop, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, l.Follow(stop, shard, end.Position,
		func([]record.Change, engine.Progress) error { return nil }), context.DeadlineExceeded)
}

func checkLogLost(t *testing.T, start Start) {
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
}
