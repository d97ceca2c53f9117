package docsim

import (
	"errors"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
	"dexamen/internal/docwire"
)

// router passes commands on to the shards that own what they are about
// ("mongos").
type router struct {
	c    *Sharded
	addr string

	mu       sync.Mutex
	up       bool
	listener net.Listener
	conns    map[net.Conn]bool
	cursors  map[int64][]bson.Raw
}

func (r *router) serve(l net.Listener) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.up, r.listener, r.conns, r.cursors = true, l, map[net.Conn]bool{}, map[int64][]bson.Raw{}
	r.c.wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			r.mu.Lock()
			if !r.up || r.listener != l {
				r.mu.Unlock()
				_ = conn.Close()
				continue
			}
			r.conns[conn] = true
			r.mu.Unlock()
			r.c.wg.Go(func() {
				docwire.Talk(conn, r.c.opt.Set.TLS, func(conn net.Conn) docwire.Answerer {
					// Logins are checked against the users the config servers hold.
					return &routed{r: r, login: session{m: r.c.config.members[0], conn: conn}}
				})
				_ = conn.Close()
				r.mu.Lock()
				delete(r.conns, conn)
				r.mu.Unlock()
			})
		}
	})
}

func (r *router) down() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.up {
		return
	}
	r.up = false
	_ = r.listener.Close()
	for c := range r.conns {
		_ = c.Close()
	}
}

// routed is one connection to a router.
type routed struct {
	r     *router
	login session
}

type routeHandler func(x *routed, db string, req bson.Raw) (bson.D, error)

var routes map[string]routeHandler

func init() {
	fine := func(*routed, string, bson.Raw) (bson.D, error) { return bson.D{}, nil }
	routes = map[string]routeHandler{
		"ping": fine, "endsessions": fine, "refreshsessions": fine, "killsessions": fine, "logout": fine,
		"flushrouterconfig": fine,
		"buildinfo": func(x *routed, _ string, _ bson.Raw) (bson.D, error) {
			return builtAs(&x.r.c.opt.Set),
				nil
		},
		"getlog":       func(*routed, string, bson.Raw) (bson.D, error) { return emptyLog(nil, "", nil) },
		"getparameter": fine,
		"connectionstatus": func(x *routed, _ string, _ bson.Raw) (bson.D, error) {
			return connectionStatus(&x.login, "", nil)
		},
		"find": routeFind, "getmore": routeGetMore, "killcursors": routeKillCursors, "count": routeCount,
		"distinct": routeDistinct, "aggregate": routeAggregate,
		"insert": routeInsert, "update": routeUpdate, "delete": routeDelete, "findandmodify": routeFindAndModify,
		"createrole": routeUsers, "createuser": routeUsers, "dropuser": routeUsers, "usersinfo": routeUsers,
		"listdatabases": routeListDatabases, "listcollections": routeListCollections, "listindexes": routeListIndexes,
		"collstats": routeCollStats, "dbstats": routeDBStats,
		"create": routeCreate, "drop": routeDrop, "dropdatabase": routeDropDatabase, "renamecollection": routeRename,
		"createindexes": routeAll, "dropindexes": routeAll, "deleteindexes": routeAll, "collmod": routeAll,
		"appendoplognote": routeNote, "committransaction": routeCommit, "aborttransaction": routeAbort,
		"listshards": routeListShards, "getshardmap": routeShardMap, "enablesharding": routeEnableSharding,
		"shardcollection": routeShardCollection,
		"split":           routeSplit, "movechunk": routeMoveChunk, "addshardtozone": routeShardZone,
		"updatezonekeyrange": routeZone,
		"balancerstop":       routeBalancer, "balancerstart": routeBalancer, "balancerstatus": routeBalancer,
	}
}

