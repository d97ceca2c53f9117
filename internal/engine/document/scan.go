package document

import (
	"bytes"
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
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/bsonkey"
)

// namespaces lists what the servers hold.
func (c *set) namespaces(ctx context.Context) ([]engine.Namespace, error) {
	var out []engine.Namespace
	var since record.Position
	if c.caps.status {
		end, err := c.logEnd(ctx)
		if err != nil {
			return nil, err
		}
		since = end.Position
	}
	err := c.onMember(ctx, func(addr string) (err error) {
		out, err = c.listCommitted(ctx, addr, since)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("cluster %s: listing namespaces: %w", c.t.Name, err)
	}
	return out, nil
}

// catchUp is how long a member that lags is waited for before another is asked.
const catchUp = 5 * time.Second

// listCommitted lists what one member holds, and sees that none of it can be
// rolled back: a listing shows whatever the member has, also what a majority
// never gets. It counts when the member has applied nothing else than what a
// majority has got since, on the same branch of history. A member that lags is
// given time to come to the position since, which a majority had before.
func (c *set) listCommitted(ctx context.Context, addr string, since record.Position) ([]engine.Namespace, error) {
	if !c.caps.status {
		return c.list(ctx, addr, true)
	}
	cl, err := c.reach(ctx, addr)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	for tries := 0; tries < 20; {
		first, term, err := c.applied(ctx, addr)
		if err != nil {
			return nil, err
		}
		if first < since {
			if time.Since(began) > catchUp {
				return nil, fmt.Errorf("%s: %w: it lags behind the majority by more than %s", addr,
					engine.ErrUnreachable, catchUp)
			}
			if err := wait.For(ctx, 20*time.Millisecond); err != nil {
				return nil, err
			}
			continue
		}
		tries++
		sess, err := cl.StartSession(options.Session().SetCausalConsistency(false))
		if err != nil {
			return nil, explain(addr, err)
		}
		out, err := c.list(mongo.NewSessionContext(ctx, sess), addr, true)
		shown := sess.OperationTime()
		sess.EndSession(context.WithoutCancel(ctx))
		if err != nil {
			return nil, err
		}
		last, now, err := c.applied(ctx, addr)
		if err != nil {
			return nil, err
		}
		newer, err := c.shows(ctx, addr, shown, last)
		if err != nil {
			return nil, err
		}
		if now == term && !newer {
			ok, err := c.becomesCommitted(ctx, addr, cl, last, term)
			if err != nil {
				return nil, err
			}
			if ok {
				return out, nil
			}
		}
	}
	return nil, fmt.Errorf("%s: %w: what it lists is not what a majority has; is a majority of the members up?", addr,
		engine.ErrUnreachable)
}

// applied returns the last entry that a member has applied, and its term.
func (c *set) applied(ctx context.Context, addr string) (record.Position, int64, error) {
	st, err := c.ask(ctx, addr, "admin", bson.D{{Key: "replSetGetStatus", Value: 1}})
	if err != nil {
		return "", 0, err
	}
	at, ok := timestampAt(st, "optimes", "appliedOpTime", "ts")
	if !ok {
		return "", 0, fmt.Errorf("%s: replSetGetStatus tells no applied time", addr)
	}
	term, _ := st.Lookup("optimes", "appliedOpTime", "t").AsInt64OK()
	e, err := c.entryUpTo(ctx, addr, at)
	if err != nil || e == nil {
		return at, term, err
	}
	if own, ok := timestampAt(e, "ts"); ok {
		at = own
	}
	if t, ok := e.Lookup("t").AsInt64OK(); ok {
		term = t
	}
	return at, term, nil
}

// shows reports whether what a session was shown may be newer than an entry: the
// time that the server told of it lies after the entry, and another entry up to
// that time.
func (c *set) shows(ctx context.Context, addr string, shown *bson.Timestamp, last record.Position) (bool, error) {
	if shown == nil || position(shown.T, shown.I) <= last {
		return false, nil
	}
	e, err := c.entryUpTo(ctx, addr, position(shown.T, shown.I))
	if err != nil || e == nil {
		return true, err
	}
	at, ok := timestampAt(e, "ts")
	return !ok || at > last, nil
}

// becomesCommitted waits until a majority has the entry of this position and
// term; it answers false when it has another history instead.
func (c *set) becomesCommitted(ctx context.Context, addr string, cl *mongo.Client, at record.Position,
	term int64) (bool, error) {
	for pause := 5 * time.Millisecond; pause < 10*time.Second; pause *= 2 {
		shown, err := c.shown(ctx, addr)
		if err != nil {
			return false, err
		}
		if shown >= at {
			e, err := majorityLog(cl).FindOne(ctx, bson.D{{Key: "ts", Value: timestampOf(at)}}).Raw()
			if errors.Is(err, mongo.ErrNoDocuments) {
				return false, nil
			}
			if err != nil {
				return false, explain(addr, err)
			}
			t, ok := e.Lookup("t").AsInt64OK()
			return !ok || t == term, nil
		}
		if err := wait.For(ctx, pause); err != nil {
			return false, err
		}
	}
	return false, nil
}

// list asks one member for all databases' collections and their indexes; with
// sizes also for how much they hold, which some servers find out by reading.
func (c *set) list(ctx context.Context, addr string, sizes bool) ([]engine.Namespace, error) {
	cl, err := c.reach(ctx, addr)
	if err != nil {
		return nil, err
	}
	ans, err := c.ask(ctx, addr, "admin", bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: true}})
	if err != nil {
		return nil, err
	}
	arr, _ := ans.Lookup("databases").ArrayOK()
	dbs, _ := arr.Values()
	var out []engine.Namespace
	for _, d := range dbs {
		db, _ := d.Document().Lookup("name").StringValueOK()
		if db == "local" || serversOwn[db] != nil && c.role != alone && c.role != layout {
			continue
		}
		list, err := c.listDatabase(ctx, cl, db, sizes)
		if codeOf(err) == 13 && (db == "config" && c.role != layout || db == "admin" && !c.t.Settings) {
			c.log.Warn("what users may have put into a database of the servers' own is not seen", "database", db,
				"member", addr, "cause", short(err))
			continue
		}
		if err != nil {
			return nil, explain(addr, err)
		}
		out = append(out, list...)
	}
	slices.SortFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// listDatabase lists one database. Indexes are asked for by name, and the name
