package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"

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
	f := &following{cluster: c, last: revision(after), known: map[int64]bool{}, fn: fn}
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
		case errors.Is(err, engine.ErrLogLost), errors.Is(err, engine.ErrLogin):
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
	last   int64 // revision of the last change given to fn
	wall   time.Time
	known  map[int64]bool // leases told of
	fn     func([]record.Change, engine.Progress) error
	answer error // what fn ended it with
}

// watch reads from one member until that fails.
func (f *following) watch(ctx context.Context, endpoint string) error {
	cl, err := f.client(ctx, endpoint)
	if err != nil {
		return err
	}
	f.mu.Lock()
	f.watched = endpoint
	f.mu.Unlock()
	ctx, cancel := context.WithCancel(clientv3.WithRequireLeader(ctx))
	defer cancel()
	w := clientv3.NewWatcher(cl)
	defer w.Close()
	// Asked of a server that is gone, the library waits for it for ever.
	opened := make(chan clientv3.WatchChan, 1)
	go func() {
		opened <- w.Watch(ctx, "\x00", clientv3.WithFromKey(), clientv3.WithRev(f.last+1),
			clientv3.WithCreatedNotify())
	}()
	var events clientv3.WatchChan
	select {
	case events = <-opened:
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(askTime):
		return fmt.Errorf("%s: %w: it does not begin to give its log", hostOf(endpoint), engine.ErrUnreachable)
	}
	tick := time.NewTimer(0)
	defer tick.Stop()
	waited := time.Now()
	for {
		select {
		case r, ok := <-events:
			if !ok {
				return fmt.Errorf("%s: %w: watching ended", hostOf(endpoint), engine.ErrUnreachable)
			}
			if r.CompactRevision > f.last {
				return fmt.Errorf("%s: %w: revisions up to %d are compacted, wanted is %d", hostOf(endpoint),
					engine.ErrLogLost, r.CompactRevision, f.last+1)
			}
			if err := r.Err(); err != nil {
				return f.explain(err, endpoint)
			}
			if err := f.take(ctx, r.Events); err != nil {
				return err
			}
			waited = time.Now()
		case <-tick.C:
			tick.Reset(idleTime)
			head, before, err := f.headAt(ctx)
			if err != nil {
				return err
			}
			if revision(head.Position) != f.last {
				if time.Since(waited) > lostTime {
					return fmt.Errorf("%s: %w: revision %d is there, but watching gives nothing after %d",
						hostOf(endpoint), engine.ErrUnreachable, revision(head.Position), f.last)
				}
				continue // it is on its way
			}
			waited = time.Now()
			if err := f.tell(nil, before); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
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
	pos := position(f.last)
	if len(changes) == 0 {
		pos = idlePosition(f.last, at)
	}
	f.answer = f.fn(changes, engine.Progress{Mark: record.Mark{Position: pos, Wall: at}, AtEnd: changes == nil})
	return f.answer
}

// take returns on what happened: events of one revision belong together, and come
// together.
func (f *following) take(ctx context.Context, events []*clientv3.Event) error {
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
		ch := record.Change{Namespace: name, Key: bytes.Clone(e.Kv.Key[len(prefix):]), At: position(e.Kv.ModRevision)}
		if e.Type == mvccpb.Event_DELETE {
			ch.Op, ch.Value = record.Delete, appendValue(nil, ch.Key, nil, 0)
		} else {
			ch.Op, ch.Value = record.Put, appendValue(nil, ch.Key, e.Kv.Value, e.Kv.Lease)
			if err := f.lease(ctx, e.Kv.Lease, ch.At, &changes); err != nil {
				return err
			}
		}
		changes = append(changes, ch)
	}
	f.last = last
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
