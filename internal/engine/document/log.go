package document

import (
	"context"
	"errors"
	"fmt"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/readconcern"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// LogEnd implements engine.Logged. It asks every member and takes the newest
// answer: one member may know less than another, but what one knows to be
// committed stays.
func (c *cluster) LogEnd(ctx context.Context, shard string) (record.Mark, error) {
	if err := c.needLog(); err != nil {
		return record.Mark{}, err
	}
	var best record.Mark
	if !c.caps.status {
		// What any read has shown was written before now; its entry is there
		// once the time to settle has passed.
		select {
		case <-time.After(settle):
		case <-ctx.Done():
			return best, ctx.Err()
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
		if errs[i] == nil && (!found || m.Position > best.Position) {
			best, found = m, true
		}
	}
	if !found {
		return best, fmt.Errorf("cluster %s: shard %s: finding the end of the log: %w", c.t.Name, shard, errors.Join(errs...))
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.seen > best.Position {
		best.Position = c.seen
	}
	return best, nil
}

func (c *cluster) needLog() error {
	if c.caps.log {
		return nil
	}
	why := "local.oplog.rs is not there"
	if c.set == "" {
		why = "it is a lone server; a replica set of one member keeps a log"
	}
	return fmt.Errorf("cluster %s: %w: %s", c.t.Name, engine.ErrNoLog, why)
}

// LogMember implements engine.Logged.
func (c *cluster) LogMember(string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.reading
}

// Follow implements engine.Logged.
func (c *cluster) Follow(ctx context.Context, shard string, after record.Position, fn func([]record.Change, engine.Progress) error) error {
	if err := c.needLog(); err != nil {
		return err
	}
	f := &follow{c: c, at: record.Mark{Position: after}, fn: fn}
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
		if errors.Is(err, engine.ErrEnough) {
			return nil
		}
		var cb callbackError
		if errors.As(err, &cb) {
			return cb.error
		}
		if err == nil { // the cursor ended: a server closes one that finds nothing
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(200 * time.Millisecond):
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
			return fmt.Errorf("cluster %s: shard %s: reading the log: %w", c.t.Name, shard, err)
		}
		if addr, err = c.next(ctx, addr, err); err != nil {
			return fmt.Errorf("cluster %s: shard %s: reading the log: %w", c.t.Name, shard, err)
		}
	}
}

type follow struct {
	c  *cluster
	at record.Mark
	fn func([]record.Change, engine.Progress) error
}

const (
	logBatch = 1000    // entries asked for at once
	batchMax = 4 << 20 // bytes of changes handed on at once
	logAwait = 500 * time.Millisecond
)

// read follows one member's log until something ends it. It begins at the
// entry reached, which proves that the log still holds all that comes after.
func (f *follow) read(ctx context.Context, addr string) error {
	cl, err := f.c.client(addr)
	if err != nil {
		return err
	}
	coll := cl.Database("local").Collection("oplog.rs", options.Collection().SetReadConcern(readconcern.Majority()))
	filter := bson.D{}
	if f.at.Position != "" {
		filter = bson.D{{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(f.at.Position)}}}}
	}
	// The first batch is one entry, the one reached: servers that close a
	// tailable cursor whose first batch is not full leave it open then.
	cur, err := coll.Find(ctx, filter, options.Find().SetCursorType(options.TailableAwait).SetBatchSize(1).SetMaxAwaitTime(logAwait))
	if err != nil {
		return explain(addr, err)
	}
	defer cur.Close(context.WithoutCancel(ctx))
	cur.SetBatchSize(logBatch)
	first := f.at.Position != ""
	var changes []record.Change
	size := 0
	flush := func(atEnd bool) error {
		err := f.fn(changes, engine.Progress{Mark: f.at, AtEnd: atEnd})
		changes, size = nil, 0
		if err != nil && !errors.Is(err, engine.ErrEnough) {
			err = callbackError{err}
		}
		return err
	}
	for {
		if !cur.TryNext(ctx) {
			if err := cur.Err(); err != nil {
				return explain(addr, err)
			}
			if first {
				return f.lost(ctx, addr)
			}
			if err := flush(true); err != nil {
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
		entry := cur.Current
		if first {
			m, err := markOf(entry)
			if err != nil {
				return callbackError{err}
			}
			if m.Position != f.at.Position {
				return f.lost(ctx, addr)
			}
			f.at, first = m, false
			continue
		}
		m, chs, err := changesOf(entry)
		if err != nil {
			return callbackError{fmt.Errorf("cluster %s: member %s: %w", f.c.t.Name, addr, err)}
		}
		if m.Position <= f.at.Position {
			continue // seen before the cursor was opened anew
		}
		if !f.c.caps.status {
			if err := f.wait(ctx, m, flush); err != nil {
				return err
			}
		}
		for i := range chs {
			size += len(chs[i].Value) + len(chs[i].Key) + 64
		}
		changes = append(changes, chs...)
		f.at.Position = m.Position
		if m.Wall.After(f.at.Wall) {
			f.at.Wall = m.Wall
		}
		if size >= batchMax || cur.RemainingBatchLength() == 0 {
			if err := flush(false); err != nil {
				return err
			}
		}
	}
}

// wait holds an entry back until it is old enough to be sure of those before
// it.
func (f *follow) wait(ctx context.Context, m record.Mark, flush func(bool) error) error {
	for time.Since(m.Wall) < settle {
		if err := flush(true); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// lost says that the log does not hold the entry that was reached, and from
// where on it does hold.
func (f *follow) lost(ctx context.Context, addr string) error {
	w, err := f.c.window(ctx, addr)
	if err != nil {
		return err
	}
	if w.Last.Position < f.at.Position {
		return fmt.Errorf("%s: its log ends before the position reached: %w", addr, engine.ErrUnreachable)
	}
	oldest, at := timestampOf(w.First.Position), timestampOf(f.at.Position)
	return callbackError{&LostError{Member: addr, First: w.First, text: fmt.Sprintf(
		"%s: %v: it begins at %d.%d (%s), capture had reached %d.%d", addr, engine.ErrLogLost,
		oldest.T, oldest.I, w.First.Wall.Local().Format(time.RFC3339), at.T, at.I)}}
}

// LostError is an engine.ErrLogLost that tells from where on the log holds.
type LostError struct {
	Member string
	First  record.Mark
	text   string
}

// Error implements error.
func (e *LostError) Error() string { return e.text }

// Unwrap makes the error an engine.ErrLogLost.
func (e *LostError) Unwrap() error { return engine.ErrLogLost }
