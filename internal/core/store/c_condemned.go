package store

import (
	"context"
	"errors"
	"strings"
	"time"

	"dexamen/internal/core/blob"
)

// Reclaim works in two phases, so that it can run beside writers.
//
// First packs without anything that a point needs are condemned: an object
// says so. From then on nobody who begins to write relies on them. Whoever was
// writing when they were condemned is noted, and may. Second, when the grace
// time is over and all who were noted have ended, what is condemned is looked
// at again: packs that a point needs by now are let go; the others are removed.
type condemnation struct {
	When  time.Time `json:"when"`
	Packs []string  `json:"packs"`
}

// condemned returns the names of the packs that are.
func (s *Content) condemned(ctx context.Context) (map[string]bool, error) {
	lists, err := s.condemnations(ctx)
	out := map[string]bool{}
	for _, c := range lists {
		for _, p := range c.Packs {
			out[p] = true
		}
	}
	return out, err
}

func (s *Content) condemnations(ctx context.Context) (map[string]condemnation, error) {
	out := map[string]condemnation{}
	err := s.blob.List(ctx, pendingDeletePrefix, func(i blob.Info) error {
		var c condemnation
		err := s.get(ctx, i.Name, &c)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, ErrDamaged) {
			// A list that cannot be read condemns nothing: its packs are
			// found again.
			return nil
		}
		out[strings.TrimPrefix(i.Name, pendingDeletePrefix)] = c
		return err
	})
	return out, err
}
