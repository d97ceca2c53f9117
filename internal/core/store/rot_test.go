package store_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// TestRot flips one bit anywhere in a store, again and again (DEXAMEN_FLIPS
// times): never is a wrong byte returned, the scrub always finds it, and names
// those points and stretches of log that are lost by it and no others. With
// parity nothing is lost, and repairing makes everything sound again.
func TestRot(t *testing.T) {
	flips := 400
	if s := os.Getenv("DEXAMEN_FLIPS"); s != "" {
		flips, _ = strconv.Atoi(s)
	}
	for _, kind := range []string{"plain", "encrypted", "parity"} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			rot(t, kind, flips)
		})
	}
}

func rot(t *testing.T, kind string, flips int) {
	h := newHolder(t)
	b := blob.NewMemory()
	switch kind {
	case "plain":
		h.opt.Unlock = nil
		_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
		require.NoError(t, err)
	case "encrypted":
		h.create(t, b, "")
	default:
		h.create(t, b, "4+1")
	}
	s := h.open(t, b)
	for n := 1; n <= 3; n++ {
		for _, c := range []string{"meadow", "orchard"} {
			require.NoError(t, version(s, c, n))
			require.NoError(t, stretch(s, c, n))
		}
	}
	_, err := s.Scrub(ctx, store.ScrubOptions{})
	require.NoError(t, err)
	s.Close()
	want := readBack(t, h, b)
	require.Len(t, want, 12)
	for _, v := range want {
		require.NotContains(t, v, "error")
	}
	var objects []blob.Info
	require.NoError(t, b.List(ctx, "", func(i blob.Info) error { objects = append(objects, i); return nil }))
	rng := rand.New(rand.NewPCG(4, uint64(len(kind))))
	lost := 0
	for n := range flips {
		i := objects[rng.IntN(len(objects))]
		bit := rng.Int64N(i.Size * 8)
		what := fmt.Sprintf("flip %d: %s, bit %d", n, i.Name, bit)
		b.Flip(i.Name, bit)
		got := readBack(t, h, b)
		hurt := map[string]bool{}
		for name, v := range want {
			if got[name] == v {
				continue
			}
			require.True(t, got[name] == "" || strings.HasPrefix(got[name], "error"), "%s: %s gives wrong bytes", what,
				name)
			hurt[name] = true
		}
		s, err := store.Open(ctx, b, h.opt)
		require.NoError(t, err, what)
		a, err := s.Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err, what)
		require.Len(t, a.Damaged, 1, what)
		require.Equal(t, i.Name, a.Damaged[0].Object, what)
		require.Equal(t, len(hurt) > 0, a.Damaged[0].LosesData, what)
		named := map[string]bool{}
		for _, p := range a.Points {
			if p.Cluster != "" {
				named[p.Cluster+" "+p.ID] = true
				continue
			}
			for name := range hurt { // which cluster cannot be read either
				named[name] = true
			}
		}
		for _, l := range a.Log {
			for name := range hurt {
				if l.Cluster == "" || strings.HasPrefix(name, l.Cluster+" p") {
					named[name] = true
				}
			}
		}
		require.Equal(t, hurt, named, what)
		if len(hurt) > 0 {
			lost++
		}
		if kind == "parity" {
			require.Empty(t, hurt, what)
			if strings.HasPrefix(i.Name, "claims/") {
				b.Flip(i.Name, bit) // it ends by itself, in a quarter of an hour
			}
			a, err := s.Scrub(ctx, store.ScrubOptions{Repair: true})
			require.NoError(t, err, what)
			require.True(t, a.Sound(), "%s: %+v", what, a)
			a, err = s.Scrub(ctx, store.ScrubOptions{})
			require.NoError(t, err, what)
			require.Empty(t, a.Damaged, what)
		} else {
			b.Flip(i.Name, bit)
		}
		s.Close()
		// Audits are kept; here they would only dilute what is flipped.
		for _, o := range namesBelow(t, b, "scrubs/")[1:] {
			require.NoError(t, b.Remove(ctx, o))
		}
		objects = objects[:0]
		require.NoError(t, b.List(ctx, "", func(i blob.Info) error { objects = append(objects, i); return nil }))
	}
	t.Logf("%d bits flipped, %d of them cost something", flips, lost)
	if kind != "parity" {
		require.Positive(t, lost)
	}
}

