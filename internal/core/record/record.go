// Package record holds the vocabulary every other package of the core shares:
// records, namespaces, log positions and the changes a log is made of.
//
// Nothing here knows an engine. Keys are byte strings whose byte order is the
// record order; values are whatever the engine itself stores, passed through
// as raw bytes.
package record

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"time"
)

// Record is one unit of content of a namespace: a document, a key, a chunk.
type Record struct {
	// Key orders the record within its namespace (bytewise) and identifies it.
	Key []byte
	// Value is the engine's own serialisation, never re-encoded.
	Value []byte
}

// Position is a place in one shard's log. Positions of one shard order
// bytewise; the empty position is before all others. What the bytes mean is
// the engine's business (for document clusters: cluster time, 8 bytes, big
// endian).
type Position string

// Hex returns the position in a form fit for names and JSON.
func (p Position) Hex() string { return hex.EncodeToString([]byte(p)) }

// Next returns the position that follows at once, of the same length.
func (p Position) Next() Position { return p.step(1) }

// Prev returns the position just before.
func (p Position) Prev() Position { return p.step(-1) }

// step takes the position for a number, big end first.
func (p Position) step(by int) Position {
	b := []byte(p)
	for i := len(b) - 1; i >= 0; i-- {
		was := b[i]
		b[i] += byte(by)
		if by > 0 && was != 0xFF || by < 0 && was != 0 {
			break
		}
	}
	return Position(b)
}

// MarshalText implements encoding.TextMarshaler.
func (p Position) MarshalText() ([]byte, error) { return []byte(p.Hex()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (p *Position) UnmarshalText(b []byte) error {
	raw, err := hex.DecodeString(string(b))
	if err != nil {
		return fmt.Errorf("log position %q: %w", b, err)
	}
	*p = Position(raw)
	return nil
}

// Mark is a place in a shard's log together with the wall-clock time at which
// the server wrote it.
type Mark struct {
	Position Position  `json:"position"`
	Wall     time.Time `json:"wall"`
	// Entry tells, in the engine's own form, which entry of the log was the last one seen: a log
	// that is the same history still has it. Empty where the engine has no such thing.
	Entry string `json:"entry,omitempty"`
}

// Namespace names one sorted run of records and says how it is defined.
type Namespace struct {
	// Name as the administrator knows it, "database.collection".
	Name string `json:"name"`
	// Ident is the server's own identity of this incarnation (it changes when
	// a namespace is dropped and made again); empty when the server has none.
	Ident []byte `json:"ident,omitempty"`
	// Kind is what it holds: one of the kinds of this package, or one of the
	// engine's own.
	Kind Kind `json:"kind"`
	// Definition is the engine's canonical description: options, validator,
	// indexes. Equal definitions have equal bytes.
	Definition []byte `json:"definition,omitempty"`
}

// Op describes what a change does.
type Op byte

// The operations a journal holds. Their numbers are part of the store format.
const (
	Put    Op = 1 // the record with this key now has this value
	Patch  Op = 2 // Value is a delta the engine applies to the record
	Delete Op = 3 // the record is gone; Value is the engine's own naming of it
	Create Op = 4 // the namespace begins; Value is its definition
	Alter  Op = 5 // Value is a delta the engine applies to the definition
	Drop   Op = 6 // the namespace ends
	Rename Op = 7 // the namespace goes on under the name in To
	Empty  Op = 8 // all records of the namespace are gone, the namespace stays
	// Command: Value is a command that only a server of the engine can carry
	// out; Key is the key that it names first, if any.
	Command Op = 9
	// Unknown: what was done to the namespace is not understood; Value is why. With a Key
	// it may have been done to every namespace whose name begins with the key.
	Unknown Op = 10
)

// String returns the operation's name.
func (o Op) String() string {
	names := [...]string{"?", "put", "patch", "delete", "create", "alter", "drop", "rename", "empty", "command",
		"unknown"}
	if int(o) < len(names) {
		return names[o]
	}
	return fmt.Sprintf("op(%d)", byte(o))
}

// Record reports whether the operation touches one record (true) or the
// namespace as a whole (false).
func (o Op) Record() bool { return o >= Put && o <= Delete }

// Moved is what To of a Put or Delete is where the cluster moves the record between its
// shards: nobody has written or deleted it.
const Moved = "moved"

// Change is one effect of one log entry. An entry with several effects (a
// transaction) gives several changes with the same position.
type Change struct {
	Op        Op
	Namespace string
	// Ident is the identity of the namespace, when the log names it.
	Ident []byte
	Key   []byte
	Value []byte
	// To is the new name in a Rename; in a Put or Delete [Moved] where the record only
	// went from one shard to another; in a Drop or Alter without identity the kind of
	// namespace that the entry is about, where it tells: what has the name and is of another
	// kind is not meant. Such a Drop with a Key ends every namespace of the kind whose name
	// begins with the key.
	To string
	At Position
	// Wall is the server's wall clock at the entry, in milliseconds since 1970.
	Wall int64
}

// Time returns Wall as a time.
func (c *Change) Time() time.Time { return time.UnixMilli(c.Wall) }

// Clone copies the change's bytes, for keeping it past the call it came in.
func (c Change) Clone() Change {
	c.Ident = bytes.Clone(c.Ident)
	c.Key = bytes.Clone(c.Key)
	c.Value = bytes.Clone(c.Value)
	return c
}
