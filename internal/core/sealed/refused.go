package sealed

import (
	"context"
	"errors"
	"strings"
	"time"

	"dexamen/internal/core/blob"
)

// Refused is the manifest of a holder that was dropped while it was locked: it opens nothing from
// then on, and goes when its lock has ended.
type Refused struct {
	Holder  string    `json:"holder"`
	Created time.Time `json:"created"`
	Vouch   []byte    `json:"vouch,omitempty"` // of who can read
}

func (r *Refused) vouches(name string) [][]byte {
	return [][]byte{[]byte(name), []byte(r.Holder), []byte(r.Created.UTC().Format(time.RFC3339))}
}

// refuse has a holder open nothing any more.
func (s *Objects) refuse(ctx context.Context, id string) error {
	name := RefusedPrefix + id
	r := Refused{Holder: id, Created: s.Now().UTC().Truncate(time.Second)}
	r.Vouch = s.Keyring.vouch(r.vouches(name)...)
	if err := s.PutObject(ctx, s.ListKey(), name, r); err != nil && !errors.Is(err, blob.ErrExists) {
		return err
	}
	return nil
}

// refusedSince returns since when a holder opens nothing; the zero time where it opens. Where the key can
// read, only what somebody said counts who can: a thief of a write-only key shuts nobody out who reads.
func refusedSince(ctx context.Context, k *keyring, id string) (time.Time, error) {
	var r Refused
	name := RefusedPrefix + id
	err := getManifest(ctx, k.blob, ring{k, ctx}, name, &r)
	switch {
	case errors.Is(err, blob.ErrNotFound), errors.Is(err, ErrDamaged): // a scrub tells of that
		return time.Time{}, nil
	case err != nil:
		return time.Time{}, err
	case r.Holder != id, k.content != nil && !k.vouched(r.Vouch, r.vouches(name)...):
		return time.Time{}, nil
	}
	return r.Created, nil
}

// refusedHolders returns the holders that were dropped while they were locked.
func (s *Objects) refusedHolders(ctx context.Context) (ids []string, err error) {
	err = s.Blob.List(ctx, RefusedPrefix, func(i blob.Info) error {
		ids = append(ids, strings.TrimPrefix(i.Name, RefusedPrefix))
		return nil
	})
	return ids, err
}

// DropRefused removes holders that were dropped and are locked no longer, and then the record of that.
func (s *Objects) DropRefused(ctx context.Context) (removed int, err error) {
	if s.ImmutableFor == 0 || s.Keyring == nil {
		return 0, nil
	}
	ids, err := s.refusedHolders(ctx)
	for _, id := range ids {
		if err != nil {
			return removed, err
		}
		at, rerr := refusedSince(ctx, s.Keyring, id)
		if rerr != nil || at.IsZero() {
			err = rerr
			continue
		}
		if err = s.RemoveObject(ctx, HoldersPrefix+id); err == nil {
			removed++
		}
		if err == nil || errors.Is(err, blob.ErrNotFound) {
			err = s.RemoveObject(ctx, RefusedPrefix+id)
		}
		if errors.Is(err, blob.ErrLocked) || errors.Is(err, blob.ErrNotFound) {
			err = nil
		}
	}
	return removed, err
}
