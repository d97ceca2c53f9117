package serve

import (
	"bufio"
	"bytes"
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"math"
	"net"
	"strconv"
	"strings"
	"sync"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine/redis"
	"dexamen/internal/engine/redis/resp"
)

// redisServer answers the clients of Redis: the commands that read.
type redisServer struct {
	c     *Content
	o     Options
	place []keyspace

	mu    sync.Mutex
	scans map[uint64]scanPlace // by cursor
	last  uint64
}

// keyspace is a namespace as a server's keys.
type keyspace struct {
	name   string
	db     int
	prefix []byte
	holds  func(key []byte) bool
}

// scanPlace is where a SCAN goes on: in which namespace, after which key.
type scanPlace struct {
	space int
	after []byte
}

// serveRedis answers connections until the context ends.
func serveRedis(ctx context.Context, c *Content, l net.Listener, o Options) error {
	s := &redisServer{c: c, o: o, scans: map[uint64]scanPlace{}}
	for _, name := range c.Names() {
		db, prefix, holds, err := redis.KeyParts(name)
		if err != nil {
			return err
		}
		s.place = append(s.place, keyspace{name, db, prefix, holds})
	}
	return connections(ctx, l, s.talk)
}

// client is one connection.
type client struct {
	*redisServer
	ctx    context.Context
	db     int
	known  bool // it has logged in
	closed bool
	out    []byte
}

// answerError is an error as clients are told of it, its kind first.
type answerError string

func (e answerError) Error() string { return string(e) }

func refused(format string, args ...any) error {
	return answerError("ERR " + fmt.Sprintf(format, args...))
}

func (s *redisServer) talk(ctx context.Context, conn net.Conn) {
	c := &client{redisServer: s, ctx: ctx}
	in := &resp.Wire{R: bufio.NewReaderSize(conn, 64<<10)}
	for !c.closed && ctx.Err() == nil {
		args, err := in.Command()
		if err != nil {
			if errors.Is(err, resp.ErrProtocol) {
				_, _ = fmt.Fprintf(conn, "-ERR %s\r\n", strings.ReplaceAll(err.Error(), "\r\n", " "))
			}
			return
		}
		if len(args) == 0 {
			continue
		}
		c.out = c.out[:0]
		if err := c.answer(args); err != nil {
			var told answerError
			if !errors.As(err, &told) {
				told = answerError("ERR " + err.Error())
			}
			if s.o.Log != nil {
				s.o.Log("refused: %s", told)
			}
			c.out = fmt.Appendf(c.out[:0], "-%s\r\n", strings.NewReplacer("\r", " ", "\n", " ").Replace(string(told)))
		}
		if _, err := conn.Write(c.out); err != nil {
			return
		}
	}
}

// Answers.

func (c *client) ok()            { c.out = append(c.out, "+OK\r\n"...) }
func (c *client) none()          { c.out = append(c.out, "$-1\r\n"...) }
func (c *client) number(n int64) { c.out = fmt.Appendf(c.out, ":%d\r\n", n) }
func (c *client) list(n int)     { c.out = fmt.Appendf(c.out, "*%d\r\n", n) }
func (c *client) text(b []byte) {
	c.out = fmt.Appendf(c.out, "$%d\r\n", len(b))
	c.out = append(append(c.out, b...), '\r', '\n')
}
func (c *client) texts(list [][]byte) {
	c.list(len(list))
	for _, t := range list {
		c.text(t)
	}
}

// score writes a number as servers do: before 7.2 with 17 digits, since then with as few as
// tell it from all others.
func (c *client) score(f float64) []byte {
	switch {
	case math.IsInf(f, 1):
		return []byte("inf")
	case math.IsInf(f, -1):
		return []byte("-inf")
	case f == math.Trunc(f) && math.Abs(f) < 1e17:
		return strconv.AppendInt(nil, int64(f), 10)
	}
	digits := 17
	var major, minor int
	if n, _ := fmt.Sscanf(c.version(), "%d.%d", &major, &minor); n == 2 && (major > 7 || major == 7 && minor >= 2) {
		digits = -1
	}
	return strconv.AppendFloat(nil, f, 'g', digits, 64)
}

