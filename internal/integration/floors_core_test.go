package integration_test

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/servertest"
)

// floorStore is a new encrypted store that holds nothing.
// open opens it, with empty caches.
func floorStore(t *testing.T, b blob.Backend, parity string) (open func() *store.Store) {
	secret, _, err := store.NewSecret()
	require.NoError(t, err)
	who, err := store.HolderOf(secret, "", store.Read)
	require.NoError(t, err)
	_, err = store.Create(ctx, b, store.CreateOptions{Tool: "test", Holders: []store.Holder{who}, Parity: parity})
	require.NoError(t, err)
	ids, err := store.ParseSecret(secret)
	require.NoError(t, err)
	return func() *store.Store {
		s, err := store.Open(ctx, b, store.Options{Unlock: ids})
		require.NoError(t, err)
		return s
	}
}

// floorRecord appends the i-th record's value: about 110 bytes, as small documents are.
func floorRecord(dst []byte, r *rand.Rand, i int) []byte {
	return fmt.Appendf(dst, `{"_id":%d,"yard":"north","status":"thriving","queen":%d,"weight":%.3f,"seen":%d}`, i,
		2022+r.IntN(5), 20+r.Float64()*30, r.Uint32())
}

func floorKey(i int) []byte { return binary.BigEndian.AppendUint64(nil, uint64(i)) }

