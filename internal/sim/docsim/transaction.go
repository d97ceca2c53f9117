package docsim

import (
	"fmt"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Transactions ("Transactions", "Production Considerations"): a session's
// commands with autocommit false see the state as of the first of them and
// their own changes; nobody else sees those before the commit. A write to what
// another wrote since ends the transaction with WriteConflict. Where a server
// would have an ordinary write wait for a prepared transaction, it fails here
// with the same code.

// transaction is one that is open, or prepared.
type transaction struct {
	lsid   bson.RawValue
	number int64
	state  *state
	began  int // entries there were
	ops    []op
	keys   map[string]bool
	spaces map[string]bool
	failed bool
	// prepared is the entry of the last prepare, once there is one.
	prepared *entry
	at       int // how many entries there were with it
	decided  int // how many with the one that decided it; 0 before
}

type op struct {
	fields bson.D
	do     effect
}

func sessionKey(req bson.Raw) string {
	n, _ := req.Lookup("txnNumber").AsInt64OK()
	return fmt.Sprintf("%x/%d", req.Lookup("lsid").Value, n)
}

// enter finds the transaction that a command belongs to, or begins it.
func (s *session) enter(name string, req bson.Raw) error {
	s.txn = nil
	auto, ok := req.Lookup("autocommit").BooleanOK()
	if !ok || auto || s.m.rs.opt.Lone {
		return nil
	}
	rs := s.m.rs
	if s.m.alone != nil {
		return refuse(189, "PrimarySteppedDown", "not primary while in a transaction")
	}
	key := sessionKey(req)
	t := rs.txns[key]
	if t == nil {
		if name == "committransaction" || name == "aborttransaction" || rs.primary != s.m.id {
			return refuse(251, "NoSuchTransaction",
				"Given transaction number does not match any in-progress transactions")
		}
		n, _ := req.Lookup("txnNumber").AsInt64OK()
		t = &transaction{lsid: req.Lookup("lsid"), number: n, state: s.m.current.clone(), began: rs.total(),
			keys: map[string]bool{}, spaces: map[string]bool{}}
		rs.txns[key] = t
	}
	if t.failed && name != "aborttransaction" {
		delete(rs.txns, key)
		return refuse(251, "NoSuchTransaction", "Transaction has been aborted.")
	}
	s.txn = t
	return nil
}

// total is how many entries there ever were.
func (rs *ReplicaSet) total() int { return rs.logBase + len(rs.log) }

// now is the state that commands work on.
func (s *session) now() *state {
	if s.txn != nil {
		return s.txn.state
	}
	return s.m.current
}

// log adds an entry, or keeps it for the transaction's end.
func (s *session) log(fields bson.D, do effect) {
	if s.migrating {
		fields = append(fields, bson.E{Key: "fromMigrate", Value: true})
	}
	if s.txn == nil {
		s.m.append(fields, do)
		return
	}
	s.txn.ops = append(s.txn.ops, op{fields, do})
	if do != nil {
		do(s.txn.state)
	}
}

func lockKey(c *collection, id bson.RawValue) string {
	return fmt.Sprintf("%x %d %x", c.uuid, id.Type, id.Value)
}

// lock takes a document for writing.
func (s *session) lock(c *collection, id bson.RawValue) error {
	rs := s.m.rs
	conflict := refuse(112, "WriteConflict", "WriteConflict error: this operation conflicted with another "+
		"operation. Please retry your operation or multi-document transaction.")
	key := lockKey(c, id)
	for _, t := range rs.txns {
		if t != s.txn && t.keys[key] && (t.prepared != nil || s.txn != nil) {
			return conflict
		}
	}
	if s.txn == nil {
		if len(rs.txns) == 0 {
			clear(rs.written)
			return nil
		}
		rs.written[key] = rs.total() + 1
		rs.written[fmt.Sprintf("%x", c.uuid)] = rs.total() + 1
		return nil
	}
	if rs.written[key] > s.txn.began {
		return conflict
	}
	s.txn.keys[key] = true
	s.txn.spaces[c.db+"."+c.name] = true
	return nil
}

// free refuses to change a namespace as a whole that a prepared transaction
// has written to.
func (s *session) free(ns string) error {
	for _, t := range s.m.rs.txns {
		if t != s.txn && t.prepared != nil && t.spaces[ns] {
			return refuse(46, "LockBusy", "a prepared transaction holds %s", ns)
		}
	}
	return nil
}

// fits checks that what a transaction did can still be done.
func (rs *ReplicaSet) fits(t *transaction) bool {
	cur := rs.members[rs.primary].current
	for key := range t.keys {
		if rs.written[key] > t.began {
			return false
		}
	}
	for ns := range t.spaces {
		was, is := t.state.colls[ns], cur.colls[ns]
		if was == nil {
			return false
		}
		created := slices.ContainsFunc(t.ops, func(o op) bool {
			c, _ := lookup(o.fields, "o").(bson.D)
			return creates(o) && c[0].Value == was.name
		})
		if created != (is == nil) || is != nil && is.uuid != was.uuid {
			return false
		}
		// Another key of a unique index may be taken by now.
		if is != nil && rs.written[fmt.Sprintf("%x", is.uuid)] > t.began && slices.ContainsFunc(is.indexes, isUnique) {
			return false
		}
	}
	return true
}

func creates(o op) bool {
	c, _ := lookup(o.fields, "o").(bson.D)
	return len(c) > 0 && c[0].Key == "create"
}

// entries logs a transaction's operations, in as many entries as the option
// says; last gives the fields of the last one's o and what it does.
func (rs *ReplicaSet) entries(t *transaction, last bson.D, do effect) *entry {
	per := rs.opt.OpsPerEntry
	if per == 0 {
		per = 1000
	}
	prev := bson.D{{Key: "ts", Value: bson.Timestamp{}}, {Key: "t", Value: int64(-1)}}
	head := func(o bson.D) bson.D {
		return bson.D{{Key: "lsid", Value: t.lsid}, {Key: "txnNumber", Value: t.number}, {Key: "op", Value: "c"},
			{Key: "ns", Value: "admin.$cmd"},
			{Key: "o", Value: o}, {Key: "prevOpTime", Value: prev}}
	}
	list := func(ops []op) bson.A {
		a := bson.A{}
		for _, o := range ops {
			a = append(a, o.fields)
		}
		return a
	}
	ops, several := t.ops, len(t.ops) > per
	for len(ops) > per {
		e := rs.append(head(bson.D{{Key: "applyOps", Value: list(ops[:per])}, {Key: "partialTxn", Value: true}}), nil)
		prev = bson.D{{Key: "ts", Value: e.ts}, {Key: "t", Value: rs.term}}
		ops = ops[per:]
		// Others may write between a transaction's entries.
		rs.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
			{Key: "o", Value: bson.D{{Key: "msg", Value: "in between"}}}}, nil)
	}
	o := append(bson.D{{Key: "applyOps", Value: list(ops)}}, last...)
	if several {
		o = append(o, bson.E{Key: "count", Value: int64(len(t.ops))})
	}
	return rs.append(head(o), do)
}

