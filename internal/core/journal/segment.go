// Package journal keeps each shard's changes as sealed segments.
//
// A segment covers the log from just after one position up to and including
// another, names its shard and wall times, and carries the identity of the
// segment before it: a missing, replaced or damaged one is found. A stretch
// that could not be captured is a segment too, without changes and with the
// reason: a gap is a fact that is kept.
package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
	"unique"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/frame"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// Header describes a segment.
type Header struct {
	Cluster string `json:"cluster"`
	Shard   string `json:"shard"`
	// After is where the segment begins: its changes come after it.
	After record.Mark `json:"after"`
	// Last is the end of what it covers, included.
	Last record.Mark `json:"last"`
	// First is the position of the first change; empty without changes.
	First record.Mark `json:"first"`
	// Changes counts the changes; Bytes is their size before compression.
	Changes int64 `json:"changes"`
	Bytes   int64 `json:"bytes"`
	// Prev is the identity of the segment before; zero for the first one.
	Prev tree.Hash `json:"prev"`
	// Body is BLAKE3 of everything after the header.
	Body tree.Hash `json:"body"`
	// Gap, where set, is why nothing is known about this stretch.
	Gap string `json:"gap,omitempty"`
	// Doubt lists what was seen that the log does not tell, such as a
	// namespace that went away without an entry.
	Doubt []string `json:"doubt,omitempty"`
	// Summary counts the changes by namespace, in order of names; Unsummarized counts those
	// of namespaces that are too many to be in it.
	Summary      []Tally `json:"summary,omitempty"`
	Unsummarized int64   `json:"unsummarized,omitempty"`
	// Unknown counts the changes of what was not understood ([record.Unknown]).
	Unknown int64 `json:"unknown,omitempty"`
	// Source is the member the log was read from.
	Source string `json:"source,omitempty"`
	// Joined is how many segments this one was put together from; Tail is the identity of
	// the last of them, on which the next segment was sealed. It takes their place where
	// not all of them are there.
	Joined int       `json:"joined,omitempty"`
	Tail   tree.Hash `json:"tail,omitzero"`
	Made   time.Time `json:"made"`
	// Vouch, of one that was put together in an encrypted store, shows that somebody did it
	// who can read: 32 bytes over the header without it.
	Vouch []byte `json:"vouch,omitempty"`

	// ID is the segment's identity: BLAKE3 of its header, which includes that
	// of the body.
	ID tree.Hash `json:"-"`
	// Size is the segment's length in the store, in bytes.
	Size int64 `json:"-"`
}

const (
	magic = "DXSG\x01\x00\x00\x00"
	// HeadSize is how many bytes from the front are read to get at a header;
	// the few that are longer take a second read.
	HeadSize = 4 << 10
	// blockSize is how many bytes of changes share a frame.
	blockSize = 256 << 10
)

// ErrDamaged means that a segment's bytes are not what was sealed.
var ErrDamaged = errors.New("damaged log segment")

// Keys encrypt segments: Head their headers, Body their changes. The zero value
// leaves both as they are.
type Keys struct {
	Head, Body *frame.Key
	// Vouch, where not nil, returns what shows that somebody made a joined segment who can
	// read; of its name and header.
	Vouch func(name string, header []byte) []byte
}

// Builder gathers changes for one segment.
type Builder struct {
	keys  Keys
	head  Header
	body  []byte
	block []byte
	sums  summarizer
}

// Effect has the summary count changes as what a function says they do. It is for logs
// of commands, of which only their engine knows that.
func (b *Builder) Effect(of func(*record.Change) record.Op) { b.sums.effect = of }

// NewBuilder begins a segment after the mark.
func NewBuilder(keys Keys, cluster, shard string, after record.Mark) *Builder {
	return &Builder{keys: keys, head: Header{Cluster: cluster, Shard: shard, After: after, Last: after}}
}

// Add appends a change. Changes come in order of position.
func (b *Builder) Add(c *record.Change) error {
	if c.At < b.head.Last.Position || c.At == b.head.After.Position {
		return fmt.Errorf("journal: change at %s after %s", c.At.Hex(), b.head.Last.Position.Hex())
	}
	mark := record.Mark{Position: c.At, Wall: c.Time()}
	if b.head.Changes == 0 {
		b.head.First = mark
	}
	b.head.Changes++
	if c.Op == record.Unknown {
		b.head.Unknown++
	}
	b.sums.add(c)
	b.CoverTo(mark)
	n := len(b.block)
	b.block = record.AppendChange(b.block, c)
	b.head.Bytes += int64(len(b.block) - n)
	if len(b.block) >= blockSize {
		b.endBlock()
	}
	return nil
}

// CoverTo notes that the log was read up to the mark, with or without changes.
func (b *Builder) CoverTo(m record.Mark) {
	if m.Position > b.head.Last.Position {
		b.head.Last.Position, b.head.Last.Entry = m.Position, m.Entry
	}
	if m.Position == b.head.Last.Position && m.Entry != "" {
		b.head.Last.Entry = m.Entry
	}
	if m.Wall.After(b.head.Last.Wall) {
		b.head.Last.Wall = m.Wall
	}
}

func (b *Builder) endBlock() {
	if len(b.block) > 0 {
		b.body = b.keys.Body.Append(b.body, frame.Changes, b.block)
		b.block = b.block[:0]
	}
}

// Header returns what the segment is so far.
func (b *Builder) Header() Header { return b.head }

// Size is about how many bytes the segment holds in memory.
func (b *Builder) Size() int { return len(b.body) + len(b.block) }

// Doubt notes something seen that the log does not tell.
func (b *Builder) Doubt(what string) { b.head.Doubt = append(b.head.Doubt, what) }

