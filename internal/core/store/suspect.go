package store

import (
	"context"
	"errors"
	"slices"
	"time"

	"dexamen/internal/core/blob"
)

// suspicion names packs in which an audit found damage that was not healed.
type suspicion struct {
	When  time.Time `json:"when"`
	Packs []string  `json:"packs"`
}

const suspectPrefix = "suspect/"

// suspects returns the names of packs that are known to be damaged.
func (s *Store) suspects(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	err := s.blob.List(ctx, suspectPrefix, func(i blob.Info) error {
		var c suspicion
		err := s.get(ctx, i.Name, &c)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, ErrDamaged) {
			return nil // the next audit says it again
		}
		for _, p := range c.Packs {
			out[p] = true
		}
		return err
	})
	return out, err
}

// suspect has nothing new rely on damaged packs.
func (s *Store) suspect(ctx context.Context, packs []string) error {
	known, err := s.suspects(ctx)
	if err != nil {
		return err
	}
	c := suspicion{When: time.Now().UTC()}
	for _, p := range packs {
		if !known[p] {
			c.Packs = append(c.Packs, p)
		}
	}
	if len(c.Packs) == 0 {
		return nil
	}
	return s.put(ctx, s.listKey(), suspectPrefix+newID(8), c)
}

// clearSuspects forgets suspicions of packs that are gone.
func (r *reclaim) clearSuspects(ctx context.Context) error {
	there := map[string]bool{}
	for _, p := range r.h.packs {
		there[p.name] = true
	}
	for _, p := range r.h.bad {
		there[p] = true
	}
	var over []string
	err := r.s.blob.List(ctx, suspectPrefix, func(i blob.Info) error {
		var c suspicion
		if err := r.s.get(ctx, i.Name, &c); err != nil {
			return nil // it does no harm
		}
		if !slices.ContainsFunc(c.Packs, func(p string) bool { return there[p] }) {
			over = append(over, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range over {
		if err := r.s.remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
	}
	return nil
}
