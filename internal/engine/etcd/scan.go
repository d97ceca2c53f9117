package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// view is the cluster as of one revision.
type view struct {
	*cluster
	rev int64
}

// Pin implements [engine.Pinned].
func (c *cluster) Pin(ctx context.Context, _ func(string) bool) (*engine.PinnedView, error) {
	m, err := c.head(ctx)
	if err != nil {
		return nil, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	rev := revision(m.Position)
	if m.Entry, err = c.entryAt(ctx, rev); err != nil {
		return nil, c.fail(err)
	}
	return &engine.PinnedView{Cluster: &view{c, rev}, Mark: m, Exact: true}, nil
}

// Close implements [engine.Cluster]; the connection belongs to the cluster.
func (v *view) Close() error { return nil }

// Namespaces implements [engine.Cluster]: of one revision, taken now.
func (c *cluster) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	m, err := c.head(ctx)
	if err != nil {
		return nil, c.fail(err)
	}
	return (&view{c, revision(m.Position)}).Namespaces(ctx)
}

// Namespaces implements [engine.Cluster]. It goes from prefix to prefix, without
// reading what is below them.
func (v *view) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	found := map[string]*engine.Namespace{}
	from := []byte{0}
	for limit := int64(10); from != nil; limit = min(2*limit, 1000) {
		page, err := v.page(ctx, from, nil, v.rev, limit, clientv3.WithKeysOnly())
		if err != nil {
			return nil, v.fail(err)
		}
		if len(page.Kvs) == 0 {
			break
		}
		for i, kv := range page.Kvs {
			from = append(bytes.Clone(kv.Key), 0)
			name := v.prefixes.Name(kv.Key)
			ns := found[name]
			if ns == nil {
				ns = &engine.Namespace{Namespace: record.Namespace{Name: name, Kind: keysKind, Definition: definition},
					Shard: v.shard()}
				found[name] = ns
			}
			ns.Records++
			prefix, flat, _ := v.prefixes.Range(name)
			if flat {
				continue
			}
			// Everything below it is counted by the server.
			limit = 5
			if ns.Records, ns.Bytes, err = v.count(ctx, prefix); err != nil {
				return nil, v.fail(err)
			}
			from = keyprefix.End(prefix)
			if from == nil || i+1 < len(page.Kvs) && bytes.Compare(page.Kvs[i+1].Key, from) < 0 {
				break
			}
		}
		if !page.More && from != nil && bytes.Compare(from, page.Kvs[len(page.Kvs)-1].Key) > 0 {
			break
		}
	}
	out := make([]engine.Namespace, 0, len(found)+3)
	for name, ns := range found {
		if name == markPrefix || ns.Records == 0 {
			continue
		}
		out = append(out, *ns)
	}
	beside, err := v.beside(ctx)
	if err != nil {
		return nil, err
	}
	out = append(out, beside...)
	slices.SortFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// count returns the number of keys that begin so, and their size as a sample of
// them has it.
func (v *view) count(ctx context.Context, prefix []byte) (records, size int64, err error) {
	page, err := v.page(ctx, orAll(prefix), keyprefix.End(prefix), v.rev, 20)
	if err != nil || len(page.Kvs) == 0 {
		return 0, 0, err
	}
	for _, kv := range page.Kvs {
		size += int64(len(kv.Key) + len(kv.Value))
	}
	records = page.Count
	if bytes.HasPrefix([]byte(markPrefix), prefix) {
		own, err := v.page(ctx, []byte(markPrefix), keyprefix.End([]byte(markPrefix)), v.rev, 1,
			clientv3.WithCountOnly())
		if err != nil {
			return 0, 0, err
		}
		records -= own.Count
	}
	return records, size * records / int64(len(page.Kvs)), nil
}

// Scan implements [engine.Cluster]: as of a revision taken now. Where the servers
// give it up while it is read, what is left is read at a newer one.
func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	for {
		m, err := c.head(ctx)
		if err != nil {
			return fmt.Errorf("cluster %s: %w", c.t.Name, err)
		}
		v := &view{c, revision(m.Position)}
		last, err := v.scan(ctx, ns, p, fn)
		if !errors.Is(err, engine.ErrStateGone) {
			return err
		}
		if last != nil {
			p.From = append(last, 0)
		}
	}
}

// Scan implements [engine.Cluster].
func (v *view) Scan(ctx context.Context, ns engine.Namespace, p engine.Partition, fn func(record.Record) error) error {
	_, err := v.scan(ctx, ns, p, fn)
	return err
}

