package document

import (
	"bytes"
	"context"
	"fmt"
	"sync"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// gossip keeps the newest cluster time that any server of a cluster has told,
// as it told it. Handed to another one, that one's clock goes on from there
// ("Cluster Time", "Causal Consistency").
type gossip struct {
	mu   sync.Mutex
	time record.Position
	doc  bson.Raw
}

func (g *gossip) hear(answer bson.Raw) {
	if g == nil {
		return
	}
	doc, ok := answer.Lookup("$clusterTime").DocumentOK()
	if !ok {
		return
	}
	at, ok := timestampAt(doc, "clusterTime")
	if !ok {
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if at > g.time {
		g.time, g.doc = at, bytes.Clone(doc)
	}
}

func (g *gossip) latest() bson.Raw {
	if g == nil {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.doc
}

// Nudge implements [engine.Nudger]: it has the shard's primary write a note to
// its log that says nothing, at a cluster time after all that was heard of.
func (c *cluster) Nudge(ctx context.Context, shard string) error {
	s, err := c.of(shard)
	if err != nil {
		return err
	}
	members, err := s.members(ctx)
	if err != nil {
		return err
	}
	for _, m := range members {
		if m.Healthy && m.Role == "primary" {
			return s.note(ctx, m.Address)
		}
	}
	return fmt.Errorf("shard %s: %w: no primary to write a note", shard, engine.ErrNoMember)
}

func (c *set) note(ctx context.Context, addr string) error {
	cl, err := c.reach(ctx, addr)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	sess, err := cl.StartSession(options.Session().SetCausalConsistency(false))
	if err != nil {
		return explain(addr, err)
	}
	defer sess.EndSession(context.WithoutCancel(ctx))
	if doc := c.gossip.latest(); doc != nil {
		if err := sess.AdvanceClusterTime(
			bson.Raw(mustMarshal(bson.D{{Key: "$clusterTime", Value: doc}}))); err != nil {
			return err
		}
	}
	err = cl.Database("admin", options.Database().SetWriteConcern(writeconcern.Majority())).RunCommand(
		mongo.NewSessionContext(ctx, sess),
		bson.D{{Key: "appendOplogNote", Value: 1}, {Key: "data", Value: bson.D{{Key: "msg", Value: "dexamen"}}}}).Err()
	return explain(addr, err)
}

func mustMarshal(d bson.D) []byte {
	b, err := bson.Marshal(d)
	if err != nil {
		panic(err) // made of plain values
	}
	return b
}
