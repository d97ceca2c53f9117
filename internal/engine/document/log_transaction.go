package document

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/wait"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readconcern"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Transactions in the log.
//
// A small one is an applyOps entry. A larger one is several: all but the last
// say partialTxn, each names the one before it in prevOpTime, and the last
// counts as the commit. One that spans shards is prepared on each of them (its
// last entry says prepare), and a later entry commits or aborts it. A commit
// names a commitTimestamp, the same on all shards and no earlier than any
// prepare: as of that cluster time its effects are there, wherever in each
// shard's log the commit's entry stands. So that a cut through all shards at
// one cluster time never has a part of a transaction, its changes are given at
// that time, in order with all others; and reading holds still at a prepared
// one until its outcome is in the log.

// due is a prepared transaction that will be committed when the log reaches
// its time.
type due struct {
	prepared, commit record.Position
	wall             time.Time
	entries          []bson.Raw
}

// session identifies a transaction: its session and number.
func session(e bson.Raw) string {
	n, _ := e.Lookup("txnNumber").AsInt64OK()
	return fmt.Sprintf("%x/%d", e.Lookup("lsid").Value, n)
}

func timestampAt(e bson.Raw, path ...string) (record.Position, bool) {
	t, i, ok := e.Lookup(path...).TimestampOK()
	return position(t, i), ok && (t != 0 || i != 0)
}

func truth(v bson.RawValue) bool {
	b, ok := v.BooleanOK()
	return ok && b
}

// part reports whether an entry belongs to a transaction: "part" is decided
// later, "prepare" by another entry, "last" ends one of several entries,
// "commit" and "abort" decide a prepared one.
func part(e bson.Raw) string {
	if op, _ := e.Lookup("op").StringValueOK(); op != "c" {
		return ""
	}
	o, ok := e.Lookup("o").DocumentOK()
	if !ok {
		return ""
	}
	has := func(name string) bool { _, err := o.LookupErr(name); return err == nil }
	switch {
	case has("commitTransaction"):
		return "commit"
	case has("abortTransaction"):
		return "abort"
	case !has("applyOps"):
		return ""
	case truth(o.Lookup("prepare")):
		return "prepare"
	case truth(o.Lookup("partialTxn")):
		return "part"
	case has("count"):
		return "last"
	}
	return ""
}

func majorityLog(cl *mongo.Client) *mongo.Collection {
	return cl.Database("local").Collection("oplog.rs", options.Collection().SetReadConcern(readconcern.Majority()))
}

// entryAt reads the one log entry at a position.
func (f *follow) entryAt(ctx context.Context, addr string, cl *mongo.Client, at record.Position) (bson.Raw, error) {
	raw, err := majorityLog(cl).FindOne(ctx, bson.D{{Key: "ts", Value: timestampOf(at)}}).Raw()
	if errors.Is(err, mongo.ErrNoDocuments) {
		lost := f.lost(ctx, addr)
		return nil, fmt.Errorf("the log no longer holds the beginning of a transaction: %w", lost)
	}
	if err != nil {
		return nil, explain(addr, err)
	}
	return slices.Clone(raw), nil
}

// chain returns all entries of a transaction, of which last is the last.
func (f *follow) chain(ctx context.Context, addr string, cl *mongo.Client, last bson.Raw) ([]bson.Raw, error) {
	out := []bson.Raw{slices.Clone(last)}
	for {
		before, ok := timestampAt(out[len(out)-1], "prevOpTime", "ts")
		if !ok {
			break
		}
		e, err := f.entryAt(ctx, addr, cl, before)
		if err != nil {
			return nil, err
		}
		if part(e) != "part" || session(e) != session(last) {
			break
		}
		out = append(out, e)
	}
	slices.Reverse(out)
	return out, nil
}