// answer answers one command.
func (c *client) answer(args [][]byte) error {
	verb := strings.ToUpper(string(args[0]))
	switch verb {
	case "AUTH":
		return c.auth(args[1:])
	case "HELLO":
		if len(args) > 1 && string(args[1]) != "2" {
			return answerError("NOPROTO this server speaks version 2 of the protocol")
		}
		if len(args) > 4 && strings.EqualFold(string(args[2]), "AUTH") {
			if err := c.auth(args[3:5]); err != nil {
				return err
			}
			c.out = c.out[:0]
		}
		if !c.known {
			return answerError("NOAUTH HELLO must be called with the client already authenticated")
		}
		c.list(8)
		for _, p := range []string{"server", "redis", "version", c.version(), "mode", "standalone", "role", "replica"} {
			c.text([]byte(p))
		}
		return nil
	case "QUIT":
		c.closed = true
		c.ok()
		return nil
	}
	if !c.known {
		return answerError("NOAUTH Authentication required.")
	}
	cmd, ok := redisCommands[verb]
	if !ok {
		return answerError(
			fmt.Sprintf("READONLY %s is not answered: this is %s, which is read only, and not all that reads "+
				"is understood", verb, c.c.Moment))
	}
	if n := len(args) - 1; n < cmd.least || cmd.most >= 0 && n > cmd.most {
		return refused("wrong number of arguments for '%s' command", strings.ToLower(verb))
	}
	return cmd.do(c, verb, args[1:])
}

func (c *client) version() string {
	if v := c.c.Moment.Point.Version; v != "" {
		return v
	}
	return "7.0.0"
}

func (c *client) auth(args [][]byte) error {
	user, password := c.o.User, args
	if len(args) == 2 {
		user, password = string(args[0]), args[1:]
	}
	good := len(password) == 1 && subtle.ConstantTimeCompare(password[0], []byte(c.o.Password)) == 1
	if user != c.o.User || !good {
		return answerError("WRONGPASS invalid username-password pair or user is disabled.")
	}
	c.known = true
	c.ok()
	return nil
}

// value returns what a key holds; nil where there is no such key.
func (c *client) value(key []byte) (*redis.Value, error) {
	for _, p := range c.place {
		short, ok := bytes.CutPrefix(key, p.prefix)
		if p.db != c.db || !ok || !p.holds(key) {
			continue
		}
		state, ok, err := c.c.State(c.ctx, p.name)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		var v *redis.Value
		at := redis.RecordPrefix(short)
		for r, err := range tree.RecordsFrom(c.ctx, c.c.x, state.Root, at) {
			if err != nil {
				return nil, err
			}
			if !bytes.HasPrefix(r.Key, at) {
				break
			}
			if v == nil {
				v = &redis.Value{}
			}
			if err := v.Add(r.Value); err != nil {
				return nil, refused("%v", err)
			}
		}
		if v != nil {
			v.Finish()
			return v, nil
		}
	}
	return nil, nil
}

// typed returns what a key of a type holds; an empty value where there is none.
func (c *client) typed(key []byte, want string) (*redis.Value, error) {
	v, err := c.value(key)
	if err != nil {
		return nil, err
	}
	if v == nil {
		return &redis.Value{}, nil
	}
	if v.Type != want {
		return nil, answerError("WRONGTYPE Operation against a key holding the wrong kind of value")
	}
	return v, nil
}

// each calls fn with the keys of the database from a place on, in order of namespaces and keys.
func (c *client) each(from scanPlace, fn func(at scanPlace, key []byte,
	typ func() (string, error)) (bool, error)) error {
	for i := from.space; i < len(c.place); i++ {
		p := c.place[i]
		if p.db != c.db {
			continue
		}
		state, ok, err := c.c.State(c.ctx, p.name)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		var start, last []byte
		if i == from.space {
			start = from.after
		}
		for r, err := range tree.RecordsFrom(c.ctx, c.c.x, state.Root, start) {
			if err != nil {
				return err
			}
			unit, short, err := redis.KeyOf(r.Key)
			if err != nil {
				return err
			}
			if bytes.Equal(unit, last) || i == from.space && start != nil && bytes.Equal(unit, start) {
				continue // another record of the same key, or the one that it went on from
			}
			last = bytes.Clone(unit)
			key := append(bytes.Clone(p.prefix), short...)
			more, err := fn(scanPlace{i, last}, key, typeOf(r))
			if err != nil || !more {
				return err
			}
		}
	}
	return nil
}

// typeOf returns the type of a key by the first of its records.
func typeOf(r record.Record) func() (string, error) {
	value := bytes.Clone(r.Value)
	return func() (string, error) {
		var v redis.Value
		err := v.Add(value)
		return v.Type, err
	}
}

