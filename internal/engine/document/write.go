package document

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// StagePrefix begins the collection names of stages.
const StagePrefix = "dexamen_stage_"

// writer implements [engine.Writer] on the primary.
type writer struct {
	c    *set
	addr string
	cl   *mongo.Client

	mu     sync.Mutex
	kinds  map[string]record.Kind // of stages
	claims *engine.Claims
	// noBypass: the server has no way to pass validators by.
	noBypass atomic.Bool
	trusted  *bool // whether renaming keeps what is renamed; nil before it was tried
}

// writer returns access through the primary, or a router.
func (c *set) writer(ctx context.Context) (engine.StagingWriter, error) {
	members, err := c.members(ctx)
	if err != nil {
		return nil, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	for _, m := range members {
		if m.Healthy && (m.Role == "primary" || m.Role == "standalone" || m.Role == "router") {
			cl, err := c.reach(ctx, m.Address)
			if err != nil {
				return nil, err
			}
			// Later read-backs are of the same member, which has it all.
			c.mu.Lock()
			c.chosen = &engine.Choice{Shard: c.shardName(), Member: m,
				Reason: "restores are written to and read back from the primary"}
			c.mu.Unlock()
			return &writer{c: c, addr: m.Address, cl: cl, kinds: map[string]record.Kind{}}, nil
		}
	}
	return nil, fmt.Errorf("cluster %s: %w: it has nobody to write to", c.t.Name, engine.ErrNoMember)
}

func (w *writer) fail(ns string, err error) error {
	return fmt.Errorf("cluster %s: %s: %w", w.c.t.Name, ns, explain(w.addr, err))
}

// majority is said of what changes something: what a primary alone has done is undone when it fails. The driver
// adds it to no command that it is given whole, whatever its database is set to.
var majority = bson.D{{Key: "w", Value: "majority"}}

// waits are the commands that take a write concern.
var waits = map[string]bool{"create": true, "drop": true, "renameCollection": true, "createIndexes": true,
	"dropIndexes": true, "collMod": true, "createUser": true, "dropUser": true}

func (w *writer) run(ctx context.Context, db string, cmd bson.D) error {
	if waits[cmd[0].Key] {
		cmd = append(slices.Clone(cmd), bson.E{Key: "writeConcern", Value: majority})
	}
	return w.cl.Database(db).RunCommand(ctx, cmd).Err()
}

// Replaceable implements [engine.StagingWriter].
func (w *writer) Replaceable(ns record.Namespace) error {
	if ns.Kind == kindSeries {
		return fmt.Errorf("%w: it is a time-series collection, which servers do not rename", engine.ErrNotReplaceable)
	}
	if w.keepsShardedNames(ns) {
		return fmt.Errorf("%w: it is sharded, and servers of version %s do not rename what is sharded",
			engine.ErrNotReplaceable, w.c.caps.version)
	}
	return nil
}

// keepsShardedNames reports whether a namespace will be sharded on servers that cannot rename it then
// ("renameCollection": sharded collections from 5.0 on).
func (w *writer) keepsShardedNames(ns record.Namespace) bool {
	if w.c.role != routers {
		return false
	}
	d, err := decodeDefinition(ns.Definition)
	return err == nil && d.sharding != nil && w.c.caps.major() > 0 && w.c.caps.major() < 5
}

// KeepsIdentity implements [engine.StagingWriter]. Time-series collections are made
// under their own names, and a sharded cluster's shards have identities of their
// own.
func (w *writer) KeepsIdentity(ns record.Namespace) bool {
	return ns.Kind != kindSeries && w.c.role != routers
}

// Stage implements [engine.StagingWriter]. What servers do not rename is made under its own name. That there is a
// stage is recorded before it is made.
func (w *writer) Stage(ctx context.Context, ns record.Namespace) (record.Namespace, error) {
	if ns.Kind == kindSeries || w.keepsShardedNames(ns) {
		return w.StageInPlace(ctx, ns, false)
	}
	db, _, _ := strings.Cut(ns.Name, ".")
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails, by its contract
	stage := ns
	stage.Name = db + "." + StagePrefix + hex.EncodeToString(b)
	w.mu.Lock()
	claims := w.claims
	w.mu.Unlock()
	if claims == nil {
		return stage, errors.New("nothing was reserved on the target")
	}
	if err := claims.Add(ctx, stageClaim+stage.Name); err != nil {
		return stage, w.fail(stage.Name, err)
	}
	return w.make(ctx, stage)
}

// StageInPlace implements [engine.StagingWriter].
func (w *writer) StageInPlace(ctx context.Context, ns record.Namespace, replace bool) (record.Namespace, error) {
	if replace {
		db, coll := physical(ns.Name, ns.Kind)
		if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
			return ns, w.fail(ns.Name, err)
		}
	}
	return w.make(ctx, ns)
}

