package document

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// StagePrefix begins the collection names of stages.
const StagePrefix = "dexamen_stage_"

// writer implements engine.Writer on the primary.
type writer struct {
	c    *set
	addr string
	cl   *mongo.Client

	mu    sync.Mutex
	kinds map[string]string // of stages
}

// writer gives access through the primary, or a router.
func (c *set) writer(ctx context.Context) (engine.Stager, error) {
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
			c.chosen = &engine.Choice{Shard: c.shardName(), Member: m, Why: "restores are written to and read back from the primary"}
			c.mu.Unlock()
			return &writer{c: c, addr: m.Address, cl: cl, kinds: map[string]string{}}, nil
		}
	}
	return nil, fmt.Errorf("cluster %s: %w: it has nobody to write to", c.t.Name, engine.ErrNoMember)
}

func (w *writer) fail(ns string, err error) error {
	return fmt.Errorf("cluster %s: %s: %w", w.c.t.Name, ns, explain(w.addr, err))
}

func (w *writer) run(ctx context.Context, db string, cmd bson.D) error {
	return w.cl.Database(db, options.Database().SetWriteConcern(writeconcern.Majority())).RunCommand(ctx, cmd).Err()
}

// Stage implements engine.Stager. A time-series collection, which no server
// renames, is made under its own name.
func (w *writer) Stage(ctx context.Context, ns record.Namespace) (record.Namespace, error) {
	db, _, _ := strings.Cut(ns.Name, ".")
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails, by its contract
	stage := ns
	if ns.Kind != kindSeries {
		stage.Name = db + "." + StagePrefix + hex.EncodeToString(b)
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return stage, fmt.Errorf("%s: %w", ns.Name, err)
	}
	if err := w.create(ctx, stage.Name, d); err != nil {
		return stage, err
	}
	w.mu.Lock()
	w.kinds[stage.Name] = ns.Kind
	w.mu.Unlock()
	if d.sharding != nil && w.c.role == routers {
		if err := w.shard(ctx, stage.Name, d.sharding); err != nil {
			return stage, err
		}
	}
	made, err := w.Look(ctx, stage.Name)
	stage.Ident = made.Ident
	return stage, err
}

// physical gives where a stage's records are.
func (w *writer) physical(stage string) (db, coll string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return physical(stage, w.kinds[stage])
}

// Look implements engine.Stager.
func (w *writer) Look(ctx context.Context, name string) (record.Namespace, error) {
	db, coll := w.physical(name)
	ans, err := w.c.ask(ctx, w.addr, db, bson.D{{Key: "listCollections", Value: 1}, {Key: "filter", Value: bson.D{{Key: "name", Value: coll}}}})
	if err != nil {
		return record.Namespace{}, w.fail(name, err)
	}
	arr, _ := ans.Lookup("cursor", "firstBatch").ArrayOK()
	vals, _ := arr.Values()
	for _, v := range vals {
		ns, err := w.c.describe(ctx, w.cl, db, v.Document(), false)
		if err != nil {
			return record.Namespace{}, w.fail(name, err)
		}
		if ns != nil {
			return ns.Namespace, nil
		}
	}
	return record.Namespace{}, fmt.Errorf("cluster %s: %s is no longer there: somebody removed it", w.c.t.Name, name)
}

func (w *writer) create(ctx context.Context, name string, d definition) error {
	db, coll, _ := strings.Cut(name, ".")
	cmd := bson.D{{Key: "create", Value: coll}}
	for _, o := range d.options {
		cmd = append(cmd, bson.E{Key: o.name, Value: bson.RawValue{Type: bson.Type(o.val.Type), Value: o.val.Data}})
	}
	if err := w.run(ctx, db, cmd); err != nil {
		return w.fail(name, err)
	}
	return nil
}

// Write implements engine.Stager.
func (w *writer) Write(ctx context.Context, stage string, recs []record.Record) error {
	db, coll := w.physical(stage)
	c := w.cl.Database(db).Collection(coll, options.Collection().SetWriteConcern(writeconcern.Majority()))
	for len(recs) > 0 {
		n, size := 0, 0
		var docs []any
		for n < len(recs) && n < 10_000 && (n == 0 || size+len(recs[n].Value) < 32<<20) {
			docs = append(docs, bson.Raw(recs[n].Value))
			size += len(recs[n].Value)
			n++
		}
		opt := options.InsertMany().SetOrdered(false)
		if w.c.caps.product == "" {
			// What was allowed in when it was written is put back, also where
			// the validator is younger.
			opt.SetBypassDocumentValidation(true)
		}
		if _, err := c.InsertMany(ctx, docs, opt); mongo.IsDuplicateKeyError(err) && w.c.role != routers {
			return fmt.Errorf("%w: on several shards different documents may have one _id, in one collection they may not; restore onto a sharded cluster", w.fail(stage, err))
		} else if err != nil {
			return w.fail(stage, err)
		}
		recs = recs[n:]
	}
	return nil
}

// Index implements engine.Stager.
func (w *writer) Index(ctx context.Context, stage string, ns record.Namespace) error {
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	db, coll := w.physical(stage)
	var specs bson.A
	for _, s := range d.indexes {
		if s.name == "_id_" || s.clustered() {
			continue
		}
		fs, err := parseFields(s.spec)
		if err != nil {
			return fmt.Errorf("%s: index %s: %w", ns.Name, s.name, err)
		}
		// Version 2 is what servers make unasked, and some do not know the word.
		fs = slices.DeleteFunc(fs, func(f field) bool {
			n, ok := f.val.AsInt64OK()
			return f.name == "v" && ok && n == 2
		})
		specs = append(specs, bson.Raw(buildFields(fs)))
	}
	if len(specs) == 0 {
		return nil
	}
	if err := w.run(ctx, db, bson.D{{Key: "createIndexes", Value: coll}, {Key: "indexes", Value: specs}}); err != nil {
		return w.fail(ns.Name+": building indexes", err)
	}
	return nil
}

// Publish implements engine.Stager.
func (w *writer) Publish(ctx context.Context, stage, name string, replace bool) error {
	if stage == name {
		return nil
	}
	cmd := bson.D{{Key: "renameCollection", Value: stage}, {Key: "to", Value: name}}
	if replace {
		cmd = append(cmd, bson.E{Key: "dropTarget", Value: true})
	}
	err := w.run(ctx, "admin", cmd)
	if err != nil && replace && !retriable(err) && isCommandError(err) && strings.Contains(strings.ToLower(err.Error()), "droptarget") {
		// A server that cannot swap: the old one goes first. Cut short in
		// between, the stage is still there, complete.
		db, coll, _ := strings.Cut(name, ".")
		if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
			return w.fail(name, err)
		}
		err = w.run(ctx, "admin", cmd[:2])
	}
	if codeOf(err) == 48 {
		return fmt.Errorf("cluster %s: %s is there already; nothing was changed", w.c.t.Name, name)
	}
	if err != nil {
		return w.fail(name, err)
	}
	return nil
}

// Discard implements engine.Stager.
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
	return nil
}

// View implements engine.Stager.
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

// Stages implements engine.Stager.
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	spaces, err := w.c.list(ctx, w.addr, false)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range spaces {
		if _, coll, _ := strings.Cut(s.Name, "."); strings.HasPrefix(coll, StagePrefix) {
			out = append(out, s.Name)
		}
	}
	return out, nil
}
