package serve

import (
	"context"
	"iter"
	"math/rand/v2"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// cursor gives documents over several answers.
type cursor struct {
	id   int64
	ns   string
	next func() (bson.Raw, error, bool)
	stop func()
	used time.Time // under the server's lock
	mu   sync.Mutex
	// held is what was read and did not go into the answer before.
	held bson.Raw
	end  context.CancelFunc
}

const (
	mostCursors  = 1000
	batchBytes   = 16<<20 - 16<<10
	batchDefault = 101
)

// newCursor begins to read documents. They may be read in a goroutine of their own; the context
// ends that.
func newCursor(ns string, docs docquery.Documents, end context.CancelFunc) *cursor {
	seq := func(yield func(bson.Raw, error) bool) {
		err := docs(func(d bson.Raw) (bool, error) { return yield(d, nil), nil })
		if err != nil {
			yield(nil, err)
		}
	}
	c := &cursor{ns: ns, end: end}
	c.next, c.stop = iter.Pull2(seq)
	return c
}

// batch returns so many documents at most, and whether there are no more.
func (c *cursor) batch(size int64) (out bson.A, done bool, err error) {
	out = bson.A{}
	total := 0
	for size <= 0 || int64(len(out)) < size {
		d := c.held
		c.held = nil
		if d == nil {
			var ok bool
			if d, err, ok = c.next(); !ok || err != nil {
				return out, true, err
			}
		}
		if total += len(d) + 20; total > batchBytes && len(out) > 0 {
			c.held = d
			return out, false, nil
		}
		out = append(out, d)
	}
	return out, false, nil
}

// close gives a cursor up.
func (c *cursor) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end()
	c.stop()
}

// first answers a command that begins a cursor.
func (c *connection) first(r request, cur *cursor, size int64, single bool) (bson.D, error) {
	var batch bson.A
	var done bool
	var err error
	if batch = (bson.A{}); size != 0 {
		batch, done, err = cur.batch(size)
	}
	if err != nil || done || single {
		cur.close()
		if err != nil {
			return nil, err
		}
	} else if err := c.keep(cur); err != nil {
		cur.close()
		return nil, err
	}
	return bson.D{{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: batch}, {Key: "id", Value: cur.id},
		{Key: "ns", Value: cur.ns}}}}, nil
}

func (s *documentServer) keep(c *cursor) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.cursors) >= mostCursors {
		return docquery.Refuse(14, "ExceededMemoryLimit", "%d cursors are open, and no more may be", mostCursors)
	}
	for c.id == 0 || s.cursors[c.id] != nil {
		c.id = rand.Int64()
	}
	c.used = time.Now()
	s.cursors[c.id] = c
	return nil
}

// getMore goes on with a cursor.
func getMore(c *connection, r request) (bson.D, error) {
	id, ok := r.body.Index(0).Value().AsInt64OK()
	if !ok {
		return nil, docquery.Refuse(14, "TypeMismatch", "getMore needs the id of a cursor")
	}
	name, _ := r.body.Lookup("collection").StringValueOK()
	size, _ := r.body.Lookup("batchSize").AsInt64OK()
	c.documentServer.mu.Lock()
	cur := c.cursors[id]
	if cur != nil {
		cur.used = time.Now()
	}
	c.documentServer.mu.Unlock()
	if cur == nil {
		return nil, docquery.Refuse(43, "CursorNotFound", "cursor id %d not found", id)
	}
	if ns := r.db + "." + name; ns != cur.ns {
		return nil, docquery.Refuse(13, "Unauthorized",
			"Requested getMore on namespace '%s', but cursor belongs to a different namespace %s", ns, cur.ns)
	}
	cur.mu.Lock()
	batch, done, err := cur.batch(size)
	cur.mu.Unlock()
	next := id
	if done || err != nil {
		c.forget(id)
		next = 0
	}
	if err != nil {
		return nil, err
	}
	return bson.D{{Key: "cursor", Value: bson.D{{Key: "nextBatch", Value: batch}, {Key: "id", Value: next},
		{Key: "ns", Value: cur.ns}}}}, nil
}

// forget closes a cursor; it reports whether there was one.
func (s *documentServer) forget(id int64) bool {
	s.mu.Lock()
	cur := s.cursors[id]
	delete(s.cursors, id)
	s.mu.Unlock()
	if cur != nil {
		cur.close()
	}
	return cur != nil
}

func killCursors(c *connection, r request) (bson.D, error) {
	list, ok := r.body.Lookup("cursors").ArrayOK()
	if !ok {
		return nil, docquery.Refuse(40414, "Location40414",
			"BSON field 'killCursors.cursors' is missing but a required field")
	}
	vals, err := list.Values()
	if err != nil {
		return nil, docquery.Refuse(14, "TypeMismatch", "killCursors.cursors: %v", err)
	}
	killed, unknown := bson.A{}, bson.A{}
	for _, v := range vals {
		id, ok := v.Int64OK()
		switch {
		case !ok:
			return nil, docquery.Refuse(14, "TypeMismatch", "the id of a cursor is a long")
		case c.forget(id):
			killed = append(killed, id)
		default:
			unknown = append(unknown, id)
		}
	}
	return bson.D{{Key: "cursorsKilled", Value: killed}, {Key: "cursorsNotFound", Value: unknown},
		{Key: "cursorsAlive", Value: bson.A{}}, {Key: "cursorsUnknown", Value: bson.A{}}}, nil
}

// expire gives up cursors that were left alone.
func (s *documentServer) expire(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(idleFor / 10):
		}
		s.mu.Lock()
		var old []int64
		for id, c := range s.cursors {
			if time.Since(c.used) > idleFor {
				old = append(old, id)
			}
		}
		s.mu.Unlock()
		for _, id := range old {
			s.forget(id)
		}
	}
}

func (s *documentServer) closeAll() {
	s.mu.Lock()
	var all []int64
	for id := range s.cursors {
		all = append(all, id)
	}
	s.mu.Unlock()
	for _, id := range all {
		s.forget(id)
	}
}