// make makes an empty collection of a definition, without its indexes.
func (w *writer) make(ctx context.Context, ns record.Namespace) (record.Namespace, error) {
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return ns, fmt.Errorf("%s: %w", ns.Name, err)
	}
	if err := w.create(ctx, ns.Name, d); err != nil {
		return ns, err
	}
	w.mu.Lock()
	w.kinds[ns.Name] = ns.Kind
	w.mu.Unlock()
	if d.sharding != nil && w.c.role == routers {
		if err := w.shard(ctx, ns.Name, d); err != nil {
			return ns, err
		}
	}
	made, err := w.CurrentNamespace(ctx, ns.Name)
	ns.Ident = made.Ident
	return ns, err
}

// Count implements [engine.StagingWriter].
func (w *writer) Count(ctx context.Context, name string) (int64, error) {
	db, coll := w.physical(name)
	n, err := w.cl.Database(db).Collection(coll).CountDocuments(ctx, bson.D{})
	if err != nil {
		return 0, w.fail(name, err)
	}
	return n, nil
}

// physical returns where a stage's records are.
func (w *writer) physical(stage string) (db, coll string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return physical(stage, w.kinds[stage])
}

// errNotThere is returned when there is no namespace of a name.
var errNotThere = errors.New("it is no longer there: somebody removed it")

// CurrentNamespace implements [engine.StagingWriter].
func (w *writer) CurrentNamespace(ctx context.Context, name string) (record.Namespace, error) {
	db, coll := w.physical(name)
	return w.look(ctx, name, db, coll)
}

// lookAny is Look for collections that are no content too.
func (w *writer) lookAny(ctx context.Context, name string) (record.Namespace, error) {
	db, coll, _ := strings.Cut(name, ".")
	return w.look(ctx, name, db, coll)
}

func (w *writer) look(ctx context.Context, name, db, coll string) (record.Namespace, error) {
	ans, err := w.c.ask(ctx, w.addr, db,
		bson.D{{Key: "listCollections", Value: 1}, {Key: "filter", Value: bson.D{{Key: "name", Value: coll}}}})
	if err != nil {
		return record.Namespace{}, w.fail(name, err)
	}
	for _, info := range firstBatch(ans) {
		// Some servers do not heed the filter.
		if is, _ := info.Lookup("name").StringValueOK(); is != coll {
			continue
		}
		ns, err := w.c.describeAs(ctx, w.cl, db, info, false, isOwn(db, coll))
		if err != nil {
			return record.Namespace{}, w.fail(name, err)
		}
		if ns != nil {
			return ns.Namespace, nil
		}
	}
	return record.Namespace{}, fmt.Errorf("cluster %s: %s: %w", w.c.t.Name, name, errNotThere)
}

func (w *writer) create(ctx context.Context, name string, d definition) error {
	db, coll, _ := strings.Cut(name, ".")
	cmd := bson.D{{Key: "create", Value: coll}}
	for _, o := range d.options {
		if o.name == "timeseries" {
			o.val = creatable(o.val)
		}
		if o.name == "expireAfterSeconds" {
			continue // set when all was read back: servers would remove what is over before
		}
		cmd = append(cmd, bson.E{Key: o.name, Value: bson.RawValue{Type: bson.Type(o.val.Type), Value: o.val.Data}})
	}
	if err := w.run(ctx, db, cmd); err != nil {
		return w.fail(name, err)
	}
	return nil
}

