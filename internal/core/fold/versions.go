package fold

import (
	"bytes"
	"context"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// Version is what one change made of a record.
type Version struct {
	Key []byte
	// Op is the change's operation, At its position and Wall its time in milliseconds
	// since 1970.
	Op   record.Op
	At   record.Position
	Wall int64
	// Moved: the record went from one shard to another; nobody has changed it.
	Moved bool
	// Old is the record before the change, and New after it; nil where there is none. They
	// are valid until the call returns.
	Old, New []byte
}

// Versions calls fn with each change that was taken of each record, as it was carried
// out: by incarnation of a namespace, those that are gone included, then by key, then in
// order of the log. Src has the trees that were given to Base.
func (f *Fold) Versions(ctx context.Context, src tree.Source, fn func(*Namespace, Version) error) error {
	items, err := f.sorter.Sorted()
	if err != nil {
		return err
	}
	defer items.Close()
	e := &edits{items: items, model: f.model, loose: f.loose}
	if err := e.pull(); err != nil {
		return err
	}
	for _, n := range f.all {
		if err := e.seek(n.id); err != nil {
			return err
		}
		for e.more {
			if err := e.versions(ctx, src, n, fn); err != nil {
				return fmt.Errorf("%s: %w", n.Name, err)
			}
		}
	}
	return nil
}

// versions goes through the changes of the next key.
func (e *edits) versions(ctx context.Context, src tree.Source, n *Namespace,
	fn func(*Namespace, Version) error) error {
	e.key = append(e.key[:0], e.nextKey...)
	var value []byte
	if !n.Root.Hash.IsZero() {
		old, ok, err := tree.Get(ctx, src, n.Root, e.key)
		if err != nil {
			return err
		}
		if ok {
			value = present(old)
		}
	}
	for e.more && bytes.Equal(e.nextKey, e.key) {
		c := &e.nextChange
		v := Version{Key: e.key, Op: c.Op, At: c.At, Wall: c.Wall, Old: value, Moved: c.To == record.Moved}
		switch c.Op {
		case record.Put:
			v.New = present(bytes.Clone(c.Value))
		case record.Patch:
			if value == nil {
				return fmt.Errorf("%w: update at %s of a record that is not there (key %x)", ErrDiverged,
					entry(c.At, c.Wall),
					e.key)
			}
			made, err := e.model.Apply(value, c, e.loose)
			if err != nil {
				return fmt.Errorf("update at %s: %w", entry(c.At, c.Wall), err)
			}
			v.New = present(made)
		}
		if err := fn(n, v); err != nil {
			return err
		}
		value = v.New
		if err := e.pull(); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// present makes a value that is there differ from none.
func present(value []byte) []byte {
	if value == nil {
		return []byte{}
	}
	return value
}
