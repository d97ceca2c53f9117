package integration_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
)

// sizesOf returns a hundredth, a tenth and all of a number that an environment variable tells.
func sizesOf(name string, whole int) []int {
	if s := os.Getenv(name); s != "" {
		whole, _ = strconv.Atoi(s)
	}
	return []int{max(2, whole/100), max(20, whole/10), whole}
}

// askMany runs commands and logs what each costs.
func askMany(t *testing.T, what string, run func(args ...string) usage, asked ...[]string) {
	for _, args := range asked {
		u := run(args...)
		t.Logf("%-22s %-46s %7.2f CPU s %7.2f s %5d MiB", what, strings.Join(args, " "), u.cpu.Seconds(),
			u.wall.Seconds(), u.peak)
	}
}

// byPrefix is the built program on two clusters of keys, each prefix of them a namespace.
func byPrefix(t *testing.T, from, to string) func(args ...string) usage {
	const one = "address: %q, options: { prefix_depth: 1 }"
	return measuredClusters(t, fmt.Sprintf(one, from), fmt.Sprintf(one, to))
}

// TestManyPrefixes: what is done with many small namespaces takes in proportion to how many there are:
// DEXAMEN_PREFIXES prefixes of Redis and of etcd with two keys each; a hundredth, a tenth and all of them.
func TestManyPrefixes(t *testing.T) {
	asked := [][]string{{"snapshot", "from"}, {"points", "from"}, {"coverage", "from"}, {"status"},
		{"verify", "from@latest"}, {"verify", "from@latest", "--live", "from"},
		{"restore", "from@latest", "--to", "to", "--yes"}, {"verify", "from@latest", "--live", "to"},
		{"snapshot", "from"}}
	for _, n := range sizesOf("DEXAMEN_PREFIXES", long(10_000, 200)) {
		from, to := redistest.Start(t), redistest.Start(t)
		var b bytes.Buffer
		for i := range n {
			for _, k := range []string{"a", "b"} {
				k = fmt.Sprintf("colony%06d:%s", i, k)
				fmt.Fprintf(&b, "*3\r\n$3\r\nSET\r\n$%d\r\n%s\r\n$6\r\nweight\r\n", len(k), k)
			}
		}
		pipeline(t, from.Address, b.Bytes(), 2*n)
		run := byPrefix(t, redistest.Address(from), redistest.Address(to))
		askMany(t, fmt.Sprintf("%d Redis prefixes", n), run, asked...)
		size, err := redistest.Client(t, to).DBSize(ctx).Result()
		require.NoError(t, err)
		require.EqualValues(t, 2*n, size)
	}
	for _, n := range sizesOf("DEXAMEN_PREFIXES", long(10_000, 200)) {
		from, to := etcdtest.Start(t, etcdtest.Options{}), etcdtest.Start(t, etcdtest.Options{})
		cl := etcdtest.Client(t, from...)
		for i := 0; i < n; i += 50 {
			var ops []clientv3.Op
			for k := i; k < min(i+50, n); k++ {
				ops = append(ops, clientv3.OpPut(fmt.Sprintf("/colony%06d/a", k), "weight"),
					clientv3.OpPut(fmt.Sprintf("/colony%06d/b", k), "weight"))
			}
			_, err := cl.Txn(ctx).Then(ops...).Commit()
			require.NoError(t, err)
		}
		run := byPrefix(t, etcdtest.Address(from...), etcdtest.Address(to...))
		askMany(t, fmt.Sprintf("%d etcd prefixes", n), run, asked...)
	}
}

// TestManyClusters: a configuration of DEXAMEN_CLUSTERS clusters is read, and what is due and how everything is
// told, in proportion to how many there are.
func TestManyClusters(t *testing.T) {
	bin := builtBinary(t)
	for _, n := range sizesOf("DEXAMEN_CLUSTERS", long(1000, 100)) {
		dir := t.TempDir()
		var b strings.Builder
		fmt.Fprintf(&b, "stores:\n  larder: { location: %q }\nclusters:\n", "file://"+filepath.Join(dir, "larder"))
		for i := range n {
			fmt.Fprintf(&b, "  meadow-%04d: { address: \"mongodb://127.0.0.1:1/\", store: larder }\n", i)
		}
		b.WriteString("policies:\n  nightly: { clusters: [\"meadow-*\"], snapshot: every 1d, capture: 10m, keep: { every_moment: 7d, thin: [daily for 30d], never_fewer: 1 } }\n")
		config := filepath.Join(dir, "dexamen.yaml")
		require.NoError(t, os.WriteFile(config, []byte(b.String()), 0o600))
		run := measuredWith(t, bin, config)
		pointsOfMany(t, filepath.Join(dir, "larder"), n)
		askMany(t, fmt.Sprintf("%d clusters", n), run, []string{"config", "check"}, []string{"due"}, []string{"status"},
			[]string{"points"}, []string{"retention"}, []string{"store", "inspect", "larder"})
	}
}

// pointsOfMany makes a store with two points of each of n clusters.
func pointsOfMany(t *testing.T, place string, n int) {
	b := blob.NewDir(place)
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	defer s.Close()
	for i := range n {
		for _, day := range []int{2, 1} {
			at := time.Now().AddDate(0, 0, -day).UTC().Truncate(time.Second)
			require.NoError(t, s.PutPoint(ctx, &store.Point{ID: store.NewPointID(at),
				Cluster: fmt.Sprintf("meadow-%04d", i), Engine: "document",
				Identity: "meadow", Time: at, Started: at, Finished: at, Exact: true,
				Shards: []store.PointShard{{Name: "meadow", Mark: record.Mark{Wall: at, Position: "1"}}}}))
		}
	}
}
