package document

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/wait"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// logEnd returns the newest position that cannot be rolled back. It asks every member and takes the newest
// answer: one member may know less than another, but what one knows to be
// committed stays.
func (c *set) logEnd(ctx context.Context) (record.Mark, error) {
	if err := c.needLog(); err != nil {
		return record.Mark{}, err
	}
	var best record.Mark
	if !c.caps.status {
		// What any read has shown was written before now; its entry is there
		// once the time to settle has passed.
		settle, _ := c.settle(ctx)
		if err := wait.For(ctx, settle); err != nil {
			return best, err
		}
	}
	marks, errs := make([]record.Mark, len(c.hosts)), make([]error, len(c.hosts))
	c.eachHost(func(i int, addr string) {
		if c.caps.status {
			marks[i], errs[i] = c.committed(ctx, addr)
			return
		}
		var w *engine.LogWindow
		if w, errs[i] = c.window(ctx, addr); errs[i] == nil {
			marks[i] = w.Last
		}
	})
	found := false
	for i, m := range marks {
		if errs[i] == nil && m.Position > position(0, 0) && (!found || m.Position > best.Position) {
			best, found = m, true
		}
	}
	if !found && errors.Join(errs...) == nil {
		return best, fmt.Errorf(
			"cluster %s: shard %s: nothing in its log is on a majority of its members yet; is it being set up?",
			c.t.Name, c.shardName())
	}
	if !found {
		return best, fmt.Errorf("cluster %s: shard %s: finding the end of the log: %w", c.t.Name, c.shardName(),
			errors.Join(errs...))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.seen > best.Position {
		best.Position = c.seen
	}
	return best, nil
}

func (c *set) needLog() error {
	if c.caps.log {
		return nil
	}
	why := "local.oplog.rs is not there"
	if c.caps.logRefused != nil {
		return fmt.Errorf(
			"cluster %s: %w: the log is there and this login may not read it (find on local.oplog.rs): %w", c.t.Name,
			engine.ErrNoLog, c.caps.logRefused)
	}
	if c.set == "" {
		why = "it is a lone server; a replica set of one member keeps a log"
	}
	return fmt.Errorf("cluster %s: %w: %s", c.t.Name, engine.ErrNoLog, why)
}

// followLog reads the log from just after a position, as [engine.Logged] says.
func (c *set) followLog(ctx context.Context, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	if err := c.needLog(); err != nil {
		return err
	}
	f := &follow{c: c, at: record.Mark{Position: after}, fn: fn, looked: time.Now(),
		known: map[string]record.Position{}}
	addr, err := c.current(ctx)
	if err != nil {
		return fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	for failures := 0; ; {
		before := f.at.Position
		c.mu.Lock()
		c.reading = addr
		c.mu.Unlock()
		err := f.read(ctx, addr)
		if errors.Is(err, engine.ErrStopFollowing) {
			return nil
		}
		var cb callbackError
		if errors.As(err, &cb) {
			return cb.error
		}
		if err == nil { // the cursor ended: a server closes one that finds nothing
			if err := wait.For(ctx, 200*time.Millisecond); err != nil {
				return err
			}
			continue
		}
		if ctx.Err() != nil {
			return ctx.Err() // the caller ended it; what the connection says is an echo
		}
		if f.at.Position > before {
			failures = 0
		}
		failures++
		if !retriable(err) || failures > 8 {
			return fmt.Errorf("cluster %s: shard %s: reading the log: %w", c.t.Name, c.shardName(), err)
		}
		if addr, err = c.next(ctx, addr, err); err != nil {
			return fmt.Errorf("cluster %s: shard %s: reading the log: %w", c.t.Name, c.shardName(), err)
		}
	}
}

type follow struct {
	c       *set
	at      record.Mark // up to where everything is in changes, or was handed on
	fn      func([]record.Change, engine.Progress) error
	changes []record.Change
	size    int

	looked time.Time // when the member was last found fit
	begun  bool
	due    []due
	known  map[string]record.Position // prepared transactions that are taken care of
	over   string                     // the one of them that was decided last
}

const (
	logBatch = 1000    // entries asked for at once
	batchMax = 4 << 20 // bytes of changes handed on at once
	logAwait = 500 * time.Millisecond
)

// read follows one member's log until something ends it. It begins at the
// entry reached, or proves otherwise that the log still holds all that comes
// after.
func (f *follow) read(ctx context.Context, addr string) error {
	cl, err := f.c.reach(ctx, addr)
	if err != nil {
		return err
	}
	if !f.c.caps.status {
		return f.poll(ctx, addr, cl)
	}
	filter := bson.D{}
	if f.at.Position != "" {
		filter = bson.D{{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(f.at.Position)}}}}
	}
	// The first batch is one entry, the one reached: servers that close a
	// tailable cursor whose first batch is not full leave it open then.
	cur, err := majorityLog(cl).Find(ctx, filter,
		options.Find().SetCursorType(options.TailableAwait).SetBatchSize(1).SetMaxAwaitTime(logAwait))
	if err != nil {
		return explain(addr, err)
	}
	defer cur.Close(context.WithoutCancel(ctx))
	cur.SetBatchSize(logBatch)
	proven := f.at.Position == ""
	met := false // this cursor has given the entry that was reached
	for {
		if !cur.TryNext(ctx) {
			if err := cur.Err(); err != nil {
				return explain(addr, err)
			}
			if !proven {
				if err := f.prove(ctx, addr, cl, ""); err != nil {
					return err
				}
				proven = true
			}
			if err := f.flush(true); err != nil {
				return err
			}
			if err := f.stillFit(ctx, addr); err != nil {
				return err
			}
			if cur.ID() == 0 {
				return nil
			}
			if err := ctx.Err(); err != nil {
				return err
			}
			continue
		}
		m, err := markOf(cur.Current)
		if err != nil {
			return callbackError{fmt.Errorf("cluster %s: member %s: %w", f.c.t.Name, addr, err)}
		}
		if !proven {
			if err := f.prove(ctx, addr, cl, m.Position); err != nil {
				return err
			}
			proven = true
		}
		if m.Position <= f.at.Position {
			if met && m.Position == f.at.Position {
				return f.shared(m)
			}
			met = met || m.Position == f.at.Position
			f.reached(m)
			continue // seen before the cursor was opened anew
		}
		met = true
		if err := f.take(ctx, addr, cl, m, cur.Current); err != nil {
			return err
		}
		f.reached(m)
		if f.size >= batchMax || cur.RemainingBatchLength() == 0 {
			if err := f.flush(false); err != nil {
				return err
			}
		}
	}
}

