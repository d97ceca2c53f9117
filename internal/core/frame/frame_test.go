package frame_test

import (
	"bytes"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/frame"
)

func noise(n int) []byte {
	rng := rand.New(rand.NewPCG(1, uint64(n)))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(rng.UintN(256))
	}
	return b
}

func TestFramesGiveBackWhatTheyTook(t *testing.T) {
	contents := [][]byte{nil, {0}, []byte("linden"), bytes.Repeat([]byte("honey "), 40_000), noise(100_000)}
	var all []byte
	for _, c := range contents {
		all = frame.Append(all, frame.Leaf, c)
	}
	rest := all
	for _, c := range contents {
		h, err := frame.ReadHeader(rest)
		require.NoError(t, err)
		require.Equal(t, len(c), h.Raw)
		require.LessOrEqual(t, h.Stored, len(c), "what does not compress is stored as it is")
		var raw []byte
		raw, rest, err = frame.Open(rest, frame.Leaf)
		require.NoError(t, err)
		require.True(t, bytes.Equal(c, raw))
	}
	require.Empty(t, rest)
	_, _, err := frame.Open(all, frame.Footer)
	require.ErrorIs(t, err, frame.ErrDamaged, "another kind than belongs there")
}

func TestEveryFlippedBitAndEveryCutIsFound(t *testing.T) {
	for _, content := range [][]byte{[]byte("the queen was marked blue"), bytes.Repeat([]byte("calm "), 60)} {
		f := frame.Append(nil, frame.Changes, content)
		for bit := range len(f) * 8 {
			f[bit/8] ^= 1 << (bit % 8)
			_, _, err := frame.Open(f, frame.Changes)
			require.ErrorIs(t, err, frame.ErrDamaged, "bit %d", bit)
			f[bit/8] ^= 1 << (bit % 8)
		}
		for n := range f {
			_, _, err := frame.Open(f[:n], frame.Changes)
			require.ErrorIs(t, err, frame.ErrDamaged, "cut to %d", n)
		}
	}
}

func TestALaterFormatIsNotGuessedAt(t *testing.T) {
	f := frame.Append(nil, frame.Leaf, []byte("x"))
	f[3] = 2
	_, _, err := frame.Open(f, frame.Leaf)
	require.ErrorIs(t, err, frame.ErrTooNew)
}

func TestFramesAreMadeFromManyGoroutines(t *testing.T) {
	content := bytes.Repeat([]byte("varroa count low "), 5000)
	want := frame.Append(nil, frame.Leaf, content)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 20 {
				if !bytes.Equal(want, frame.Append(nil, frame.Leaf, content)) {
					t.Error("the same content gave another frame")
				}
			}
		})
	}
	wg.Wait()
}

func FuzzOpen(f *testing.F) {
	f.Add(frame.Append(nil, frame.Leaf, bytes.Repeat([]byte("honey "), 100)))
	f.Add(frame.Append(nil, frame.Shared, []byte("x")))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, k := range []frame.Kind{frame.Leaf, frame.Shared} {
			raw, _, err := frame.Open(b, k)
			if err != nil {
				continue
			}
			again, _, err := frame.Open(frame.Append(nil, k, raw), k)
			if err != nil || !bytes.Equal(raw, again) {
				t.Fatal("what was read is not what is written")
			}
		}
	})
}
