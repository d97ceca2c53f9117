package document

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
)

// TestReadWhileItWasChanged: a document that was read at any moment between updates, as servers before 5.0 log them,
// becomes what it is after the last, its fields in the same order.
func TestReadWhileItWasChanged(t *testing.T) {
	raw := func(d bson.D) []byte {
		b, err := bson.Marshal(d)
		require.NoError(t, err)
		return b
	}
	again, wrong, all := 0, 0, 0
	for seed := range uint64(20_000) {
		rng := rand.New(rand.NewPCG(seed, 11))
		fields := []string{"a", "b", "c", "d.x", "d.y", "d.z"}
		states := [][]byte{raw(bson.D{{Key: "_id", Value: 1}, {Key: "a", Value: 0},
			{Key: "d", Value: bson.D{{Key: "x", Value: 0}, {Key: "y", Value: 0}}}, {Key: "b", Value: 0}})}
		var patches []record.Change
		for range 1 + rng.IntN(7) {
			var set, unset, o bson.D
			for _, f := range fields {
				switch rng.IntN(8) {
				case 0:
					set = append(set, bson.E{Key: f, Value: rng.IntN(4)})
				case 1:
					unset = append(unset, bson.E{Key: f, Value: true})
				}
			}
			if len(unset) > 0 {
				o = append(o, bson.E{Key: "$unset", Value: unset})
			}
			if len(set) > 0 {
				o = append(o, bson.E{Key: "$set", Value: set})
			}
			if len(o) == 0 {
				continue
			}
			patches = append(patches, record.Change{Op: record.Patch, Value: raw(o)})
			next, err := applyUpdate(states[len(states)-1], raw(o), false)
			require.NoError(t, err)
			states = append(states, next)
		}
		want := states[len(states)-1]
		read := states[rng.IntN(len(states))]
		made := func(skip int) []byte {
			doc := read
			for _, p := range patches[skip:] {
				var err error
				doc, err = applyUpdate(doc, p.Value, true)
				require.NoError(t, err)
			}
			return doc
		}
		got := made(model{}.Shown(read, patches))
		require.True(t, sameValues(docValue(want), docValue(got)), "seed %d: %s, and not %s", seed, bson.Raw(got),
			bson.Raw(want))
		all++
		if string(got) != string(want) {
			wrong++
			t.Log(seed, bson.Raw(read), bson.Raw(got), bson.Raw(want))
			for _, p := range patches {
				t.Log(bson.Raw(p.Value))
			}
		}
		if string(made(0)) != string(want) {
			again++
		}
	}
	t.Logf("of %d, %d in another order; were all applied again, %d", all, wrong, again)
	require.Greater(t, again, 100)
	require.LessOrEqual(t, wrong, again/100, "few look the same at moments that differ")
}
