package redis

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/rdb"
	"dexamen/internal/engine/redis/resp"
)

// Namespaces implements [engine.Cluster]. Whole databases the servers count
// themselves; for beginnings of keys all keys are gone through.
func (c *cluster) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	found := map[string]*engine.Namespace{}
	add := func(name string, shard string, n, size int64) {
		ns := found[name]
		if ns == nil {
			kind, def := model{}.Implied(name)
			ns = &engine.Namespace{Namespace: record.Namespace{Name: name, Kind: kind, Definition: def}, Shard: shard}
			found[name] = ns
		}
		ns.Records, ns.Bytes = ns.Records+n, ns.Bytes+size
	}
	for _, s := range c.list() {
		addr := c.membersOf(s)[0]
		in, err := c.info(ctx, addr)
		if err != nil {
			return nil, c.fail(err)
		}
		dbs, all := keyspace(in)
		if c.clustered || dbs[0] > 0 {
			if n, err := c.marksAt(ctx, addr); err == nil {
				dbs[0], all = dbs[0]-n, all-n
			}
		}
		for db, n := range dbs {
			switch {
			case n <= 0:
			case c.prefixes.Depth == 0:
				add(fmt.Sprintf("db%d", db), s.name, n, int64(num(in["used_memory_dataset"]))*n/max(all, 1))
			default:
				share := int64(num(in["used_memory_dataset"])) / max(all, 1)
				err := c.eachKey(ctx, addr, db, "*", func(keys []string) error {
					for _, k := range keys {
						if name, _ := c.nameOf(db, []byte(k)); !isMark([]byte(k)) {
							add(name, s.name, 1, share)
						}
					}
					return nil
				})
				if err != nil {
					return nil, c.fail(err)
				}
			}
		}
	}
	if c.t.Settings {
		for _, name := range []string{usersName, functionsName} {
			n := int64(0)
			if err := c.scanSettings(ctx, name, func(record.Record) error { n++; return nil }); err != nil {
				return nil, c.fail(err)
			}
			if n > 0 {
				add(name, c.list()[0].name, n, 0)
			}
		}
	}
	var out []engine.Namespace
	for _, ns := range found {
		out = append(out, *ns)
	}
	slices.SortFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// keyspace returns how many keys each database has, of what a server says of itself, and all
// of them.
func keyspace(in map[string]string) (dbs map[int]int64, all int64) {
	dbs = map[int]int64{}
	for k, v := range in {
		if n, ok := strings.CutPrefix(k, "db"); ok {
			if db, err := strconv.Atoi(n); err == nil {
				keys, _, _ := strings.Cut(strings.TrimPrefix(v, "keys="), ",")
				dbs[db] = int64(num(keys))
				all += dbs[db]
			}
		}
	}
	return dbs, all
}

// Partitions implements [engine.Cluster]: one a shard.
func (c *cluster) Partitions(_ context.Context, ns engine.Namespace, _ int) ([]engine.Partition, error) {
	if ns.Kind == record.KindSettings {
		return []engine.Partition{{}}, nil
	}
	var out []engine.Partition
	for _, s := range c.list() {
		out = append(out, engine.Partition{From: s.name})
	}
	return out, nil
}

// Scan implements [engine.Cluster]: it goes through the keys of the primaries, for
// comparing and reading back. A snapshot is read by Stream.
func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	if ns.Kind == record.KindSettings {
		return c.fail(c.scanSettings(ctx, ns.Name, fn))
	}
	db, prefix, flat, err := split(ns.Name)
	if err != nil {
		return err
	}
	for _, s := range c.list() {
		if name, ok := p.From.(string); ok && name != s.name {
			continue
		}
		if err := c.scanShard(ctx, s, db, prefix, flat, fn); err != nil {
			return c.fail(err)
		}
	}
	return nil
}

// clientDB returns the client of a database of a server.
func (c *cluster) clientDB(addr string, db int) *goredis.Client {
	if db == 0 {
		return c.client(addr)
	}
	name := fmt.Sprintf("%s/%d", addr, db)
	c.mu.Lock()
	defer c.mu.Unlock()
	cl := c.clients[name]
	if cl == nil {
		o := c.options(addr)
		o.DB = db
		cl = goredis.NewClient(o)
		c.clients[name] = cl
	}
	return cl
}

