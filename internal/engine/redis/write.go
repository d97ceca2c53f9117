package redis

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/remedy"
	"dexamen/internal/engine/redis/resp"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// markKey is a hash that names what is being written, with who writes it.
const markKey = "dexamen.restoring"

// marks are keys of Dexamen's own.
var marks = []string{markKey, benchKey, holderKey}

func isMark(key []byte) bool { return slices.Contains(marks, string(key)) }

// writer implements [engine.InPlaceWriter], [engine.Replayer] and [engine.SettingsWriter].
type writer struct {
	*cluster
	old   bool // servers before 7.0, which know less of streams
	older bool // servers before 6.2, which know no SET with a time

	mu    sync.Mutex
	fresh map[string]bool // namespaces that were empty
	free  map[string][]*pipe
}

// Writer implements [engine.Cluster].
func (c *cluster) Writer(ctx context.Context) (engine.Writer, error) {
	w := &writer{cluster: c, fresh: map[string]bool{}, free: map[string][]*pipe{}}
	for _, s := range c.list() {
		in, err := c.info(ctx, c.membersOf(s)[0])
		if err != nil {
			return nil, c.fail(err)
		}
		major, minor := versionOf(in["redis_version"])
		w.old = w.old || major < 7
		w.older = w.older || major < 6 || major == 6 && minor < 2
	}
	return w, nil
}

// versionOf returns the first two numbers of a version.
func versionOf(text string) (major, minor int) {
	f := strings.SplitN(text, ".", 3)
	major, _ = strconv.Atoi(f[0])
	if len(f) > 1 {
		minor, _ = strconv.Atoi(f[1])
	}
	return major, minor
}

// pipe is a connection on which many commands are sent before their answers are
// read.
type pipe struct {
	*link
	db  int
	buf []byte
	n   int // answers to come
}

func (w *writer) pipe(ctx context.Context, addr string) (*pipe, error) {
	w.mu.Lock()
	if list := w.free[addr]; len(list) > 0 {
		p := list[len(list)-1]
		w.free[addr] = list[:len(list)-1]
		w.mu.Unlock()
		return p, nil
	}
	w.mu.Unlock()
	l, err := w.dialPlain(ctx, addr)
	if err != nil {
		return nil, err
	}
	return &pipe{link: l}, nil
}

func (w *writer) giveBack(addr string, p *pipe) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.free[addr] = append(w.free[addr], p)
}

// inDB turns a pipe to a database.
func (p *pipe) inDB(db int) {
	if p.db != db {
		p.buf = resp.AppendCommand(p.buf, resp.Command("SELECT", db)...)
		p.n++
		p.db = db
	}
}

// flush sends what is gathered and reads the answers; the first that is an error
// is returned, with its number.
func (p *pipe) flush() (failed int, err error) {
	failed = -1
	n := p.n
	p.n = 0
	if n == 0 {
		return failed, nil
	}
	sent := make(chan error, 1)
	buf := p.buf
	go func() {
		_ = p.SetWriteDeadline(time.Now().Add(silence))
		_, err := p.Write(buf)
		sent <- err
	}()
	for i := range n {
		msg, rerr := p.reply(0)
		if rerr != nil {
			_ = p.Close()
			<-sent //nolint:errcheck // it ends with the connection
			return i, rerr
		}
		if msg != "" && err == nil {
			failed, err = i, errors.New(msg)
		}
	}
	if serr := <-sent; serr != nil && err == nil {
		err = serr
	}
	p.buf = p.buf[:0]
	return failed, err
}

