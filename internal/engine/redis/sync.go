package redis

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine/keyprefix"
	"dexamen/internal/engine/redis/rdb"
	"dexamen/internal/engine/redis/resp"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// silence is for how long a server may send nothing while it sends its content.
const silence = 60 * time.Second

// patient gives every read the time of silence.
type patient struct{ *link }

func (p patient) Read(b []byte) (int, error) {
	if p.R.Buffered() > 0 {
		return p.R.Read(b)
	}
	_ = p.SetReadDeadline(time.Now().Add(silence))
	return p.R.Read(b)
}

// Stream implements [engine.Streamed]: it asks the chosen member for its content,
// as a new replica does. No file is written, here or, where servers are not told
// otherwise, there.
func (c *cluster) Stream(ctx context.Context, name string,
	fn func(record.Namespace, record.Record) error) (record.Mark, error) {
	s, err := c.shard(name)
	if err != nil {
		return record.Mark{}, err
	}
	c.mu.Lock()
	addr := s.chosen
	if addr == "" {
		addr = s.members[0]
	}
	epoch := s.epoch
	c.mu.Unlock()
	if err := c.caughtUp(ctx, s, addr); err != nil {
		return record.Mark{}, c.fail(err)
	}
	l, err := c.dial(ctx, addr)
	if err != nil {
		return record.Mark{}, c.fail(err)
	}
	defer l.Close()
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	// Its stream is not wanted; servers before 7.0 do not know how to leave it.
	_ = l.ok(resp.Command("REPLCONF", "rdb-only", "1"))
	at, wall, err := c.fullSync(l)
	if err != nil {
		return record.Mark{}, c.fail(c.explain(cause(ctx, err), addr))
	}
	at.epoch = epoch
	db, err := c.readContent(l, c.assembler(func(ns string, r record.Record) error {
		kind, def := model{}.Implied(ns)
		return fn(record.Namespace{Name: ns, Kind: kind, Definition: def}, r)
	}))
	if err != nil {
		return record.Mark{}, c.fail(c.explain(cause(ctx, err), addr))
	}
	at.db = uint16(db + 1)
	c.mu.Lock()
	if was := s.resumed; was.epoch == at.epoch && was.offset == at.offset && was.history == at.history && was.db > 0 {
		// Nothing was written since; servers that begin a stream name its database anew, with the
		// first command.
		at.db = was.db
	}
	c.mu.Unlock()
	owned, err := c.owned(ctx, s)
	if err != nil {
		return record.Mark{}, c.fail(err)
	}
	if c.t.Settings && s == c.list()[0] {
		// Replicas have users of their own.
		if err := c.users(ctx, c.membersOf(s)[0], func(r record.Record) error {
			return fn(record.Namespace{Name: usersName, Kind: record.KindSettings}, r)
		}); err != nil {
			return record.Mark{}, c.fail(err)
		}
	}
	return record.Mark{Position: at.position(), Wall: wall, Entry: owned.String()}, nil
}

// caughtUp waits until a replica has what its primary has now.
func (c *cluster) caughtUp(ctx context.Context, s *shard, addr string) error {
	head := c.membersOf(s)[0]
	if head == addr {
		return nil
	}
	in, err := c.info(ctx, head)
	if err != nil {
		return nil // it has no primary to wait for
	}
	want := num(in["master_repl_offset"])
	var at uint64
	for until := time.Now().Add(2 * askTime); time.Now().Before(until); {
		if in, err = c.info(ctx, addr); err != nil {
			return err
		}
		if at = num(in["master_repl_offset"]); at >= want {
			return nil
		}
		if err := wait.For(ctx, 10*time.Millisecond); err != nil {
			return err
		}
	}
	return fmt.Errorf("%s: %w: it stays behind its primary, %d bytes", addr, engine.ErrUnreachable, want-at)
}

