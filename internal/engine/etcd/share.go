package etcd

import (
	"encoding/json"
	"fmt"

	"dexamen/internal/engine"
)

var _ engine.Shareable = (*view)(nil)

// sharedView is what another process has to know to read what a view reads.
type sharedView struct {
	Cluster  uint64 `json:"cluster"`
	Revision int64  `json:"revision"` // zero: the newest
}

// Share implements [engine.Shareable].
func (c *cluster) Share() ([]byte, error) { return json.Marshal(sharedView{Cluster: c.id}) }

// Share implements [engine.Shareable].
func (v *view) Share() ([]byte, error) { return json.Marshal(sharedView{v.id, v.rev}) }

// Join implements [engine.Shareable]. Of what was read at one revision there is nothing to learn.
func (c *cluster) Join(shared []byte) (engine.Cluster, error) {
	var s sharedView
	if err := json.Unmarshal(shared, &s); err != nil {
		return nil, fmt.Errorf("cluster %s: what another process reads: %w", c.t.Name, err)
	}
	if s.Cluster != c.id {
		return nil, fmt.Errorf("cluster %s: its servers are those of cluster %x; another process reads %x", c.t.Name,
			c.id, s.Cluster)
	}
	if s.Revision == 0 {
		return c, nil
	}
	return &view{c, s.Revision}, nil
}

// partitionKeys is a partition as another process gets it.
type partitionKeys struct {
	From []byte `json:"from,omitempty"`
	To   []byte `json:"to,omitempty"`
}

// EncodePartition implements [engine.Shareable].
func (c *cluster) EncodePartition(p engine.Partition) ([]byte, error) {
	var k partitionKeys
	for _, end := range []struct {
		from any
		to   *[]byte
	}{{p.From, &k.From}, {p.To, &k.To}} {
		b, ok := end.from.([]byte)
		if end.from != nil && !ok {
			return nil, fmt.Errorf("cluster %s: a partition that ends at a %T", c.t.Name, end.from)
		}
		*end.to = b
	}
	return json.Marshal(k)
}

// DecodePartition implements [engine.Shareable].
func (c *cluster) DecodePartition(b []byte) (p engine.Partition, err error) {
	var k partitionKeys
	if err := json.Unmarshal(b, &k); err != nil {
		return p, fmt.Errorf("cluster %s: a partition: %w", c.t.Name, err)
	}
	if k.From != nil {
		p.From = k.From
	}
	if k.To != nil {
		p.To = k.To
	}
	return p, nil
}
