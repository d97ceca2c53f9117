package docsim

import (
	"errors"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docwire"
)

// handler answers one command. It is called with the set's lock held.
type handler func(s *session, db string, req bson.Raw) (bson.D, error)

// handlers maps commands, in lower case, to what answers them.
var handlers map[string]handler

func init() {
	handlers = map[string]handler{
		"ping": ok, "endsessions": ok, "refreshsessions": ok, "killsessions": ok, "logout": ok,
		"buildinfo": buildInfo, "getparameter": ok, "whatsmyuri": whatsMyURI, "connectionstatus": connectionStatus,
		"getlog": emptyLog, "getcmdlineopts": cmdLine, "hostinfo": ok, "serverstatus": serverStatus,
		"replsetgetstatus": replSetGetStatus, "replsetgetconfig": replSetGetConfig, "replsetstepdown": stepDown,
		"appendoplognote": oplogNote, "committransaction": commitTransaction, "aborttransaction": abortTransaction,
		"listdatabases": listDatabases, "listcollections": listCollections, "listindexes": listIndexes,
		"create": create, "drop": drop, "dropdatabase": dropDatabase, "renamecollection": rename, "collmod": collMod,
		"createindexes": createIndexes, "dropindexes": dropIndexes, "deleteindexes": dropIndexes,
		"createrole": createRole, "createuser": createUser, "dropuser": dropUser, "usersinfo": usersInfo,
		"fsync": lockFiles, "fsyncunlock": unlockFiles, "currentop": currentOp,
		"insert": insert, "update": updateCmd, "delete": deleteCmd, "findandmodify": findAndModify,
		"find": find, "getmore": getMore, "killcursors": killCursors,
		"count": count, "distinct": distinct, "aggregate": aggregate, "collstats": collStats, "dbstats": dbStats,
	}
}

// open commands need no login.
var openCommands = map[string]bool{"hello": true, "ismaster": true, "saslstart": true, "saslcontinue": true,
	"authenticate": true, "ping": true, "buildinfo": true}

// writes go to the primary only.
var writeCommands = map[string]bool{"create": true, "drop": true, "dropdatabase": true, "renamecollection": true,
	"collmod":       true,
	"createindexes": true, "dropindexes": true, "deleteindexes": true, "insert": true, "update": true, "delete": true,
	"findandmodify": true, "appendoplognote": true, "replsetstepdown": true,
	"committransaction": true, "aborttransaction": true, "createuser": true, "createrole": true, "dropuser": true}

// answer answers one request.
func (s *session) Answer(body bson.Raw, connID int64) (bson.Raw, error) {
	elems, err := body.Elements()
	if err != nil || len(elems) == 0 {
		return nil, docwire.ErrMalformed
	}
	name := lower(elems[0].Key())
	db, _ := body.Lookup("$db").StringValueOK()
	rs := s.m.rs
	var out bson.D
	switch {
	case name == "hello" || name == "ismaster":
		rs.mu.Lock()
		out = s.hello(connID)
		rs.mu.Unlock()
	case name == "saslstart" || name == "saslcontinue":
		out, err = s.login(elems[0].Key(), body)
	case rs.opt.User != "" && s.user == "" && !openCommands[name]:
		err = refuse(13, "Unauthorized", "command %s requires authentication", elems[0].Key())
	case slices.Contains(rs.opt.Deny, name):
		err = refuse(13, "Unauthorized", "not authorized on %s to execute command %s", db, elems[0].Key())
	case name == "authenticate":
		out, err = s.certified(body)
	case !rs.may(s.user, db, name, body):
		err = refuse(13, "Unauthorized", "not authorized on %s to execute command %s", db, elems[0].Key())
	case handlers[name] == nil:
		err = refuse(59, "CommandNotFound", "no such command: '%s'", elems[0].Key())
	default:
		out, err = s.recovered(name, db, body)
	}
	if errors.Is(err, errGoodbye) || errors.Is(err, docwire.ErrMalformed) {
		return nil, err
	}
	out = answerOf(out, err)
	if !rs.opt.Lone {
		rs.mu.Lock()
		if e := s.operationTime(body); e != nil {
			out = append(out, bson.E{Key: "operationTime", Value: e.ts})
		}
		if rs.part != nil {
			out = append(out, clusterTime(s.m.clock()))
		}
		rs.mu.Unlock()
	}
	return toRaw(out), nil
}

