package docsim

import (
	"cmp"
	"crypto/tls"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// Options describe a replica set to stand in.
type Options struct {
	Name    string // of the set; "meadow" when empty
	Members int    // 3 when zero
	// FirstPort is the port of the first member, the others follow; zero
	// takes any that are free.
	FirstPort int
	// Host is the address where members listen; loopback when empty.
	Host string
	// User and Password, where set, are the one login that is let in.
	User, Password string
	// Mechanism is that of the login: SCRAM-SHA-256 when empty, SCRAM-SHA-1, or
	// MONGODB-X509, where User is the subject of the client's certificate.
	Mechanism string
	// Deny lists commands, in lower case, that the user may not run.
	Deny []string
	// TLS, where set, is spoken on all connections.
	TLS *tls.Config
	// LogBytes bounds the log; its oldest entries are forgotten beyond that.
	// 256 MiB when zero.
	LogBytes int64
	// LogForm is the form of update entries: 2 for diffs (the default), 1 for
	// operators.
	LogForm int
	// NoopEvery is how often an idle primary writes to its log; 10 s when
	// zero, as servers do.
	NoopEvery time.Duration
	// Latency is added to every answer that carries documents.
	Latency time.Duration
	// OpsPerEntry is how many operations of a transaction go into one entry of
	// the log; 1000 when zero.
	OpsPerEntry int
	// Remember keeps what is needed to tell the state at any past time.
	Remember bool
	// ClockOffset is how far the members' wall clocks are off.
	ClockOffset time.Duration
	// ExpireEvery is how often documents are removed that a TTL index or their collection's expiry says are
	// over; every 60 s when zero, as on servers ("TTL Indexes"), and never below.
	ExpireEvery time.Duration
	// OddHashes keeps other hashes in hashed indexes than servers do.
	OddHashes bool
	// Lone makes a single server that is no replica set and keeps no log.
	Lone bool
	// Version is the server version stood in for, one of ServerVersions; "7.0" when empty.
	Version string
	// Odd is what it does otherwise than documented.
	Odd Odd
}

// ReplicaSet is a running stand-in.
type ReplicaSet struct {
	opt     Options
	mu      sync.Mutex
	changed chan struct{} // closed and made anew at every progress
	members []*member
	primary int // -1 while there is none
	term    int64
	log     []*entry
	logBase int // number of entries forgotten
	logSize int64
	lastTS  bson.Timestamp
	stop    chan struct{}
	wg      sync.WaitGroup
	scramDB map[string]scram.StoredCredentials

	txns     map[string]*transaction // open and prepared ones, by session and number
	prepared []*transaction          // all that ever were
	written  map[string]int          // while transactions are open: when documents and collections were written last
	past     []past
	part     *clusterPart // of a sharded cluster
	id       bson.ObjectID
	sameTS   bool // entries are written under the time of the one before
}

// entry is one place of the log.
type entry struct {
	ts     bson.Timestamp
	wall   time.Time
	term   int64
	raw    bson.Raw
	effect effect
}

// member is one server. Its log is the set's log up to what it has applied.
type member struct {
	rs       *ReplicaSet
	id       int
	addr     string
	listener net.Listener
	conns    map[net.Conn]bool
	cursors  map[int64]*cursor
	up       bool
	applied  int // number of entries ever applied to current
	current  *state
	stable   *state // what majority reads see
	stableAt int
	delay    time.Duration
	hidden   bool
	locks    int // how often its files are locked: nothing is written to it
	// diverged: it holds entries that the set does not, and must roll back.
	diverged bool
	// alone is set while it is cut off from the others.
	alone *branch
	// logFrom is how many of the set's entries its log lacks, as it was built anew after them.
	logFrom int
}

// listen listens at a port of a host, loopback where that is empty; port zero is any that is free.
func listen(host string, port int) (net.Listener, error) {
	return net.Listen("tcp", net.JoinHostPort(cmp.Or(host, "127.0.0.1"), strconv.Itoa(port)))
}

// Start runs a replica set on loopback ports.
func Start(opt Options) (*ReplicaSet, error) {
	if opt.Name == "" {
		opt.Name = "meadow"
	}
	if opt.Members == 0 {
		opt.Members = 3
	}
	if opt.Lone {
		opt.Members = 1
	}
	if err := CheckVersion(opt.Version); err != nil {
		return nil, err
	}
	if opt.Mechanism == "" {
		opt.Mechanism = "SCRAM-SHA-256"
	}
	if opt.LogBytes == 0 {
		opt.LogBytes = 256 << 20
	}
	if opt.LogForm == 0 {
		opt.LogForm = 2
	}
	if opt.NoopEvery == 0 {
		opt.NoopEvery = 10 * time.Second
	}
	rs := &ReplicaSet{id: bson.NewObjectID(), opt: opt, changed: make(chan struct{}), stop: make(chan struct{}),
		term: 1,
		txns: map[string]*transaction{}, written: map[string]int{}}
	if err := rs.storeLogin(); err != nil {
		return nil, err
	}
	for i := range opt.Members {
		port := 0
		if opt.FirstPort != 0 {
			port = opt.FirstPort + i
		}
		l, err := listen(opt.Host, port)
		if err != nil {
			rs.Close()
			return nil, fmt.Errorf("stand-in member %d: %w", i+1, err)
		}
		m := &member{rs: rs, id: i, addr: l.Addr().String(), current: newState(), stable: newState()}
		rs.members = append(rs.members, m)
		m.serve(l)
	}
	rs.mu.Lock()
	rs.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
		{Key: "o", Value: bson.D{{Key: "msg", Value: "initiating set"}}}}, nil)
	rs.mu.Unlock()
	for _, m := range rs.members {
		rs.wg.Go(m.replicate)
	}
	rs.wg.Go(rs.noops)
	if rs.opt.ExpireEvery == 0 {
		rs.opt.ExpireEvery = time.Minute
	}
	if rs.opt.ExpireEvery > 0 {
		rs.wg.Go(rs.expire)
	}
	return rs, nil
}

