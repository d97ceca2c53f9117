package docsim

import (
	"math/rand/v2"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// The router's side of writing: which shard a write goes to ("Sharded Cluster
// Query Routing").

// onOne runs a command on the one place where an unsharded namespace is.
func (x *routed) onOne(db, shard string, req bson.Raw) (bson.D, error) {
	return x.r.c.set(shard).do(db, without(req), func(s *session) { s.unbounded = true })
}

// locate finds where a write goes, making the database first where there is
// none. It returns with the layout held; release must be called.
func (x *routed) locate(db string, req bson.Raw) (t *table, shards []string, release func(), err error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, nil, func() {}, err
	}
	c := x.r.c
	if ofConfig(db) {
		return nil, []string{"config"}, func() {}, nil
	}
	for {
		c.where.RLock()
		if t, shards = c.place(ns); shards != nil {
			return t, shards, c.where.RUnlock, nil
		}
		c.where.RUnlock()
		if err := c.makeDatabase(db, ""); err != nil {
			return nil, nil, func() {}, err
		}
	}
}

// carry takes a session's transaction and write concern along.
func carry(req bson.Raw, cmd bson.D) bson.D {
	for _, f := range []string{"lsid", "txnNumber", "autocommit", "writeConcern"} {
		if v, err := req.LookupErr(f); err == nil {
			cmd = append(cmd, bson.E{Key: f, Value: v})
		}
	}
	return cmd
}

func routeInsert(x *routed, db string, req bson.Raw) (bson.D, error) {
	t, shards, release, err := x.locate(db, req)
	defer release()
	if err != nil {
		return nil, err
	}
	if t == nil {
		return x.onOne(db, shards[0], req)
	}
	byShard := map[string]bson.A{}
	at := map[string][]int{}
	for i, v := range listOf(req, "documents") {
		doc := v.Document()
		if _, err := doc.LookupErr("_id"); err != nil {
			doc = toRaw(append(bson.D{{Key: "_id", Value: bson.NewObjectID()}}, toD(doc)...))
		}
		owner := t.owner(doc)
		byShard[owner] = append(byShard[owner], doc)
		at[owner] = append(at[owner], i)
	}
	n := int32(0)
	var bad bson.A
	for _, shard := range shards {
		docs := byShard[shard]
		if len(docs) == 0 {
			continue
		}
		d, err := x.r.c.set(shard).do(db,
			carry(req, bson.D{{Key: "insert", Value: first(req)}, {Key: "documents", Value: docs},
				{Key: "ordered", Value: isOrdered(req)}}), owning(t, shard))
		if err != nil {
			return nil, err
		}
		n += lookup(d, "n").(int32)
		list, _ := lookup(d, "writeErrors").(bson.A)
		for _, w := range list {
			e := w.(bson.D)
			e[0].Value = int32(at[shard][e[0].Value.(int32)])
			bad = append(bad, e)
		}
	}
	out := bson.D{{Key: "n", Value: n}}
	if bad != nil {
		out = append(out, bson.E{Key: "writeErrors", Value: bad})
	}
	return out, nil
}

// pinned returns the one shard a filter can only fit on: one that names the
// whole shard key.
func (t *table) pinned(filter bson.Raw) string {
	for _, k := range t.key {
		v := filter.Lookup(k.Key)
		if v.Type == 0 || v.Type == bson.TypeEmbeddedDocument || v.Type == bson.TypeRegex {
			return ""
		}
	}
	return t.owner(filter)
}

// statements runs each statement of an update or delete where it belongs.
func (x *routed) statements(db string, req bson.Raw, field, count string, single func(bson.Raw) bool) (bson.D, error) {
	t, shards, release, err := x.locate(db, req)
	defer release()
	if err != nil {
		return nil, err
	}
	if t == nil {
		return x.onOne(db, shards[0], req)
	}
	var n, modified int32
	var bad, upserted bson.A
	for i, v := range listOf(req, field) {
		st := v.Document()
		q, _ := st.Lookup("q").DocumentOK()
		to, upsert := shards, truthy(st.Lookup("upsert"))
		if p := t.pinned(q); p != "" {
			to = []string{p}
		} else if upsert {
			bad = append(bad, bson.D{{Key: "index", Value: int32(i)}, {Key: "code", Value: int32(61)},
				{Key: "errmsg", Value: "Failed to target upsert by query :: could not extract exact shard key"}})
			continue
		}
		for _, shard := range to {
			cmd := bson.D{{Key: req.Index(0).Key(), Value: first(req)}, {Key: field, Value: bson.A{st}}}
			d, err := x.r.c.set(shard).do(db, carry(req, cmd), owning(t, shard))
			if err != nil {
				return nil, err
			}
			hit := lookup(d, "n").(int32)
			n += hit
			if m, ok := lookup(d, "nModified").(int32); ok {
				modified += m
			}
			list, _ := lookup(d, "writeErrors").(bson.A)
			for _, w := range list {
				e := w.(bson.D)
				e[0].Value = int32(i)
				bad = append(bad, e)
			}
			ups, _ := lookup(d, "upserted").(bson.A)
			for _, u := range ups {
				e := u.(bson.D)
				e[0].Value = int32(i)
				upserted = append(upserted, e)
			}
			if hit > 0 && single(st) {
				break
			}
		}
	}
	out := bson.D{{Key: "n", Value: n}}
	if count != "" {
		out = append(out, bson.E{Key: count, Value: modified})
	}
	if upserted != nil {
		out = append(out, bson.E{Key: "upserted", Value: upserted})
	}
	if bad != nil {
		out = append(out, bson.E{Key: "writeErrors", Value: bad})
	}
	return out, nil
}