// begin finds the transactions that were prepared before the place where
// reading begins, and counts those that are committed after it. Those of which
// nothing is decided yet are waited for.
func (f *follow) begin(ctx context.Context, addr string, cl *mongo.Client) error {
	if f.begun || !f.c.caps.status || f.at.Position == "" {
		return nil
	}
	// First those that are open now, then those decided since: one that is
	// decided in between is found both times.
	open, err := cl.Database("config").Collection("transactions",
		options.Collection().SetReadConcern(readconcern.Majority())).
		Find(ctx, bson.D{{Key: "state", Value: "prepared"}})
	if err != nil {
		return fmt.Errorf("finding open transactions in config.transactions: %w", explain(addr, err))
	}
	defer open.Close(context.WithoutCancel(ctx))
	for open.Next(ctx) {
		at, ok := timestampAt(open.Current, "lastWriteOpTime", "ts")
		if !ok || at > f.at.Position {
			continue
		}
		e, err := f.entryAt(ctx, addr, cl, at)
		if err != nil {
			return err
		}
		if err := f.prepared(ctx, addr, cl, e, nil); err != nil {
			return err
		}
	}
	if err := open.Err(); err != nil {
		return explain(addr, err)
	}
	decided, err := majorityLog(cl).Find(ctx,
		bson.D{{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(f.at.Position)}}},
			{Key: "op", Value: "c"}, {Key: "o.commitTransaction", Value: bson.D{{Key: "$exists", Value: true}}}})
	if err != nil {
		return explain(addr, err)
	}
	defer decided.Close(context.WithoutCancel(ctx))
	for decided.Next(ctx) {
		if m, err := markOf(decided.Current); err != nil || m.Position <= f.at.Position {
			continue
		}
		at, ok := timestampAt(decided.Current, "prevOpTime", "ts")
		if !ok || at > f.at.Position {
			continue
		}
		e, err := f.entryAt(ctx, addr, cl, at)
		if err != nil {
			return err
		}
		if err := f.prepared(ctx, addr, cl, e, slices.Clone(decided.Current)); err != nil {
			return err
		}
	}
	if err := decided.Err(); err != nil {
		return explain(addr, err)
	}
	f.begun = true
	return nil
}

// prepared takes a prepared transaction and what becomes of it; where that is
// not known yet it waits for it.
func (f *follow) prepared(ctx context.Context, addr string, cl *mongo.Client, e, decision bson.Raw) error {
	m, err := markOf(e)
	if err != nil {
		return callbackError{err}
	}
	if part(e) != "prepare" {
		return callbackError{fmt.Errorf("%w: at %v a prepared transaction was expected", ErrEntry,
			timestampOf(m.Position))}
	}
	f.known[session(e)] = m.Position
	if slices.ContainsFunc(f.due, func(d due) bool { return d.prepared == m.Position }) {
		return nil
	}
	if decision == nil {
		if decision, err = f.decision(ctx, addr, cl, e, m); err != nil {
			return err
		}
	}
	if part(decision) == "abort" {
		return nil
	}
	commit, ok := timestampAt(decision, "o", "commitTimestamp")
	if !ok {
		return callbackError{fmt.Errorf("%w: a commit without commitTimestamp", ErrEntry)}
	}
	if commit <= f.at.Position {
		return nil // it counts as of a time that was passed before
	}
	entries, err := f.chain(ctx, addr, cl, e)
	if err != nil {
		return err
	}
	f.due = append(f.due, due{m.Position, commit, m.Wall, entries})
	slices.SortStableFunc(f.due, func(a, b due) int { return strings.Compare(string(a.commit), string(b.commit)) })
	return nil
}

// logStart returns the end of the log, or a place before the first transaction
// that is prepared and not decided there: a read may not show it though its
// commit counts as of a time before.
func (c *set) logStart(ctx context.Context) (record.Mark, error) {
	start, err := c.logEnd(ctx)
	if err != nil || !c.caps.status {
		return start, err
	}
	end := start.Position
	err = c.onMember(ctx, func(addr string) error {
		start.Position = end
		return c.beforePrepared(ctx, addr, &start)
	})
	if err != nil {
		return start, fmt.Errorf("cluster %s: shard %s: finding open transactions: %w", c.t.Name, c.shardName(), err)
	}
	return start, nil
}

func (c *set) beforePrepared(ctx context.Context, addr string, start *record.Mark) error {
	if err := c.waitSeen(ctx, addr, start.Position); err != nil {
		return err
	}
	cl, err := c.reach(ctx, addr)
	if err != nil {
		return err
	}
	cur, err := cl.Database("config").Collection("transactions",
		options.Collection().SetReadConcern(readconcern.Majority())).
		Find(ctx, bson.D{{Key: "state", Value: "prepared"}})
	if err != nil {
		return fmt.Errorf("config.transactions: %w", explain(addr, err))
	}
	defer cur.Close(context.WithoutCancel(ctx))
	for cur.Next(ctx) {
		if at, ok := timestampAt(cur.Current, "lastWriteOpTime", "ts"); ok && at <= start.Position {
			start.Position = at.Prev()
		}
	}
	if err := cur.Err(); err != nil {
		return explain(addr, err)
	}
	// Reads that follow are of members that have got as far as this one.
	m, err := c.committed(ctx, addr)
	c.sawPosition(m.Position)
	return err
}

// waitSeen waits until what a member shows of a majority's content reaches a position.
func (c *set) waitSeen(ctx context.Context, addr string, at record.Position) error {
	began := time.Now()
	for pause := 2 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		shown, err := c.shown(ctx, addr)
		if err != nil || shown >= at {
			return err
		}
		if time.Since(began) > catchUpTime {
			return fmt.Errorf("%s: %w, after %s", addr, errBehind, catchUpTime)
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
	}
}

