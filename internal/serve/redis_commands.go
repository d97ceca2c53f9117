package serve

import (
	"bytes"
	"cmp"
	"math"
	"slices"
	"strconv"
	"strings"

	"dexamen/internal/engine/redis"
)

// redisCommand answers a command of so many arguments; most -1 is any number.
type redisCommand struct {
	least, most int
	do          func(c *client, verb string, args [][]byte) error
}

var redisCommands map[string]redisCommand

func init() {
	redisCommands = map[string]redisCommand{
		"PING": {0, 1, ping}, "ECHO": {1, 1, ping}, "SELECT": {1, 1, selectDB}, "INFO": {0, -1, info},
		"COMMAND": {0, -1, emptyList}, "CLIENT": {1, -1, clientCommand}, "CONFIG": {2, -1, emptyList},
		"DBSIZE": {0, 0, dbSize}, "KEYS": {1, 1, keysCommand}, "SCAN": {1, -1, scanCommand},
		"EXISTS": {1, -1, exists}, "TYPE": {1, 1, typeCommand},
		"TTL": {1, 1, ttl}, "PTTL": {1, 1, ttl}, "EXPIRETIME": {1, 1, ttl}, "PEXPIRETIME": {1, 1, ttl},
		"GET": {1, 1, get}, "STRLEN": {1, 1, get}, "GETRANGE": {3, 3, get}, "MGET": {1, -1, mget},
		"HGET": {2, 2, hash}, "HMGET": {2, -1, hash}, "HGETALL": {1, 1, hash}, "HKEYS": {1, 1, hash},
		"HVALS": {1, 1, hash},
		"HLEN":  {1, 1, hash}, "HEXISTS": {2, 2, hash}, "HSCAN": {2, -1, inner},
		"LLEN": {1, 1, listCommand}, "LRANGE": {3, 3, listCommand}, "LINDEX": {2, 2, listCommand},
		"SMEMBERS": {1, 1, set}, "SCARD": {1, 1, set}, "SISMEMBER": {2, 2, set}, "SMISMEMBER": {2, -1, set},
		"SSCAN": {2, -1, inner}, "ZCARD": {1, 1, sortedSet}, "ZSCORE": {2, 2, sortedSet}, "ZRANK": {2, 2, sortedSet},
		"ZREVRANK": {2, 2, sortedSet}, "ZCOUNT": {3, 3, sortedSet}, "ZRANGE": {3, -1, zrange},
		"ZREVRANGE": {3, 4, zrange}, "ZRANGEBYSCORE": {3, -1, zrange}, "ZREVRANGEBYSCORE": {3, -1, zrange},
		"ZSCAN": {2, -1, inner},
		"XLEN":  {1, 1, stream}, "XRANGE": {3, 5, stream}, "XREVRANGE": {3, 5, stream},
	}
}

func ping(c *client, verb string, args [][]byte) error {
	if len(args) == 1 {
		c.text(args[0])
		return nil
	}
	c.out = append(c.out, "+PONG\r\n"...)
	return nil
}

func selectDB(c *client, _ string, args [][]byte) error {
	n, err := strconv.Atoi(string(args[0]))
	if err != nil || n < 0 {
		return refused("value is not an integer or out of range")
	}
	c.db = n
	c.ok()
	return nil
}

func info(c *client, _ string, _ [][]byte) error {
	c.text(c.info())
	return nil
}

func emptyList(c *client, verb string, args [][]byte) error {
	if verb == "CONFIG" && !strings.EqualFold(string(args[0]), "GET") {
		return answerError("READONLY this is " + c.c.Moment.String() + ", which is read only")
	}
	c.list(0)
	return nil
}

// clientCommand answers what drivers tell of themselves.
func clientCommand(c *client, _ string, args [][]byte) error {
	switch sub := strings.ToUpper(string(args[0])); sub {
	case "SETNAME", "SETINFO":
		c.ok()
	case "GETNAME":
		c.none()
	case "ID":
		c.number(1)
	default:
		return refused("CLIENT %s is not answered here", sub)
	}
	return nil
}

func dbSize(c *client, _ string, _ [][]byte) error {
	n, err := c.size()
	c.number(n)
	return err
}