// creatable returns a time series' options as servers take them: they list the
// granularity and the bounds of buckets, and refuse to be asked for both ("Set
// Granularity for Time Series Data").
func creatable(v bsoncore.Value) bsoncore.Value {
	if !isDocument(v) {
		return v
	}
	fs, err := parseFields(v.Data)
	if err != nil {
		return v
	}
	byGranularity := indexOf(fs, "granularity") >= 0
	both := indexOf(fs, "bucketMaxSpanSeconds") >= 0 && indexOf(fs, "bucketRoundingSeconds") >= 0
	fs = slices.DeleteFunc(fs, func(f field) bool {
		bound := f.name == "bucketMaxSpanSeconds" || f.name == "bucketRoundingSeconds"
		return bound && (byGranularity || !both)
	})
	return docValue(buildFields(fs))
}

// Write implements [engine.StagingWriter].
func (w *writer) Write(ctx context.Context, stage string, recs []record.Record) error {
	return w.writeBy(ctx, w.insert, stage, recs)
}

// writeBy writes records by a way to insert some, as many at once as servers take.
func (w *writer) writeBy(ctx context.Context, insert func(context.Context, string, []record.Record, bool) error,
	stage string, recs []record.Record) error {
	for len(recs) > 0 {
		n, size := 0, 0
		for n < len(recs) && n < 10_000 && (n == 0 || size+len(recs[n].Value) < commandBytes) {
			size += len(recs[n].Value)
			n++
		}
		// What was allowed in when it was written is put back, also where the
		// validator is younger.
		bypass := !w.noBypass.Load()
		err := insert(ctx, stage, recs[:n], bypass)
		if err != nil && bypass && isCommandError(err) &&
			strings.Contains(strings.ToLower(err.Error()), "bypassdocumentvalidation") {
			w.noBypass.Store(true) // the server does not know it
			continue
		}
		if err != nil {
			same := mongo.IsDuplicateKeyError(err)
			err = w.fail(fmt.Sprintf("%s, %d documents from %s to %s", stage, n, model{}.Label(recs[0].Value),
				model{}.Label(recs[n-1].Value)), err)
			if same && w.c.role != routers {
				return fmt.Errorf("%w: %w", engine.ErrSameKey, err)
			}
			return err
		}
		if err := w.emptyTimestamps(ctx, stage, recs[:n], bypass); err != nil {
			return err
		}
		recs = recs[n:]
	}
	return nil
}

// Index implements [engine.StagingWriter].
func (w *writer) Index(ctx context.Context, stage string, ns record.Namespace) error {
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	db, coll := w.physical(stage)
	series := ns.Kind == kindSeries
	if series {
		// Before, as one of the same fields under another name may be asked for. What a shard key rests on goes only
		// when another one is there.
		if err := w.dropUnasked(ctx, stage, db, coll, d); err != nil && (d.sharding == nil || !isCommandError(err)) {
			return err
		}
	}
	if err := w.buildIndexes(ctx, ns.Name, db, coll, d, nil); err != nil {
		return err
	}
	if series && d.sharding != nil {
		if err := w.dropUnasked(ctx, stage, db, coll, d); err != nil {
			return err
		}
	}
	i := indexOf(d.options, "expireAfterSeconds")
	if i < 0 {
		return nil
	}
	_, name, _ := strings.Cut(stage, ".")
	after := d.options[i].val
	err = w.run(ctx, db, bson.D{{Key: "collMod", Value: name}, {Key: "expireAfterSeconds", Value: value(after)}})
	if err != nil {
		return w.fail(ns.Name+": its expiry", err)
	}
	return nil
}

// dropUnasked drops the indexes of a stage that its definition has not: from 6.3 on servers give each new time series
// one of their own ("Add Secondary Indexes to Time Series Collections"), which older ones have not.
func (w *writer) dropUnasked(ctx context.Context, stage, db, coll string, d definition) error {
	now, err := w.CurrentNamespace(ctx, stage)
	if err != nil {
		return err
	}
	has, err := decodeDefinition(now.Definition)
	if err != nil {
		return fmt.Errorf("%s: %w", stage, err)
	}
	for _, s := range has.indexes {
		asked := slices.ContainsFunc(d.indexes, func(o indexSpec) bool { return o.name == s.name })
		if asked || s.clustered() {
			continue
		}
		if err := w.run(ctx, db, bson.D{{Key: "dropIndexes", Value: coll}, {Key: "index", Value: s.name}}); err != nil {
			return w.fail(stage+": an index that nobody asked for", err)
		}
	}
	return nil
}

