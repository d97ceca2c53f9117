package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dexamen/internal/core/sealed/sealedtest"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// What compresses is made when it is first used. That must not be within a bubble
// of unreal time, which would keep it.
func TestMain(m *testing.M) {
	b := blob.NewMemory()
	if _, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true}); err != nil {
		panic(err)
	}
	s, err := store.Open(ctx, b, store.Options{})
	if err != nil {
		panic(err)
	}
	if err := version(s, "meadow", 1); err != nil {
		panic(err)
	}
	s.Close()
	os.Exit(m.Run())
}

// TestRuns holds what the history of runs promises, in an encrypted store.
func TestRuns(t *testing.T) {
	h := newHolder(t)
	b := blob.NewMemory()
	h.create(t, b, "")
	s, other := h.open(t, b), h.open(t, b)
	r := &store.Run{Kind: store.RunSnapshot, Cluster: "meadow", Policy: "nightly", Due: time.Now().UTC()}
	claim, err := s.BeginRun(ctx, r, true, nil)
	require.NoError(t, err)
	_, err = other.BeginRun(ctx, &store.Run{Kind: store.RunSnapshot, Cluster: "meadow"}, true, nil)
	require.ErrorIs(t, err, store.ErrHeld, "two snapshots of one cluster")
	free := &store.Run{Kind: store.RunVerify, Cluster: "meadow"}
	l2, err := other.BeginRun(ctx, free, false, nil)
	require.NoError(t, err)
	going, broken, err := s.Running(ctx)
	require.NoError(t, err)
	require.Len(t, going, 2)
	require.Empty(t, broken)
	changed := errors.New("done meanwhile")
	_, err = other.BeginRun(ctx, &store.Run{Kind: store.RunCapture, Cluster: "meadow"}, true,
		func() error { return changed })
	require.ErrorIs(t, err, changed)

	r.Result, r.Point = store.RunDone, "20261123-101404-k7qx"
	require.NoError(t, s.EndRun(ctx, r, claim))
	free.Result, free.Error = store.RunDiffers, "hives"
	require.NoError(t, other.EndRun(ctx, free, l2))
	going, broken, err = s.Running(ctx)
	require.NoError(t, err)
	require.Empty(t, append(going, broken...))
	again := *r
	again.Result = store.RunFailed
	require.ErrorIs(t, s.EndRun(ctx, &again, nil), store.ErrRunEnded)

	runs, bad, err := other.Runs(ctx, store.RunFilter{Cluster: "meadow"})
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Len(t, runs, 2)
	// both may have begun in one millisecond
	kept := runs[slices.IndexFunc(runs, func(k *store.Run) bool { return k.ID == r.ID })]
	require.Equal(t, store.RunDone, kept.Result, "as it ended first")
	require.Equal(t, r.Point, kept.Point)
	runs, _, err = s.Runs(ctx, store.RunFilter{Kinds: []string{store.RunVerify}})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	runs, _, err = s.Runs(ctx, store.RunFilter{Since: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	require.Empty(t, runs)
	for _, n := range namesBelow(t, b, "") {
		require.NotContains(t, n, "meadow")
		require.NotContains(t, n, "snapshot")
	}
	a, err := s.Scrub(ctx, store.ScrubOptions{Part: -1, Parts: 1, Emit: func(string, int, int64) {}})
	require.NoError(t, err)
	require.Empty(t, a.Damaged)
	require.Len(t, a.Points, 1, "the run tells of a point that is not there")
	require.Equal(t, r.Point, a.Points[0].ID)
}

// TestALeaseOfTheDead: a process that was killed on this machine holds nothing,
// without waiting; one of another machine does until its time is over.
func TestALeaseOfTheDead(t *testing.T) {
	_, s := fresh(t)
	sleeper := exec.Command("sleep", "60")
	require.NoError(t, sleeper.Start())
	l := sealedtest.PretendClaim(t, s.Objects, "reclaim", sleeper.Process.Pid)
	_, err := s.Acquire(ctx, "reclaim")
	require.ErrorIs(t, err, store.ErrHeld)
	require.NoError(t, sleeper.Process.Kill())
	_ = sleeper.Wait()
	mine, err := s.Acquire(ctx, "reclaim")
	require.NoError(t, err)
	mine.Release(ctx)
	_ = l
}

// TestForgetting: captures that went well are forgotten sooner than what did not,
// and the newest of a kind never.
func TestForgetting(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, s := fresh(t)
		for i := range 60 {
			for _, kind := range []string{store.RunCapture, store.RunSnapshot} {
				r := &store.Run{Kind: kind, Cluster: "meadow", Result: store.RunDone}
				l, err := s.BeginRun(ctx, r, true, nil)
				require.NoError(t, err)
				if i%10 == 5 {
					r.Result = store.RunFailed
				}
				require.NoError(t, s.EndRun(ctx, r, l))
			}
			time.Sleep(24 * time.Hour)
		}
		now := time.Now()
		_, err := s.ForgetRuns(ctx, "meadow", now.Add(-7*24*time.Hour), now.Add(-40*24*time.Hour))
		require.NoError(t, err)
		count := func() map[string]int {
			out := map[string]int{}
			runs, _, err := s.Runs(ctx, store.RunFilter{})
			require.NoError(t, err)
			for _, r := range runs {
				out[r.Kind+" "+r.Result]++
			}
			return out
		}
		require.Equal(t, map[string]int{
			"capture done": 6, "capture failed": 4, "snapshot done": 36, "snapshot failed": 4}, count())
		_, err = s.ForgetRuns(ctx, "meadow", now, now)
		require.NoError(t, err)
		require.Equal(t, map[string]int{"capture done": 1, "snapshot done": 1}, count())
	})
}

