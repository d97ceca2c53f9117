package redis

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
	"dexamen/internal/engine/redis/resp"
)

// Kinds and names of namespaces. Keys are in "db0", or cut by their beginnings
// in "db0/sessions:"; what concerns more than a namespace is logged for "db0" or
// for all.
const (
	keysKind record.Kind = "keys"

	usersName     = "users"
	functionsName = "functions"
	allName       = "all"
)

var definition = []byte("keys with type, value and expiry")

// place is a position taken apart.
type place struct {
	// epoch tells histories apart of which one is no continuation of the other:
	// milliseconds since 1970, zero for the first.
	epoch  uint64
	offset uint64
	// history is the servers' name of it (the replication id).
	history [20]byte
	// db is the database that the stream is at; unknownDB where that is not known.
	db uint16
	// command: a command ended here. Every other place at its offset is behind it,
	// whatever else it tells: what holds what the command did must not have it
	// done again.
	command bool
	// idle is a time in milliseconds until which nothing came after it; or zero.
	idle uint64
}

const unknownDB = 0xFFFF

// position returns the place as bytes that order: by history, then offset; at one offset a
// command before all else, and then by time, whatever its servers call the history.
func (p place) position() record.Position {
	b := binary.BigEndian.AppendUint64(nil, p.epoch)
	b = binary.BigEndian.AppendUint64(b, p.offset)
	if p.command {
		b = append(b, 0)
	} else {
		b = append(b, 1)
	}
	b = binary.BigEndian.AppendUint64(b, p.idle)
	b = append(b, p.history[:]...)
	b = binary.BigEndian.AppendUint16(b, p.db)
	return record.Position(append(b, 0))
}

// entry is the position of a command that ended here.
func (p place) entry() record.Position {
	p.command, p.idle = true, 0
	return p.position()
}

// placeOf takes a position apart, also one of earlier versions, which had the history before
// the time, and no time where there was none.
func placeOf(pos record.Position) (p place, ok bool) {
	b := []byte(pos)
	if len(b) != 39 && len(b) != 47 && len(b) != 48 || b[16] > 1 {
		return p, false
	}
	p.epoch, p.offset = binary.BigEndian.Uint64(b), binary.BigEndian.Uint64(b[8:])
	p.command = b[16] == 0
	rest := b[17:]
	if len(b) == 48 {
		p.idle, rest = binary.BigEndian.Uint64(rest), rest[8:]
	}
	copy(p.history[:], rest)
	p.db = binary.BigEndian.Uint16(rest[20:])
	if len(b) == 47 {
		p.idle = binary.BigEndian.Uint64(rest[22:])
	}
	return p, true
}

func (p place) historyName() string { return hex.EncodeToString(p.history[:]) }

func historyOf(name string) (h [20]byte, err error) {
	b, err := hex.DecodeString(name)
	if err != nil || len(b) != 20 {
		return h, fmt.Errorf("%w: replication id %q", resp.ErrProtocol, name)
	}
	copy(h[:], b)
	return h, nil
}

// model implements [engine.Expiring], [engine.Grouper] and [engine.ShardedModel].
type model struct{ keyprefix.Model }

// Traits implements [engine.Model].
func (model) Traits() engine.Traits {
	return engine.Traits{Commands: true, ShardClocks: true, DropsEmpty: true, SettingsFirst: true,
		Unlogged: []record.Kind{record.KindSettings}}
}

// Apply implements [fold.Model].
func (model) Apply([]byte, *record.Change, bool) ([]byte, error) {
	return nil, errors.New("a log of commands holds no changes to values")
}

// Alter implements [fold.Model].
func (model) Alter([]byte, *record.Change) ([]byte, error) {
	return nil, errors.New("a log of commands holds no changes to definitions")
}

// Implied implements [fold.Model].
func (m model) Implied(name string) (record.Kind, []byte) {
	if m.Kind(name) == record.KindSettings {
		return record.KindSettings, nil
	}
	return keysKind, definition
}

// Staged implements [engine.Model]: content is written in place.
func (model) Staged(string) bool { return false }

// CheckChange implements [engine.Model]: the forms of changes are the adapter's own.
func (model) CheckChange(*record.Change) error { return nil }

// Kind implements [engine.Model].
func (model) Kind(name string) record.Kind {
	if name == usersName || name == functionsName {
		return record.KindSettings
	}
	return keysKind
}

// split takes a namespace's name apart.
func split(name string) (db int, prefix []byte, flat bool, err error) {
	head, tail, cut := strings.Cut(name, "/")
	num, ok := strings.CutPrefix(head, "db")
	db, err = strconv.Atoi(num)
	if !ok || err != nil || db < 0 || strconv.Itoa(db) != num {
		return 0, nil, false, fmt.Errorf("%q is no name of keys, which is db0, or db0/ and how they begin", name)
	}
	if !cut {
		return db, nil, false, nil
	}
	prefix, flat, err = prefixes.Range(tail)
	return db, prefix, flat, err
}

