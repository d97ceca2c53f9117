package integration_test

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/servertest"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// redisYard is a Redis server that is protected, with a store.
type redisYard struct {
	t      testing.TB
	server *servertest.Process
	cl     *goredis.Client
	e      *run.Runner
	depth  int
}

func newRedisYard(t testing.TB, args ...string) *redisYard {
	s := redistest.Start(t, args...)
	return &redisYard{t: t, server: s, cl: redistest.Client(t, s), e: newRunner(t)}
}

// in returns a client of a database.
func (y *redisYard) in(db int) *goredis.Client { return redisIn(y.t, y.server, db) }

func redisIn(t testing.TB, s *servertest.Process, db int) *goredis.Client {
	cl := goredis.NewClient(&goredis.Options{Addr: s.Address, DB: db})
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

func (y *redisYard) open(s *servertest.Process) engine.Cluster {
	return openWith(y.t, "bramble", redistest.Address(s), map[string]any{"prefix_depth": y.depth})
}

func (y *redisYard) do(db int, args ...any) {
	y.t.Helper()
	require.NoError(y.t, notNil(y.in(db).Do(ctx, args...).Err()), fmt.Sprint(args...))
}

func (y *redisYard) snapshot() {
	_, err := snapshot.Take(ctx, y.e, "bramble", y.open(y.server))
	require.NoError(y.t, err)
}

// capture captures and returns a moment of after that, before anything else happens.
func (y *redisYard) capture() address.When {
	time.Sleep(5 * time.Millisecond)
	_, err := capture.Run(ctx, y.e, "bramble", y.open(y.server), capture.Options{})
	require.NoError(y.t, err)
	list, err := moment.Cover(ctx, y.e, "bramble")
	require.NoError(y.t, err)
	return address.When{Kind: address.Time, Time: list[0].Latest}
}

func (y *redisYard) restore(w address.When, onto *servertest.Process, opt restore.Options) ([]restore.Restored, error) {
	m, err := moment.Resolve(ctx, y.e, "bramble", w, nil)
	require.NoError(y.t, err)
	p, err := restore.NewPlan(ctx, y.e, m, y.open(onto), opt)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return p.Run(ctx)
}

// redisWorld returns all that a server holds: by database and key its value and expiry.
func redisWorld(t testing.TB, s *servertest.Process) map[string]string {
	out := map[string]string{}
	for db := range 16 {
		cl := redisIn(t, s, db)
		for _, k := range redisKeys(t, cl, "*") {
			if !strings.HasPrefix(k, "dexamen.") {
				at, err := cl.Do(ctx, "PEXPIRETIME", k).Int64()
				require.NoError(t, err)
				out[fmt.Sprintf("%d %q", db, k)] = fmt.Sprint(redisValue(t, cl, k), " expires ", at)
			}
		}
	}
	return out
}

// TestInPlaceOverWhatCameLater: a namespace that came to be after the point holds, after a
// restore in place, what the moment's commands make of nothing, and is in the way where
// nothing may be replaced.
func TestInPlaceOverWhatCameLater(t *testing.T) {
	t.Parallel()
	for depth := range 2 {
		t.Run(fmt.Sprint("depth ", depth), func(t *testing.T) {
			y := newRedisYard(t)
			y.depth = depth
			y.do(0, "SET", "a:1", "1")
			y.snapshot()
			db := 2 - 2*depth
			y.do(db, "INCR", "born:counter")
			y.do(db, "RPUSH", "born:list", "x")
			y.do(db, "RPUSH", "born:old", "moved")
			y.do(db, "RENAME", "born:old", "other:new")
			y.do(db, "MOVE", "other:new", 5)
			m := y.capture()
			want := redisWorld(t, y.server)
			y.do(db, "INCR", "born:counter")
			y.do(db, "RPUSH", "born:list", "y")
			y.do(db, "SET", "born:late", "too many")
			y.do(5, "SET", "other:late", "too many")
			y.capture()
			before := redisWorld(t, y.server)
			_, err := y.restore(m, y.server, restore.Options{Pattern: "*"})
			require.ErrorIs(t, err, run.ErrRefused)
			require.Equal(t, before, redisWorld(t, y.server))
			_, err = y.restore(m, y.server, restore.Options{Pattern: "*", Conflict: restore.Replace})
			require.NoError(t, err)
			require.Equal(t, want, redisWorld(t, y.server))
			// One that only came later, alone, onto a server with something of that name.
			to := redistest.Start(t)
			name := []string{"db2", "db0/born:"}[depth]
			require.NoError(t, redisIn(t, to, db).Do(ctx, "RPUSH", "born:list", "foreign").Err())
			require.NoError(t, redisIn(t, to, db).Do(ctx, "SET", "plain", "own").Err())
			if depth == 0 {
				return // RENAME and MOVE are of more than db2
			}
			_, err = y.restore(m, to, restore.Options{Pattern: name})
			require.ErrorContains(t, err, "RENAME")
			require.ErrorContains(t, err, "nothing was changed")
		})
	}
}

// TestExpiredKeysInPlace: keys whose time has come since do not come back, large ones
// neither, and what has been set anew under their names goes where all else is replaced,
// and stays where it is merged.
func TestExpiredKeysInPlace(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t)
	large := strings.Repeat("large", 100_000)
	for life := 2 * time.Second; ; life *= 3 {
		require.NoError(t, y.cl.FlushAll(ctx).Err())
		y.e = newRunner(t)
		begun := time.Now()
		for _, k := range []string{"large:gone", "large:anew"} {
			require.NoError(t, y.cl.Set(ctx, k, large, life).Err())
		}
		for i := range 5000 {
			require.NoError(t, notNil(y.cl.Do(ctx, "RPUSH", "large:list", i, strings.Repeat("x", 100)).Err()))
		}
		require.NoError(t, y.cl.PExpire(ctx, "large:list", life).Err())
		for i := range 20 {
			require.NoError(t, y.cl.Set(ctx, fmt.Sprint("session:", i), "old", life).Err())
		}
		y.do(0, "SET", "stays", "1")
		y.snapshot()
		if time.Since(begun) > life {
			continue // a machine may be too slow
		}
		time.Sleep(life)
		break
	}
	m := moment.Latest
	y.do(0, "SET", "large:anew", "new")
	for i := range 10 {
		y.do(0, "SET", fmt.Sprint("session:", i), "new")
	}
	merged := redisWorld(t, y.server)
	y.do(0, "SET", "stays", "spoilt")
	_, err := y.restore(m, y.server, restore.Options{Pattern: "*", Conflict: restore.Merge})
	require.NoError(t, err)
	require.Equal(t, merged, redisWorld(t, y.server))
	done, err := y.restore(m, y.server, restore.Options{Pattern: "*", Conflict: restore.Replace})
	require.NoError(t, err)
	require.Equal(t, []string{`0 "stays"`}, slices.Collect(maps.Keys(redisWorld(t, y.server))))
	require.NotZero(t, done[0].Expired)
	empty := redistest.Start(t)
	_, err = y.restore(m, empty, restore.Options{Pattern: "*"})
	require.NoError(t, err)
	require.Equal(t, redisWorld(t, y.server), redisWorld(t, empty))
}