func (x *routed) Answer(body bson.Raw, connID int64) (bson.Raw, error) {
	elems, err := body.Elements()
	if err != nil || len(elems) == 0 {
		return nil, docwire.ErrMalformed
	}
	name := lower(elems[0].Key())
	db, _ := body.Lookup("$db").StringValueOK()
	c := x.r.c
	if ts, ok := clusterTimeOf(body); ok {
		c.timeMu.Lock()
		if after(ts, c.time) {
			c.time = ts
		}
		c.timeMu.Unlock()
	}
	var out bson.D
	switch {
	case name == "hello" || name == "ismaster":
		out = bson.D{{Key: "helloOk", Value: true}, {Key: "isWritablePrimary", Value: true},
			{Key: "ismaster", Value: true}, {Key: "msg", Value: "isdbgrid"},
			{Key: "maxBsonObjectSize", Value: int32(16 << 20)},
			{Key: "maxMessageSizeBytes", Value: int32(docwire.MaxMessage)},
			{Key: "maxWriteBatchSize", Value: int32(100_000)}, {Key: "localTime", Value: time.Now()},
			{Key: "logicalSessionTimeoutMinutes", Value: int32(30)}, {Key: "connectionId", Value: int32(connID)},
			{Key: "minWireVersion", Value: int32(0)}, {Key: "maxWireVersion", Value: int32(21)}}
		if c.opt.Set.User != "" {
			out = append(out, bson.E{Key: "saslSupportedMechs", Value: bson.A{c.config.opt.Mechanism}})
		}
	case name == "saslstart" || name == "saslcontinue":
		out, err = x.login.login(elems[0].Key(), body)
	case c.opt.Set.User != "" && x.login.user == "" && !openCommands[name]:
		err = refuse(13, "Unauthorized", "command %s requires authentication", elems[0].Key())
	case name == "authenticate":
		out, err = x.login.certified(body)
	case !c.config.may(x.login.user, db, name, body):
		err = refuse(13, "Unauthorized", "not authorized on %s to execute command %s", db, elems[0].Key())
	case routes[name] == nil:
		err = refuse(59, "CommandNotFound", "no such command: '%s'", elems[0].Key())
	default:
		out, err = routes[name](x, db, body)
	}
	if errors.Is(err, docwire.ErrMalformed) {
		return nil, err
	}
	if errors.Is(err, errGoodbye) {
		err = refuse(6, "HostUnreachable", "a shard's primary went away")
	}
	out = answerOf(out, err)
	c.timeMu.Lock()
	defer c.timeMu.Unlock()
	return toRaw(append(out, bson.E{Key: "operationTime", Value: c.time}, clusterTime(c.time))), nil
}

// clusterTime is the field in which servers tell each other and their clients
// the time, unsigned as without keys.
func clusterTime(ts bson.Timestamp) bson.E {
	return bson.E{Key: "$clusterTime", Value: bson.D{{Key: "clusterTime", Value: ts},
		{Key: "signature", Value: bson.D{
			{Key: "hash", Value: bson.Binary{Data: make([]byte, 20)}}, {Key: "keyId", Value: int64(0)}}}}}
}

func clusterTimeOf(req bson.Raw) (bson.Timestamp, bool) {
	t, i, ok := req.Lookup("$clusterTime", "clusterTime").TimestampOK()
	return bson.Timestamp{T: t, I: i}, ok
}

// place reports where a namespace is: its table where it is sharded, and the
// shards that hold it, the leading one first. The layout is held by the caller.
func (c *Sharded) place(ns string) (*table, []string) {
	if t := c.lay.byNS[ns]; t != nil {
		var out []string
		for _, ch := range t.chunks {
			if !slices.Contains(out, ch.shard) {
				out = append(out, ch.shard)
			}
		}
		return t, out
	}
	db, _, _ := strings.Cut(ns, ".")
	if p := c.lay.primary[db]; p != "" {
		return nil, []string{p}
	}
	return nil, nil
}

// set returns the servers of a shard, or the config servers.
func (c *Sharded) set(name string) *ReplicaSet {
	if name == "config" {
		return c.config
	}
	return c.shards[name]
}

// ofConfig reports that a database is on the config servers.
func ofConfig(db string) bool { return db == "config" || db == "admin" }

// without returns a command without some fields.
func without(req bson.Raw, names ...string) bson.D {
	var out bson.D
	for _, e := range toD(req) {
		if e.Key != "$db" && !slices.Contains(names, e.Key) {
			out = append(out, e)
		}
	}
	return out
}

// owning prepares a session that acts for a router on a shard.
func owning(t *table, shard string) func(*session) {
	return func(s *session) {
		s.unbounded = true
		if t == nil {
			return
		}
		s.table = t
		s.owns = func(_ *collection, doc bson.Raw) bool { return t.owner(doc) == shard }
	}
}

// collect finds all documents of a namespace that fit, on all shards.
func (x *routed) collect(db, coll string, req bson.Raw, find bson.D) ([]bson.Raw, error) {
	c := x.r.c
	find = append(bson.D{{Key: "find", Value: coll}}, find...)
	find = append(find, bson.E{Key: "batchSize", Value: int32(1 << 30)})
	for _, f := range []string{"readConcern", "lsid", "txnNumber", "autocommit"} {
		if v, err := req.LookupErr(f); err == nil {
			find = append(find, bson.E{Key: f, Value: v})
		}
	}
	t, shards := c.place(db + "." + coll)
	if ofConfig(db) {
		t, shards = nil, []string{"config"}
	}
	var out []bson.Raw
	for _, name := range shards {
		d, err := c.set(name).do(db, find, owning(t, name))
		if err != nil {
			return nil, err
		}
		cur, _ := lookup(d, "cursor").(bson.D)
		batch, _ := lookup(cur, "firstBatch").(bson.A)
		for _, v := range batch {
			out = append(out, v.(bson.Raw))
		}
	}
	return out, nil
}

