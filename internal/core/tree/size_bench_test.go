package tree

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"dexamen/internal/core/frame"
	"dexamen/internal/core/record"
)

// leafCounter counts what leaves take when stored: in full, and, where a
// similar leaf is there already, as patches that share frames.
type leafCounter struct {
	nodes  map[Hash][]byte
	full   int64
	patch  int64
	shared []byte
	cuts   Cuts
}

func (c *leafCounter) Node(_ context.Context, h Hash) ([]byte, error) { return c.nodes[h], nil }

func (c *leafCounter) Cuts() Cuts { return c.cuts }

func (c *leafCounter) PutNode(_ context.Context, h Hash, node []byte, near Hash) error {
	if _, ok := c.nodes[h]; ok {
		return nil
	}
	c.nodes[h] = node
	full := int64(len(frame.Append(nil, frame.Leaf, node)))
	c.full += full
	base, ok := c.nodes[near]
	if ok {
		if p, ok := EncodePatch(base, node, len(node)/4); ok {
			if c.shared = append(c.shared, p...); len(c.shared) > 128<<10 {
				c.flush()
			}
			return nil
		}
	}
	c.patch += full
	return nil
}

func (c *leafCounter) flush() {
	c.patch += int64(len(frame.Append(nil, frame.Shared, c.shared)))
	c.shared = c.shared[:0]
}

// hive is a document-like value of about 200 bytes.
func hive(r *rand.Rand, i int) []byte {
	return fmt.Appendf(nil,
		`{"_id":%d,"yard":"north","breed":"carnica","status":"thriving","queen":{"year":%d,"marked":true},"weight":%.3f,"boxes":[{"no":1,"frames":%d,"kg":%.2f}],"seen":%d}`,
		i, 2022+r.IntN(5), 20+r.Float64()*30, 8+r.IntN(4), r.Float64()*40, r.Uint32())
}

// BenchmarkLeafSize is how targetLeaf was chosen: for each size, how well
// leaves compress, and what is stored anew after 1 % of 400,000 records
// changed, clustered and scattered; in full leaves, and with patches.
func BenchmarkLeafSize(b *testing.B) {
	defer func(was int) { targetBits = was }(targetBits)
	ctx := context.Background()
	const n = 400_000
	for bits := 13; bits <= 20; bits++ {
		targetBits = bits
		b.Run(fmt.Sprintf("%dKiB", 1<<bits>>10), func(b *testing.B) {
			for range b.N {
				c := &leafCounter{nodes: map[Hash][]byte{}}
				build := func(near Root, changed func(i int) bool) Root {
					r, other := rand.New(rand.NewPCG(1, 1)), rand.New(rand.NewPCG(2, 2))
					t := NewBuilder(c).Near(c, near)
					for i := range n {
						v := hive(r, i)
						if changed != nil && changed(i) {
							v = hive(other, i)
						}
						if err := t.Add(ctx,
							record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: v}); err != nil {
							b.Fatal(err)
						}
					}
					root, err := t.Finish(ctx)
					if err != nil {
						b.Fatal(err)
					}
					c.flush()
					return root
				}
				root := build(Root{}, nil)
				first := c.full
				b.ReportMetric(float64(root.Bytes)/float64(first), "compression")
				share := func(changed func(int) bool, name string) {
					c.full, c.patch = 0, 0
					build(root, changed)
					b.ReportMetric(100*float64(c.full)/float64(first), "%full-"+name)
					b.ReportMetric(100*float64(c.patch)/float64(first), "%patched-"+name)
				}
				share(func(i int) bool { return i >= 100_000 && i < 104_000 }, "clustered")
				share(func(i int) bool { return i%100 == 37 }, "scattered")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}
