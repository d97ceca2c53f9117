package store_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

var errPower = errors.New("the power is gone")

// mains is a place whose power fails at the n-th change: that one is not made,
// or is made and its answer lost, and nothing after it is.
type mains struct {
	*blob.Memory
	mu      sync.Mutex
	left    int // changes until then; negative: never
	applied bool
	changes int
	out     bool
}

func (m *mains) change(do func() error) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.out {
		return errPower
	}
	m.changes++
	if m.left >= 0 {
		if m.left == 0 {
			m.out = true
			if m.applied {
				_ = do()
			}
			return errPower
		}
		m.left--
	}
	return do()
}

func (m *mains) Create(ctx context.Context, name string, data []byte) error {
	return m.change(func() error { return m.Memory.Create(ctx, name, data) })
}

func (m *mains) Remove(ctx context.Context, name string) error {
	return m.change(func() error { return m.Memory.Remove(ctx, name) })
}

// holder is a key that opens test stores.
type holder struct {
	secret string
	opt    store.Options
}

func newHolder(t testing.TB) holder {
	secret, _, err := store.NewSecret()
	require.NoError(t, err)
	ids, err := store.ParseSecret(secret)
	require.NoError(t, err)
	return holder{secret, store.Options{FileBytes: 16 << 10, Workers: 1, Unlock: ids}}
}

func (h holder) create(t testing.TB, b blob.Backend, parity string) {
	who, err := store.HolderOf(h.secret, "first", store.Read)
	require.NoError(t, err)
	_, err = store.Create(ctx, b, store.CreateOptions{Tool: "test", Holders: []store.Holder{who}, Parity: parity})
	require.NoError(t, err)
}