// logOf makes a chain of n segments with a few changes each, a gap at one place,
// and gives all changes.
func logOf(t testing.TB, s *store.Store, r *rand.Rand, n, gap int) (changes []record.Change) {
	var prev tree.Hash
	at := func(i int) record.Mark {
		return record.Mark{Position: record.Position(fmt.Sprintf("%06d", i)),
			Wall: time.Now().Add(time.Duration(i) * time.Minute).UTC()}
	}
	pos := 0
	for i := range n {
		b := journal.NewBuilder(keysOf(t, s), "meadow", "yard", at(pos))
		from := at(pos)
		for range 1 + r.IntN(4) {
			pos++
			c := record.Change{Op: record.Put, Namespace: "hives", Key: []byte{byte(r.IntN(9))},
				Value: fmt.Appendf(nil, "v%d", pos), At: at(pos).Position, Wall: at(pos).Wall.UnixMilli()}
			if i != gap {
				require.NoError(t, b.Add(&c))
				changes = append(changes, c)
			}
		}
		b.CoverTo(at(pos))
		var h journal.Header
		var data []byte
		var err error
		if i == gap {
			h, data, err = journal.SealGap(keysOf(t, s), "meadow", "yard", from, at(pos), "rolled over", prev)
		} else {
			if i%7 == 3 {
				b.Doubt("something went away")
			}
			h, data, err = b.Seal(prev, "member")
		}
		require.NoError(t, err)
		require.NoError(t, s.PutSegment(ctx, h, data))
		prev = h.ID
	}
	return changes
}

