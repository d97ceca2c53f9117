package document

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/wait"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// shardName names the shard that the servers are.
func (c *set) shardName() string {
	if c.shard != "" {
		return c.shard
	}
	if c.set != "" {
		return c.set
	}
	return "server"
}

// describeShard asks every member anew.
func (c *set) describeShard(ctx context.Context) (engine.Shard, error) {
	members, err := c.members(ctx)
	if err != nil {
		return engine.Shard{}, err
	}
	c.tryEntries(ctx, members)
	sh := engine.Shard{Name: c.shardName(), Members: members, Layout: c.role == layout}
	if !c.caps.log {
		return sh, nil
	}
	for _, m := range members {
		if !m.Healthy || m.Role == "arbiter" {
			continue
		}
		if sh.Log, err = c.window(ctx, m.Address); err == nil {
			return sh, nil
		}
	}
	return sh, fmt.Errorf("shard %s: reading how far the log reaches: %w", sh.Name, errors.Join(err, ctx.Err()))
}

var roleOfState = map[int32]string{0: "startup", 1: "primary", 2: "secondary", 3: "recovering", 5: "startup2",
	6: "unknown", 7: "arbiter", 8: "down", 9: "rollback", 10: "removed"}

// members asks every member for its state. What the members say of themselves
// counts; what others say of one that does not answer is its note.
func (c *set) members(ctx context.Context) ([]engine.Member, error) {
	out := make([]engine.Member, len(c.hosts))
	applied := make([]time.Time, len(c.hosts))
	errs := make([]error, len(c.hosts))
	c.eachHost(func(i int, addr string) { out[i], applied[i], errs[i] = c.member(ctx, addr) })
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	var newest time.Time
	for i, t := range applied {
		if t.After(newest) && !out[i].CutOff {
			newest = t
		}
	}
	for i := range out {
		if !applied[i].IsZero() && applied[i].Before(newest) {
			out[i].Lag = newest.Sub(applied[i])
		}
	}
	if !slices.ContainsFunc(out, func(m engine.Member) bool { return m.Healthy }) {
		return nil, fmt.Errorf("no member answers: %w", errors.Join(errs...))
	}
	return out, nil
}

// eachHost calls fn for every member at the same time: one that does not
// answer holds up none of the others.
func (c *set) eachHost(fn func(i int, addr string)) {
	var wg sync.WaitGroup
	for i, addr := range c.hosts {
		wg.Go(func() { fn(i, addr) })
	}
	wg.Wait()
}

// member asks one member for its state and the time of what it applied last.
func (c *set) member(ctx context.Context, addr string) (m engine.Member, applied time.Time, err error) {
	m = engine.Member{Address: addr, Role: "unknown"}
	hello, err := c.hello(ctx, addr)
	if err != nil {
		m.Note = short(err)
		if !isCommandError(err) {
			m.Role = "down"
		}
		return m, applied, err
	}
	m.Healthy = true
	primary := truth(hello.Lookup("isWritablePrimary")) || truth(hello.Lookup("ismaster"))
	secondary, _ := hello.Lookup("secondary").BooleanOK()
	arbiter, _ := hello.Lookup("arbiterOnly").BooleanOK()
	switch {
	case c.role == routers:
		m.Role = "router"
	case c.set == "":
		m.Role = "standalone"
	case primary:
		m.Role = "primary"
	case secondary:
		m.Role = "secondary"
	case arbiter:
		m.Role = "arbiter"
	default:
		m.Healthy, m.Note = false, "neither primary nor secondary"
	}
	if note := c.aside[addr]; note != "" {
		m.Note = note
	}
	if c.caps.status && m.Healthy && !arbiter {
		if applied, err = c.status(ctx, &m); err != nil {
			m.Healthy, m.Note = false, short(err)
		}
	}
	return m, applied, err
}

