package content

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// Suspicion names content files in which a scrub found damage that was not healed.
type Suspicion struct {
	Created time.Time `json:"created"`
	Files   []string  `json:"files"`
}

// Suspects returns the names of content files that are known to be damaged.
func (s *Content) Suspects(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	err := s.Blob.List(ctx, sealed.SuspectPrefix, func(i blob.Info) error {
		var c Suspicion
		err := s.GetObject(ctx, i.Name, &c)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			return nil // the next scrub says it again
		}
		for _, p := range c.Files {
			out[p] = true
		}
		return err
	})
	return out, err
}

// Suspect has nothing new rely on damaged content files.
func (s *Content) Suspect(ctx context.Context, files []string) error {
	known, err := s.Suspects(ctx)
	if err != nil {
		return err
	}
	c := Suspicion{Created: s.Now().UTC()}
	for _, p := range files {
		if !known[p] {
			c.Files = append(c.Files, p)
		}
	}
	if len(c.Files) == 0 {
		return nil
	}
	return s.PutObject(ctx, s.ListKey(), sealed.SuspectPrefix+sealed.NewID(8), c)
}
