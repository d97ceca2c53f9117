package docsim

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Index builds over documents that are there ("Index Builds on Populated Collections") begin with
// one entry of the log and end with another, that commits or aborts them. Meanwhile the index is
// listed as any other, and collStats names it as being built.

// begin logs the beginning of a build and lists its indexes.
func (s *session) begin(c *collection, specs []bson.D) [16]byte {
	id, u, ns := newUUID(), c.uuid, c.db+"."+c.name
	s.command(c.db, &u, buildEntry("startIndexBuild", c.name, id, specs), effectModify(ns, func(c *collection) {
		for _, ix := range specs {
			c.indexes = append(slices.Clip(c.indexes), ix)
			c.building = append(slices.Clip(c.building), indexName(ix))
		}
	}))
	return id
}

func buildEntry(command, coll string, id [16]byte, specs []bson.D) bson.D {
	list := bson.A{}
	for _, ix := range specs {
		list = append(list, ix)
	}
	o := bson.D{{Key: command, Value: coll}, {Key: "indexBuildUUID", Value: uuidValue(id)},
		{Key: "indexes", Value: list}}
	if command == "abortIndexBuild" {
		o = append(o, bson.E{Key: "cause", Value: bson.D{{Key: "ok", Value: false},
			{Key: "code", Value: int32(11000)}}})
	}
	return o
}

// end logs that a build is over, and whether its indexes are there.
func (s *session) end(c *collection, id [16]byte, specs []bson.D, commit bool) {
	u, ns := c.uuid, c.db+"."+c.name
	command := "abortIndexBuild"
	if commit {
		command = "commitIndexBuild"
	}
	names := func(ix bson.D) bool {
		return slices.ContainsFunc(specs, func(x bson.D) bool { return indexName(x) == indexName(ix) })
	}
	s.command(c.db, &u, buildEntry(command, c.name, id, specs), effectModify(ns, func(c *collection) {
		c.building = slices.DeleteFunc(slices.Clone(c.building), func(name string) bool {
			return slices.ContainsFunc(specs, func(x bson.D) bool { return indexName(x) == name })
		})
		if !commit {
			c.indexes = slices.DeleteFunc(slices.Clone(c.indexes), names)
		}
	}))
}

// Build is an index build that goes on.
type Build struct {
	rs    *ReplicaSet
	ns    string
	uuid  [16]byte
	id    [16]byte
	specs []bson.D
}

// BeginIndex begins to build an index on a collection, and leaves it unfinished. It returns nil where
// there is no such collection, or nobody leads.
func (rs *ReplicaSet) BeginIndex(ns string, spec bson.D) *Build {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	if rs.primary < 0 || !rs.members[rs.primary].up {
		return nil
	}
	s := &session{m: rs.members[rs.primary]}
	c := s.now().colls[ns]
	if c == nil || c.kind != "collection" || s.free(ns) != nil ||
		slices.ContainsFunc(c.indexes, func(ix bson.D) bool { return indexName(ix) == indexName(spec) }) {
		return nil
	}
	specs := []bson.D{append(bson.D{{Key: "v", Value: int32(2)}}, spec...)}
	return &Build{rs, ns, c.uuid, s.begin(c, specs), specs}
}

// End commits or aborts a build; one whose collection is gone, or that an election has rolled back, is over.
func (b *Build) End(commit bool) {
	b.rs.mu.Lock()
	defer b.rs.mu.Unlock()
	if b.rs.primary < 0 || !b.rs.members[b.rs.primary].up {
		return
	}
	s := &session{m: b.rs.members[b.rs.primary]}
	for _, c := range s.now().colls {
		if c.uuid == b.uuid && slices.Contains(c.building, indexName(b.specs[0])) {
			s.end(c, b.id, b.specs, commit)
			return
		}
	}
}