// status fills in what replSetGetStatus on the member tells of itself.
func (c *set) status(ctx context.Context, m *engine.Member) (applied time.Time, err error) {
	st, err := c.ask(ctx, m.Address, "admin", bson.D{{Key: "replSetGetStatus", Value: 1}})
	if err != nil {
		return applied, err
	}
	if state, ok := st.Lookup("myState").AsInt64OK(); ok {
		if r := roleOfState[int32(state)]; r != "" {
			m.Role = r
		}
		if state != 1 && state != 2 {
			m.Healthy, m.Note = false, "state "+m.Role
		}
	}
	if reaches, of := reached(st); 2*reaches <= of {
		m.CutOff, m.Note = true, fmt.Sprintf("reaches only %d of %d members", reaches, of)
	}
	if d, ok := st.Lookup("optimes", "lastAppliedWallTime").TimeOK(); ok {
		applied = d
	} else if t, _, ok := st.Lookup("optimes", "appliedOpTime", "ts").TimestampOK(); ok {
		applied = time.Unix(int64(t), 0)
	}
	return applied, nil
}

// reached counts the members that one reaches, itself among them, and all, as
// its answer to replSetGetStatus tells.
func reached(st bson.Raw) (reaches, of int) {
	list, _ := st.Lookup("members").ArrayOK()
	vals, _ := list.Values()
	for _, v := range vals {
		d, ok := v.DocumentOK()
		if !ok {
			continue
		}
		of++
		health, ok := d.Lookup("health").AsFloat64OK()
		self, _ := d.Lookup("self").BooleanOK()
		if !ok || health > 0 || self {
			reaches++
		}
	}
	if of == 0 {
		return 1, 1 // it tells nothing of the others
	}
	return reaches, of
}

func short(err error) string {
	s := err.Error()
	if _, rest, ok := strings.Cut(s, ": "); ok {
		s = rest
	}
	return strings.Join(strings.Fields(s), " ")
}

// window reads how far a member's log reaches.
func (c *set) window(ctx context.Context, addr string) (*engine.LogWindow, error) {
	w := &engine.LogWindow{}
	for _, end := range []struct {
		order int
		mark  *record.Mark
	}{{1, &w.First}, {-1, &w.Last}} {
		cmd := bson.D{{Key: "find", Value: "oplog.rs"}, {Key: "limit", Value: 1}}
		if end.order < 0 { // a log's own order needs no asking for, and some servers sort in memory
			cmd = append(cmd, bson.E{Key: "sort", Value: bson.D{{Key: "$natural", Value: -1}}})
		}
		ans, err := c.askFor(ctx, logTime, addr, "local", cmd)
		if err != nil {
			return nil, err
		}
		batch, _ := ans.Lookup("cursor", "firstBatch").ArrayOK()
		vals, _ := batch.Values()
		if len(vals) == 0 {
			continue
		}
		m, err := markOf(vals[0].Document())
		if err != nil {
			return nil, err
		}
		*end.mark = m
	}
	if st, err := c.ask(ctx, addr, "local", bson.D{{Key: "collStats", Value: "oplog.rs"}}); err == nil {
		w.Size, _ = st.Lookup("size").AsInt64OK()
		w.Max, _ = st.Lookup("maxSize").AsInt64OK()
	}
	return w, nil
}