func (t *transaction) apply(st *state) {
	for _, o := range t.ops {
		if o.do != nil {
			o.do(st)
		}
	}
}

// commitTransaction answers the command for a transaction of this shard alone.
func commitTransaction(s *session, _ string, req bson.Raw) (bson.D, error) {
	rs, t := s.m.rs, s.txn
	if t == nil {
		return nil, refuse(251, "NoSuchTransaction", "no transaction")
	}
	if t.prepared != nil {
		return nil, refuse(256, "TransactionCommitted", "the transaction is prepared; its coordinator decides it")
	}
	delete(rs.txns, sessionKey(req))
	s.txn = nil
	if !rs.fits(t) {
		return nil, refuse(112, "WriteConflict", "WriteConflict error at commit")
	}
	if len(t.ops) > 0 {
		rs.touch(t)
		if rs.opt.Odd.SharedPositions {
			for i, o := range t.ops {
				rs.sameTS = i > 0
				rs.append(o.fields, o.do)
			}
			rs.sameTS = false
			return bson.D{}, nil
		}
		rs.entries(t, nil, t.apply)
	}
	return bson.D{}, nil
}

// touch notes what a transaction wrote, for those that are open.
func (rs *ReplicaSet) touch(t *transaction) {
	for key := range t.keys {
		rs.written[key] = rs.total() + 1
	}
	for ns := range t.spaces {
		if c := t.state.colls[ns]; c != nil {
			rs.written[fmt.Sprintf("%x", c.uuid)] = rs.total() + 1
		}
	}
}