// TestFarExpiries: an expiry is a number of milliseconds, however far away, in the point, in
// the log and on the target.
func TestFarExpiries(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t)
	at := []int64{time.Now().AddDate(100, 0, 0).UnixMilli(), time.Now().AddDate(139, 0, 0).UnixMilli(),
		9_223_372_036_855, 1 << 42, 1<<42 + 1<<41, 1<<51 - 1, 1 << 51, 1<<52 - 1, 1<<53 + 1, 1 << 61, math.MaxInt64}
	set := func(what string) {
		for i, ms := range at {
			y.do(0, "SET", fmt.Sprint(what, i), what)
			y.do(0, "PEXPIREAT", fmt.Sprint(what, i), ms)
			y.do(0, "SET", fmt.Sprint(what, i, "px"), what, "PXAT", ms)
		}
		y.do(0, "SET", fmt.Sprint(what, "large"), strings.Repeat("l", 300_000), "PXAT", at[0])
	}
	set("point")
	y.snapshot()
	set("log")
	y.do(0, "APPEND", "point3", "later")
	m := y.capture()
	want := redisWorld(t, y.server)
	to := redistest.Start(t)
	for range 2 { // onto nothing, and in place
		_, err := y.restore(m, to, restore.Options{Pattern: "*", Conflict: restore.Replace})
		require.NoError(t, err)
		require.Equal(t, want, redisWorld(t, to))
	}
}

