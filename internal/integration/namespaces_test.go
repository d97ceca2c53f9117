package integration_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/sim/docsim"
)

// TestManyNamespaces takes, captures, lists, looks at and restores clusters of ever more collections
// of one document each, and prints the curve (DEXAMEN_NAMESPACES=1000,5000,20000): what each costs
// does not grow with how many others there are.
func TestManyNamespaces(t *testing.T) {
	sizes := []int{200, 800}
	if text := os.Getenv("DEXAMEN_NAMESPACES"); text != "" {
		sizes = nil
		for s := range strings.SplitSeq(text, ",") {
			n, err := strconv.Atoi(s)
			require.NoError(t, err)
			sizes = append(sizes, n)
		}
	}
	for _, n := range sizes {
		rs := startSim(t, docsim.Options{NoopEvery: fastNoops, LogBytes: 1 << 30})
		to := startSim(t, docsim.Options{Name: "orchard", NoopEvery: fastNoops, LogBytes: 1 << 30})
		cl := connect(t, rs.URI())
		g := errgroup.Group{}
		g.SetLimit(16)
		name := func(i int) string { return fmt.Sprintf("n%d.c%05d", i%7, i) }
		write := func(i int, v any) error {
			db, coll, _ := strings.Cut(name(i), ".")
			_, err := cl.Database(db).Collection(coll).InsertOne(ctx, bson.D{{Key: "v", Value: v}})
			return err
		}
		for i := range n {
			g.Go(func() error { return write(i, i) })
		}
		require.NoError(t, g.Wait())
		dir := t.TempDir()
		config := filepath.Join(dir, "dexamen.yaml")
		require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `stores: { larder: { location: "file://%s/store", key: { file: %q } } }
clusters: { meadow: { address: %q }, orchard: { address: %q } }
`, dir, filepath.Join(dir, "key"), rs.URI(), to.URI()), 0o600))
		row := fmt.Sprintf("%6d collections:", n)
		run := func(what string, args ...string) string {
			u := costs(t, builtBinary(t), append([]string{"--config", config, "--quiet"}, args...)...)
			row += fmt.Sprintf("  %s %.1f s (%.1f CPU)", what, u.wall.Seconds(), u.cpu.Seconds())
			return u.out
		}
		run("create", "store", "create", "larder")
		run("snapshot", "snapshot", "meadow")
		for i := range n {
			g.Go(func() error { return write(i, "more") })
		}
		require.NoError(t, g.Wait())
		run("capture", "capture", "meadow")
		run("points", "points", "meadow")
		out := run("browse", "browse", "meadow@latest")
		require.Contains(t, out, name(n-1))
		run("restore", "restore", "meadow@latest", "--to", "orchard", "--yes")
		run("verify", "verify", "meadow@latest", "--live", "orchard")
		t.Log(row)
	}
}
