package etcd

import (
	"bytes"
	"context"
	"slices"

	clientv3 "go.etcd.io/etcd/client/v3"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// Partitions implements [engine.Cluster]: stretches of about as many keys each, as the server counts them.
func (c *cluster) Partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	return (&view{c, 0}).Partitions(ctx, ns, n)
}

// Partitions implements [engine.Cluster].
func (v *view) Partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	if ns.Kind != keysKind || n < 2 || ns.Records < 5000 {
		return []engine.Partition{{}}, nil
	}
	prefix, _, err := v.prefixes.Range(ns.Name)
	if err != nil {
		return nil, err
	}
	all := stretch{from: orAll(prefix), to: keyprefix.End(prefix)}
	if all.keys, err = v.keys(ctx, all); err != nil {
		return nil, v.fail(err)
	}
	fair := all.keys/int64(n) + 1
	most := fair / 2
	if n > mostEven {
		most = fair
	}
	c := &cutter{view: v, most: max(most, leastStretch), asking: make(chan struct{}, counted)}
	list, err := c.cut(ctx, all)
	if err != nil {
		return nil, v.fail(err)
	}
	out := []engine.Partition{{}}
	sum, here := int64(0), int64(0)
	for _, s := range list {
		if sum+s.keys/2 >= fair*int64(len(out)) && here > 0 && len(out) < n {
			out[len(out)-1].To = s.from
			out, here = append(out, engine.Partition{From: s.from}), 0
		}
		sum, here = sum+s.keys, here+s.keys
	}
	return out, nil
}

// stretch is a range of keys, and how many there are.
type stretch struct {
	from, to []byte // to nil is without end
	keys     int64
	// loose: its keys may lie anywhere in it, so that they are looked for before it is cut.
	loose bool
}

const (
	// leastStretch is how many keys make a stretch worth being cut.
	leastStretch = 100
	// mostEven is how many partitions are cut so that they differ little; of more, which are put together again, some
	// may have half as many keys as others.
	mostEven = 64
	// deepest bounds how often a stretch is cut again.
	deepest = 8
	// counted is how many stretches are counted at once, as each takes the way to the server and back.
	counted = 32
	// mostCuts is at how many keys a stretch is cut at once.
	mostCuts = 255
)

// cutter cuts a stretch into stretches of at most so many keys. The server counts them, which it does without
// reading values; it is never asked for the last key, since it would read all values to sort them.
type cutter struct {
	*view
	most   int64
	asking chan struct{} // bounds how much is asked at once
}

// keys counts the keys of a stretch.
func (v *view) keys(ctx context.Context, s stretch) (int64, error) {
	page, err := v.page(ctx, s.from, s.to, v.rev, 0, clientv3.WithCountOnly())
	if err != nil {
		return 0, err
	}
	return page.Count, nil
}

// cut returns the parts of a stretch that have keys, in order: cut evenly by what keys look like, and what then still
// has too many again, by what the keys there look like.
func (c *cutter) cut(ctx context.Context, s stretch) ([]stretch, error) {
	s.loose = true
	list := []stretch{s}
	used := &digits{}
	for range deepest {
		parts := make([][]stretch, len(list))
		looked := make([]*digits, len(list))
		again := false
		g, gctx := errgroup.WithContext(ctx)
		for i, s := range list {
			parts[i] = []stretch{s}
			if s.keys > c.most {
				again = true
				g.Go(func() (err error) {
					parts[i], looked[i], err = c.cutOnce(gctx, s, used)
					return err
				})
			}
		}
		if err := g.Wait(); err != nil {
			return nil, err
		}
		if list = slices.Concat(parts...); !again {
			break
		}
		for _, d := range looked {
			used = used.union(d)
		}
	}
	return list, nil
}