// TestCommandsThatReachBeyond: a command that takes from, or writes to, more than what is
// restored is carried out where its effect is known, and else refused before anything is
// written.
func TestCommandsThatReachBeyond(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		name, pattern string
		rename        map[string]string
		commands      [][]any // the first word is the database
		refused       string
	}{
		{"moved away", "db0", nil, [][]any{{0, "SET", "k", "v"}, {0, "MOVE", "k", 3}}, ""},
		{"moved here", "db3", nil, [][]any{{0, "SET", "k", "v"}, {0, "MOVE", "k", 3}}, "MOVE with k"},
		{"copied away", "db0", nil, [][]any{{0, "SET", "k", "v"}, {0, "COPY", "k", "c", "DB", 3}}, ""},
		{"copied here", "db3", nil, [][]any{{0, "SET", "k", "v"}, {0, "COPY", "k", "c", "DB", 3}}, "COPY with k"},
		{"sorted by others", "db0", map[string]string{"db0": "db7"},
			[][]any{{0, "SORT", "list", "BY", "weight_*", "GET", "name_*", "STORE", "sorted"}}, ""},
		{"sorted into others", "db3", nil,
			[][]any{{0, "SORT", "list", "BY", "weight_*", "STORE", "sorted"}, {3, "SET", "k", "v"}}, ""},
		{"swapped names of two", "*", map[string]string{"db0": "db3", "db3": "db0"},
			[][]any{{0, "SET", "k", "v"}, {0, "MOVE", "k", 3}}, ""},
		{"counted", "db0", nil, [][]any{{0, "PFADD", "hll", "a", "b"}, {0, "PFCOUNT", "hll"}}, ""},
		{"functions", "db0", nil,
			[][]any{{0, "FUNCTION", "LOAD", "#!lua name=yard\nredis.register_function('f', function() return 1 end)"},
				{0, "FUNCTION", "DELETE", "yard"}}, ""},
	} {
		t.Run(x.name, func(t *testing.T) {
			y := newRedisYard(t)
			y.do(0, "RPUSH", "list", 2, 1, 3)
			for i := range 3 {
				y.do(0, "SET", fmt.Sprint("weight_", i+1), 9-i)
				y.do(0, "SET", fmt.Sprint("name_", i+1), fmt.Sprint("name", i))
			}
			y.do(3, "SET", "there", "3")
			y.snapshot()
			for _, c := range x.commands {
				y.do(c[0].(int), c[1:]...)
			}
			m := y.capture()
			want := map[string]string{}
			for k, v := range redisWorld(t, y.server) {
				db, rest, _ := strings.Cut(k, " ")
				to := "db" + db
				if r, ok := x.rename[to]; ok {
					to = r
				}
				if address.Match(x.pattern, "db"+db) {
					want[strings.TrimPrefix(to, "db")+" "+rest] = v
				}
			}
			onto := redistest.Start(t)
			_, err := y.restore(m, onto, restore.Options{Pattern: x.pattern, Rename: x.rename})
			if x.refused != "" {
				require.ErrorContains(t, err, x.refused)
				require.ErrorContains(t, err, "nothing was changed")
				require.Empty(t, redisWorld(t, onto))
				return
			}
			require.NoError(t, err)
			require.Equal(t, want, redisWorld(t, onto))
		})
	}
	// A pattern of keys that come back under other names, or not at all.
	y := newRedisYard(t)
	y.depth = 1
	y.do(0, "RPUSH", "a:list", 2, 1)
	y.do(0, "MSET", "b:1", 1, "b:2", 2)
	y.snapshot()
	y.do(0, "SORT", "a:list", "BY", "b:*", "STORE", "a:sorted")
	m := y.capture()
	onto := redistest.Start(t)
	_, err := y.restore(m, onto, restore.Options{Pattern: "db0/a:"})
	require.ErrorContains(t, err, "takes from keys by a pattern")
	require.Empty(t, redisWorld(t, onto))
}

// TestALongCommand: one of more arguments than clients of older servers may send.
func TestALongCommand(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t, "--repl-backlog-size", "100mb")
	y.do(0, "SET", "a", 1)
	y.snapshot()
	args := []any{"RPUSH", "long"}
	for i := range 1_100_000 {
		args = append(args, i%10)
	}
	y.do(0, args...)
	y.do(0, "SET", "after", 1)
	m := y.capture()
	to := redistest.Start(t)
	_, err := y.restore(m, to, restore.Options{Pattern: "*"})
	require.NoError(t, err)
	require.EqualValues(t, 1_100_000, redisIn(t, to, 0).LLen(ctx, "long").Val())
	require.EqualValues(t, 1, redisIn(t, to, 0).Exists(ctx, "after").Val())
}

