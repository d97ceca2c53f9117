package redis

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/resp"
)

// Replay implements [engine.Replayer]. A command is carried out on the keys that
// belong to what is restored; one that would take from, or write to, keys of both
// sides is refused, as what it did cannot be done to one side alone.
func (w *writer) Replay(ctx context.Context, names map[string]string, cmds []record.Change) (int64, error) {
	r, err := newRewriter(names)
	if err != nil {
		return 0, err
	}
	s := w.newSender(ctx)
	defer s.close()
	done := int64(0)
	for i := range cmds {
		c := &cmds[i]
		x, err := w.prepare(r, names, c)
		if err == nil {
			err = w.carryOut(ctx, r, s, x)
		}
		if err != nil {
			return done, w.fail(placed(c, err))
		}
		if x.args != nil {
			done++
		}
	}
	if err := s.flushAll(); err != nil {
		return done, fmt.Errorf("carrying out the log: %w", err)
	}
	return done, nil
}

// carryOut sends a command, or what clears what a command cleared.
func (w *writer) carryOut(ctx context.Context, r *rewriter, s *sender, x replayed) error {
	switch {
	case x.args == nil:
		return nil
	case x.verb == "FUNCTION":
		if err := s.flushAll(); err != nil {
			return err
		}
		return w.function(ctx, x.args)
	case x.wide:
		concerned, err := slotsIn(x.args)
		if err == nil {
			err = s.flushAll()
		}
		if err != nil {
			return err
		}
		for i := range r.list {
			if to := &r.list[i]; wideCommand(x.verb) == serverWide || to.db == x.db {
				if err := w.clear(ctx, to, concerned); err != nil {
					return err
				}
			}
		}
		return nil
	}
	keys, err := keysOf(x.args)
	if err != nil {
		return err
	}
	p, err := s.to(w.addrOf(x.args[keys[0]]), x.db)
	if err != nil {
		return err
	}
	for _, args := range withoutPXAT(x.args, w.older) {
		p.add(args)
	}
	if len(p.buf) > 1<<20 {
		return s.flush(p)
	}
	return nil
}

// withoutPXAT returns what does the same as a command on servers before 6.2, which know no SET
// with a time: the expiry is set after it. It is put off, so that nothing expires between.
func withoutPXAT(args [][]byte, older bool) [][][]byte {
	if !older || !strings.EqualFold(string(args[0]), "SET") {
		return [][][]byte{args}
	}
	for i := 3; i+1 < len(args); i++ {
		if strings.EqualFold(string(args[i]), "PXAT") {
			set := append(slices.Clone(args[:i]), args[i+2:]...)
			return [][][]byte{set, resp.Command("PEXPIREAT", args[1], args[i+1])}
		}
	}
	return [][][]byte{args}
}

// function carries out a command on libraries of functions on every shard: one that is
// there already takes the place of what is there, and one that is gone may be.
func (w *writer) function(ctx context.Context, args [][]byte) error {
	what := ""
	if len(args) > 1 {
		what = strings.ToUpper(string(args[1]))
	}
	has := func(word string) bool {
		return slices.ContainsFunc(args, func(a []byte) bool { return strings.EqualFold(string(a), word) })
	}
	switch {
	case what == "LOAD" && !strings.EqualFold(string(args[2]), "REPLACE"):
		args = slices.Insert(slices.Clone(args), 2, []byte("REPLACE"))
	case what == "RESTORE" && !has("REPLACE") && !has("FLUSH"):
		args = append(slices.DeleteFunc(slices.Clone(args), func(a []byte) bool {
			return strings.EqualFold(string(a), "APPEND")
		}), []byte("REPLACE"))
	}
	line := make([]any, len(args))
	for i, a := range args {
		line[i] = a
	}
	for _, sh := range w.list() {
		addr := w.membersOf(sh)[0]
		err := w.client(addr).Do(ctx, line...).Err()
		if err != nil && !(what == "DELETE" && strings.Contains(err.Error(), "Library not found")) {
			return w.explain(err, addr)
		}
	}
	return nil
}

