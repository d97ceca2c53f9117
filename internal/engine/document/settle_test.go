package document

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
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

// TestSettledByTheFold: a scan's fold leaves out what the document shows already.
func TestSettledByTheFold(t *testing.T) {
	ctx := t.Context()
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	w := s.NewWriter(ctx)
	defer w.Abandon()
	doc := func(js string) []byte {
		var d bson.D
		require.NoError(t, bson.UnmarshalExtJSON([]byte(js), false, &d))
		raw, err := bson.Marshal(d)
		require.NoError(t, err)
		return raw
	}
	tb := tree.NewBuilder(w)
	require.NoError(t, tb.Add(ctx, record.Record{Key: []byte("k"), Value: doc(`{"_id":1,"b":1,"n":72,"c":1}`)}))
	root, err := tb.Finish(ctx)
	require.NoError(t, err)
	f := fold.New(model{}, true, t.TempDir(), 2048)
	defer f.Close()
	f.Base(record.Namespace{Name: "farm.hives", Ident: []byte("1"), Kind: "collection"}, root)
	for i, js := range []string{`{"$unset":{"n":true},"$set":{"b":1}}`, `{"$set":{"n":72}}`, `{"$set":{"c":1}}`,
		`{"$set":{"n":14}}`} {
		require.NoError(t, f.Change(&record.Change{Op: record.Patch, Namespace: "farm.hives", Ident: []byte("1"),
			Key: []byte("k"), Value: doc(js), At: position(100, uint32(i+1))}))
	}
	require.NoError(t, f.Merge(ctx, w, w, nil, func(_ *fold.Namespace, root tree.Root) error {
		return tree.Walk(ctx, w, root, func(r record.Record) error {
			require.Equal(t, bson.Raw(doc(`{"_id":1,"b":1,"n":14,"c":1}`)).String(), bson.Raw(r.Value).String())
			return nil
		})
	}))
}
