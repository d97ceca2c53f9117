package document

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/engine"
)

// What restores need to know of each other lies in a collection of Dexamen's
// own on the target: who writes to which namespace, and which stages there are.
const (
	workDB      = "dexamen_work"
	claimsColl  = "restores"
	probePrefix = "probe_"
	stageClaim  = "stage: " // begins the names of stages among the claims
)

// isOwn reports Dexamen's own collections from content.
func isOwn(db, coll string) bool {
	return db == workDB && (coll == claimsColl || strings.HasPrefix(coll, probePrefix))
}

func (w *writer) claimed() *mongo.Collection {
	return w.cl.Database(workDB).Collection(claimsColl, options.Collection().SetWriteConcern(writeconcern.Majority()))
}

// Reserve implements [engine.Writer].
func (w *writer) Reserve(ctx context.Context, names []string) (*engine.Claims, error) {
	c, err := engine.ClaimNames(ctx, w, names)
	if errors.Is(err, engine.ErrClaimed) {
		return nil, err
	}
	if err != nil {
		return nil, w.fail(workDB+"."+claimsColl, err)
	}
	w.mu.Lock()
	w.claims = c
	w.mu.Unlock()
	return c, nil
}

// Claim implements [engine.ClaimTable].
func (w *writer) Claim(ctx context.Context, name string) (string, error) {
	raw, err := w.claimed().FindOne(ctx, bson.D{{Key: "_id", Value: name}}).Raw()
	if errors.Is(err, mongo.ErrNoDocuments) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	value, _ := raw.Lookup("claim").StringValueOK()
	return value, nil
}

// SwapClaim implements [engine.ClaimTable].
func (w *writer) SwapClaim(ctx context.Context, name, was, now string) (bool, error) {
	id := bson.E{Key: "_id", Value: name}
	is := bson.D{id, {Key: "claim", Value: was}}
	switch {
	case was == "" && now == "":
		return true, nil
	case was == "":
		_, err := w.claimed().InsertOne(ctx, bson.D{id, {Key: "claim", Value: now}})
		if mongo.IsDuplicateKeyError(err) {
			return false, nil
		}
		return err == nil, err
	case now == "":
		r, err := w.claimed().DeleteOne(ctx, is)
		return err == nil && r.DeletedCount == 1, err
	}
	r, err := w.claimed().UpdateOne(ctx, is, bson.D{{Key: "$set", Value: bson.D{{Key: "claim", Value: now}}}})
	return err == nil && r.MatchedCount == 1, err
}

// Stages implements [engine.Writer]: the stages that a record tells of and whose
// restores are gone. A collection whose name only looks like a stage's is the
// user's.
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	cur, err := w.claimed().Find(ctx, bson.D{})
	if err != nil {
		return nil, w.fail(workDB+"."+claimsColl, err)
	}
	defer cur.Close(context.WithoutCancel(ctx))
	dead := map[string]string{}
	for cur.Next(ctx) {
		id, _ := cur.Current.Lookup("_id").StringValueOK()
		value, _ := cur.Current.Lookup("claim").StringValueOK()
		if stage, ok := strings.CutPrefix(id, stageClaim); ok && engine.CutShort(value) {
			dead[stage] = value
		}
	}
	if err := cur.Err(); err != nil {
		return nil, w.fail(workDB+"."+claimsColl, err)
	}
	var out []string
	for stage, value := range dead {
		_, err := w.CurrentNamespace(ctx, stage)
		switch {
		case err == nil:
			out = append(out, stage)
		case errors.Is(err, errNotThere):
			// Killed before it was made, or after it was published.
			if _, err := w.SwapClaim(ctx, stageClaim+stage, value, ""); err != nil {
				return nil, w.fail(stage, err)
			}
		default:
			return nil, err
		}
	}
	return out, nil
}

// dropClaim forgets that there was a stage.
func (w *writer) dropClaim(ctx context.Context, stage string) error {
	w.mu.Lock()
	claims := w.claims
	w.mu.Unlock()
	if claims != nil {
		if err := claims.End(ctx, stageClaim+stage); err != nil {
			return w.fail(stage, err)
		}
	}
	value, err := w.Claim(ctx, stageClaim+stage)
	if err == nil && value != "" {
		_, err = w.SwapClaim(ctx, stageClaim+stage, value, "")
	}
	if err != nil {
		return w.fail(stage, err)
	}
	return nil
}

// Trusted implements [engine.StagingWriter]: a collection of Dexamen's own, with options,
// is renamed, and what bears the name afterwards is looked at.
func (w *writer) Trusted(ctx context.Context) bool {
	w.mu.Lock()
	known := w.trusted
	w.mu.Unlock()
	if known == nil {
		ok := w.tryRename(ctx)
		if !ok {
			w.c.log.Info("renaming is not known to keep collections as they are: what was published is read once more",
				"member", w.addr)
		}
		known = &ok
		w.mu.Lock()
		w.trusted = known
		w.mu.Unlock()
	}
	return *known
}

func (w *writer) tryRename(ctx context.Context) bool {
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails, by its contract
	from, other, to := probePrefix+hex.EncodeToString(b), probePrefix+hex.EncodeToString(b)+
		"_other", probePrefix+hex.EncodeToString(b)+"_renamed"
	defer func() {
		for _, coll := range []string{from, other, to} {
			_ = w.run(context.WithoutCancel(ctx), workDB, bson.D{{Key: "drop", Value: coll}})
		}
	}()
	positive := bson.D{{Key: "n", Value: bson.D{{Key: "$gte", Value: 0}}}}
	create := bson.D{{Key: "create", Value: from}, {Key: "capped", Value: true}, {Key: "size", Value: int64(1 << 16)},
		{Key: "validator", Value: positive},
		{Key: "collation", Value: bson.D{{Key: "locale", Value: "de"}}}}
	for w.run(ctx, workDB, create) != nil {
		// A server that knows an option not at all loses none of it.
		if create = create[:len(create)-1]; len(create) == 0 {
			return false
		}
	}
	if w.run(ctx, workDB, bson.D{{Key: "create", Value: other}}) != nil {
		return false
	}
	if _, err := w.cl.Database(workDB).Collection(from).InsertOne(ctx,
		bson.D{{Key: "_id", Value: 1}, {Key: "n", Value: 1}}); err != nil {
		return false
	}
	was, err1 := w.lookAny(ctx, workDB+"."+from)
	beside, err2 := w.lookAny(ctx, workDB+"."+other)
	if errors.Join(err1, err2) != nil || len(was.Ident) == 0 || string(was.Ident) == string(beside.Ident) {
		return false
	}
	if w.Publish(ctx, workDB+"."+from, workDB+"."+to, false) != nil {
		return false
	}
	now, err := w.lookAny(ctx, workDB+"."+to)
	if err != nil || string(now.Ident) != string(was.Ident) || string(now.Definition) != string(was.Definition) {
		return false
	}
	n, err := w.Count(ctx, workDB+"."+to)
	return err == nil && n == 1
}
