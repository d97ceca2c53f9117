package integration_test

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

var (
	scriptRole = regexp.MustCompile(`(?s)role\("(\w+)", (\[.*?\n\])\);`)
	scriptUser = regexp.MustCompile(`user\("(\w+)", (\[.*?\])\);`)
	scriptMore = regexp.MustCompile(`grantRolesToUser\("\w+", \["(\w+)"\]\)`)
	scriptKey  = regexp.MustCompile(`(\w+): `)
)

// runScript does what a script of grants says, as its reader would; more are roles that it says are needed there too.
func runScript(t *testing.T, uri, script string, more ...string) {
	admin := connectAs(t, uri, "root").Database("admin")
	roles := scriptRole.FindAllStringSubmatch(script, -1)
	require.NotEmpty(t, roles)
	for _, r := range roles {
		var privileges bson.A
		text := strings.ReplaceAll(scriptKey.ReplaceAllString(r[2], `"$1": `), ",\n]", "\n]")
		require.NoError(t, bson.UnmarshalExtJSON([]byte(`{"list": `+text+`}`), false,
			&struct{ List *bson.A }{&privileges}), text)
		err := admin.RunCommand(ctx, bson.D{{Key: "createRole", Value: r[1]}, {Key: "roles", Value: bson.A{}},
			{Key: "privileges", Value: privileges}}).Err()
		if err == nil || !strings.Contains(err.Error(), "already exists") { // the script would bring it up to date
			require.NoError(t, err)
		}
	}
	users := scriptUser.FindAllStringSubmatch(script, -1)
	require.Len(t, users, 1)
	var has []string
	require.NoError(t, json.Unmarshal([]byte(users[0][2]), &has))
	require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "createUser", Value: users[0][1]},
		{Key: "pwd", Value: "of " + users[0][1]}, {Key: "roles", Value: append(has, more...)}}).Err())
}

// TestGrantsAreEnough: with what the printed scripts grant, and no more, everything works: of a set and of a sharded
// cluster, whose shards are served by logins of their own.
func TestGrantsAreEnough(t *testing.T) {
	t.Parallel()
	set := docsim.Options{User: "root", Password: "made up", NoopEvery: fastNoops}
	t.Run("set", func(t *testing.T) {
		t.Parallel()
		rs := startSim(t, set)
		granted(t, rs.URI(), nil)
	})
	for _, v := range []string{"7.0", "8.0"} {
		t.Run("sharded "+v, func(t *testing.T) {
			t.Parallel()
			set := set
			set.Version = v
			c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: set})
			require.NoError(t, err)
			t.Cleanup(c.Close)
			granted(t, c.URI(), c)
		})
	}
}

