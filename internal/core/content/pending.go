package content

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// Reclaim works in two phases, so that it can run beside writers.
//
// First content files without anything that a point needs are marked for deletion: an object
// says so. From then on nobody who begins to write relies on them. Whoever was
// writing when they were marked for deletion is noted, and may. Second, when the grace
// time is over and all who were noted have ended, what is marked for deletion is looked
// at again: content files that a point needs by now are let go; the others are removed.
type PendingDelete struct {
	Created time.Time `json:"created"`
	Files   []string  `json:"files"`
}

// PendingDeletes returns the names of the content files that are.
func (s *Content) PendingDeletes(ctx context.Context) (map[string]bool, error) {
	lists, err := s.PendingDeleteLists(ctx)
	out := map[string]bool{}
	for _, c := range lists {
		for _, p := range c.Files {
			out[p] = true
		}
	}
	return out, err
}

func (s *Content) PendingDeleteLists(ctx context.Context) (map[string]PendingDelete, error) {
	out := map[string]PendingDelete{}
	err := s.Blob.List(ctx, sealed.PendingDeletePrefix, func(i blob.Info) error {
		var c PendingDelete
		err := s.GetObject(ctx, i.Name, &c)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			// A list that cannot be read marks for deletion nothing: its content files are
			// found again.
			return nil
		}
		out[strings.TrimPrefix(i.Name, sealed.PendingDeletePrefix)] = c
		return err
	})
	return out, err
}

// ActiveWriters describes who was writing when content files were marked for deletion.
type ActiveWriters struct {
	Created time.Time `json:"created"`
	Writers []string  `json:"writers"`
}

// CondemnedFor returns the content files that reclaim will remove without waiting for a
// writer, as that began after they were marked for deletion.
func (s *Content) CondemnedFor(ctx context.Context, writer string) (map[string]bool, error) {
	lists, err := s.PendingDeleteLists(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for id, c := range lists {
		var w ActiveWriters
		err := s.GetObject(ctx, sealed.ActiveWritersPrefix+id, &w)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			continue // who is writing now will be noted
		}
		if err != nil {
			return nil, err
		}
		if slices.Contains(w.Writers, writer) {
			continue
		}
		for _, f := range c.Files {
			out[f] = true
		}
	}
	return out, nil
}
