package rdb

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"iter"
	"slices"
	"strconv"

	"dexamen/internal/engine/redis/resp"
)

// StreamID is a stream entry's id: milliseconds and a number within them.
type StreamID struct{ Ms, Seq uint64 }

func (s StreamID) text() []byte {
	return strconv.AppendUint(append(strconv.AppendUint(nil, s.Ms, 10), '-'), s.Seq, 10)
}

func (s StreamID) compare(t StreamID) int {
	switch {
	case s.Ms < t.Ms || s.Ms == t.Ms && s.Seq < t.Seq:
		return -1
	case s == t:
		return 0
	}
	return 1
}

func idOf(b []byte) StreamID {
	return StreamID{binary.BigEndian.Uint64(b), binary.BigEndian.Uint64(b[8:])}
}

// idSet keeps the ids of a stream's entries, which come in order, in a few bytes
// each.
type idSet struct {
	b    []byte
	last StreamID
}

func (s *idSet) add(id StreamID) {
	s.b = binary.AppendUvarint(s.b, id.Ms-s.last.Ms)
	if id.Ms != s.last.Ms {
		s.last.Seq = 0
	}
	s.b = binary.AppendUvarint(s.b, id.Seq-s.last.Seq)
	s.last = id
}

// after counts the ids that are greater than one.
func (s *idSet) after(than StreamID) (n int64) {
	for id := range s.all() {
		if id.compare(than) > 0 {
			n++
		}
	}
	return n
}

// all gives the ids, in order.
func (s *idSet) all() iter.Seq[StreamID] {
	return func(yield func(StreamID) bool) {
		var at StreamID
		for b := s.b; len(b) > 0; {
			ms, n := binary.Uvarint(b)
			seq, m := binary.Uvarint(b[n:])
			b = b[n+m:]
			if ms > 0 {
				at.Seq = 0
			}
			if at.Ms, at.Seq = at.Ms+ms, at.Seq+seq; !yield(at) {
				return
			}
		}
	}
}

// keep returns those of a sorted list of entries that have one of the ids.
func (s *idSet) keep(list []pending) []pending {
	out := list[:0]
	i := 0
	for at := range s.all() {
		for i < len(list) && list[i].id.compare(at) < 0 {
			i++
		}
		if i < len(list) && list[i].id == at {
			out = append(out, list[i])
			i++
		}
	}
	return out
}

// pending is an entry that a consumer was given and has not acknowledged.
type pending struct {
	id        StreamID
	delivered int64 // milliseconds since 1970
	times     uint64
	consumer  []byte
}

// stream reads a stream: its entries, then what completes it. Pending entries
// that are deleted from the stream are left out: no client can be given them
// again. When a consumer was last seen is not kept.
func (d *Reader) stream(typ byte) error {
	var ids idSet
	err := d.each(func() error {
		master, err := d.str()
		if err != nil {
			return err
		}
		if len(master) != 16 {
			return fmt.Errorf("%w: a stream's node has a name of %d bytes", ErrDamaged, len(master))
		}
		b, err := d.str()
		if err != nil {
			return err
		}
		list, err := d.unpackList(b, false)
		if err != nil {
			return err
		}
		return d.streamNode(idOf(master), list, &ids)
	})
	if err != nil {
		return err
	}
	length, err := d.length()
	if err != nil {
		return err
	}
	last, err := d.streamID()
	if err != nil {
		return err
	}
	added, gone := length, StreamID{}
	if typ >= typeStream2 {
		if _, err := d.streamID(); err != nil { // the first: it follows from the entries
			return err
		}
		if gone, err = d.streamID(); err != nil {
			return err
		}
		if added, err = d.length(); err != nil {
			return err
		}
	}
	if length == 0 {
		// Nothing else makes a stream without entries.
		if err := d.complete("XGROUP", "CREATE", nil, "x", "0", "MKSTREAM"); err != nil {
			return err
		}
		if err := d.complete("XGROUP", "DESTROY", nil, "x"); err != nil {
			return err
		}
	}
	if err := d.complete("XSETID", nil, last.text(), "ENTRIESADDED", added, "MAXDELETEDID", gone.text()); err != nil {
		return err
	}
	var groups []func() error
	var names []string
	err = d.each(func() error {
		name, emit, err := d.group(typ, &ids, int64(added), gone)
		groups, names = append(groups, emit), append(names, string(name))
		return err
	})
	if err != nil {
		return err
	}
	// Servers keep them in order of names already; equality shall not hang on it.
	order := make([]int, len(groups))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return bytes.Compare([]byte(names[a]), []byte(names[b])) })
	for _, i := range order {
		if err := groups[i](); err != nil {
			return err
		}
	}
	return nil
}

func (d *Reader) complete(args ...any) error {
	out := resp.Command(args...)
	for i, a := range args {
		if a == nil {
			out[i] = nil
		}
	}
	return d.Sink.After(out...)
}

func (d *Reader) streamID() (StreamID, error) {
	ms, err := d.length()
	if err != nil {
		return StreamID{}, err
	}
	seq, err := d.length()
	return StreamID{ms, seq}, err
}

