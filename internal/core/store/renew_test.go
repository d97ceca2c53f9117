package store_test

import (
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/store"
)

// renewing is a store with two who can read, one who can write and a passphrase.
type renewing struct {
	b                     *blob.Memory
	first, stolen, writer holder
	phrase                string
}

func newRenewing(t *testing.T, locked time.Duration, phrase string) *renewing {
	r := &renewing{b: blob.NewMemory(), first: newHolder(t), phrase: phrase}
	who, err := store.HolderOf(r.first.secret, "first", store.Read)
	require.NoError(t, err)
	_, err = store.Create(ctx, r.b, store.CreateOptions{Tool: "test", Holders: []store.Holder{who},
		ImmutableFor: locked})
	require.NoError(t, err)
	s := r.first.open(t, r.b)
	r.stolen = newHolder(t)
	who, err = store.HolderOf(r.stolen.secret, "laptop", store.Read)
	require.NoError(t, err)
	_, err = s.AddHolder(ctx, who)
	require.NoError(t, err)
	if phrase != "" {
		who, err = store.HolderOf(r.phrase, "in the safe", store.Read)
		require.NoError(t, err)
		_, err = s.AddHolder(ctx, who)
		require.NoError(t, err)
	}
	r.writer = planted(t, s)
	require.NoError(t, version(s, "meadow", 1))
	require.NoError(t, stretch(s, "meadow", 1))
	return r
}

// drop drops the holder with a label, and reports whether it is kept.
func (r *renewing) drop(t *testing.T, s *store.Store, label string) bool {
	holders, bad, err := s.KeyHolders(ctx)
	require.NoError(t, err)
	require.Empty(t, bad)
	i := slices.IndexFunc(holders, func(h store.KeyHolder) bool { return h.Label == label })
	require.GreaterOrEqual(t, i, 0)
	kept, err := s.DropHolder(ctx, holders[i].ID)
	require.NoError(t, err)
	return kept
}

// TestRenewedKeys: what is stored after a key was stolen and the store's keys were renewed is read by those
// who open it still, and not by who kept all that the stolen key opened; where objects are locked too.
func TestRenewedKeys(t *testing.T) {
	for name, locked := range map[string]time.Duration{"plain objects": 0, "locked": 48 * time.Hour} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				r := newRenewing(t, locked, "the heather blooms late")
				s := r.first.open(t, r.b)
				before := s.Identity()
				thief := r.stolen.open(t, r.b) // what it opened it keeps
				require.Equal(t, locked > 0, r.drop(t, s, "laptop"))
				_, err := store.Open(ctx, r.b, r.stolen.opt)
				require.ErrorIs(t, err, store.ErrWrongKey)

				_, _, err = r.writer.open(t, r.b).RenewKeys(ctx, "")
				require.ErrorIs(t, err, store.ErrWriteOnly)
				_, _, err = s.RenewKeys(ctx, r.first.secret)
				require.ErrorContains(t, err, "passphrase that is not at hand")
				ids, err := store.ParseSecret(r.phrase)
				require.NoError(t, err)
				safe := holder{r.phrase, store.Options{FileBytes: 16 << 10, Workers: 1, Unlock: ids}}
				holders, kept, err := safe.open(t, r.b).RenewKeys(ctx, r.phrase)
				require.NoError(t, err)
				require.Len(t, holders, 3)
				require.Equal(t, map[bool]int{true: 3, false: 0}[locked > 0], kept)

				// Hosts that expect the store as it was are told; the others go on.
				o := r.writer.opt
				o.Identity = before
				_, err = store.Open(ctx, r.b, o)
				require.ErrorIs(t, err, store.ErrUnexpectedStore)
				s = r.first.open(t, r.b)
				require.NotEqual(t, before, s.Identity())
				require.Equal(t, s.Identity(), r.writer.open(t, r.b).Identity())
				require.Equal(t, s.Identity(), safe.open(t, r.b).Identity())

				// The thief, who may still write there, makes the newest data key of all.
				time.Sleep(2 * time.Second)
				theirs, err := thief.ContentKey(ctx)
				require.NoError(t, err)
				require.NoError(t, version(s, "meadow", 2))
				mine, err := s.ContentKey(ctx)
				require.NoError(t, err)
				require.NotEqual(t, theirs.ID, mine.ID)
				require.NoError(t, version(r.writer.open(t, r.b), "meadow", 3))

				points, bad, err := r.first.open(t, r.b).Points(ctx, "meadow")
				require.NoError(t, err)
				require.Empty(t, bad)
				require.Len(t, points, 3)
				for _, who := range []holder{r.first, safe} {
					for _, p := range points {
						require.NoError(t, check(who.open(t, r.b), p))
					}
				}
				require.NoError(t, thief.Refresh(ctx))
				require.NoError(t, check(thief, points[0]), "what was there stays readable")
				for _, p := range points[1:] {
					require.ErrorIs(t, check(thief, p), frame.ErrLocked)
				}
				a, err := r.first.open(t, r.b).Scrub(ctx, store.ScrubOptions{})
				require.NoError(t, err)
				require.True(t, a.Sound(), "%+v", a)
				if locked == 0 {
					return
				}

				// Holders from before go when their locks have ended, though keys are locked daily.
				s.Close()
				for range 4 {
					time.Sleep(24 * time.Hour)
					s := r.first.open(t, r.b)
					_, err := s.ProlongLocks(ctx, "meadow", points, 20*time.Hour)
					require.NoError(t, err)
					_, err = s.Reclaim(ctx, store.ReclaimOptions{})
					require.NoError(t, err)
					s.Close()
				}
				require.Len(t, namesBelow(t, r.b, "holders/"), 3)
				all, _, err := r.first.open(t, r.b).KeyHolders(ctx)
				require.NoError(t, err)
				for _, h := range all {
					require.Zero(t, h.Refused)
					require.True(t, h.Vouched)
				}
			})
		})
	}
}