// scan answers SCAN: so many keys, and where to go on.
func (c *client) scan(args [][]byte) error {
	id, err := strconv.ParseUint(string(args[0]), 10, 64)
	if err != nil {
		return refused("invalid cursor")
	}
	count, pattern, typ := int64(10), "", ""
	for i := 1; i < len(args); i += 2 {
		if i+1 >= len(args) {
			return refused("syntax error")
		}
		v := string(args[i+1])
		switch strings.ToUpper(string(args[i])) {
		case "MATCH":
			pattern = v
		case "TYPE":
			typ = strings.ToLower(v)
		case "COUNT":
			if count, err = strconv.ParseInt(v, 10, 64); err != nil || count < 1 {
				return refused("value is not an integer or out of range")
			}
		default:
			return refused("syntax error")
		}
	}
	c.mu.Lock()
	from, known := c.scans[id]
	c.mu.Unlock()
	if id != 0 && !known {
		return refused("cursor %d is unknown, or too old", id)
	}
	var keys [][]byte
	var at scanPlace
	seen := int64(0)
	more := false
	err = c.each(from, func(p scanPlace, key []byte, kind func() (string, error)) (bool, error) {
		if seen >= count {
			more = true
			return false, nil
		}
		seen++
		at = p
		if pattern != "" && !glob(pattern, string(key)) {
			return true, nil
		}
		if typ != "" {
			if t, err := kind(); err != nil || t != typ {
				return err == nil, err
			}
		}
		keys = append(keys, key)
		return true, nil
	})
	if err != nil {
		return err
	}
	next := uint64(0)
	if more {
		next = c.keepScan(at)
	}
	c.list(2)
	c.text(strconv.AppendUint(nil, next, 10))
	c.texts(keys)
	return nil
}

// keepScan remembers where a scan goes on.
func (s *redisServer) keepScan(at scanPlace) uint64 {
	const most = 100_000
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.scans) >= most {
		clear(s.scans)
	}
	s.last++
	s.scans[s.last] = at
	return s.last
}

// glob reports whether a key fits a pattern of servers: * ? [a-z] [^a] and \ before what counts
// as itself.
func glob(pattern, key string) bool {
	for pattern != "" {
		switch pattern[0] {
		case '*':
			for pattern != "" && pattern[0] == '*' {
				pattern = pattern[1:]
			}
			if pattern == "" {
				return true
			}
			for i := range len(key) + 1 {
				if glob(pattern, key[i:]) {
					return true
				}
			}
			return false
		case '?':
			if key == "" {
				return false
			}
			pattern, key = pattern[1:], key[1:]
		case '[':
			end := strings.IndexByte(pattern[1:], ']') + 1
			if key == "" || end <= 0 {
				return false
			}
			if !inSet(pattern[1:end], key[0]) {
				return false
			}
			pattern, key = pattern[end+1:], key[1:]
		default:
			if pattern[0] == '\\' && len(pattern) > 1 {
				pattern = pattern[1:]
			}
			if key == "" || key[0] != pattern[0] {
				return false
			}
			pattern, key = pattern[1:], key[1:]
		}
	}
	return key == ""
}

func inSet(set string, c byte) bool {
	not := strings.HasPrefix(set, "^")
	set = strings.TrimPrefix(set, "^")
	in := false
	for i := 0; i < len(set); i++ {
		if i+2 < len(set) && set[i+1] == '-' {
			in = in || set[i] <= c && c <= set[i+2]
			i += 2
			continue
		}
		in = in || set[i] == c
	}
	return in != not
}

// left returns how long a key had to live at the moment, in milliseconds.
func (c *client) left(v *redis.Value) int64 {
	if v.Expires == 0 {
		return -1
	}
	return max(0, v.Expires-c.c.Moment.Time.UnixMilli())
}

func (c *client) info() []byte {
	var b strings.Builder
	fmt.Fprintf(&b,
		"# Server\r\nredis_version:%s\r\nredis_mode:standalone\r\ndexamen:%s\r\nmoment:%s\r\n\r\n# Replication\r\n"+
			"role:slave\r\nmaster_link_status:down\r\nslave_read_only:1\r\n", c.version(), c.o.Version, c.c.Moment)
	return []byte(b.String())
}

// size counts the keys of the database.
func (c *client) size() (n int64, err error) {
	err = c.each(scanPlace{}, func(scanPlace, []byte, func() (string, error)) (bool, error) { n++; return true, nil })
	return n, err
}

// bounds returns the elements from one to another of a list of some length; negative ones count
// from the end. Of texts an end before the beginning stands for the first byte.
func bounds(args [][]byte, n int, text bool) (from, to int, err error) {
	var list [2]int64
	for i := range list {
		if list[i], err = strconv.ParseInt(string(args[i]), 10, 64); err != nil {
			return 0, 0, refused("value is not an integer or out of range")
		}
	}
	if text && list[0] < 0 && list[1] < 0 && list[0] > list[1] {
		return 0, 0, nil
	}
	for i := range list {
		if list[i] < 0 {
			list[i] += int64(n)
		}
	}
	list[0] = max(0, list[0])
	if text {
		list[1] = max(0, list[1])
	}
	list[1] = min(list[1], int64(n)-1)
	if list[0] > list[1] || list[0] >= int64(n) {
		return 0, 0, nil
	}
	return int(list[0]), int(list[1]) + 1, nil
}
