package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// mend makes an object whole again, from its parity, from another place that
// holds the same store, or, of a pack, node by node from wherever they are. It
// says from what; empty where there is nothing.
func (a *auditor) mend(ctx context.Context, name string, data []byte) (from string, err error) {
	s := a.s
	if of, ok := strings.CutPrefix(name, parityPrefix); ok {
		// What it is of is whole, or is mended by itself.
		object, err := s.blob.Read(ctx, of)
		k, m := s.parityOf(of)
		if err != nil || m == 0 {
			return "", nil
		}
		if _, err := a.check(of, object); err != nil {
			return "", nil
		}
		more, err := encodeParity(of, object, k, m)
		if err != nil {
			return "", err
		}
		return "its object", s.replace(ctx, name, more)
	}
	if len(data) > 0 && s.right(name, data) { // only its parity is missing
		k, m := s.parityOf(name)
		more, err := encodeParity(name, data, k, m)
		if err != nil {
			return "", err
		}
		return "the object itself", s.blob.Create(ctx, parityPrefix+name, more)
	}
	if strings.HasPrefix(name, listingsPrefix) {
		_, _, _, err := s.RebuildIndex(ctx)
		return "the packs' own lists", err
	}
	if whole, err := s.rescue(ctx, name); err == nil && s.right(name, whole) {
		a.forget(name)
		return "parity", s.replace(ctx, name, whole)
	}
	if v, ok := s.blob.(blob.Versioned); ok && s.KeepLocked > 0 {
		whole, err := a.older(ctx, v, name)
		if err != nil {
			return "", err
		}
		if whole != nil {
			a.forget(name)
			return "a version that its lock has kept", s.replace(ctx, name, whole)
		}
	}
	if a.o.From != nil {
		if whole, err := a.o.From.Read(ctx, name); err == nil && s.right(name, whole) {
			a.forget(name)
			return a.o.From.String(), s.replace(ctx, name, whole)
		}
	}
	switch k := kindOf(name); {
	case k.prefix == contentPrefix:
		return a.salvage(ctx, name, data)
	case k.prefix == claimsPrefix:
		return "nothing: it ends by itself", nil
	case k.expendable:
		return "nothing: it can be done without, and is removed", s.remove(ctx, name)
	}
	return "", nil
}

// forget takes back that nodes of a pack cannot be read.
func (a *auditor) forget(pack string) {
	for h, where := range a.bad {
		if where == pack {
			delete(a.bad, h)
		}
	}
	a.s.cache.clear()
	a.s.ahead.clear()
}

// salvage writes what is left of a pack anew, its lost nodes from other packs
// that hold them too. The damaged pack stays while anything of it is lost.
func (a *auditor) salvage(ctx context.Context, name string, data []byte) (string, error) {
	s := a.s
	objects, err := s.packObjects(name, data)
	if err != nil {
		return "", nil // which nodes it held is not known
	}
	h, err := s.holdings(ctx)
	if err != nil {
		return "", err
	}
	here := map[string]int{}
	for i, p := range h.packs {
		here[p.name] = i
	}
	w := s.NewWriter(ctx)
	read := func(o object) ([]byte, error) {
		if a.bad[o.name] != name {
			if node, err := s.Node(ctx, o.name); err == nil {
				return node, nil
			}
		}
		for _, c := range h.copies[o.name] {
			if p := h.packs[c.pack]; p.name != name {
				if node, err := s.nodeFrom(ctx, h, c.pack, o.name); err == nil {
					return node, nil
				}
			}
		}
		return nil, ErrMissing
	}
	for _, o := range objects {
		node, err := read(o)
		if err == nil {
			err = w.again(o.name, node)
		}
		if errors.Is(err, ErrMissing) {
			w.Abandon()
			return "", nil
		}
		if err != nil {
			w.Abandon()
			return "", err
		}
	}
	if _, err := w.Flush(ctx); err != nil {
		return "", err
	}
	if err := s.discard(ctx, name); err != nil {
		return "", err
	}
	a.forget(name)
	return "other packs that hold the same", s.Refresh(ctx)
}