// reply reads one answer; one that is an error gives its text.
func (p *pipe) reply(depth int) (string, error) {
	if p.R.Buffered() == 0 {
		_ = p.SetReadDeadline(time.Now().Add(silence))
	}
	if c, err := p.R.Peek(1); err == nil && (c[0] == '+' || c[0] == ':') {
		b, err := p.R.ReadSlice('\n') // most are such, and nothing of them is wanted
		p.N += int64(len(b))
		if err != nil {
			return "", resp.Eof(err)
		}
		return "", nil
	}
	s, err := p.Line()
	if err != nil {
		return "", err
	}
	if s == "" || depth > 8 {
		return "", fmt.Errorf("%w: an empty answer", resp.ErrProtocol)
	}
	switch s[0] {
	case '+', ':':
		return "", nil
	case '-':
		return s[1:], nil
	case '$':
		n, err := resp.Number(s, '$')
		if err != nil || n < 0 {
			return "", err
		}
		_, err = p.R.Discard(n + 2)
		return "", err
	case '*':
		n, err := resp.Number(s, '*')
		if err != nil {
			return "", err
		}
		first := ""
		for range max(n, 0) {
			msg, err := p.reply(depth + 1)
			if err != nil {
				return "", err
			}
			if first == "" {
				first = msg
			}
		}
		return first, nil
	}
	return "", fmt.Errorf("%w: answer %q", resp.ErrProtocol, s[:min(len(s), 40)])
}

// addrOf returns the primary that serves a key.
func (c *cluster) addrOf(key []byte) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.shards) > 1 {
		slot := slotOf(key)
		for _, s := range c.shards {
			for _, r := range s.slots {
				if slot >= r[0] && slot <= r[1] {
					return s.members[0]
				}
			}
		}
	}
	return c.shards[0].members[0]
}

// slotOf returns the slot of a key: CRC16 of the key, or of what is in its first
// braces, modulo 16384.
func slotOf(key []byte) int {
	if i := bytes.IndexByte(key, '{'); i >= 0 {
		if j := bytes.IndexByte(key[i+1:], '}'); j > 0 {
			key = key[i+1 : i+1+j]
		}
	}
	var crc uint16
	for _, b := range key {
		crc ^= uint16(b) << 8
		for range 8 {
			if crc&0x8000 != 0 {
				crc = crc<<1 ^ 0x1021
			} else {
				crc <<= 1
			}
		}
	}
	return int(crc % 16384)
}

// Reserve implements [engine.Writer].
func (w *writer) Reserve(ctx context.Context, names []string) (*engine.Claims, error) {
	c, err := engine.ClaimNames(ctx, w, names)
	return c, w.fail(err)
}

// Claim implements [engine.ClaimTable].
func (w *writer) Claim(ctx context.Context, name string) (string, error) {
	addr := w.addrOf([]byte(markKey))
	v, err := w.client(addr).HGet(ctx, markKey, name).Result()
	if errors.Is(err, goredis.Nil) {
		return "", nil
	}
	return v, w.explain(err, addr)
}

// swapped changes a field of a hash where it is what it was taken for.
var swapped = goredis.NewScript(`local v = redis.call('HGET', KEYS[1], ARGV[1])
if not ((v == false and ARGV[2] == '') or v == ARGV[2]) then return 0 end
if ARGV[3] == '' then redis.call('HDEL', KEYS[1], ARGV[1]) else redis.call('HSET', KEYS[1], ARGV[1], ARGV[3]) end
return 1`)

// SwapClaim implements [engine.ClaimTable].
func (w *writer) SwapClaim(ctx context.Context, name, was, now string) (bool, error) {
	addr := w.addrOf([]byte(markKey))
	n, err := swapped.Run(ctx, w.client(addr), []string{markKey}, name, was, now).Int()
	return n == 1, w.explain(err, addr)
}

// Stages implements [engine.Writer].
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	addr := w.addrOf([]byte(markKey))
	all, err := w.client(addr).HGetAll(ctx, markKey).Result()
	var list []string
	for name, value := range all {
		if engine.CutShort(value) {
			list = append(list, name)
		}
	}
	slices.Sort(list)
	return list, w.fail(w.explain(err, addr))
}

// Begin implements [engine.InPlaceWriter].
func (w *writer) Begin(ctx context.Context, ns record.Namespace,
	_ func(string, func(record.Record) error) error) error {
	n, err := w.Occupied(ctx, ns)
	w.mu.Lock()
	w.fresh[ns.Name] = n == 0
	w.mu.Unlock()
	return err
}

// End implements [engine.InPlaceWriter].
func (w *writer) End(context.Context, record.Namespace) error { return nil }