func keysCommand(c *client, _ string, args [][]byte) error {
	const most = 1_000_000
	var keys [][]byte
	err := c.each(scanPlace{}, func(_ scanPlace, key []byte, _ func() (string, error)) (bool, error) {
		if glob(string(args[0]), string(key)) {
			keys = append(keys, key)
		}
		if len(keys) > most {
			return false, refused("more than %d keys fit; use SCAN", most)
		}
		return true, nil
	})
	c.texts(keys)
	return err
}

func scanCommand(c *client, _ string, args [][]byte) error { return c.scan(args) }

func exists(c *client, _ string, args [][]byte) error {
	n := int64(0)
	for _, k := range args {
		v, err := c.value(k)
		if err != nil {
			return err
		}
		if v != nil {
			n++
		}
	}
	c.number(n)
	return nil
}

func typeCommand(c *client, _ string, args [][]byte) error {
	v, err := c.value(args[0])
	if err != nil {
		return err
	}
	t := "none"
	if v != nil {
		t = v.Type
	}
	c.out = append(append(append(c.out, '+'), t...), '\r', '\n')
	return nil
}

// ttl is relative to the moment: of what had a minute to live then it says so.
func ttl(c *client, verb string, args [][]byte) error {
	v, err := c.value(args[0])
	switch {
	case err != nil:
		return err
	case v == nil:
		c.number(-2)
		return nil
	case v.Expires == 0:
		c.number(-1)
		return nil
	}
	n := c.left(v)
	if strings.HasSuffix(verb, "EXPIRETIME") {
		n = v.Expires
	}
	if !strings.HasPrefix(verb, "P") {
		n = (n + 500) / 1000
		if verb == "EXPIRETIME" {
			n = v.Expires / 1000
		}
	}
	c.number(n)
	return nil
}

func get(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "string")
	switch {
	case err != nil:
		return err
	case verb == "STRLEN":
		c.number(int64(len(v.String)))
	case verb == "GETRANGE":
		from, to, err := bounds(args[1:], len(v.String), true)
		if err != nil {
			return err
		}
		c.text(v.String[from:to])
	case v.Type == "":
		c.none()
	default:
		c.text(v.String)
	}
	return nil
}

func mget(c *client, _ string, args [][]byte) error {
	c.list(len(args))
	for _, k := range args {
		v, err := c.value(k)
		switch {
		case err != nil:
			return err
		case v == nil || v.Type != "string":
			c.none()
		default:
			c.text(v.String)
		}
	}
	return nil
}

// fieldOf returns a field of a hash.
func fieldOf(v *redis.Value, name []byte) ([]byte, bool) {
	for i := 0; i+1 < len(v.Fields); i += 2 {
		if bytes.Equal(v.Fields[i], name) {
			return v.Fields[i+1], true
		}
	}
	return nil, false
}

func hash(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "hash")
	if err != nil {
		return err
	}
	switch verb {
	case "HGET":
		if f, ok := fieldOf(v, args[1]); ok {
			c.text(f)
		} else {
			c.none()
		}
	case "HEXISTS":
		_, ok := fieldOf(v, args[1])
		c.number(map[bool]int64{true: 1}[ok])
	case "HMGET":
		c.list(len(args) - 1)
		for _, name := range args[1:] {
			if f, ok := fieldOf(v, name); ok {
				c.text(f)
			} else {
				c.none()
			}
		}
	case "HGETALL":
		c.texts(v.Fields)
	case "HLEN":
		c.number(int64(len(v.Fields) / 2))
	default: // HKEYS, HVALS
		c.list(len(v.Fields) / 2)
		at := map[bool]int{true: 1}[verb == "HVALS"]
		for i := at; i < len(v.Fields); i += 2 {
			c.text(v.Fields[i])
		}
	}
	return nil
}

