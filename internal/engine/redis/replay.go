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
		where := func(err error) error {
			return w.fail(fmt.Errorf("command at %s (%s): %w", model{}.FormatPosition(c.At),
				c.Time().Local().Format("2006-01-02T15:04:05.000-07:00"), err))
		}
		args, _, err := resp.ReadCommand(c.Value)
		if err != nil || len(args) < 2 {
			return done, where(fmt.Errorf("not readable: %w", err))
		}
		db, err := strconv.Atoi(string(args[0]))
		if err != nil {
			return done, where(err)
		}
		verb := strings.ToUpper(string(args[1]))
		switch {
		case verb == "FUNCTION":
			if names[functionsName] == "" {
				continue
			}
			for _, sh := range w.list() {
				p, err := s.to(w.membersOf(sh)[0], 0)
				if err != nil {
					return done, where(err)
				}
				p.add(args[1:])
			}
		case verb == "RESTORE-ASKING":
			// The other shard's log deletes what came here: merged, the key would
			// be lost.
			return done, where(fmt.Errorf("%w: slots moved between shards then; take a point from after that",
				engine.ErrOutsideNamespaces))
		case verb == "SCRIPT":
			continue // what scripts did is in the stream by itself
		case wideCommand(verb) != notWide:
			if verb == "SWAPDB" {
				return done, where(fmt.Errorf("%w: %s", engine.ErrOutsideNamespaces, bytes.Join(args[1:], []byte(" "))))
			}
			concerned, err := slotsIn(args)
			if err == nil {
				err = s.flushAll()
			}
			if err != nil {
				return done, where(err)
			}
			for i := range r.list {
				if to := &r.list[i]; wideCommand(verb) == serverWide || to.db == db {
					if err := w.clear(ctx, to, concerned); err != nil {
						return done, where(err)
					}
				}
			}
		default:
			out, toDB, err := r.rewrite(db, deferred(args[1:], c.Wall))
			if err != nil {
				return done, where(err)
			}
			if out == nil {
				continue
			}
			keys, err := keysOf(out)
			if err != nil {
				return done, where(err)
			}
			p, err := s.to(w.addrOf(out[keys[0]]), toDB)
			if err != nil {
				return done, where(err)
			}
			if w.clustered && !sameSlot(out, keys) {
				return done, where(fmt.Errorf("%w: %s has keys of several slots, which a cluster does not take; "+
					"restore onto a server without slots", engine.ErrOutsideNamespaces, verb))
			}
			p.add(out)
			if len(p.buf) > 1<<20 {
				if err := s.flush(p); err != nil {
					return done, where(err)
				}
			}
		}
		done++
	}
	if err := s.flushAll(); err != nil {
		return done, fmt.Errorf("carrying out the log: %w", err)
	}
	return done, nil
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
	for _, s := range w.list() {
		addr := w.membersOf(s)[0]
		err := w.eachKey(ctx, addr, x.toDB, globOf(x.toPre), func(keys []string) error {
			p := w.clientDB(addr, x.toDB).Pipeline()
			for _, k := range keys {
				was := append(slices.Clone(x.prefix), k[len(x.toPre):]...)
				if !isMark([]byte(k)) && prefixes.Holds(x.toPre, flat, []byte(k)) && concerned(was) {
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
			return err
		}
	}
	return nil
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
	inside, outside := 0, 0
	for _, k := range keys {
		if r.find(db, args[k]) != nil {
			inside++
		} else {
			outside++
		}
	}
	if inside == 0 {
		return nil, 0, nil
	}
	beyond := fmt.Errorf("%w: %s with %s and others", engine.ErrOutsideNamespaces, verb, resp.Text(args[keys[0]], 100))
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
		case isTarget && r.find(db, args[t]) == nil:
			return nil, 0, nil // written elsewhere
		default:
			return nil, 0, beyond
		}
	}
	out := slices.Clone(args)
	toDB := -1
	for _, k := range keys {
		x := r.find(db, args[k])
		out[k] = append(bytes.Clone(x.toPre), args[k][len(x.prefix):]...)
		if toDB >= 0 && toDB != x.toDB {
			return nil, 0, beyond
		}
		toDB = x.toDB
	}
	if i := otherDB(verb, args); i > 0 {
		n, err := strconv.Atoi(string(args[i]))
		if err != nil {
			return nil, 0, err
		}
		k := keys[len(keys)-1]
		x := r.find(n, args[k])
		if x == nil {
			return nil, 0, beyond
		}
		out[k] = append(bytes.Clone(x.toPre), args[k][len(x.prefix):]...)
		out[i] = strconv.AppendInt(nil, int64(x.toDB), 10)
		if verb == "MOVE" && !bytes.Equal(out[k],
			append(bytes.Clone(r.find(db, args[k]).toPre), args[k][len(r.find(db, args[k]).prefix):]...)) {
			return nil, 0, beyond
		}
	}
	return out, toDB, nil
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