// answerOf makes the answer to a command, or to one that failed.
func answerOf(out bson.D, err error) bson.D {
	var ce *commandError
	switch {
	case errors.As(err, &ce):
		out = bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: ce.Msg}, {Key: "code", Value: ce.Code},
			{Key: "codeName", Value: ce.Name}}
		if ce.Code == 112 || ce.Code == 251 {
			out = append(out, bson.E{Key: "errorLabels", Value: bson.A{"TransientTransactionError"}})
		}
		return out
	case err != nil:
		return bson.D{{Key: "ok", Value: 0.0}, {Key: "errmsg", Value: err.Error()}, {Key: "code", Value: int32(8)},
			{Key: "codeName", Value: "UnknownError"}}
	}
	return append(out, bson.E{Key: "ok", Value: 1.0})
}

// lower returns a command's name as it is looked up.
func lower(name string) string { return strings.ToLower(name) }

// operationTime is the entry that what was read is no newer than.
func (s *session) operationTime(req bson.Raw) *entry {
	n := s.m.applied
	if majority(req) {
		n = s.m.committed()
	}
	return s.m.at(n)
}

func majority(req bson.Raw) bool {
	level, _ := req.Lookup("readConcern", "level").StringValueOK()
	return level == "majority" || level == "linearizable" || level == "snapshot"
}

// recovered is run of which a fault of the stand-in's own is the answer: one request does not end the others.
func (s *session) recovered(name, db string, req bson.Raw) (out bson.D, err error) {
	defer func() {
		if p := recover(); p != nil {
			out, err = nil, refuse(8, "UnknownError", "a fault of the stand-in: %v", p)
		}
	}()
	return s.run(name, db, req)
}

// run answers a command under the lock and then waits for its write concern.
func (s *session) run(name, db string, req bson.Raw) (bson.D, error) {
	rs := s.m.rs
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if !s.m.up {
		return nil, errGoodbye
	}
	if ts, ok := clusterTimeOf(req); ok {
		s.m.observe(ts)
	}
	write := writeCommands[name]
	if write && !s.m.leads() {
		return nil, refuse(10107, "NotWritablePrimary", "not primary")
	}
	// While a member's files are locked nothing is written to it; who tries waits.
	for write && s.m.locks > 0 {
		if !s.wait(time.Second) || !s.m.up {
			return nil, errGoodbye
		}
	}
	s.request = req
	if err := s.enter(name, req); err != nil {
		return nil, err
	}
	out, err := handlers[name](s, db, req)
	if s.txn != nil && name != "committransaction" && name != "aborttransaction" {
		s.txn.failed = s.txn.failed || err != nil || lookup(out, "writeErrors") != nil
		return out, err
	}
	if err != nil || !write {
		return out, err
	}
	if w, _ := req.Lookup("writeConcern", "w").StringValueOK(); w == "majority" {
		return out, s.waitCommitted(s.m.total())
	}
	return out, nil
}

// waitCommitted waits until a majority holds so many entries.
func (s *session) waitCommitted(n int) error {
	rs := s.m.rs
	term, alone := rs.term, s.m.alone
	for s.m.committed() < n {
		if !s.m.up {
			return errGoodbye
		}
		if rs.term != term || !s.m.leads() || s.m.alone != alone {
			return refuse(189, "PrimarySteppedDown", "the primary stepped down while waiting for the write concern")
		}
		if !s.wait(time.Second) {
			return errGoodbye
		}
	}
	return nil
}

// wait lets go of the lock until something changes or time is over; false
// when the set ends.
func (s *session) wait(d time.Duration) bool {
	rs := s.m.rs
	changed := rs.changed
	rs.mu.Unlock()
	defer rs.mu.Lock()
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-rs.stop:
		return false
	case <-changed:
	case <-t.C:
	}
	return true
}

// view returns the state a read sees.
func (s *session) view(req bson.Raw) *state {
	if s.txn != nil {
		return s.txn.state
	}
	if majority(req) {
		return s.m.stable
	}
	return s.m.current
}

func ok(*session, string, bson.Raw) (bson.D, error) { return bson.D{}, nil }

