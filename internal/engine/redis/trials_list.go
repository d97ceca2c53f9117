package redis

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/engine"
)

// Titles of the pages of the servers' public manual.
const (
	replicationSource = "Redis: Replication"
	expireSource      = "Redis: EXPIRE, How Redis expires keys"
	txnSource         = "Redis: Transactions"
	scriptSource      = "Redis: Scripting with Lua"
	streamSource      = "Redis: Streams"
	restoreSource     = "Redis: RESTORE, RENAME"
)

// commandTrials are done by commands alone, a line each; a word that begins with @ is a key.
var commandTrials = []struct{ id, says, source, lines string }{
	{"set", "SET is logged with the value, and with the moment of its expiry", "Redis: SET", `
		SET @plain 1
		SET @plain 2
		SET @in-a-while x PX 3600000
		SET @in-a-while y KEEPTTL
		SET @for-ever x EX 3600
		SET @for-ever y
		SET @only-new 1 NX
		SET @only-new 2 NX
		SET @only-old 1 XX
		SETNX @setnx 1
		SETNX @setnx 2
		SETEX @setex 3600 1
		PSETEX @psetex 3600000 1
		GETSET @getset 1
		GETDEL @plain
		GETEX @in-a-while PERSIST`},
	{"set.many", "commands of several keys are logged with all of them", "Redis: MSET", `
		MSET @one 1 @several 2 @more 3
		MSETNX @one 5 @four 4
		MSETNX @five 5 @six 6
		COPY @one @copy
		UNLINK @five @more`},
	{"string.parts", "what changes a part of a string is logged as such", "Redis: Strings", `
		APPEND @s hello
		APPEND @s world
		SETRANGE @s 3 XY
		SETRANGE @padded 100 z
		SETBIT @bits 70 1
		BITFIELD @bits SET u8 0 255 INCRBY i5 100 1
		BITOP XOR @xor @bits @s
		BITOP NOT @not @s`},
	{"counters", "counters are logged so that counting again gives the same", "Redis: INCR, INCRBYFLOAT", `
		INCR @n
		INCRBY @n 41
		DECR @n
		DECRBY @n 7
		INCRBYFLOAT @f 0.1
		INCRBYFLOAT @f 1e-17
		INCRBYFLOAT @f 3.14159265358979`},
	{"rename", "a rename takes value and expiry along", "Redis: RENAME", `
		SET @from 1 EX 3600
		RENAME @from @to
		SET @over 2
		SET @lost 3 EX 3600
		RENAME @over @lost
		SET @a 1
		RENAMENX @a @b
		SET @a 2
		RENAMENX @a @b`},
	{"expire", "an expiry is logged as a moment", expireSource, `
		SET @a 1
		EXPIRE @a 3600
		SET @b 1
		PEXPIRE @b 3600001
		SET @c 1
		EXPIREAT @c 4102444800
		SET @d 1
		PEXPIREAT @d 4102444800001
		PERSIST @c
		SET @past 1
		EXPIRE @past -1`},
	{"expire.options", "an expiry that is set on conditions is logged where they hold", "Redis: EXPIRE", `
		SET @a 1
		EXPIRE @a 3600 NX
		EXPIRE @a 7200 NX
		EXPIRE @a 60 GT
		EXPIRE @a 1800 LT
		SET @b 1
		EXPIRE @b 60 XX`},
	{"hash", "hashes", "Redis: Hashes", `
		HSET @h a 1 b 2 c 3
		HMSET @h d 4
		HSETNX @h a 9
		HSETNX @h e 5
		HINCRBY @h a 41
		HINCRBYFLOAT @h b 0.3
		HDEL @h c d
		HSET @emptied a 1
		HDEL @emptied a`},
	{"hash.expiry", "fields of a hash that expire by themselves", "Redis: HEXPIRE", `
		HSET @h a 1 b 2
		HEXPIRE @h 3600 FIELDS 1 a`},
	{"list", "lists", "Redis: Lists", `
		RPUSH @l a b c d e f
		LPUSH @l z
		LPUSHX @l y
		RPUSHX @none x
		LINSERT @l BEFORE c between
		LSET @l 0 first
		LREM @l 1 d
		LTRIM @l 0 4
		LPOP @l
		RPOP @l 2
		RPUSH @m 1 2 3
		RPOPLPUSH @m @l
		LMOVE @m @l LEFT RIGHT`},
	{"list.many", "what takes from the first of several lists is logged as what it took", "Redis: LMPOP", `
		RPUSH @l a b c
		LMPOP 2 @none @l RIGHT COUNT 2`},
	{"set-of-members", "sets", "Redis: Sets", `
		SADD @a 1 2 3 four five
		SADD @b 3 four six
		SREM @a 1
		SMOVE @a @b five
		SINTERSTORE @inter @a @b
		SUNIONSTORE @union @a @b
		SDIFFSTORE @diff @b @a`},
	{"set.random", "what is taken at random is logged as what was taken", replicationSource, `
		SADD @a 1 2 3 4 5 6 7 8 9 10 11 12
		SPOP @a
		SPOP @a 4`},
	{"sorted-set", "sorted sets, of any score", "Redis: Sorted sets", `
		ZADD @z 1 a 2 b 3 c 4.5 d -inf least +inf most 1e-300 small 0.1 tenth
		ZADD @z GT CH 5 a 1 b
		ZADD @z LT 1 c
		ZADD @z INCR 0.2 tenth
		ZINCRBY @z 0.3 d
		ZREM @z small
		ZADD @y 1 a 2 b 3 c 4 d 5 e 6 f 7 g
		ZREMRANGEBYSCORE @y 6 7
		ZREMRANGEBYRANK @y 0 0
		ZADD @x 0 a 0 b 0 c
		ZREMRANGEBYLEX @x [a [b
		ZPOPMIN @y
		ZPOPMAX @y
		ZUNIONSTORE @union 2 @z @y WEIGHTS 2 3
		ZINTERSTORE @inter 2 @z @y AGGREGATE MAX`},
	{"sorted-set.store", "results that are stored are logged by what they are of", "Redis: ZRANGESTORE", `
		ZADD @z 1 a 2 b 3 c
		ZADD @y 1 a
		ZRANGESTORE @range @z 0 1
		ZDIFFSTORE @diff 2 @z @y`},
	{"sorted-set.many", "what takes from the first of several is logged as what it took", "Redis: ZMPOP", `
		ZADD @z 1 a 2 b 3 c
		ZMPOP 2 @none @z MAX COUNT 2`},
	{"sort", "a sorted copy is logged", "Redis: SORT", `
		RPUSH @l 3 1 2
		SORT @l STORE @sorted`},
	{"geo", "places are members of a sorted set", "Redis: Geospatial", `
		GEOADD @g 13.361389 38.115556 one 15.087269 37.502669 two
		GEOADD @g XX CH 13.4 38.2 one
		GEORADIUS @g 15 37 200 km STORE @near
		GEORADIUS @g 15 37 200 km STOREDIST @far`},
	{"geo.store", "a search that is stored is logged", "Redis: GEOSEARCHSTORE", `
		GEOADD @g 13.361389 38.115556 one 15.087269 37.502669 two
		GEOSEARCHSTORE @found @g FROMLONLAT 15 37 BYRADIUS 200 km ASC`},
	{"counting", "counts of what is distinct are strings", "Redis: HyperLogLog", `
		PFADD @a x y z
		PFADD @b z w
		PFCOUNT @a @b
		PFMERGE @both @a @b`},
	{"stream", "entries are logged with the names that they were given", streamSource, `
		XADD @s * a 1 b 2
		XADD @s * a 3
		XADD @s 9999999999999-7 c 4
		XDEL @s 9999999999999-7
		XADD @t MAXLEN 3 1-1 a 1
		XADD @t MAXLEN 3 1-2 a 2
		XADD @t MAXLEN 3 1-3 a 3
		XADD @t MAXLEN 3 1-4 a 4
		XADD @u MAXLEN ~ 100 1-1 a 1
		XTRIM @t MINID 1-3
		XSETID @t 5-0
		XADD @none NOMKSTREAM 1-1 a 1
		XADD @emptied 1-1 a 1
		XDEL @emptied 1-1`},
	{"stream.groups", "groups, their consumers and what those have not confirmed", streamSource, `
		XADD @s 1-1 a 1
		XADD @s 1-2 a 2
		XADD @s 1-3 a 3
		XGROUP CREATE @s first 0
		XGROUP CREATE @s second $
		XGROUP CREATE @made third 0 MKSTREAM
		XGROUP CREATECONSUMER @s first idler
		XREADGROUP GROUP first worker COUNT 2 STREAMS @s >
		XACK @s first 1-1
		XCLAIM @s first other 0 1-2
		XGROUP SETID @s second 0
		XREADGROUP GROUP second worker NOACK STREAMS @s >
		XGROUP CREATE @s fourth 0
		XREADGROUP GROUP fourth worker STREAMS @s >
		XGROUP DELCONSUMER @s fourth worker
		XGROUP CREATE @s gone 0
		XGROUP DESTROY @s gone`},
	{"stream.claims", "what is claimed by itself is logged as what was claimed", streamSource, `
		XADD @s 1-1 a 1
		XADD @s 1-2 a 2
		XGROUP CREATE @s g 0
		XREADGROUP GROUP g worker STREAMS @s >
		XDEL @s 1-1
		XAUTOCLAIM @s g other 0 0`},
	{"script", "of a script, what it did is logged", scriptSource, `
		EVAL return{redis.call('SET',KEYS[1],'1'),redis.call('RPUSH',KEYS[2],'a','b')} 2 @a @b
		EVAL return{redis.call('SET',KEYS[1],redis.call('TIME')[2])} 1 @time`},
}

