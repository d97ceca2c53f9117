package integration_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/sim/docsim"
)

// victim is a cluster to which something is done that is undone by the runbook.
type victim struct {
	cluster string // as configured, but for its name
	fill    func(t *testing.T)
	mishap  func(t *testing.T)
	lost    string // the namespace
}

func victims(t *testing.T) map[string]func(t *testing.T) victim {
	return map[string]func(t *testing.T) victim{
		"etcd prefix": func(t *testing.T) victim {
			s := etcdtest.Start(t, etcdtest.Options{})
			cl := etcdtest.Client(t, s...)
			return victim{cluster: fmt.Sprintf("{ address: %q }", etcdtest.Address(s...)), lost: "/hives/",
				fill: func(t *testing.T) {
					for i := range 2000 {
						_, err := cl.Put(ctx, fmt.Sprintf("/hives/%04d", i), strings.Repeat("full ", 20))
						require.NoError(t, err)
					}
				},
				mishap: func(t *testing.T) {
					for i := range 2000 { // as a script does, not one deletion of the prefix
						_, err := cl.Delete(ctx, fmt.Sprintf("/hives/%04d", i))
						require.NoError(t, err)
					}
				}}
		},
		"flushed Redis": func(t *testing.T) victim {
			p, scratch := redistest.Start(t), redistest.Start(t)
			cl := redistest.Client(t, p)
			return victim{cluster: fmt.Sprintf("{ address: \"redis://%s\", scratch: paddock }\n  paddock: { address: "+
				"\"redis://%s\" }", p.Address, scratch.Address), lost: "db0",
				fill: func(t *testing.T) {
					_, err := cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
						for i := range 5000 {
							p.HSet(ctx, fmt.Sprint("hive:", i), "weight", i, "state", "thriving")
						}
						return nil
					})
					require.NoError(t, err)
				},
				mishap: func(t *testing.T) { require.NoError(t, cl.FlushAll(ctx).Err()) }}
		},
		"dropped collection": func(t *testing.T) victim {
			rs, err := docsim.Start(docsim.Options{})
			require.NoError(t, err)
			t.Cleanup(rs.Close)
			cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()))
			require.NoError(t, err)
			t.Cleanup(func() { _ = cl.Disconnect(ctx) })
			col, round := cl.Database("apiary").Collection("harvests"), 0
			return victim{cluster: fmt.Sprintf("{ address: %q }", rs.URI()), lost: "apiary.harvests",
				fill: func(t *testing.T) {
					round++
					for i := range 20 {
						var docs []any
						for j := range 500 {
							docs = append(docs, bson.D{{Key: "_id", Value: round*10_000 + i*500 + j},
								{Key: "honey", Value: "heather"}})
						}
						_, err := col.InsertMany(ctx, docs)
						require.NoError(t, err)
					}
				},
				mishap: func(t *testing.T) { require.NoError(t, col.Drop(ctx)) }}
		},
	}
}

// TestRunbook goes from "oh no" to proven by what docs/how-to/restore.md says to type, and says how long the
// program took.
func TestRunbook(t *testing.T) {
	t.Parallel()
	for name, start := range victims(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			v := start(t)
			dir := t.TempDir()
			file := filepath.Join(dir, "dexamen.yaml")
			require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } }\n"+
				"clusters:\n  meadow: %s\n", "file://"+filepath.Join(dir, "larder"), filepath.Join(dir, "key"),
				v.cluster),
				0o600))
			tool := func(args ...string) []byte {
				t.Helper()
				c := exec.Command(builtBinary(t), append([]string{"--config", file, "--json", "--quiet"}, args...)...)
				var out, errs bytes.Buffer
				c.Stdout, c.Stderr = &out, &errs
				require.NoError(t, c.Run(), "%v: %s%s", args, out.String(), errs.String())
				return out.Bytes()
			}
			tool("store", "create", "larder")
			v.fill(t)
			tool("snapshot", "meadow")
			v.fill(t)
			tool("capture", "meadow")
			v.mishap(t)

			ohNo := time.Now()
			tool("capture", "meadow")
			var p struct {
				Findings []struct{ Kind, Namespace, Before string }
			}
			require.NoError(t, json.Unmarshal(tool("pinpoint", "meadow"), &p))
			before := ""
			for _, f := range p.Findings {
				if f.Before != "" && (f.Namespace == v.lost || strings.HasPrefix(f.Namespace, v.lost)) {
					before = f.Before
				}
			}
			require.NotEmpty(t, before, "%+v", p.Findings)
			found := time.Since(ohNo)
			at, _, _ := strings.Cut(before, "/")
			tool("restore", at+"/"+v.lost, "--conflict", "replace", "--yes")
			restored := time.Since(ohNo)
			tool("compare", at+"/"+v.lost, "meadow@live/"+v.lost)
			t.Logf("%-20s found after %.1f s, restored after %.1f s, proven after %.1f s", name, found.Seconds(),
				restored.Seconds(), time.Since(ohNo).Seconds())
		})
	}
}
