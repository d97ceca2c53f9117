package document

import (
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// TestPartitionsTravel holds that the ends of partitions keep value and type from one process to
// another, and that what is no partition is refused.
func TestPartitionsTravel(t *testing.T) {
	c := &cluster{}
	value := func(v any) bson.RawValue {
		typ, b, err := bson.MarshalValue(v)
		require.NoError(t, err)
		return bson.RawValue{Type: typ, Value: b}
	}
	ends := []any{nil, value(int32(7)), value(int64(7)), value(7.0), value("a.b"), value(bson.NewObjectID()),
		value(bson.D{{Key: "to", Value: 1}}), value(bson.MinKey{}), value(bson.Null{}), value(bson.Binary{Subtype: 4,
			Data: make([]byte, 16)})}
	for _, from := range ends {
		for _, to := range ends {
			b, err := c.EncodePartition(engine.Partition{From: from, To: to})
			require.NoError(t, err)
			p, err := c.DecodePartition(b)
			require.NoError(t, err)
			for _, x := range []struct{ want, got any }{{from, p.From}, {to, p.To}} {
				if x.want == nil {
					require.Nil(t, x.got)
				} else {
					require.True(t, x.want.(bson.RawValue).Equal(x.got.(bson.RawValue)), "%v", x.want)
				}
			}
		}
	}
	for _, bad := range [][]byte{nil, {1}, []byte("hello, this is none"), {5, 0, 0, 0, 1}} {
		_, err := c.DecodePartition(bad)
		require.Error(t, err)
	}
	_, err := c.EncodePartition(engine.Partition{From: "text"})
	require.Error(t, err)
}

// TestWhatWasSeenTravels holds that a connection that is joined waits for members that show as much as
// another has read, and never less than it knew itself.
func TestWhatWasSeenTravels(t *testing.T) {
	one := func(at record.Position) *cluster {
		return &cluster{sets: map[string]*set{"s1": {shard: "s1", seen: at}, "s2": {shard: "s2", seen: position(9, 9)}},
			order: []string{"s1", "s2"}}
	}
	a, b := one(position(5, 1)), one(position(3, 0))
	shared, err := a.Share()
	require.NoError(t, err)
	_, err = b.Join(shared)
	require.NoError(t, err)
	require.Equal(t, position(5, 1), b.sets["s1"].seen)
	shared, err = one(position(2, 0)).Share()
	require.NoError(t, err)
	_, err = b.Join(shared)
	require.NoError(t, err)
	require.Equal(t, position(5, 1), b.sets["s1"].seen)
	_, err = b.Join([]byte(`{"s3": "00"}`))
	require.ErrorContains(t, err, "no shard")
}