// Addresses returns the members' host:port.
func (rs *ReplicaSet) Addresses() []string {
	var out []string
	for _, m := range rs.members {
		out = append(out, m.addr)
	}
	return out
}

// URI returns a connection address for drivers, without credentials.
func (rs *ReplicaSet) URI() string {
	u := "mongodb://" + strings.Join(rs.Addresses(), ",") + "/?"
	if !rs.opt.Lone {
		u += "replicaSet=" + rs.opt.Name
	}
	if rs.opt.TLS != nil {
		u += "&tls=true"
	}
	return u
}

// Primary returns the number of the primary, or -1.
func (rs *ReplicaSet) Primary() int {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	return rs.primary
}

// Close ends all members.
func (rs *ReplicaSet) Close() {
	rs.mu.Lock()
	select {
	case <-rs.stop:
	default:
		close(rs.stop)
	}
	for _, m := range rs.members {
		m.down()
	}
	rs.mu.Unlock()
	rs.wg.Wait()
}

// Kill ends a member as a crash would: its connections break, and what it had
// not passed on is gone unless it comes back before another is elected.
func (rs *ReplicaSet) Kill(i int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.members[i].down()
	if rs.primary == i {
		rs.primary = -1
		time.AfterFunc(300*time.Millisecond, rs.elect)
	}
	rs.progress()
}

// Restart brings a killed member back.
func (rs *ReplicaSet) Restart(i int) error {
	l, err := net.Listen("tcp", rs.members[i].addr)
	if err != nil {
		return err
	}
	rs.mu.Lock()
	rs.members[i].serve(l)
	rs.mu.Unlock()
	rs.elect()
	return nil
}

// Copy keeps what all members hold now, and returns a function that puts all of them back to it, as from older copies
// of their disks; what came since is gone, and another primary leads.
func (rs *ReplicaSet) Copy() (putBack func()) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	p := rs.members[max(rs.primary, 0)]
	st, n, base := p.current.clone(), p.applied, rs.logBase
	log := slices.Clone(rs.log[:n-base])
	return func() {
		rs.mu.Lock()
		defer rs.mu.Unlock()
		rs.log, rs.logBase = slices.Clone(log), base
		rs.past = slices.DeleteFunc(rs.past, func(p past) bool { return p.index > n })
		clear(rs.txns)
		for _, m := range rs.members {
			m.current, m.applied, m.stable, m.stableAt, m.diverged = st.clone(), n, st.clone(), n, false
			m.cursors = map[int64]*cursor{}
		}
		rs.term++
		rs.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
			{Key: "o", Value: bson.D{{Key: "msg", Value: "new primary"}}}}, nil)
	}
}

// Write writes an entry to the log as it is given, which does nothing: of a form, say, that only other servers write.
func (rs *ReplicaSet) Write(fields bson.D) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.append(fields, nil)
}

// Rebuild has a member copy everything anew: its log then begins with what it holds ("Initial Sync").
func (rs *ReplicaSet) Rebuild(i int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.members[i].logFrom = max(0, rs.members[i].applied-1)
	rs.progress()
}

// Delay makes a member apply entries only when they are this old.
func (rs *ReplicaSet) Delay(i int, d time.Duration) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.members[i].delay = d
	rs.progress()
}