// prefixes reads names; its depth is of no account for that.
var prefixes = keyprefix.Cut{Sep: ':'}

// CheckName implements [engine.Model].
func (model) CheckName(name string) error {
	_, _, _, err := split(name)
	return err
}

// CrossesNamespaces reports the names under which is logged what concerns more than a
// namespace.
func (model) CrossesNamespaces(name string) bool {
	_, _, cut := strings.Cut(name, "/")
	return name == allName || !cut && strings.HasPrefix(name, "db")
}

// Concerned implements [engine.CrossNamespace].
func (m model) Concerned(c *record.Change, known []string) (out []string) {
	args, _, err := resp.ReadCommand(c.Value)
	if err != nil || len(args) < 2 {
		return nil
	}
	db, err := strconv.Atoi(string(args[0]))
	if err != nil {
		return nil
	}
	cut := keyprefix.Cut{Sep: prefixes.Sep, Depth: depthOf(known)}
	name := func(db int, key []byte) {
		n, _ := nameOf(cut, db, key)
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	args = args[1:]
	keys, err := keysOf(args)
	if err != nil {
		return nil
	}
	to := db
	if i := otherDB(strings.ToUpper(string(args[0])), args); i > 0 && i < len(args) {
		if to, err = strconv.Atoi(string(args[i])); err != nil {
			return nil
		}
	}
	for i, k := range keys {
		if i == 0 {
			name(db, args[k])
		}
		if i > 0 || to != db {
			name(to, args[k])
		}
	}
	return out
}

// depthOf returns by how many segments of keys namespaces were cut.
func depthOf(known []string) int {
	depth := 0
	for _, n := range known {
		_, tail, cut := strings.Cut(n, "/")
		if !cut {
			continue
		}
		segments := strings.Count(strings.TrimPrefix(tail, ":"), ":")
		switch {
		case tail == ":" || tail == "top":
			segments = 1
		case !strings.HasSuffix(tail, ":"):
			segments += 2
		}
		depth = max(depth, segments)
	}
	return depth
}

// GroupPrefix implements [engine.Grouper].
func (model) GroupPrefix(key []byte) []byte {
	u, _, err := unitOf(key)
	if err != nil {
		return key
	}
	return u
}

// keyArg returns the key's place among a command's arguments.
func keyArg(args [][]byte) int {
	if string(args[0]) == "XGROUP" {
		return 2
	}
	return 1
}

// Label returns the key below its namespace's prefix.
func (model) Label(value []byte) string {
	args, _, err := resp.ReadCommand(value)
	if err != nil || len(args) <= keyArg(args) {
		return "(not readable)"
	}
	switch string(args[0]) {
	case "ACL":
		return "user " + resp.Text(args[2], 200)
	case "FUNCTION":
		line, _, _ := bytes.Cut(args[len(args)-1], []byte("\n"))
		return "functions " + resp.Text(line, 200)
	}
	return resp.Text(args[keyArg(args)], 200)
}

// Render shows the commands that make a record, the key once.
func (m model) Render(value []byte) string {
	var out []string
	err := resp.ReadCommands(value, func(args [][]byte) error {
		line := string(args[0])
		for i, a := range args[1:] {
			if i+1 == keyArg(args) && len(out) > 0 {
				continue
			}
			if len(line) > 2000 {
				line += " …"
				break
			}
			line += " " + resp.Text(a, 200)
		}
		out = append(out, line)
		return nil
	})
	if err != nil {
		return "(not readable)"
	}
	return strings.Join(out, "; ")
}

// Changes names the parts that differ: of a hash its fields, of a sorted set its
// members, of others their elements.
func (model) Changes(a, b []byte) []string {
	pa, oa, err1 := partsOf(a)
	pb, ob, err2 := partsOf(b)
	if err1 != nil || err2 != nil {
		return []string{"not readable"}
	}
	short := func(s string, ok bool) string {
		if !ok {
			return "(none)"
		}
		return resp.Text([]byte(s), 40)
	}
	var out []string
	for _, k := range oa {
		v, ok := pb[k]
		if !ok || v != pa[k] {
			out = append(out, resp.Text([]byte(k), 40)+": "+short(pa[k], true)+" > "+short(v, ok))
		}
	}
	for _, k := range ob {
		if _, ok := pa[k]; !ok {
			out = append(out, resp.Text([]byte(k), 40)+": (none) > "+short(pb[k], true))
		}
	}
	if out == nil {
		out = []string{"the order of its elements"}
	}
	return out
}

// partsOf returns a record's parts by name, and the names in order.
func partsOf(value []byte) (map[string]string, []string, error) {
	out := map[string]string{}
	var order []string
	put := func(k, v string) {
		if _, ok := out[k]; !ok {
			order = append(order, k)
		}
		out[k] = v
	}
	err := resp.ReadCommands(value, func(args [][]byte) error {
		verb := string(args[0])
		switch {
		case verb == "HSET":
			for i := 2; i+1 < len(args); i += 2 {
				put(string(args[i]), string(args[i+1]))
			}
		case verb == "ZADD":
			for i := 2; i+1 < len(args); i += 2 {
				put(string(args[i+1]), string(args[i]))
			}
		case verb == "RPUSH":
			for i, e := range args[2:] {
				put(strconv.Itoa(i), string(e))
			}
		case verb == "SADD":
			for _, e := range args[2:] {
				put(string(e), "in it")
			}
		case verb == "PEXPIREAT":
			put("expires", string(args[2]))
		case verb == "SET" || verb == "APPEND":
			put("value", string(args[2]))
		default:
			put(string(bytes.Join(args[:min(3, len(args))], []byte(" "))),
				string(bytes.Join(args[min(3, len(args)):], []byte(" "))))
		}
		return nil
	})
	return out, order, err
}

// FormatPosition returns OFFSET-EPOCH-HISTORY-DB, and the time until which nothing
// came after it, or "c" where it is a command's.
func (model) FormatPosition(pos record.Position) string {
	p, ok := placeOf(pos)
	if !ok {
		return pos.Hex()
	}
	s := fmt.Sprintf("%d-%d-%s-%d", p.offset, p.epoch, p.historyName(), p.db)
	if p.idle > 0 {
		s += fmt.Sprintf("-%d", p.idle)
	}
	if p.command {
		s += "-c"
	}
	return s
}

// ParsePosition implements [engine.Model].
func (model) ParsePosition(s string) (record.Position, error) {
	bad := fmt.Errorf("%q is no log position of a Redis shard, which is OFFSET-EPOCH-HISTORY-DB", s)
	f := strings.Split(s, "-")
	if len(f) != 4 && len(f) != 5 {
		return "", bad
	}
	var p place
	var err error
	if p.command = f[len(f)-1] == "c"; p.command {
		f = f[:len(f)-1]
	}
	if len(f) < 4 {
		return "", bad
	}
	if p.history, err = historyOf(f[2]); err != nil {
		return "", bad
	}
	nums := slices.Delete(slices.Clone(f), 2, 3)
	out := make([]uint64, 4)
	for i, n := range nums {
		if out[i], err = strconv.ParseUint(n, 10, 64); err != nil {
			return "", bad
		}
	}
	if out[2] > unknownDB {
		return "", bad
	}
	p.offset, p.epoch, p.db, p.idle = out[0], out[1], uint16(out[2]), out[3]
	return p.position(), nil
}

// Expires implements [engine.Expiring].
func (model) Expires(value []byte) (time.Time, bool) {
	ms, does := expiryMillis(value)
	return time.UnixMilli(ms), does
}

// expiryMillis returns when a record's key expires, in milliseconds since 1970.
func expiryMillis(value []byte) (int64, bool) {
	_, args := expiryCommand(value)
	if args == nil {
		return 0, false
	}
	ms, err := strconv.ParseInt(string(args[2]), 10, 64)
	return ms, err == nil
}

// expiryCommand returns where in a record's value the command begins that sets its key's expiry, and the command; nil
// where there is none. It is the last of the value's commands, which are read from the front: what a client has
// written may look like one, to the end of its value.
func expiryCommand(value []byte) (at int, args [][]byte) {
	if !bytes.Contains(value, []byte("\r\nPEXPIREAT\r\n")) {
		return 0, nil
	}
	for rest := value; len(rest) > 0; {
		at = len(value) - len(rest)
		var err error
		if args, rest, err = resp.ReadCommand(rest); err != nil {
			return 0, nil
		}
	}
	if len(args) != 3 || string(args[0]) != "PEXPIREAT" {
		return 0, nil
	}
	return at, args
}

// Layout implements [engine.ShardedModel]: every key is on one shard, and all count.
func (model) Layout(_, _ func(string, func([]byte) error) error) (engine.Layout, error) {
	return layout{}, nil
}

type layout struct{}

func (layout) Part(_ string, ns record.Namespace) engine.Part { return engine.Part{Name: ns.Name} }

func (layout) Define(ns record.Namespace) ([]byte, error) { return ns.Definition, nil }
