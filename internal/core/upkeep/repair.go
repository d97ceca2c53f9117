package upkeep

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
)

// repair makes an object whole again, from its parity, from another place that
// holds the same store, or, of a content file, node by node from wherever they are. It
// says from what; empty where there is nothing.
func (a *scrubber) repair(ctx context.Context, name string, data []byte) (from string, err error) {
	s := a.s
	if of, ok := strings.CutPrefix(name, sealed.ParityPrefix); ok {
		// What it is of is whole, or is repaired by itself.
		object, err := s.Blob.Read(ctx, of)
		k, m := s.ParityOf(of)
		if err != nil || m == 0 {
			return "", nil
		}
		if _, err := a.check(ctx, of, object); err != nil {
			return "", nil
		}
		more, err := sealed.EncodeParity(of, object, k, m)
		if err != nil {
			return "", err
		}
		return "its object", s.replace(ctx, name, more)
	}
	if len(data) > 0 && s.right(ctx, name, data) { // only its parity is missing
		k, m := s.ParityOf(name)
		more, err := sealed.EncodeParity(name, data, k, m)
		if err != nil {
			return "", err
		}
		return "the object itself", s.Blob.Create(ctx, sealed.ParityPrefix+name, more)
	}
	if strings.HasPrefix(name, sealed.ListingsPrefix) {
		_, _, _, err := s.RebuildListings(ctx)
		return "the content files' own lists", err
	}
	if whole, err := s.RebuildObject(ctx, name); err == nil && s.right(ctx, name, whole) {
		a.forget(name)
		return "parity", s.replace(ctx, name, whole)
	}
	if v, ok := s.Blob.(blob.Versioned); ok && s.ImmutableFor > 0 {
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
		if whole, err := a.o.From.Read(ctx, name); err == nil && s.right(ctx, name, whole) {
			a.forget(name)
			return a.o.From.String(), s.replace(ctx, name, whole)
		}
	}
	switch k := sealed.KindOf(name); {
	case k.Prefix == sealed.ContentPrefix:
		return a.salvage(ctx, name, data)
	case k.Prefix == sealed.ClaimsPrefix:
		return "nothing: it ends by itself", nil
	case k.Expendable:
		return "nothing: it can be done without, and is removed", s.RemoveObject(ctx, name)
	}
	return "", nil
}

// forget takes back that nodes of a content file cannot be read.
func (a *scrubber) forget(file string) {
	for h, where := range a.bad {
		if where == file {
			delete(a.bad, h)
		}
	}
	a.s.Cache.Clear()
	a.s.Ahead.Clear()
}

// salvage writes what is left of a content file anew, its lost nodes from other content files
// that hold them too. The damaged content file stays while anything of it is lost.
func (a *scrubber) salvage(ctx context.Context, name string, data []byte) (string, error) {
	s := a.s
	objects, err := s.entriesOf(ctx, name, data)
	if err != nil {
		return "", nil // which nodes it held is not known
	}
	h, err := s.holdings(ctx)
	if err != nil {
		return "", err
	}
	defer h.close()
	w := s.NewWriter(ctx)
	read := func(o content.Entry) ([]byte, error) {
		if a.bad[o.Name] != name {
			if node, err := s.Node(ctx, o.Name); err == nil {
				return node, nil
			}
		}
		copies, err := h.copiesOf(o.Name)
		if err != nil {
			return nil, err
		}
		for _, c := range copies {
			if p := h.files[c.file]; p.Name != name {
				entries, err := h.entries(int(c.file))
				if err != nil {
					return nil, err
				}
				if node, err := s.NodeIn(ctx, p.Name, entries[c.entry]); err == nil {
					return node, nil
				}
			}
		}
		return nil, sealed.ErrMissing
	}
	for _, o := range objects {
		node, err := read(o)
		if err == nil {
			err = w.Rewrite(o.Name, node)
		}
		if errors.Is(err, sealed.ErrMissing) {
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
	return "other content files that hold the same", s.Refresh(ctx)
}

// replace puts right bytes where damaged ones are. Objects are never changed,
// so the right one is first made beside it: a crash at any time leaves one that
// can be read, or the bytes to make it with, which the next who opens the store
// does. A content file's name means nothing, so the right one just gets another.
func (s *Upkeep) replace(ctx context.Context, name string, whole []byte) error {
	if v, ok := s.Blob.(blob.Versioned); ok && s.ImmutableFor > 0 {
		// What is there stays below; the right bytes go on top.
		return v.PutOver(ctx, name, whole, s.Now().Add(time.Duration(s.ImmutableFor)*time.Second))
	}
	if strings.HasPrefix(name, sealed.ContentPrefix) {
		to := content.FileName(sealed.NewID(16))
		whole, err := s.Renamed(ctx, name, to, whole)
		if err == nil {
			err = s.CreateObject(ctx, to, whole)
		}
		if err != nil {
			return err
		}
		return errors.Join(s.discard(ctx, name), s.Refresh(ctx))
	}
	aside := sealed.RepairedPrefix + name
	if err := s.Blob.Remove(ctx, aside); err != nil && !errors.Is(err, blob.ErrNotFound) {
		return err
	}
	if err := s.Blob.Create(ctx, aside, whole); err != nil {
		return err
	}
	return s.putInPlace(ctx, name, whole)
}

// discard removes a damaged content file of which all is elsewhere. One that is locked
// is marked for deletion instead: nothing relies on it, and reclaim removes it in time.
func (s *Upkeep) discard(ctx context.Context, file string) error {
	err := s.RemoveObject(ctx, file)
	if errors.Is(err, blob.ErrLocked) {
		return s.PutObject(ctx, s.ListKey(), sealed.PendingDeletePrefix+sealed.NewID(8),
			content.PendingDelete{Created: s.Now().UTC(), Files: []string{file}})
	}
	return err
}

func (s *Upkeep) putInPlace(ctx context.Context, name string, whole []byte) error {
	err := s.Blob.Remove(ctx, name)
	if err != nil && !errors.Is(err, blob.ErrNotFound) {
		return fmt.Errorf("repairing %s: %w (the right bytes are kept as %s)", name, err, sealed.RepairedPrefix+name)
	}
	if err := s.Blob.Create(ctx, name, whole); err != nil {
		return fmt.Errorf("repairing %s: %w (the right bytes are kept as %s; repair again)", name, err,
			sealed.RepairedPrefix+name)
	}
	return s.Blob.Remove(ctx, sealed.RepairedPrefix+name)
}

// resumeRepair ends a repairing that a crash interrupted, unless somebody is at
// it.
func (s *Upkeep) resumeRepair(ctx context.Context) error {
	found := false
	err := s.Blob.List(ctx, sealed.RepairedPrefix, func(blob.Info) error { found = true; return nil })
	if err != nil || !found || s.WriteOnly() {
		return err
	}
	l, err := s.Acquire(ctx, reclaimClaim)
	if errors.Is(err, sealed.ErrHeld) {
		return nil
	}
	if err != nil {
		return err
	}
	defer l.Release(context.WithoutCancel(ctx))
	return s.finishRepair(ctx)
}

// finishRepair ends what a crash interrupted.
func (s *Upkeep) finishRepair(ctx context.Context) error {
	var names []string
	if err := s.Blob.List(ctx, sealed.RepairedPrefix,
		func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	for _, aside := range names {
		name := strings.TrimPrefix(aside, sealed.RepairedPrefix)
		whole, err := s.Blob.Read(ctx, aside)
		if err != nil {
			return err
		}
		if !s.right(ctx, name, whole) {
			if err := s.Blob.Remove(ctx, aside); err != nil {
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