// Flags of a stream's entry within its node.
const (
	entryDeleted    = 1
	entrySameFields = 2
)

// streamNode takes the entries of a node apart. Ids are differences to that of
// the node, whose first entry says which fields most have.
func (d *Reader) streamNode(master StreamID, list [][]byte, ids *idSet) error {
	at := 0
	bad := fmt.Errorf("%w: a stream's node", ErrDamaged)
	next := func() (int64, error) {
		if at >= len(list) {
			return 0, bad
		}
		at++
		n, err := strconv.ParseInt(string(list[at-1]), 10, 64)
		if err != nil {
			return 0, bad
		}
		return n, nil
	}
	take := func(n int64) ([][]byte, error) {
		if n < 0 || n > int64(len(list)-at) {
			return nil, bad
		}
		at += int(n)
		return list[at-int(n) : at], nil
	}
	var head [3]int64 // entries, deleted ones, fields
	for i := range head {
		var err error
		if head[i], err = next(); err != nil {
			return err
		}
	}
	fields, err := take(head[2])
	if err != nil {
		return err
	}
	if _, err := next(); err != nil { // the end of the node's own entry
		return err
	}
	for at < len(list) {
		flags, err := next()
		if err != nil {
			return err
		}
		ms, err := next()
		if err != nil {
			return err
		}
		seq, err := next()
		if err != nil {
			return err
		}
		id := StreamID{master.Ms + uint64(ms), master.Seq + uint64(seq)}
		args := [][]byte{id.text()}
		if flags&entrySameFields != 0 {
			values, err := take(int64(len(fields)))
			if err != nil {
				return err
			}
			for i, f := range fields {
				args = append(args, f, values[i])
			}
		} else {
			n, err := next()
			if err != nil {
				return err
			}
			pairs, err := take(2 * n)
			if err != nil {
				return err
			}
			args = append(args, pairs...)
		}
		if _, err := next(); err != nil { // the length, for reading backwards
			return err
		}
		if flags&entryDeleted != 0 {
			continue
		}
		ids.add(id)
		if err := d.Sink.Element(args...); err != nil {
			return err
		}
	}
	return nil
}

// group reads a consumer group; emit gives its commands. Of the stream it is given the entries that there are, how many
// have ever been added, and the greatest id that was deleted: servers tell replicas where a group is, and not how many
// entries it has read, which follows as long as nothing behind it was deleted.
func (d *Reader) group(typ byte, ids *idSet, added int64, gone StreamID) (name []byte, emit func() error, err error) {
	if name, err = d.str(); err != nil {
		return nil, nil, err
	}
	last, err := d.streamID()
	if err != nil {
		return nil, nil, err
	}
	read := int64(-1) // not known
	if typ >= typeStream2 {
		n, err := d.length()
		if err != nil {
			return nil, nil, err
		}
		if read = int64(n); read < 0 && gone.compare(last) <= 0 {
			read = added - ids.after(last)
		}
	}
	all := map[StreamID]*pending{}
	var list []pending
	err = d.each(func() error {
		b, err := d.fixed(16)
		if err != nil {
			return err
		}
		p := pending{id: idOf(b)}
		if b, err = d.fixed(8); err != nil {
			return err
		}
		p.delivered = int64(binary.LittleEndian.Uint64(b))
		if p.times, err = d.length(); err != nil {
			return err
		}
		all[p.id] = &p
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	var consumers [][]byte
	err = d.each(func() error {
		c, err := d.str()
		if err != nil {
			return err
		}
		consumers = append(consumers, c)
		seen := 8
		if typ >= typeStream3 {
			seen = 16
		}
		if _, err := d.fixed(seen); err != nil {
			return err
		}
		return d.each(func() error {
			b, err := d.fixed(16)
			if err != nil {
				return err
			}
			p := all[idOf(b)]
			if p == nil {
				return fmt.Errorf("%w: a consumer has an entry that its group has not", ErrDamaged)
			}
			p.consumer = c
			return nil
		})
	})
	if err != nil {
		return nil, nil, err
	}
	for _, p := range all {
		if p.consumer == nil {
			return nil, nil, fmt.Errorf("%w: an entry was given to no consumer", ErrDamaged)
		}
		list = append(list, *p)
	}
	slices.SortFunc(list, func(a, b pending) int { return a.id.compare(b.id) })
	list = ids.keep(list)
	slices.SortFunc(consumers, bytes.Compare)
	return name, func() error {
		if err := d.complete("XGROUP", "CREATE", nil, name, last.text(), "ENTRIESREAD", read); err != nil {
			return err
		}
		for _, c := range consumers {
			if err := d.complete("XGROUP", "CREATECONSUMER", nil, name, c); err != nil {
				return err
			}
		}
		for _, p := range list {
			if err := d.complete("XCLAIM", nil, name, p.consumer, "0", p.id.text(), "TIME", p.delivered, "RETRYCOUNT",
				p.times, "FORCE", "JUSTID", "LASTID", last.text()); err != nil {
				return err
			}
		}
		return nil
	}, nil
}
