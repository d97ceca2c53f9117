package document

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/engine"
	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/sim/docsim"
)

// fixture changes a document server through a plain driver. Where the server has
// several members, its client waits for a majority: what the suite wrote is then
// what a reader of the majority sees.
func fixture(uri string, cl *mongo.Client) *enginetest.Fixture {
	ctx := context.Background()
	coll := func(ns string) *mongo.Collection {
		db, name, _ := strings.Cut(ns, ".")
		return cl.Database(db).Collection(name)
	}
	return &enginetest.Fixture{
		Target: engine.Target{Name: "meadow",
			Address: uri}, Driver: Driver{}, Namespace: "apiary.colonies", Other: "apiary.colonies_restored",
		Put: func(t testing.TB, ns string, n int, text string) {
			_, err := coll(ns).ReplaceOne(ctx, bson.D{{Key: "_id", Value: int32(n)}},
				bson.D{{Key: "text", Value: text}, {Key: "n", Value: n}}, options.Replace().SetUpsert(true))
			require.NoError(t, err)
		},
		Remove: func(t testing.TB, ns string, n int) {
			_, err := coll(ns).DeleteOne(ctx, bson.D{{Key: "_id", Value: int32(n)}})
			require.NoError(t, err)
		},
		Drop: func(t testing.TB, ns string) { require.NoError(t, coll(ns).Drop(ctx)) },
	}
}

// withLogin is a fixture of a stand-in that lets in one user and keeps a small
// log.
func withLogin(f *enginetest.Fixture) *enginetest.Fixture {
	f.Target.User, f.Target.Secret, f.Log = "dexamen", "made up", true
	wrong := f.Target
	wrong.Secret = "mistyped"
	f.WrongLogin = &wrong
	f.Forget = func(t testing.TB) {
		for i := range 400 {
			f.Put(t, "apiary.inspections", i, strings.Repeat("calm ", 100))
		}
	}
	return f
}

func TestConformanceOnTheStandIn(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		rs, err := docsim.Start(docsim.Options{
			User: "dexamen", Password: "made up", LogBytes: 100_000, NoopEvery: 100 * time.Millisecond})
		require.NoError(t, err)
		t.Cleanup(rs.Close)
		cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()).SetAuth(options.Credential{
			Username: "dexamen", Password: "made up", AuthSource: "admin"}).SetWriteConcern(writeconcern.Majority()))
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
		return withLogin(fixture(rs.URI(), cl))
	})
}

func TestConformanceOnShards(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		c, err := docsim.StartSharded(docsim.ShardedOptions{
			Set: docsim.Options{User: "dexamen", Password: "made up", LogBytes: 100_000,
				NoopEvery: 100 * time.Millisecond}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		cl, err := mongo.Connect(options.Client().ApplyURI(c.URI()).SetAuth(options.Credential{
			Username: "dexamen", Password: "made up", AuthSource: "admin"}).SetWriteConcern(writeconcern.Majority()))
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
		require.NoError(t, cl.Database("admin").RunCommand(context.Background(),
			bson.D{{Key: "enableSharding", Value: "apiary"}, {Key: "primaryShard", Value: c.Shards()[1]}}).Err())
		f := withLogin(fixture(c.URI(), cl))
		f.Shard = c.Shards()[1]
		return f
	})
}

func TestConformanceOnTheRealServer(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		uri := documenttest.Start(t, "meadow")
		cl := documenttest.Connect(t, uri)
		documenttest.KeepLog(t, cl)
		f := fixture(uri, cl)
		f.Log, f.Hides = true, true
		return f
	})
}

func TestConformanceOnALoneServer(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		uri := documenttest.Start(t, "")
		return fixture(uri, documenttest.Connect(t, uri))
	})
}