// may have come to mean another collection meanwhile: what was listed counts
// only when the names mean the same collections afterwards.
func (c *set) listDatabase(ctx context.Context, cl *mongo.Client, db string, sizes bool) ([]engine.Namespace, error) {
	before, err := collectionsOf(ctx, cl, db)
	if err != nil {
		return nil, err
	}
	for range 50 {
		var out []engine.Namespace
		for _, info := range before {
			ns, err := c.describe(ctx, cl, db, info, sizes)
			if err != nil {
				return nil, err
			}
			if ns == nil && withoutBuckets(info, before) {
				name, _ := info.Lookup("name").StringValueOK()
				ns = &engine.Namespace{Namespace: record.Namespace{Name: db + "." + name, Kind: kindSeries},
					Shard: c.shard, Skip: "a " + bucketless}
			}
			if ns != nil {
				out = append(out, *ns)
			}
		}
		after, err := collectionsOf(ctx, cl, db)
		if err != nil {
			return nil, err
		}
		if slices.EqualFunc(before, after, sameCollection) {
			return out, nil
		}
		before = after
	}
	return nil, fmt.Errorf(
		"database %s: its collections change faster than they can be listed; try again when that has ended", db)
}

// withoutBuckets reports whether an entry of listCollections is of a time series that no entry for its buckets goes
// with.
func withoutBuckets(info bson.Raw, list []bson.Raw) bool {
	if typ, _ := info.Lookup("type").StringValueOK(); typ != "timeseries" {
		return false
	}
	name, _ := info.Lookup("name").StringValueOK()
	return !slices.ContainsFunc(list, func(o bson.Raw) bool {
		is, _ := o.Lookup("name").StringValueOK()
		return is == bucketPrefix+name
	})
}

// collectionsOf returns the entries of listCollections in order of names.
func collectionsOf(ctx context.Context, cl *mongo.Client, db string) ([]bson.Raw, error) {
	cur, err := cl.Database(db).ListCollections(ctx, bson.D{})
	if err != nil {
		return nil, err
	}
	var out []bson.Raw
	for cur.Next(ctx) {
		out = append(out, bytes.Clone(cur.Current))
	}
	slices.SortFunc(out, func(a, b bson.Raw) int {
		return strings.Compare(a.Lookup("name").String(), b.Lookup("name").String())
	})
	return out, cur.Err()
}

// sameCollection reports whether two entries are of the same incarnation of a
// collection under the same name.
func sameCollection(a, b bson.Raw) bool {
	return a.Lookup("name").Equal(b.Lookup("name")) && a.Lookup("info", "uuid").Equal(b.Lookup("info", "uuid"))
}

