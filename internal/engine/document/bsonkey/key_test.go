package bsonkey_test

import (
	"bytes"
	"math"
	"math/big"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/engine/document/bsonkey"
	"dexamen/internal/sim/docsim"
)

func encode(t testing.TB, v any) (bson.RawValue, []byte) {
	doc, err := bson.Marshal(bson.D{{Key: "_id", Value: v}})
	require.NoError(t, err)
	key, err := bsonkey.Of(doc)
	require.NoError(t, err)
	return bson.Raw(doc).Lookup("_id"), key
}

// TestKeysOrderAsServersDo holds the encoding against the stand-in's
// comparison, which is written from the servers' manual and shares no code.
func TestKeysOrderAsServersDo(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	var vals []bson.RawValue
	var keys [][]byte
	add := func(v any) {
		r, k := encode(t, v)
		vals, keys = append(vals, r), append(keys, k)
	}
	for _, v := range []any{bson.MinKey{}, bson.MaxKey{}, nil, true, false, "", "a", "a\x00", "a\x00b", "ab", "Ωρίων",
		int32(0), int64(0), 0.0,
		math.Copysign(0, -1), math.NaN(), math.Inf(1), math.Inf(-1), int32(5), int64(5), 5.0, 5.5, -5.5, -5,
		math.MaxInt64, math.MinInt64, 9.223372036854775807e18, -9.223372036854775808e18,
		1e19, -1e19, 1e308, 5e-324, -5e-324, 0.1, bson.ObjectID{1}, bson.ObjectID{2}, bson.DateTime(-5),
		bson.DateTime(5), bson.Timestamp{T: 1, I: 2}, bson.Timestamp{T: 1, I: 3},
		bson.Binary{Data: []byte{1}}, bson.Binary{Subtype: 4, Data: []byte{1}}, bson.Binary{Data: []byte{0, 0}},
		bson.D{}, bson.D{{Key: "a", Value: 1}}, bson.D{{Key: "a", Value: 1.0}},
		bson.D{{Key: "a", Value: "x"}}, bson.D{{Key: "b", Value: 0}},
		bson.D{{Key: "a", Value: 1}, {Key: "b", Value: 2}}, bson.D{{Key: "a", Value: bson.A{1, "x"}}},
		bson.D{{Key: "a", Value: bson.A{1}}},
	} {
		add(v)
	}
	for _, s := range []string{"5", "5.0", "0.1", "-0.1", "5E+3", "5000", "1E+6111", "-1E+6111", "1E-6176",
		"9223372036854775807", "9223372036854775808", "-9223372036854775808", "NaN", "Infinity", "-Infinity", "0E+3",
		"1234567890123456789012345678901234"} {
		d, err := bson.ParseDecimal128(s)
		require.NoError(t, err)
		add(d)
	}
	for range 400 {
		switch rng.IntN(6) {
		case 0:
			add(rng.Int64() >> rng.IntN(63))
		case 1:
			add(math.Float64frombits(rng.Uint64()))
		case 2:
			add(float64(rng.Int64N(4000)-2000) / 16)
		case 3:
			d, _ := bson.ParseDecimal128FromBigInt(big.NewInt(rng.Int64()-rng.Int64()), rng.IntN(40)-20)
			add(d)
		case 4:
			add(int32(rng.IntN(4000) - 2000))
		case 5:
			add(bson.D{{Key: string(rune('a' + rng.IntN(3))), Value: rng.IntN(3)},
				{Key: "z", Value: float64(rng.IntN(3))}})
		}
	}
	for i := range vals {
		for j := range vals {
			want := docsim.Compare(vals[i], vals[j])
			got := bytes.Compare(keys[i], keys[j])
			require.Equal(t, want, got, "%s (%s) and %s (%s)", vals[i], vals[i].Type, vals[j], vals[j].Type)
			if want != 0 {
				require.False(t, bytes.HasPrefix(keys[i], keys[j]), "%s begins with %s", vals[i], vals[j])
			}
		}
	}
}

func TestDocumentsWithoutKeyAreRefused(t *testing.T) {
	doc, _ := bson.Marshal(bson.D{{Key: "x", Value: 1}})
	_, err := bsonkey.Of(doc)
	require.ErrorContains(t, err, "no _id")
	_, err = bsonkey.Of(doc[:len(doc)-2])
	require.ErrorIs(t, err, bsonkey.ErrMalformed)
}

func FuzzDocumentKey(f *testing.F) {
	for _, v := range []any{"x", 1, 1.5, bson.D{{Key: "a", Value: bson.A{1, bson.Regex{Pattern: "a"}}}},
		bson.CodeWithScope{Code: "c", Scope: bson.D{}}} {
		doc, _ := bson.Marshal(bson.D{{Key: "_id", Value: v}})
		f.Add(doc)
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		key, err := bsonkey.Of(doc)
		if err == nil && len(key) == 0 {
			t.Fatal("an empty key")
		}
		if bson.Raw(doc).Validate() == nil {
			if _, lerr := bson.Raw(doc).LookupErr("_id"); lerr == nil && err != nil {
				t.Logf("valid for the driver, refused here: %v", err)
			}
		}
	})
}
