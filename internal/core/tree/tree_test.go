package tree_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

var ctx = context.Background()

// nodes is a sink and source that counts what is read.
type nodes struct {
	mu    sync.Mutex
	m     map[tree.Hash][]byte
	reads int
	cuts  tree.Cuts
}

func newNodes() *nodes { return &nodes{m: map[tree.Hash][]byte{}} }

func (n *nodes) Cuts() tree.Cuts { return n.cuts }

func (n *nodes) PutNode(_ context.Context, h tree.Hash, b []byte, _ tree.Hash) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.m[h] = b
	return nil
}

func (n *nodes) Node(_ context.Context, h tree.Hash) ([]byte, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.reads++
	b, ok := n.m[h]
	if !ok {
		return nil, fmt.Errorf("no node %s", h)
	}
	return b, nil
}

// content is a namespace as a plain map: the model.
type content map[string]string

// random makes n records of sizes like those of life: mostly small, some
// large, a few larger than a leaf.
func random(rng *rand.Rand, n int) content {
	c := content{}
	for range n {
		c[randomKey(rng)] = randomValue(rng)
	}
	return c
}

func randomKey(rng *rand.Rand) string {
	k := binary.BigEndian.AppendUint64(nil, rng.Uint64N(1<<40))
	return string(k[:3+rng.IntN(6)])
}

func randomValue(rng *rand.Rand) string {
	size := rng.IntN(400)
	switch rng.IntN(300) {
	case 0:
		size = rng.IntN(3 * tree.MaxInline)
	case 1, 2, 3:
		size = rng.IntN(40_000)
	case 4:
		size = 0
	}
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(rng.UintN(256))
	}
	return string(b)
}

func (c content) build(t testing.TB, sink tree.Sink) tree.Root {
	b := tree.NewBuilder(sink)
	for _, k := range slices.Sorted(maps.Keys(c)) {
		require.NoError(t, b.Add(ctx, record.Record{Key: []byte(k), Value: []byte(c[k])}))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	return root
}

func (c content) changed(rng *rand.Rand, share float64) content {
	out := maps.Clone(c)
	for k := range c {
		if rng.Float64() < share {
			switch rng.IntN(3) {
			case 0:
				delete(out, k)
			case 1:
				out[k] = randomValue(rng)
			case 2:
				out[randomKey(rng)] = randomValue(rng)
			}
		}
	}
	return out
}

func read(t testing.TB, src tree.Source, root tree.Root) content {
	c := content{}
	last := []byte(nil)
	require.NoError(t, tree.Walk(ctx, src, root, func(r record.Record) error {
		require.True(t, last == nil || bytes.Compare(last, r.Key) < 0, "out of order")
		last = bytes.Clone(r.Key)
		c[string(r.Key)] = string(r.Value)
		return nil
	}))
	return c
}

// listEdits is a model's edits: nil value removes.
type listEdits struct {
	keys []string
	to   map[string]*string
	at   int
}

func editsBetween(a, b content) *listEdits {
	e := &listEdits{to: map[string]*string{}}
	for k := range a {
		if v, ok := b[k]; !ok {
			e.to[k] = nil
		} else if v != a[k] {
			e.to[k] = &v
		}
	}
	for k, v := range b {
		if _, ok := a[k]; !ok {
			e.to[k] = &v
		}
	}
	e.keys = slices.Sorted(maps.Keys(e.to))
	return e
}

func (e *listEdits) NextKey(context.Context) ([]byte, bool, error) {
	if e.at == len(e.keys) {
		return nil, false, nil
	}
	e.at++
	return []byte(e.keys[e.at-1]), true, nil
}

func (e *listEdits) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	v := e.to[e.keys[e.at-1]]
	if v == nil {
		return nil, false, nil
	}
	return []byte(*v), true, nil
}