func (h holder) open(t testing.TB, b blob.Backend) *store.Store {
	s, err := store.Open(ctx, b, h.opt)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// version writes the n-th version of a small namespace and its point, as a
// snapshot does.
func version(s *store.Store, cluster string, n int) error {
	w := s.NewWriter(ctx)
	b := tree.NewBuilder(w)
	for i := range 600 {
		v := fmt.Sprintf("colony %d of %s, weight %d", i, cluster, i*7919%1000)
		if i%50 == n%50 || i < 40 {
			v += fmt.Sprintf(" in version %d: %x", n, noise(i*n%911+n, 90))
		}
		if err := b.Add(ctx, record.Record{
			Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: []byte(v)}); err != nil {
			w.Abandon()
			return err
		}
	}
	root, err := b.Finish(ctx)
	if err != nil {
		w.Abandon()
		return err
	}
	if _, err := w.Flush(ctx); err != nil {
		return err
	}
	pos := record.Position(binary.BigEndian.AppendUint64(nil, uint64(n)*100))
	at := time.Unix(int64(n)*1000, 0).UTC()
	return s.PutPoint(ctx, &store.Point{
		ID: fmt.Sprintf("v%03d", n), Cluster: cluster, Time: at, Shards: []store.PointShard{
			{Name: "yard", Mark: record.Mark{Position: pos, Wall: at}}},
		Namespaces: []store.PointNamespace{
			{Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"}, Root: root}}})
}

func noise(seed, n int) []byte {
	out := make([]byte, n)
	x := uint64(seed)*2654435761 + 1
	for i := range out {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		out[i] = byte(x)
	}
	return out
}

// stretch captures the log from version n to n+1.
func stretch(s *store.Store, cluster string, n int) error {
	keys, err := s.SegmentKeys(ctx)
	if err != nil {
		return err
	}
	mark := func(n int) record.Mark {
		return record.Mark{Position: record.Position(binary.BigEndian.AppendUint64(nil, uint64(n)*100)),
			Wall: time.Unix(int64(n)*1000, 0).UTC()}
	}
	chains, _, err := s.Chains(ctx, cluster)
	if err != nil {
		return err
	}
	var prev tree.Hash
	if c := chains["yard"]; c != nil {
		_, prev, _ = c.End()
	}
	b := journal.NewBuilder(keys, cluster, "yard", mark(n))
	if err := b.Add(&record.Change{Op: record.Put, Namespace: "apiary.colonies", At: mark(n + 1).Position,
		Wall: mark(n + 1).Wall.UnixMilli(), Key: []byte("k"), Value: []byte("v")}); err != nil {
		return err
	}
	b.CoverTo(mark(n + 1))
	h, data, err := b.Seal(prev, "meadow-1")
	if err != nil {
		return err
	}
	return s.PutSegment(ctx, h, data)
}

// TestThePowerFailsAtEveryWrite cuts the power at each change that snapshots,
// captures, retiring, reclaiming, mirroring, repairing and key changes make to a
// store, twice: before the change is made and just after. What the program was
// told is there must be, everything must be sound, and the same work done again
// must end well.
func TestThePowerFailsAtEveryWrite(t *testing.T) {
	h := newHolder(t)
	second := newHolder(t)
	who, err := store.HolderOf(second.secret, "second", store.Write)
	require.NoError(t, err)
	type state struct {
		points   map[string]bool // that exist as far as the program was told
		segments int
		retired  map[string]bool // that may be gone
	}
	// Each step tells what it has done when it has; those cut short tell nothing.
	steps := []struct {
		name string
		do   func(s *store.Store, b blob.Backend, st *state) error
	}{
		{"snapshot", func(s *store.Store, _ blob.Backend, st *state) error {
			if err := version(s, "meadow", 1); err != nil {
				return err
			}
			st.points["v001"] = true
			return nil
		}},
		{"capture", func(s *store.Store, _ blob.Backend, st *state) error {
			if err := stretch(s, "meadow", 1); err != nil {
				return err
			}
			st.segments++
			if err := stretch(s, "meadow", 2); err != nil {
				return err
			}
			st.segments++
			return nil
		}},
		{"more snapshots", func(s *store.Store, _ blob.Backend, st *state) error {
			for n := 2; n <= 3; n++ {
				if err := version(s, "meadow", n); err != nil {
					return err
				}
				st.points[fmt.Sprintf("v%03d", n)] = true
			}
			return nil
		}},
		{"key changes", func(s *store.Store, _ blob.Backend, _ *state) error {
			holder, err := s.AddHolder(ctx, who)
			if err != nil {
				return err
			}
			_, err = s.DropHolder(ctx, holder.ID)
			return err
		}},
		{"retire", func(s *store.Store, _ blob.Backend, st *state) error {
			st.retired["v001"] = true
			delete(st.points, "v001")
			st.segments = 1
			_, err := s.Retire(ctx, "meadow", []string{"v001"}, "")
			return err
		}},
		{"reclaim", func(s *store.Store, _ blob.Backend, _ *state) error {
			for range 3 {
				if _, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: time.Nanosecond,
					Dropped: time.Nanosecond}); err != nil {
					return err
				}
			}
			return nil
		}},
		{"rebuild the index", func(s *store.Store, _ blob.Backend, _ *state) error {
			_, _, _, err := s.RebuildListings(ctx)
			return err
		}},
		{"repair", func(s *store.Store, b blob.Backend, _ *state) error {
			_, err := s.Scrub(ctx, store.ScrubOptions{Repair: true})
			return err
		}},
		{"mirror", func(s *store.Store, b blob.Backend, _ *state) error {
			_, err := s.Mirror(ctx, b, store.MirrorOptions{Parallel: 1})
			return err
		}},
	}
	// sound opens a place anew and looks at everything.
	var repairing bool
	sound := func(t *testing.T, b blob.Backend, st *state, mirror bool) {
		s, err := store.Open(ctx, b, h.opt)
		if mirror && errors.Is(err, store.ErrNoStore) {
			return
		}
		require.NoError(t, err)
		defer s.Close()
		a, err := s.Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err)
		require.Empty(t, a.Points)
		require.Empty(t, a.Log)
		for _, d := range a.Damaged {
			require.False(t, d.LosesData)
			if !repairing {
				require.Contains(t, []string{"its parity is missing", "it is missing; its second copy is there"},
					d.What, d.Object)
			}
		}
		points, bad, err := s.Points(ctx, "meadow")
		require.NoError(t, err)
		require.Empty(t, bad)
		have := map[string]bool{}
		for _, p := range points {
			have[p.ID] = true
			require.NoError(t, check(s, p))
		}
		if mirror {
			return
		}
		for id := range st.points {
			require.True(t, have[id], "point %s was acknowledged", id)
		}
		chains, bad, err := s.Chains(ctx, "meadow")
		require.NoError(t, err)
		require.Empty(t, bad)
		n := 0
		if c := chains["yard"]; c != nil {
			n = len(c.Segments)
		}
		require.GreaterOrEqual(t, n, st.segments)
	}
	cuts := 0
	for i, step := range steps {
		repairing = step.name == "repair"
		for applied := range 2 {
			for at := 0; ; at++ {
				place, mirrorPlace := &mains{Memory: blob.NewMemory(), left: -1}, &mains{
					Memory: blob.NewMemory(), left: -1}
				h.create(t, place.Memory, "3+1")
				st := &state{points: map[string]bool{}, retired: map[string]bool{}}
				for _, before := range steps[:i] {
					s := h.open(t, place)
					require.NoError(t, before.do(s, mirrorPlace, st))
					s.Close()
				}
				hit := place
				if step.name == "mirror" {
					hit = mirrorPlace
				}
				if step.name == "repair" {
					hurtOneOfEach(t, place.Memory)
				}
				s := h.open(t, place)
				hit.left, hit.applied = at, applied == 1
				err := step.do(s, mirrorPlace, st)
				if !hit.out {
					require.NoError(t, err)
					require.Positive(t, at)
					s.Close()
					break // every write of this step was cut
				}
				cuts++
				// The process is gone with the power: its claims are found
				// over. Here their time has not passed, so they are taken away.
				hit.out, hit.left = false, -1
				s.Close()
				dropLeases(t, place.Memory)
				what := fmt.Sprintf("%s, cut at change %d", step.name, at)
				ok := t.Run(what, func(t *testing.T) {
					sound(t, place.Memory, st, false)
					sound(t, mirrorPlace.Memory, st, true)
					s := h.open(t, place)
					err := step.do(s, mirrorPlace, st)
					if errors.Is(err, blob.ErrExists) || errors.Is(err, store.ErrNoPoint) {
						err = nil // it was done, only the answer was lost
					}
					require.NoError(t, err)
					s.Close()
					sound(t, place.Memory, st, false)
					sound(t, mirrorPlace.Memory, st, true)
				})
				if !ok {
					return
				}
			}
		}
	}
	t.Logf("%d cuts", cuts)
	require.Greater(t, cuts, 150)
}

// hurtOneOfEach flips a bit in one object of every kind that has parity, and in
// parity.
func hurtOneOfEach(t *testing.T, b *blob.Memory) {
	done := map[string]bool{}
	var hurt []blob.Info
	require.NoError(t, b.List(ctx, "", func(i blob.Info) error {
		kind, _, _ := strings.Cut(i.Name, "/")
		if slices.Contains([]string{"content", "points", "journal", "datakeys", "holders", "parity", "listings",
			"dexamen-store"}, kind) && !done[kind] && (kind != "parity" || strings.HasSuffix(i.Name, "/v003")) {
			done[kind] = true
			hurt = append(hurt, i)
		}
		return nil
	}))
	for _, i := range hurt {
		b.Flip(i.Name, i.Size*4)
	}
}

func dropLeases(t *testing.T, b *blob.Memory) {
	var names []string
	require.NoError(t, b.List(ctx, "claims/", func(i blob.Info) error { names = append(names, i.Name); return nil }))
	for _, n := range names {
		require.NoError(t, b.Remove(ctx, n))
	}
}
