package integration_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
)

// brokenOff is a cluster whose connection breaks in the middle of what it sends whole.
type brokenOff struct {
	engine.Cluster
	gave int
}

func (b *brokenOff) ScanWhole(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	err := b.Scan(ctx, ns, p, func(r record.Record) error {
		if b.gave++; b.gave > 500 {
			return fmt.Errorf("the content broke off: %w", engine.ErrUnreachable)
		}
		return fn(r)
	})
	return err
}

// TestReadingBackGoesOn: what is read back is whole where it broke off once.
func TestReadingBackGoesOn(t *testing.T) {
	t.Parallel()
	s := redistest.Start(t)
	pipeline(t, s.Address, redisLoad(1000), 1000)
	c := open(t, "bramble", redistest.Address(s))
	spaces, err := c.Namespaces(ctx)
	require.NoError(t, err)
	require.Len(t, spaces, 1)
	e := newRunner(t)
	x, err := e.Store.NewScratch(t.TempDir())
	require.NoError(t, err)
	defer x.Close()
	broken := &brokenOff{Cluster: c}
	got, err := moment.ReadBack(ctx, e, x, broken, spaces[0], tree.Root{})
	require.NoError(t, err)
	require.Equal(t, 501, broken.gave)
	want, err := moment.ReadBack(ctx, e, x, c, spaces[0], tree.Root{})
	require.NoError(t, err)
	require.Equal(t, want, got)
	require.EqualValues(t, 1000, got.Records)
}