// cutOnce cuts a stretch evenly, taking keys for numbers whose digits are the bytes that are known to be used.
func (c *cutter) cutOnce(ctx context.Context, s stretch, used *digits) ([]stretch, *digits, error) {
	low, high := s.from, s.to
	if s.loose {
		first, last, seen, err := c.ends(ctx, s)
		if err != nil || first == nil {
			return []stretch{s}, nil, err
		}
		low, high, used = first, last, used.union(seen)
	}
	cuts := used.between(low, high, int(min((s.keys+c.most-1)/c.most, mostCuts+1)))
	out := make([]stretch, 0, len(cuts)+1)
	from := s.from
	for _, to := range append(cuts, s.to) {
		out = append(out, stretch{from: from, to: to})
		from = to
	}
	g, gctx := errgroup.WithContext(ctx)
	for i := range cuts {
		g.Go(func() error {
			return c.one(func() (err error) {
				out[i].keys, err = c.keys(gctx, out[i])
				return err
			})
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	end := &out[len(cuts)]
	end.keys = s.keys
	for i := range cuts {
		end.keys -= out[i].keys
	}
	for i := range out {
		out[i].loose = out[i].keys > s.keys/2 || i == len(cuts)
	}
	return slices.DeleteFunc(out, func(s stretch) bool { return s.keys <= 0 }), used, nil
}

// one asks the server something, when it is its turn.
func (c *cutter) one(ask func() error) error {
	c.asking <- struct{}{}
	defer func() { <-c.asking }()
	return ask()
}

// ends returns the first key of a stretch and about the last, after which there are no more than need not be cut, and
// the bytes that keys were seen to use. First is nil where no key is left.
func (c *cutter) ends(ctx context.Context, s stretch) (first, last []byte, seen *digits, err error) {
	var keys [][]byte
	from := func(at []byte, limit int64) (key []byte, n int64, err error) {
		err = c.one(func() error {
			page, err := c.page(ctx, at, s.to, c.rev, limit, clientv3.WithKeysOnly())
			if err == nil && len(page.Kvs) > 0 {
				key, n = page.Kvs[0].Key, page.Count
				for _, kv := range page.Kvs {
					keys = append(keys, kv.Key)
				}
			}
			return err
		})
		return key, n, err
	}
	const sample = 20 // keys that follow each other, which show most digits
	if first, _, err = from(s.from, sample); err != nil || first == nil {
		return nil, nil, nil, err
	}
	low, high := first, s.to
	if high == nil {
		high = bytes.Repeat([]byte{0xff}, len(first)+1)
	}
	// What all keys begin with alike may be long: it is found first, by halving its length.
	for least, most := shared(first, high), len(first); least < most; {
		n := (least + most + 1) / 2
		beyond := keyprefix.End(first[:n])
		if beyond != nil && bytes.Compare(beyond, high) < 0 {
			key, _, err := from(beyond, 1)
			if err != nil {
				return nil, nil, nil, err
			}
			if key != nil {
				most = n - 1
				continue
			}
			high = beyond
		}
		least = n
	}
	for mid := middle(low, high); mid != nil; mid = middle(low, high) {
		key, n, err := from(mid, 1)
		switch {
		case err != nil:
			return nil, nil, nil, err
		case key == nil:
			high = mid
		default:
			low = key
		}
		if key != nil && n <= c.most {
			break
		}
	}
	return first, high, digitsOf(first, high, keys), nil
}

// middle returns a key about halfway between two; nil where they are as good as next to each other.
func middle(low, high []byte) []byte {
	head := shared(low, high)
	at := func(k []byte, i int) int {
		if i < len(k) {
			return int(k[i])
		}
		return 0
	}
	a, b := at(low, head)<<8|at(low, head+1), at(high, head)<<8|at(high, head+1)
	mid := append(bytes.Clone(high[:head]), byte((a+b)/2>>8), byte((a+b)/2))
	if bytes.Compare(mid, low) <= 0 || bytes.Compare(mid, high) >= 0 {
		return nil
	}
	return mid
}

// shared is how many bytes two keys begin with alike.
func shared(a, b []byte) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}
