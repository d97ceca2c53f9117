package redis

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
)

// TestWholeIsWhatScanGives: a namespace that comes as a replica would be sent it has the
// records that going through its keys gives, whatever else the server holds; and it comes
// so only where that serves.
func TestWholeIsWhatScanGives(t *testing.T) {
	ctx := context.Background()
	s := redistest.Start(t, "--enable-debug-command", "yes")
	cl := redistest.Client(t, s)
	fill := func(cl *goredis.Client, n int, name string) {
		p := cl.Pipeline()
		for i := range n {
			k := fmt.Sprintf("%s:%d", name, i)
			switch i % 5 {
			case 0:
				p.HSet(ctx, k, "queen", i, "yard", strings.Repeat("north ", i%40))
			case 1:
				p.ZAdd(ctx, k, goredis.Z{Score: float64(i) / 7, Member: i}, goredis.Z{Score: -1, Member: "b"})
			case 2:
				p.RPush(ctx, k, i, "a", strings.Repeat("hum ", i%90))
			default:
				p.Set(ctx, k, strings.Repeat("honey ", i%30), time.Duration(i%2)*time.Hour)
			}
		}
		_, err := p.Exec(ctx)
		require.NoError(t, err)
	}
	fill(cl, 30_000, "stall")
	require.NoError(t, cl.SetRange(ctx, "stall:large", 3<<20, "end").Err())
	second := goredis.NewClient(&goredis.Options{Addr: s.Address, DB: 1})
	t.Cleanup(func() { _ = second.Close() })
	fill(second, 100, "loft")
	// These have expired, and the server has not noticed.
	require.NoError(t, cl.Do(ctx, "DEBUG", "SET-ACTIVE-EXPIRE", "0").Err())
	for i := range 50 {
		require.NoError(t, cl.Set(ctx, fmt.Sprint("gone:", i), "gone", time.Millisecond).Err())
	}
	time.Sleep(20 * time.Millisecond)

	read := func(user string, ns string, whole bool) (out map[string]string, fullSyncs uint64) {
		target := engine.Target{Name: "bramble", Address: redistest.Address(s)}
		if user != "" {
			target.User, target.Secret = user, "made up"
		}
		before := synced(t, cl)
		c, err := Driver{}.Open(ctx, target)
		require.NoError(t, err)
		defer c.Close()
		space := engine.Namespace{Namespace: record.Namespace{Name: ns, Kind: keysKind}, Records: 20}
		scan := c.Scan
		if whole {
			scan = c.(engine.WholeScanner).ScanWhole
		}
		out = map[string]string{}
		require.NoError(t, scan(ctx, space, engine.Partition{}, func(r record.Record) error {
			_, twice := out[string(r.Key)]
			require.False(t, twice, "a record comes once")
			out[string(r.Key)] = string(r.Value)
			return nil
		}))
		return out, synced(t, cl) - before
	}
	want, syncs := read("", "db0", false)
	require.Zero(t, syncs)
	require.Greater(t, len(want), 30_000)
	got, syncs := read("", "db0", true)
	require.EqualValues(t, 1, syncs, "it is asked for everything once")
	require.Equal(t, want, got)

	// A little of what there is, and a login that may not ask for everything.
	want, _ = read("", "db1", false)
	got, syncs = read("", "db1", true)
	require.Zero(t, syncs)
	require.Len(t, got, 100)
	require.Equal(t, want, got)
	require.NoError(t, cl.Do(ctx, "ACL", "SETUSER", "reader", "on", ">made up", "~*", "+@all", "-psync").Err())
	want, _ = read("", "db0", false)
	got, syncs = read("reader", "db0", true)
	require.Zero(t, syncs)
	require.Equal(t, want, got)

	// One that would have to wait longer than going through the keys takes.
	require.NoError(t, cl.ConfigSet(ctx, "repl-diskless-sync-delay", "5").Err())
	_, syncs = read("", "db0", true)
	require.Zero(t, syncs)
}

// synced is how often a server was asked for everything.
func synced(t *testing.T, cl *goredis.Client) uint64 {
	n, err := strconv.ParseUint(parseInfo(cl.Info(context.Background(), "stats").Val())["sync_full"], 10, 64)
	require.NoError(t, err)
	return n
}

// BenchmarkContent reads a million keys' content as a server sends it, from memory.
func BenchmarkContent(b *testing.B) {
	raw := simpleContent(b, 100_000)
	b.SetBytes(int64(len(raw)))
	b.ReportAllocs()
	for b.Loop() {
		readSimple(b, raw)
	}
}

// TestContentIsReadWithoutAllocations: of small keys, whatever their types.
func TestContentIsReadWithoutAllocations(t *testing.T) {
	const n = 5000
	raw := simpleContent(t, n)
	require.Equal(t, n, readSimple(t, raw))
	require.Less(t, testing.AllocsPerRun(5, func() { readSimple(t, raw) }), n/10.0)
}

func simpleContent(t testing.TB, n int) []byte {
	s := redistest.Start(t)
	p := redistest.Client(t, s).Pipeline()
	ctx := context.Background()
	for i := range n {
		k := fmt.Sprintf("stall:%07d", i)
		switch i % 5 {
		case 0:
			p.Set(ctx, k, strings.Repeat("honey ", 1+i%30), time.Duration(i%2)*time.Hour)
		case 1:
			p.RPush(ctx, k, i, "a", strings.Repeat("hum ", 1+i%90))
		case 2:
			p.SAdd(ctx, k, i, i+7)
		case 3:
			p.HSet(ctx, k, "queen", i, "yard", strings.Repeat("north ", i%40))
		case 4:
			p.ZAdd(ctx, k, goredis.Z{Score: 12, Member: i}, goredis.Z{Score: 3, Member: "b"})
		}
	}
	_, err := p.Exec(ctx)
	require.NoError(t, err)
	raw, _ := content(t, redistest.Address(s))
	return raw
}