// floorTree builds n records, with others for those that change tells of.
func floorTree(t *testing.T, s *store.Store, n int, change map[int]bool) tree.Root {
	r := rand.New(rand.NewPCG(1, 1))
	w := s.NewWriter(ctx)
	b := tree.NewBuilder(w)
	var v []byte
	for i := range n {
		if v = floorRecord(v[:0], r, i); change[i] {
			v = append(v, " changed"...)
		}
		require.NoError(t, b.Add(ctx, record.Record{Key: floorKey(i), Value: v}))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	return root
}

// puts is the model of a cluster whose log gives whole records.
type puts struct{}

func (puts) Apply(_ []byte, c *record.Change, _ bool) ([]byte, error) { return c.Value, nil }
func (puts) Alter(_ []byte, c *record.Change) ([]byte, error)         { return c.Value, nil }
func (puts) Implied(string) (record.Kind, []byte)                     { return "collection", nil }

// reads notes which nodes are asked for.
type reads struct {
	tree.Source
	mu    sync.Mutex
	nodes []tree.Hash
	bytes int
}

func (c *reads) Node(ctx context.Context, h tree.Hash) ([]byte, error) {
	b, err := c.Source.Node(ctx, h)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.nodes = append(c.nodes, h)
	c.bytes += len(b)
	return b, err
}

// nodesAgain reads nodes by name with empty caches: the floor of what needed them.
func nodesAgain(t *testing.T, b blob.Backend, opt store.Options, nodes []tree.Hash) {
	s, err := store.Open(ctx, b, opt)
	require.NoError(t, err)
	defer s.Close()
	for _, h := range nodes {
		_, err := s.Node(ctx, h)
		require.NoError(t, err)
	}
}

// plainStore is a store in memory that is opened anew for each round.
func plainStore(t *testing.T) (blob.Backend, func() *store.Store) {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	return b, func() *store.Store {
		s, err := store.Open(ctx, b, store.Options{})
		require.NoError(t, err)
		return s
	}
}

func treeFloors(t *testing.T) []floorRow {
	n := floorSize(2_000_000, 50_000)
	foldRow := func() floorRow {
		_, reopen := plainStore(t)
		root := sync.OnceValue(func() tree.Root { return floorTree(t, reopen(), n, nil) })
		var nodes []tree.Hash
		// One record in a hundred changes, in runs of a hundred, as what is worked on lies together.
		work := func() {
			s := reopen()
			defer s.Close()
			src := &reads{Source: s}
			f := fold.New(puts{}, false, t.TempDir(), 64<<20)
			defer f.Close()
			f.Base(record.Namespace{Name: "apiary.colonies", Kind: "collection"}, root())
			r := rand.New(rand.NewPCG(2, 2))
			for i := range n / 100 {
				k := i/100*10_000 + i%100
				require.NoError(t, f.Change(&record.Change{Op: record.Put, Namespace: "apiary.colonies",
					Key: floorKey(k), Value: floorRecord(nil, r, k), At: record.Position("p")}))
			}
			w := s.NewWriter(ctx)
			require.NoError(t, f.Merge(ctx, src, w, nil, func(*fold.Namespace, tree.Root) error { return nil }))
			_, err := w.Flush(ctx)
			require.NoError(t, err)
			nodes = src.nodes
		}
		return floorRow{name: "fold of a day's log, 1 % changed", floor: "reading the nodes that change, zstd, BLAKE3",
			wall: 1.3, size: func() string { return fmt.Sprintf("%d records", n) },
			bare: func() cost {
				if nodes == nil {
					work()
				}
				return metered(func() {
					s := newBareStore()
					o := reopen()
					defer o.Close()
					for _, h := range nodes {
						node, err := o.Node(ctx, h)
						require.NoError(t, err)
						s.add(node)
					}
					s.end()
				})
			},
			ours: func() cost { root(); return metered(work) }}
	}
	many := floorSize(10_000_000, 100_000)
	diffRow := func() floorRow {
		b, reopen := plainStore(t)
		made := sync.OnceValue(func() [2]tree.Root {
			s := reopen()
			defer s.Close()
			change := map[int]bool{}
			for i := range 10 {
				change[many/10*i+many/20] = true
			}
			return [2]tree.Root{floorTree(t, s, many, nil), floorTree(t, s, many, change)}
		})
		var src *reads
		work := func() {
			s := reopen()
			defer s.Close()
			src = &reads{Source: s}
			differ := 0
			require.NoError(t, tree.Diff(ctx, tree.Side{Source: src, Root: made()[0]},
				tree.Side{Source: src, Root: made()[1]}, func(tree.Difference) error { differ++; return nil }))
			require.Equal(t, 10, differ)
			require.Less(t, src.bytes*floorSize(100, 1), int(made()[0].Bytes), "at most a hundredth is read")
		}
		return floorRow{name: "compare of two moments, 10 differences", floor: "reading the nodes that differ",
			wall: 1.5,
			size: func() string {
				return fmt.Sprintf("%d records, %.2f %% of their bytes read", many,
					100*float64(src.bytes)/float64(made()[0].Bytes))
			},
			bare: func() cost {
				if src == nil {
					work()
				}
				return metered(func() { nodesAgain(t, b, store.Options{}, src.nodes) })
			},
			ours: func() cost { made(); return metered(work) }}
	}
	return []floorRow{foldRow(), diffRow()}
}

// writeFloor is what keeps bytes encrypted at the least: compressed, hashed, encrypted,
// written to one file.
func writeFloor(t *testing.T, recs []record.Record, path string) {
	f, err := os.Create(path)
	require.NoError(t, err)
	block, err := aes.NewCipher(make([]byte, 32))
	require.NoError(t, err)
	seal, err := cipher.NewGCM(block)
	require.NoError(t, err)
	blocks := make(chan []byte, 8)
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range 2 {
		wg.Go(func() {
			enc, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
				zstd.WithWindowSize(1<<20))
			var dst, out []byte
			nonce := make([]byte, seal.NonceSize())
			for b := range blocks {
				dst = enc.EncodeAll(b, dst[:0])
				_ = blake3.Sum256(b)
				out = seal.Seal(out[:0], nonce, dst, nil)
				mu.Lock()
				_, err := f.Write(out)
				mu.Unlock()
				require.NoError(t, err)
			}
		})
	}
	var b []byte
	for _, r := range recs {
		if b = append(append(b, r.Key...), r.Value...); len(b) >= bareBlock {
			blocks <- b
			b = nil
		}
	}
	blocks <- b
	close(blocks)
	wg.Wait()
	require.NoError(t, f.Sync())
	require.NoError(t, f.Close())
}