// TestBytesLikeTheProtocol: keys and values of random bytes, of which many look like pieces
// of the protocol, come back as they were, by a point and by the log.
func TestBytesLikeTheProtocol(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(22, 7))
	pieces := []string{"*3\r\n$9\r\nPEXPIREAT\r\n$1\r\nk\r\n$13\r\n1000000000000\r\n", "\r\n", "*1\r\n", "$-1\r\n",
		"PEXPIREAT",
		"\r\nPEXPIREAT\r\n", "$13\r\n1000000000000", "\x00", "\x00\x01", "\x00\xFF", "\xFF", ":", "/", "{", "}",
		"SELECT",
		"*2\r\n$6\r\nSELECT\r\n$1\r\n3\r\n", "ENTRIESREAD\r\n", "\r\nENTRIESREAD\r\n", "MULTI", "dexamen.", "OF-SLOTS"}
	word := func() string {
		var b strings.Builder
		for range r.IntN(4) {
			switch r.IntN(3) {
			case 0:
				for range r.IntN(12) {
					b.WriteByte(byte(r.IntN(256)))
				}
			default:
				b.WriteString(pieces[r.IntN(len(pieces))])
			}
		}
		return b.String()
	}
	for depth := range 2 {
		y := newRedisYard(t, "--repl-backlog-size", "200mb")
		y.depth = depth
		write := func(n int) {
			for n > 0 {
				_, err := y.cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
					for range min(n, 1000) {
						k := word()
						switch r.IntN(5) {
						case 0:
							p.Set(ctx, "s"+k, word(), 0)
						case 1:
							p.RPush(ctx, "l"+k, word(), word())
						case 2:
							p.HSet(ctx, "h"+k, word(), word())
						case 3:
							p.ZAdd(ctx, "z"+k, goredis.Z{Score: float64(r.IntN(9)), Member: word()})
						default:
							p.Set(ctx, "s"+k, word(), time.Hour)
						}
					}
					return nil
				})
				require.NoError(t, err)
				n -= 1000
			}
		}
		write(long(50_000, 2000))
		y.snapshot()
		write(long(10_000, 1000))
		m := y.capture()
		want := redisWorld(t, y.server)
		to := redistest.Start(t)
		_, err := y.restore(m, to, restore.Options{Pattern: "*"})
		require.NoError(t, err)
		require.True(t, maps.Equal(want, redisWorld(t, to)), "depth %d", depth)
	}
}

// TestEqualMeansAllOfIt: what is on the live side and was not then is a difference, and said
// where all is restored in place; what has expired since is none.
func TestEqualMeansAllOfIt(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t)
	y.do(0, "SET", "stays", "1")
	y.do(0, "SET", "session", "1", "PX", 300)
	y.do(0, "SET", "session:large", strings.Repeat("l", 300_000), "PX", 300)
	y.snapshot()
	time.Sleep(400 * time.Millisecond)
	m, err := moment.Resolve(ctx, y.e, "bramble", moment.Latest, nil)
	require.NoError(t, err)
	live := func() error {
		diffs, err := verify.Live(ctx, y.e, m, y.open(y.server), "", nil, 5)
		require.NoError(t, err)
		return moment.Different(diffs)
	}
	require.NoError(t, live())
	y.do(5, "SET", "extra", "1")
	require.ErrorIs(t, live(), run.ErrDiffers)
	p, err := restore.NewPlan(ctx, y.e, m, y.open(y.server), restore.Options{Pattern: "*", Conflict: restore.Replace})
	require.NoError(t, err)
	defer p.Close()
	require.Equal(t, []string{"db5"}, p.Stays)
}

// TestAStreamThatIsNoProtocol: where the stream of a server cannot be read, every time it is
// asked for, the log ends there, and what came before counts.
func TestAStreamThatIsNoProtocol(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s, err := net.Dial("tcp", y.server.Address)
			if err != nil {
				_ = c.Close()
				return
			}
			go func() { _, _ = io.Copy(s, c); _ = s.Close() }()
			go func() {
				defer c.Close()
				buf := make([]byte, 64<<10)
				for {
					n, err := s.Read(buf)
					// Of what is asked for by name, and of what is streamed.
					b := bytes.ReplaceAll(buf[:n], []byte("$6\r\npoison"), []byte("$x\r\npoison"))
					if _, werr := c.Write(b); err != nil || werr != nil {
						return
					}
				}
			}()
		}
	}()
	through := func() engine.Cluster { return open(t, "bramble", "redis://"+l.Addr().String()) }
	y.do(0, "SET", "a", 1)
	_, err = snapshot.Take(ctx, y.e, "bramble", through())
	require.NoError(t, err)
	y.do(0, "SET", "before", 1)
	_, err = capture.Run(ctx, y.e, "bramble", through(), capture.Options{})
	require.NoError(t, err)
	y.do(0, "SET", "later", 1)
	y.do(0, "SET", "poison", 1)
	y.do(0, "SET", "after", 1)
	_, err = capture.Run(ctx, y.e, "bramble", through(), capture.Options{})
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "this is not the protocol of the servers")
	to := redistest.Start(t)
	_, err = y.restore(moment.Latest, to, restore.Options{Pattern: "*"})
	require.NoError(t, err)
	keys := redisKeys(t, redisIn(t, to, 0), "*")
	require.Contains(t, keys, "before")
	require.NotContains(t, keys, "after")
}

