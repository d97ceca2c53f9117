package redis

import (
	"bytes"
	"slices"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine/redis/resp"
)

// KeysNamed implements [engine.Inspector]: a key may be named whole, or without the
// beginning that is its namespace's name.
func (model) KeysNamed(namespace, text string) [][]byte {
	out := [][]byte{unitKey([]byte(text))}
	if _, prefix, _, err := split(namespace); err == nil && len(prefix) > 0 &&
		strings.HasPrefix(text, string(prefix)) {
		out = [][]byte{unitKey([]byte(text[len(prefix):])), out[0]}
	}
	return out
}

// Fields implements [engine.Inspector]: key, type (string, hash, list, set, zset, stream),
// expires where it does, and value: a text, of a hash and a sorted set a map, of others a
// list. Of a key that is kept as several records it is what one of them has.
func (model) Fields(value []byte) (map[string]any, bool, error) {
	out := map[string]any{}
	fields, list := map[string]any{}, []any{}
	err := resp.ReadCommands(value, func(args [][]byte) error {
		verb := string(args[0])
		if len(args) > keyArg(args) {
			out["key"] = string(args[keyArg(args)])
		}
		switch verb {
		case "SET", "APPEND":
			s, _ := out["value"].(string)
			out["type"], out["value"] = "string", s+string(args[2])
		case "HSET":
			for i := 2; i+1 < len(args); i += 2 {
				fields[string(args[i])] = string(args[i+1])
			}
			out["type"], out["value"] = "hash", fields
		case "ZADD":
			for i := 2; i+1 < len(args); i += 2 {
				score, err := strconv.ParseFloat(string(args[i]), 64)
				if err != nil {
					return err
				}
				fields[string(args[i+1])] = score
			}
			out["type"], out["value"] = "zset", fields
		case "RPUSH", "SADD":
			for _, e := range args[2:] {
				list = append(list, string(e))
			}
			out["type"], out["value"] = map[string]string{"RPUSH": "list", "SADD": "set"}[verb], list
		case "PEXPIREAT":
			ms, err := strconv.ParseInt(string(args[2]), 10, 64)
			if err != nil {
				return err
			}
			out["expires"] = time.UnixMilli(ms).UTC()
		case "XADD":
			var entry []any
			for _, e := range args[2:] {
				entry = append(entry, string(e))
			}
			list = append(list, entry)
			out["type"], out["value"] = "stream", list
		}
		return nil
	})
	_, known := out["type"]
	return out, known, err
}

// Effect implements [engine.CommandTeller]: what removes keys and nothing else is a
// deletion, what empties a database or a server empties, all else writes.
func (model) Effect(c *record.Change) record.Op {
	if c.Op != record.Command {
		return c.Op
	}
	args, _, err := resp.ReadCommand(c.Value)
	if err != nil || len(args) < 2 {
		return c.Op
	}
	switch verb := strings.ToUpper(string(args[1])); verb {
	case "DEL", "UNLINK", "GETDEL":
		return record.Delete
	case "FLUSHDB", "FLUSHALL":
		return record.Empty
	case "RENAME", "RENAMENX", "MOVE", "FUNCTION", "SCRIPT":
		return record.Command
	}
	return record.Patch
}

// Concerns implements [engine.CommandTeller].
func (model) Concerns(c *record.Change, namespace string, key []byte) bool {
	args, _, err := resp.ReadCommand(c.Value)
	if err != nil || len(args) < 2 {
		return false
	}
	db, prefix, _, err := split(namespace)
	if err != nil || string(args[0]) != strconv.Itoa(db) {
		return false
	}
	_, name, err := unitOf(key)
	if err != nil {
		return false
	}
	places, err := keysOf(args[1:])
	if err != nil {
		return false
	}
	return slices.ContainsFunc(places, func(i int) bool {
		return i+1 < len(args) && bytes.Equal(args[i+1], append(slices.Clone(prefix), name...))
	})
}

// Shape implements [engine.Shaper]: the command.
func (model) Shape(c *record.Change) string {
	args, _, err := resp.ReadCommand(c.Value)
	if err != nil || len(args) < 2 {
		return ""
	}
	return strings.ToUpper(string(args[1]))
}
