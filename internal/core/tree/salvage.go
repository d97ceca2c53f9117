package tree

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
)

// LostRange is a stretch of a tree that cannot be read.
type LostRange struct {
	// After is the last record before it, nil at the beginning; Before is the
	// first one after it, nil at the end. Both are whole records.
	After, Before *record.Record
	Records       int64 // that are lost
}

// Salvage builds the tree of all records of a damaged one that can be read, and
// calls lost with each stretch that cannot, in key order. An error of reading for
// which damaged is false ends it.
func Salvage(ctx context.Context, src Source, root Root, sink Sink, damaged func(error) bool,
	lost func(LostRange) error) (Root, error) {
	s := &salvage{b: NewBuilder(sink), lost: lost}
	cur := newCursor(src, root)
	for {
		n, level, ok := cur.peek()
		if !ok {
			break
		}
		if err := ctx.Err(); err != nil {
			return Root{}, err
		}
		var err error
		if level > 0 {
			if err = cur.enter(ctx); err == nil {
				continue
			}
		} else {
			err = s.leaf(ctx, src, n, damaged)
		}
		cur.skip()
		if err == nil {
			continue
		}
		if !damaged(err) && !errors.Is(err, ErrNode) {
			return Root{}, err
		}
		s.lose(n.records)
	}
	if err := s.found(nil); err != nil {
		return Root{}, err
	}
	out, err := s.b.Finish(ctx)
	if err != nil {
		return out, fmt.Errorf("what can be read: %w", err)
	}
	return out, nil
}

type salvage struct {
	b    *Builder
	lost func(LostRange) error
	last *record.Record
	gone int64
}

func (s *salvage) lose(n int64) { s.gone += n }

// found reports what was lost before a record, or before the end.
func (s *salvage) found(r *record.Record) error {
	if s.gone > 0 {
		if err := s.lost(LostRange{After: s.last, Before: r, Records: s.gone}); err != nil {
			return err
		}
		s.gone = 0
	}
	s.last = r
	return nil
}

// leaf takes the records of a leaf. One whose value lies outside it and cannot be
// read is lost by itself.
func (s *salvage) leaf(ctx context.Context, src Source, n child, damaged func(error) bool) error {
	node, err := src.Node(ctx, n.hash)
	if err != nil {
		return err
	}
	return eachEntry(node, func(e *entry) error {
		r, err := e.record(ctx, src)
		if err != nil {
			if !damaged(err) {
				return err
			}
			s.lose(1)
			return nil
		}
		own := &record.Record{Key: bytes.Clone(r.Key), Value: bytes.Clone(r.Value)}
		if err := s.found(own); err != nil {
			return err
		}
		return s.b.Add(ctx, *own)
	})
}
