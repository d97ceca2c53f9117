package redis

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine/redis/resp"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

const (
	// idleTime is how often the primary is asked how far it is.
	idleTime = 500 * time.Millisecond
	// ackTime is how often the server is told how far this reader is; it drops
	// readers that do not.
	ackTime = time.Second
	// quietTime is for how long neither the stream says anything nor the primary answers before the
	// connection counts as dead: a host that stands still ends none.
	quietTime = 5 * time.Second
	// lostTime is for how long no server may answer.
	lostTime = 20 * time.Second
)

// Follow implements [engine.Logged]: it goes on with the replication stream from a
// place. A failover to a server whose history is the continuation is passed
// through; any other history is ErrOtherHistory.
func (c *cluster) Follow(ctx context.Context, name string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	s, err := c.shard(name)
	if err != nil {
		return err
	}
	p, ok := placeOf(after)
	if !ok {
		return fmt.Errorf("cluster %s: %q is no log position of a Redis shard", c.t.Name, after.Hex())
	}
	if p.epoch != c.epochOf(s) {
		kind := engine.ErrOtherHistory
		if same, err := c.continues(ctx, s, p); err == nil && same {
			kind = engine.ErrLogLost
		}
		return c.fail(fmt.Errorf("shard %s: %w: %w", name, kind, cmp.Or(c.followable(ctx, s, p),
			errors.New("the server has begun another since"))))
	}
	if p.db == 0 || p.db == unknownDB {
		return fmt.Errorf("cluster %s: shard %s: which database the stream writes to at %s is not known; take a "+
			"snapshot, and capture from there", c.t.Name, name, model{}.FormatPosition(after))
	}
	f := &following{cluster: c, shard: s, at: p, told: p, fn: fn, ctx: ctx}
	c.mu.Lock()
	f.owned = s.owned
	c.mu.Unlock()
	if f.owned.node == "" {
		if f.owned, err = c.owned(ctx, s); errors.Is(err, engine.ErrMoving) {
			return c.fail(fmt.Errorf("shard %s: %w: %w", name, engine.ErrLogEnds, err))
		}
	}
	failing := time.Time{}
	bad := uint64(0) // after which place the stream could not be read
	for {
		was := f.at.offset
		err := f.connect(ctx)
		f.at = f.told // what was read and not told is read again
		switch {
		case f.answer != nil:
			if errors.Is(f.answer, engine.ErrStopFollowing) {
				return nil
			}
			return f.answer
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, engine.ErrLogLost), errors.Is(err, engine.ErrLogin):
			return c.fail(fmt.Errorf("shard %s: %w", name, err))
		case errors.Is(err, resp.ErrProtocol):
			// Once it may be the connection; at the same place again it is the log.
			if bad == f.at.offset+1 {
				return c.fail(fmt.Errorf("shard %s: %w: %w", name, engine.ErrLogEnds, err))
			}
			bad = f.at.offset + 1
		}
		if f.at.offset != was || failing.IsZero() {
			failing = time.Now()
		}
		if f.patient = time.Since(failing); f.patient > lostTime {
			return c.fail(fmt.Errorf("shard %s: %w", name, err))
		}
		if err := wait.For(ctx, 200*time.Millisecond); err != nil {
			return err
		}
		_ = c.discover(ctx)
	}
}

// following reads a shard's log for one call of Follow.
type following struct {
	*cluster
	shard  *shard
	ctx    context.Context
	owned  ownership // of the shard, in a cluster with slots
	told   place     // up to where fn was told
	at     place     // read
	run    place     // ahead of at within a transaction
	wall   time.Time
	fn     func([]record.Change, engine.Progress) error
	answer error // what fn ended it with

	refused error           // why the primary does not go on from here
	patient time.Duration   // for how long nothing has worked
	queued  []record.Change // of a transaction that has not ended
	inMulti bool
}

// connect finds a member that still has what comes next, and reads from it until
// that fails.
func (f *following) connect(ctx context.Context) error {
	f.mu.Lock()
	members := slices.Clone(f.shard.members)
	if i := slices.Index(members, f.shard.chosen); i > 0 {
		members = append([]string{members[i]}, slices.Delete(members, i, i+1)...)
	}
	f.mu.Unlock()
	var errs []error
	away := false
	f.refused = nil
	for _, addr := range members {
		in, err := f.info(ctx, addr)
		if err != nil {
			errs, away = append(errs, err), true
			continue
		}
		if err := f.has(in, addr); err != nil {
			errs = append(errs, err)
			if in["role"] == "master" {
				f.refused = err
			}
			continue
		}
		return f.read(ctx, addr)
	}
	if !away || f.patient > lostTime/2 && f.refused != nil {
		// None goes on from here, and those that do not answer have had time to:
		// where the primary has another history, positions begin anew.
		same, err := f.continues(ctx, f.shard, f.at)
		if err != nil {
			return err
		}
		if !same {
			f.mu.Lock()
			f.shard.epoch = max(f.shard.epoch+1, uint64(time.Now().UnixMilli()))
			f.mu.Unlock()
			return fmt.Errorf("%w: %w", engine.ErrOtherHistory, errors.Join(errs...))
		}
		return fmt.Errorf("%w: %w", engine.ErrLogLost, errors.Join(errs...))
	}
	return errors.Join(errs...)
}

