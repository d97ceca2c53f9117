package document

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readconcern"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/engine"
)

// trialDB is the database in which trials are made; their collections begin with the run's name.
const trialDB = "dexamen_trials"

// trials makes changes through public commands, on the primary or through a router.
type trials struct {
	w   *writer
	run string
	db  *mongo.Database
}

// Trials implements [engine.Prover].
func (c *cluster) Trials(ctx context.Context, run string) (*engine.Trials, error) {
	s := c.sets[c.order[0]]
	if c.routers != nil {
		s = c.routers
	}
	sw, err := s.writer(ctx)
	if err != nil {
		return nil, err
	}
	w, ok := sw.(*writer)
	if !ok {
		return nil, errors.New("trials are made on servers that are written to directly")
	}
	for _, s := range c.sets { // it is to be found out, whatever the version says
		s.proved = map[string]bool{cappedTrial: true}
	}
	t := &trials{w: w, run: run, db: w.cl.Database(trialDB, options.Database().SetWriteConcern(
		writeconcern.Majority()).SetReadConcern(readconcern.Majority()))}
	if err := t.insert(ctx, "first", bson.D{{Key: "_id", Value: 1}}); err != nil {
		if errors.Is(explain(w.addr, err), engine.ErrLogin) {
			return nil, fmt.Errorf("cluster %s: %w: grant it for the time of the trials: "+
				`db.grantRolesToUser(USER, [{ role: "dbOwner", db: %q }])`+": %w", c.t.Name, engine.ErrMayNotTry,
				trialDB,
				err)
		}
		return nil, w.fail(trialDB, err)
	}
	return &engine.Trials{Part: trialDB + "." + run + "_*", Beside: trialDB + "." + run + "b_*", List: t.list(),
		RestoreBeside: engine.Trial{ID: "restore.beside", Source: "Manual: renameCollection, create, insert",
			Says: "what is restored beside is read back equal: content, indexes, options"},
		RestoreInPlace: engine.Trial{ID: "restore.in-place", Source: "Manual: renameCollection, dropTarget",
			Says: "what is put in the place of what is there is read back equal"},
		Spoil: func(ctx context.Context) error {
			_, err := t.coll("plain").DeleteMany(ctx, bson.D{})
			return err
		}, Spoiled: trialDB + "." + run + "_plain", Clean: t.clean}, nil
}

func (t *trials) name(s string) string { return t.run + "_" + s }

func (t *trials) coll(s string) *mongo.Collection { return t.db.Collection(t.name(s)) }

func (t *trials) insert(ctx context.Context, coll string, docs ...any) error {
	_, err := t.coll(coll).InsertMany(ctx, docs)
	return err
}

// cmd runs a command of which the first field names a collection.
func (t *trials) cmd(ctx context.Context, what, coll string, more ...bson.E) error {
	return t.w.run(ctx, trialDB, append(bson.D{{Key: what, Value: t.name(coll)}}, more...))
}

func (t *trials) index(ctx context.Context, coll, name string, key bson.D, more ...bson.E) error {
	return t.cmd(ctx, "createIndexes", coll, bson.E{Key: "indexes", Value: bson.A{
		append(bson.D{{Key: "key", Value: key}, {Key: "name", Value: name}}, more...)}})
}

// clean drops what this run has made, also what was restored.
func (t *trials) clean(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	left, others, err := t.made(ctx)
	if err != nil {
		return err
	}
	if !others { // with system.views
		return t.db.Drop(ctx)
	}
	var errs []error
	for _, name := range left {
		errs = append(errs, t.db.Collection(name).Drop(ctx))
	}
	return errors.Join(errs...)
}

// made returns what is in the trials' database of this run, and whether there is anything of another.
func (t *trials) made(ctx context.Context) (own []string, others bool, err error) {
	names, err := t.db.ListCollectionNames(ctx, bson.D{})
	for _, n := range names {
		switch {
		case strings.HasPrefix(n, t.run):
			own = append(own, n)
		case !strings.HasPrefix(n, "system."):
			others = true
		}
	}
	return own, others, err
}

// step is what a trial does, of one collection.
type step func(ctx context.Context) error

// seq does several things, one after the other.
func seq(steps ...step) step {
	return func(ctx context.Context) error {
		for _, s := range steps {
			if err := s(ctx); err != nil {
				return err
			}
		}
		return nil
	}
}

func (t *trials) put(coll string, docs ...any) step {
	return func(ctx context.Context) error { return t.insert(ctx, coll, docs...) }
}

func (t *trials) update(coll string, id any, u any, opts ...options.Lister[options.UpdateOneOptions]) step {
	return func(ctx context.Context) error {
		_, err := t.coll(coll).UpdateOne(ctx, bson.D{{Key: "_id", Value: id}}, u, opts...)
		return err
	}
}

func (t *trials) command(what, coll string, more ...bson.E) step {
	return func(ctx context.Context) error { return t.cmd(ctx, what, coll, more...) }
}

func (t *trials) build(coll, name string, key bson.D, more ...bson.E) step {
	return func(ctx context.Context) error { return t.index(ctx, coll, name, key, more...) }
}

// modify is collMod.
func (t *trials) modify(coll string, more ...bson.E) step { return t.command("collMod", coll, more...) }

func (t *trials) rename(from, to string, dropTarget bool) step {
	return func(ctx context.Context) error {
		return t.w.run(ctx, "admin", bson.D{{Key: "renameCollection", Value: trialDB + "." + t.name(from)},
			{Key: "to", Value: trialDB + "." + t.name(to)}, {Key: "dropTarget", Value: dropTarget}})
	}
}

// together does writes in one transaction.
func (t *trials) together(fn func(ctx context.Context) error) step {
	return func(ctx context.Context) error {
		s, err := t.w.cl.StartSession()
		if err != nil {
			return err
		}
		defer s.EndSession(context.WithoutCancel(ctx))
		_, err = s.WithTransaction(ctx, func(ctx context.Context) (any, error) { return nil, fn(ctx) },
			options.Transaction().SetWriteConcern(writeconcern.Majority()))
		return err
	}
}

// refused turns the refusal of what is to be refused into success.
func refused(s step) step {
	return func(ctx context.Context) error {
		err := s(ctx)
		if err == nil {
			return errors.New("it was to be refused, and was done")
		}
		if isCommandError(err) || mongo.IsDuplicateKeyError(err) {
			return nil
		}
		return err
	}
}
