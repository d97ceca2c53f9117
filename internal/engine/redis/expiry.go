package redis

import (
	"bytes"
	"context"
	"math"
	"slices"
	"strconv"
	"strings"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/core/record"
	"dexamen/internal/engine/redis/resp"
)

// While a log is carried out keys must not expire: what follows would be done to
// keys that are gone. All expiries are put off by this long, and set right at the
// end; 2^52 ms are 142,000 years. Scripts of servers count no further than 2^53.
const putOff = int64(1) << 52

// mostPutOff is the latest expiry that is put off; later ones stay as they are, but for
// those that could be taken for one that is.
const mostPutOff = int64(1)<<51 - 1

// later returns an expiry that was put off.
func later(ms int64) int64 {
	switch {
	case ms <= mostPutOff:
		return ms + putOff
	case wasPutOff(ms):
		return putOff + mostPutOff + 1
	}
	return ms
}

// wasPutOff reports whether an expiry is one that was put off.
func wasPutOff(ms int64) bool { return ms >= putOff && ms <= putOff+mostPutOff }

// sum adds and multiplies milliseconds up to the most there are.
func sum(n, unit, base int64) int64 {
	if n > (math.MaxInt64-base)/unit {
		return math.MaxInt64
	}
	return n*unit + base
}

// Defer implements [engine.Deferring].
func (m model) Defer(value []byte) []byte {
	ms, does := expiryMillis(value)
	if !does {
		return value
	}
	return expiring(value, later(ms))
}

// Resume implements [engine.Deferring].
func (m model) Resume(value []byte) []byte {
	ms, does := expiryMillis(value)
	if !does || !wasPutOff(ms) {
		return value
	}
	return expiring(value, ms-putOff)
}

// StripNondeterministic implements [engine.Deferring]. How many entries of a stream a group has read
// is not told to replicas, unless it reads without acknowledging.
func (model) StripNondeterministic(value []byte) []byte {
	if !bytes.Contains(value, []byte("\r\nENTRIESREAD\r\n")) {
		return value
	}
	var out []byte
	err := resp.ReadCommands(value, func(args [][]byte) error {
		if n := len(args); n > 2 && string(args[0]) == "XGROUP" && string(args[n-2]) == "ENTRIESREAD" {
			args = args[:n-2]
		}
		out = resp.AppendCommand(out, args...)
		return nil
	})
	if err != nil {
		return value
	}
	return out
}

// NondeterminismReason implements [engine.Deferring]. From 7.0 on a log tells all expiries as
// points in time.
func (model) NondeterminismReason(version string) string {
	if major, _, _ := strings.Cut(version, "."); len(major) == 1 && major < "7" {
		return "servers before 7.0 tell expiries in their log as distances, which count from when they were captured"
	}
	return ""
}

// expiring returns a value that has an expiry another one, in milliseconds since
// 1970.
func expiring(value []byte, ms int64) []byte {
	i, args := expiryCommand(value)
	if args == nil {
		return value
	}
	args[2] = strconv.AppendInt(nil, ms, 10)
	return resp.AppendCommand(slices.Clone(value[:i]), args...)
}

// deferred returns a command of the log with its expiry put off. Where the log has
// a distance it counts from when the command was captured.
func deferred(args [][]byte, wall int64) [][]byte {
	verb := strings.ToUpper(string(args[0]))
	at := func(i int, unit, base int64) {
		n, err := strconv.ParseInt(string(args[i]), 10, 64)
		if err == nil {
			args[i] = strconv.AppendInt(nil, later(sum(n, unit, base)), 10)
		}
	}
	args = slices.Clone(args)
	switch verb {
	case "PEXPIREAT", "EXPIREAT", "PEXPIRE", "EXPIRE":
		unit, base := int64(1), wall
		if verb[0] == 'E' {
			unit = 1000
		}
		if strings.HasSuffix(verb, "AT") {
			base = 0
		}
		if len(args) > 2 {
			at(2, unit, base)
			args[0] = []byte("PEXPIREAT")
		}
	case "SETEX", "PSETEX":
		if len(args) == 4 {
			at(2, map[bool]int64{true: 1000, false: 1}[verb == "SETEX"], wall)
			return [][]byte{[]byte("SET"), args[1], args[3], []byte("PXAT"), args[2]}
		}
	case "RESTORE", "RESTORE-ASKING":
		if len(args) > 3 && string(args[2]) != "0" {
			abs := slices.ContainsFunc(args[4:], func(a []byte) bool { return strings.EqualFold(string(a), "ABSTTL") })
			if abs {
				at(2, 1, 0)
			} else {
				at(2, 1, wall)
				args = append(args, []byte("ABSTTL"))
			}
		}
		args[0] = []byte("RESTORE") // the other is for slots on the move
	case "SET", "GETEX":
		from := 3
		if verb == "GETEX" {
			from = 2
		}
		for i := from; i+1 < len(args); i++ {
			how := strings.ToUpper(string(args[i]))
			unit, base := int64(1), int64(0)
			switch how {
			case "EX":
				unit, base = 1000, wall
			case "PX":
				base = wall
			case "EXAT":
				unit = 1000
			case "PXAT":
			default:
				continue
			}
			at(i+1, unit, base)
			args[i] = []byte("PXAT")
			i++
		}
	}
	return args
}