// choose picks the member to read from.
func (c *set) choose(ctx context.Context) (engine.Choice, error) {
	shard := c.shardName()
	members, err := c.members(ctx)
	if err != nil {
		return engine.Choice{}, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	prefer := c.t.Prefer
	if len(prefer) == 0 {
		prefer = []string{"secondary", "primary"}
	}
	if c.role == routers {
		prefer = []string{"router"}
	}
	var refused []string
	c.mu.Lock()
	bad := map[string]string{}
	for a, b := range c.bad {
		if time.Now().Before(b.until) {
			bad[a] = b.why
		}
	}
	c.mu.Unlock()
	lastResort := false
	fit := func(m engine.Member, named bool) string {
		switch {
		case bad[m.Address] != "":
			return bad[m.Address]
		case !m.Healthy:
			return m.Note
		case m.Role != "primary" && m.Role != "secondary" && m.Role != "standalone" && m.Role != "router":
			return m.Role
		case m.CutOff && !lastResort:
			return m.Note
		case strings.Contains(c.aside[m.Address], "delayed"):
			return c.aside[m.Address] + ", and never has what the others have"
		case c.aside[m.Address] != "" && !named:
			return c.aside[m.Address] + ", and not named in prefer"
		case m.Lag > c.t.MaxLag:
			return fmt.Sprintf("%s behind, %s allowed", m.Lag.Round(time.Second), c.t.MaxLag)
		}
		return ""
	}
	for _, lastResort = range []bool{false, true} {
		if lastResort && len(bad) > 0 {
			// Better one that has failed before, and is up, than none.
			clear(bad)
			refused = append(refused, "trying those again that had failed")
		}
		if ch := c.pick(members, prefer, fit, &refused); ch != nil {
			ch.Shard = shard
			c.mu.Lock()
			c.chosen = ch
			c.mu.Unlock()
			return *ch, nil
		}
	}
	return engine.Choice{}, fmt.Errorf("cluster %s: shard %s: %w: %s", c.t.Name, shard, engine.ErrNoMember,
		strings.Join(refused, "; "))
}

// pick returns the first member, in the order of what is preferred, that is fit.
func (c *set) pick(members []engine.Member, prefer []string, fit func(engine.Member, bool) string,
	refused *[]string) *engine.Choice {
	for _, want := range prefer {
		var best *engine.Member
		for i := range members {
			m := &members[i]
			named := want == m.Address
			if !named && want != m.Role && !(m.Role == "standalone" && want == "primary") {
				continue
			}
			if why := fit(*m, named); why != "" {
				*refused = append(*refused, m.Address+": "+why)
				continue
			}
			if best == nil || m.Lag < best.Lag {
				best = m
			}
		}
		if best == nil {
			if !slices.Contains([]string{"primary", "secondary", "router"}, want) &&
				!slices.ContainsFunc(members, func(m engine.Member) bool { return m.Address == want }) {
				*refused = append(*refused, want+": no member of that name")
			}
			continue
		}
		ch := &engine.Choice{Member: *best, Reason: "preferred: " + want}
		if len(*refused) > 0 {
			ch.Reason += " (not " + strings.Join(*refused, "; not ") + ")"
		}
		return ch
	}
	return nil
}

// current returns the chosen member, choosing one where none is.
func (c *set) current(ctx context.Context) (string, error) {
	c.mu.Lock()
	ch := c.chosen
	c.mu.Unlock()
	if ch != nil {
		return ch.Member.Address, nil
	}
	n, err := c.choose(ctx)
	return n.Member.Address, err
}

// failed takes a member out of the choice for a while and forgets the choice. It reports
// whether that is news: the readers of several partitions lose the same member at once.
func (c *set) failed(addr string, err error) (news bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	news = time.Now().After(c.bad[addr].until)
	c.bad[addr] = badMember{time.Now().Add(20 * time.Second), "failed while it was read: " + short(err)}
	if c.chosen != nil && c.chosen.Member.Address == addr {
		c.chosen = nil
	}
	return news
}

// errBehind is returned where a member lacks what was read at another one.
var errBehind = errors.New("is still behind what was read elsewhere")

// catchUpTime is how long a member that is behind is waited for.
const catchUpTime = 3 * time.Minute

// next chooses another member after one failed, waiting until one is fit and
// has all that was known to be committed.
func (c *set) next(ctx context.Context, addr string, cause error) (string, error) {
	news := c.failed(addr, cause)
	var last error
	// Where the others lag, the wait is theirs: each write that this one had
	// passed on comes to them too.
	began := time.Now()
	for attempt := 0; attempt < 12 || errors.Is(last, errBehind) && time.Since(began) < catchUpTime; attempt++ {
		if err := wait.For(ctx, time.Duration(min(attempt, 8))*500*time.Millisecond); err != nil {
			return "", err
		}
		to, err := c.current(ctx)
		if err == nil {
			if err = c.hasSeen(ctx, to); err == nil {
				// One line for one loss, written when it is known where it goes on.
				if news {
					c.log.Warn("member failed, going on at another", "cluster", c.t.Name, "member", addr, "cause",
						short(cause), "now", to)
				}
				return to, nil
			}
			// Another one may hold it already; this one, soon.
			c.mu.Lock()
			c.bad[to] = badMember{time.Now().Add(3 * time.Second), short(err)}
			c.chosen = nil
			c.mu.Unlock()
		}
		last = err
		if attempt == 4 && errors.Is(err, errBehind) {
			c.log.Warn("waiting for a member to catch up", "cluster", c.t.Name, "failed", addr, "cause", short(err),
				"at the most", catchUpTime)
		}
		if attempt == 4 {
			// Perhaps the one that failed is the only one, and is back.
			c.mu.Lock()
			clear(c.bad)
			c.mu.Unlock()
		}
	}
	return "", fmt.Errorf("after %s: %w", short(cause), last)
}

// onMember runs fn with the chosen member; where that fails, with another.
func (c *set) onMember(ctx context.Context, fn func(addr string) error) error {
	addr, err := c.current(ctx)
	for failures := 0; err == nil; failures++ {
		if err = fn(addr); err == nil || ctx.Err() != nil || !retriable(err) || failures == 8 {
			return err
		}
		addr, err = c.next(ctx, addr, err)
	}
	return err
}

// hasSeen checks that what a member shows to reads of a majority's content holds everything that
// reads so far may have shown, so that going on there does not step back in time.
func (c *set) hasSeen(ctx context.Context, addr string) error {
	if !c.caps.status {
		return nil
	}
	shown, err := c.shown(ctx, addr)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if shown < c.seen {
		return fmt.Errorf("%s: %w", addr, errBehind)
	}
	return nil
}

// awaitSeen gives a member some time until hasSeen is so of it: what is read there must not be older
// than what was read before, whoever chose the member.
func (c *set) awaitSeen(ctx context.Context, addr string) error {
	began := time.Now()
	for pause := 2 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		err := c.hasSeen(ctx, addr)
		if !errors.Is(err, errBehind) || time.Since(began) > catchUp {
			return err
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
	}
}

// shown returns up to where a member's reads of what a majority has reach ("replSetGetStatus":
// readConcernMajorityOpTime). A member may know of entries to be on a majority, and tell of them
// as committed, before it has them itself.
func (c *set) shown(ctx context.Context, addr string) (record.Position, error) {
	st, err := c.ask(ctx, addr, "admin", bson.D{{Key: "replSetGetStatus", Value: 1}})
	if err != nil {
		return "", err
	}
	if at, ok := timestampAt(st, "optimes", "readConcernMajorityOpTime", "ts"); ok {
		return at, nil
	}
	at, ok := timestampAt(st, "optimes", "lastCommittedOpTime", "ts")
	if !ok {
		return "", fmt.Errorf("%s: replSetGetStatus tells no committed time", addr)
	}
	if has, ok := timestampAt(st, "optimes", "appliedOpTime", "ts"); ok && has < at {
		at = has
	}
	return at, nil
}

// committed returns the newest log entry that a member knows to be on a majority.
// Some servers tell times that no entry has; the newest one before it counts
// then.
func (c *set) committed(ctx context.Context, addr string) (record.Mark, error) {
	st, err := c.ask(ctx, addr, "admin", bson.D{{Key: "replSetGetStatus", Value: 1}})
	if err != nil {
		return record.Mark{}, err
	}
	t, i, ok := st.Lookup("optimes", "lastCommittedOpTime", "ts").TimestampOK()
	if !ok {
		return record.Mark{}, fmt.Errorf("%s: replSetGetStatus tells no committed time", addr)
	}
	m := record.Mark{Position: position(t, i), Wall: time.Unix(int64(t), 0).UTC()}
	if w, ok := st.Lookup("optimes", "lastCommittedWallTime").TimeOK(); ok {
		m.Wall = w.UTC()
	}
	e, err := c.entryUpTo(ctx, addr, m.Position)
	if err != nil || e == nil {
		return m, err
	}
	return markOf(e)
}

// entryUpTo returns the newest log entry at or before a position; nil where there
// is none, or no position.
func (c *set) entryUpTo(ctx context.Context, addr string, at record.Position) (bson.Raw, error) {
	if at == position(0, 0) {
		return nil, nil
	}
	// The entry that is told is the rule, and found by its time at once.
	for _, filter := range []bson.D{{{Key: "ts", Value: timestampOf(at)}},
		{{Key: "ts", Value: bson.D{{Key: "$lte", Value: timestampOf(at)}}}}} {
		cmd := bson.D{{Key: "find", Value: "oplog.rs"}, {Key: "filter", Value: filter}, {Key: "limit", Value: 1}}
		if filter[0].Value != timestampOf(at) {
			cmd = append(cmd, bson.E{Key: "sort", Value: bson.D{{Key: "$natural", Value: -1}}})
		}
		ans, err := c.askFor(ctx, logTime, addr, "local", cmd)
		if err != nil {
			return nil, err
		}
		if docs := firstBatch(ans); len(docs) > 0 {
			return docs[0], nil
		}
	}
	return nil, nil
}

func (c *set) sawPosition(p record.Position) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if p > c.seen {
		c.seen = p
	}
}