func sameSlot(args [][]byte, keys []int) bool {
	for _, k := range keys[1:] {
		if slotOf(args[k]) != slotOf(args[keys[0]]) {
			return false
		}
	}
	return true
}

// clear removes the keys of a namespace that were concerned, by the names they
// had.
func (w *writer) clear(ctx context.Context, x *rewriting, concerned func(key []byte) bool) error {
	_, _, flat, err := split(x.to)
	if err != nil {
		return err
	}
	_, err = w.sweep(ctx, x.toDB, x.toPre, flat, true, func(k string) bool {
		return concerned(append(slices.Clone(x.prefix), k[len(x.toPre):]...))
	})
	return err
}

// sweep counts the keys of a namespace that are chosen, and removes them where asked to.
func (w *writer) sweep(ctx context.Context, db int, prefix []byte, flat, remove bool,
	chosen func(key string) bool) (n int64, err error) {
	for _, s := range w.list() {
		addr := w.membersOf(s)[0]
		err := w.eachKey(ctx, addr, db, globOf(prefix), func(keys []string) error {
			p := w.clientDB(addr, db).Pipeline()
			for _, k := range keys {
				if isMark([]byte(k)) || !prefixes.Holds(prefix, flat, []byte(k)) || !chosen(k) {
					continue
				}
				if n++; remove {
					p.Unlink(ctx, k)
				}
			}
			if p.Len() == 0 {
				return nil
			}
			_, err := p.Exec(ctx)
			return w.explain(err, addr)
		})
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// Rest implements [engine.Replayer].
func (w *writer) Rest(ctx context.Context, ns record.Namespace, others []string, remove bool) (int64, error) {
	db, prefix, flat, err := split(ns.Name)
	if err != nil {
		return 0, err
	}
	names := map[string]string{}
	for _, o := range others {
		names[o] = o
	}
	of, err := newRewriter(names)
	if err != nil {
		return 0, err
	}
	n, err := w.sweep(ctx, db, prefix, flat, remove, func(k string) bool { return of.find(db, []byte(k)) == nil })
	return n, w.fail(err)
}

// rewriter turns commands on the namespaces that were into commands on those
// that they become.
type rewriter struct{ list []rewriting }

type rewriting struct {
	db     int
	prefix []byte
	flat   bool
	to     string
	toDB   int
	toPre  []byte
}

func newRewriter(names map[string]string) (*rewriter, error) {
	r := &rewriter{}
	for from, to := range names {
		if (model{}).Kind(from) == record.KindSettings {
			continue
		}
		var x rewriting
		var err error
		if x.db, x.prefix, x.flat, err = split(from); err != nil {
			return nil, err
		}
		if x.toDB, x.toPre, _, err = split(to); err != nil {
			return nil, err
		}
		x.to = to
		r.list = append(r.list, x)
	}
	// The narrowest counts.
	slices.SortFunc(r.list, func(a, b rewriting) int { return len(b.prefix) - len(a.prefix) })
	return r, nil
}

// find returns what becomes of a key; nil when it belongs to none.
func (r *rewriter) find(db int, key []byte) *rewriting {
	for i := range r.list {
		if x := &r.list[i]; x.db == db && prefixes.Holds(x.prefix, x.flat, key) {
			return x
		}
	}
	return nil
}

// targets are commands of which only one key is written: the argument's place.
var targets = map[string]int{"SINTERSTORE": 1, "SUNIONSTORE": 1, "SDIFFSTORE": 1, "ZUNIONSTORE": 1, "ZINTERSTORE": 1,
	"ZDIFFSTORE": 1, "PFMERGE": 1, "ZRANGESTORE": 1,
	"GEOSEARCHSTORE": 1, "COPY": 2, "BITOP": 2}

// rewrite returns the command to carry out, in which database; nil when it is
// for others.
func (r *rewriter) rewrite(db int, args [][]byte) ([][]byte, int, error) {
	verb := strings.ToUpper(string(args[0]))
	keys, err := keysOf(args)
	if err != nil {
		return nil, 0, fmt.Errorf("%w: %w", engine.ErrOutsideNamespaces, err)
	}
	if len(keys) == 0 {
		return nil, 0, fmt.Errorf("%w: %s names no key", engine.ErrOutsideNamespaces, verb)
	}
	// Which database each key is in.
	in := make([]int, len(keys))
	for i := range in {
		in[i] = db
	}
	if i := otherDB(verb, args); i > 0 {
		n, err := strconv.Atoi(string(args[i]))
		if err != nil {
			return nil, 0, err
		}
		if verb == "MOVE" {
			keys, in = append(keys, keys[0]), append(in, n)
		} else {
			in[len(in)-1] = n
		}
	}
	inside, outside := 0, 0
	for i, k := range keys {
		if r.find(in[i], args[k]) != nil {
			inside++
		} else {
			outside++
		}
	}
	if inside == 0 {
		return nil, 0, nil
	}
	beyond := func() error {
		return fmt.Errorf("%w: %s with %s and others", engine.ErrOutsideNamespaces, verb, resp.Text(args[keys[0]], 100))
	}
	if outside > 0 {
		t, isTarget := targets[verb]
		switch {
		case verb == "DEL", verb == "UNLINK", pairKeys[verb]:
			kept := [][]byte{args[0]}
			for _, k := range keys {
				if r.find(db, args[k]) != nil {
					kept = append(kept, args[k])
					if pairKeys[verb] {
						kept = append(kept, args[k+1])
					}
				}
			}
			return r.rewrite(db, kept)
		case verb == "MOVE" && r.find(db, args[1]) != nil:
			// It was in the log because it was done: the key went from here.
			return r.rewrite(db, [][]byte{[]byte("DEL"), args[1]})
		case isTarget && r.find(in[slices.Index(keys, t)], args[t]) == nil:
			return nil, 0, nil // written elsewhere
		case storing[verb] && len(keys) == 2 && r.find(db, args[keys[1]]) == nil:
			return nil, 0, nil
		default:
			return nil, 0, beyond()
		}
	}
	if verb == "SORT" && r.readsBeyond(db, args) {
		return nil, 0, fmt.Errorf("%w: %s of %s takes from keys by a pattern (BY, GET)", engine.ErrOutsideNamespaces,
			verb,
			resp.Text(args[1], 100))
	}
	out := slices.Clone(args)
	var to []*rewriting
	for i, k := range keys {
		x := r.find(in[i], args[k])
		to = append(to, x)
		out[k] = append(bytes.Clone(x.toPre), args[k][len(x.prefix):]...)
		if in[i] == db && to[0].toDB != x.toDB {
			return nil, 0, beyond()
		}
	}
	if i := otherDB(verb, args); i > 0 {
		last := to[len(to)-1]
		if verb == "MOVE" && !bytes.Equal(out[1], append(bytes.Clone(to[0].toPre), args[1][len(to[0].prefix):]...)) {
			return nil, 0, beyond() // it moves under one name
		}
		out[i] = strconv.AppendInt(nil, int64(last.toDB), 10)
	}
	return out, to[0].toDB, nil
}

// storing are commands of which a second key, where they have one, is what is written.
var storing = words(`SORT GEORADIUS GEORADIUSBYMEMBER`)

// readsBeyond reports whether a command sorts by, or takes from, keys that are not all
// restored under their own names.
func (r *rewriter) readsBeyond(db int, args [][]byte) bool {
	for i := 2; i+1 < len(args); i++ {
		switch strings.ToUpper(string(args[i])) {
		case "LIMIT":
			i += 2
		case "STORE":
			i++
		case "BY", "GET":
			i++
			head, _, pattern := bytes.Cut(args[i], []byte("*"))
			if !pattern {
				continue // the element itself, or no order
			}
			whole := slices.ContainsFunc(r.list, func(x rewriting) bool {
				return x.db == db && !x.flat && bytes.HasPrefix(head, x.prefix) && bytes.Equal(x.prefix, x.toPre)
			})
			if !whole {
				return true
			}
		}
	}
	return false
}

// CanReplay implements [engine.Replayer].
func (w *writer) CanReplay(names map[string]string) (func(c *record.Change) error, error) {
	r, err := newRewriter(names)
	if err != nil {
		return nil, err
	}
	return func(c *record.Change) error {
		_, err := w.prepare(r, names, c)
		if err != nil {
			err = w.fail(placed(c, err))
		}
		return err
	}, nil
}

// placed says at which place of the log an error is.
func placed(c *record.Change, err error) error {
	return fmt.Errorf("command at %s (%s): %w", model{}.FormatPosition(c.At),
		c.Time().Local().Format("2006-01-02T15:04:05.000-07:00"), err)
}

// replayed is a command that is to be carried out.
type replayed struct {
	verb string
	// args are the command, for the keys of one server, in a database; nil where it
	// does nothing here. What concerns more than keys has wide set.
	args [][]byte
	db   int
	wide bool
}

// prepare makes of a command of the log what is carried out.
func (w *writer) prepare(r *rewriter, names map[string]string, c *record.Change) (x replayed, err error) {
	args, _, err := resp.ReadCommand(c.Value)
	if err != nil || len(args) < 2 {
		return x, fmt.Errorf("not readable: %w", err)
	}
	if x.db, err = strconv.Atoi(string(args[0])); err != nil {
		return x, err
	}
	x.verb = strings.ToUpper(string(args[1]))
	switch {
	case x.verb == "FUNCTION":
		if names[functionsName] != "" {
			x.args, x.wide = args[1:], true
		}
	case x.verb == "RESTORE-ASKING":
		// The other shard's log deletes what came here: merged, the key would be lost.
		return x, fmt.Errorf("%w: slots moved between shards then; take a point from after that",
			engine.ErrOutsideNamespaces)
	case x.verb == "SWAPDB":
		return x, fmt.Errorf("%w: %s", engine.ErrOutsideNamespaces, bytes.Join(args[1:], []byte(" ")))
	case x.verb == "SCRIPT":
		// What scripts did is in the stream by itself.
	case wideCommand(x.verb) != notWide:
		x.args, x.wide = args, true
		_, err = slotsIn(args)
	default:
		if x.args, x.db, err = r.rewrite(x.db, deferred(args[1:], c.Wall)); err != nil || x.args == nil {
			return x, err
		}
		keys, err := keysOf(x.args)
		if err != nil {
			return x, err
		}
		if w.clustered && !sameSlot(x.args, keys) {
			return x, fmt.Errorf("%w: %s has keys of several slots, which a cluster does not take; restore onto a "+
				"server without slots", engine.ErrOutsideNamespaces, x.verb)
		}
		other := otherDB(x.verb, x.args)
		if w.clustered && (x.db > 0 || other > 0 && string(x.args[other]) != "0") {
			return x, fmt.Errorf("%w: %s is of a database other than 0, which a cluster does not have; restore onto a "+
				"server without slots", engine.ErrOutsideNamespaces, x.verb)
		}
	}
	return x, err
}

// otherDB returns the place of the number of another database in a command, or
// zero.
func otherDB(verb string, args [][]byte) int {
	switch verb {
	case "MOVE":
		return 2
	case "COPY":
		for i := 3; i+1 < len(args); i++ {
			if strings.EqualFold(string(args[i]), "DB") {
				return i + 1
			}
		}
	}
	return 0
}
