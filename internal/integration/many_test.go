package integration_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/servertest"
)

// manyConfig is what the built program needs to look at a store with many points: the cluster itself is
// never asked.
const manyConfig = `stores:
  larder: { location: %q }
clusters:
  meadow: { address: "mongodb://127.0.0.1:1/", store: larder }
policies:
  nightly:
    clusters: [meadow]
    snapshot: "15 1 * * *"
    capture: 10m
    keep: { every_moment: 7d, thin: [daily for 30d, weekly for 26w], never_fewer: 3 }
limits: { temp: %q }
`

// manyPoints makes a store with points, one a day, and the log between them in segments, ten of them a point.
func manyPoints(t *testing.T, place string, points, each int) {
	b := blob.NewDir(place)
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	defer s.Close()
	w := s.NewWriter(ctx)
	tb := tree.NewBuilder(w)
	require.NoError(t, tb.Add(ctx, record.Record{Key: []byte("k"), Value: []byte("v")}))
	root, err := tb.Finish(ctx)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	keys, err := s.SegmentKeys(ctx)
	require.NoError(t, err)
	begin := time.Now().Add(-time.Duration(points) * 24 * time.Hour).UTC().Truncate(time.Second)
	step := 24 * time.Hour / time.Duration(each)
	mark := func(n int) record.Mark {
		at := begin.Add(time.Duration(n) * step)
		return record.Mark{Wall: at, Position: record.Position(binary.BigEndian.AppendUint32(
			binary.BigEndian.AppendUint32(nil, uint32(at.Unix())), 1))}
	}
	prev := tree.Hash{}
	for p := range points {
		at := mark(p * each)
		require.NoError(t, s.PutPoint(ctx, &store.Point{ID: store.NewPointID(at.Wall), Cluster: "meadow",
			Engine: "document", Identity: "meadow", Time: at.Wall, Started: at.Wall, Finished: at.Wall, Exact: true,
			Shards: []store.PointShard{{Name: "meadow", Mark: at}},
			Namespaces: []store.PointNamespace{{Root: root,
				Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"}}}}))
		for n := range each {
			b := journal.NewBuilder(keys, "meadow", "meadow", mark(p*each+n))
			end := mark(p*each + n + 1)
			for i, of := range []string{"apiary.colonies", "apiary.harvests", "apiary.keepers"} {
				for _, op := range []record.Op{record.Put, record.Patch}[:1+i%2] {
					require.NoError(t, b.Add(&record.Change{Op: op, Namespace: of, Key: []byte("k"), Value: []byte("v"),
						At: end.Position, Wall: end.Wall.UnixMilli()}))
				}
			}
			b.CoverTo(end)
			h, data, err := b.Seal(prev, "meadow-1")
			require.NoError(t, err)
			require.NoError(t, s.PutSegment(ctx, h, data))
			prev = h.ID
		}
	}
}

// TestManyPoints: what a store with many points and segments is asked takes in proportion to how many there
// are, shown at a hundredth, a tenth and all of DEXAMEN_POINTS (with DEXAMEN_SEGMENTS to each).
func TestManyPoints(t *testing.T) {
	all, each := long(2000, 200), 10
	if s := os.Getenv("DEXAMEN_POINTS"); s != "" {
		all, _ = strconv.Atoi(s)
	}
	if s := os.Getenv("DEXAMEN_SEGMENTS"); s != "" {
		each, _ = strconv.Atoi(s)
	}
	bin := builtBinary(t)
	asked := [][]string{{"points", "meadow"}, {"coverage", "meadow"}, {"due"}, {"status"}, {"retention", "meadow"},
		{"policy", "preview", "nightly"}, {"runs"}, {"store", "inspect", "larder"}}
	sizes := []int{max(2, all/100), max(20, all/10), max(200, all)}
	for _, points := range sizes {
		dir := servertest.MemoryDir(t)
		manyPoints(t, filepath.Join(dir, "larder"), points, each)
		config := filepath.Join(dir, "dexamen.yaml")
		require.NoError(t, os.WriteFile(config,
			fmt.Appendf(nil, manyConfig, "file://"+filepath.Join(dir, "larder"), dir), 0o600))
		for _, args := range asked {
			cmd := exec.Command(bin, append([]string{"--config", config, "--quiet"}, args...)...)
			cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			began := time.Now()
			_ = cmd.Run()
			require.Contains(t, []int{0, 3, 4}, cmd.ProcessState.ExitCode(), "%v\n%s", args, out.String())
			if args[0] == "points" {
				require.GreaterOrEqual(t, bytes.Count(out.Bytes(), []byte("\n")), points)
			}
			usage, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
			t.Logf("%7d points, %8d segments: %-24s %6.2f CPU s %6.2f s %5d MiB %8d lines", points, points*each,
				strings.Join(args, " "), (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds(),
				time.Since(began).Seconds(), usage.Maxrss>>10,
				bytes.Count(out.Bytes(), []byte("\n")))
		}
	}
}