// nodeFrom reads a node from one certain pack.
func (s *Upkeep) nodeFrom(ctx context.Context, h *holding, pack uint32, name tree.Hash) ([]byte, error) {
	for _, o := range h.objects[pack] {
		if o.name != name {
			continue
		}
		b, err := s.blob.ReadAt(ctx, h.packs[pack].name, int64(o.frameOff), int(o.frameLen))
		if err != nil {
			return nil, err
		}
		raw, err := s.openNodes(b)
		if err != nil || uint64(o.off)+uint64(o.len) > uint64(len(raw)) {
			return nil, errors.Join(ErrDamaged, err)
		}
		node := bytes.Clone(raw[o.off : o.off+o.len])
		if !o.base.IsZero() {
			base, err := s.Node(ctx, o.base)
			if err != nil {
				return nil, err
			}
			if node, err = tree.ApplyPatch(base, node); err != nil {
				return nil, err
			}
		}
		if tree.HashOf(node) != name {
			return nil, ErrDamaged
		}
		return node, nil
	}
	return nil, ErrMissing
}

// replace puts right bytes where damaged ones are. Objects are never changed,
// so the right one is first made beside it: a crash at any time leaves one that
// can be read, or the bytes to make it with, which the next who opens the store
// does. A pack's name means nothing, so the right one just gets another.
func (s *Upkeep) replace(ctx context.Context, name string, whole []byte) error {
	if v, ok := s.blob.(blob.Versioned); ok && s.KeepLocked > 0 {
		// What is there stays below; the right bytes go on top.
		return v.PutOver(ctx, name, whole, time.Now().Add(time.Duration(s.KeepLocked)*time.Second))
	}
	if strings.HasPrefix(name, contentPrefix) {
		if err := s.create(ctx, packName(newID(16)), whole); err != nil {
			return err
		}
		return errors.Join(s.discard(ctx, name), s.Refresh(ctx))
	}
	aside := repairedPrefix + name
	if err := s.blob.Remove(ctx, aside); err != nil && !errors.Is(err, blob.ErrNotFound) {
		return err
	}
	if err := s.blob.Create(ctx, aside, whole); err != nil {
		return err
	}
	return s.putInPlace(ctx, name, whole)
}

// discard removes a damaged pack of which all is elsewhere. One that is locked
// is condemned instead: nothing relies on it, and reclaim removes it in time.
func (s *Upkeep) discard(ctx context.Context, pack string) error {
	err := s.remove(ctx, pack)
	if errors.Is(err, blob.ErrLocked) {
		return s.put(ctx, s.listKey(), pendingDeletePrefix+newID(8), condemnation{When: time.Now().UTC(), Packs: []string{pack}})
	}
	return err
}

func (s *Upkeep) putInPlace(ctx context.Context, name string, whole []byte) error {
	err := s.blob.Remove(ctx, name)
	if err != nil && !errors.Is(err, blob.ErrNotFound) {
		return fmt.Errorf("mending %s: %w (the right bytes are kept as %s)", name, err, repairedPrefix+name)
	}
	if err := s.blob.Create(ctx, name, whole); err != nil {
		return fmt.Errorf("mending %s: %w (the right bytes are kept as %s; repair again)", name, err, repairedPrefix+name)
	}
	return s.blob.Remove(ctx, repairedPrefix+name)
}

// resumeMending ends a mending that a crash interrupted, unless somebody is at
// it.
func (s *Upkeep) resumeMending(ctx context.Context) error {
	found := false
	err := s.blob.List(ctx, repairedPrefix, func(blob.Info) error { found = true; return nil })
	if err != nil || !found || s.WriteOnly() {
		return err
	}
	l, err := s.Acquire(ctx, reclaimLease)
	if errors.Is(err, ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer l.Release(context.WithoutCancel(ctx))
	return s.finishMending(ctx)
}

// finishMending ends what a crash interrupted.
func (s *Upkeep) finishMending(ctx context.Context) error {
	var names []string
	if err := s.blob.List(ctx, repairedPrefix, func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	for _, aside := range names {
		name := strings.TrimPrefix(aside, repairedPrefix)
		whole, err := s.blob.Read(ctx, aside)
		if err != nil {
			return err
		}
		if !s.right(name, whole) {
			if err := s.blob.Remove(ctx, aside); err != nil {
				return err
			}
			continue
		}
		if err := s.putInPlace(ctx, name, whole); err != nil {
			return err
		}
	}
	return s.Refresh(ctx)
}
