package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

var ctx = context.Background()

// place is a made store: content files that hold nothing but say that they do, and listings
// of some of them.
type place struct {
	t testing.TB
	b blob.Backend
	o *sealed.Objects
}

func newPlace(t testing.TB, b blob.Backend) *place {
	_, err := sealed.Create(ctx, b, sealed.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	o, err := sealed.Open(ctx, b, sealed.Options{})
	require.NoError(t, err)
	return &place{t, b, o}
}

// open opens it with room in memory for a number of nodes, and a folder to keep tables in.
func (p *place) open(nodes int, keep string) *Content {
	opt := sealed.Options{IndexBytes: nodes * nodeBytes, Keep: keep, Temp: p.t.TempDir()}
	o, err := sealed.Open(ctx, p.b, opt)
	require.NoError(p.t, err)
	c, err := Open(ctx, o)
	require.NoError(p.t, err)
	return c
}

// file puts a content file with the nodes, and returns what a listing says of it.
func (p *place) file(entries []Entry) fileListing {
	name := FileName(sealed.NewID(16))
	frames := append([]byte(FileMagic), make([]byte, 1<<13)...)
	whole, footer := p.content().sealFile(name, frames, entries)
	require.NoError(p.t, p.b.Create(ctx, name, whole))
	return fileListing{name, footer}
}

func (p *place) list(files ...fileListing) {
	require.NoError(p.t, p.b.Create(ctx, sealed.ListingsPrefix+sealed.NewID(16), encodeIndex(p.o.ListKey(), files)))
}

// content has no index.
func (p *place) content() *Content { return &Content{Objects: p.o} }

// model is what an index should say: of each node, its copies.
type model map[tree.Hash][]modelCopy

type modelCopy struct {
	file string
	e    Entry
}

// check compares an index with the model of what is in the store.
func (m model) check(t testing.TB, c *Content, worth map[string]int) {
	x := c.Index
	count := 0
	require.NoError(t, x.Each(func(h tree.Hash, p Place) error {
		count++
		if best, _, ok := x.Find(h); !ok || best != p {
			t.Fatalf("node %s: %v, and %v is to be read", h.Short(), p, best)
		}
		return nil
	}))
	there := 0
	for h, copies := range m {
		p, file, ok := x.Find(h)
		require.Equal(t, len(copies) > 0, ok, h.Short())
		_, spares := x.Spares(h, p)
		if !ok {
			require.Empty(t, spares)
			continue
		}
		there++
		got, want := []string{file.Name}, []string(nil)
		for _, f := range spares {
			got = append(got, f.Name)
		}
		most := 0
		for _, c := range copies {
			want = append(want, c.file)
			most = max(most, worth[c.file])
		}
		require.ElementsMatch(t, want, got)
		require.Equal(t, most, worth[file.Name], "a copy that is kept better is read")
		i := slices.IndexFunc(copies, func(c modelCopy) bool { return c.file == file.Name })
		e := copies[i].e
		require.Equal(t, e.in(p.File), p)
		require.Equal(t, e.Base, x.BaseOf(h))
		for _, c := range copies {
			if worth[c.file] == most && c.e.Base.IsZero() {
				require.False(t, p.Patch, "a copy that needs no base is read")
			}
		}
	}
	require.Equal(t, there, count)
}

func node(n int) (h tree.Hash) {
	binary.BigEndian.PutUint64(h[:], uint64(n)*0x9e3779b97f4a7c15)
	binary.BigEndian.PutUint32(h[28:], uint32(n))
	return h
}

func entry(rng *rand.Rand, n int) Entry {
	e := Entry{Name: node(n), FrameOff: rng.Uint32N(1 << 12), FrameLen: rng.Uint32N(1 << 12), Off: rng.Uint32N(1 << 16),
		Len: rng.Uint32N(1 << 16), NamesPieces: rng.IntN(2) == 0}
	if rng.IntN(3) == 0 {
		e.Base = node(rng.IntN(1000))
	}
	return e
}

// TestIndex: whatever comes and goes, however little fits into memory, whether tables are kept and who
// else keeps some, an index says what is in the store.
func TestIndex(t *testing.T) {
	for seed := range uint64(6) {
		t.Run(strconv.Itoa(int(seed)), func(t *testing.T) {
			t.Parallel()
			rng := rand.New(rand.NewPCG(seed, 1))
			p := newPlace(t, blob.NewMemory())
			keep := t.TempDir()
			m, worth := model{}, map[string]int{}
			opens := []*Content{p.open(10, keep), p.open(0, keep), p.open(0, ""), p.open(1<<20, keep)}
			var names []string
			var unlisted []fileListing
			pending := map[string]bool{}
			for range 60 {
				switch rng.IntN(6) {
				default:
					var entries []Entry
					for range 1 + rng.IntN(60) {
						entries = append(entries, entry(rng, rng.IntN(600)))
					}
					slices.SortFunc(entries, func(a, b Entry) int { return bytes.Compare(a.Name[:], b.Name[:]) })
					entries = slices.CompactFunc(entries, func(a, b Entry) bool { return a.Name == b.Name })
					f := p.file(entries)
					names, unlisted, worth[f.Name] = append(names, f.Name), append(unlisted, f), 2
					for _, e := range entries {
						m[e.Name] = append(m[e.Name], modelCopy{f.Name, e})
					}
				case 0:
					if len(names) == 0 {
						continue
					}
					i := rng.IntN(len(names))
					require.NoError(t, p.b.Remove(ctx, names[i]))
					for h := range m {
						m[h] = slices.DeleteFunc(m[h], func(c modelCopy) bool { return c.file == names[i] })
					}
					names = slices.Delete(names, i, i+1)
				case 1:
					p.list(unlisted...)
					unlisted = nil
				case 2:
					if len(names) == 0 {
						continue
					}
					name := names[rng.IntN(len(names))]
					pending[name] = true
					worth[name] = 0
					require.NoError(t, p.o.PutObject(ctx, p.o.ListKey(), sealed.PendingDeletePrefix+sealed.NewID(8),
						PendingDelete{Files: []string{name}}))
				case 3:
					opens[rng.IntN(len(opens))] = p.open(rng.IntN(200), keep)
				}
				c := opens[rng.IntN(len(opens))]
				c.OwnLists.Store(rng.IntN(6) == 0)
				require.NoError(t, c.Refresh(ctx))
				m.check(t, c, worth)
				c.OwnLists.Store(false)
			}
			_, nodes, _, err := opens[0].RebuildListings(ctx)
			require.NoError(t, err)
			there := 0
			for _, copies := range m {
				if len(copies) > 0 {
					there++
				}
			}
			require.Equal(t, there, nodes)
			for _, c := range opens {
				require.NoError(t, c.Refresh(ctx))
				m.check(t, c, worth)
			}
		})
	}
}

// TestKeptTablesAreDamaged: whatever happens to what is kept on this host, an index says what is in
// the store, at once or made anew.
func TestKeptTablesAreDamaged(t *testing.T) {
	rng := rand.New(rand.NewPCG(9, 9))
	p := newPlace(t, blob.NewMemory())
	m, worth := model{}, map[string]int{}
	for range 12 {
		var entries []Entry
		for i := range 80 {
			entries = append(entries, entry(rng, len(m)+i))
		}
		f := p.file(entries)
		worth[f.Name] = 2
		for _, e := range entries {
			m[e.Name] = []modelCopy{{f.Name, e}}
		}
		p.list(f)
	}
	for n := range 30 {
		keep := t.TempDir()
		p.open(100, keep)
		files, err := filepath.Glob(filepath.Join(keep, "*", "*"))
		require.NoError(t, err)
		require.Greater(t, len(files), 3)
		c := p.open(100, keep)
		require.NotEmpty(t, c.Index.tables)
		for range 3 {
			name := files[rng.IntN(len(files))]
			data, err := os.ReadFile(name)
			require.NoError(t, err)
			switch {
			case n%5 == 0:
				require.NoError(t, os.Remove(name))
			case n%5 == 1:
				require.NoError(t, os.Truncate(name, rng.Int64N(int64(len(data))+1)))
			case len(data) > 0:
				data[rng.IntN(len(data))] ^= byte(1 + rng.IntN(255))
				require.NoError(t, os.WriteFile(name, data, 0o600))
			}
			if os.IsNotExist(err) {
				break
			}
			files = slices.DeleteFunc(files, func(f string) bool { return f == name })
		}
		for h, copies := range m { // by who had the tables open
			p, file, ok := c.Index.Find(h)
			if !ok || file.Name != copies[0].file || p != copies[0].e.in(p.File) {
				t.Fatalf("damage %d: node %s: %v %v", n, h.Short(), ok, p)
			}
		}
		m.check(t, c, worth)
		c = p.open(100, keep)
		for h := range m {
			if _, _, ok := c.Index.Find(h); !ok {
				t.Fatalf("damage %d: node %s is not found", n, h.Short())
			}
		}
		m.check(t, c, worth)
		c = p.open(100, keep)
		require.NotEmpty(t, c.Index.tables)
		m.check(t, c, worth)
	}
}

// TestManyNodes makes a store of DEXAMEN_NODES nodes, a hundred thousand else, and opens it with
// 128 MiB for the program and a sixteenth of that for where nodes lie; in DEXAMEN_NODES_AT, where it stays.
func TestManyNodes(t *testing.T) {
	const perFile, memory = 1600, 128 << 20
	nodes := 100_000
	if s := os.Getenv("DEXAMEN_NODES"); s != "" {
		nodes, _ = strconv.Atoi(s)
	}
	at := os.Getenv("DEXAMEN_NODES_AT")
	if at == "" {
		at = t.TempDir()
	}
	p := newPlace(t, blob.NewDir(filepath.Join(at, "store")))
	var lists []fileListing
	for n := 0; n < nodes; {
		entries := make([]Entry, 0, perFile)
		for ; n < nodes && len(entries) < perFile; n++ {
			k := uint32(len(entries))
			entries = append(entries, Entry{Name: named(n), FrameOff: 8 + 1000*k, FrameLen: 900, Len: 60_000})
		}
		lists = append(lists, p.sparse(at, entries))
		if len(lists) == 64 {
			p.list(lists...)
			lists = nil
		}
	}
	if len(lists) > 0 {
		p.list(lists...)
	}
	debug.SetMemoryLimit(memory)
	defer debug.SetMemoryLimit(1 << 62)
	room := memory / 16 / nodeBytes
	var c *Content
	for _, what := range []string{"built", "opened again"} {
		runtime.GC()
		began, cpu := time.Now(), seconds()
		c = p.open(room, filepath.Join(at, "keep"))
		t.Logf("%d nodes: %s in %.2f s, %.2f CPU s; %d tables; %d MiB in memory", nodes, what,
			time.Since(began).Seconds(), seconds()-cpu, len(c.Index.tables), inUse()>>20)
	}
	const looks = 20_000
	began, cpu := time.Now(), seconds()
	rng := rand.New(rand.NewPCG(1, 1))
	for range looks {
		n := rng.IntN(nodes)
		got, _, ok := c.Index.Find(named(n))
		require.True(t, ok)
		require.EqualValues(t, 8+1000*(n%perFile), got.FrameOff)
		require.False(t, c.Keeps(ctx, named(nodes+rng.IntN(1<<30))))
	}
	t.Logf("a lookup: %.1f µs, %.1f of them CPU; %d MiB in memory", time.Since(began).Seconds()*1e6/looks/2,
		(seconds()-cpu)*1e6/looks/2, inUse()>>20)
	require.LessOrEqual(t, len(c.Index.tables), tablesAtRest)
	if nodes > 2*room {
		require.LessOrEqual(t, c.Index.held, room)
	}
}

// named returns the name of a node as real ones are: all bytes are chance.
func named(n int) tree.Hash { return tree.HashOf(binary.BigEndian.AppendUint64(nil, uint64(n))) }

// sparse puts a content file whose frames are a hole.
func (p *place) sparse(at string, entries []Entry) fileListing {
	name := FileName(sealed.NewID(16))
	path := filepath.Join(at, "store", name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, nil, 0o600))
	last := entries[len(entries)-1]
	require.NoError(p.t, os.Truncate(path, int64(last.FrameOff+last.FrameLen)+10_000))
	return fileListing{name, appendFooter(nil, name, entries)}
}

func inUse() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.Sys - m.HeapReleased
}

// seconds returns the CPU time of this process.
func seconds() float64 {
	var u unix.Rusage
	_ = unix.Getrusage(unix.RUSAGE_SELF, &u)
	return float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9
}