// RestoreExpiries implements [engine.Replayer]: expiries that were put off are set right,
// and what has expired goes.
func (w *writer) RestoreExpiries(ctx context.Context, ns record.Namespace) error {
	db, prefix, flat, err := split(ns.Name)
	if err != nil {
		return err
	}
	for _, s := range w.list() {
		addr := w.membersOf(s)[0]
		cl := w.clientDB(addr, db)
		err := w.eachKey(ctx, addr, db, globOf(prefix), func(keys []string) error {
			keys = slices.DeleteFunc(keys,
				func(k string) bool { return isMark([]byte(k)) || !prefixes.Holds(prefix, flat, []byte(k)) })
			if len(keys) == 0 {
				return nil
			}
			times, err := w.expiries(ctx, cl, keys)
			if err != nil {
				return w.explain(err, addr)
			}
			p := cl.Pipeline()
			for i, k := range keys {
				if wasPutOff(times[i]) {
					p.Do(ctx, "PEXPIREAT", k, times[i]-putOff)
				}
			}
			if p.Len() == 0 {
				return nil
			}
			_, err = p.Exec(ctx)
			return w.explain(err, addr)
		})
		if err != nil {
			return w.fail(err)
		}
	}
	return nil
}

// expiriesOf returns when keys expire on servers that tell only for how long they stay: both
// clocks are read within the same millisecond.
var expiriesOf = goredis.NewScript(`local out = {}
local function now() local t = redis.call('TIME') return t[1] * 1000 + math.floor(t[2] / 1000) end
for i, k in ipairs(KEYS) do
	local at, left
	repeat at = now() left = redis.call('PTTL', k) until now() == at
	if left >= 0 then left = left + at end
	out[i] = string.format('%.0f', left)
end
return out`)

// expiries returns when keys expire, in milliseconds since 1970; zero or less for those
// that do not.
func (c *cluster) expiries(ctx context.Context, cl *goredis.Client, keys []string) ([]int64, error) {
	out := make([]int64, len(keys))
	if c.tellsExpiries(cl) {
		times := make([]*goredis.Cmd, len(keys))
		_, err := cl.Pipelined(ctx, func(p goredis.Pipeliner) error {
			for i, k := range keys {
				// The library's own counts nanoseconds, which end in 2262.
				times[i] = p.Do(ctx, "PEXPIRETIME", k)
			}
			return nil
		})
		if err == nil {
			for i := range keys {
				if out[i], err = times[i].Int64(); err != nil {
					return nil, err
				}
			}
			return out, nil
		}
		if !strings.Contains(strings.ToLower(err.Error()), "unknown command") {
			return nil, err
		}
		c.tellsNoExpiries(cl) // servers before 7.0
	}
	var list []string
	var err error
	if c.clustered { // a script keeps to one slot
		for _, k := range keys {
			one, err := expiriesOf.Run(ctx, cl, []string{k}).StringSlice()
			if err != nil {
				return nil, err
			}
			list = append(list, one...)
		}
	} else if list, err = expiriesOf.Run(ctx, cl, keys).StringSlice(); err != nil {
		return nil, err
	}
	for i := range list {
		if out[i], err = strconv.ParseInt(list[i], 10, 64); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (c *cluster) tellsExpiries(cl *goredis.Client) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return !c.untold[cl.Options().Addr]
}

func (c *cluster) tellsNoExpiries(cl *goredis.Client) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.untold == nil {
		c.untold = map[string]bool{}
	}
	c.untold[cl.Options().Addr] = true
}