// Occupied implements [engine.InPlaceWriter].
func (w *writer) Occupied(ctx context.Context, ns record.Namespace) (int64, error) {
	if ns.Kind == record.KindSettings {
		return 0, nil
	}
	db, prefix, flat, err := split(ns.Name)
	if err != nil {
		return 0, err
	}
	if len(prefix) > 0 || flat {
		n, err := w.sweep(ctx, db, prefix, flat, false, func(string) bool { return true })
		return n, w.fail(err)
	}
	n := int64(0)
	for _, s := range w.list() {
		addr := w.membersOf(s)[0]
		all, err := w.clientDB(addr, db).DBSize(ctx).Result()
		if err != nil {
			return 0, w.fail(w.explain(err, addr))
		}
		n += all
	}
	if n > 0 && db == 0 {
		there, err := w.marksAt(ctx, w.addrOf([]byte(markKey)))
		if err != nil {
			return 0, w.fail(err)
		}
		n -= there
	}
	return n, nil
}

// Put implements [engine.InPlaceWriter]. A unit begins with its first record, which
// takes the place of what is there.
func (w *writer) Put(ctx context.Context, ns record.Namespace, recs []record.Record) error {
	db, prefix, _, err := split(ns.Name)
	if err != nil {
		return err
	}
	w.mu.Lock()
	fresh := w.fresh[ns.Name]
	w.mu.Unlock()
	s := w.newSender(ctx)
	defer s.close()
	var key []byte
	for _, r := range recs {
		unit := 0
		if key, unit, err = appendKeyOf(append(key[:0], prefix...), r.Key); err != nil {
			return err
		}
		p, err := s.to(w.addrOf(key), db)
		if err != nil {
			return err
		}
		verb, n, err := resp.CountCommands(r.Value)
		if err != nil {
			return fmt.Errorf("%s: record %x: %w", ns.Name, r.Key, err)
		}
		first := unit == len(r.Key)
		whole := first && (!fresh || !again(verb))
		if whole {
			p.add(multi)
			p.add([][]byte{verbDel, key})
		}
		switch {
		case string(verb) == typeVerb: // a large key begins; its parts follow
		case len(prefix) == 0 && !w.old: // keys are called as they are kept
			p.buf, p.n = append(p.buf, r.Value...), p.n+n
		default:
			err = resp.ReadCommands(r.Value, func(args [][]byte) error {
				if w.old {
					args = forOld(args)
				}
				if i := keyArg(args); i < len(args) {
					args[i] = key
				}
				p.add(args)
				return nil
			})
		}
		if err != nil {
			return fmt.Errorf("%s: record %x: %w", ns.Name, r.Key, err)
		}
		if whole {
			p.add(exec)
		}
		if len(p.buf) > 1<<20 {
			if err := s.flush(p); err != nil {
				return fmt.Errorf("%s: %w", ns.Name, err)
			}
		}
	}
	if err := s.flushAll(); err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	return nil
}

var multi, exec, verbDel = resp.Command("MULTI"), resp.Command("EXEC"), []byte("DEL")

// again reports whether the commands of a record, of which verb is the first, do no harm
// when they are carried out twice.
func again(verb []byte) bool {
	switch string(verb) {
	case "SET", "HSET", "SADD", "ZADD":
		return true
	}
	return false
}

// forOld leaves out what servers before 7.0 do not know.
func forOld(args [][]byte) [][]byte {
	switch string(args[0]) {
	case "XSETID":
		return args[:3]
	case "XGROUP":
		if len(args) > 5 && string(args[5]) == "ENTRIESREAD" {
			return args[:5]
		}
	}
	return args
}

// Remove implements [engine.InPlaceWriter]; keys are those of units.
func (w *writer) Remove(ctx context.Context, ns record.Namespace, keys [][]byte) error {
	db, prefix, _, err := split(ns.Name)
	if err != nil {
		return err
	}
	s := w.newSender(ctx)
	defer s.close()
	for _, k := range keys {
		_, short, err := unitOf(k)
		if err != nil {
			return err
		}
		key := append(bytes.Clone(prefix), short...)
		p, err := s.to(w.addrOf(key), db)
		if err != nil {
			return err
		}
		p.add(resp.Command("UNLINK", key))
	}
	return s.flushAll()
}