// TestJoiningLosesNothing puts segments together again and again, cut off after
// any number of steps: at every instant the log says the same.
func TestJoiningLosesNothing(t *testing.T) {
	for seed := range uint64(6) {
		synctest.Test(t, func(t *testing.T) {
			r := rand.New(rand.NewPCG(seed, 1))
			b, s := fresh(t)
			want := logOf(t, s, r, 120, 50)
			var gaps []journal.Gap
			said := func() (changes []record.Change, segments, doubts int) {
				chains, bad, err := open(t, b).Chains(ctx, "meadow")
				require.NoError(t, err)
				require.Empty(t, bad)
				c := chains["yard"]
				for _, h := range c.Segments {
					doubts += len(h.Doubt)
					require.NoError(t, s.ReadSegment(ctx, h,
						func(ch *record.Change) error { changes = append(changes, ch.Clone()); return nil }))
				}
				if gaps == nil {
					gaps = c.Gaps()
				}
				require.Equal(t, gaps, c.Gaps())
				return changes, len(c.Segments), doubts
			}
			_, before, doubts := said()
			time.Sleep(2 * time.Hour)
			for round := range 8 {
				// The place fails after some steps, as if the process was killed.
				dying := &failing{Backend: b, after: r.IntN(6)}
				if round == 7 {
					dying.after = 1 << 30
				}
				_, _ = open(t, dying).Join(ctx, "meadow", store.JoinOptions{Least: 4, Bytes: 2000})
				got, _, d := said()
				require.Equal(t, want, got)
				require.Equal(t, doubts, d)
				time.Sleep(time.Duration(r.IntN(100)) * time.Minute)
			}
			_, err := open(t, b).Join(ctx, "meadow", store.JoinOptions{Least: 4, Bytes: 2000})
			require.NoError(t, err)
			time.Sleep(2 * time.Hour)
			j, err := open(t, b).Join(ctx, "meadow", store.JoinOptions{Least: 4, Bytes: 2000})
			require.NoError(t, err)
			got, after, _ := said()
			require.Equal(t, want, got)
			require.Less(t, after, before/2)
			require.Less(t, len(namesBelow(t, b, "journal/")), before/2+20, "what was put together goes: %v", j)

			// A capture goes on where the joined log ends, and reading from
			// within a joined segment works.
			chains, _, err := s.Chains(ctx, "meadow")
			require.NoError(t, err)
			last, prev, _ := chains["yard"].End()
			sb := journal.NewBuilder(keysOf(t, s), "meadow", "yard", last)
			sb.CoverTo(record.Mark{Position: "999999", Wall: time.Now()})
			h, data, err := sb.Seal(prev, "member")
			require.NoError(t, err)
			require.NoError(t, s.PutSegment(ctx, h, data))
			said()
			a, err := s.Scrub(ctx, store.ScrubOptions{Part: -1, Parts: 1, Emit: func(string, int, int64) {}})
			require.NoError(t, err)
			require.True(t, a.Sound(), "%+v", a)
		})
	}
}

// failing is a place whose changes fail after a number of them.
type failing struct {
	blob.Backend
	after int
}

func (f *failing) Create(c context.Context, name string, data []byte) error {
	if f.after--; f.after < 0 {
		return errors.New("killed")
	}
	return f.Backend.Create(c, name, data)
}

func (f *failing) Remove(c context.Context, name string) error {
	if f.after--; f.after < 0 {
		return errors.New("killed")
	}
	return f.Backend.Remove(c, name)
}

// meanwhile is a place at which something happens just after its first listing of the log.
type meanwhile struct {
	blob.Backend
	happens func()
}

func (m *meanwhile) List(c context.Context, prefix string, fn func(blob.Info) error) error {
	var infos []blob.Info
	err := m.Backend.List(c, prefix, func(i blob.Info) error { infos = append(infos, i); return nil })
	if do := m.happens; do != nil && strings.HasPrefix(prefix, "journal/") {
		m.happens = nil
		do()
	}
	for _, i := range infos {
		if err == nil {
			err = fn(i)
		}
	}
	return err
}

// TestSegmentsPutTogetherMeanwhile: who looks at a log while that is done sees no gap.
func TestSegmentsPutTogetherMeanwhile(t *testing.T) {
	b, s := fresh(t)
	logOf(t, s, rand.New(rand.NewPCG(1, 1)), 40, -1)
	joined := 0
	m := &meanwhile{Backend: b, happens: func() {
		for range 2 {
			j, err := open(t, b).Join(ctx, "meadow", store.JoinOptions{Settled: time.Nanosecond})
			require.NoError(t, err)
			joined += j.Removed
		}
	}}
	other, err := store.Open(ctx, m, store.Options{})
	require.NoError(t, err)
	defer other.Close()
	chains, bad, err := other.Chains(ctx, "meadow")
	require.NoError(t, err)
	require.Empty(t, bad)
	require.Greater(t, joined, 10)
	require.Empty(t, chains["yard"].Gaps())
	require.Equal(t, record.Position("000000"), chains["yard"].Segments[0].After.Position)
}

// TestALogThatRetentionHasCut goes when nothing has needed it for a week, and begins later then
// atRemoval is a place at which something happens just before the first segment is removed.
type atRemoval struct {
	blob.Backend
	happens func()
}

