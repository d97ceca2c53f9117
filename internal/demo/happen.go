package demo

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
)

// HappenHelp lists the lines that Happen takes.
const HappenHelp = "work WRITES, spoil, drop DATABASE.COLLECTION"

// Happen does to the data what applications and people do, by a line of text: an ordinary day, a script
// that marks every colony of the north yard as collapsed, a collection that is dropped. It returns what
// was done; known is false where the line is of another kind.
func (a Apiary) Happen(ctx context.Context, cl *mongo.Client, line string) (said string, known bool, err error) {
	f := strings.Fields(line)
	switch {
	case len(f) == 2 && f[0] == "work":
		n, err := strconv.Atoi(f[1])
		if err != nil || n < 0 {
			return "", true, fmt.Errorf("work %s: give a number of writes", f[1])
		}
		// The seed sets the ids of what is added: another one each time, so that no day is like another.
		seed, err := cl.Database(Database).Collection("inspections").CountDocuments(ctx, bson.D{})
		if err != nil {
			return "", true, err
		}
		return f[1] + " writes", true, a.Work(ctx, cl, uint64(seed), n) //nolint:gosec // no count is negative
	case len(f) == 1 && f[0] == "spoil":
		r, err := cl.Database(Database).Collection("colonies").UpdateMany(ctx, bson.D{{Key: "yard", Value: "north"}},
			bson.D{{Key: "$set", Value: bson.D{{Key: "status", Value: "collapsed"}}}})
		if err != nil {
			return "", true, err
		}
		return fmt.Sprintf("%d colonies of the north yard are marked as collapsed", r.ModifiedCount), true, nil
	case len(f) == 2 && f[0] == "drop":
		db, coll, ok := strings.Cut(f[1], ".")
		if !ok || coll == "" {
			return "", true, fmt.Errorf("drop %s: give a DATABASE.COLLECTION", f[1])
		}
		return f[1] + " is dropped", true, cl.Database(db).Collection(coll).Drop(ctx)
	}
	return "", false, nil
}