func (p *pipe) add(args [][]byte) {
	p.buf = resp.AppendCommand(p.buf, args...)
	p.n++
}

// sender gathers commands for several servers.
type sender struct {
	w     *writer
	ctx   context.Context
	pipes map[string]*pipe
	addr  map[*pipe]string
	stops []func() bool
	bad   bool
}

func (w *writer) newSender(ctx context.Context) *sender {
	return &sender{w: w, ctx: ctx, pipes: map[string]*pipe{}, addr: map[*pipe]string{}}
}

func (s *sender) to(addr string, db int) (*pipe, error) {
	p := s.pipes[addr]
	if p == nil {
		var err error
		if p, err = s.w.pipe(s.ctx, addr); err != nil {
			return nil, s.w.fail(err)
		}
		s.pipes[addr], s.addr[p] = p, addr
		s.stops = append(s.stops, context.AfterFunc(s.ctx, func() { _ = p.Close() }))
	}
	p.inDB(db)
	return p, nil
}

func (s *sender) flush(p *pipe) error {
	_, err := p.flush()
	if err == nil {
		return nil
	}
	s.bad = true
	err = s.w.explain(cause(s.ctx, err), s.addr[p])
	if msg := err.Error(); strings.Contains(msg, "MOVED ") || strings.Contains(msg, "ASK ") {
		err = remedy.With(fmt.Errorf("%w; slots move between the shards", err), remedy.Replace, "")
	}
	return s.w.fail(err)
}

func (s *sender) flushAll() error {
	for _, p := range s.pipes {
		if err := s.flush(p); err != nil {
			return err
		}
	}
	return nil
}

// close returns the connections back.
func (s *sender) close() {
	for _, stop := range s.stops {
		s.bad = !stop() || s.bad
	}
	for addr, p := range s.pipes {
		if s.bad || p.n > 0 {
			_ = p.Close()
			continue
		}
		s.w.giveBack(addr, p)
	}
}

// PutSetting implements [engine.SettingsWriter], on every member: servers do not
// share users, and functions only with their replicas.
func (w *writer) PutSetting(ctx context.Context, ns record.Namespace, rec record.Record,
	replace bool) (engine.Outcome, error) {
	did := engine.Created
	err := w.scanSettings(ctx, ns.Name, func(r record.Record) error {
		switch {
		case !bytes.Equal(r.Key, rec.Key):
		case bytes.Equal(r.Value, rec.Value):
			did = engine.Unchanged
		case replace:
			did = engine.Replaced
		default:
			did = engine.KeptExisting
		}
		return nil
	})
	if err != nil || did == engine.Unchanged || did == engine.KeptExisting {
		return did, w.fail(err)
	}
	args, _, err := resp.ReadCommand(rec.Value)
	if err != nil {
		return "", err
	}
	line := make([]any, len(args))
	for i, a := range args {
		line[i] = a
	}
	for _, s := range w.list() {
		addrs := w.membersOf(s)
		if ns.Name == functionsName {
			addrs = addrs[:1]
		}
		for _, addr := range addrs {
			if err := w.client(addr).Do(ctx, line...).Err(); err != nil {
				return "", w.fail(w.explain(err, addr))
			}
		}
	}
	return did, nil
}

// SaveSettings implements [engine.SettingsSaver]: servers keep users in a file of their own,
// or in their configuration.
func (w *writer) SaveSettings(ctx context.Context) (string, error) {
	var lost []string
	for _, s := range w.list() {
		for _, addr := range w.membersOf(s) {
			err := w.client(addr).Do(ctx, "ACL", "SAVE").Err()
			if err != nil {
				err = w.client(addr).Do(ctx, "CONFIG", "REWRITE").Err()
			}
			if err != nil {
				lost = append(lost, fmt.Sprintf("%s (%v)", addr, err))
			}
		}
	}
	if len(lost) == 0 {
		return "", nil
	}
	return "users that were put back are gone when these servers begin again, which keep them in no file (aclfile, " +
		"or a configuration that may be written): " + strings.Join(lost, ", "), nil
}

var _ engine.SettingsSaver = (*writer)(nil)