func granted(t *testing.T, uri string, c *docsim.Sharded) {
	const user = "dexamen"
	target := engine.Target{Name: "meadow", Address: uri, User: user, Secret: "of " + user, Settings: true}
	if c != nil {
		target.Options = map[string]any{"pause_balancer": true}
	}
	for _, restores := range []bool{false, true} {
		script := document.Driver{}.Grants(target, restores)
		runScript(t, uri, script)
		if c == nil {
			continue
		}
		more := scriptMore.FindStringSubmatch(script)
		require.Len(t, more, 2)
		for i := range c.Shards() {
			runScript(t, c.Shard(i).URI(), script, more[1])
		}
	}
	as := func(user string) engine.Cluster {
		target := target
		target.User, target.Secret = user, "of "+user
		cl, err := document.Driver{}.Open(ctx, target)
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Close() })
		return cl
	}
	root := connectAs(t, uri, "root")
	db := root.Database("apiary")
	do := func(cmd ...bson.E) { t.Helper(); require.NoError(t, db.RunCommand(ctx, bson.D(cmd)).Err()) }
	if c != nil {
		admin := root.Database("admin")
		require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "enableSharding", Value: "apiary"}}).Err())
		require.NoError(t, admin.RunCommand(ctx, bson.D{{Key: "shardCollection", Value: "apiary.hives"},
			{Key: "key", Value: bson.D{{Key: "_id", Value: "hashed"}}}}).Err())
	}
	fill := func() {
		for i := range 50 {
			_, err := db.Collection("hives").UpdateOne(ctx, bson.D{{Key: "_id", Value: i}}, bson.D{
				{Key: "$inc", Value: bson.D{{Key: "n", Value: 1}}},
				{Key: "$set", Value: bson.D{{Key: "at", Value: bson.Timestamp{}}}}},
				options.UpdateOne().SetUpsert(true))
			require.NoError(t, err)
		}
	}
	fill()
	do(bson.E{Key: "createIndexes", Value: "hives"}, bson.E{Key: "indexes", Value: bson.A{
		bson.D{{Key: "key", Value: bson.D{{Key: "n", Value: 1}}}, {Key: "name", Value: "n"}}}})
	do(bson.E{Key: "create", Value: "strict"}, bson.E{Key: "validator", Value: bson.D{{Key: "n", Value: 1}}})
	do(bson.E{Key: "create", Value: "all"}, bson.E{Key: "viewOn", Value: "hives"},
		bson.E{Key: "pipeline", Value: bson.A{}})
	do(bson.E{Key: "create", Value: "weights"}, bson.E{Key: "timeseries", Value: bson.D{{Key: "timeField", Value: "at"},
		{Key: "metaField", Value: "of"}}}, bson.E{Key: "expireAfterSeconds", Value: 1 << 20})
	_, err := db.Collection("weights").InsertOne(ctx, bson.D{{Key: "at", Value: time.Now()}, {Key: "kg", Value: 7}})
	require.NoError(t, err)
	_, err = db.Collection("system.js").InsertOne(ctx, bson.D{{Key: "_id", Value: "f"}, {Key: "value", Value: "1"}})
	require.NoError(t, err)

	protects := as(user)
	protects.(engine.Checker).Check(ctx, func(what string, err error, note string) {
		require.NoError(t, err, what)
		require.NotContains(t, note, "not known", what)
	})
	e := newRunner(t)
	p, err := snapshot.Take(ctx, e, "meadow", protects)
	require.NoError(t, err)
	require.Empty(t, p.Skipped)
	fill()
	note(t, root)
	_, err = capture.Run(ctx, e, "meadow", protects, capture.Options{})
	require.NoError(t, err)
	m, err := moment.Resolve(ctx, e, "meadow", address.When{Kind: address.Latest}, restore.OnScratch{})
	require.NoError(t, err)
	same := func(cl engine.Cluster) {
		t.Helper()
		diffs, err := verify.Live(ctx, e, m, cl, "apiary.*", nil, 3)
		require.NoError(t, err)
		require.Len(t, diffs, 5)
		for i := range diffs {
			require.True(t, diffs[i].Same(), diffs[i].A)
		}
	}
	same(protects)

	restores := as(user + "Restore")
	put := func(o restore.Options) {
		t.Helper()
		plan, err := restore.NewPlan(ctx, e, m, restores, o)
		require.NoError(t, err)
		defer plan.Close()
		done, err := plan.Run(ctx)
		require.NoError(t, err)
		for _, d := range done {
			require.True(t, d.Verified, d.To)
		}
	}
	put(restore.Options{Rename: map[string]string{"apiary.*": "beside.*"}})
	_, err = db.Collection("hives").UpdateMany(ctx, bson.D{},
		bson.D{{Key: "$set", Value: bson.D{{Key: "n", Value: 0}}}})
	require.NoError(t, err)
	require.NoError(t, db.Collection("weights").Drop(ctx)) // it cannot be replaced in one step
	put(restore.Options{Pattern: "apiary.*", Conflict: restore.Replace})
	same(protects)
	_, err = db.Collection("hives").DeleteMany(ctx, bson.D{{Key: "_id", Value: bson.D{{Key: "$lt", Value: 10}}}})
	require.NoError(t, err)
	put(restore.Options{Pattern: "apiary.hives", Conflict: restore.Merge})
	same(restores)
	err = connectAs(t, uri, user).Database("apiary").Collection("hives").FindOneAndDelete(ctx, bson.D{}).Err()
	require.ErrorContains(t, err, "not authorized", "who protects writes nothing")
}

// connectAs logs in.
func connectAs(t *testing.T, uri, user string) *mongo.Client {
	secret := "of " + user
	if user == "root" {
		secret = "made up"
	}
	cl, err := mongo.Connect(options.Client().ApplyURI(uri).SetAuth(options.Credential{Username: user,
		Password: secret, AuthSource: "admin"}))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(ctx) })
	return cl
}
