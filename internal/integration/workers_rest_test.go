package integration_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/demo"
)

// TestWorkersShareTheRest holds that captures, restores, verifications and mirrors that workers have shared end as
// those of one process do: of a sharded cluster, to a moment that is in the log.
func TestWorkersShareTheRest(t *testing.T) {
	t.Parallel()
	const documents = 40_000
	c := newCrowd(t, 1, documents)
	for _, name := range []string{"w1", "w2"} {
		c.join(name, "  parallel: 2\n")
	}
	desk := c.config("desk", "")
	_, err := c.snapshot(desk)
	require.NoError(t, err)
	cl := connect(t, c.uri)
	require.NoError(t, (demo.Telemetry{Seed: 1, Documents: documents}).Work(ctx, cl, 7, 2000))
	did := func(what string, args ...string) string {
		began := time.Now()
		out, err := c.run(desk, args...)
		require.NoError(t, err, out)
		t.Logf("%s: %s", args[0], time.Since(began).Round(time.Millisecond))
		require.Contains(t, out, what, "%v", args)
		return out
	}
	did("3 shards captured by", "capture", "orchard")
	did("pieces read by", "verify", "orchard@latest")
	did("pieces read by", "verify", "orchard@latest", "--live", "orchard")
	restored := did("pieces written by", "restore", "orchard@latest/telemetry.readings", "--yes", "--rename",
		"telemetry.readings=again.readings")
	require.Contains(t, restored, "pieces read by")
	require.Contains(t, restored, `"verified": true`)
	// One that shares nothing sees the same.
	alone := c.config("alone", "")
	out, err := c.run(alone, "verify", "orchard@latest/telemetry.readings", "--live", "orchard", "--rename",
		"telemetry.readings=again.readings")
	require.NoError(t, err, out)
	// What differs is named, also where others have read it.
	_, err = cl.Database("again").Collection("readings").DeleteOne(ctx, map[string]any{})
	require.NoError(t, err)
	out, err = c.run(desk, "verify", "orchard@latest/telemetry.readings", "--live", "orchard", "--rename",
		"telemetry.readings=again.readings")
	require.Error(t, err)
	require.Contains(t, out, `"missing": 1`)
	// A mirror.
	for _, of := range []string{"desk", "w1", "w2", "alone"} {
		path := c.dir + "/" + of + ".yaml"
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "stores:\n",
			"stores:\n  attic: { location: \"file://"+c.dir+"/attic\", key: { file: \""+c.dir+"/larder.key\" } }\n", 1)),
			0o600))
	}
	did("copied", "store", "mirror", "larder", "attic")
	out, err = c.run(alone, "--store", "attic", "verify", "orchard@latest")
	require.NoError(t, err, out)
	require.Empty(t, c.list().Jobs)
}
