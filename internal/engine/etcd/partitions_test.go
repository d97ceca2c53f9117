package etcd_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd"
	"dexamen/internal/engine/etcd/etcdtest"
)

// TestPartitionsAreFair holds that stretches have about as many keys each, whatever keys look like, are no
// more than asked for, and have each key once.
func TestPartitionsAreFair(t *testing.T) {
	p := etcdtest.Start(t, etcdtest.Options{})[0]
	cl := etcdtest.Client(t, p)
	ctx := context.Background()
	const keys = 12_000
	shapes := map[string]func(i int) string{
		"/numbers/": func(i int) string { return fmt.Sprintf("%06d", i) },
		"/hashes/":  func(i int) string { return fmt.Sprintf("%08x", uint32(i)*2654435761) },
		// Nearly all of them below one long name.
		"/skewed/": func(i int) string {
			if i%1000 == 0 {
				return fmt.Sprintf("%c-alone", 'a'+i/1000)
			}
			return fmt.Sprintf("registry/pods/%0150d/pod-%d", 7, i)
		},
	}
	for prefix, name := range shapes {
		for i := 0; i < keys; {
			var ops []clientv3.Op
			for range 100 {
				ops = append(ops, clientv3.OpPut(prefix+name(i), "x"))
				i++
			}
			_, err := cl.Txn(ctx).Then(ops...).Commit()
			require.NoError(t, err)
		}
	}
	c, err := etcd.Driver{}.Open(ctx, engine.Target{Name: "barn", Address: "etcd://" + p.Address})
	require.NoError(t, err)
	defer c.Close()
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	seen := 0
	for _, ns := range list {
		if shapes[ns.Name] == nil {
			continue
		}
		seen++
		for _, n := range []int{8, 100} {
			parts, err := c.Partitions(ctx, ns, n)
			require.NoError(t, err)
			require.LessOrEqual(t, len(parts), n, ns.Name)
			require.GreaterOrEqual(t, len(parts), n*3/5, ns.Name)
			got := map[string]bool{}
			most := 0
			for _, p := range parts {
				n := 0
				require.NoError(t, c.Scan(ctx, ns, p, func(r record.Record) error {
					require.False(t, got[string(r.Key)])
					got[string(r.Key)] = true
					n++
					return nil
				}))
				most = max(most, n)
			}
			require.Len(t, got, keys)
			require.Less(t, most, keys/n*9/4, "%s: the largest of %d", ns.Name, len(parts))
		}
	}
	require.Equal(t, len(shapes), seen)
}