// buildIndexes makes those of a definition's indexes that choose accepts (nil: all). An index of bytes on a
// collection that has a collation is asked for as such ("Collation": indexes inherit it).
func (w *writer) buildIndexes(ctx context.Context, name, db, coll string, d definition,
	choose func(spec []field) bool) error {
	inherits := indexOf(d.options, "collation") >= 0
	var specs bson.A
	for _, s := range d.indexes {
		if s.name == "_id_" || s.clustered() {
			continue
		}
		fs, err := parseFields(s.spec)
		if err != nil {
			return fmt.Errorf("%s: index %s: %w", name, s.name, err)
		}
		if choose != nil && !choose(fs) {
			continue
		}
		// Version 2 is what servers make unasked, and some do not know the word.
		fs = slices.DeleteFunc(fs, func(f field) bool {
			n, ok := f.val.AsInt64OK()
			return f.name == "v" && ok && n == 2
		})
		if inherits && indexOf(fs, "collation") < 0 {
			fs = append(fs, field{"collation", simpleCollation})
		}
		specs = append(specs, bson.Raw(buildFields(fs)))
	}
	if len(specs) == 0 {
		return nil
	}
	if err := w.run(ctx, db, bson.D{{Key: "createIndexes", Value: coll}, {Key: "indexes", Value: specs}}); err != nil {
		return w.fail(name+": building indexes", err)
	}
	return nil
}

// simpleCollation is the one by bytes.
var simpleCollation = docValue(bsoncore.BuildDocument(nil, bsoncore.AppendStringElement(nil, "locale", "simple")))

// Publish implements [engine.StagingWriter].
func (w *writer) Publish(ctx context.Context, stage, name string, replace bool) error {
	if stage == name {
		return nil
	}
	cmd := bson.D{{Key: "renameCollection", Value: stage}, {Key: "to", Value: name}}
	if replace {
		// Nothing is renamed over a view.
		if is, err := w.CurrentNamespace(ctx, name); err == nil && is.Kind == kindView {
			if err := w.RemoveNamespace(ctx, is); err != nil {
				return err
			}
		}
		cmd = append(cmd, bson.E{Key: "dropTarget", Value: true})
	}
	err := w.run(ctx, "admin", cmd)
	if err != nil && replace && !retriable(err) && isCommandError(err) &&
		strings.Contains(strings.ToLower(err.Error()), "droptarget") {
		// A server that cannot swap: the old one goes first. Cut short in
		// between, the stage is still there, complete.
		db, coll, _ := strings.Cut(name, ".")
		if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
			return w.fail(name, err)
		}
		err = w.run(ctx, "admin", cmd[:2])
	}
	switch {
	case err == nil:
		return w.dropClaim(ctx, stage)
	case codeOf(err) == 48:
		return fmt.Errorf("cluster %s: %s is there already; nothing was changed", w.c.t.Name, name)
	case isCommandError(err) && !retriable(err) && codeOf(err) != 13 && codeOf(err) != 26:
		return fmt.Errorf("%w: %w", w.fail(name, err), engine.ErrNoRename)
	}
	return w.fail(name, err)
}

// Discard implements [engine.StagingWriter].
func (w *writer) Discard(ctx context.Context, stage string) error {
	db, coll, _ := strings.Cut(stage, ".")
	w.mu.Lock()
	mine := w.kinds[stage] != ""
	w.mu.Unlock()
	if !mine && !strings.HasPrefix(coll, StagePrefix) {
		return fmt.Errorf("%s is no stage and is left alone", stage)
	}
	if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
		return w.fail(stage, err)
	}
	return w.dropClaim(ctx, stage)
}

// View implements [engine.StagingWriter].
func (w *writer) View(ctx context.Context, ns record.Namespace, replace bool) error {
	if replace {
		db, coll, _ := strings.Cut(ns.Name, ".")
		if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
			return w.fail(ns.Name, err)
		}
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	return w.create(ctx, ns.Name, d)
}
