package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	pb "go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/mvccpb"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// LogEnd implements [engine.Logged].
func (c *cluster) LogEnd(ctx context.Context, _ string) (record.Mark, error) {
	m, err := c.head(ctx)
	return m, c.fail(err)
}

// LogStart implements [engine.Logged].
func (c *cluster) LogStart(ctx context.Context, shard string) (record.Mark, error) {
	return c.LogEnd(ctx, shard)
}

// LogMember implements [engine.Logged].
func (c *cluster) LogMember(string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.watched != "" {
		return hostOf(c.watched)
	}
	return hostOf(c.chosen)
}

// How often an idle cluster is asked how far it is, and for how long one may
// not answer.
const (
	idleTime = 500 * time.Millisecond
	lostTime = 20 * time.Second
)

// Follow implements [engine.Logged]. Every revision has a change, so that where
// the newest revision is the last one seen nothing is missing up to the time of
// asking: an idle cluster's coverage moves on so, with servers too that send no
// notice of progress.
func (c *cluster) Follow(ctx context.Context, _ string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	from, ok := placeOf(after)
	if !ok {
		return fmt.Errorf("cluster %s: %q is no revision", c.t.Name, after.Hex())
	}
	if now := c.at(0); from.epoch != now.epoch {
		c.mu.Lock()
		err := c.because
		c.mu.Unlock()
		if err == nil {
			err = errWentBack(c.shard(), fmt.Sprintf("revision %d is of the one before", from.rev))
		}
		return c.fail(err)
	}
	f := &following{cluster: c, last: from.rev, known: map[int64]bool{}, fn: fn}
	c.mu.Lock()
	endpoint := c.chosen
	c.mu.Unlock()
	if endpoint == "" {
		endpoint = c.another("")
	}
	failing := time.Time{}
	for {
		was := f.last
		err := f.watch(ctx, endpoint)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case f.answer != nil:
			if errors.Is(f.answer, engine.ErrStopFollowing) {
				return nil
			}
			return f.answer
		case errors.Is(err, engine.ErrLogLost), errors.Is(err, engine.ErrLogin), errors.Is(err, errOtherCluster):
			return c.fail(err)
		}
		if f.last != was || failing.IsZero() {
			failing = time.Now()
		}
		if time.Since(failing) > lostTime {
			return c.fail(err)
		}
		pause(ctx, 100*time.Millisecond)
		endpoint = c.another(endpoint)
	}
}

// following reads the log for one call of Follow.
type following struct {
	*cluster
	last int64 // revision of the last change given to fn
	// entry is the fingerprint of the last revision, where it is known; compacted says
	// that the servers may not tell any more what it did.
	entry     string
	compacted bool
	wall      time.Time
	known     map[int64]bool // leases told of
	fn        func([]record.Change, engine.Progress) error
	answer    error // what fn ended it with
}

// watch reads from one member until that fails.
func (f *following) watch(ctx context.Context, endpoint string) error {
	f.mu.Lock()
	f.watched = endpoint
	f.mu.Unlock()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var waited atomic.Int64
	heard := func() { waited.Store(time.Now().UnixNano()) }
	heard()
	// What is told, is told by one at a time.
	var mu sync.Mutex
	var compared bool
	// The last one read comes again, to be compared: what is there may be another history.
	from := f.last + 1
	if f.last > 1 && !f.compacted {
		from = f.last - 1
	}
	compared = from > f.last
	var asking sync.WaitGroup
	defer asking.Wait()
	asking.Go(func() {
		for ctx.Err() == nil {
			err := f.idle(ctx, &mu, &compared, func() error {
				if time.Since(time.Unix(0, waited.Load())) > lostTime {
					return fmt.Errorf("%s: %w: watching gives nothing more, and newer revisions are there",
						hostOf(endpoint), engine.ErrUnreachable)
				}
				return nil
			}, heard)
			if err != nil {
				cancel(err)
				return
			}
			pause(ctx, idleTime)
		}
	})
	err := f.responses(ctx, endpoint, from, false, func(r *pb.WatchResponse) error {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case r.CompactRevision > f.last:
			return fmt.Errorf("%s: %w: revisions up to %d are compacted, wanted is %d", hostOf(endpoint),
				engine.ErrLogLost, r.CompactRevision, f.last+1)
		case r.CompactRevision > 0:
			f.compacted = true
			return fmt.Errorf("%s: %w: revision %d is compacted", hostOf(endpoint), engine.ErrUnreachable,
				r.CompactRevision)
		}
		if err := f.refusal(r, endpoint); err != nil {
			return err
		}
		if of, _ := eventsOf(r.Events, f.last); of != nil {
			if entry := fingerprint(of); f.entry == "" {
				f.entry = entry
			} else if entry != f.entry {
				return f.wentBack(endpoint, fmt.Sprintf("revision %d did something else when it was read", f.last))
			}
			compared = true
		}
		heard()
		return f.take(ctx, r.Events)
	})
	cancel(err)
	return context.Cause(ctx)
}