func TestTreeIsItsContent(t *testing.T) {
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 1))
		n := []int{0, 1, 2, 50, 3000, 9000}[seed%6]
		a := random(rng, n)
		ns := newNodes()
		if seed%2 == 1 {
			ns.cuts = tree.KeyedCuts(seed, rng.Uint64())
		}
		root := a.build(t, ns)
		require.EqualValues(t, len(a), root.Records)
		require.Equal(t, a, read(t, ns, root), "seed %d", seed)
		require.Equal(t, root, a.build(t, tree.Nowhere(ns.cuts)), "storing makes no difference")

		// However it comes to be, the same content is the same tree.
		b := a.changed(rng, []float64{0, 0.001, 0.02, 0.5, 1}[seed%5])
		want := b.build(t, ns)
		merged, err := tree.Merge(ctx, ns, root, editsBetween(a, b), ns)
		require.NoError(t, err)
		require.Equal(t, want, merged, "seed %d: merge is a rebuild", seed)
		require.Equal(t, want, loadShuffled(t, rng, b, root, ns), "seed %d: order of arrival", seed)

		// The difference is what differs, also from a tree whose nodes end elsewhere.
		e := editsBetween(a, b)
		elsewhere := newNodes()
		elsewhere.cuts = tree.KeyedCuts(rng.Uint64(), rng.Uint64())
		for _, side := range []tree.Side{{Source: ns, Root: want}, {Source: elsewhere, Root: b.build(t, elsewhere)}} {
			var keys []string
			require.NoError(t, tree.Diff(ctx, tree.Side{Source: ns, Root: root}, side,
				func(d tree.Difference) error {
					k := string(d.Key)
					keys = append(keys, k)
					va, ina := a[k]
					vb, inb := b[k]
					require.Equal(t, ina, d.A != nil)
					require.Equal(t, inb, d.B != nil)
					require.Equal(t, va, string(d.A))
					require.Equal(t, vb, string(d.B))
					return nil
				}))
			require.Equal(t, e.keys, keys, "seed %d", seed)
		}

		for range 20 {
			k := randomKey(rng)
			if ks := slices.Collect(maps.Keys(b)); len(ks) > 0 && rng.IntN(2) == 0 {
				k = ks[rng.IntN(len(ks))]
			}
			v, ok, err := tree.Get(ctx, ns, want, []byte(k))
			require.NoError(t, err)
			wv, wok := b[k]
			require.Equal(t, wok, ok)
			require.Equal(t, wv, string(v))
		}
	}
}

// loadShuffled loads records in several partitions, some of them out of place
// or given twice with an older value.
func loadShuffled(t *testing.T, rng *rand.Rand, c content, near tree.Root, ns *nodes) tree.Root {
	keys := slices.Sorted(maps.Keys(c))
	disorder := rng.IntN(4)
	l := tree.NewLoader(ns, ns, near, t.TempDir(), 200_000)
	parts := 1 + rng.IntN(4)
	for p := range parts {
		mine := keys[len(keys)*p/parts : len(keys)*(p+1)/parts]
		switch disorder {
		case 1: // a few late ones
			mine = slices.Clone(mine)
			for range len(mine) / 20 {
				i, j := rng.IntN(len(mine)), rng.IntN(len(mine))
				mine[i], mine[j] = mine[j], mine[i]
			}
		case 2: // no order at all
			mine = slices.Clone(mine)
			rng.Shuffle(len(mine), func(i, j int) { mine[i], mine[j] = mine[j], mine[i] })
		case 3: // parts that overlap
			mine = nil
			for i := p; i < len(keys); i += parts {
				mine = append(mine, keys[i])
			}
		}
		part := l.Part()
		for i, k := range mine {
			if disorder == 1 && i%50 == 0 {
				require.NoError(t, part.Add(ctx, record.Record{Key: []byte(k), Value: []byte("older")}))
			}
			require.NoError(t, part.Add(ctx, record.Record{Key: []byte(k), Value: []byte(c[k])}))
		}
	}
	root, err := l.Finish(ctx)
	require.NoError(t, err)
	return root
}

func TestLeafPatches(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for range 40 {
		a := random(rng, 200)
		na, nb := newNodes(), newNodes()
		ra, rb := a.build(t, na), a.changed(rng, 0.05).build(t, nb)
		for _, base := range leaves(t, na, ra) {
			for _, leaf := range leaves(t, nb, rb) {
				patch, ok := tree.EncodePatch(base, leaf, 1<<30)
				require.True(t, ok)
				got, err := tree.ApplyPatch(base, patch)
				require.NoError(t, err)
				require.True(t, bytes.Equal(leaf, got))
			}
		}
	}
}

func leaves(t *testing.T, ns *nodes, root tree.Root) (out [][]byte) {
	require.NoError(t, tree.Nodes(ctx, ns, root, func(n tree.NodeInfo) (bool, error) {
		h, level := n.Hash, n.Level
		if level == 0 {
			out = append(out, ns.m[h])
		}
		return true, nil
	}))
	return out
}

func TestDiffCostsWhatDiffers(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	a := random(rng, 60_000)
	b := maps.Clone(a)
	b[slices.Sorted(maps.Keys(a))[30_000]] = "changed"
	ns := newNodes()
	ra, rb := a.build(t, ns), b.build(t, ns)
	ns.reads = 0
	found := 0
	require.NoError(t, tree.Diff(ctx, tree.Side{Source: ns, Root: ra}, tree.Side{Source: ns, Root: rb},
		func(tree.Difference) error { found++; return nil }))
	require.Equal(t, 1, found)
	require.Less(t, ns.reads, 16, "of %d nodes", len(ns.m))
	edits := editsBetween(a, b)
	ns.reads = 0
	_, err := tree.Merge(ctx, ns, ra, edits, ns)
	require.NoError(t, err)
	require.Less(t, ns.reads, 40)
}

