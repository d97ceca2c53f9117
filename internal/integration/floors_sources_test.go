package integration_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/demo"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
)

// anew runs the program in a store of its own for each round.
func anew(t *testing.T, from, to string, args ...string) func() cost {
	return func() cost {
		u := measuredProgram(t, from, to)(args...)
		return u.cost()
	}
}

// scanDocuments reads all documents with the driver, some collections at once.
func scanDocuments(t *testing.T, cl *mongo.Client, each func(bson.Raw)) (n int) {
	names, err := cl.Database(demo.Database).ListCollectionNames(ctx, bson.D{})
	require.NoError(t, err)
	for _, name := range names {
		cur, err := cl.Database(demo.Database).Collection(name).Find(ctx, bson.D{}, options.Find().SetBatchSize(4096))
		require.NoError(t, err)
		for cur.Next(ctx) {
			each(cur.Current)
			n++
		}
		require.NoError(t, cur.Err())
	}
	return n
}

func documentFloors(t *testing.T) []floorRow {
	bin := builtBinary(t)
	_, members := standIn(t, bin, "--name", "meadow", "--members", "1", "--log-mib", "64")
	_, others := standIn(t, bin, "--name", "hedge", "--members", "1", "--log-mib", "64")
	uri, other := "mongodb://"+members[0], "mongodb://"+others[0]
	cl, to := connect(t, uri+"/?directConnection=true"), connect(t, other+"/?directConnection=true")
	require.NoError(t, demo.Apiary{Seed: 1, Documents: floorSize(400_000, 4000)}.Fill(ctx, cl))
	count, size := 0, 0
	told := func() string { return fmt.Sprintf("%d documents, %d MiB", count, size>>20) }
	scan := floorRow{name: "document snapshot", floor: "driver scan, zstd, BLAKE3", cpu: 1.25, wall: 1.15, size: told,
		ours: anew(t, uri, other, "snapshot", "from"),
		bare: func() cost {
			return metered(func() {
				s := newBareStore()
				size = 0
				count = scanDocuments(t, cl, func(d bson.Raw) { size += len(d); s.add(d) })
				s.end()
			})
		}}
	run := sync.OnceValue(func() func(args ...string) usage {
		run := measuredProgram(t, uri, other)
		run("snapshot", "from")
		return run
	})
	back := floorRow{name: "document restore, read back and compared",
		floor: "bulk load by the driver, and its scan", cpu: 1.3, wall: 1.25, size: told,
		ours: func() cost {
			u := run()("restore", "from@latest/"+demo.Database+".*", "--to", "to", "--yes")
			require.NoError(t, to.Database(demo.Database).Drop(ctx))
			return u.cost()
		},
		bare: func() cost {
			byName := map[string][]any{}
			names, err := cl.Database(demo.Database).ListCollectionNames(ctx, bson.D{})
			require.NoError(t, err)
			for _, name := range names {
				cur, err := cl.Database(demo.Database).Collection(name).Find(ctx, bson.D{})
				require.NoError(t, err)
				for cur.Next(ctx) {
					byName[name] = append(byName[name], bson.Raw(strings.Clone(string(cur.Current))))
				}
			}
			c := metered(func() {
				for name, docs := range byName {
					var wg sync.WaitGroup
					sem := make(chan bool, 4)
					for len(docs) > 0 {
						n := min(len(docs), 2000)
						some := docs[:n]
						docs = docs[n:]
						sem <- true
						wg.Go(func() {
							defer func() { <-sem }()
							_, err := to.Database(demo.Database).Collection(name).InsertMany(ctx, some,
								options.InsertMany().SetOrdered(false))
							require.NoError(t, err)
						})
					}
					wg.Wait()
				}
				scanDocuments(t, to, func(bson.Raw) {})
			})
			require.NoError(t, to.Database(demo.Database).Drop(ctx))
			return c
		}}
	return []floorRow{scan, back}
}

func redisFloors(t *testing.T) []floorRow {
	n := floorSize(500_000, 3000)
	from, to := redistest.Start(t), redistest.Start(t)
	commands := redisLoad(n)
	pipeline(t, from.Address, commands, n)
	var size int64
	told := func() string { return fmt.Sprintf("%d keys, %d MiB", n, size>>20) }
	empty := func() { require.NoError(t, redistest.Client(t, to).FlushAll(ctx).Err()) }
	address := redistest.Address(from)
	run := sync.OnceValue(func() func(args ...string) usage {
		run := measuredProgram(t, address, redistest.Address(to))
		run("snapshot", "from")
		return run
	})
	return []floorRow{
		{name: "Redis snapshot", floor: "receiving the stream, zstd, BLAKE3", cpu: 2, wall: 1.3, size: told,
			ours: anew(t, address, redistest.Address(to), "snapshot", "from"),
			bare: func() cost {
				return metered(func() {
					s := newBareStore()
					_, size = bareReceiver(t, from.Address, s.add)
					s.end()
				})
			}},
		{name: "Redis restore, read back and compared", floor: "pipelined load, and receiving the stream", wall: 1.5,
			size: told,
			ours: func() cost {
				u := run()("restore", "from@latest", "--to", "to", "--yes")
				empty()
				return u.cost()
			},
			bare: func() cost {
				c := metered(func() {
					pipeline(t, to.Address, commands, n)
					bareReceiver(t, to.Address, func([]byte) {})
				})
				empty()
				return c
			}},
	}
}

func etcdFloors(t *testing.T) []floorRow {
	n := floorSize(300_000, 3000)
	from, to := etcdtest.Start(t, etcdtest.Options{}), etcdtest.Start(t, etcdtest.Options{})
	cl := etcdtest.Client(t, from...)
	etcdLoad(t, cl, n)
	size := 0
	return []floorRow{
		{name: "etcd snapshot", floor: "two paged reads at once, zstd, BLAKE3", cpu: 1.3,
			size: func() string { return fmt.Sprintf("%d keys, %d MiB", n, size>>20) },
			ours: anew(t, etcdtest.Address(from...), etcdtest.Address(to...), "snapshot", "from"),
			bare: func() cost {
				return metered(func() {
					middle := fmt.Sprintf("/gateways/%07d", n/2)
					var wg sync.WaitGroup
					var mu sync.Mutex
					size = 0
					for _, part := range [][2]string{{"/gateways/", middle},
						{middle, clientv3.GetPrefixRangeEnd("/gateways/")}} {
						wg.Go(func() {
							s := newBareStore()
							read := pagedRead(t, cl, part[0], part[1], s.add)
							s.end()
							mu.Lock()
							defer mu.Unlock()
							size += read
						})
					}
					wg.Wait()
				})
			}},
	}
}

// pagedRead reads a range of keys as it is at one revision, in pages.
func pagedRead(t *testing.T, cl *clientv3.Client, key, end string, each func([]byte)) (size int) {
	for rev := int64(0); ; {
		page, err := cl.Get(ctx, key, clientv3.WithRange(end), clientv3.WithLimit(5000), clientv3.WithRev(rev),
			clientv3.WithSerializable())
		require.NoError(t, err)
		for _, kv := range page.Kvs {
			size += len(kv.Key) + len(kv.Value)
			each(kv.Key)
			each(kv.Value)
		}
		if !page.More {
			return size
		}
		rev, key = page.Header.Revision, string(page.Kvs[len(page.Kvs)-1].Key)+"\x00"
	}
}
