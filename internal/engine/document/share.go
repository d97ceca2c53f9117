package document

import (
	"encoding/json"
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

var _ engine.Shareable = (*cluster)(nil)

// Share implements [engine.Shareable]: by shard, the newest time that any read may have shown.
func (c *cluster) Share() ([]byte, error) {
	seen := map[string]record.Position{}
	for name, s := range c.sets {
		s.mu.Lock()
		seen[name] = s.seen
		s.mu.Unlock()
	}
	return json.Marshal(seen)
}

// Join implements [engine.Shareable]. Each read then waits for a member that shows as much.
func (c *cluster) Join(shared []byte) (engine.Cluster, error) {
	var seen map[string]record.Position
	if err := json.Unmarshal(shared, &seen); err != nil {
		return nil, fmt.Errorf("cluster %s: what another process has read: %w", c.t.Name, err)
	}
	for name, at := range seen {
		s, err := c.of(name)
		if err != nil {
			return nil, err
		}
		s.sawPosition(at)
	}
	return c, nil
}

// EncodePartition implements [engine.Shareable]: as BSON, in which each value keeps its type.
func (c *cluster) EncodePartition(p engine.Partition) ([]byte, error) {
	d := bson.D{}
	for _, end := range []struct {
		name  string
		value any
	}{{"from", p.From}, {"to", p.To}} {
		if end.value == nil {
			continue
		}
		v, ok := end.value.(bson.RawValue)
		if !ok {
			return nil, fmt.Errorf("cluster %s: a partition that ends at a %T", c.t.Name, end.value)
		}
		d = append(d, bson.E{Key: end.name, Value: v})
	}
	return bson.Marshal(d)
}

// DecodePartition implements [engine.Shareable].
func (c *cluster) DecodePartition(b []byte) (p engine.Partition, err error) {
	raw := bson.Raw(b)
	if err := raw.Validate(); err != nil {
		return p, fmt.Errorf("cluster %s: a partition: %w", c.t.Name, err)
	}
	if v, err := raw.LookupErr("from"); err == nil {
		p.From = v
	}
	if v, err := raw.LookupErr("to"); err == nil {
		p.To = v
	}
	return p, nil
}