// decision waits for the entry that decides a prepared transaction.
func (f *follow) decision(ctx context.Context, addr string, cl *mongo.Client, e bson.Raw,
	m record.Mark) (bson.Raw, error) {
	for {
		cur, err := majorityLog(cl).Find(ctx,
			bson.D{{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(m.Position)}}}, {Key: "op", Value: "c"},
				{Key: "lsid", Value: e.Lookup("lsid")}, {Key: "txnNumber", Value: e.Lookup("txnNumber")}},
			options.Find().SetCursorType(options.TailableAwait).SetMaxAwaitTime(logAwait))
		if err != nil {
			return nil, explain(addr, err)
		}
		got, err := f.firstDecision(ctx, cur)
		_ = cur.Close(context.WithoutCancel(ctx))
		if err != nil || got != nil {
			return got, explain(addr, err)
		}
		if err := wait.For(ctx, 100*time.Millisecond); err != nil {
			return nil, err
		}
	}
}

func (f *follow) firstDecision(ctx context.Context, cur *mongo.Cursor) (bson.Raw, error) {
	for {
		for cur.TryNext(ctx) {
			if p := part(cur.Current); p == "commit" || p == "abort" {
				return slices.Clone(cur.Current), nil
			}
		}
		if err := cur.Err(); err != nil || cur.ID() == 0 {
			return nil, err
		}
		// Whoever follows hears that nothing goes on, and may end it.
		if err := f.flush(false); err != nil {
			return nil, err
		}
	}
}

// take turns the next entry of the log into changes that count now: its own,
// and before them those of transactions whose time has come.
func (f *follow) take(ctx context.Context, addr string, cl *mongo.Client, m record.Mark, e bson.Raw) error {
	if err := f.settleDue(m.Position); err != nil {
		return err
	}
	// What was decided by the entry before this one is over.
	delete(f.known, f.over)
	f.over = ""
	switch part(e) {
	case "part":
		return nil
	case "abort":
		f.over = session(e)
		return nil
	case "prepare":
		if err := f.prepared(ctx, addr, cl, e, nil); err != nil {
			return err
		}
		// On the shard that was prepared last, the commit counts as of the
		// prepare itself: reading may end here and go on behind it.
		return f.settleDue(m.Position)
	case "commit":
		f.over = session(e)
		if _, ok := f.known[f.over]; !ok && f.at.Position != "" {
			t := timestampOf(m.Position)
			return callbackError{fmt.Errorf("%w: at %d.%d a transaction is committed of which no beginning was seen",
				ErrEntry, t.T, t.I)}
		}
		return nil
	case "last":
		entries, err := f.chain(ctx, addr, cl, e)
		if err != nil {
			return err
		}
		return f.add(m, entries...)
	}
	return f.add(m, e)
}

// settleDue returns the changes of transactions committed up to a position.
func (f *follow) settleDue(upto record.Position) error {
	for len(f.due) > 0 && f.due[0].commit <= upto {
		d := f.due[0]
		m := record.Mark{Position: d.commit, Wall: d.wall}
		if m.Wall.Before(f.at.Wall) {
			m.Wall = f.at.Wall
		}
		if err := f.add(m, d.entries...); err != nil {
			return err
		}
		f.due = f.due[1:]
		f.reached(m)
	}
	return nil
}

// add converts entries that count together.
func (f *follow) add(m record.Mark, entries ...bson.Raw) error {
	chs, err := changesAt(reading{f.c.role, f.c.forgets(), f.c.t.Settings}, m, entries...)
	if err != nil {
		// What it did is not known: nothing after it can be told before the next point. What came before it is
		// handed on.
		if ferr := f.flush(false); ferr != nil {
			return ferr
		}
		return callbackError{fmt.Errorf("cluster %s: %w: %w", f.c.t.Name, engine.ErrLogEnds, err)}
	}
	for i := range chs {
		f.size += len(chs[i].Value) + len(chs[i].Key) + 64
	}
	f.changes = append(f.changes, chs...)
	return nil
}

func (f *follow) reached(m record.Mark) {
	if m.Position > f.at.Position {
		f.at.Position = m.Position
	}
	if m.Entry != "" {
		f.at.Entry = m.Entry
	}
	if m.Wall.After(f.at.Wall) {
		f.at.Wall = m.Wall
	}
}

// flush hands on what was gathered.
func (f *follow) flush(atEnd bool) error {
	chs := f.changes
	f.changes, f.size = nil, 0
	f.c.sawPosition(f.at.Position)
	err := f.fn(chs, engine.Progress{Mark: f.at, AtEnd: atEnd})
	if err != nil && !errors.Is(err, engine.ErrStopFollowing) {
		err = callbackError{err}
	}
	return err
}