// Hide keeps a member from clients: it is named by nobody but the set's status
// ("Hidden Replica Set Members").
func (rs *ReplicaSet) Hide(i int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.members[i].hidden = true
}

// progress wakes all who wait; the lock is held.
func (rs *ReplicaSet) progress() {
	close(rs.changed)
	rs.changed = make(chan struct{})
}

// elect makes the member that has applied most the primary, when more than
// half are up. Entries that only others hold are lost ("Rollbacks During
// Replica Set Failover").
func (rs *ReplicaSet) elect() {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.primary >= 0 {
		return
	}
	best, up := -1, 0
	for i, m := range rs.members {
		if m.up && m.alone == nil {
			up++
			if !m.diverged && (best < 0 || m.applied > rs.members[best].applied) {
				best = i
			}
		}
	}
	if best < 0 || up <= len(rs.members)/2 {
		return
	}
	keep := rs.members[best].applied
	for _, m := range rs.members {
		if m.alone != nil {
			m.alone.held = min(m.alone.held, keep)
		} else if m.applied > keep {
			m.diverged = true
		}
	}
	for _, e := range rs.log[keep-rs.logBase:] {
		rs.logSize -= int64(len(e.raw))
	}
	rs.log = rs.log[:keep-rs.logBase]
	rs.past = slices.DeleteFunc(rs.past, func(p past) bool { return p.index > keep })
	rs.rollback(keep)
	rs.term++
	rs.primary = best
	rs.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
		{Key: "o", Value: bson.D{{Key: "msg", Value: "new primary"}}}}, nil)
}

// append adds an entry on the primary and applies it there; the lock is held.
// The entry's form is the documented one: ts, t, v, wall and the given fields.
func (rs *ReplicaSet) append(fields bson.D, do effect) *entry {
	return rs.appendAt(fields, do, bson.Timestamp{})
}

// appendAt is append of what counts as of another cluster time than that of
// its entry, where one is given.
func (rs *ReplicaSet) appendAt(fields bson.D, do effect, counts bson.Timestamp) *entry {
	now := time.Now().Add(rs.opt.ClockOffset)
	if !rs.sameTS {
		rs.lastTS = nextTime(rs.lastTS, now)
	}
	if fields = rs.opt.Odd.logged(fields); fields == nil {
		fields = bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
			{Key: "o", Value: bson.D{{Key: "msg", Value: "not told"}}}}
	}
	e := newEntry(fields, rs.lastTS, rs.term, now, do)
	rs.log = append(rs.log, e)
	if counts.T == 0 {
		counts = e.ts
	}
	rs.remember(counts, do)
	rs.logSize += int64(len(e.raw))
	p := rs.members[max(rs.primary, 0)]
	if do != nil {
		do(p.current)
	}
	p.applied++
	rs.settle()
	rs.progress()
	return e
}

// nextTime returns the cluster time that follows one.
func nextTime(last bson.Timestamp, now time.Time) bson.Timestamp {
	if t := uint32(now.Unix()); t > last.T {
		return bson.Timestamp{T: t, I: 1}
	}
	return bson.Timestamp{T: last.T, I: last.I + 1}
}

func newEntry(fields bson.D, ts bson.Timestamp, term int64, now time.Time, do effect) *entry {
	doc := append(fields, bson.E{Key: "ts", Value: ts}, bson.E{Key: "t", Value: term},
		bson.E{Key: "v", Value: int64(2)},
		bson.E{Key: "wall", Value: bson.NewDateTimeFromTime(now)})
	raw, err := bson.Marshal(doc)
	if err != nil {
		panic(err) // made of plain values
	}
	return &entry{ts, now, term, raw, do}
}

// settle brings the stable states up to what is committed and forgets the
// oldest entries beyond the log's size, as a capped log does whether or not a
// member still needs them; one that does must copy everything.
func (rs *ReplicaSet) settle() {
	committed := rs.committed()
	low := committed
	for _, m := range rs.members {
		for !m.diverged && m.alone == nil && m.stableAt < min(committed, m.applied) && m.stableAt >= rs.logBase {
			if e := rs.log[m.stableAt-rs.logBase]; e.effect != nil {
				e.effect(m.stable)
			}
			m.stableAt++
		}
		if m.up && m.alone == nil {
			low = min(low, m.stableAt)
		}
	}
	for rs.logSize > rs.opt.LogBytes && len(rs.log) > 1 && rs.logBase < low {
		rs.logSize -= int64(len(rs.log[0].raw))
		rs.log = rs.log[1:]
		rs.logBase++
	}
}