// describe turns an entry of listCollections into a namespace; nil where it is
// the server's own.
func (c *set) describe(ctx context.Context, cl *mongo.Client, db string, info bson.Raw,
	sizes bool) (*engine.Namespace, error) {
	return c.describeAs(ctx, cl, db, info, sizes, false)
}

// describeAs is describe; with own set also for a collection of Dexamen's own.
func (c *set) describeAs(ctx context.Context, cl *mongo.Client, db string, info bson.Raw, sizes,
	own bool) (*engine.Namespace, error) {
	name, _ := info.Lookup("name").StringValueOK()
	typ, _ := info.Lookup("type").StringValueOK()
	known, kind, why := c.role.content(db, name)
	if own {
		kind, why = "collection", ""
	}
	if kind == "" && strays(db, name) {
		return &engine.Namespace{Namespace: record.Namespace{Name: known, Kind: "collection"}, Shard: c.shard,
			Skip: "it is in the database " + db + ", which is the servers' own; keep it in another, or leave it out: " +
				"exclude: [" + known + "]"}, nil
	}
	if kind == "" || kind == record.KindSettings && !c.t.Settings {
		return nil, nil
	}
	ns := &engine.Namespace{Namespace: record.Namespace{Name: known, Kind: kind}, Shard: c.shard, Skip: why}
	opts, _ := info.Lookup("options").DocumentOK()
	if u, err := info.LookupErr("info", "uuid"); err == nil {
		ns.Ident = uuidOf(rawToCore(u))
	}
	switch typ {
	case "", "collection":
	case "view":
		fs, err := parseFields(opts)
		if err != nil {
			return nil, err
		}
		ns.Kind, ns.Definition, ns.Ident = "view", viewDefinition(fs), nil
		return ns, nil
	case "timeseries":
		return nil, nil // listed by its buckets
	default:
		ns.Skip = typ + " collections are not protected by this version"
		return ns, nil
	}
	if sizes && !own && c.forgets() && truth(info.Lookup("options", "capped")) {
		ns.Skip = "a " + forgetful
		return ns, nil
	}
	// Which indexes are still being built is asked first: those that are finished, or begun, in
	// between have an entry of the log to say so.
	var building []string
	if sizes {
		if st, err := cl.Database(db).RunCommand(ctx, bson.D{{Key: "collStats", Value: name}}).Raw(); err == nil {
			ns.Bytes, _ = st.Lookup("size").AsInt64OK()
			building = stringsOf(st.Lookup("indexBuilds"))
		}
	}
	cur, err := cl.Database(db).Collection(name).Indexes().List(ctx)
	var specs [][]byte
	if err == nil {
		for cur.Next(ctx) {
			if ix, _ := cur.Current.Lookup("name").StringValueOK(); !slices.Contains(building, ix) {
				specs = append(specs, bytes.Clone(cur.Current))
			}
		}
		err = cur.Err()
	}
	if codeOf(err) == 26 { // dropped since it was listed
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if ns.Definition, err = newDefinition(kind, opts, specs); err != nil {
		return nil, err
	}
	if !sizes {
		return ns, nil
	}
	if n, err := cl.Database(db).Collection(name).EstimatedDocumentCount(ctx); err == nil {
		ns.Records = n
	}
	return ns, nil
}

// stringsOf returns the strings of an array; none where it is none.
func stringsOf(v bson.RawValue) (out []string) {
	arr, _ := v.ArrayOK()
	vals, _ := arr.Values()
	for _, x := range vals {
		if s, ok := x.StringValueOK(); ok {
			out = append(out, s)
		}
	}
	return out
}

func codeOf(err error) int32 {
	var ce mongo.CommandError
	if errors.As(err, &ce) {
		return ce.Code
	}
	return 0
}

// partitions cuts a namespace for reading at the same time.
func (c *set) partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	whole := []engine.Partition{{}}
	const fewest = 20_000 // records that make a partition worth it
	n = int(min(int64(n), ns.Records/fewest))
	if d, err := decodeDefinition(ns.Definition); err != nil || indexOf(d.options, "collation") >= 0 {
		return whole, err // by its own collation the order of keys is another
	}
	if n < 2 || !c.caps.ordered {
		return whole, nil
	}
	addr, err := c.current(ctx)
	if err != nil {
		return nil, err
	}
	cl, err := c.reach(ctx, addr)
	if err != nil {
		return nil, err
	}
	db, coll := physical(ns.Name, ns.Kind)
	cur, err := cl.Database(db).Collection(coll).Aggregate(ctx, mongo.Pipeline{
		{{Key: "$sample", Value: bson.D{{Key: "size", Value: n * 16}}}},
		{{Key: "$project", Value: bson.D{{Key: "_id", Value: 1}}}},
	})
	if err != nil {
		return whole, nil // a server without samples is scanned by one reader
	}
	type sample struct {
		key []byte
		id  bson.RawValue
	}
	var ids []sample
	for cur.Next(ctx) {
		doc := bson.Raw(bytes.Clone(cur.Current))
		key, err := bsonkey.Of(doc)
		if err != nil {
			return whole, nil
		}
		ids = append(ids, sample{key, doc.Lookup("_id")})
	}
	if cur.Err() != nil || len(ids) < n {
		return whole, nil
	}
	slices.SortFunc(ids, func(a, b sample) int { return bytes.Compare(a.key, b.key) })
	ids = slices.CompactFunc(ids, func(a, b sample) bool { return bytes.Equal(a.key, b.key) })
	var parts []engine.Partition
	var from any
	for i := 1; i < n; i++ {
		cut := ids[i*len(ids)/n].id
		if f, ok := from.(bson.RawValue); ok && f.Equal(cut) {
			continue
		}
		parts = append(parts, engine.Partition{From: from, To: cut})
		from = cut
	}
	return append(parts, engine.Partition{From: from}), nil
}