// shared refuses a log in which several entries have one position: which of them
// were taken could not be told when reading goes on there.
func (f *follow) shared(m record.Mark) error {
	ts := timestampOf(m.Position)
	return callbackError{fmt.Errorf("%w: several entries of the log have the position %d.%d", engine.ErrLogEnds, ts.T,
		ts.I)}
}

// fitness is how often the member whose log is followed is looked at.
const fitness = 5 * time.Second

// stillFit leaves a member that has come to be no member to read from, though
// it answers: one that lags behind the others, or replicates no more.
func (f *follow) stillFit(ctx context.Context, addr string) error {
	if !f.c.caps.status || len(f.c.hosts) < 2 || time.Since(f.looked) < fitness {
		return nil
	}
	f.looked = time.Now()
	members, err := f.c.members(ctx)
	if err != nil {
		return nil // who is asked about his log will say what is wrong
	}
	for _, m := range members {
		switch {
		case m.Address != addr:
		case !m.Healthy:
			return fmt.Errorf("%s: %w: %s", addr, engine.ErrUnreachable, m.Note)
		case m.CutOff && slices.ContainsFunc(members, func(o engine.Member) bool { return o.Healthy && !o.CutOff }):
			return fmt.Errorf("%s: %w: it %s", addr, engine.ErrUnreachable, m.Note)
		case m.Lag > f.c.t.MaxLag && f.c.aside[addr] == "":
			return fmt.Errorf("%s: %w: it is %s behind, %s allowed", addr, engine.ErrUnreachable,
				m.Lag.Round(time.Second), f.c.t.MaxLag)
		}
	}
	return nil
}

// prove sees that the log holds everything after the position reached: its
// entry is the first that was found, or the log begins before it. It then
// takes up the transactions that are open there.
func (f *follow) prove(ctx context.Context, addr string, cl *mongo.Client, found record.Position) error {
	if found != f.at.Position {
		w, err := f.c.window(ctx, addr)
		if err != nil {
			return err
		}
		if w.Last.Position < f.at.Position {
			return fmt.Errorf("%s: its log ends before the position reached: %w", addr, engine.ErrUnreachable)
		}
		if w.First.Position > f.at.Position || !f.c.caps.status {
			return f.lost(ctx, addr)
		}
	}
	if err := f.c.holds(ctx, addr, f.at); err != nil {
		return callbackError{err}
	}
	return f.begin(ctx, addr, cl)
}

