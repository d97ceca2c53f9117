package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// Telemetry generates the database "telemetry" of a sharded cluster: readings
// of the hives' scales, sharded by colony, and the gateways that send them.
type Telemetry struct {
	Seed uint64
	// Documents is about how many there are in all.
	Documents int
}

// TelemetryDatabase is the name of its database.
const TelemetryDatabase = "telemetry"

// Reading makes one reading; the same number gives the same.
func (m Telemetry) Reading(i int) bson.D {
	r := rand.New(rand.NewPCG(m.Seed, uint64(i)))
	colony := int32(r.IntN(max(m.Documents/50, 8)))
	d := bson.D{{Key: "_id", Value: int64(i)}, {Key: "colony", Value: colony},
		{Key: "at", Value: epoch.Add(time.Duration(i) * time.Minute)},
		{Key: "kg", Value: 20 + float64(r.IntN(4000))/100}, {Key: "inside", Value: 30 + r.Float64()*6}}
	if i%7 == 0 {
		d = append(d, bson.E{Key: "weather",
			Value: bson.D{{Key: "outside", Value: r.Float64() * 30}, {Key: "rain", Value: r.IntN(3) == 0}}})
	}
	if i%40 == 0 {
		d = append(d, bson.E{Key: "note", Value: words[r.IntN(len(words))] + " " + words[r.IntN(len(words))]})
	}
	return d
}

// Fill shards readings by colony over the cluster's shards, in twice as many
// ranges, and writes all documents.
func (m Telemetry) Fill(ctx context.Context, cl *mongo.Client) error {
	admin := cl.Database("admin")
	ns := TelemetryDatabase + ".readings"
	run := func(cmd ...bson.E) error { return admin.RunCommand(ctx, bson.D(cmd)).Err() }
	var list struct {
		Shards []struct {
			ID string `bson:"_id"`
		} `bson:"shards"`
	}
	if err := admin.RunCommand(ctx, bson.D{{Key: "listShards", Value: 1}}).Decode(&list); err != nil {
		return fmt.Errorf("telemetry: %w", err)
	}
	if err := run(bson.E{Key: "enableSharding", Value: TelemetryDatabase}); err != nil {
		return err
	}
	if err := run(bson.E{Key: "shardCollection", Value: ns},
		bson.E{Key: "key", Value: bson.D{{Key: "colony", Value: 1}}}); err != nil {
		return err
	}
	colonies, n := max(m.Documents/50, 8), 2*len(list.Shards)
	for i := 1; i < n; i++ {
		at := bson.D{{Key: "colony", Value: int32(i * colonies / n)}}
		if err := run(bson.E{Key: "split", Value: ns}, bson.E{Key: "middle", Value: at}); err != nil {
			return err
		}
		if err := run(bson.E{Key: "moveChunk", Value: ns}, bson.E{Key: "find", Value: at},
			bson.E{Key: "to", Value: list.Shards[i%len(list.Shards)].ID}); err != nil {
			return err
		}
	}
	db := cl.Database(TelemetryDatabase)
	if _, err := db.Collection("readings").Indexes().CreateOne(ctx,
		mongo.IndexModel{Keys: bson.D{{Key: "at", Value: 1}}, Options: options.Index().SetName("at")}); err != nil {
		return err
	}
	var gateways []any
	for i := range 12 {
		gateways = append(gateways, bson.D{
			{Key: "_id", Value: fmt.Sprintf("gateway-%02d", i+1)}, {Key: "yard", Value: yards[i%len(yards)]}, {
				Key: "keeper", Value: keepers[i%len(keepers)]}})
	}
	if _, err := db.Collection("gateways").InsertMany(ctx, gateways); err != nil {
		return err
	}
	var batch []any
	for i := range m.Documents {
		batch = append(batch, m.Reading(i))
		if len(batch) == 2000 || i == m.Documents-1 {
			if _, err := db.Collection("readings").InsertMany(ctx, batch,
				options.InsertMany().SetOrdered(false)); err != nil {
				return err
			}
			batch = batch[:0]
		}
	}
	return nil
}

// Work makes n changes as the gateways would: new readings, corrected and
// removed ones.
func (m Telemetry) Work(ctx context.Context, cl *mongo.Client, seed uint64, n int) error {
	r := rand.New(rand.NewPCG(m.Seed, seed))
	c := cl.Database(TelemetryDatabase).Collection("readings")
	for i := range n {
		d := m.Reading(r.IntN(max(m.Documents, 1)))
		at := bson.D{d[0], d[1]}
		var err error
		switch r.IntN(4) {
		case 0:
			d[0].Value = int64(m.Documents) + int64(seed)<<24 + int64(i)
			_, err = c.InsertOne(ctx, d)
		case 1:
			_, err = c.DeleteOne(ctx, at)
		default:
			_, err = c.UpdateOne(ctx, at,
				bson.D{{Key: "$set", Value: bson.D{{Key: "kg", Value: 20 + float64(r.IntN(4000))/100}}}})
		}
		if err != nil {
			return err
		}
	}
	return nil
}