func routeUpdate(x *routed, db string, req bson.Raw) (bson.D, error) {
	return x.statements(db, req, "updates", "nModified", func(st bson.Raw) bool { return !truthy(st.Lookup("multi")) })
}

func routeDelete(x *routed, db string, req bson.Raw) (bson.D, error) {
	return x.statements(db, req, "deletes", "",
		func(st bson.Raw) bool { n, _ := st.Lookup("limit").AsInt64OK(); return n == 1 })
}

func routeFindAndModify(x *routed, db string, req bson.Raw) (bson.D, error) {
	t, shards, release, err := x.locate(db, req)
	defer release()
	if err != nil {
		return nil, err
	}
	if t == nil {
		return x.onOne(db, shards[0], req)
	}
	q, _ := req.Lookup("query").DocumentOK()
	if p := t.pinned(q); p != "" {
		shards = []string{p}
	} else if truthy(req.Lookup("upsert")) {
		return nil, refuse(61, "ShardKeyNotFound", "Query for sharded findAndModify must contain the shard key")
	}
	var out bson.D
	for _, shard := range shards {
		if out, err = x.r.c.set(shard).do(db, without(req), owning(t, shard)); err != nil {
			return nil, err
		}
		if v := lookup(out, "value"); v != nil {
			break
		}
	}
	return out, nil
}

// routeNote writes the note on all shards.
func routeNote(x *routed, db string, req bson.Raw) (bson.D, error) {
	for _, name := range append([]string{"config"}, x.r.c.names...) {
		if _, err := x.r.c.set(name).do(db, without(req), nil); err != nil {
			return nil, err
		}
	}
	return bson.D{}, nil
}

// participants names the shards on which a transaction has done something.
func (c *Sharded) participants(key string) (wrote, read []string) {
	for _, name := range c.names {
		rs := c.shards[name]
		rs.mu.Lock()
		if t := rs.txns[key]; t != nil && len(t.ops) > 0 {
			wrote = append(wrote, name)
		} else if t != nil {
			read = append(read, name)
		}
		rs.mu.Unlock()
	}
	return wrote, read
}

func (c *Sharded) forget(key string, shards []string) {
	for _, name := range shards {
		rs := c.shards[name]
		rs.mu.Lock()
		if t := rs.txns[key]; t != nil && t.prepared == nil {
			delete(rs.txns, key)
		}
		rs.mu.Unlock()
	}
}

func routeAbort(x *routed, _ string, req bson.Raw) (bson.D, error) {
	wrote, read := x.r.c.participants(sessionKey(req))
	x.r.c.forget(sessionKey(req), append(wrote, read...))
	return bson.D{}, nil
}

// routeCommit commits a transaction: on one shard by itself, on several in two
// phases ("Distributed Transactions", commit).
func routeCommit(x *routed, db string, req bson.Raw) (bson.D, error) {
	c, key := x.r.c, sessionKey(req)
	wrote, read := c.participants(key)
	c.forget(key, read)
	switch len(wrote) {
	case 0:
		return bson.D{}, nil
	case 1:
		return c.set(wrote[0]).do(db, without(req), nil)
	}
	commit, err := c.prepareAll(key, wrote)
	done := make(chan struct{})
	c.wg.Go(func() {
		defer close(done)
		c.decideAll(key, wrote, commit)
	})
	if err != nil {
		return nil, err
	}
	select {
	case <-done:
	case <-c.stop:
		return nil, errGoodbye
	}
	return bson.D{}, nil
}

// prepareAll prepares a transaction on all its shards, and gives the time as of
// which it counts; nil where one of them could not.
func (c *Sharded) prepareAll(key string, shards []string) (*bson.Timestamp, error) {
	var commit bson.Timestamp
	for _, name := range shards {
		rs := c.shards[name]
		c.tell(rs)
		rs.mu.Lock()
		e, err := rs.prepare(key)
		rs.mu.Unlock()
		if err == nil {
			err = rs.settled()
		}
		if err == nil {
			// What is not there any more was rolled back.
			rs.mu.Lock()
			if rs.txns[key] == nil {
				err = refuse(251, "NoSuchTransaction", "Transaction has been aborted.")
			}
			rs.mu.Unlock()
		}
		c.hear(rs)
		if err != nil {
			return nil, err
		}
		if after(e.ts, commit) {
			commit = e.ts
		}
	}
	return &commit, nil
}

// decideAll brings the decision to all shards, at different times, and to each
// until a majority of it has it.
func (c *Sharded) decideAll(key string, shards []string, commit *bson.Timestamp) {
	for _, i := range rand.Perm(len(shards)) {
		rs := c.shards[shards[i]]
		for reach := 0; ; {
			c.tell(rs)
			rs.mu.Lock()
			if rs.primary >= 0 && (reach == 0 || rs.txns[key] != nil) { // again where it was rolled back
				rs.decide(key, commit)
				reach = rs.total()
			}
			kept := reach > 0 && rs.txns[key] == nil && rs.committed() >= reach
			rs.mu.Unlock()
			c.hear(rs)
			if kept {
				break
			}
			select {
			case <-c.stop:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
		time.Sleep(time.Duration(rand.IntN(4)) * time.Millisecond)
	}
}