// has reports from what a server says of itself whether it goes on from here: asked
// for what it has not, it would send everything.
func (f *following) has(in map[string]string, addr string) error {
	h := f.at.historyName()
	switch {
	case in["master_replid"] == h:
	case in["master_replid2"] == h && f.at.offset < num(in["second_repl_offset"]):
	case in["master_replid2"] == h:
		return fmt.Errorf("%s: its history parted at byte %s, before byte %d", addr, in["second_repl_offset"],
			f.at.offset)
	default:
		return fmt.Errorf("%s: its history is another one", addr)
	}
	first, n := num(in["repl_backlog_first_byte_offset"]), num(in["repl_backlog_histlen"])
	switch {
	case in["repl_backlog_active"] != "1":
		return fmt.Errorf("%s: it keeps no backlog", addr)
	case f.at.offset+1 < first:
		return fmt.Errorf("%s: its backlog begins at byte %d, wanted is %d (repl-backlog-size)", addr, first,
			f.at.offset+1)
	case f.at.offset+1 > first+n:
		return fmt.Errorf("%s: its history ends at byte %d, wanted is %d", addr, first+n, f.at.offset+1)
	}
	return nil
}

// acknowledged tells a server that its reader is there. It never says that something has
// come: servers would count the reader among the replicas that have it (WAIT), and it is
// none that could take over.
var acknowledged = resp.Command("REPLCONF", "ACK", 0)

type logged struct {
	args [][]byte
	n    int64 // bytes of the stream up to its end
}

// read goes on with one server's stream.
func (f *following) read(ctx context.Context, addr string) error {
	l, err := f.dial(ctx, addr)
	if err != nil {
		return err
	}
	defer l.Close()
	stop := context.AfterFunc(ctx, func() { _ = l.Close() })
	defer stop()
	if err := l.send(resp.Command("PSYNC", f.at.historyName(), f.at.offset+1)); err != nil {
		return f.explain(err, addr)
	}
	line, err := l.answer(askTime)
	if err != nil {
		return f.explain(err, addr)
	}
	parts := strings.Fields(line)
	switch {
	case parts[0] != "+CONTINUE":
		return fmt.Errorf("%s: %w: it answers %q", addr, engine.ErrUnreachable, line)
	case len(parts) == 2:
		if f.at.history, err = historyOf(parts[1]); err != nil {
			return err
		}
	}
	f.mu.Lock()
	f.shard.logged = addr
	f.mu.Unlock()
	f.queued, f.inMulti, f.run = nil, false, f.at
	l.N = 0
	begin := f.at.offset
	in := make(chan logged, 4096)
	ended := make(chan error, 1)
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			if l.R.Buffered() == 0 {
				_ = l.SetReadDeadline(time.Now().Add(silence))
			}
			args, err := l.Command()
			if err != nil {
				ended <- err
				return
			}
			select {
			case in <- logged{args, l.N}:
			case <-done:
				return
			}
		}
	}()
	ack, idle := time.NewTicker(ackTime), time.NewTimer(0)
	defer ack.Stop()
	defer idle.Stop()
	heard := time.Now()
	for {
		select {
		case c := <-in:
			heard = time.Now()
			if err := f.take(l, begin, c, in); err != nil {
				return err
			}
		case <-ack.C:
			if err := l.send(acknowledged); err != nil {
				return f.explain(err, addr)
			}
		case <-idle.C:
			idle.Reset(idleTime)
			answered, err := f.asIdle(ctx, in)
			if err != nil {
				return err
			}
			if answered {
				heard = time.Now()
			} else if quiet := time.Since(heard); quiet > quietTime && len(in) == 0 {
				return fmt.Errorf("%s: %w: nothing was heard of it for %s", addr, engine.ErrUnreachable,
					quiet.Round(time.Second))
			}
		case err := <-ended:
			if errors.Is(err, resp.ErrProtocol) {
				return fmt.Errorf("%s: at byte %d of the stream: %w", addr, begin+uint64(l.N), err)
			}
			return f.explain(err, addr)
		}
	}
}

// take returns on a command, with those that have come besides.
func (f *following) take(l *link, begin uint64, c logged, more <-chan logged) error {
	var changes []record.Change
	size := 0
	for {
		f.run.offset, f.run.idle, f.run.command = begin+uint64(c.n), 0, false
		if err := f.one(l, c.args, &changes); errors.Is(err, engine.ErrLogEnds) && len(changes) > 0 {
			return errors.Join(f.tell(changes, time.Now(), 0), err) // what came before counts
		} else if err != nil {
			return err
		}
		if !f.inMulti {
			f.at = f.run
		}
		for _, a := range c.args {
			size += len(a)
		}
		if size > 1<<20 {
			break
		}
		select {
		case c = <-more:
			continue
		default:
		}
		break
	}
	if f.inMulti && len(changes) == 0 {
		return nil
	}
	return f.tell(changes, time.Now(), 0)
}