func (m *atRemoval) Remove(c context.Context, name string) error {
	if f := m.happens; f != nil && strings.HasPrefix(name, "journal/") {
		m.happens = nil
		f()
	}
	return m.Backend.Remove(c, name)
}

// TestRetentionWhileSegmentsArePutTogether: who removes segments because of the one that they were put
// together into can rely on it, also where retention cuts the log within it at that very moment.
func TestRetentionWhileSegmentsArePutTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, s := fresh(t)
		logOf(t, s, rand.New(rand.NewPCG(1, 1)), 30, -1)
		for i, id := range []string{"old", "mid", "new"} {
			mark := record.Mark{Position: record.Position(fmt.Sprintf("%06d", i*10))}
			require.NoError(t, s.PutPoint(ctx, &store.Point{ID: id, Cluster: "meadow", Time: time.Now(),
				Shards: []store.PointShard{{Name: "yard", Mark: mark}}}))
		}
		_, err := s.Retire(ctx, "meadow", []string{"old"}, "mid")
		require.NoError(t, err)
		time.Sleep(8 * 24 * time.Hour)
		j, err := s.Join(ctx, "meadow", store.JoinOptions{Settled: time.Minute})
		require.NoError(t, err)
		require.Positive(t, j.To)
		time.Sleep(time.Hour)
		s.Close()
		slow := open(t, &atRemoval{b, func() {
			s := open(t, b)
			defer s.Close()
			_, err := s.Retire(ctx, "meadow", nil, "mid")
			require.NoError(t, err)
		}})
		j, err = slow.Join(ctx, "meadow", store.JoinOptions{Settled: time.Minute})
		require.NoError(t, err)
		require.Positive(t, j.Removed)
		slow.Close()
		s = open(t, b)
		chains, bad, err := s.Chains(ctx, "meadow")
		require.NoError(t, err)
		require.Empty(t, bad)
		c := chains["yard"]
		require.LessOrEqual(t, c.Segments[0].After.Position, record.Position("000010"), "what a point needs is there")
		for _, g := range c.Gaps() {
			require.Equal(t, journal.Beginning, g.Reason)
		}
		_, err = s.Retire(ctx, "meadow", nil, "mid")
		require.NoError(t, err)
		s.Close()
	})
}

