package redis

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"dexamen/internal/engine/redis/resp"
)

// Value is what a key holds.
type Value struct {
	// Type is what TYPE says of it.
	Type string
	// String is a string's; Fields a hash's, names and values in turn; Items those of a list in
	// their order, or of a set; Scored a sorted set's, by score and then member.
	String  []byte
	Fields  [][]byte
	Items   [][]byte
	Scored  []Scored
	Entries []Entry
	// Expires is in milliseconds since 1970; 0 is never.
	Expires int64
}

// Scored is a member of a sorted set.
type Scored struct {
	Member []byte
	Score  float64
}

// Entry is an entry of a stream.
type Entry struct {
	ID     []byte
	Fields [][]byte // names and values in turn
}

// KeyParts takes the name of a namespace apart: the number of its database, and what all keys
// of it begin with, which its records leave out. Holds reports whether a key is of it.
func KeyParts(namespace string) (db int, prefix []byte, holds func(key []byte) bool, err error) {
	db, prefix, flat, err := split(namespace)
	return db, prefix, func(key []byte) bool { return prefixes.Holds(prefix, flat, key) }, err
}

// RecordPrefix is what the keys of all records of a key begin with, given without its
// namespace's prefix.
func RecordPrefix(short []byte) []byte { return unitKey(short) }

// KeyOf returns the key that a record is of, without its namespace's prefix.
func KeyOf(record []byte) (prefix, short []byte, err error) { return unitOf(record) }

// Add takes one of the records of a key.
func (v *Value) Add(value []byte) error {
	return resp.ReadCommands(value, func(args [][]byte) error {
		rest := func(n int) [][]byte {
			out := make([][]byte, 0, len(args))
			for _, a := range args[min(n, len(args)):] {
				out = append(out, bytes.Clone(a))
			}
			return out
		}
		switch verb := string(args[0]); verb {
		case typeVerb:
			v.Type = string(args[2])
		case "SET", "APPEND":
			v.Type, v.String = "string", append(v.String, args[2]...)
		case "HSET":
			v.Type, v.Fields = "hash", append(v.Fields, rest(2)...)
		case "RPUSH":
			v.Type, v.Items = "list", append(v.Items, rest(2)...)
		case "SADD":
			v.Type, v.Items = "set", append(v.Items, rest(2)...)
		case "ZADD":
			v.Type = "zset"
			for i := 2; i+1 < len(args); i += 2 {
				f, err := strconv.ParseFloat(string(args[i]), 64)
				if err != nil {
					return err
				}
				v.Scored = append(v.Scored, Scored{bytes.Clone(args[i+1]), f})
			}
		case "XADD":
			v.Type = "stream"
			if f := rest(2); len(f) > 0 {
				v.Entries = append(v.Entries, Entry{f[0], f[1:]})
			}
		case "XSETID", "XGROUP", "XDEL", "XCLAIM":
			v.Type = "stream" // of its groups nothing is shown
		case "PEXPIREAT":
			n, err := strconv.ParseInt(string(args[2]), 10, 64)
			if err != nil {
				return err
			}
			v.Expires = n
		default:
			return fmt.Errorf("what %s makes is not shown", verb)
		}
		return nil
	})
}

// Finish puts a value in order, when all records of its key were added.
func (v *Value) Finish() {
	slices.SortFunc(v.Scored, func(a, b Scored) int {
		return cmp.Or(cmp.Compare(a.Score, b.Score), bytes.Compare(a.Member, b.Member))
	})
}
