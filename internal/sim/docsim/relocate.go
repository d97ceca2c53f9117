package docsim

import (
	"encoding/hex"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Relocation says how a collection is to be spread anew ("reshardCollection"), or, without a key, on which shard all of
// it is to be ("moveCollection", "unshardCollection": it is an unsplittable one then).
type Relocation struct {
	Key bson.D
	// Splits are the bounds between its ranges, ascending; To has a shard for each range, of which there is one more.
	Splits []bson.D
	To     []string
	// Between, where set, is called between the steps, while nobody can write through a router.
	Between func(step string)
}

// Relocate copies a collection into one of another identity on the shards that are to have it and on its database's
// primary shard, which has a name for it in any case; has the config servers say that this is the collection; and then
// gives it the name, in the place of the old one.
func (c *Sharded) Relocate(ns string, r Relocation) error {
	if major := c.opt.Set.major(); major < 5 || r.Key == nil && major < 8 {
		return refuse(59, "CommandNotFound", "this version does not do that")
	}
	c.where.Lock()
	defer c.where.Unlock()
	db, coll, _ := strings.Cut(ns, ".")
	primary := c.lay.primary[db]
	if primary == "" || len(r.To) != len(r.Splits)+1 {
		return refuse(26, "NamespaceNotFound", "ns not found, or not a shard for each range")
	}
	was, docs, err := c.wholeOf(ns, primary)
	if err != nil {
		return err
	}
	whole := r.Key == nil
	if whole {
		r.Key = bson.D{{Key: "_id", Value: 1}}
	}
	t := &table{ns: ns, uuid: newUUID(), key: r.Key}
	low := any(bound(r.Key, true))
	for i, to := range r.To {
		high := any(bound(r.Key, false))
		if i < len(r.Splits) {
			high = r.Splits[i]
		}
		t.chunks = append(t.chunks, chunk{min: toRaw(low.(bson.D)), max: toRaw(high.(bson.D)), shard: to})
		low = high
	}
	for _, d := range docs {
		for _, k := range r.Key {
			if lookupPath(d, k.Key).Type == bson.TypeArray {
				return refuse(2, "BadValue", "Shard key cannot contain array values or array descendants.")
			}
		}
	}
	temp := "system.resharding." + hex.EncodeToString(was.uuid[:])
	recipients := slices.Clone(r.To)
	slices.Sort(recipients)
	if recipients = slices.Compact(recipients); !slices.Contains(recipients, primary) {
		recipients = append(recipients, primary)
	}
	held := c.holders(was.uuid)
	step := func(what string) {
		if r.Between != nil {
			r.Between(what)
		}
	}
	for i, to := range recipients {
		if err := c.receive(to, db, temp, t, was, docs); err != nil {
			for _, to := range recipients[:i+1] {
				_ = c.insist(to, t.uuid, "", func() error { return c.dropByID(to, t.uuid) })
			}
			return err
		}
		step("copied to " + to)
	}
	if err := c.commitRelocation(t, whole); err != nil {
		return err
	}
	step("committed")
	for _, to := range recipients {
		err := c.insist(to, t.uuid, ns, func() error {
			return c.withPrimary(to, func(s *session) error { return s.takeName(db, temp, coll) })
		})
		if err != nil {
			return err
		}
		step("renamed on " + to)
	}
	for _, from := range held {
		if !slices.Contains(recipients, from) {
			if err := c.insist(from, was.uuid, "", func() error { return c.dropByID(from, was.uuid) }); err != nil {
				return err
			}
			step("dropped on " + from)
		}
	}
	return nil
}

// wholeOf returns a collection with all its documents, of which nothing may be in a prepared transaction.
func (c *Sharded) wholeOf(ns, primary string) (was *collection, docs []bson.Raw, err error) {
	t := c.lay.byNS[ns]
	_, shards := c.place(ns)
	for _, name := range shards {
		if c.preparedOn(name) {
			return nil, nil, refuse(46, "LockBusy", "a prepared transaction holds %s", ns)
		}
		c.endOpen(name)
		if err := c.set(name).settled(); err != nil {
			return nil, nil, err
		}
		err := c.withPrimary(name, func(s *session) error {
			coll := s.m.current.colls[ns]
			if coll == nil || coll.kind != "collection" || t != nil && coll.uuid != t.uuid {
				return refuse(26, "NamespaceNotFound", "%s is not on %s", ns, name)
			}
			if was == nil || name == primary {
				was = coll.clone()
			}
			coll.docs.Scan(func(d document) bool {
				if t == nil || t.owner(d.raw) == name {
					docs = append(docs, d.raw)
				}
				return true
			})
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	if was == nil || len(was.building) > 0 || lookup(was.options, "capped") != nil {
		return nil, nil, refuse(20, "IllegalOperation", "%s cannot be moved", ns)
	}
	return was, docs, nil
}

// receive makes what a shard is to have of a collection, under a name of the operation's own.
func (c *Sharded) receive(to, db, temp string, t *table, was *collection, docs []bson.Raw) error {
	err := c.withPrimary(to, func(s *session) error {
		o := append(bson.D{{Key: "create", Value: temp}}, was.options...)
		s.command(db, &t.uuid, append(o, bson.E{Key: "idIndex", Value: was.indexes[0]}),
			effectCreate(db, temp, t.uuid, was.options))
		for _, ix := range was.indexes[1:] {
			s.command(db, &t.uuid, append(bson.D{{Key: "createIndexes", Value: temp}}, ix...),
				effectIndex(db+"."+temp, ix))
		}
		coll := s.m.current.colls[db+"."+temp]
		if !coll.supports(t.key) {
			ix := bson.D{{Key: "v", Value: int32(2)}, {Key: "key", Value: t.key},
				{Key: "name", Value: "of_the_shard_key"}}
			s.command(db, &t.uuid, append(bson.D{{Key: "createIndexes", Value: temp}}, ix...),
				effectIndex(db+"."+temp, ix))
		}
		for _, d := range docs {
			if t.owner(d) != to {
				continue
			}
			if err := s.insertOne(coll, d); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := c.set(to).settled(); err != nil {
		return err
	}
	if !slices.Contains(c.holders(t.uuid), to) {
		return refuse(189, "PrimarySteppedDown", "what was copied was rolled back")
	}
	return nil
}

// commitRelocation has the config servers say where the collection is now: its ranges first, which nothing names yet,
// and last those of before.
func (c *Sharded) commitRelocation(t *table, whole bool) error {
	var chunks []any
	for _, ch := range t.chunks {
		chunks = append(chunks, chunkDoc(t.uuid, ch.min, ch.max, ch.shard))
	}
	err := c.write(put("chunks", chunks...))
	entry := bson.D{{Key: "_id", Value: t.ns}, {Key: "uuid", Value: uuidValue(t.uuid)}, {Key: "key", Value: t.key},
		{Key: "unique", Value: false}, {Key: "lastmod", Value: time.Now()}}
	if whole {
		entry = append(entry, bson.E{Key: "unsplittable", Value: true})
	}
	before := c.lay.byNS[t.ns]
	if err == nil {
		err = c.write(bson.D{{Key: "update", Value: "collections"}, {Key: "updates", Value: bson.A{
			bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: t.ns}}}, {Key: "u", Value: entry},
				{Key: "upsert", Value: true}}}}})
	}
	c.noteSharded(t.uuid)
	if err == nil && before != nil {
		err = c.write(removeWhere("chunks", bson.D{{Key: "uuid", Value: uuidValue(before.uuid)}}))
	}
	if err == nil {
		err = c.write(removeWhere("tags", bson.D{{Key: "ns", Value: t.ns}}))
	}
	if rerr := c.reload(); rerr != nil {
		return rerr
	}
	if now := c.lay.byID[t.uuid]; now != nil && len(now.chunks) == len(t.chunks) {
		return nil // the config servers say so, whatever became of the answer
	}
	return err
}

// takeName renames what an operation has made over what has the name.
func (s *session) takeName(db, temp, coll string) error {
	from, to := db+"."+temp, db+"."+coll
	c := s.m.current.colls[from]
	if c == nil {
		return refuse(26, "NamespaceNotFound", "%s does not exist", from)
	}
	o := bson.D{{Key: "renameCollection", Value: from}, {Key: "to", Value: to}, {Key: "stayTemp", Value: false}}
	if target := s.m.current.colls[to]; target != nil {
		o = append(o, bson.E{Key: "dropTarget", Value: uuidValue(target.uuid)})
	}
	u := c.uuid
	s.command(db, &u, o, func(st *state) {
		delete(st.colls, to)
		effectRename(from, to)(st)
	})
	return nil
}

// dropByID drops what a shard has of an identity.
func (c *Sharded) dropByID(shard string, id [16]byte) error {
	return c.withPrimary(shard, func(s *session) error {
		for _, coll := range s.m.current.colls {
			if coll.uuid == id {
				s.dropOne(coll)
				break
			}
		}
		return nil
	})
}