// failingLocker fails as failing does, and locks.
type failingLocker struct {
	*failing
	blob.Locker
}

// TestRenewingIsCutOff after any number of steps: who could open the store can, or is told that keys are
// being renewed, and renewing once more ends it.
func TestRenewingIsCutOff(t *testing.T) {
	for _, locked := range []time.Duration{0, time.Hour} {
		for after := 0; ; after++ {
			require.Less(t, after, 40)
			r := newRenewing(t, locked, "")
			s, err := store.Open(ctx, failingLocker{&failing{Backend: r.b, after: after}, r.b}, r.first.opt)
			require.NoError(t, err)
			_, _, err = s.RenewKeys(ctx, r.first.secret)
			done := err == nil
			s = r.first.open(t, r.b)
			points, _, err := s.Points(ctx, "meadow")
			require.NoError(t, err)
			require.NoError(t, check(s, points[0]), "cut off after %d steps", after)
			if _, err := store.Open(ctx, r.b, r.writer.opt); err != nil {
				require.ErrorContains(t, err, "being renewed")
			}
			_, _, err = s.RenewKeys(ctx, r.first.secret)
			require.NoError(t, err)
			for i, who := range []holder{r.first, r.stolen, r.writer} {
				s := who.open(t, r.b)
				require.NoError(t, version(s, []string{"orchard", "heath", "marsh"}[i], 2))
			}
			s = r.first.open(t, r.b)
			points, _, err = s.Points(ctx, "")
			require.NoError(t, err)
			for _, p := range points {
				require.NoError(t, check(s, p))
			}
			if done {
				require.Greater(t, after, 5)
				break
			}
		}
	}
}

// TestWhoOnlyWritesShutsNobodyOut who can read, by saying that a holder was dropped.
func TestWhoOnlyWritesShutsNobodyOut(t *testing.T) {
	r := newRenewing(t, time.Hour, "")
	thief := r.writer.open(t, r.b)
	holders, _, err := thief.KeyHolders(ctx)
	require.NoError(t, err)
	for _, h := range holders {
		if h.Label == "laptop" {
			_, err := thief.DropHolder(ctx, h.ID)
			require.NoError(t, err)
		}
	}
	require.NotEmpty(t, namesBelow(t, r.b, "refused/"))
	r.stolen.open(t, r.b)
}