// Seal ends the segment and gives its bytes. Prev is the identity of the
// segment before it; the zero hash begins a chain.
func (b *Builder) Seal(prev tree.Hash, source string) (Header, []byte, error) {
	b.endBlock()
	b.head.Prev, b.head.Source, b.head.Made = prev, source, time.Now().UTC().Truncate(time.Millisecond)
	b.head.Summary, b.head.Unsummarized = b.sums.list(), b.sums.missed
	return seal(b.keys, b.head, b.body)
}

// Join seals a segment that takes the place of several that follow on each other:
// the changes were added in order.
func (b *Builder) Join(of []Header) (Header, []byte, error) {
	last := of[len(of)-1]
	b.CoverTo(last.Last)
	b.head.Tail = last.TailID()
	b.sums = summarizer{}
	for _, h := range of {
		b.sums.merge(&h)
		b.head.Joined += max(1, h.Joined)
		b.head.Doubt = append(b.head.Doubt, h.Doubt...)
	}
	return b.Seal(of[0].Prev, last.Source)
}

// vouchName is what joined segments are vouched for under; their place is in the header.
const vouchName = "joined segment"

// DoubtedBy reports whether a joined segment is one that nobody made who can read, as doubts
// tells of a name, what was vouched for, and the vouch; a segment as it was captured needs none.
func (h *Header) DoubtedBy(doubts func(name string, header, vouch []byte) bool) bool {
	if h.Joined == 0 {
		return false
	}
	bare := *h
	bare.Vouch = nil
	raw, err := json.Marshal(bare)
	return err != nil || doubts(vouchName, raw, h.Vouch)
}

// TailID is the identity that the segment after this one is sealed upon.
func (h *Header) TailID() tree.Hash {
	if h.Joined > 0 {
		return h.Tail
	}
	return h.ID
}

// SealGap makes the segment that says nothing is known between two marks.
func SealGap(keys Keys, cluster, shard string, after, last record.Mark, why string,
	prev tree.Hash) (Header, []byte, error) {
	return seal(keys, Header{Cluster: cluster, Shard: shard, After: after, Last: last, Gap: why, Prev: prev,
		Made: time.Now().UTC().Truncate(time.Millisecond)}, nil)
}

func seal(keys Keys, h Header, body []byte) (Header, []byte, error) {
	h.Body = blake3.Sum256(body)
	if h.Joined > 0 && keys.Vouch != nil {
		bare, err := json.Marshal(h)
		if err != nil {
			return h, nil, err
		}
		h.Vouch = keys.Vouch(vouchName, bare)
	}
	raw, err := json.Marshal(h)
	if err != nil {
		return h, nil, err
	}
	h.ID = blake3.Sum256(raw)
	out := keys.Head.Append([]byte(magic), frame.Segment, raw)
	out = append(out, body...)
	h.Size = int64(len(out))
	return h, out, nil
}

// damaged reports damage from a key that is not at hand.
func damaged(err error) error {
	if errors.Is(err, frame.ErrLocked) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// HeaderLength returns how many bytes from the front hold the whole header; front
// is the first [HeadSize] bytes, or all where there are fewer.
func HeaderLength(front []byte) (int, error) {
	if len(front) < len(magic) || string(front[:len(magic)]) != magic {
		return 0, fmt.Errorf("%w: does not begin as one", ErrDamaged)
	}
	h, err := frame.ReadHeader(front[len(magic):])
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return len(magic) + frame.HeaderSize + h.Stored, nil
}

// ReadHeader returns the header at the front of a segment's bytes and what comes
// after it.
func ReadHeader(ring frame.Ring, b []byte) (Header, []byte, error) {
	var h Header
	if _, err := HeaderLength(b); err != nil {
		return h, nil, err
	}
	raw, rest, err := frame.OpenWith(ring, b[len(magic):], frame.Segment)
	if err != nil {
		return h, nil, damaged(err)
	}
	if err := json.Unmarshal(raw, &h); err != nil {
		return h, nil, fmt.Errorf("%w: header: %w", ErrDamaged, err)
	}
	h.ID = blake3.Sum256(raw)
	// Many headers are held at once that say the same.
	for _, name := range []*string{&h.Cluster, &h.Shard, &h.Source, &h.Gap} {
		*name = unique.Make(*name).Value()
	}
	for i := range h.Summary {
		h.Summary[i].Namespace = unique.Make(h.Summary[i].Namespace).Value()
	}
	return h, rest, nil
}

// Read checks a whole segment and calls fn with each of its changes. The
// changes' bytes are fn's to keep.
func Read(ctx context.Context, ring frame.Ring, b []byte, fn func(*record.Change) error) (Header, error) {
	h, body, err := ReadHeader(ring, b)
	if err != nil {
		return h, err
	}
	if blake3.Sum256(body) != [32]byte(h.Body) {
		return h, fmt.Errorf("%w: body is not what the header says", ErrDamaged)
	}
	var n int64
	for len(body) > 0 {
		var raw []byte
		if raw, body, err = frame.OpenWith(ring, body, frame.Changes); err != nil {
			return h, damaged(err)
		}
		if err := ctx.Err(); err != nil {
			return h, err
		}
		for len(raw) > 0 {
			var c record.Change
			if c, raw, err = record.ReadChange(raw); err != nil {
				return h, fmt.Errorf("%w: %w", ErrDamaged, err)
			}
			n++
			if err := fn(&c); err != nil {
				return h, err
			}
		}
	}
	if n != h.Changes {
		return h, fmt.Errorf("%w: %d changes, the header says %d", ErrDamaged, n, h.Changes)
	}
	return h, nil
}
