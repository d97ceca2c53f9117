package tree

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestReadingALeafAllocatesNothing: a leaf is read record by record out of what is there already; only the
// key's buffer is made.
func TestReadingALeafAllocatesNothing(t *testing.T) {
	var w leafWriter
	w.reset(leafRoom)
	const n = 500
	for i := range n {
		w.add(&entry{key: fmt.Appendf(nil, "hive-%04d", i), value: []byte("calm"), size: 4})
	}
	read := func() {
		r, err := newLeafReader(w.buf)
		require.NoError(t, err)
		var e entry
		seen := 0
		for ok := true; ok; seen++ {
			ok, err = r.next(&e)
			require.NoError(t, err)
		}
		require.Equal(t, n+1, seen)
	}
	require.LessOrEqual(t, testing.AllocsPerRun(10, read), 10.0)
}

// FuzzNamesPieces holds that looking for pieces without putting keys together says what reading each entry does.
func FuzzNamesPieces(f *testing.F) {
	var w leafWriter
	w.reset(leafRoom)
	for i := range 9 {
		w.add(&entry{key: fmt.Appendf(nil, "hive-%04d", i), value: []byte("calm"), size: 4})
	}
	f.Add(bytes.Clone(w.buf))
	w.add(&entry{key: []byte("queen"), pieces: []Hash{{1}, {2}}, size: MaxInline + 5})
	f.Add(bytes.Clone(w.buf))
	f.Add([]byte{leafNode})
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) == 0 || b[0] != leafNode {
			require.False(t, NamesPieces(b))
			return
		}
		names := false
		err := eachEntry(b, func(e *entry) error {
			names = names || e.external()
			return nil
		})
		require.Equal(t, names || err != nil, NamesPieces(b))
	})
}