func namesBelow(t testing.TB, b blob.Backend, prefix string) (out []string) {
	require.NoError(t, b.List(ctx, prefix, func(i blob.Info) error { out = append(out, i.Name); return nil }))
	return out
}

// readBack reads all points and segments; what cannot be read is an error.
func readBack(t *testing.T, h holder, b blob.Backend) map[string]string {
	s, err := store.Open(ctx, b, h.opt)
	require.NoError(t, err)
	defer s.Close()
	out := map[string]string{}
	points, _, err := s.Points(ctx, "")
	require.NoError(t, err)
	for _, p := range points {
		name := p.Cluster + " " + p.ID
		var sum strings.Builder
		for _, ns := range p.Namespaces {
			err := tree.Walk(ctx, s, ns.Root,
				func(r record.Record) error { fmt.Fprintf(&sum, "%x=%s;", r.Key, r.Value); return nil })
			if err != nil {
				require.True(t, errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrMissing) ||
					errors.Is(err, frame.ErrLocked), "%v", err)
				sum.Reset()
				sum.WriteString("error")
			}
		}
		out[name] = sum.String()
	}
	for _, c := range []string{"meadow", "orchard"} {
		chains, _, err := s.Chains(ctx, c)
		require.NoError(t, err)
		if chains["yard"] == nil {
			continue
		}
		for _, seg := range chains["yard"].Segments {
			name := c + " p" + seg.After.Position.Hex()
			sum := ""
			err := s.ReadSegment(ctx, seg, func(ch *record.Change) error { sum += fmt.Sprintf("%+v", *ch); return nil })
			if err != nil {
				require.True(t, errors.Is(err, journal.ErrDamaged) || errors.Is(err, frame.ErrLocked), "%v", err)
				sum = "error"
			}
			out[name] = sum
		}
	}
	return out
}

// TestStaleParity that is whole in itself and of other bytes than its object's is found and made
// anew, of every kind of object: else it is missed on the day that it is needed.
func TestStaleParity(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "4+1")
	s := h.open(t, b)
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, stretch(s, "meadow", 1))
	s.Close()
	kinds := map[string]bool{}
	for _, parity := range namesBelow(t, b, "parity/") {
		name := strings.TrimPrefix(parity, "parity/")
		kind, _, _ := strings.Cut(name, "/")
		kinds[kind] = true
		object, err := b.Read(ctx, name)
		require.NoError(t, err)
		other := append([]byte{}, object...)
		other[len(other)/2] ^= 1
		pieces, more := 4, 1
		if sealed.HasSecondCopy(name) {
			pieces = 1
		}
		stale, err := sealed.EncodeParity(name, other, pieces, more)
		require.NoError(t, err)
		require.NoError(t, b.Remove(ctx, parity))
		require.NoError(t, b.Create(ctx, parity, stale))

		a, err := h.open(t, b).Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err)
		require.Len(t, a.Damaged, 1, parity)
		require.Equal(t, parity, a.Damaged[0].Object)
		require.False(t, a.Damaged[0].LosesData)
		a, err = h.open(t, b).Scrub(ctx, store.ScrubOptions{Repair: true})
		require.NoError(t, err)
		require.True(t, a.Sound(), "%s: %+v", parity, a)
		b.Flip(name, int64(len(object)*4))
		a, err = h.open(t, b).Scrub(ctx, store.ScrubOptions{Repair: true})
		require.NoError(t, err)
		require.True(t, a.Sound(), "%s: %+v", parity, a)
		a, err = h.open(t, b).Scrub(ctx, store.ScrubOptions{})
		require.NoError(t, err)
		require.Empty(t, a.Damaged, parity)
	}
	for _, kind := range []string{"content", "points", "journal", "holders", "dexamen-store"} {
		require.True(t, kinds[kind], "%s: %v", kind, kinds)
	}
}