// tell calls fn; times never go back.
func (f *following) tell(changes []record.Change, at time.Time, idle uint64) error {
	if err := f.stillOwned(); err != nil {
		return err
	}
	if at.Before(f.wall) {
		at = f.wall
	}
	f.wall = at
	for i := range changes {
		changes[i].Wall = at.UnixMilli()
	}
	p := f.at
	p.idle, p.command = idle, false
	f.answer = f.fn(changes, engine.Progress{
		Mark: record.Mark{Position: p.position(), Wall: at, Entry: f.owned.String()}, AtEnd: changes == nil})
	f.told = f.at
	return f.answer
}

// asIdle moves coverage on when the primary, asked now, has written nothing
// further; answered reports whether it said anything.
func (f *following) asIdle(ctx context.Context, in <-chan logged) (answered bool, err error) {
	before := time.Now()
	f.mu.Lock()
	addr := f.shard.members[0]
	f.mu.Unlock()
	info, err := f.info(ctx, addr)
	if err != nil || info["role"] != "master" || info["master_replid"] != f.at.historyName() ||
		num(info["master_repl_offset"]) != f.at.offset || f.inMulti || len(in) > 0 {
		return err == nil, nil // what comes, or is missing, will tell
	}
	return true, f.tell(nil, before, uint64(before.UnixMilli()))
}

// slots returns which slots the shard serves.
func (f *following) slots() [][2]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.shard.slots)
}

// one takes a command of the stream.
func (f *following) one(l *link, args [][]byte, out *[]record.Change) error {
	at := &f.run
	if len(args) == 0 {
		return nil // a sign of life
	}
	verb := strings.ToUpper(string(args[0]))
	switch verb {
	case "PING", "PUBLISH", "SPUBLISH":
		return nil
	case "REPLCONF":
		if len(args) > 1 && strings.EqualFold(string(args[1]), "GETACK") {
			return l.send(acknowledged)
		}
		return nil
	case "SELECT":
		n, err := strconv.ParseUint(string(args[len(args)-1]), 10, 15)
		if err != nil {
			return fmt.Errorf("%w: SELECT %q", resp.ErrProtocol, args[len(args)-1])
		}
		at.db = uint16(n + 1)
		return nil
	case "RESTORE-ASKING":
		// What came here goes away in the other shard's log, and which was first
		// the two logs do not tell.
		return fmt.Errorf("%w: slots have moved to this shard", engine.ErrLogEnds)
	case "SWAPDB":
		return fmt.Errorf("%w: databases were swapped (SWAPDB), which is not carried out", engine.ErrLogEnds)
	case "MULTI":
		f.inMulti, f.queued = true, nil
		return nil
	case "EXEC":
		f.inMulti = false
		for i := range f.queued {
			f.queued[i].At = at.entry()
		}
		*out = append(*out, f.queued...)
		f.queued = nil
		return nil
	}
	db := int(at.db) - 1
	if f.clustered && wideCommand(verb) != notWide {
		args = withSlots(args, f.slots())
	}
	// The database belongs to the command: it may be carried out by itself.
	ch := record.Change{Op: record.Command, At: at.entry(),
		Value: resp.AppendCommand(nil, append([][]byte{strconv.AppendInt(nil, int64(db), 10)}, args...)...)}
	keys, err := keysOf(args)
	if err != nil || len(keys) == 0 && wideCommand(verb) == notWide && verb != "FUNCTION" && verb != "SCRIPT" {
		return fmt.Errorf("%w: which keys %s writes is not known (%s)", engine.ErrLogEnds, verb,
			resp.Text(bytes.Join(args[:min(len(args), 4)], []byte(" ")), 100))
	}
	switch {
	case verb == "FUNCTION":
		if !f.t.Settings {
			return nil
		}
		ch.Namespace = functionsName
	case verb == "SCRIPT":
		return nil
	case wideCommand(verb) == serverWide:
		ch.Namespace = allName
	case len(keys) == 0:
		ch.Namespace = fmt.Sprintf("db%d", db)
	default:
		if isMark(args[keys[0]]) {
			return nil
		}
		ch.Namespace, ch.Key = f.nameOf(db, args[keys[0]])
		for _, k := range keys[1:] {
			if other, _ := f.nameOf(db, args[k]); other != ch.Namespace {
				ch.Namespace, ch.Key = fmt.Sprintf("db%d", db), nil // it concerns several
				break
			}
		}
		if otherDB(verb, args) > 0 {
			ch.Namespace, ch.Key = allName, nil
		}
	}
	if f.inMulti {
		f.queued = append(f.queued, ch)
	} else {
		*out = append(*out, ch)
	}
	return nil
}
