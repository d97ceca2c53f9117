package docsim

import (
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// The router's side of what defines namespaces and says where they are.

// write changes the config servers' collections and waits for a majority.
func (c *Sharded) write(cmd bson.D) error {
	d, err := c.config.do("config", append(cmd,
		bson.E{Key: "writeConcern", Value: bson.D{{Key: "w", Value: "majority"}}}), nil)
	if err == nil && lookup(d, "writeErrors") != nil {
		err = refuse(11000, "DuplicateKey", "config: %v", lookup(d, "writeErrors"))
	}
	return err
}

// reload reads the layout anew; the layout is held for writing. It waits until
// the config servers have settled, so that nothing read is rolled back.
func (c *Sharded) reload() error {
	for c.config.settled() != nil {
		select {
		case <-c.stop:
			return errGoodbye
		case <-time.After(10 * time.Millisecond):
		}
	}
	c.config.mu.Lock()
	defer c.config.mu.Unlock()
	c.lay = readLayout(c.config.members[max(c.config.primary, 0)].current)
	return nil
}

func put(coll string, docs ...any) bson.D {
	return bson.D{{Key: "insert", Value: coll}, {Key: "documents", Value: bson.A(docs)}}
}

func removeWhere(coll string, q bson.D) bson.D {
	return bson.D{{Key: "delete", Value: coll},
		{Key: "deletes", Value: bson.A{bson.D{{Key: "q", Value: q}, {Key: "limit", Value: int32(0)}}}}}
}

// makeDatabase returns a database its primary shard.
func (c *Sharded) makeDatabase(db, shard string) error {
	c.where.Lock()
	defer c.where.Unlock()
	if c.lay.primary[db] != "" {
		return nil
	}
	if shard == "" {
		shard = c.names[c.rng.IntN(len(c.names))]
	}
	err := c.write(put("databases", bson.D{
		{Key: "_id", Value: db}, {Key: "primary", Value: shard}, {
			Key: "version", Value: bson.D{{Key: "lastMod", Value: int32(1)}}}}))
	if rerr := c.reload(); rerr != nil {
		return rerr
	}
	return err
}

func routeListDatabases(x *routed, _ string, req bson.Raw) (bson.D, error) {
	x.r.c.where.RLock()
	defer x.r.c.where.RUnlock()
	out := bson.A{}
	may := func(db string) bool {
		x.r.c.config.mu.Lock()
		defer x.r.c.config.mu.Unlock()
		return x.r.c.config.lists(x.login.user, db)
	}
	for db, shard := range x.r.c.lay.primary {
		if !may(db) {
			continue
		}
		d, err := x.r.c.set(shard).do(db, bson.D{{Key: "dbStats", Value: 1}}, nil)
		if err != nil {
			return nil, err
		}
		out = append(out, bson.D{{Key: "name", Value: db}, {Key: "sizeOnDisk", Value: lookup(d, "dataSize")},
			{Key: "empty", Value: false}})
	}
	for _, db := range []string{"admin", "config"} {
		if !may(db) {
			continue
		}
		out = append(out, bson.D{{Key: "name", Value: db}, {Key: "sizeOnDisk", Value: int64(0)},
			{Key: "empty", Value: false}})
	}
	slices.SortFunc(out, func(a, b any) int {
		return strings.Compare(a.(bson.D)[0].Value.(string), b.(bson.D)[0].Value.(string))
	})
	return bson.D{{Key: "databases", Value: out}, {Key: "totalSize", Value: int64(0)}}, nil
}

func routeListCollections(x *routed, db string, req bson.Raw) (bson.D, error) {
	c := x.r.c
	if ofConfig(db) {
		return x.onOne(db, "config", req)
	}
	c.where.RLock()
	defer c.where.RUnlock()
	shard := c.lay.primary[db]
	if shard == "" {
		return bson.D{
			{Key: "cursor", Value: bson.D{
				{Key: "firstBatch", Value: bson.A{}}, {Key: "id", Value: int64(0)}, {
					Key: "ns", Value: db + ".$cmd.listCollections"}}}}, nil
	}
	return x.onOne(db, shard, req)
}

// onLead runs a command on the shard that answers for a namespace as a whole.
func (x *routed) onLead(db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	if ofConfig(db) {
		return x.onOne(db, "config", req)
	}
	x.r.c.where.RLock()
	defer x.r.c.where.RUnlock()
	_, shards := x.r.c.place(ns)
	if shards == nil {
		return nil, refuse(26, "NamespaceNotFound", "ns does not exist: %s", ns)
	}
	return x.onOne(db, shards[0], req)
}

func routeListIndexes(x *routed, db string, req bson.Raw) (bson.D, error) { return x.onLead(db, req) }

func routeCollStats(x *routed, db string, req bson.Raw) (bson.D, error) {
	list, err := x.matching(db, req, "")
	if err != nil {
		return nil, err
	}
	size := int64(0)
	for _, d := range list {
		size += int64(len(d))
	}
	return bson.D{{Key: "ns", Value: db + "." + first(req).StringValue()}, {Key: "count", Value: int64(len(list))},
		{Key: "size", Value: size}}, nil
}

func routeDBStats(x *routed, db string, req bson.Raw) (bson.D, error) {
	x.r.c.where.RLock()
	defer x.r.c.where.RUnlock()
	if p := x.r.c.lay.primary[db]; p != "" {
		return x.onOne(db, p, req)
	}
	return bson.D{{Key: "db", Value: db}, {Key: "collections", Value: int64(0)}, {Key: "objects", Value: int64(0)},
		{Key: "dataSize", Value: int64(0)}}, nil
}

func routeCreate(x *routed, db string, req bson.Raw) (bson.D, error) {
	t, shards, release, err := x.locate(db, req)
	defer release()
	if err != nil {
		return nil, err
	}
	if t != nil {
		return nil, refuse(48, "NamespaceExists", "Collection %s already exists.", t.ns)
	}
	return x.onOne(db, shards[0], req)
}

// routeAll changes a collection's definition on every shard that holds it.
func routeAll(x *routed, db string, req bson.Raw) (bson.D, error) {
	_, shards, release, err := x.locate(db, req)
	defer release()
	if err != nil {
		return nil, err
	}
	var out bson.D
	for _, shard := range shards {
		if out, err = x.onOne(db, shard, req); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// holders names the shards that have a collection of this identity, whether
// or not they own any of it.
func (c *Sharded) holders(id [16]byte) []string {
	var out []string
	for _, name := range c.names {
		rs := c.shards[name]
		rs.mu.Lock()
		for _, coll := range rs.members[max(rs.primary, 0)].current.colls {
			if coll.uuid == id {
				out = append(out, name)
			}
		}
		rs.mu.Unlock()
	}
	return out
}

// unshard takes a sharded collection out of the layout and then drops it on
// all shards; the layout is held for writing.
func (c *Sharded) unshard(t *table) error {
	db, coll, _ := strings.Cut(t.ns, ".")
	held := c.holders(t.uuid)
	err := c.write(removeWhere("collections", bson.D{{Key: "_id", Value: t.ns}}))
	if err == nil {
		err = c.write(removeWhere("chunks", bson.D{{Key: "uuid", Value: uuidValue(t.uuid)}}))
	}
	if err == nil {
		err = c.write(removeWhere("tags", bson.D{{Key: "ns", Value: t.ns}}))
	}
	if rerr := c.reload(); rerr != nil {
		return rerr
	}
	if err != nil && c.lay.byID[t.uuid] != nil {
		return err
	}
	for _, shard := range held {
		err := c.insist(shard, t.uuid, "", func() error {
			_, err := c.set(shard).do(db, bson.D{{Key: "drop", Value: coll}}, nil)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// insist repeats what changes a collection on a shard until a majority there
// knows it under its new name, or not at all where that is empty: what was
// begun by a coordinator is carried through, whoever is killed meanwhile.
func (c *Sharded) insist(shard string, id [16]byte, name string, fn func() error) error {
	rs := c.set(shard)
	is := func() (string, bool) {
		rs.mu.Lock()
		defer rs.mu.Unlock()
		for ns, coll := range rs.members[max(rs.primary, 0)].current.colls {
			if coll.uuid == id {
				return ns, rs.primary >= 0
			}
		}
		return "", rs.primary >= 0
	}
	for {
		if now, ok := is(); ok && now == name && rs.settled() == nil {
			if now, ok := is(); ok && now == name {
				return nil
			}
		} else if ok && now != name {
			_ = fn()
		}
		select {
		case <-c.stop:
			return errGoodbye
		case <-time.After(2 * time.Millisecond):
		}
	}
}

func routeDrop(x *routed, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := x.r.c
	c.where.Lock()
	defer c.where.Unlock()
	if t := c.lay.byNS[ns]; t != nil {
		if c.busy(t.uuid) {
			return nil, refuse(46, "LockBusy", "a prepared transaction holds %s", ns)
		}
		return bson.D{}, c.unshard(t)
	}
	if t := c.lay.byNS[db+"."+bucketsOf+strings.TrimPrefix(ns, db+".")]; t != nil {
		if err := c.unshard(t); err != nil { // the buckets, and then the time series
			return nil, err
		}
	}
	if p := c.lay.primary[db]; p != "" {
		return x.onOne(db, p, req)
	}
	return nil, refuse(26, "NamespaceNotFound", "ns not found")
}

// busy reports whether a prepared transaction anywhere holds a collection.
func (c *Sharded) busy(id [16]byte) bool {
	for _, name := range c.names {
		rs := c.shards[name]
		rs.mu.Lock()
		for _, t := range rs.txns {
			for ns := range t.spaces {
				if coll := t.state.colls[ns]; t.prepared != nil && (coll == nil || coll.uuid == id) {
					rs.mu.Unlock()
					return true
				}
			}
		}
		rs.mu.Unlock()
	}
	return false
}

func routeDropDatabase(x *routed, db string, _ bson.Raw) (bson.D, error) {
	c := x.r.c
	c.where.Lock()
	defer c.where.Unlock()
	p := c.lay.primary[db]
	if p == "" {
		return bson.D{}, nil
	}
	for ns, t := range c.lay.byNS {
		if head, _, _ := strings.Cut(ns, "."); head != db {
			continue
		}
		if c.busy(t.uuid) {
			return nil, refuse(46, "LockBusy", "a prepared transaction holds %s", ns)
		}
		if err := c.unshard(t); err != nil {
			return nil, err
		}
	}
	// As servers do, until a majority of the shard has it: only then is it taken out of the layout.
	if _, err := c.set(p).do(db, bson.D{{Key: "dropDatabase", Value: 1},
		{Key: "writeConcern", Value: bson.D{{Key: "w", Value: "majority"}}}}, nil); err != nil {
		return nil, err
	}
	err := c.write(removeWhere("databases", bson.D{{Key: "_id", Value: db}}))
	if rerr := c.reload(); rerr != nil {
		return nil, rerr
	}
	return bson.D{{Key: "dropped", Value: db}}, err
}

// routeRename renames on every shard that holds the collection, and then in
// the layout.
func routeRename(x *routed, _ string, req bson.Raw) (bson.D, error) {
	from, _ := first(req).StringValueOK()
	to, _ := req.Lookup("to").StringValueOK()
	c := x.r.c
	c.where.Lock()
	defer c.where.Unlock()
	db, _, _ := strings.Cut(from, ".")
	t, target := c.lay.byNS[from], c.lay.byNS[to]
	if t == nil && target == nil {
		if p := c.lay.primary[db]; p != "" {
			return x.onOne("admin", p, req)
		}
		return nil, refuse(26, "NamespaceNotFound", "Source collection %s does not exist", from)
	}
	if !c.opt.Set.renamesSharded() {
		return nil, refuse(20, "IllegalOperation", "You can't rename a sharded collection")
	}
	toDB, _, _ := strings.Cut(to, ".")
	if db != toDB {
		return nil, refuse(20, "IllegalOperation", "this stand-in renames within a database only")
	}
	p := c.set(c.lay.primary[db])
	p.mu.Lock()
	state := p.members[max(p.primary, 0)].current
	source, there := state.colls[from], state.colls[to]
	p.mu.Unlock()
	if source == nil && t == nil {
		return nil, refuse(26, "NamespaceNotFound", "Source collection %s does not exist", from)
	}
	if target != nil || there != nil {
		if !truthy(req.Lookup("dropTarget")) {
			return nil, refuse(48, "NamespaceExists", "target namespace exists")
		}
		if target != nil {
			if c.busy(target.uuid) {
				return nil, refuse(46, "LockBusy", "a prepared transaction holds %s", to)
			}
			if err := c.unshard(target); err != nil {
				return nil, err
			}
		}
	}
	if t == nil {
		return x.onOne("admin", c.lay.primary[db], req)
	}
	if c.busy(t.uuid) {
		return nil, refuse(46, "LockBusy", "a prepared transaction holds %s", from)
	}
	for _, shard := range c.holders(t.uuid) {
		err := c.insist(shard, t.uuid, to, func() error { _, err := x.onOne("admin", shard, req); return err })
		if err != nil {
			return nil, err
		}
	}
	raw := toRaw(bson.D{{Key: "_id", Value: to}, {Key: "uuid", Value: uuidValue(t.uuid)}, {Key: "key", Value: t.key},
		{Key: "unique", Value: false}, {Key: "lastmod", Value: time.Now()}})
	// Written until it is so: shards have the new name by now.
	for {
		_ = c.write(put("collections", raw))
		_ = c.write(removeWhere("collections", bson.D{{Key: "_id", Value: from}}))
		if err := c.reload(); err != nil {
			return nil, err
		}
		if c.lay.byNS[to] != nil && c.lay.byNS[from] == nil {
			return bson.D{}, nil
		}
	}
}

func routeListShards(x *routed, _ string, _ bson.Raw) (bson.D, error) {
	x.r.c.where.RLock()
	defer x.r.c.where.RUnlock()
	out := bson.A{}
	for _, n := range x.r.c.names {
		out = append(out, bson.D{{Key: "_id", Value: n}, {Key: "host", Value: x.r.c.shards[n].host()},
			{Key: "state", Value: int32(1)}, {Key: "tags", Value: tagsOf(x.r.c.zones[n])}})
	}
	return bson.D{{Key: "shards", Value: out}}, nil
}

func tagsOf(list []string) bson.A {
	a := bson.A{}
	for _, z := range list {
		a = append(a, z)
	}
	return a
}

func routeShardMap(x *routed, _ string, _ bson.Raw) (bson.D, error) {
	m := bson.D{{Key: "config", Value: x.r.c.config.host()}}
	for _, n := range x.r.c.names {
		m = append(m, bson.E{Key: n, Value: x.r.c.shards[n].host()})
	}
	return bson.D{{Key: "map", Value: m}}, nil
}

func routeEnableSharding(x *routed, _ string, req bson.Raw) (bson.D, error) {
	db, _ := first(req).StringValueOK()
	shard, _ := req.Lookup("primaryShard").StringValueOK()
	c := x.r.c
	c.timeMu.Lock()
	if c.enabled == nil {
		c.enabled = map[string]bool{}
	}
	c.enabled[db] = true
	c.timeMu.Unlock()
	return bson.D{}, c.makeDatabase(db, shard)
}

func routeBalancer(x *routed, _ string, req bson.Raw) (bson.D, error) {
	c := x.r.c
	switch lower(req.Index(0).Key()) {
	case "balancerstart", "balancerstop":
		stopped := lower(req.Index(0).Key()) == "balancerstop"
		_, err := c.config.do("config", bson.D{
			{Key: "update", Value: "settings"}, {
				Key: "updates", Value: bson.A{bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: "balancer"}}},
					{Key: "u", Value: bson.D{{Key: "$set", Value: bson.D{{Key: "stopped", Value: stopped}}}}},
					{Key: "upsert", Value: true}}}}}, nil)
		return bson.D{}, err
	}
	mode := "full"
	if c.BalancerStopped() {
		mode = "off"
	}
	return bson.D{{Key: "mode", Value: mode}, {Key: "inBalancerRound", Value: false}}, nil
}

// BalancerStopped reports whether somebody has stopped the balancer.
func (c *Sharded) BalancerStopped() bool {
	c.config.mu.Lock()
	defer c.config.mu.Unlock()
	s := c.config.members[max(c.config.primary, 0)].current.colls["config.settings"]
	if s == nil {
		return false
	}
	d, ok := s.get(value("balancer"))
	return ok && truthy(d.raw.Lookup("stopped"))
}
