package integration_test

import (
	"testing"

	"dexamen/internal/core/address"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/snapshot"

	"github.com/stretchr/testify/require"
)

// BenchmarkRedis snapshots and restores 100,000 keys of all types, for profiles.
func BenchmarkRedis(b *testing.B) {
	const n = 100_000
	from, to := redistest.Start(b), redistest.Start(b)
	pipeline(b, from.Address, redisLoad(n), n)
	e := newRunner(b)
	e.Memory = 256 << 20
	b.Run("snapshot", func(b *testing.B) {
		for b.Loop() {
			_, err := snapshot.Take(ctx, e, "bramble", open(b, "bramble", redistest.Address(from)))
			require.NoError(b, err)
		}
	})
	m, err := moment.Resolve(ctx, e, "bramble", address.When{Kind: address.Latest}, restore.OnScratch{})
	require.NoError(b, err)
	b.Run("restore", func(b *testing.B) {
		for b.Loop() {
			p, err := restore.NewPlan(ctx, e, m, open(b, "hedge", redistest.Address(to)),
				restore.Options{Conflict: restore.Replace})
			require.NoError(b, err)
			_, err = p.Run(ctx)
			require.NoError(b, err)
			p.Close()
			b.StopTimer()
			require.NoError(b, redistest.Client(b, to).FlushAll(ctx).Err())
			b.StartTimer()
		}
	})
}