// eachKey goes through the keys that fit a pattern, many at a time.
func (c *cluster) eachKey(ctx context.Context, addr string, db int, pattern string, fn func([]string) error) error {
	cl := c.clientDB(addr, db)
	for cursor := uint64(0); ; {
		keys, next, err := cl.Scan(ctx, cursor, pattern, 1000).Result()
		if err != nil {
			return c.explain(err, addr)
		}
		if err := fn(keys); err != nil {
			return err
		}
		if cursor = next; cursor == 0 {
			return nil
		}
	}
}

// globOf returns the pattern of the keys that begin so.
func globOf(prefix []byte) string {
	var b strings.Builder
	for _, c := range prefix {
		if strings.IndexByte(`*?[]\^`, c) >= 0 {
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	return b.String() + "*"
}

// dumpBytes is the size, as a server estimates it, up to which a key is asked for
// in one piece.
const dumpBytes = 1 << 20

func (c *cluster) scanShard(ctx context.Context, s *shard, db int, prefix []byte, flat bool,
	fn func(record.Record) error) error {
	return c.scanKeys(ctx, s, db, globOf(prefix), &assembler{
		name: func(_ int, key []byte) (string, []byte, bool) {
			if !prefixes.Holds(prefix, flat, key) {
				return "", nil, false
			}
			return "", key[len(prefix):], true
		},
		emit: func(_ string, r record.Record) error { return fn(r) },
	})
}

// scanKeys goes through the keys of a database that fit a pattern, and hands those to an assembler that it has a
// name for.
func (c *cluster) scanKeys(ctx context.Context, s *shard, db int, pattern string, a *assembler) error {
	addr := c.membersOf(s)[0]
	cl := c.clientDB(addr, db)
	return c.eachKey(ctx, addr, db, pattern, func(keys []string) error {
		keys = slices.DeleteFunc(keys, func(k string) bool {
			_, _, ok := a.name(db, []byte(k))
			return !ok || isMark([]byte(k))
		})
		if len(keys) == 0 {
			return nil
		}
		sizes := make([]*goredis.IntCmd, len(keys))
		_, err := cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
			for i, k := range keys {
				sizes[i] = p.MemoryUsage(ctx, k)
			}
			return nil
		})
		if err != nil && !errors.Is(err, goredis.Nil) {
			return c.explain(err, addr)
		}
		for len(keys) > 0 {
			n, total := 0, int64(0)
			for n < len(keys) && (n == 0 || total < 8<<20) && sizes[n].Val() <= dumpBytes {
				total += sizes[n].Val()
				n++
			}
			if n > 0 {
				if err := c.dump(ctx, cl, addr, keys[:n], a); err != nil {
					return err
				}
			} else {
				n = 1
				if err := c.readLarge(ctx, cl, addr, keys[0], a); err != nil {
					return err
				}
			}
			keys, sizes = keys[n:], sizes[n:]
		}
		return nil
	})
}

// dump asks for keys as the server keeps them.
func (c *cluster) dump(ctx context.Context, cl *goredis.Client, addr string, keys []string, a *assembler) error {
	dumps := make([]*goredis.StringCmd, len(keys))
	expiries, err := c.expiries(ctx, cl, keys)
	if err != nil {
		return c.explain(err, addr)
	}
	_, err = cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
		for i, k := range keys {
			dumps[i] = p.Dump(ctx, k)
		}
		return nil
	})
	if err != nil && !errors.Is(err, goredis.Nil) {
		return c.explain(err, addr)
	}
	d := rdb.NewReader(nil, a)
	for i, k := range keys {
		b, err := dumps[i].Bytes()
		if errors.Is(err, goredis.Nil) {
			continue // gone meanwhile
		}
		if err != nil {
			return c.explain(err, addr)
		}
		if err := readDump(d, []byte(k), b, max(expiries[i], 0)); err != nil {
			return fmt.Errorf("%s: key %s: %w", addr, resp.Text([]byte(k), 100), err)
		}
	}
	return nil
}