// cause reports that it was asked to end, rather than how it ended.
func cause(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// fullSync asks for everything; it gives the place the content is of, and a time
// at which it was that.
func (c *cluster) fullSync(l *link) (place, time.Time, error) {
	if err := l.send(resp.Command("PSYNC", "?", "-1")); err != nil {
		return place{}, time.Time{}, err
	}
	line, err := l.answer(silence)
	if err != nil {
		return place{}, time.Time{}, err
	}
	now := time.Now()
	f := strings.Fields(line)
	if len(f) != 3 || f[0] != "+FULLRESYNC" {
		return place{}, now, fmt.Errorf("%w: %q for an answer to PSYNC", resp.ErrProtocol, line)
	}
	h, err := historyOf(f[1])
	return place{offset: num(f[2]), history: h}, now, err
}

// readContent reads the content that follows the answer, and gives the database
// of the stream after it.
func (c *cluster) readContent(l *link, to rdb.Sink) (db int, err error) {
	line, err := l.answer(silence)
	if err != nil {
		return 0, err
	}
	mark, streamed := strings.CutPrefix(line, "$EOF:")
	var r io.Reader = patient{l}
	size := 0
	if !streamed {
		if size, err = resp.Number(line, '$'); err != nil {
			return 0, err
		}
		r = io.LimitReader(r, int64(size))
	} else if len(mark) != 40 {
		return 0, fmt.Errorf("%w: end mark %q", resp.ErrProtocol, mark)
	}
	d := &rdb.Reader{R: r, Sink: to}
	if err := d.ReadAll(); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) {
			err = fmt.Errorf("the content broke off: %w", err)
		}
		return 0, err
	}
	if !streamed {
		if n := r.(*io.LimitedReader).N + int64(d.Unread()); n != 0 {
			return 0, fmt.Errorf("%w: %d bytes after its end", rdb.ErrDamaged, n)
		}
		return d.StreamDB, nil
	}
	end, err := d.Tail(len(mark))
	if err != nil {
		return 0, fmt.Errorf("the content broke off at its end: %w", err)
	}
	if string(end) != mark {
		return 0, fmt.Errorf("%w: it does not end as it was told to", rdb.ErrDamaged)
	}
	return d.StreamDB, nil
}

// assembler makes records of this cluster's namespaces.
func (c *cluster) assembler(emit func(string, record.Record) error) *assembler {
	return &assembler{
		name: func(db int, key []byte) (string, []byte, bool) {
			ns, short := c.nameOf(db, key)
			return ns, short, !isMark(key)
		},
		emit: emit,
		code: func(code []byte) error {
			if !c.t.Settings {
				return nil
			}
			return emit(functionsName, functionRecord(code))
		},
	}
}

// nameOf returns a key's namespace, and the key below its prefix.
func (c *cluster) nameOf(db int, key []byte) (string, []byte) {
	return nameOf(c.prefixes, db, key)
}

func nameOf(cut keyprefix.Cut, db int, key []byte) (string, []byte) {
	if cut.Depth == 0 {
		return databaseName(db), key
	}
	name := cut.Name(key)
	prefix, _, err := cut.Range(name)
	if err != nil || len(prefix) > len(key) {
		prefix = nil
	}
	return databaseName(db) + "/" + name, key[len(prefix):]
}

// The names of the databases that servers have where they are not told otherwise; one is
// asked for with every key.
var databaseNames = func() (out [16]string) {
	for i := range out {
		out[i] = fmt.Sprintf("db%d", i)
	}
	return out
}()

func databaseName(db int) string {
	if db >= 0 && db < len(databaseNames) {
		return databaseNames[db]
	}
	return fmt.Sprintf("db%d", db)
}

// functionRecord keeps a library of functions under its first line, which names
// it.
func functionRecord(code []byte) record.Record {
	line, _, _ := strings.Cut(string(code), "\n")
	return record.Record{Key: []byte(line),
		Value: resp.AppendCommand(nil, resp.Command("FUNCTION", "LOAD", "REPLACE", code)...)}
}

// users reads the users, their passwords hashed, as the servers keep them.
func (c *cluster) users(ctx context.Context, addr string, fn func(record.Record) error) error {
	list, err := ask(ctx, func(ctx context.Context) ([]string, error) { return c.client(addr).ACLList(ctx).Result() })
	if err != nil {
		return c.explain(err, addr)
	}
	for _, line := range list {
		f := strings.Fields(line)
		if len(f) < 2 || f[0] != "user" {
			return fmt.Errorf("%s: %w: user %q", addr, resp.ErrProtocol, line)
		}
		args := resp.Command("ACL", "SETUSER", f[1], "reset")
		for _, rule := range f[2:] {
			args = append(args, []byte(rule))
		}
		if err := fn(record.Record{Key: []byte(f[1]), Value: resp.AppendCommand(nil, args...)}); err != nil {
			return err
		}
	}
	return nil
}

// ContentPlacement implements [engine.Streamed]. What is on its way the primaries alone know:
// each of its own slots.
func (c *cluster) ContentPlacement(ctx context.Context) (string, error) {
	if !c.clustered {
		return "", nil
	}
	for began := time.Now(); ; {
		where, err := c.slotsNow(ctx)
		if err == nil || errors.Is(err, engine.ErrMoving) || ctx.Err() != nil || time.Since(began) > lostTime {
			return where, c.fail(err)
		}
		select { // a failover may be going on
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (c *cluster) slotsNow(ctx context.Context) (string, error) {
	if err := c.discover(ctx); err != nil {
		return "", err
	}
	var groups []string
	for _, s := range c.list() {
		o, err := c.owned(ctx, s)
		if err != nil {
			return "", err
		}
		groups = append(groups, o.slots)
	}
	slices.Sort(groups)
	return strings.Join(groups, "; "), nil
}