// floorRecords are documents as clusters hold them: about 320 bytes, of which a
// third does not compress.
func floorRecords(n int) (out []record.Record, size int) {
	r := rand.New(rand.NewPCG(7, 7))
	for i := range n {
		noise := make([]byte, 100)
		for k := range noise {
			noise[k] = byte(r.UintN(256))
		}
		v := floorRecord(nil, r, i)
		v = append(append(v, "weighed, and found well; honey super added on top of the second box"...), noise...)
		out = append(out, record.Record{Key: floorKey(i), Value: v})
		size += len(v) + 8
	}
	return out, size
}

func writeRecords(t *testing.T, s *store.Store, recs []record.Record) tree.Root {
	w := s.NewWriter(ctx)
	b := tree.NewBuilder(w)
	for _, r := range recs {
		require.NoError(t, b.Add(ctx, r))
	}
	root, err := b.Finish(ctx)
	require.NoError(t, err)
	_, err = w.Flush(ctx)
	require.NoError(t, err)
	return root
}

func storeFloors(t *testing.T) []floorRow {
	recs, size := floorRecords(floorSize(800_000, 10_000))
	told := func() string { return fmt.Sprintf("%d records, %d MiB", len(recs), size>>20) }
	write := func(name, parity string) floorRow {
		return floorRow{name: name, floor: "zstd, BLAKE3, AES-GCM into one file", cpu: 1.15, wall: 1.15, size: told,
			ours: func() cost {
				s := floorStore(t, blob.NewDir(filepath.Join(t.TempDir(), "larder")), parity)()
				defer s.Close()
				return metered(func() { writeRecords(t, s, recs) })
			},
			bare: func() cost {
				path := filepath.Join(t.TempDir(), "file")
				return metered(func() { writeFloor(t, recs, path) })
			}}
	}
	srv := servertest.S3(t)
	back, err := blob.NewS3(blob.S3Options{Location: "s3://" + srv.Bucket + "/floors", Endpoint: srv.Endpoint,
		Region: "us-east-1", PathStyle: true, Access: srv.Access, Secret: srv.Secret})
	require.NoError(t, err)
	open := floorStore(t, back, "")
	root := sync.OnceValue(func() tree.Root {
		s := open()
		defer s.Close()
		return writeRecords(t, s, recs)
	})
	read := floorRow{name: "reading from S3", floor: "four ranged reads of packs at once", wall: 1.2, size: told,
		bare: func() cost {
			root()
			return metered(func() { bareRanges(t, back) })
		},
		ours: func() cost {
			root()
			return metered(func() {
				n, s := 0, open()
				defer s.Close()
				require.NoError(t, tree.Walk(ctx, s, root(), func(record.Record) error { n++; return nil }))
				require.Equal(t, len(recs), n)
			})
		}}
	return []floorRow{write("writing to a folder, encrypted", ""),
		write("writing to a folder, encrypted, parity 8+2", "8+2"), read}
}

// bareRanges reads all content files in ranges of 8 MiB.
func bareRanges(t *testing.T, b blob.Backend) {
	type part struct {
		name string
		off  int64
		n    int
	}
	var parts []part
	require.NoError(t, b.List(ctx, "", func(i blob.Info) error {
		for off := int64(0); i.Size > 1<<16 && off < i.Size; off += 8 << 20 {
			parts = append(parts, part{i.Name, off, int(min(8<<20, i.Size-off))})
		}
		return nil
	}))
	todo := make(chan part)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for p := range todo {
				_, err := b.ReadAt(ctx, p.name, p.off, p.n)
				require.NoError(t, err)
			}
		})
	}
	for _, p := range parts {
		todo <- p
	}
	close(todo)
	wg.Wait()
}