func listCommand(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "list")
	if err != nil {
		return err
	}
	switch verb {
	case "LLEN":
		c.number(int64(len(v.Items)))
	case "LRANGE":
		from, to, err := bounds(args[1:], len(v.Items), false)
		if err != nil {
			return err
		}
		c.texts(v.Items[from:to])
	case "LINDEX":
		n, err := strconv.Atoi(string(args[1]))
		if err != nil {
			return refused("value is not an integer or out of range")
		}
		if n < 0 {
			n += len(v.Items)
		}
		if n < 0 || n >= len(v.Items) {
			c.none()
		} else {
			c.text(v.Items[n])
		}
	}
	return nil
}

func set(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "set")
	if err != nil {
		return err
	}
	member := func(m []byte) int64 {
		return map[bool]int64{true: 1}[slices.ContainsFunc(v.Items, func(i []byte) bool { return bytes.Equal(i, m) })]
	}
	switch verb {
	case "SMEMBERS":
		c.texts(v.Items)
	case "SCARD":
		c.number(int64(len(v.Items)))
	case "SISMEMBER":
		c.number(member(args[1]))
	case "SMISMEMBER":
		c.list(len(args) - 1)
		for _, m := range args[1:] {
			c.number(member(m))
		}
	}
	return nil
}

func sortedSet(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "zset")
	if err != nil {
		return err
	}
	switch verb {
	case "ZCARD":
		c.number(int64(len(v.Scored)))
		return nil
	case "ZCOUNT":
		in, err := scoreRange(args[1], args[2])
		if err != nil {
			return err
		}
		n := int64(0)
		for _, s := range v.Scored {
			if in(s.Score) {
				n++
			}
		}
		c.number(n)
		return nil
	}
	i := slices.IndexFunc(v.Scored, func(s redis.Scored) bool { return bytes.Equal(s.Member, args[1]) })
	switch {
	case i < 0:
		c.none()
	case verb == "ZSCORE":
		c.text(c.score(v.Scored[i].Score))
	case verb == "ZREVRANK":
		c.number(int64(len(v.Scored) - 1 - i))
	default:
		c.number(int64(i))
	}
	return nil
}

// scoreRange reads the bounds of scores: 1, (1, -inf.
func scoreRange(low, high []byte) (func(float64) bool, error) {
	read := func(b []byte) (f float64, open bool, err error) {
		s, open := strings.CutPrefix(string(b), "(")
		if f, err = strconv.ParseFloat(s, 64); err != nil || math.IsNaN(f) {
			return 0, false, refused("min or max is not a float")
		}
		return f, open, nil
	}
	lo, loOpen, err := read(low)
	if err != nil {
		return nil, err
	}
	hi, hiOpen, err := read(high)
	return func(f float64) bool {
		return (f > lo || f == lo && !loOpen) && (f < hi || f == hi && !hiOpen)
	}, err
}

// zrange answers the ranges of sorted sets, by rank or by score.
func zrange(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "zset")
	if err != nil {
		return err
	}
	byScore, back := strings.HasSuffix(verb, "BYSCORE"), strings.HasPrefix(verb, "ZREV")
	with, skip, limit := false, 0, -1
	for i := 3; i < len(args); i++ {
		switch o := strings.ToUpper(string(args[i])); {
		case o == "WITHSCORES":
			with = true
		case o == "REV" && verb == "ZRANGE":
			back = true
		case o == "BYSCORE" && verb == "ZRANGE":
			byScore = true
		case o == "LIMIT" && i+2 < len(args):
			var err1, err2 error
			skip, err1 = strconv.Atoi(string(args[i+1]))
			limit, err2 = strconv.Atoi(string(args[i+2]))
			if i += 2; err1 != nil || err2 != nil || skip < 0 {
				return refused("value is not an integer or out of range")
			}
		default:
			return refused("%s is not understood here", o)
		}
	}
	list := slices.Clone(v.Scored)
	if back {
		slices.Reverse(list)
	}
	switch {
	case byScore:
		low, high := args[1], args[2]
		if back {
			low, high = high, low
		}
		in, err := scoreRange(low, high)
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(s redis.Scored) bool { return !in(s.Score) })
		list = list[min(skip, len(list)):]
		if limit >= 0 {
			list = list[:min(limit, len(list))]
		}
	case limit >= 0 || skip > 0:
		return refused("syntax error, LIMIT is only supported in combination with BYSCORE")
	default:
		from, to, err := bounds(args[1:3], len(list), false)
		if err != nil {
			return err
		}
		list = list[from:to]
	}
	n := len(list)
	if with {
		n *= 2
	}
	c.list(n)
	for _, s := range list {
		c.text(s.Member)
		if with {
			c.text(c.score(s.Score))
		}
	}
	return nil
}

