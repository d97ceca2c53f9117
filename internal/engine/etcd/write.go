package etcd

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

const (
	// markPrefix begins the keys that say which namespaces are being written.
	markPrefix = "dexamen.restoring/"
	// Servers refuse more operations, and longer requests, when not told to
	// allow them.
	batchOps   = 120
	batchBytes = 1 << 20
	// unknownTTL is that of a lease of which no more is known than that keys
	// had it, in seconds.
	unknownTTL = 60
)

// isMark reports the marks of restores from content.
func isMark(key []byte) bool { return bytes.HasPrefix(key, []byte(markPrefix)) }

// writer implements [engine.InPlaceWriter] and [engine.SettingsWriter]. A watcher of the
// target sees one put for every key that differs and one delete for every key
// that is too many, in transactions of at most 120, and the mark.
type writer struct {
	*cluster
	cl *clientv3.Client

	mu     sync.Mutex
	most   int             // operations that the servers take at once, where that is less
	ttl    map[int64]int64 // of the leases that records may have
	made   map[int64]bool  // leases looked after; false: another client's
	stop   context.CancelFunc
	writes sync.WaitGroup
}

// Writer implements [engine.Cluster].
func (c *cluster) Writer(ctx context.Context) (engine.Writer, error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, c.fail(err)
	}
	return &writer{cluster: c, cl: cl, ttl: map[int64]int64{}, made: map[int64]bool{}}, nil
}

// Stages implements [engine.Writer].
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	ans, err := ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
		return w.cl.Get(ctx, markPrefix, clientv3.WithPrefix())
	})
	if err != nil {
		return nil, w.fail(w.explain(err, "looking for restores cut short"))
	}
	var out []string
	for _, kv := range ans.Kvs {
		if engine.CutShort(string(kv.Value)) {
			out = append(out, strings.TrimPrefix(string(kv.Key), markPrefix))
		}
	}
	return out, nil
}

// Reserve implements [engine.Writer].
func (w *writer) Reserve(ctx context.Context, names []string) (*engine.Claims, error) {
	c, err := engine.ClaimNames(ctx, w, names)
	return c, w.fail(err)
}

// Claim implements [engine.ClaimTable].
func (w *writer) Claim(ctx context.Context, name string) (string, error) {
	ans, err := ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
		return w.cl.Get(ctx, markPrefix+name)
	})
	if err != nil || len(ans.Kvs) == 0 {
		return "", w.explain(err, "looking who restores "+name)
	}
	return string(ans.Kvs[0].Value), nil
}

// SwapClaim implements [engine.ClaimTable].
func (w *writer) SwapClaim(ctx context.Context, name, was, now string) (bool, error) {
	key := markPrefix + name
	is := clientv3.Compare(clientv3.Value(key), "=", was)
	if was == "" {
		is = clientv3.Compare(clientv3.CreateRevision(key), "=", 0)
	}
	then := clientv3.OpPut(key, now)
	if now == "" {
		then = clientv3.OpDelete(key)
	}
	ans, err := ask(ctx, func(ctx context.Context) (*clientv3.TxnResponse, error) {
		return w.cl.Txn(ctx).If(is).Then(then).Commit()
	})
	if err != nil {
		return false, w.explain(err, "marking "+name)
	}
	return ans.Succeeded, nil
}

// Occupied implements [engine.InPlaceWriter].
func (w *writer) Occupied(ctx context.Context, ns record.Namespace) (int64, error) {
	prefix, flat, err := w.prefixes.Range(ns.Name)
	if err != nil {
		return 0, err
	}
	v := &view{w.cluster, 0}
	if !flat {
		n, _, err := v.count(ctx, prefix)
		return n, w.fail(err)
	}
	n := int64(0)
	err = w.Scan(ctx, engine.Namespace{Namespace: ns}, engine.Partition{},
		func(record.Record) error { n++; return nil })
	return n, err
}

func orAll(prefix []byte) []byte {
	if len(prefix) == 0 {
		return []byte{0}
	}
	return prefix
}

// Begin implements [engine.InPlaceWriter].
func (w *writer) Begin(ctx context.Context, ns record.Namespace,
	support func(string, func(record.Record) error) error) error {
	err := support(leasesName, func(r record.Record) error {
		var l leaseValue
		if err := json.Unmarshal(r.Value, &l); err != nil {
			return err
		}
		id, err := strconv.ParseInt(l.Lease, 16, 64)
		if err != nil {
			return err
		}
		w.ttl[id] = l.TTL
		return nil
	})
	if err != nil {
		return err
	}
	if w.stop == nil {
		// What is restored must not end before it is all there.
		kctx, stop := context.WithCancel(context.WithoutCancel(ctx))
		w.stop = stop
		w.writes.Go(func() { w.keepAlive(kctx) })
	}
	return nil
}

// End implements [engine.InPlaceWriter]. The leases made run from here on.
func (w *writer) End(context.Context, record.Namespace) error {
	if w.stop != nil {
		w.stop()
		w.writes.Wait()
		w.stop = nil
	}
	return nil
}

// Put implements [engine.InPlaceWriter].
func (w *writer) Put(ctx context.Context, ns record.Namespace, recs []record.Record) error {
	return w.putWhile(ctx, nil, ns, recs)
}

