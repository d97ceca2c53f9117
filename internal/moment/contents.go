package moment

import (
	"bytes"
	"context"

	"dexamen/internal/core/extsort"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// Contents is what one pass over many namespaces finds, in any order; of records with the same key the
// one added last counts.
type Contents struct {
	ids    map[string]int
	spaces []record.Namespace
	sorter *extsort.Sorter
}

// NewContents returns an empty one that uses up to bound bytes of memory, then dir.
func NewContents(dir string, bound int) *Contents {
	return &Contents{ids: map[string]int{}, sorter: extsort.New(dir, bound)}
}

// Close frees what it has on disk.
func (p *Contents) Close() { p.sorter.Close() }

// Add takes a record, copying its bytes.
func (p *Contents) Add(ns record.Namespace, r record.Record) error {
	id, ok := p.ids[ns.Name]
	if !ok {
		id = len(p.spaces)
		p.ids[ns.Name] = id
		p.spaces = append(p.spaces, ns)
	}
	return p.sorter.AddTo(id, r.Key, r.Value)
}

// Trees builds the trees of the namespaces found, one after the other. Builder makes an empty one.
func (p *Contents) Trees(ctx context.Context, builder func(record.Namespace) *tree.Builder,
	done func(record.Namespace, tree.Root)) error {
	items, err := p.sorter.Sorted()
	if err != nil {
		return err
	}
	defer items.Close()
	at := -1
	var b *tree.Builder
	var held record.Record // the next to be added, unless another with its key follows
	end := func() error {
		if at < 0 {
			return nil
		}
		if err := b.Add(ctx, held); err != nil {
			return err
		}
		root, err := b.Finish(ctx)
		if err == nil {
			done(p.spaces[at], root)
		}
		return err
	}
	for item, err := range items.All() {
		if err != nil {
			return err
		}
		id, key := extsort.SplitGroup(item.Key)
		switch {
		case id != at:
			if err := end(); err != nil {
				return err
			}
			at, b = id, builder(p.spaces[id])
		case !bytes.Equal(key, held.Key):
			if err := b.Add(ctx, held); err != nil {
				return err
			}
		}
		held.Key, held.Value = append(held.Key[:0], key...), append(held.Value[:0], item.Value...)
	}
	return end()
}
