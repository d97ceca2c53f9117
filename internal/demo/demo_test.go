package demo_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/demo"
)

// made generates all data: its digest, documents by collection, the value
// types seen and the largest document.
func made(t *testing.T, a demo.Apiary) (sum [32]byte, counts map[string]int, types map[bson.Type]bool, largest int) {
	h := blake3.New()
	counts, types = map[string]int{}, map[bson.Type]bool{}
	ids := map[string]bool{}
	require.NoError(t, a.Each(func(d demo.Document) error {
		b, err := bson.Marshal(d.Body)
		require.NoError(t, err)
		_, _ = h.Write(b)
		counts[d.Collection]++
		largest = max(largest, len(b))
		id := d.Collection + bson.Raw(b).Lookup("_id").String()
		require.False(t, ids[id], "%s twice", id)
		ids[id] = true
		elems, _ := bson.Raw(b).Elements()
		for _, e := range elems {
			types[e.Value().Type] = true
		}
		return nil
	}))
	copy(sum[:], h.Sum(nil))
	return sum, counts, types, largest
}

func TestTheSameEveryTime(t *testing.T) {
	a, counts, types, largest := made(t, demo.Apiary{Seed: 1, Documents: 10_000})
	b, _, _, _ := made(t, demo.Apiary{Seed: 1, Documents: 10_000})
	require.Equal(t, a, b)
	c, _, _, _ := made(t, demo.Apiary{Seed: 2, Documents: 10_000})
	require.NotEqual(t, a, c)
	total := 0
	for _, n := range counts {
		total += n
	}
	require.Equal(t, 10_000, total)
	require.Len(t, counts, 5)
	require.Greater(t, largest, 15_000, "a few documents are large")
	for _, want := range []bson.Type{bson.TypeDouble, bson.TypeString, bson.TypeEmbeddedDocument, bson.TypeArray,
		bson.TypeBinary, bson.TypeObjectID, bson.TypeBoolean,
		bson.TypeDateTime, bson.TypeNull, bson.TypeRegex, bson.TypeInt32, bson.TypeTimestamp, bson.TypeInt64,
		bson.TypeDecimal128, bson.TypeMinKey, bson.TypeMaxKey} {
		require.True(t, types[want], "%s", want)
	}
	_, _, plain, _ := made(t, demo.Apiary{Seed: 1, Documents: 1000, Plain: true})
	require.False(t, plain[bson.TypeDecimal128] || plain[bson.TypeMinKey])
	_, few, _, _ := made(t, demo.Apiary{Seed: 1, Documents: 1})
	require.NotEmpty(t, few)
}