// hello describes the member ("hello").
func (s *session) hello(connID int64) bson.D {
	rs, m := s.m.rs, s.m
	primary := m.leads()
	d := bson.D{{Key: "helloOk", Value: true}, {Key: "isWritablePrimary", Value: primary},
		{Key: "ismaster", Value: primary},
		{Key: "maxBsonObjectSize", Value: int32(16 << 20)},
		{Key: "maxMessageSizeBytes", Value: int32(docwire.MaxMessage)},
		{Key: "maxWriteBatchSize", Value: int32(100_000)}, {Key: "localTime", Value: time.Now()},
		{Key: "logicalSessionTimeoutMinutes", Value: int32(30)}, {Key: "connectionId", Value: int32(connID)},
		{Key: "minWireVersion", Value: int32(0)}, {Key: "maxWireVersion", Value: rs.opt.Odd.wire()},
		{Key: "readOnly", Value: false}}
	if rs.opt.User != "" {
		d = append(d, bson.E{Key: "saslSupportedMechs", Value: bson.A{rs.opt.Mechanism}})
	}
	if rs.opt.Lone {
		return d
	}
	if rs.part != nil && rs.part.conf {
		d = append(d, bson.E{Key: "configsvr", Value: int32(2)})
	}
	d = append(d, bson.E{Key: "setName", Value: rs.opt.Name}, bson.E{Key: "setVersion", Value: int32(1)},
		bson.E{Key: "secondary", Value: !primary},
		bson.E{Key: "hosts", Value: rs.shown()}, bson.E{Key: "hidden", Value: m.hidden},
		bson.E{Key: "me", Value: m.addr})
	if primary {
		d = append(d, bson.E{Key: "primary", Value: m.addr})
	} else if rs.primary >= 0 && m.alone == nil {
		d = append(d, bson.E{Key: "primary", Value: rs.members[rs.primary].addr})
	}
	if e := m.at(m.applied); e != nil {
		d = append(d, bson.E{Key: "lastWrite", Value: bson.D{
			{Key: "opTime", Value: bson.D{{Key: "ts", Value: e.ts}, {Key: "t", Value: m.term()}}}, {
				Key: "lastWriteDate", Value: e.wall}}})
	}
	return d
}

func buildInfo(s *session, _ string, _ bson.Raw) (bson.D, error) { return builtAs(&s.m.rs.opt), nil }

// builtAs is the answer to buildInfo.
func builtAs(o *Options) bson.D {
	return bson.D{{Key: "version", Value: o.version()},
		{Key: "versionArray", Value: bson.A{int32(o.major()), int32(0), int32(0), int32(0)}},
		{Key: "gitVersion", Value: "dexamen stand-in"}, {Key: "modules", Value: bson.A{}},
		{Key: "bits", Value: int32(64)},
		{Key: "maxBsonObjectSize", Value: int32(16 << 20)}}
}

func whatsMyURI(s *session, _ string, _ bson.Raw) (bson.D, error) {
	return bson.D{{Key: "you", Value: s.conn.RemoteAddr().String()}}, nil
}

func connectionStatus(s *session, _ string, _ bson.Raw) (bson.D, error) {
	users := bson.A{}
	if s.user != "" {
		users = append(users, bson.D{{Key: "user", Value: s.user}, {Key: "db", Value: "admin"}})
	}
	return bson.D{
		{Key: "authInfo", Value: bson.D{
			{Key: "authenticatedUsers", Value: users}, {Key: "authenticatedUserRoles", Value: bson.A{}}}}}, nil
}

func emptyLog(*session, string, bson.Raw) (bson.D, error) {
	return bson.D{{Key: "totalLinesWritten", Value: int32(0)}, {Key: "log", Value: bson.A{}}}, nil
}

func cmdLine(*session, string, bson.Raw) (bson.D, error) {
	return bson.D{{Key: "argv", Value: bson.A{"dexamen", "sim"}}, {Key: "parsed", Value: bson.D{}}}, nil
}

func serverStatus(s *session, _ string, _ bson.Raw) (bson.D, error) {
	return bson.D{{Key: "host", Value: s.m.addr}, {Key: "version", Value: s.m.rs.opt.version()},
		{Key: "process", Value: "dexamen sim"},
		{Key: "localTime", Value: time.Now()}}, nil
}

func (rs *ReplicaSet) needSet() error {
	if rs.opt.Lone {
		return refuse(76, "NoReplicationEnabled", "not running with --replSet")
	}
	return nil
}