func (w *writer) putWhile(ctx context.Context, is []clientv3.Cmp, ns record.Namespace, recs []record.Record) error {
	prefix, _, err := w.prefixes.Range(ns.Name)
	if err != nil {
		return err
	}
	// Transactions on different keys need not wait for each other.
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	var ops []clientv3.Op
	size := 0
	send := func() {
		batch := ops
		ops, size = nil, 0
		g.Go(func() error { return w.commitWhile(gctx, is, ns, batch) })
	}
	for _, r := range recs {
		key, value, lease, err := readValue(r.Value)
		if err != nil {
			return errors.Join(fmt.Errorf("%s: record %x: %w", ns.Name, r.Key, err), g.Wait())
		}
		var opts []clientv3.OpOption
		if lease != 0 {
			if err := w.lease(ctx, lease); err != nil {
				return errors.Join(w.fail(err), g.Wait())
			}
			opts = append(opts, clientv3.WithLease(clientv3.LeaseID(lease)))
		}
		if n := len(prefix) + len(key) + len(value); len(ops) > 0 && (size+n > batchBytes || len(ops) == batchOps) {
			send()
		}
		size += len(prefix) + len(key) + len(value)
		ops = append(ops, clientv3.OpPut(string(prefix)+string(key), string(value), opts...))
	}
	send()
	return g.Wait()
}

// Remove implements [engine.InPlaceWriter].
func (w *writer) Remove(ctx context.Context, ns record.Namespace, keys [][]byte) error {
	prefix, _, err := w.prefixes.Range(ns.Name)
	if err != nil {
		return err
	}
	var ops []clientv3.Op
	for _, k := range keys {
		if ops = append(ops, clientv3.OpDelete(string(prefix)+string(k))); len(ops) == batchOps {
			if err := w.commit(ctx, ns, ops); err != nil {
				return err
			}
			ops = ops[:0]
		}
	}
	return w.commit(ctx, ns, ops)
}

// commit carries out operations in one transaction. Doing them twice does no
// harm, so that what is not known to have been done is done again.
func (w *writer) commit(ctx context.Context, ns record.Namespace, ops []clientv3.Op) error {
	return w.commitWhile(ctx, nil, ns, ops)
}

// commitWhile is commit while something is so.
func (w *writer) commitWhile(ctx context.Context, is []clientv3.Cmp, ns record.Namespace, ops []clientv3.Op) error {
	if len(ops) == 0 {
		return nil
	}
	var err error
	for try := range 10 {
		if n := w.mostOps(); len(ops) > n {
			return errors.Join(w.commitWhile(ctx, is, ns, ops[:n]), w.commitWhile(ctx, is, ns, ops[n:]))
		}
		var ans *clientv3.TxnResponse
		ans, err = ask(ctx, func(ctx context.Context) (*clientv3.TxnResponse, error) {
			return w.cl.Txn(ctx).If(is...).Then(ops...).Commit()
		})
		if err == nil && !ans.Succeeded {
			return w.fail(fmt.Errorf("%s: %w", ns.Name, engine.ErrClaimLost))
		}
		if err == nil {
			return nil
		}
		if strings.Contains(err.Error(), "too many operations") && len(ops) > 1 {
			w.fewerOps(len(ops) / 2) // the servers are told to take less (--max-txn-ops)
			continue
		}
		err = w.explain(err, "writing "+ns.Name)
		if ctx.Err() != nil || !errors.Is(err, engine.ErrUnreachable) && !strings.Contains(err.Error(), "leader") &&
			!strings.Contains(err.Error(), "too many requests") {
			break
		}
		pause(ctx, time.Duration(try+1)*200*time.Millisecond)
	}
	return w.fail(err)
}

// mostOps returns how many operations go into one transaction.
func (w *writer) mostOps() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.most > 0 {
		return w.most
	}
	return batchOps
}

func (w *writer) fewerOps(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.most == 0 || n < w.most {
		w.most = n
	}
}

// lease makes sure that a lease is there: that of another client, or a new one
// of the same number and length.
func (w *writer) lease(ctx context.Context, id int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if _, done := w.made[id]; done {
		return nil
	}
	ttl := w.ttl[id]
	if ttl == 0 {
		ttl = unknownTTL
	}
	_, err := ask(ctx, func(ctx context.Context) (*etcdserverpb.LeaseGrantResponse, error) {
		return etcdserverpb.NewLeaseClient(w.cl.ActiveConnection()).LeaseGrant(ctx,
			&etcdserverpb.LeaseGrantRequest{ID: id, TTL: ttl})
	})
	if err != nil && !errors.Is(err, rpctypes.ErrLeaseExist) && !strings.Contains(err.Error(), "lease already exists") {
		return w.explain(err, fmt.Sprintf("making lease %x", id))
	}
	w.made[id] = err == nil
	return nil
}

func (w *writer) keepAlive(ctx context.Context) {
	for ctx.Err() == nil {
		pause(ctx, time.Second)
		w.mu.Lock()
		var ids []int64
		for id, own := range w.made {
			if own {
				ids = append(ids, id)
			}
		}
		w.mu.Unlock()
		for _, id := range ids {
			_, _ = ask(ctx, func(ctx context.Context) (*clientv3.LeaseKeepAliveResponse, error) {
				return w.cl.KeepAliveOnce(ctx, clientv3.LeaseID(id))
			})
		}
	}
}