// inner answers HSCAN, SSCAN and ZSCAN: all at once, as servers may.
func inner(c *client, verb string, args [][]byte) error {
	typ := map[string]string{"HSCAN": "hash", "SSCAN": "set", "ZSCAN": "zset"}[verb]
	v, err := c.typed(args[0], typ)
	if err != nil {
		return err
	}
	pattern := "*"
	for i := 2; i < len(args); i += 2 {
		switch {
		case i+1 < len(args) && strings.EqualFold(string(args[i]), "MATCH"):
			pattern = string(args[i+1])
		case i+1 < len(args) && strings.EqualFold(string(args[i]), "COUNT"):
		default:
			return refused("syntax error")
		}
	}
	var out [][]byte
	add := func(name []byte, more ...[]byte) {
		if glob(pattern, string(name)) {
			out = append(append(out, name), more...)
		}
	}
	for i := 0; i+1 < len(v.Fields); i += 2 {
		add(v.Fields[i], v.Fields[i+1])
	}
	for _, m := range v.Items {
		add(m)
	}
	for _, s := range v.Scored {
		add(s.Member, c.score(s.Score))
	}
	c.list(2)
	c.text([]byte("0"))
	c.texts(out)
	return nil
}

// streamID is the id of an entry: milliseconds, and a number among those.
type streamID struct{ ms, n uint64 }

func (a streamID) compare(b streamID) int {
	return cmp.Or(cmp.Compare(a.ms, b.ms), cmp.Compare(a.n, b.n))
}

// readID reads an id as a range has it; unset is what stands for a number that is not written.
func readID(b []byte, unset uint64) (id streamID, open bool, err error) {
	s, open := strings.CutPrefix(string(b), "(")
	switch s {
	case "-":
		return streamID{}, open, nil
	case "+":
		return streamID{math.MaxUint64, math.MaxUint64}, open, nil
	}
	head, tail, ok := strings.Cut(s, "-")
	id.ms, err = strconv.ParseUint(head, 10, 64)
	if id.n = unset; err == nil && ok {
		id.n, err = strconv.ParseUint(tail, 10, 64)
	}
	if err != nil {
		return id, open, refused("Invalid stream ID specified as stream command argument")
	}
	return id, open, nil
}

func stream(c *client, verb string, args [][]byte) error {
	v, err := c.typed(args[0], "stream")
	if err != nil {
		return err
	}
	if verb == "XLEN" {
		c.number(int64(len(v.Entries)))
		return nil
	}
	low, high := args[1], args[2]
	if verb == "XREVRANGE" {
		low, high = high, low
	}
	from, fromOpen, err := readID(low, 0)
	if err != nil {
		return err
	}
	to, toOpen, err := readID(high, math.MaxUint64)
	if err != nil {
		return err
	}
	limit := -1
	if len(args) > 3 {
		if len(args) != 5 || !strings.EqualFold(string(args[3]), "COUNT") {
			return refused("syntax error")
		}
		if limit, err = strconv.Atoi(string(args[4])); err != nil {
			return refused("value is not an integer or out of range")
		}
		if limit <= 0 {
			c.out = append(c.out, "*-1\r\n"...)
			return nil
		}
	}
	var list []redis.Entry
	for _, e := range v.Entries {
		id, _, err := readID(e.ID, 0)
		if err != nil {
			return err
		}
		a, b := id.compare(from), id.compare(to)
		if (a > 0 || a == 0 && !fromOpen) && (b < 0 || b == 0 && !toOpen) {
			list = append(list, e)
		}
	}
	if verb == "XREVRANGE" {
		slices.Reverse(list)
	}
	if limit >= 0 {
		list = list[:min(limit, len(list))]
	}
	c.list(len(list))
	for _, e := range list {
		c.list(2)
		c.text(e.ID)
		c.texts(e.Fields)
	}
	return nil
}
