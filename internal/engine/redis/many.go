package redis

import (
	"context"
	"slices"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// A server has no order of keys: to find those that begin so it goes through all. Many namespaces are found in
// one pass.

// holders tell which of several namespaces a key is in.
type holders struct {
	at map[int]*holdersOf // by database
}

type holdersOf struct {
	lengths []int // of prefixes
	by      map[string][]int
	flat    map[int]bool
}

func holdersFor(list []engine.Namespace) (*holders, error) {
	h := &holders{at: map[int]*holdersOf{}}
	for i, ns := range list {
		if ns.Kind == record.KindSettings {
			continue
		}
		db, prefix, flat, err := split(ns.Name)
		if err != nil {
			return nil, err
		}
		of := h.at[db]
		if of == nil {
			of = &holdersOf{by: map[string][]int{}, flat: map[int]bool{}}
			h.at[db] = of
		}
		if !slices.Contains(of.lengths, len(prefix)) {
			of.lengths = append(of.lengths, len(prefix))
		}
		of.by[string(prefix)] = append(of.by[string(prefix)], i)
		of.flat[i] = flat
	}
	return h, nil
}

// each calls fn with the number of each namespace that a key is in, and the part of the key that names it there.
func (h *holders) each(db int, key []byte, fn func(i int, short []byte)) {
	of := h.at[db]
	if of == nil || isMark(key) {
		return
	}
	for _, n := range of.lengths {
		if n > len(key) {
			continue
		}
		for _, i := range of.by[string(key[:n])] {
			if prefixes.Holds(key[:n], of.flat[i], key) {
				fn(i, key[n:])
			}
		}
	}
}

// apart reports whether no key can be in two of the namespaces.
func (h *holders) apart() bool {
	for _, of := range h.at {
		for prefix, list := range of.by {
			if len(list) > 1 {
				return false
			}
			for _, n := range of.lengths {
				if n >= len(prefix) {
					continue
				}
				for _, i := range of.by[prefix[:n]] {
					// Keys of one without a part after its prefix have none of a longer prefix with one.
					if !of.flat[i] || strings.IndexByte(prefix[n:], prefixes.Sep) < 0 {
						return false
					}
				}
			}
		}
	}
	return true
}

// Together implements [engine.ManyScanner]: where several namespaces are found by how keys begin, and no key is
// in two.
func (c *cluster) Together(list []engine.Namespace) bool {
	h, err := holdersFor(list)
	if err != nil || !h.apart() {
		return false
	}
	n := 0
	for _, of := range h.at {
		n += len(of.flat)
	}
	return n > len(h.at)
}

// ScanMany implements [engine.ManyScanner].
func (c *cluster) ScanMany(ctx context.Context, list []engine.Namespace,
	fn func(*engine.Namespace, record.Record) error) error {
	h, err := holdersFor(list)
	if err != nil {
		return err
	}
	for i := range list {
		if list[i].Kind == record.KindSettings {
			ns := &list[i]
			err := c.Scan(ctx, *ns, engine.Partition{}, func(r record.Record) error { return fn(ns, r) })
			if err != nil {
				return err
			}
		}
	}
	by := map[string]*engine.Namespace{}
	for i := range list {
		by[list[i].Name] = &list[i]
	}
	for db := range h.at {
		for _, s := range c.list() {
			err := c.scanKeys(ctx, s, db, "*", &assembler{
				name: func(_ int, key []byte) (name string, short []byte, ok bool) {
					h.each(db, key, func(i int, rest []byte) { name, short, ok = list[i].Name, rest, true })
					return name, short, ok
				},
				emit: func(name string, r record.Record) error { return fn(by[name], r) },
			})
			if err != nil {
				return c.fail(err)
			}
		}
	}
	return nil
}

var _ engine.ManyScanner = (*cluster)(nil)

// OccupiedMany implements [engine.ManyWriter].
func (w *writer) OccupiedMany(ctx context.Context, list []record.Namespace) ([]int64, error) {
	all := make([]engine.Namespace, len(list))
	for i, ns := range list {
		all[i].Namespace = ns
	}
	h, err := holdersFor(all)
	if err != nil {
		return nil, err
	}
	out := make([]int64, len(list))
	for db := range h.at {
		for _, s := range w.list() {
			err := w.eachKey(ctx, w.membersOf(s)[0], db, "*", func(keys []string) error {
				for _, k := range keys {
					h.each(db, []byte(k), func(i int, _ []byte) { out[i]++ })
				}
				return nil
			})
			if err != nil {
				return nil, w.fail(err)
			}
		}
	}
	return out, nil
}

// BeginMany implements [engine.ManyWriter].
func (w *writer) BeginMany(ctx context.Context, list []record.Namespace) error {
	occupied, err := w.OccupiedMany(ctx, list)
	if err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, ns := range list {
		w.fresh[ns.Name] = occupied[i] == 0
	}
	return nil
}

var _ engine.ManyWriter = (*writer)(nil)
