package daemon

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/store"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

// TestAFaultEndsNoDaemon: whatever breaks while somebody is told, the work goes
// on; a run that breaks is a failed run.
func TestAFaultEndsNoDaemon(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, `snapshot: every 6h, capture: 1h, rpo: 7h, keep: { every_moment: 7d }`)
		asked := 0
		_, stop := y.daemon(func(context.Context, notify.Alert) error {
			asked++
			panic("nobody had thought of it")
		})
		time.Sleep(13 * time.Hour)
		y.field.setDown(true)
		time.Sleep(20 * time.Hour)
		require.Positive(t, asked)
		y.field.setDown(false)
		before := len(y.runs())
		time.Sleep(13 * time.Hour)
		require.Greater(t, len(y.runs()), before)
		stop()

		e := y.env(t.Context())
		defer e.Store.Close()
		err := e.Record(t.Context(), &store.Run{Kind: store.RunVerify, Cluster: "meadow"}, run.RecordOptions{},
			func(context.Context, *run.Runner, *store.Run) error {
				var nothing *store.Point
				return errors.New(nothing.ID)
			})
		require.ErrorContains(t, err, "a fault of the program")
		runs, _, err := e.Store.Runs(t.Context(), store.RunFilter{Kinds: []string{store.RunVerify}})
		require.NoError(t, err)
		require.Equal(t, store.RunFailed, runs[0].Result)
		require.Contains(t, runs[0].Warnings[0], "goroutine")
	})
}

// TestTheBrakeKnowsTheRule: where most of the points go each day, as the rule says, nobody has to look.
// After weeks in which nothing ran, all would go at once: then somebody has.
func TestTheBrakeKnowsTheRule(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, `snapshot: every 1h, keep: { thin: [daily for 14d] }`)
		refused := func() (n int) {
			for _, r := range y.runs() {
				if r.Kind == store.RunRetention && r.Result == store.RunRefused {
					n++
				}
			}
			return n
		}
		_, stop := y.daemon(func(context.Context, notify.Alert) error { return nil })
		time.Sleep(10 * 24 * time.Hour) // more points than may always go, also before the next snapshot is done
		stop()
		require.Zero(t, refused())
		e := y.env(t.Context())
		list, _, err := e.Store.Points(t.Context(), "meadow")
		e.Store.Close()
		require.NoError(t, err)
		require.Less(t, len(list), 10+2*24)
		time.Sleep(30 * 24 * time.Hour)
		_, stop = y.daemon(func(context.Context, notify.Alert) error { return nil })
		time.Sleep(2 * time.Hour)
		stop()
		require.Positive(t, refused())
	})
}

// TestRetentionHasABrake: unattended it drops nothing under a rule that was
// changed since it ran last, nor more than a quarter of what there was; a policy that does
// not say what is kept keeps all.
func TestRetentionHasABrake(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, `snapshot: every 6h, keep: { never_fewer: 30 }`)
		_, stop := y.daemon(func(context.Context, notify.Alert) error { return nil })
		time.Sleep(10 * 24 * time.Hour)
		stop()
		points := func() int {
			e := y.env(t.Context())
			defer e.Store.Close()
			list, _, err := e.Store.Points(t.Context(), "meadow")
			require.NoError(t, err)
			return len(list)
		}
		had := points()
		var all []notify.Alert
		require.GreaterOrEqual(t, had, 30)
		for _, changed := range []string{
			`snapshot: every 6h, keep: { never_fewer: 3 }`, `snapshot: every 6h, keep: { never_fewer: 25 }`,
			`snapshot: every 6h`} {
			y.cfg = y.config(changed)
			var sentAlert []notify.Alert
			_, stop = y.daemon(func(_ context.Context, t notify.Alert) error { sentAlert = append(sentAlert, t); return nil })
			time.Sleep(30 * time.Hour)
			stop()
			require.GreaterOrEqual(t, points(), had, changed)
			if changed != `snapshot: every 6h` {
				refused := ""
				for _, r := range y.runs() {
					if r.Kind == store.RunRetention && r.Result == store.RunRefused {
						refused = r.Error
					}
				}
				require.Contains(t, refused, "dexamen retention meadow --apply --yes", changed)
				all = append(all, sentAlert...)
			}
		}
		require.NotEmpty(t, all, "and it is told")
		// By hand it is done, and what comes after goes by it.
		y.cfg = y.config(`snapshot: every 6h, keep: { never_fewer: 3 }`)
		e := y.env(t.Context())
		r := &store.Run{Kind: store.RunRetention, Cluster: "meadow"}
		require.NoError(t, e.Record(t.Context(), r, run.RecordOptions{},
			func(ctx context.Context, e *run.Runner, r *store.Run) error {
				return ApplyRetention(ctx, e, Assignments(y.cfg)[0], r)
			}))
		e.Store.Close()
		require.Equal(t, 3, points())
		_, stop = y.daemon(func(context.Context, notify.Alert) error { return nil })
		time.Sleep(4 * 24 * time.Hour)
		stop()
		require.LessOrEqual(t, points(), 8)
	})
}
