package sortedfile_test

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/sortedfile"
)

var form = sortedfile.Form{Record: 41, Key: 32}

// records makes n records in order; of few bytes that vary, so that keys come again.
func records(rng *rand.Rand, n, keys int) [][]byte {
	out := make([][]byte, n)
	for i := range out {
		r := make([]byte, form.Record)
		binary.BigEndian.PutUint32(r, uint32(rng.IntN(keys)))
		binary.BigEndian.PutUint64(r[33:], uint64(i))
		out[i] = r
	}
	slices.SortStableFunc(out, func(a, b []byte) int { return bytes.Compare(a[:form.Key], b[:form.Key]) })
	return out
}

func write(t testing.TB, list [][]byte) []byte {
	var b bytes.Buffer
	w := sortedfile.NewWriter(&b, form)
	for _, r := range list {
		require.NoError(t, w.Add(r))
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func open(t testing.TB, data []byte) *sortedfile.File {
	f, err := sortedfile.Open(bytes.NewReader(data), int64(len(data)), form)
	require.NoError(t, err)
	return f
}

// TestFindsWhatWasWritten: against a list, for trees of one to three heights, with few keys and
// with many, also those that are not there.
func TestFindsWhatWasWritten(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{0, 1, 2, 99, 100, 5000, 30_000, 1_500_000} {
		for _, keys := range []int{1, 50, 1 << 30} {
			if n > 100_000 && keys < 1<<30 {
				continue
			}
			list := records(rng, n, keys)
			f := open(t, write(t, list))
			require.EqualValues(t, n, f.Len())
			at := 0
			for c := f.Cursor(); ; at++ {
				r, ok, err := c.Next()
				require.NoError(t, err)
				if !ok {
					break
				}
				if !bytes.Equal(list[at], r) {
					t.Fatalf("record %d of %d", at, n)
				}
			}
			require.Equal(t, n, at)
			look := func(key []byte) {
				from, _ := slices.BinarySearchFunc(list, key, func(r, k []byte) int { return bytes.Compare(r[:form.Key], k) })
				var got int
				require.NoError(t, f.Find(key, func(number int64, r []byte) bool {
					if number != int64(from+got) || !bytes.Equal(r, list[number]) {
						t.Fatalf("record %d, and %d was to be found", number, from+got)
					}
					got++
					return true
				}))
				want := 0
				for from+want < n && bytes.Equal(list[from+want][:form.Key], key) {
					want++
				}
				require.Equal(t, want, got)
			}
			for range min(n, 300) {
				look(list[rng.IntN(n)][:form.Key])
			}
			for range 50 {
				key := make([]byte, form.Key)
				binary.BigEndian.PutUint64(key, rng.Uint64())
				look(key)
			}
			look(bytes.Repeat([]byte{0xff}, form.Key))
			look(make([]byte, form.Key))
		}
	}
}

// TestMerge: the records of several files are those of one list that was sorted.
func TestMerge(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	var all [][]byte
	var sources []sortedfile.Source
	for i, n := range []int{0, 7000, 1, 300} {
		list := records(rng, n, 900)
		for _, r := range list {
			r[32] = byte(i)
		}
		all = append(all, list...)
		if i == 3 {
			sources = append(sources, &sortedfile.Records{Bytes: bytes.Join(list, nil), Size: form.Record})
			continue
		}
		sources = append(sources, open(t, write(t, list)).Cursor())
	}
	slices.SortStableFunc(all, func(a, b []byte) int { return bytes.Compare(a[:form.Key], b[:form.Key]) })
	at := 0
	for m := sortedfile.NewMerge(form.Key, sources...); ; at++ {
		r, ok, err := m.Next()
		require.NoError(t, err)
		if !ok {
			break
		}
		require.Equal(t, all[at], r)
	}
	require.Len(t, all, at)
}

// TestDamageIsFound: whatever byte is another one, or missing, a lookup gives what was written, or
// an error; going through all of it always gives an error.
func TestDamageIsFound(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	list := records(rng, 2000, 1<<30)
	data := write(t, list)
	for range 400 {
		bad := bytes.Clone(data)
		bad[rng.IntN(len(bad))] ^= byte(1 + rng.IntN(255))
		if rng.IntN(4) == 0 {
			bad = bad[:rng.IntN(len(bad))]
		}
		f, err := sortedfile.Open(bytes.NewReader(bad), int64(len(bad)), form)
		if err != nil {
			require.ErrorIs(t, err, sortedfile.ErrDamaged)
			continue
		}
		for range 20 {
			want := list[rng.IntN(len(list))]
			found := false
			err := f.Find(want[:form.Key], func(_ int64, r []byte) bool { found = bytes.Equal(r, want); return true })
			if err == nil {
				require.True(t, found)
			}
		}
		ok, c := true, f.Cursor()
		for ok && err == nil {
			_, ok, err = c.Next()
		}
		require.Error(t, err)
	}
	_, err := sortedfile.Open(bytes.NewReader(data), int64(len(data)), sortedfile.Form{Record: 40, Key: 32})
	require.ErrorIs(t, err, sortedfile.ErrDamaged)
}

// TestOrderIsHeld: records that are not in order are an error, not a file that finds nothing.
func TestOrderIsHeld(t *testing.T) {
	list := records(rand.New(rand.NewPCG(7, 8)), 2, 1<<30)
	w := sortedfile.NewWriter(&bytes.Buffer{}, form)
	require.NoError(t, w.Add(list[1]))
	require.ErrorContains(t, w.Add(list[0]), "before the last one")
}