// scan returns also the last key delivered.
func (v *view) scan(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) (last []byte, err error) {
	if ns.Kind != keysKind {
		return nil, v.scanBeside(ctx, ns, fn)
	}
	prefix, flat, err := v.prefixes.Range(ns.Name)
	if err != nil {
		return nil, err
	}
	from, end := prefix, keyprefix.End(prefix)
	if len(from) == 0 {
		from = []byte{0}
	}
	if b, ok := p.From.([]byte); ok && bytes.Compare(b, from) > 0 {
		from = b
	}
	if b, ok := p.To.([]byte); ok {
		end = b
	}
	limit := int64(firstPage)
	var buf []byte
	for from != nil {
		if end != nil && bytes.Compare(from, end) >= 0 {
			return last, nil
		}
		page, err := v.page(ctx, from, end, v.rev, limit)
		if err != nil {
			return last, v.fail(err)
		}
		size := 0
		skip := []byte(nil)
		if n := len(page.Kvs); n > 0 {
			from = append(bytes.Clone(page.Kvs[n-1].Key), 0)
		}
		for _, kv := range page.Kvs {
			size += len(kv.Key) + len(kv.Value)
			if skip != nil && bytes.Compare(kv.Key, skip) < 0 || isMark(kv.Key) {
				continue
			}
			if flat && !v.prefixes.Holds(prefix, flat, kv.Key) {
				// Of what lies below, nothing belongs here.
				i := bytes.IndexByte(kv.Key[len(prefix):], v.prefixes.Sep)
				if skip = keyprefix.End(kv.Key[:len(prefix)+i+1]); skip == nil {
					return last, nil
				}
				continue
			}
			r := recordOf(kv, prefix, &buf)
			if err := fn(r); err != nil {
				return last, err
			}
			last = append(last[:0], kv.Key...)
		}
		if !page.More {
			return last, nil
		}
		if skip != nil && bytes.Compare(skip, from) > 0 {
			from = skip
		}
		if n := int64(len(page.Kvs)); n > 0 {
			limit = min(max(n*v.pageBytes()/int64(size+1), fewestKeys), 5000)
		}
	}
	return last, nil
}

const (
	// pageSize is about how many bytes a page is of; firstPage how many keys, where nothing is known of their size.
	pageSize  = 1 << 20
	firstPage = 250
	// fewestKeys and smallestPage are what a page is of at least, however slow the network.
	fewestKeys   = 10
	smallestPage = 32 << 10
)

// isLate reports whether an answer did not come in time.
func isLate(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || status.Code(err) == codes.DeadlineExceeded
}

// pageBytes is about how many bytes a page is to be of: fewer where larger ones did not come in time.
func (c *cluster) pageBytes() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.smaller > 0 {
		return c.smaller
	}
	return pageSize
}

// shrink has pages be smaller from now on: one has not come in time.
func (c *cluster) shrink() {
	size := c.pageBytes()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.smaller = max(size/4, smallestPage)
}

// page reads keys of [from, end) as of a revision from the chosen member, or from
// another where that one fails. A revision of zero is the newest.
func (c *cluster) page(ctx context.Context, from, end []byte, rev, limit int64,
	opts ...clientv3.OpOption) (*clientv3.GetResponse, error) {
	to := "\x00" // no end
	if end != nil {
		to = string(end)
	}
	opts = append([]clientv3.OpOption{clientv3.WithRange(to)}, opts...)
	if rev > 0 {
		opts = append(opts, clientv3.WithRev(rev), clientv3.WithSerializable())
	}
	c.mu.Lock()
	endpoint := c.chosen
	c.mu.Unlock()
	var errs []error
	for try := 0; try < 60; try++ {
		cl, err := c.client(ctx, endpoint)
		if err == nil {
			var ans *clientv3.GetResponse
			ans, err = ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
				return cl.Get(ctx, string(from), append(opts[:len(opts):len(opts)], clientv3.WithLimit(limit))...)
			})
			if err == nil {
				return ans, nil
			}
			if limit > fewestKeys && isLate(err) && ctx.Err() == nil {
				// The network may be too slow for as much within the time.
				limit = max(limit/4, fewestKeys)
				c.shrink()
			}
			err = c.explain(err, endpoint)
		}
		future := strings.Contains(err.Error(), "future revision")
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !future && !errors.Is(err, engine.ErrUnreachable) && !strings.Contains(err.Error(), "etcdserver: ") ||
			errors.Is(err, engine.ErrStateGone) || errors.Is(err, engine.ErrLogin) {
			return nil, err
		}
		if errs = append(errs, err); len(errs) > 5 {
			errs = errs[len(errs)-5:]
		}
		if future { // it is behind by a moment
			pause(ctx, 20*time.Millisecond)
			if try%10 != 9 {
				continue
			}
		} else {
			pause(ctx, time.Duration(try)*20*time.Millisecond)
		}
		endpoint = c.another(endpoint)
	}
	return nil, errors.Join(errs...)
}

// another chooses the member after one that failed.
func (c *cluster) another(failed string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.chosen != failed && c.chosen != "" {
		return c.chosen // somebody else has done so
	}
	i := slices.IndexFunc(c.members, func(m member) bool { return m.endpoint == failed })
	for n := 1; n <= len(c.members); n++ {
		if m := c.members[(i+n)%len(c.members)]; !m.learner && m.endpoint != failed {
			c.chosen = m.endpoint
			break
		}
	}
	return c.chosen
}

func (c *cluster) fail(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("cluster %s: %w", c.t.Name, err)
}

// recordOf makes a key's record. Its bytes are in buf.
func recordOf(kv *mvccpb.KeyValue, prefix []byte, buf *[]byte) record.Record {
	key := kv.Key[len(prefix):]
	*buf = appendValue((*buf)[:0], key, kv.Value, kv.Lease)
	return record.Record{Key: key, Value: *buf}
}