// list returns the trials. What concerns a whole database or server is left out: it would take from others.
func (t *trials) list() []engine.Trial {
	var out []engine.Trial
	undo := map[string]func(context.Context) error{
		// Servers do not send fields that expire to a replica that does not say it knows of them.
		"hash.expiry": func(ctx context.Context) error { return t.run(ctx, "DEL @h") },
	}
	add := func(id, says, source string, do func(ctx context.Context) error) {
		out = append(out, engine.Trial{ID: id, Says: says, Source: source, Do: func(ctx context.Context) error {
			t.done[id]++
			t.enter(id)
			return do(ctx)
		}})
		if fn := undo[id]; fn != nil {
			out[len(out)-1].Undo = func(ctx context.Context) error {
				t.enter(id)
				return fn(ctx)
			}
		}
	}
	for _, c := range commandTrials {
		add(c.id, c.says, c.source, func(ctx context.Context) error { return t.run(ctx, c.lines) })
	}
	add("bytes", "keys, fields and values of any bytes come back as they are, empty ones too", "Redis: Keys and values",
		func(ctx context.Context) error {
			odd := "\x00\xff\r\n\xfe \"'"
			return errors.Join(t.do(ctx, "SET", t.key(odd), odd), t.do(ctx, "SET", t.key("empty"), ""),
				t.do(ctx, "SET", t.key(""), "no name"), t.do(ctx, "HSET", t.key("h"), odd, odd, "", ""),
				t.do(ctx, "RPUSH", t.key("l"), odd, ""), t.do(ctx, "SADD", t.key("s"), odd, ""),
				t.do(ctx, "ZADD", t.key("z"), 1, odd, 2, ""), t.do(ctx, "XADD", t.key("x"), "1-1", odd, odd, "", ""))
		})
	add("large", "a value of 128 KiB is one command", "Redis: Strings", func(ctx context.Context) error {
		return t.do(ctx, "SET", t.key("large"), bytes.Repeat([]byte("0123456789abcdef"), 1<<13))
	})
	add("many", "keys of all encodings: short ones and such as have hundreds of members", "Redis: Memory optimization",
		t.many)
	add("namespace", "a namespace goes with its last key, and comes with its first", "Redis: DEL",
		func(ctx context.Context) error {
			return t.run(ctx, "SET @a 1\nSET @b 2\nDEL @a @b\nSET @c 3\nDEL @c\nSET @d 4")
		})
	add("expired", "a key that has expired is deleted in the log", expireSource, func(ctx context.Context) error {
		return errors.Join(t.run(ctx, "SET @a 1 PX 300\nSET @b 2\nHSET @c f 1\nPEXPIRE @c 300"), t.gone(ctx, "a"),
			t.gone(ctx, "c"))
	})
	add("dump", "what is put as it was dumped is logged whole", "Redis: RESTORE", func(ctx context.Context) error {
		if err := t.run(ctx, "RPUSH @l a b c\nSET @over x"); err != nil {
			return err
		}
		dump, err := t.cl.Dump(ctx, t.key("l")).Result()
		if err != nil {
			return err
		}
		return errors.Join(t.do(ctx, "RESTORE", t.key("copy"), 0, dump),
			t.do(ctx, "RESTORE", t.key("over"), time.Now().Add(time.Hour).UnixMilli(), dump, "REPLACE", "ABSTTL"))
	})
	add("transaction", "a transaction is told as a whole", txnSource, func(ctx context.Context) error {
		_, err := t.cl.TxPipelined(ctx, func(p goredis.Pipeliner) error {
			p.Set(ctx, t.key("a"), 1, 0)
			p.RPush(ctx, t.key("b"), 1, 2)
			p.Do(ctx, "LPUSH", t.key("a"), "of the wrong kind")
			p.Incr(ctx, t.key("a"))
			return nil
		})
		if err != nil && goredis.HasErrorPrefix(err, "WRONGTYPE") {
			return nil // and the others are carried out
		}
		return err
	})
	add("transaction.watched", "one that is given up leaves nothing", txnSource, func(ctx context.Context) error {
		err := t.cl.Watch(ctx, func(tx *goredis.Tx) error {
			if err := t.do(ctx, "SET", t.key("watched"), "by another"); err != nil {
				return err
			}
			_, err := tx.TxPipelined(ctx, func(p goredis.Pipeliner) error {
				p.Set(ctx, t.key("a"), 1, 0)
				return nil
			})
			return err
		}, t.key("watched"))
		if errors.Is(err, goredis.TxFailedErr) {
			return nil
		}
		return errors.Join(err, errors.New("it was not given up"))
	})
	add("blocking", "what waited is logged as what it did then", replicationSource, func(ctx context.Context) error {
		return errors.Join(
			t.blocked(ctx, []any{"BLMOVE", t.key("a"), t.key("b"), "LEFT", "RIGHT", 5},
				[]any{"RPUSH", t.key("a"), "1", "2"}),
			t.blocked(ctx, []any{"BRPOP", t.key("c"), 5}, []any{"RPUSH", t.key("c"), "1", "2"}),
			t.blocked(ctx, []any{"BZPOPMIN", t.key("d"), 5}, []any{"ZADD", t.key("d"), 1, "1", 2, "2"}))
	})
	return out
}

// many makes keys, less than the smallest log keeps, of both the small and the large form that servers keep in memory.
func (t *trials) many(ctx context.Context) error {
	_, err := t.cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
		for _, n := range []int{10, 600} {
			name := func(kind string) string { return t.key(fmt.Sprint(kind, n)) }
			for i := range n {
				p.HSet(ctx, name("hash"), fmt.Sprint("field", i), i)
				p.RPush(ctx, name("list"), fmt.Sprint("element", i))
				p.SAdd(ctx, name("numbers"), i*1_000_003)
				p.SAdd(ctx, name("set"), fmt.Sprint("member", i))
				p.ZAdd(ctx, name("zset"), goredis.Z{Score: float64(i) / 7, Member: i})
				p.Do(ctx, "XADD", name("stream"), fmt.Sprintf("%d-1", i+1), "field", i)
			}
		}
		return nil
	})
	return err
}
