package docsim

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// What a stand-in was at any time of its past, for tests: worked out from the
// effects of what it did, not from the entries that tell of them.

// past is the effect of an entry that did something.
type past struct {
	at    bson.Timestamp // as of which cluster time it counts
	index int            // of the entry
	do    effect
}

func (rs *ReplicaSet) remember(at bson.Timestamp, do effect) {
	if rs.opt.Remember && do != nil {
		rs.past = append(rs.past, past{at, rs.total(), do})
	}
}

func after(a, b bson.Timestamp) bool { return a.T > b.T || a.T == b.T && a.I > b.I }

// stateAt works out what there was as of a cluster time.
func (rs *ReplicaSet) stateAt(at bson.Timestamp) *state {
	rs.mu.Lock()
	list := slices.Clone(rs.past)
	rs.mu.Unlock()
	slices.SortStableFunc(list, func(a, b past) int {
		switch {
		case after(a.at, b.at):
			return 1
		case after(b.at, a.at):
			return -1
		}
		return 0
	})
	st := newState()
	for _, p := range list {
		if !after(p.at, at) {
			p.do(st)
		}
	}
	return st
}

// Content is what a namespace holds.
type Content struct {
	Documents []bson.Raw
	Indexes   []bson.D
	Options   bson.D
	View      bool
}

func contentOf(c *collection) Content {
	finished := slices.DeleteFunc(slices.Clone(c.indexes), func(ix bson.D) bool {
		return slices.Contains(c.building, indexName(ix))
	})
	out := Content{Indexes: finished, Options: c.options, View: c.kind == "view"}
	c.docs.Scan(func(d document) bool { out.Documents = append(out.Documents, d.raw); return true })
	return out
}

// At returns all that there was as of a cluster time; the set must have been
// started with Remember.
func (rs *ReplicaSet) At(at bson.Timestamp) map[string]Content {
	out := map[string]Content{}
	for ns, c := range rs.stateAt(at).colls {
		if c.name != viewsOf {
			out[ns] = contentOf(c)
		}
	}
	return out
}

// Committed returns the cluster time of the newest entry that a majority has.
func (rs *ReplicaSet) Committed() bson.Timestamp {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if e := rs.at(rs.committed()); e != nil {
		return e.ts
	}
	return bson.Timestamp{}
}