// scan reads a partition, as [engine.Cluster] says.
func (c *set) scan(ctx context.Context, ns engine.Namespace, p engine.Partition, fn func(record.Record) error) error {
	addr, err := c.current(ctx)
	if err != nil {
		return fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	s := &scanning{c: c, ns: ns, p: p, fn: fn}
	for failures := 0; ; {
		before := s.count
		err := s.read(ctx, addr)
		if err == nil {
			return nil
		}
		var cb callbackError
		if errors.As(err, &cb) {
			return cb.error
		}
		if ctx.Err() != nil {
			return ctx.Err() // the caller ended it; what the connection says is an echo
		}
		if s.count > before {
			failures = 0
		}
		failures++
		if !retriable(err) || failures > 8 {
			return fmt.Errorf("cluster %s: %s: %w", c.t.Name, s.where(), err)
		}
		if addr, err = c.next(ctx, addr, err); err != nil {
			return fmt.Errorf("cluster %s: %s: %w", c.t.Name, s.where(), err)
		}
	}
}

// where names the namespace, and the record after which it could not be read on: a server may
// break off at one that it cannot give.
func (s *scanning) where() string {
	if s.last.Type == 0 {
		return s.ns.Name
	}
	doc := buildFields([]field{{"_id", rawToCore(s.last)}})
	return s.ns.Name + ", after " + model{}.Label(doc)
}

type scanning struct {
	c     *set
	ns    engine.Namespace
	p     engine.Partition
	fn    func(record.Record) error
	last  bson.RawValue // _id of the last record given to fn
	key   []byte
	room  []byte // for the key of a record
	count int64
	// Through a router: documents that share an _id.
	group    [][]byte
	groupKey []byte
}

// callbackError keeps the caller's error apart from the server's.
type callbackError struct{ error }

// read scans at one member from where the scan stands.
func (s *scanning) read(ctx context.Context, addr string) error {
	cl, err := s.c.reach(ctx, addr)
	if err != nil {
		return err
	}
	if err := s.c.awaitSeen(ctx, addr); err != nil {
		return err
	}
	if err := s.same(ctx, addr); err != nil {
		return err
	}
	db, coll := physical(s.ns.Name, s.ns.Kind)
	opt := options.Find().SetBatchSize(4096)
	s.group, s.groupKey = nil, nil
	if s.c.caps.ordered {
		byID := bson.D{{Key: "_id", Value: 1}}
		opt.SetHint(byID).SetSort(byID)
		switch {
		case s.last.Type != 0:
			opt.SetMin(bson.D{{Key: "_id", Value: s.last}})
		case s.p.From != nil:
			opt.SetMin(bson.D{{Key: "_id", Value: s.p.From}})
		}
		if s.p.To != nil {
			opt.SetMax(bson.D{{Key: "_id", Value: s.p.To}})
		}
	} else {
		s.last, s.key = bson.RawValue{}, nil
	}
	sctx, shown := ctx, func() *bson.Timestamp { return nil }
	if s.c.caps.sessions {
		sess, err := cl.StartSession(options.Session().SetCausalConsistency(false))
		if err != nil {
			return explain(addr, err)
		}
		defer sess.EndSession(context.WithoutCancel(ctx))
		sctx, shown = mongo.NewSessionContext(ctx, sess), sess.OperationTime
	}
	cur, err := cl.Database(db).Collection(coll,
		options.Collection().SetReadConcern(readconcern.Majority())).Find(sctx, bson.D{}, opt)
	if err != nil {
		return explain(addr, err)
	}
	defer cur.Close(context.WithoutCancel(ctx))
	// The name may have come to mean another collection since it was checked:
	// from here on the cursor stays with the one it has.
	if err := s.same(ctx, addr); err != nil {
		return err
	}
	batch := 0
	for cur.Next(sctx) {
		if batch == 0 {
			batch = cur.RemainingBatchLength() + 1
			if t := shown(); t != nil {
				s.c.sawPosition(position(t.T, t.I))
			}
		}
		batch--
		if err := s.record(addr, cur.Current, batch == 0); err != nil {
			return callbackError{err}
		}
	}
	if err := cur.Err(); err != nil {
		return explain(addr, err)
	}
	if err := s.settle(); err != nil {
		return callbackError{err}
	}
	return nil
}

// record takes a document that was read; last says that it is the last of its batch. It allocates nothing for most.
func (s *scanning) record(addr string, doc bson.Raw, last bool) (err error) {
	if s.room, err = bsonkey.AppendOf(s.room[:0], doc); err != nil {
		return fmt.Errorf("%s: %s: %w", addr, s.ns.Name, err)
	}
	key := s.room
	if s.key != nil && bytes.Equal(key, s.key) {
		return nil // the one the scan had reached
	}
	if s.c.role == routers {
		err = s.again(key, doc)
	} else {
		err = s.fn(record.Record{Key: key, Value: doc})
	}
	if err != nil {
		return err
	}
	s.count++
	if s.c.caps.ordered && last && s.c.role != routers {
		s.keep(doc, key)
	}
	return nil
}

// again takes a document read through a router: several may have one _id, on
// different shards. They come one after the other and get keys of their own,
// in order of their bytes.
func (s *scanning) again(key []byte, doc bson.Raw) error {
	if !bytes.Equal(key, s.groupKey) {
		if err := s.settle(); err != nil {
			return err
		}
		s.groupKey = bytes.Clone(key)
		// From here on it would go on after a failure: nothing of this _id was
		// given yet.
		d := bson.Raw(bytes.Clone(doc))
		s.last = d.Lookup("_id")
	}
	s.group = append(s.group, bytes.Clone(doc))
	return nil
}

// settle returns the documents gathered of one _id.
func (s *scanning) settle() error {
	slices.SortFunc(s.group, bytes.Compare)
	for i, doc := range s.group {
		if err := s.fn(record.Record{Key: tree.AgainKey(s.groupKey, i), Value: doc}); err != nil {
			return err
		}
	}
	s.group, s.groupKey = nil, nil
	return nil
}

func (s *scanning) keep(doc bson.Raw, key []byte) {
	d := bson.Raw(bytes.Clone(doc))
	s.last, s.key = d.Lookup("_id"), bytes.Clone(key)
}

// same checks that the name still means the collection that was listed.
func (s *scanning) same(ctx context.Context, addr string) error {
	if len(s.ns.Ident) == 0 {
		return nil
	}
	db, coll := physical(s.ns.Name, s.ns.Kind)
	ans, err := s.c.ask(ctx, addr, db, bson.D{
		{Key: "listCollections", Value: 1}, {Key: "filter", Value: bson.D{{Key: "name", Value: coll}}}})
	if err != nil {
		return err
	}
	arr, _ := ans.Lookup("cursor", "firstBatch").ArrayOK()
	vals, _ := arr.Values()
	for _, v := range vals {
		if u, err := v.Document().LookupErr("info", "uuid"); err == nil &&
			bytes.Equal(uuidOf(rawToCore(u)), s.ns.Ident) {
			return nil
		}
	}
	return callbackError{fmt.Errorf("%s: %w", s.ns.Name, engine.ErrMoved)}
}

// retriable reports whether another member, or the same one later, may do better.
func retriable(err error) bool {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return false
	}
	if errors.Is(err, engine.ErrUnreachable) || errors.Is(err, errBehind) || mongo.IsNetworkError(err) ||
		mongo.IsTimeout(err) {
		return true
	}
	switch codeOf(err) {
	case 6, 7, 89, 91, 134, 189, 262, 9001, 10107, 11600, 11602, 13435, 13436,
		// not reachable, no majority yet, shutting down, not primary
		43, 136, 175, 237: // cursor not found, capped position lost, plan killed, cursor killed
		return true
	}
	msg := err.Error()
	return strings.Contains(msg, "connection") || strings.Contains(msg, "EOF") ||
		strings.Contains(msg, "server selection")
}
