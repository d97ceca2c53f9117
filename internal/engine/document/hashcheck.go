package document

import (
	"context"
	"fmt"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/engine"
)

// checkHashes sees on a few documents of each collection with a hashed shard
// key that servers hash as is believed here: whom a document belongs to hangs
// on it. Find with returnKey gives what a hashed index holds of a document.
func (c *cluster) checkHashes(ctx context.Context, listed []engine.Namespace) error {
	if c.routers == nil || c.hashesChecked.Load() {
		return nil
	}
	config := c.sets[configShard]
	var ans bson.Raw
	err := config.onMember(ctx, func(addr string) (err error) {
		ans, err = config.ask(ctx, addr, "config",
			bson.D{{Key: "find", Value: "collections"}, {Key: "batchSize", Value: 10_000}})
		return err
	})
	if err != nil {
		return fmt.Errorf("cluster %s: reading config.collections: %w", c.t.Name, err)
	}
	for _, d := range firstBatch(ans) {
		key, _ := d.Lookup("key").DocumentOK()
		elems, _ := key.Elements()
		for _, e := range elems {
			if s, ok := e.Value().StringValueOK(); !ok || s != "hashed" {
				continue
			}
			name, _ := d.Lookup("_id").StringValueOK()
			for _, ns := range listed {
				if ns.Name == name && ns.Records > 0 {
					if err := c.checkHash(ctx, ns, key, e.Key()); err != nil {
						return err
					}
					break
				}
			}
		}
	}
	c.hashesChecked.Store(true)
	return nil
}

func (c *cluster) checkHash(ctx context.Context, ns engine.Namespace, key bson.Raw, field string) error {
	return c.sets[ns.Shard].onMember(ctx, func(addr string) error { return c.checkHashAt(ctx, addr, ns, key, field) })
}

func (c *cluster) checkHashAt(ctx context.Context, addr string, ns engine.Namespace, key bson.Raw, field string) error {
	s := c.sets[ns.Shard]
	db, coll := physical(ns.Name, ns.Kind)
	ans, err := s.ask(ctx, addr, db, bson.D{{Key: "find", Value: coll}, {Key: "limit", Value: 5}})
	if err != nil {
		return ignoreCommandError(err)
	}
	for _, doc := range firstBatch(ans) {
		got, err := s.ask(ctx, addr, db,
			bson.D{{Key: "find", Value: coll}, {Key: "filter", Value: bson.D{{Key: "_id", Value: doc.Lookup("_id")}}},
				{Key: "hint", Value: key}, {Key: "returnKey", Value: true}, {Key: "limit", Value: 1}})
		if err != nil {
			return ignoreCommandError(err)
		}
		keys := firstBatch(got)
		if len(keys) == 0 {
			continue // gone meanwhile
		}
		theirs, ok := keys[0].Lookup(field).Int64OK()
		ours, err := hashedValue(rawToCore(doc.Lookup(strings.Split(field, ".")...)))
		if !ok || err != nil {
			continue
		}
		if ours != theirs {
			return fmt.Errorf("cluster %s: shard %s: %s: the servers keep %d of %s in its hashed shard key, by what "+
				"Dexamen knows of them it would be %d: which shard a document belongs to cannot be told; nothing "+
				"was stored",
				c.t.Name, ns.Shard, ns.Name, theirs, model{}.Label(doc), ours)
		}
	}
	return nil
}