// readDump reads one key in the form in which servers hand it out: type, value,
// version and checksum.
func readDump(d *rdb.Reader, key, b []byte, expires int64) error {
	if len(b) < 11 {
		return fmt.Errorf("%w: a key of %d bytes", rdb.ErrDamaged, len(b))
	}
	body, tail := b[:len(b)-10], b[len(b)-10:]
	if version := int(tail[0]) | int(tail[1])<<8; !rdb.Known(version) {
		return fmt.Errorf("%w: version %d", rdb.ErrVersion, version)
	}
	d.Reset(body[1:])
	if err := d.ReadValue(0, key, body[0], expires); err != nil {
		return err
	}
	if n := d.Unread(); n > 0 {
		return fmt.Errorf("%w: %d bytes after its end", rdb.ErrDamaged, n)
	}
	return nil
}

// readLarge reads a large key in pieces.
func (c *cluster) readLarge(ctx context.Context, cl *goredis.Client, addr, key string, a *assembler) error {
	typ, err := cl.Type(ctx, key).Result()
	if err != nil {
		return c.explain(err, addr)
	}
	expires, err := c.expiries(ctx, cl, []string{key})
	if err != nil {
		return c.explain(err, addr)
	}
	k := rdb.Kind(typ)
	if k == rdb.Stream {
		// Its groups are to be had in no other way.
		return c.dump(ctx, cl, addr, []string{key}, a)
	}
	if typ == "none" {
		return nil
	}
	if err := a.Begin(0, []byte(key), k, max(expires[0], 0)); err != nil {
		return err
	}
	if err := c.readParts(ctx, cl, key, k, a); err != nil {
		return c.explain(err, addr)
	}
	return a.End()
}

func (c *cluster) readParts(ctx context.Context, cl *goredis.Client, key string, k rdb.Kind, a *assembler) error {
	const many = 1000
	switch k {
	case rdb.String:
		for at := int64(0); ; {
			b, err := cl.GetRange(ctx, key, at, at+rdb.PieceBytes-1).Bytes()
			if err != nil || len(b) == 0 {
				return err
			}
			if err := a.Piece(b); err != nil {
				return err
			}
			at += int64(len(b))
		}
	case rdb.List:
		for at := int64(0); ; at += many {
			list, err := cl.LRange(ctx, key, at, at+many-1).Result()
			if err != nil || len(list) == 0 {
				return err
			}
			for _, v := range list {
				if err := a.Element([]byte(v)); err != nil {
					return err
				}
			}
		}
	}
	for cursor := uint64(0); ; {
		var list []string
		var err error
		switch k {
		case rdb.Set:
			list, cursor, err = cl.SScan(ctx, key, cursor, "", many).Result()
		case rdb.Hash:
			list, cursor, err = cl.HScan(ctx, key, cursor, "", many).Result()
		case rdb.SortedSet:
			list, cursor, err = cl.ZScan(ctx, key, cursor, "", many).Result()
		default:
			return fmt.Errorf("%w: %q", rdb.ErrType, k)
		}
		if err != nil {
			return err
		}
		step := 2
		if k == rdb.Set {
			step = 1
		}
		for i := 0; i+step <= len(list); i += step {
			args := [][]byte{[]byte(list[i])}
			switch k {
			case rdb.Hash:
				args = append(args, []byte(list[i+1]))
			case rdb.SortedSet:
				score, err := rdb.CanonicalScore([]byte(list[i+1]))
				if err != nil {
					return err
				}
				args = [][]byte{score, []byte(list[i])}
			}
			if err := a.Element(args...); err != nil {
				return err
			}
		}
		if cursor == 0 {
			return nil
		}
	}
}

// scanSettings reads users or libraries of functions, of the first shard.
func (c *cluster) scanSettings(ctx context.Context, name string, fn func(record.Record) error) error {
	addr := c.membersOf(c.list()[0])[0]
	if name == usersName {
		return c.users(ctx, addr, fn)
	}
	libs, err := ask(ctx, func(ctx context.Context) ([]goredis.Library, error) {
		return c.client(addr).FunctionList(ctx, goredis.FunctionListQuery{WithCode: true}).Result()
	})
	if err != nil {
		if strings.Contains(err.Error(), "unknown command") {
			return nil // servers before 7.0 have none
		}
		return c.explain(err, addr)
	}
	for _, l := range libs {
		if err := fn(functionRecord([]byte(l.Code))); err != nil {
			return err
		}
	}
	return nil
}
