package tree

import (
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
