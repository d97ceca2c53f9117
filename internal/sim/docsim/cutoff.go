package docsim

import (
	"slices"
	"sort"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// branch is what a member has of its own while it is cut off from the others:
// clients still reach it, and a primary takes writes that no majority will ever
// have ("Replica Set Elections: Network Partition", "Rollbacks During Replica
// Set Failover"). It knows nothing of what the others do meanwhile.
//
// Transactions are not taken by a member that is cut off; servers take them,
// and never commit them.
type branch struct {
	leads     bool
	term      int64
	base      int      // entries forgotten before log
	log       []*entry // the set's, and from own on the member's
	own       int      // entries it holds that the set held when it was cut off
	held      int      // of them, those that the set still holds
	committed int
	lastTS    bson.Timestamp
}

// standDown is how long a primary leads that reaches no majority. Servers take
// settings.electionTimeoutMillis for it, 10 s.
const standDown = time.Second

// CutOff parts a member from the others, and not from clients.
func (rs *ReplicaSet) CutOff(i int) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	m := rs.members[i]
	if m.alone != nil || m.diverged || m.applied < rs.logBase {
		return
	}
	n := m.applied - rs.logBase
	b := &branch{leads: rs.primary == i, term: rs.term, base: rs.logBase, log: slices.Clone(rs.log[:n]),
		own: m.applied, held: m.applied, committed: min(rs.committed(), m.applied), lastTS: rs.lastTS}
	m.alone = b
	if b.leads {
		rs.primary = -1
		time.AfterFunc(300*time.Millisecond, rs.elect)
		time.AfterFunc(standDown, func() {
			rs.mu.Lock()
			defer rs.mu.Unlock()
			b.leads = false
			rs.progress()
		})
	}
	rs.progress()
}

// Rejoin ends a member's being cut off. What only it has is rolled back.
func (rs *ReplicaSet) Rejoin(i int) {
	rs.mu.Lock()
	m := rs.members[i]
	if b := m.alone; b != nil {
		b.leads = false
		m.alone = nil
		switch {
		case m.applied <= b.held:
		case m.stableAt < rs.logBase:
			m.diverged = true
		default:
			// Back to what was on a majority, and on to what it had of the set's.
			m.current, m.applied = m.stable.clone(), b.held
			for n := m.stableAt; n < b.held; n++ {
				if e := rs.log[n-rs.logBase]; e.effect != nil {
					e.effect(m.current)
				}
			}
		}
		rs.settle() // what it shows of the majority's is what it says of it
	}
	rs.progress()
	rs.mu.Unlock()
	rs.elect()
}

// leads reports whether the member takes writes; the lock is held, as for all
// that follows.
func (m *member) leads() bool {
	if m.alone != nil {
		return m.alone.leads
	}
	return m.rs.primary == m.id
}

func (m *member) term() int64 {
	if m.alone != nil {
		return m.alone.term
	}
	return m.rs.term
}

// total is how many entries the member's log ever had, or its set's.
func (m *member) total() int {
	if b := m.alone; b != nil {
		return b.base + len(b.log)
	}
	return m.rs.total()
}

// committed returns the number of entries that the member knows a majority holds.
func (m *member) committed() int {
	if m.alone != nil {
		return m.alone.committed
	}
	return min(m.applied, m.rs.committed())
}

// clock is the newest cluster time the member knows.
func (m *member) clock() bson.Timestamp {
	if m.alone != nil {
		return m.alone.lastTS
	}
	return m.rs.lastTS
}

// observe takes note of a cluster time that a client has heard elsewhere.
func (m *member) observe(ts bson.Timestamp) {
	if m.alone == nil {
		m.rs.observe(ts)
	} else if after(ts, m.alone.lastTS) {
		m.alone.lastTS = ts
	}
}

// at returns the entry that a count of applied entries ends with.
func (m *member) at(applied int) *entry {
	b := m.alone
	if b == nil {
		return m.rs.at(applied)
	}
	if i := applied - 1 - b.base; i >= 0 && i < len(b.log) {
		return b.log[i]
	}
	return nil
}

// reaches reports whether a member hears of another.
func (m *member) reaches(o *member) bool {
	return m == o || o.up && m.alone == nil && o.alone == nil
}

// append adds an entry to the log of a member that leads.
func (m *member) append(fields bson.D, do effect) {
	b := m.alone
	if b == nil {
		m.rs.append(fields, do)
		return
	}
	now := time.Now().Add(m.rs.opt.ClockOffset)
	b.lastTS = nextTime(b.lastTS, now)
	e := newEntry(fields, b.lastTS, b.term, now, do)
	b.log = append(b.log, e)
	if do != nil {
		do(m.current)
	}
	m.applied++
	m.rs.progress()
}

// committed returns the number of entries that a majority holds.
func (rs *ReplicaSet) committed() int {
	var n []int
	for _, m := range rs.members {
		switch {
		case m.diverged:
			n = append(n, 0)
		case m.alone != nil:
			n = append(n, m.alone.held)
		default:
			n = append(n, m.applied)
		}
	}
	sort.Sort(sort.Reverse(sort.IntSlice(n)))
	return n[len(n)/2]
}
