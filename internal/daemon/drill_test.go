package daemon

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/calendar"
	"dexamen/internal/core/store"
)

// TestWhenADrillIsDue: at its time and not before, not for a cluster whose first point is younger, and told
// where one failed or a whole turn went by without one that went well.
func TestWhenADrillIsDue(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 28, 9, 0, 0, 0, time.UTC) // a Saturday
	d := &config.Drill{Schedule: "0 4 * * sun"}
	var err error
	d.When.Schedule, err = calendar.ParseSchedule(d.Schedule, time.UTC, nil)
	require.NoError(t, err)
	w := Assignment{Policy: "nightly", Store: "larder", Cluster: "meadow", Config: config.Policy{Drill: d}}
	last, next := time.Date(2026, 11, 22, 4, 0, 0, 0, time.UTC), time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	point := func(at time.Time) []*store.Point {
		return []*store.Point{{ID: "p", Cluster: "meadow", Engine: "field", Time: at, Finished: at}}
	}
	drilled := func(at time.Time, policy, result string) *store.Run {
		return &store.Run{ID: at.Format("20060102-150405"), Kind: store.RunDrill, Policy: policy, Due: last, Attempt: 1,
			Started: at, Finished: at.Add(time.Minute), Result: result, Error: "2 records, 10 are needed",
			Drill: &store.Rehearsal{Recovery: 1e9}}
	}
	told := func(s *State) (keys []string) {
		for _, a := range Alerts(w, s, now) {
			if a.About == "drill" {
				keys = append(keys, a.Key)
			}
		}
		return keys
	}
	old := now.Add(-60 * 24 * time.Hour)
	require.Nil(t, drillDuty(w, &State{}, now), "nothing to rehearse")
	require.Equal(t, next, drillDuty(w, &State{Points: point(now.Add(-time.Hour))}, now).Due, "it is new")
	require.Empty(t, told(&State{Points: point(now.Add(-time.Hour)), Latest: now}))

	s := &State{Points: point(old), Latest: now}
	require.Equal(t, last, drillDuty(w, s, now).Due, "made up for")
	require.Equal(t, []string{"overdue drill"}, told(s))

	s.Runs = []*store.Run{drilled(last.Add(time.Minute), "nightly", store.RunDone)}
	require.Equal(t, next, drillDuty(w, s, now).Due)
	require.Empty(t, told(s))

	s.Runs = append(s.Runs, drilled(last.Add(time.Hour), "nightly", store.RunDiffers))
	require.Equal(t, next, drillDuty(w, s, now).Due, "what differs is told, and not tried again")
	require.Equal(t, []string{"failure drill"}, told(s))

	s.Runs = append(s.Runs, drilled(last.Add(2*time.Hour), "", store.RunDone))
	require.Empty(t, told(s), "somebody has done it by hand")

	s.Runs = []*store.Run{drilled(last.Add(-8*24*time.Hour), "nightly", store.RunDone)}
	require.Equal(t, []string{"overdue drill"}, told(s), "a whole turn went by")
}