// without being broken; one whose first segment was lost otherwise is.
func TestALogThatRetentionHasCut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b, s := fresh(t)
		logOf(t, s, rand.New(rand.NewPCG(1, 1)), 30, -1)
		point := func(id, pos string) {
			require.NoError(t, s.PutPoint(ctx,
				&store.Point{ID: id, Cluster: "meadow", Time: time.Now(),
					Shards: []store.PointShard{{Name: "yard", Mark: record.Mark{Position: record.Position(pos)}}}}))
		}
		point("old", "000000")
		point("mid", "000010")
		point("new", "000020")
		begins := func() (record.Position, bool) {
			s := open(t, b)
			defer s.Close()
			chains, _, err := s.Chains(ctx, "meadow")
			require.NoError(t, err)
			ok, err := s.Begins(ctx, "meadow", chains["yard"])
			require.NoError(t, err)
			return chains["yard"].Segments[0].After.Position, ok
		}
		retire := func(drop []string, from string) *store.Retired {
			s := open(t, b)
			defer s.Close()
			out, err := s.Retire(ctx, "meadow", drop, from)
			require.NoError(t, err)
			return out
		}
		before := namesBelow(t, b, "journal/")
		out := retire([]string{"old"}, "new")
		require.Zero(t, out.Segments)
		require.Positive(t, out.Going)
		for range 6 {
			time.Sleep(24 * time.Hour)
			require.Zero(t, retire(nil, "new").Segments)
		}
		require.Equal(t, before, namesBelow(t, b, "journal/"))

		// Brought back, the point comes with its log; what counts is how long the log was not needed since.
		s = open(t, b)
		p, err := s.BringBack(ctx, "meadow", "old")
		require.NoError(t, err)
		require.True(t, p.Log && p.LogWhole)
		s.Close()
		time.Sleep(3 * 24 * time.Hour)
		require.Zero(t, retire([]string{"old"}, "mid").Segments)
		time.Sleep(6 * 24 * time.Hour)
		require.Zero(t, retire(nil, "new").Segments)
		require.Equal(t, before, namesBelow(t, b, "journal/"))

		time.Sleep(2 * 24 * time.Hour)
		for killed := range 9 {
			s, err := store.Open(ctx, &failing{Backend: b, after: killed}, store.Options{})
			if err == nil {
				_, err = s.Retire(ctx, "meadow", nil, "new")
				s.Close()
			}
			_, ok := begins()
			require.True(t, ok, "killed after %d steps", killed)
			if err == nil {
				break
			}
		}
		at, _ := begins()
		require.Greater(t, at, record.Position("000003"))
		require.LessOrEqual(t, at, record.Position("000010"), "what only the second point needs goes later")
		require.Less(t, len(namesBelow(t, b, "journal/")), len(before))
		time.Sleep(8 * 24 * time.Hour)
		s = open(t, b)
		p, err = s.BringBack(ctx, "meadow", "old")
		require.NoError(t, err)
		require.True(t, p.Log && !p.LogWhole, "told that its log has gone")
		s.Close()
		retire([]string{"old"}, "new")
		time.Sleep(8 * 24 * time.Hour)
		require.Positive(t, retire(nil, "new").Segments)
		at, ok := begins()
		require.True(t, ok)
		require.Greater(t, at, record.Position("000015"))
		require.Zero(t, retire(nil, "new").Segments)
		_, ok = begins()
		require.True(t, ok, "once more changes nothing")
		require.Len(t, namesBelow(t, b, "marks/"), 1)
		require.NoError(t, b.Remove(ctx, namesBelow(t, b, "journal/")[0]))
		_, ok = begins()
		require.False(t, ok, "that one was needed")
	})
}

// TestHolds and proofs are kept with their point.
func TestHolds(t *testing.T) {
	_, s := fresh(t)
	for i := range 3 {
		require.NoError(t, s.PutHold(ctx,
			&store.Hold{Cluster: "meadow", Point: fmt.Sprint("p", i%2), Until: time.Now().Add(time.Hour),
				Reason: "the auditors look at it"}))
	}
	holds, err := s.Holds(ctx, "meadow")
	require.NoError(t, err)
	require.Len(t, holds, 3)
	require.NoError(t, s.RemoveHold(ctx, holds[0]))
	holds, err = s.Holds(ctx, "")
	require.NoError(t, err)
	require.Len(t, holds, 2)
	require.NoError(t, s.PutProof(ctx, &store.ProofMark{Cluster: "meadow", Point: "p0", Equal: true}))
	require.NoError(t, s.PutProof(ctx, &store.ProofMark{Cluster: "meadow", Point: "p0"}), "said twice")
	proofs, err := s.Proofs(ctx, "meadow")
	require.NoError(t, err)
	require.True(t, proofs["p0"].Equal, "the first word counts")
}

// TestARunThatAnotherEnded: a process that was stopped until its run counted as died is told so, and
// can give up what it held as often as it likes.
func TestARunThatAnotherEnded(t *testing.T) {
	b := blob.NewMemory()
	_, err := store.Create(ctx, b, store.CreateOptions{Tool: "test", Plain: true})
	require.NoError(t, err)
	s, err := store.Open(ctx, b, store.Options{})
	require.NoError(t, err)
	defer s.Close()
	r := &store.Run{Kind: store.RunCapture, Cluster: "meadow"}
	claim, err := s.BeginRun(ctx, r, true, nil)
	require.NoError(t, err)
	killed := *r
	killed.Result = store.RunKilled
	require.NoError(t, s.EndRun(ctx, &killed, nil))
	r.Result = store.RunDone
	require.ErrorIs(t, s.EndRun(ctx, r, claim), store.ErrRunEnded)
	s.EndLater(r, claim)
	claim.Release(ctx)
	claim.Release(ctx)
	_, err = s.BeginRun(ctx, &store.Run{Kind: store.RunCapture, Cluster: "meadow"}, true, nil)
	require.NoError(t, err, "it was given up")
}