// replSetGetStatus reports how far each member is ("replSetGetStatus").
func replSetGetStatus(s *session, _ string, _ bson.Raw) (bson.D, error) {
	rs := s.m.rs
	if err := rs.needSet(); err != nil {
		return nil, err
	}
	optime := func(m *member, n int) bson.D {
		if e := m.at(n); e != nil {
			return bson.D{{Key: "ts", Value: rs.opt.Odd.optime(e.ts)}, {Key: "t", Value: e.term}}
		}
		return bson.D{{Key: "ts", Value: bson.Timestamp{}}, {Key: "t", Value: int64(-1)}}
	}
	wall := func(m *member, n int) time.Time {
		if e := m.at(n); e != nil {
			return e.wall
		}
		return time.Unix(0, 0)
	}
	stateOf := func(m *member) (int32, string) {
		switch {
		case !s.m.reaches(m):
			return 8, "(not reachable/healthy)"
		case m.leads():
			return 1, "PRIMARY"
		case m.diverged:
			return 9, "ROLLBACK"
		}
		return 2, "SECONDARY"
	}
	var members bson.A
	for _, m := range rs.members {
		st, str := stateOf(m)
		health := 1.0
		if !s.m.reaches(m) {
			health = 0
		}
		members = append(members, bson.D{
			{Key: "_id", Value: int32(m.id)}, {Key: "name", Value: m.addr}, {Key: "health", Value: health},
			{Key: "state", Value: st}, {Key: "stateStr", Value: str}, {Key: "optime", Value: optime(m, m.applied)},
			{Key: "optimeDate", Value: wall(m, m.applied)}, {Key: "self", Value: m == s.m}})
	}
	mine, _ := stateOf(s.m)
	committed := s.m.committed()
	known := committed
	if rs.opt.commitsAhead() && s.m.alone == nil {
		known = rs.committed()
	}
	return bson.D{{Key: "set", Value: rs.opt.Name}, {Key: "date", Value: time.Now()}, {Key: "myState", Value: mine},
		{Key: "term", Value: s.m.term()},
		{Key: "optimes", Value: bson.D{{Key: "lastCommittedOpTime", Value: optime(s.m, known)},
			{Key: "lastCommittedWallTime", Value: wall(s.m, known)},
			{Key: "readConcernMajorityOpTime", Value: optime(s.m, committed)},
			{Key: "appliedOpTime", Value: optime(s.m, s.m.applied)},
			{Key: "lastAppliedWallTime", Value: wall(s.m, s.m.applied)}}},
		{Key: "members", Value: members}}, nil
}

func replSetGetConfig(s *session, _ string, _ bson.Raw) (bson.D, error) {
	rs := s.m.rs
	if err := rs.needSet(); err != nil {
		return nil, err
	}
	var members bson.A
	for _, m := range rs.members {
		priority := 1.0
		if m.hidden {
			priority = 0
		}
		members = append(members, bson.D{
			{Key: "_id", Value: int32(m.id)}, {Key: "host", Value: m.addr}, {Key: "hidden", Value: m.hidden}, {
				Key: "priority", Value: priority},
			{Key: "secondaryDelaySecs", Value: int64(m.delay.Seconds())}, {Key: "votes", Value: int32(1)}})
	}
	return bson.D{
		{Key: "config", Value: bson.D{{Key: "_id", Value: rs.opt.Name}, {Key: "version", Value: int32(1)},
			{Key: "members", Value: members},
			{Key: "settings", Value: bson.D{{Key: "replicaSetId", Value: rs.id}}}}}}, nil
}

// shown returns the members that clients are told of.
func (rs *ReplicaSet) shown() []string {
	var out []string
	for _, m := range rs.members {
		if !m.hidden {
			out = append(out, m.addr)
		}
	}
	return out
}

func stepDown(s *session, _ string, _ bson.Raw) (bson.D, error) {
	if s.m.alone != nil {
		s.m.alone.leads = false
		return bson.D{}, nil
	}
	s.m.rs.primary = -1
	time.AfterFunc(200*time.Millisecond, s.m.rs.elect)
	return bson.D{}, nil
}

func oplogNote(s *session, _ string, req bson.Raw) (bson.D, error) {
	s.log(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""}, {Key: "o", Value: req.Lookup("data")}}, nil)
	return bson.D{}, nil
}

func namespaceOf(db string, v bson.RawValue) (string, error) {
	name, ok := v.StringValueOK()
	if !ok || name == "" || db == "" {
		return "", refuse(73, "InvalidNamespace", "Invalid namespace specified '%s.%s'", db, name)
	}
	return db + "." + name, nil
}

func first(req bson.Raw) bson.RawValue { return req.Index(0).Value() }

func listDatabases(s *session, _ string, req bson.Raw) (bson.D, error) {
	st := s.view(req)
	var out bson.A
	var total int64
	for _, db := range st.databases() {
		if !s.m.rs.lists(s.user, db) {
			continue
		}
		var size int64
		for _, c := range st.in(db) {
			size += c.bytes
		}
		total += size
		out = append(out, bson.D{{Key: "name", Value: db}, {Key: "sizeOnDisk", Value: size},
			{Key: "empty", Value: size == 0}})
	}
	return bson.D{{Key: "databases", Value: out}, {Key: "totalSize", Value: total}}, nil
}