// hand returns a list as a cursor's first batch.
func (x *routed) hand(ns string, list []bson.Raw, size int64) bson.D {
	id := int64(0)
	first, rest := cut(list, size)
	if len(rest) > 0 {
		id = lastCursor.Add(1)
		x.r.mu.Lock()
		x.r.cursors[id] = rest
		x.r.mu.Unlock()
	}
	return bson.D{
		{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: first}, {Key: "id", Value: id},
			{Key: "ns", Value: ns}}}}
}

// cut takes a batch off a list.
func cut(list []bson.Raw, size int64) (bson.A, []bson.Raw) {
	batch, bytes := bson.A{}, 0
	for len(list) > 0 && (size <= 0 || int64(len(batch)) < size) && bytes < batchBytes {
		batch = append(batch, list[0])
		bytes += len(list[0])
		list = list[1:]
	}
	return batch, list
}

func routeFind(x *routed, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := x.r.c
	c.where.RLock()
	defer c.where.RUnlock()
	limit, _ := req.Lookup("limit").AsInt64OK()
	skip, _ := req.Lookup("skip").AsInt64OK()
	var find bson.D
	for _, f := range []string{"filter", "min", "max", "hint", "sort"} {
		if v, err := req.LookupErr(f); err == nil {
			find = append(find, bson.E{Key: f, Value: v})
		}
	}
	if limit > 0 {
		find = append(find, bson.E{Key: "limit", Value: skip + limit})
	}
	list, err := x.collect(db, first(req).StringValue(), req, find)
	if err != nil {
		return nil, err
	}
	if spec, ok := req.Lookup("sort").DocumentOK(); ok {
		if err := sortBy(list, spec); err != nil {
			return nil, err
		}
	}
	list = list[min(int(skip), len(list)):]
	if limit > 0 {
		list = list[:min(int(limit), len(list))]
	}
	for i := range list {
		if list[i], err = project(list[i], req); err != nil {
			return nil, err
		}
	}
	size := int64(101)
	if n, ok := req.Lookup("batchSize").AsInt64OK(); ok {
		size = n
	}
	if single, _ := req.Lookup("singleBatch").BooleanOK(); single && size > 0 {
		list = list[:min(int(size), len(list))]
	}
	return x.hand(ns, list, size), nil
}

func routeGetMore(x *routed, _ string, req bson.Raw) (bson.D, error) {
	id, _ := first(req).AsInt64OK()
	size, _ := req.Lookup("batchSize").AsInt64OK()
	x.r.mu.Lock()
	defer x.r.mu.Unlock()
	rest, ok := x.r.cursors[id]
	if !ok {
		return nil, refuse(43, "CursorNotFound", "cursor id %d not found", id)
	}
	batch, rest := cut(rest, size)
	next := id
	if x.r.cursors[id] = rest; len(rest) == 0 {
		delete(x.r.cursors, id)
		next = 0
	}
	return bson.D{
		{Key: "cursor", Value: bson.D{{Key: "nextBatch", Value: batch}, {Key: "id", Value: next},
			{Key: "ns", Value: ""}}}}, nil
}

func routeKillCursors(x *routed, _ string, req bson.Raw) (bson.D, error) {
	x.r.mu.Lock()
	defer x.r.mu.Unlock()
	for _, v := range listOf(req, "cursors") {
		id, _ := v.AsInt64OK()
		delete(x.r.cursors, id)
	}
	return bson.D{}, nil
}

func (x *routed) matching(db string, req bson.Raw, field string) ([]bson.Raw, error) {
	if _, err := namespaceOf(db, first(req)); err != nil {
		return nil, err
	}
	x.r.c.where.RLock()
	defer x.r.c.where.RUnlock()
	var find bson.D
	if q, err := req.LookupErr(field); err == nil {
		find = bson.D{{Key: "filter", Value: q}}
	}
	return x.collect(db, first(req).StringValue(), req, find)
}

func routeCount(x *routed, db string, req bson.Raw) (bson.D, error) {
	list, err := x.matching(db, req, "query")
	return bson.D{{Key: "n", Value: int32(len(list))}}, err
}

func routeDistinct(x *routed, db string, req bson.Raw) (bson.D, error) {
	list, err := x.matching(db, req, "query")
	if err != nil {
		return nil, err
	}
	key, _ := req.Lookup("key").StringValueOK()
	return bson.D{{Key: "values", Value: distinctValues(list, key)}}, nil
}

func routeAggregate(x *routed, db string, req bson.Raw) (bson.D, error) {
	list, err := x.matching(db, req, "")
	if err != nil {
		return nil, err
	}
	stages := listOf(req, "pipeline")
	if n, ok := sampled(stages); ok {
		stages, list = stages[1:], sampleOf(list, int(n))
	}
	list, err = piped(stages, documents(list), func(name string) (docquery.Documents, error) {
		from, err := x.collect(db, name, req, nil)
		return documents(from), err
	})
	if err != nil {
		return nil, err
	}
	size := int64(101)
	if n, ok := req.Lookup("cursor", "batchSize").AsInt64OK(); ok && n > 0 {
		size = n
	}
	return x.hand(db+"."+first(req).StringValue(), list, size), nil
}