// TestZeroesBelowZero: a score of minus zero is zero, however a server keeps the set.
func TestZeroesBelowZero(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t, "--zset-max-listpack-entries", "0")
	y.do(0, "ZADD", "small", "-0", "a", "0", "b")
	for i := range 300 {
		y.do(0, "ZADD", "large", "-0", fmt.Sprint("member", i))
	}
	y.snapshot()
	y.do(0, "ZADD", "small", "-0", "c")
	m := y.capture()
	for _, args := range [][]string{nil, {"--zset-max-listpack-entries", "0"}} {
		to := redistest.Start(t, args...)
		for range 2 {
			_, err := y.restore(m, to, restore.Options{Pattern: "*", Conflict: restore.Replace})
			require.NoError(t, err)
		}
		there := redisIn(t, to, 0)
		require.EqualValues(t, 303, there.ZCard(ctx, "large").Val()+there.ZCard(ctx, "small").Val())
	}
}

// TestALogBeforeThatCannotBeCarriedOut: verifying says so, and is not content.
func TestALogBeforeThatCannotBeCarriedOut(t *testing.T) {
	t.Parallel()
	y := newRedisYard(t)
	y.do(0, "SET", "a", 1)
	y.snapshot()
	y.do(0, "SET", "b", 1)
	y.capture()
	y.snapshot()
	points, _, err := y.e.Store.Points(ctx, "bramble")
	require.NoError(t, err)
	bench := redistest.Start(t)
	y.e.ScratchServer = benchAt(t, redistest.Address(bench))
	p, err := verify.Point(ctx, y.e, points[1])
	require.NoError(t, err)
	require.True(t, p.Equal)
	require.NoError(t, redisIn(t, bench, 0).Set(ctx, "somebody's", "own", 0).Err())
	_, err = verify.Point(ctx, y.e, points[1])
	require.ErrorIs(t, err, run.ErrIncomplete)
	require.ErrorContains(t, err, "the log before it could not be carried out")
}

// TestFunctionsInPlace: libraries of functions are what they were, onto a server that has
// others of their names, and lacks one that the log takes away.
func TestFunctionsInPlace(t *testing.T) {
	t.Parallel()
	from, to := redistest.Start(t), redistest.Start(t)
	connect := func(s *servertest.Process) engine.Cluster {
		_, drv, err := engine.ForAddress(redistest.Address(s))
		require.NoError(t, err)
		c, err := drv.Open(ctx, engine.Target{Name: "bramble", Address: redistest.Address(s), Settings: true})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	load := func(s *servertest.Process, name string, returns int) {
		code := fmt.Sprintf("#!lua name=%s\nredis.register_function('%[1]s', function() return %[2]d end)",
			name, returns)
		require.NoError(t, redisIn(t, s, 0).Do(ctx, "FUNCTION", "LOAD", code).Err())
	}
	require.NoError(t, redisIn(t, from, 0).Set(ctx, "a", "1", 0).Err())
	load(from, "gone", 1)
	e := newRunner(t)
	_, err := snapshot.Take(ctx, e, "bramble", connect(from))
	require.NoError(t, err)
	load(from, "later", 2)
	require.NoError(t, redisIn(t, from, 0).Do(ctx, "FUNCTION", "DELETE", "gone").Err())
	_, err = capture.Run(ctx, e, "bramble", connect(from), capture.Options{})
	require.NoError(t, err)
	load(to, "later", 9)
	m, err := moment.Resolve(ctx, e, "bramble", moment.Latest, nil)
	require.NoError(t, err)
	p, err := restore.NewPlan(ctx, e, m, connect(to), restore.Options{Settings: true, Conflict: restore.Replace})
	require.NoError(t, err)
	defer p.Close()
	_, err = p.Run(ctx)
	require.NoError(t, err)
	libs := redisIn(t, to, 0).FunctionList(ctx, goredis.FunctionListQuery{}).Val()
	require.Len(t, libs, 1)
	n, err := redisIn(t, to, 0).Do(ctx, "FCALL", "later", 0).Int()
	require.NoError(t, err)
	require.Equal(t, 2, n)
}
