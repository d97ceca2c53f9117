package record_test

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
)

func TestChangesSurviveTheirEncoding(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	var all []record.Change
	var b []byte
	for range 200 {
		c := record.Change{Op: record.Op(1 + rng.IntN(8)), Namespace: "apiary.harvests",
			At: record.Position("12345678"), Wall: time.Now().UnixMilli(), To: "x"}
		for _, p := range []*[]byte{&c.Ident, &c.Key, &c.Value} {
			if n := rng.IntN(50); n > 0 {
				*p = bytes.Repeat([]byte{byte(n)}, n)
			}
		}
		all = append(all, c)
		b = record.AppendChange(b, &c)
	}
	for _, want := range all {
		var c record.Change
		var err error
		c, b, err = record.ReadChange(b)
		require.NoError(t, err)
		require.Equal(t, want, c)
	}
	require.Empty(t, b)
	short := record.AppendChange(nil, &all[0])
	for i := range short {
		_, _, err := record.ReadChange(short[:i])
		require.ErrorIs(t, err, record.ErrTruncated)
	}
}
