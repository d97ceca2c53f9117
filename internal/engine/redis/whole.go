package redis

import (
	"context"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/resp"
)

// perKey is about what a key costs that is asked for by its name, and beginStream what it
// costs a server to begin to send its content, apart from what it waits for.
const (
	perKey      = 6 * time.Microsecond
	beginStream = 100 * time.Millisecond
)

// ScanWhole implements [engine.WholeScanner]: a namespace that is most of what a server
// holds comes as a replica would be sent it, where that is faster.
func (c *cluster) ScanWhole(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	if ns.Kind == record.KindSettings {
		return c.Scan(ctx, ns, p, fn)
	}
	db, prefix, flat, err := split(ns.Name)
	if err != nil {
		return err
	}
	for _, s := range c.list() {
		if name, ok := p.From.(string); ok && name != s.name {
			continue
		}
		part := 1.0 / float64(len(c.list()))
		if c.streamServes(ctx, s, db, len(prefix) > 0 || flat, int64(float64(ns.Records)*part)) {
			n := 0
			err := c.streamWhole(ctx, s, db, prefix, flat, func(r record.Record) error { n++; return fn(r) })
			if err == nil {
				continue
			}
			if n > 0 || ctx.Err() != nil {
				return c.fail(err)
			}
			// It does not send everything, to this login perhaps: key by key then.
		}
		if err := c.scanShard(ctx, s, db, prefix, flat, fn); err != nil {
			return c.fail(err)
		}
	}
	return nil
}

// streamServes reports whether a shard's primary is better asked for everything than key by
// key: most of it is wanted, it writes no file for it, and what it waits for before it
// begins is worth it. Records is how many keys are wanted where only some are.
func (c *cluster) streamServes(ctx context.Context, s *shard, db int, some bool, records int64) bool {
	addr := c.membersOf(s)[0]
	in, err := c.info(ctx, addr)
	if err != nil || in["role"] != "master" {
		return false
	}
	dbs, all := keyspace(in)
	wanted := dbs[db]
	if some {
		wanted = min(wanted, records)
	}
	if wanted*2 < all {
		return false
	}
	var waits time.Duration
	for _, name := range []string{"repl-diskless-sync", "repl-diskless-sync-delay"} {
		cfg, err := ask(ctx, func(ctx context.Context) (map[string]string, error) {
			return c.client(addr).ConfigGet(ctx, name).Result()
		})
		switch {
		case err != nil || cfg[name] == "no":
			return false
		case strings.HasSuffix(name, "delay"):
			waits = time.Duration(num(cfg[name])) * time.Second
		}
	}
	return time.Duration(wanted)*perKey > beginStream+waits
}

// streamWhole reads a namespace out of all that a shard's primary holds.
func (c *cluster) streamWhole(ctx context.Context, s *shard, db int, prefix []byte, flat bool,
	fn func(record.Record) error) error {
	addr := c.membersOf(s)[0]
	now, err := c.client(addr).Time(ctx).Result()
	if err != nil {
		return c.explain(err, addr)
	}
	l, err := c.dial(ctx, addr)
	if err != nil {
		return err
	}
	defer l.Close()
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	_ = l.ok(resp.Command("REPLCONF", "rdb-only", "1"))
	if _, _, err = c.fullSync(l); err == nil {
		_, err = c.readContent(l, &assembler{
			name: func(in int, key []byte) (string, []byte, bool) {
				if in != db || isMark(key) || !prefixes.Holds(prefix, flat, key) {
					return "", nil, false
				}
				return "", key[len(prefix):], true
			},
			emit:  func(_ string, r record.Record) error { return fn(r) },
			code:  func([]byte) error { return nil },
			alive: now.UnixMilli(),
		})
	}
	if err != nil {
		return c.explain(cause(ctx, err), addr)
	}
	return nil
}

var _ engine.WholeScanner = (*cluster)(nil)