// continues sees that the log is the history that was read up to a mark.
func (c *set) continues(ctx context.Context, from record.Mark) error {
	if !c.caps.status || from.Entry == "" {
		return nil
	}
	return c.onMember(ctx, func(addr string) error { return c.holds(ctx, addr, from) })
}

// holds returns [engine.ErrLogEnds] where a member's log reaches back to the entry that a mark tells
// of and on from there, and has none of that time and term: no majority ever loses one.
func (c *set) holds(ctx context.Context, addr string, from record.Mark) error {
	var t, i uint32
	var term int64
	if !c.caps.status {
		return nil
	}
	if n, _ := fmt.Sscanf(from.Entry, "%d.%d/%d", &t, &i, &term); n != 3 {
		return nil
	}
	at := position(t, i)
	e, err := c.entryUpTo(ctx, addr, at)
	if err != nil {
		return err
	}
	if e != nil {
		if m, err := markOf(e); err != nil || m.Entry == from.Entry {
			return err
		}
	}
	w, err := c.window(ctx, addr)
	if err != nil || w.First.Position > at || w.Last.Position < at {
		return err // it does not reach that far, which is told elsewhere
	}
	// It may have come by the entry just now.
	if e, err = c.entryUpTo(ctx, addr, at); err != nil {
		return err
	}
	if e != nil {
		if m, err := markOf(e); err != nil || m.Entry == from.Entry {
			return err
		}
	}
	has := "it was written by another primary"
	if own, ok := timestampAt(e, "ts"); !ok || own != at {
		has = "there is none at that place"
	}
	return fmt.Errorf("cluster %s: %s: %w: it is another history than the one that was read: it lacks the entry at "+
		"%d.%d of term %d, %s; its members were put back from older copies, or made anew", c.t.Name, addr,
		engine.ErrLogEnds, t, i, term, has)
}

// lost reports that the log does not hold the entry that was reached, and from
// where on it does hold.
func (f *follow) lost(ctx context.Context, addr string) error {
	w, err := f.c.window(ctx, addr)
	if err != nil {
		return err
	}
	if w.Last.Position < f.at.Position {
		return fmt.Errorf("%s: its log ends before the position reached: %w", addr, engine.ErrUnreachable)
	}
	// A member that was built anew begins its log anew: another may hold what was before.
	if other := f.c.reachesBackTo(ctx, f.at.Position, addr); other != "" {
		return fmt.Errorf("%s: %w: its log begins after the position reached, that of %s does not", addr,
			engine.ErrUnreachable, other)
	}
	oldest, at := timestampOf(w.First.Position), timestampOf(f.at.Position)
	return callbackError{&LostError{Member: addr, First: w.First, text: fmt.Sprintf(
		"%s: %v: it begins at %d.%d (%s), capture had reached %d.%d", addr, engine.ErrLogLost,
		oldest.T, oldest.I, w.First.Wall.Local().Format(time.RFC3339), at.T, at.I)}}
}

// reachesBackTo returns a member, other than one, whose log holds a position; empty where none does.
func (c *set) reachesBackTo(ctx context.Context, at record.Position, except string) string {
	reaches := make([]bool, len(c.hosts))
	c.eachHost(func(i int, addr string) {
		if addr == except {
			return
		}
		m, _, err := c.member(ctx, addr)
		if err != nil || !m.Healthy || m.Role != "primary" && m.Role != "secondary" {
			return
		}
		w, err := c.window(ctx, addr)
		reaches[i] = err == nil && w.First.Position <= at && w.Last.Position >= at
	})
	if i := slices.Index(reaches, true); i >= 0 {
		return c.hosts[i]
	}
	return ""
}

// LostError is an [engine.ErrLogLost] that tells from where on the log holds.
type LostError struct {
	Member string
	First  record.Mark
	text   string
}

// Error implements error.
func (e *LostError) Error() string { return e.text }

// Unwrap makes the error an [engine.ErrLogLost].
func (e *LostError) Unwrap() error { return engine.ErrLogLost }