func TestBuilderRefusesDisorder(t *testing.T) {
	b := tree.NewBuilder(tree.Nowhere{})
	require.NoError(t, b.Add(ctx, record.Record{Key: []byte("b")}))
	require.ErrorIs(t, b.Add(ctx, record.Record{Key: []byte("b")}), tree.ErrOrder)
	require.ErrorIs(t, b.Add(ctx, record.Record{Key: []byte("a")}), tree.ErrOrder)
}

func FuzzReadNodes(f *testing.F) {
	ns := newNodes()
	root := random(rand.New(rand.NewPCG(1, 1)), 500).build(f, ns)
	for _, n := range ns.m {
		f.Add(n[:min(len(n), 4096)], n[:min(len(n), 300)])
	}
	f.Fuzz(func(t *testing.T, node, other []byte) {
		// Whatever the bytes are: an error or an end, never a panic.
		m := newNodes()
		m.m[root.Hash] = node
		for level := range 2 {
			_ = tree.Walk(ctx, m, tree.Root{Hash: root.Hash, Records: 1, Level: level},
				func(record.Record) error { return nil })
		}
		if patch, ok := tree.EncodePatch(node, other, 1<<20); ok {
			_, _ = tree.ApplyPatch(node, patch)
		}
		_, _ = tree.ApplyPatch(node, other)
	})
}

// TestPiecesArePatched: a large value of which little has changed offers its pieces' former
// selves as bases, by a build beside an older tree and by a merge, and the tree is the same.
func TestPiecesArePatched(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 3))
	value := make([]byte, 1<<20+77)
	noise := rand.NewChaCha8([32]byte{3})
	_, _ = noise.Read(value)
	was := content{"small": "one", "large": string(value), "other": string(value[:300_000])}
	older := newNodes()
	base := was.build(t, older)
	for range 20 {
		now := bytes.Clone(value)
		for range 1 + r.IntN(5) {
			_, _ = noise.Read(now[r.IntN(len(now)-4096):][:1+r.IntN(4096)])
		}
		now = now[:len(now)-r.IntN(2)*r.IntN(5000)]
		want := content{"small": "two", "large": string(now), "other": string(value[:300_000])}
		plain := want.build(t, newNodes())
		for _, merged := range []bool{false, true} {
			sink := &patching{nodes: older, t: t}
			var got tree.Root
			var err error
			if merged {
				got, err = tree.Merge(ctx, older, base, &puts{list: records(want)}, sink)
			} else {
				b := tree.NewBuilder(sink).Near(older, base)
				for _, rec := range records(want) {
					require.NoError(t, b.Add(ctx, rec))
				}
				got, err = b.Finish(ctx)
			}
			require.NoError(t, err)
			require.Equal(t, plain, got)
			require.Less(t, sink.stored, 60_000, "of a value of a megabyte")
		}
	}
}

// patching counts what is stored where nodes are kept as patches of their bases.
type patching struct {
	nodes  *nodes
	t      *testing.T
	stored int
}

func (*patching) Cuts() tree.Cuts { return tree.Cuts{} }

func (p *patching) PutNode(ctx context.Context, h tree.Hash, node []byte, near tree.Hash) error {
	if _, err := p.nodes.Node(ctx, h); err == nil {
		return nil
	}
	if !near.IsZero() {
		base, err := p.nodes.Node(ctx, near)
		require.NoError(p.t, err)
		if patch, ok := tree.EncodePatch(base, node, len(node)/4); ok {
			again, err := tree.ApplyPatch(base, patch)
			require.NoError(p.t, err)
			require.Equal(p.t, node, again)
			p.stored += len(patch)
			return nil
		}
	}
	p.stored += len(node)
	return nil
}

func records(c content) (out []record.Record) {
	for _, k := range slices.Sorted(maps.Keys(c)) {
		out = append(out, record.Record{Key: []byte(k), Value: []byte(c[k])})
	}
	return out
}

// puts are edits that put records.
type puts struct {
	list []record.Record
	now  record.Record
}

func (p *puts) NextKey(context.Context) ([]byte, bool, error) {
	if len(p.list) == 0 {
		return nil, false, nil
	}
	p.now, p.list = p.list[0], p.list[1:]
	return p.now.Key, true, nil
}

func (p *puts) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	return p.now.Value, true, nil
}

func (p *puts) Blind() {}
