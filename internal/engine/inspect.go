package engine

import (
	"bytes"

	"dexamen/internal/core/record"
)

// Inspector is a Model whose records people can name and put conditions on.
type Inspector interface {
	Model
	// KeysNamed returns the keys that a text may mean in a namespace, the likeliest first:
	// "17" may be a number or a text. Where a thing is a group of records ([Grouper])
	// it is the group's prefix. It returns none where the text names nothing.
	KeysNamed(namespace, text string) [][]byte
	// Fields returns a record for conditions on it: texts, numbers, booleans, times, byte
	// strings, nil, []any and map[string]any, by the names that people know. Ok is false for
	// a record that is a part of something and has none.
	Fields(value []byte) (fields map[string]any, ok bool, err error)
}

// Named reports whether a record is of the thing that a key of [Inspector.KeysNamed] means.
func Named(m Model, key, named []byte) bool {
	if g, ok := m.(Grouper); ok {
		return bytes.Equal(g.GroupPrefix(key), named)
	}
	return bytes.Equal(key, named)
}

// Shaper is a Model of changes that tell which part of a record they touch.
type Shaper interface {
	Model
	// Shape returns what a change touches: names of fields, say. What a script does to many
	// records is of one shape.
	Shape(c *record.Change) string
}

// CommandTeller is a Model of logs of commands.
type CommandTeller interface {
	Model
	// Effect returns the operation that a change comes to: of a command that removes keys
	// [record.Delete], of one that empties a namespace [record.Empty].
	Effect(c *record.Change) record.Op
	// Concerns reports whether a command names a key ([Inspector.KeysNamed]) of a namespace.
	Concerns(c *record.Change, namespace string, key []byte) bool
}

// EffectOf returns what changes of a log come to; nil where they say it themselves.
func EffectOf(m Model) func(*record.Change) record.Op {
	if t, ok := m.(CommandTeller); ok {
		return t.Effect
	}
	return nil
}
