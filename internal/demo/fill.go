package demo

import (
	"context"
	"fmt"
	"math/rand/v2"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// Database is the name of the demonstration's database.
const Database = "apiary"

// Define makes the collections with their options and indexes: a unique one, a
// TTL one, a sparse one, and a validator.
func (a Apiary) Define(ctx context.Context, cl *mongo.Client) error {
	db := cl.Database(Database)
	opt := options.CreateCollection()
	if !a.Plain {
		opt.SetValidator(bson.D{{Key: "kg", Value: bson.D{{Key: "$gte", Value: 0}}}}).SetValidationLevel("moderate")
	}
	if err := db.CreateCollection(ctx, "harvests", opt); err != nil {
		return err
	}
	type ix struct {
		coll, name string
		keys       bson.D
		opt        *options.IndexOptionsBuilder
	}
	list := []ix{
		{"harvests", "batch", bson.D{{Key: "batch", Value: int32(1)}}, options.Index().SetUnique(true)},
		{"harvests", "colony_at", bson.D{{Key: "colony", Value: int32(1)}, {Key: "at", Value: int32(-1)}},
			options.Index()},
		{"harvests_2025", "batch", bson.D{{Key: "batch", Value: int32(1)}}, options.Index().SetUnique(true)},
		{"colonies", "yard_status", bson.D{{Key: "yard", Value: int32(1)}, {Key: "status", Value: int32(1)}},
			options.Index()},
		{"inspections", "colony", bson.D{{Key: "colony", Value: int32(1)}}, options.Index()},
		{"keepers", "member", bson.D{{Key: "member", Value: int32(1)}}, options.Index().SetUnique(true)},
	}
	if !a.Plain {
		list = append(list,
			ix{"inspections", "expiry", bson.D{{Key: "at", Value: int32(1)}},
				options.Index().SetExpireAfterSeconds(10 * 365 * 86400)},
			ix{"inspections", "treated", bson.D{{Key: "varroa.treated", Value: int32(1)}},
				options.Index().SetSparse(true)})
	}
	for _, x := range list {
		if _, err := db.Collection(x.coll).Indexes().CreateOne(ctx,
			mongo.IndexModel{Keys: x.keys, Options: x.opt.SetName(x.name)}); err != nil {
			return fmt.Errorf("index %s of %s: %w", x.name, x.coll, err)
		}
	}
	return nil
}

// Fill defines the collections and writes all documents.
func (a Apiary) Fill(ctx context.Context, cl *mongo.Client) error {
	if err := a.Define(ctx, cl); err != nil {
		return err
	}
	db := cl.Database(Database)
	batches := map[string][]any{}
	flush := func(coll string) error {
		if len(batches[coll]) == 0 {
			return nil
		}
		_, err := db.Collection(coll).InsertMany(ctx, batches[coll], options.InsertMany().SetOrdered(false))
		batches[coll] = nil
		return err
	}
	err := a.Each(func(d Document) error {
		batches[d.Collection] = append(batches[d.Collection], d.Body)
		if len(batches[d.Collection]) >= 2000 {
			return flush(d.Collection)
		}
		return nil
	})
	for coll := range batches {
		if err == nil {
			err = flush(coll)
		}
	}
	return err
}

// Work does n writes as the cooperative's day brings them: inspections come
// in, colonies are weighed, queens change, a few entries are taken back.
func (a Apiary) Work(ctx context.Context, cl *mongo.Client, seed uint64, n int) error {
	r := rand.New(rand.NewPCG(a.Seed, seed))
	db := cl.Database(Database)
	colonies, inspections, harvests, _, _ := a.counts()
	var last any = ""
	for i := range n {
		var err error
		colony := bson.D{{Key: "_id", Value: ColonyID(r.IntN(max(colonies, 1)))}}
		switch r.IntN(10) {
		case 0, 1, 2:
			doc := a.inspection(r, inspections+int(seed)*1_000_000+i, colonies)
			last = doc[0].Value
			_, err = db.Collection("inspections").InsertOne(ctx, doc)
		case 3, 4, 5:
			_, err = db.Collection("colonies").UpdateOne(ctx, colony,
				bson.D{{Key: "$set", Value: bson.D{{Key: "weight", Value: 20 + r.Float64()*30}}}})
		case 6:
			_, err = db.Collection("colonies").UpdateOne(ctx, colony,
				bson.D{
					{Key: "$set", Value: bson.D{
						{Key: "queen.year", Value: int32(2026)}, {Key: "queen.marked", Value: true}}}})
		case 7:
			_, err = db.Collection("colonies").UpdateOne(ctx, colony,
				bson.D{
					{Key: "$push", Value: bson.D{
						{Key: "boxes", Value: bson.D{
							{Key: "no", Value: int32(9)}, {Key: "frames", Value: int32(10)}, {
								Key: "kg", Value: 0.0}}}}}})
		case 8:
			_, err = db.Collection("harvests").UpdateOne(ctx,
				bson.D{{Key: "_id", Value: int64(2026)<<32 | int64(r.IntN(max(harvests, 1)))}},
				bson.D{{Key: "$set", Value: bson.D{{Key: "jars", Value: int32(r.IntN(60))}}},
					{Key: "$unset", Value: bson.D{{Key: "water", Value: ""}}}})
		case 9:
			if a.Plain { // such a server searches ranges by reading everything
				_, err = db.Collection("inspections").DeleteOne(ctx, bson.D{{Key: "_id", Value: last}})
				break
			}
			_, err = db.Collection("inspections").DeleteOne(ctx,
				bson.D{{Key: "_id", Value: objectIDLike(r, inspections)}})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// objectIDLike names an inspection that may or may not be there.
func objectIDLike(r *rand.Rand, n int) bson.D {
	t := uint32(epoch.Unix()) + uint32(r.IntN(max(n, 1)))
	low := bson.ObjectID{byte(t >> 24), byte(t >> 16), byte(t >> 8), byte(t)}
	high := low
	for i := 4; i < len(high); i++ {
		high[i] = 0xFF
	}
	return bson.D{{Key: "$gte", Value: low}, {Key: "$lte", Value: high}}
}
