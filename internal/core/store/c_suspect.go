package store

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/core/blob"
)

// suspicion names packs in which an audit found damage that was not healed.
type suspicion struct {
	When  time.Time `json:"when"`
	Packs []string  `json:"packs"`
}

// suspects returns the names of packs that are known to be damaged.
func (s *Content) suspects(ctx context.Context) (map[string]bool, error) {
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
func (s *Content) suspect(ctx context.Context, packs []string) error {
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