// wentBack has positions begin anew, and returns the error that says so.
func (f *following) wentBack(where, how string) error {
	f.beginHistory(f.at(0).epoch)
	return errWentBack(hostOf(where), how)
}

// idle asks how far the cluster is and moves coverage on where nothing is on its way, and
// the last revision was compared.
func (f *following) idle(ctx context.Context, mu *sync.Mutex, compared *bool, late func() error, heard func()) error {
	mu.Lock()
	was := f.last
	mu.Unlock()
	head, before, err := f.headAt(ctx)
	if err != nil {
		return err
	}
	now := revision(head.Position)
	mu.Lock()
	defer mu.Unlock()
	switch {
	case now < was:
		return f.wentBack(f.LogMember(""), fmt.Sprintf("its newest revision is %d, and %d was read", now, was))
	case now != f.last || !*compared:
		return late() // it is on its way
	}
	heard()
	return f.tell(nil, before)
}

// tell calls fn; times never go back.
func (f *following) tell(changes []record.Change, at time.Time) error {
	if at.Before(f.wall) {
		at = f.wall
	}
	f.wall = at
	for i := range changes {
		changes[i].Wall = at.UnixMilli()
	}
	p := f.at(f.last)
	if len(changes) == 0 {
		p.idle = uint64(at.UnixMilli())
	}
	f.answer = f.fn(changes, engine.Progress{AtEnd: changes == nil,
		Mark: record.Mark{Position: p.position(), Wall: at, Entry: f.entry}})
	return f.answer
}

// take returns on what happened: events of one revision belong together, and come
// together.
func (f *following) take(ctx context.Context, events []*mvccpb.Event) error {
	var changes []record.Change
	last := f.last
	for _, e := range events {
		if e.Kv.ModRevision <= f.last {
			continue // told before the connection was made anew
		}
		last = e.Kv.ModRevision
		if isMark(e.Kv.Key) {
			continue
		}
		name := f.prefixes.Name(e.Kv.Key)
		prefix, _, err := f.prefixes.Range(name)
		if err != nil {
			return err
		}
		ch := record.Change{Namespace: name, Key: bytes.Clone(e.Kv.Key[len(prefix):]),
			At: f.at(e.Kv.ModRevision).position()}
		if e.Type == mvccpb.DELETE {
			ch.Op, ch.Value = record.Delete, appendValue(nil, ch.Key, nil, 0)
		} else {
			ch.Op, ch.Value = record.Put, appendValue(nil, ch.Key, e.Kv.Value, e.Kv.Lease)
			if err := f.lease(ctx, e.Kv.Lease, ch.At, &changes); err != nil {
				return err
			}
		}
		changes = append(changes, ch)
	}
	if last > f.last {
		of, _ := eventsOf(events, last)
		f.last, f.entry, f.compacted = last, fingerprint(of), false
	}
	if len(changes) == 0 {
		return nil
	}
	return f.tell(changes, time.Now())
}

// lease adds what is known of a lease that was not told of yet: the log names
// it and does not say for how long it was granted.
func (f *following) lease(ctx context.Context, id int64, at record.Position, changes *[]record.Change) error {
	if id == 0 || f.known[id] {
		return nil
	}
	ttl, err := f.granted(ctx, id)
	if err != nil {
		return f.explain(err, "asking for a lease")
	}
	if len(f.known) > 100_000 {
		clear(f.known)
	}
	f.known[id] = true
	if ttl > 0 {
		r := leaseRecord(id, ttl)
		*changes = append(*changes, record.Change{
			Op: record.Put, Namespace: leasesName, Key: r.Key, Value: r.Value, At: at})
	}
	return nil
}
