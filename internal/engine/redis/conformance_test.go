package redis

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/redis/redistest"
)

// fixture changes keys through a plain client. Each namespace is the keys with a
// beginning of their own.
func fixture(address string, cl goredis.UniversalClient) *enginetest.Fixture {
	ctx := context.Background()
	depth := 1
	key := func(ns string, n int) string { return fmt.Sprintf("%s%d", strings.TrimPrefix(ns, "db0/"), n) }
	return &enginetest.Fixture{
		Target: engine.Target{Name: "bramble", Address: address,
			Options: map[string]any{"prefix_depth": depth}}, Driver: Driver{}, Namespace: "db0/stalls:",
		Other: "db0/stalls_restored:",
		Log:   true, Exact: true, Undated: true, InPlace: true,
		Put: func(t testing.TB, ns string, n int, text string) {
			var err error
			switch n % 3 {
			case 0:
				err = cl.Set(ctx, key(ns, n), text, 0).Err()
			case 1:
				err = cl.HSet(ctx, key(ns, n), "text", text, "n", n).Err()
			default:
				err = cl.RPush(ctx, key(ns, n), text, n).Err()
			}
			require.NoError(t, err)
		},
		Remove: func(t testing.TB, ns string, n int) { require.NoError(t, cl.Del(ctx, key(ns, n)).Err()) },
		Drop:   func(t testing.TB, ns string) {},
	}
}

func TestConformanceOfALoneServer(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		s := redistest.Start(t, "--requirepass", "made up", "--repl-backlog-size", "64kb")
		cl := goredis.NewClient(&goredis.Options{Addr: s.Address, Password: "made up"})
		t.Cleanup(func() { _ = cl.Close() })
		f := fixture(redistest.Address(s), cl)
		f.Target.Secret = "made up"
		wrong := f.Target
		wrong.Secret = "mistyped"
		f.WrongLogin = &wrong
		keepBacklog(t, f)
		f.Forget = func(t testing.TB) {
			for range 200 {
				require.NoError(t, cl.Set(context.Background(), "other:key", strings.Repeat("calm ", 200), 0).Err())
			}
		}
		return f
	})
}

// keepBacklog has the server keep its stream, as it does once any replica has
// been there.
func keepBacklog(t testing.TB, f *enginetest.Fixture) {
	c, err := Driver{}.Open(context.Background(), f.Target)
	require.NoError(t, err)
	defer c.Close()
	c_ := c.(*cluster)
	for _, s := range c_.list() {
		l, err := c_.dial(context.Background(), s.members[0])
		require.NoError(t, err)
		_, _, err = c_.fullSync(l)
		require.NoError(t, err)
		require.NoError(t, l.Close())
	}
}

func TestConformanceOfAReplica(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		s := redistest.Start(t)
		r := redistest.StartReplica(t, s)
		return fixture(redistest.Address(r), redistest.Client(t, s))
	})
}

func TestConformanceOfSlots(t *testing.T) {
	list := redistest.StartCluster(t, 3)
	cl := redistest.ClusterClient(t, list)
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		require.NoError(t, cl.ForEachMaster(context.Background(),
			func(ctx context.Context, m *goredis.Client) error { return m.FlushAll(ctx).Err() }))
		f := fixture(redistest.Address(list[4]), cl)
		// All keys of one shard, which the suite follows.
		put, remove := f.Put, f.Remove
		in := func(ns string) string { return ns + "{hive}" }
		f.Put = func(t testing.TB, ns string, n int, text string) { put(t, in(ns), n, text) }
		f.Remove = func(t testing.TB, ns string, n int) { remove(t, in(ns), n) }
		c, err := Driver{}.Open(context.Background(), f.Target)
		require.NoError(t, err)
		for _, s := range c.(*cluster).list() {
			if c.(*cluster).addrOf([]byte("{hive}")) == s.members[0] {
				f.Shard = s.name
			}
		}
		require.NoError(t, c.Close())
		return f
	})
}

// TestConformanceOfOtherVersions runs the suite on servers before 7.0, and on the newest of a
// sister project: alone, and read from a replica.
func TestConformanceOfOtherVersions(t *testing.T) {
	folder := os.Getenv("DEXAMEN_OTHER_REDIS")
	if folder == "" {
		return // make test-long
	}
	for _, version := range []string{"redis-6.2", "valkey-9.1"} {
		file := filepath.Join(folder, version)
		t.Run(version, func(t *testing.T) {
			enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
				s := redistest.StartVersion(t, file, "--repl-backlog-size", "64kb")
				cl := redistest.Client(t, s)
				f := fixture(redistest.Address(s), cl)
				keepBacklog(t, f)
				f.Forget = func(t testing.TB) {
					for range 200 {
						require.NoError(t, cl.Set(context.Background(), "other:key", strings.Repeat("calm ", 200),
							0).Err())
					}
				}
				return f
			})
		})
		t.Run(version+", a replica", func(t *testing.T) {
			enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
				s := redistest.StartVersion(t, file)
				host, port, _ := strings.Cut(s.Address, ":")
				r := redistest.StartVersion(t, file, "--replicaof", host, port)
				cl := redistest.Client(t, r)
				require.Eventually(t, func() bool {
					return strings.Contains(cl.Info(context.Background(), "replication").Val(), "master_link_status:up")
				}, 30*time.Second, 50*time.Millisecond)
				return fixture(redistest.Address(r), redistest.Client(t, s))
			})
		})
	}
}

// TestEveryWriteCommandIsKnown asks a real server for the commands that write: of each it is
// known which keys it writes, or it is told to replicas as others that are.
func TestEveryWriteCommandIsKnown(t *testing.T) {
	cl := redistest.Client(t, redistest.Start(t))
	list, err := cl.Do(context.Background(), "COMMAND", "LIST", "FILTERBY", "ACLCAT", "write").StringSlice()
	require.NoError(t, err)
	require.Greater(t, len(list), 80)
	// What waits is told as what it got.
	told := words(`BLPOP BRPOP BLMPOP BZPOPMIN BZPOPMAX BZMPOP MIGRATE PFDEBUG`)
	own := words(`XGROUP BITOP EVAL EVALSHA FCALL SORT GEORADIUS GEORADIUSBYMEMBER XREADGROUP FUNCTION SCRIPT`)
	for _, name := range list {
		verb := strings.ToUpper(name)
		verb, _, _ = strings.Cut(verb, "|")
		known := told[verb] || own[verb]
		for _, of := range []map[string]bool{oneKey, twoKeys, allKeys, pairKeys, countedKeys, countedOnly, dbWide,
			wholeServer} {
			known = known || of[verb]
		}
		require.True(t, known, name)
	}
}