func (s *session) firstBatch(ns string, list []any) bson.D {
	a := bson.A{}
	a = append(a, list...)
	return bson.D{
		{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: a}, {Key: "id", Value: int64(0)},
			{Key: "ns", Value: ns}}}}
}

func listCollections(s *session, db string, req bson.Raw) (bson.D, error) {
	filter, _ := req.Lookup("filter").DocumentOK()
	nameOnly, _ := req.Lookup("nameOnly").BooleanOK()
	var out []any
	add := func(d bson.D) error {
		raw := toRaw(d)
		if filter != nil && !s.m.rs.opt.Odd.ListsAll {
			if ok, err := matches(raw, filter); err != nil || !ok {
				return err
			}
		}
		if nameOnly {
			raw = toRaw(d[:2])
		}
		out = append(out, raw)
		return nil
	}
	if db == "local" && !s.m.rs.opt.Lone && !s.m.rs.opt.Odd.HidesLog {
		err := add(bson.D{{Key: "name", Value: "oplog.rs"}, {Key: "type", Value: "collection"},
			{Key: "options", Value: bson.D{{Key: "capped", Value: true}, {Key: "size", Value: s.m.rs.opt.LogBytes}}},
			{Key: "info", Value: bson.D{{Key: "readOnly", Value: false}}}})
		if err != nil {
			return nil, err
		}
	}
	var all []*collection
	if name, ok := filter.Lookup("name").StringValueOK(); !ok || s.m.rs.opt.Odd.ListsAll {
		all = s.view(req).in(db)
	} else { // servers look for one by its name
		if c := s.view(req).colls[db+"."+name]; c != nil {
			all = append(all, c)
		}
	}
	for _, c := range all {
		d := bson.D{{Key: "name", Value: c.name}, {Key: "type", Value: c.kind}, {Key: "options", Value: c.options}}
		if c.kind == "collection" {
			d = append(d, bson.E{Key: "info",
				Value: bson.D{{Key: "readOnly", Value: false},
					{Key: "uuid", Value: bson.Binary{Subtype: 4, Data: c.uuid[:]}}}},
				bson.E{Key: "idIndex", Value: bson.D{
					{Key: "v", Value: int32(2)}, {Key: "key", Value: bson.D{{Key: "_id", Value: int32(1)}}}, {
						Key: "name", Value: "_id_"}}})
		} else {
			d = append(d, bson.E{Key: "info", Value: bson.D{{Key: "readOnly", Value: true}}})
		}
		if d[2].Value.(bson.D) == nil {
			d[2].Value = bson.D{}
		}
		if err := add(d); err != nil {
			return nil, err
		}
	}
	return s.firstBatch(db+".$cmd.listCollections", out), nil
}

func listIndexes(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := s.view(req).colls[ns]
	if c == nil {
		return nil, refuse(26, "NamespaceNotFound", "ns does not exist: %s", ns)
	}
	var out []any
	for _, ix := range c.indexes {
		out = append(out, ix)
	}
	return s.firstBatch(ns, out), nil
}

func collStats(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	if ns == "local.oplog.rs" {
		return bson.D{{Key: "ns", Value: ns}, {Key: "size", Value: s.m.rs.logSize},
			{Key: "count", Value: int64(len(s.m.rs.log))},
			{Key: "capped", Value: true}, {Key: "maxSize", Value: s.m.rs.opt.LogBytes}}, nil
	}
	d := bson.D{{Key: "ns", Value: ns}, {Key: "size", Value: int64(0)}, {Key: "count", Value: int64(0)},
		{Key: "nindexes", Value: int32(0)}}
	if c := s.view(req).colls[ns]; c != nil {
		d = bson.D{{Key: "ns", Value: ns}, {Key: "size", Value: c.bytes}, {Key: "count", Value: int64(c.docs.Len())},
			{Key: "nindexes", Value: int32(len(c.indexes))}}
		building := bson.A{}
		for _, name := range c.building {
			building = append(building, name)
		}
		if len(building) > 0 {
			d = append(d, bson.E{Key: "indexBuilds", Value: building})
		}
	}
	return d, nil
}

func dbStats(s *session, db string, req bson.Raw) (bson.D, error) {
	var n, size int64
	cs := s.view(req).in(db)
	for _, c := range cs {
		n += int64(c.docs.Len())
		size += c.bytes
	}
	return bson.D{{Key: "db", Value: db}, {Key: "collections", Value: int64(len(cs))}, {Key: "objects", Value: n},
		{Key: "dataSize", Value: size}}, nil
}