// replicate applies the log on a member while it is a secondary.
func (m *member) replicate() {
	rs := m.rs
	for {
		rs.mu.Lock()
		wait := time.Hour
		worked := false
		if m.up && m.locks == 0 && m.alone == nil && rs.primary >= 0 && rs.primary != m.id {
			p := rs.members[rs.primary]
			if m.diverged || m.applied < rs.logBase {
				// Roll back, or copy anew ("Initial Sync").
				m.current, m.applied = p.current.clone(), p.applied
				m.stable, m.stableAt = p.stable.clone(), p.stableAt
				m.diverged = false
				worked = true
			}
			for n := 0; n < 500 && m.applied < rs.logBase+len(rs.log); n++ {
				e := rs.log[m.applied-rs.logBase]
				if age := time.Since(e.wall); age < m.delay {
					wait = m.delay - age
					break
				}
				if e.effect != nil {
					e.effect(m.current)
				}
				m.applied++
				worked = true
			}
		}
		if worked {
			rs.settle()
			rs.progress()
		}
		changed := rs.changed
		rs.mu.Unlock()
		if worked {
			continue
		}
		select {
		case <-rs.stop:
			return
		case <-changed:
		case <-time.After(wait):
		}
	}
}

func (rs *ReplicaSet) noops() {
	for {
		select {
		case <-rs.stop:
			return
		case <-time.After(rs.opt.NoopEvery):
		}
		rs.mu.Lock()
		if rs.primary >= 0 {
			rs.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
				{Key: "o", Value: bson.D{{Key: "msg", Value: "periodic noop"}}}}, nil)
		}
		for _, m := range rs.members {
			if m.up && m.alone != nil && m.alone.leads {
				m.append(bson.D{{Key: "op", Value: "n"}, {Key: "ns", Value: ""},
					{Key: "o", Value: bson.D{{Key: "msg", Value: "periodic noop"}}}}, nil)
			}
		}
		rs.mu.Unlock()
	}
}

// expire removes what TTL indexes and the expiry of collections say is over.
func (rs *ReplicaSet) expire() {
	for {
		select {
		case <-rs.stop:
			return
		case <-time.After(rs.opt.ExpireEvery):
		}
		rs.mu.Lock()
		if rs.primary >= 0 && rs.members[rs.primary].up {
			s := &session{m: rs.members[rs.primary]}
			for _, c := range s.m.current.colls {
				for _, ix := range append(slices.Clone(c.indexes), c.ownExpiry()) {
					s.expireBy(c, ix)
				}
			}
		}
		rs.mu.Unlock()
	}
}

// ownExpiry returns the expiry of a collection as a TTL index would have it: of a clustered one by its _id, of a time
// series by the newest measurement of a bucket ("Clustered Collections", "Set up Automatic Removal for Time Series").
func (c *collection) ownExpiry() bson.D {
	after := lookup(c.options, "expireAfterSeconds")
	if after == nil {
		return nil
	}
	by := "_id"
	if lookup(c.options, "timeseries") != nil {
		at, _ := c.fields()
		by = "control.max." + at
	}
	return bson.D{{Key: "key", Value: bson.D{{Key: by, Value: 1}}}, {Key: "expireAfterSeconds", Value: after}}
}

func (s *session) expireBy(c *collection, ix bson.D) {
	after, ok := value(lookup(ix, "expireAfterSeconds")).AsInt64OK()
	key := keyOfIndex(ix)
	if !ok || len(key) != 1 {
		return
	}
	var over []document
	c.docs.Scan(func(d document) bool {
		if v := d.raw.Lookup(strings.Split(key[0].Key, ".")...); v.Type == bson.TypeDateTime &&
			v.Time().Add(time.Duration(after)*time.Second).Before(time.Now()) {
			over = append(over, d)
		}
		return true
	})
	for _, d := range over {
		_ = s.removeOne(c, d) // one that a transaction holds goes the next time
	}
}

// visible returns the entries of a member's log that may be read; the lock is
// held.
func (m *member) visible(majority bool) []*entry {
	n, base, log := m.applied, m.rs.logBase, m.rs.log
	if m.alone != nil {
		base, log = m.alone.base, m.alone.log
	}
	if majority {
		n = m.committed()
	}
	log = log[:max(0, min(n-base, len(log)))]
	return log[min(len(log), max(0, m.logFrom-base)):]
}

// at returns the entry a count of applied entries ends with; nil where it is
// forgotten. The lock is held.
func (rs *ReplicaSet) at(applied int) *entry {
	if i := applied - 1 - rs.logBase; i >= 0 && i < len(rs.log) {
		return rs.log[i]
	}
	return nil
}
