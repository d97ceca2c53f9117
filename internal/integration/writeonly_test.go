package integration_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/demo"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// TestAKeyThatCanOnlyWrite protects a cluster with a key that cannot read what
// is in the store, and proves with another that it is all right; what did not
// change is not stored again.
func TestAKeyThatCanOnlyWrite(t *testing.T) {
	rs := startSim(t, docsim.Options{NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	data := demo.Apiary{Seed: 9, Documents: 8_000}
	require.NoError(t, data.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())

	b := blob.NewMemory()
	secrets := map[store.Access]string{}
	var holders []store.Holder
	for _, a := range []store.Access{store.Read, store.Write} {
		secret, _, err := store.NewSecret()
		require.NoError(t, err)
		h, err := store.HolderOf(secret, string(a), a)
		require.NoError(t, err)
		holders, secrets[a] = append(holders, h), secret
	}
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Holders: holders})
	require.NoError(t, err)
	env := func(a store.Access) *run.Runner {
		ids, err := store.ParseSecret(secrets[a])
		require.NoError(t, err)
		s, err := store.Open(ctx, b, store.Options{Unlock: ids, Temp: t.TempDir(), FileBytes: 1 << 20})
		require.NoError(t, err)
		t.Cleanup(s.Close)
		return &run.Runner{Store: s, Temp: t.TempDir()}
	}
	var points []*store.Point
	for range 3 {
		e := env(store.Write) // a process of its own each time
		require.True(t, e.Store.WriteOnly())
		busy := make(chan error, 1)
		go func() { busy <- data.Work(ctx, cl, uint64(len(points)+5), 200) }()
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err)
		require.NoError(t, <-busy)
		points = append(points, p)
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err)
		e.Store.Close()
	}
	require.Less(t, points[2].Stats.New, points[0].Stats.New, "what is there is not stored again")
	require.Positive(t, points[2].Stats.Known)

	e := env(store.Write)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	_, err = verify.Live(ctx, e, m, src, "", nil, 3)
	require.ErrorIs(t, err, store.ErrWriteOnly)
	_, err = verify.Point(ctx, e, points[0])
	require.ErrorIs(t, err, store.ErrWriteOnly)
	_, err = e.Store.Scrub(ctx, store.ScrubOptions{})
	require.ErrorIs(t, err, store.ErrWriteOnly)
	h, err := store.HolderOf(secrets[store.Write], "more", store.Read)
	require.NoError(t, err)
	_, err = e.Store.AddHolder(ctx, h)
	require.ErrorIs(t, err, store.ErrWriteOnly)

	e = env(store.Read)
	for _, p := range points[1:] {
		proof, err := verify.Point(ctx, e, p)
		require.NoError(t, err)
		require.True(t, proof.Equal)
	}
	m, err = moment.Resolve(ctx, e, "meadow", address.When{}, restore.OnScratch{})
	require.NoError(t, err)
	diffs, err := verify.Live(ctx, e, m, src, "", nil, 3)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diffs))
	a, err := e.Store.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	require.True(t, a.Sound())
}