func abortTransaction(s *session, _ string, req bson.Raw) (bson.D, error) {
	if s.txn != nil && s.txn.prepared == nil {
		delete(s.m.rs.txns, sessionKey(req))
	}
	s.txn = nil
	return bson.D{}, nil
}

// prepare makes a transaction one that only its coordinator can decide; the
// lock is held.
func (rs *ReplicaSet) prepare(key string) (*entry, error) {
	t := rs.txns[key]
	// "Create Collections and Indexes in a Transaction": not in one that spans
	// shards.
	if rs.primary < 0 || t == nil || t.failed || !rs.fits(t) || slices.ContainsFunc(t.ops, creates) {
		delete(rs.txns, key)
		return nil, refuse(251, "NoSuchTransaction", "Transaction has been aborted.")
	}
	t.prepared = rs.entries(t, bson.D{{Key: "prepare", Value: true}}, nil)
	t.at = rs.total()
	rs.prepared = append(rs.prepared, t)
	return t.prepared, nil
}

// decide logs what becomes of a prepared transaction: a commit as of a cluster
// time, or, where that is nil, its end. The lock is held and there is a
// primary. It is done at most once.
func (rs *ReplicaSet) decide(key string, commit *bson.Timestamp) {
	t := rs.txns[key]
	delete(rs.txns, key)
	if t == nil || t.prepared == nil {
		return
	}
	fields := bson.D{{Key: "lsid", Value: t.lsid}, {Key: "txnNumber", Value: t.number}, {Key: "op", Value: "c"},
		{Key: "ns", Value: "admin.$cmd"},
		{Key: "prevOpTime", Value: bson.D{{Key: "ts", Value: t.prepared.ts}, {Key: "t", Value: rs.term}}}}
	if commit == nil {
		rs.append(append(fields, bson.E{Key: "o", Value: bson.D{{Key: "abortTransaction", Value: int32(1)}}}), nil)
	} else {
		rs.touch(t)
		rs.appendAt(append(fields, bson.E{
			Key: "o", Value: bson.D{{Key: "commitTransaction", Value: int32(1)},
				{Key: "commitTimestamp", Value: *commit}}}), t.apply, *commit)
	}
	t.decided = rs.total()
}

// rollback takes back what transactions did after the given number of
// entries; unprepared ones end with their primary.
func (rs *ReplicaSet) rollback(keep int) {
	clear(rs.txns)
	rs.prepared = slices.DeleteFunc(rs.prepared, func(t *transaction) bool { return t.at > keep })
	for _, t := range rs.prepared {
		if t.decided > keep {
			t.decided = 0
		}
		if t.decided == 0 {
			rs.txns[fmt.Sprintf("%x/%d", t.lsid.Value, t.number)] = t
		}
	}
}

// transactions returns the documents of config.transactions of sessions whose
// transaction is prepared, as a majority knows it.
func (m *member) transactions(filter bson.Raw) []bson.Raw {
	n := m.committed()
	var out []bson.Raw
	for _, t := range m.rs.prepared {
		if t.at > n || t.decided > 0 && t.decided <= n {
			continue
		}
		d := toRaw(bson.D{{Key: "_id", Value: t.lsid}, {Key: "txnNum", Value: t.number},
			{Key: "state", Value: "prepared"},
			{Key: "lastWriteOpTime", Value: bson.D{{Key: "ts", Value: t.prepared.ts}, {Key: "t", Value: m.term()}}}})
		if ok, err := matches(d, filter); err == nil && ok {
			out = append(out, d)
		}
	}
	return out
}
