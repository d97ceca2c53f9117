package document

import (
	"testing"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
)

// TestScanningAllocatesNothing: a document that was read is handed on as it is, with a key in a buffer that is used
// again.
func TestScanningAllocatesNothing(t *testing.T) {
	for _, id := range []any{bson.NewObjectID(), "hive-0001", int64(7), bson.D{{Key: "yard", Value: "north"}}} {
		doc, err := bson.Marshal(bson.D{{Key: "name", Value: "linden"}, {Key: "_id", Value: id},
			{Key: "weight", Value: 3.5}})
		require.NoError(t, err)
		seen := 0
		s := &scanning{c: &set{}, fn: func(r record.Record) error {
			seen += len(r.Key) + len(r.Value)
			return nil
		}}
		require.Zero(t, testing.AllocsPerRun(100, func() { require.NoError(t, s.record("north:27017", doc, false)) }))
		require.Greater(t, seen, 100*len(doc))
	}
}
