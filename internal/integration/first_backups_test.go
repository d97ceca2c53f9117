package integration_test

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/capture"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/demo"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// TestFirstBackups into new encrypted folders, whose content files fill up when
// scans end, and the captures after them: none fails. DEXAMEN_BACKUPS says how
// many; testbed/starve.sh runs it on a machine that has little left for it.
func TestFirstBackups(t *testing.T) {
	n := 3
	if s := os.Getenv("DEXAMEN_BACKUPS"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	rs := startSim(t, docsim.Options{Members: 1, NoopEvery: fastNoops})
	cl := connect(t, rs.URI())
	require.NoError(t, demo.Apiary{Seed: 2, Documents: 6000}.Fill(ctx, cl))
	src := open(t, "meadow", rs.URI())
	secret, _, err := store.NewSecret()
	require.NoError(t, err)
	h, err := store.HolderOf(secret, "annelie", store.Read)
	require.NoError(t, err)
	ids, err := store.ParseSecret(secret)
	require.NoError(t, err)
	for i := range n {
		dir := filepath.Join(t.TempDir(), "larder")
		b := blob.NewDir(dir)
		_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Holders: []store.Holder{h}})
		require.NoError(t, err)
		s, err := store.Open(ctx, b, store.Options{Unlock: ids, FileBytes: 128 << 10, WriteBytes: 500 << 10})
		require.NoError(t, err)
		e := &run.Runner{Store: s, Tool: "test", Temp: t.TempDir(), Memory: 4 << 20}
		p, err := snapshot.Take(ctx, e, "meadow", src)
		require.NoError(t, err, "backup %d", i)
		_, err = cl.Database("apiary").Collection("visits").InsertOne(ctx, bson.M{"i": i})
		require.NoError(t, err)
		note(t, cl)
		_, err = capture.Run(ctx, e, "meadow", src, capture.Options{})
		require.NoError(t, err, "capture %d", i)
		require.NoError(t, s.CheckPoint(ctx, p, func(string, int64, int64) {}))
		s.Close()
		require.NoError(t, os.RemoveAll(dir))
	}
}
