package retain_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
	"dexamen/internal/core/retain"
)

const day = 24 * time.Hour

func rung(t *testing.T, text string) retain.Rung {
	r, err := retain.ParseRung(text, address.ParseDistance)
	require.NoError(t, err)
	return r
}

func TestParseRung(t *testing.T) {
	require.Equal(t, retain.Rung{Each: retain.Daily, For: 30 * day}, rung(t, "daily for 30d"))
	for _, bad := range []string{"", "daily", "nightly for 30d", "daily for ever", "daily for 0d"} {
		_, err := retain.ParseRung(bad, address.ParseDistance)
		require.Error(t, err, bad)
	}
}

// TestAYear takes points every six hours for two years, retires them each day,
// and looks at what is left: which points, and why.
func TestAYear(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	rule := retain.Rule{EveryMoment: 7 * day,
		Thin:       []retain.Rung{rung(t, "daily for 30d"), rung(t, "weekly for 26w"), rung(t, "monthly for 365d")},
		NeverFewer: 3, Zone: zone}
	now := time.Date(2025, 1, 1, 3, 0, 0, 0, time.UTC)
	var points []retain.Point
	for now.Before(time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)) {
		points = append(points, retain.Point{ID: now.Format("060102-15"), Time: now})
		if now.Hour() == 3 {
			points = kept(rule.Decide(points, now))
		}
		now = now.Add(6 * time.Hour)
	}
	plan := rule.Decide(points, now)
	byWhy := map[string]int{}
	for _, v := range plan.Verdicts {
		require.True(t, v.Keep || v.Reason != "")
		byWhy[v.Reason[:5]]++
	}
	// 29 in the week and its base; then days to 30, weeks to 182, months to 365.
	require.Equal(t, 1, byWhy["the m"])
	require.InDelta(t, 28, byWhy["withi"], 1)
	require.InDelta(t, 23, byWhy["daily"], 1)
	require.InDelta(t, 22, byWhy["weekl"], 2)
	require.InDelta(t, 12, byWhy["month"], 2) // a month begins in the middle of a week
}

func kept(p *retain.Plan) (out []retain.Point) {
	for _, v := range p.Verdicts {
		if v.Keep {
			out = append(out, v.Point)
		}
	}
	return out
}

// TestWhatARuleSaysIsSo holds every promise of random rules against random
// points, taken and retired at random times over years with changes of the clock.
func TestWhatARuleSaysIsSo(t *testing.T) {
	zones := []string{"UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Pacific/Apia"}
	each := []retain.Unit{retain.Hourly, retain.Daily, retain.Weekly, retain.Monthly, retain.Yearly}
	for seed := range uint64(100) {
		rng := rand.New(rand.NewPCG(seed, 1))
		zone, err := time.LoadLocation(zones[rng.IntN(len(zones))])
		require.NoError(t, err)
		rule := retain.Rule{NeverFewer: rng.IntN(5), Zone: zone}
		if rng.IntN(2) == 0 {
			rule.EveryMoment = time.Duration(rng.IntN(10*24)) * time.Hour
		}
		if rng.IntN(4) == 0 {
			rule.NeverMore = 1 + rng.IntN(40)
		}
		for range rng.IntN(4) {
			rule.Thin = append(rule.Thin,
				retain.Rung{Each: each[rng.IntN(len(each))], For: time.Duration(1+rng.IntN(400)) * day})
		}
		now := time.Date(2024, time.Month(1+rng.IntN(12)), 1+rng.IntN(28), rng.IntN(24), 0, 0, 0, time.UTC)
		var all, have []retain.Point // ever taken; still there
		for n := range 250 {
			now = now.Add(time.Duration(rng.IntN(3*24*60)) * time.Minute)
			p := retain.Point{ID: fmt.Sprintf("%04d", n), Time: now}
			if rng.IntN(30) == 0 {
				p.Held, p.HeldReason = now.Add(time.Duration(rng.IntN(200))*day), "audit"
			}
			if rng.IntN(30) == 0 {
				p.Locked = now.Add(time.Duration(rng.IntN(60)) * day)
			}
			all, have = append(all, p), append(have, p)
			if rng.IntN(3) > 0 {
				continue
			}
			what := fmt.Sprintf("seed %d, %d points, %s", seed, len(have), now)
			shuffled := append([]retain.Point(nil), have...)
			rng.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
			plan := rule.Decide(have, now)
			require.Equal(t, plan, rule.Decide(shuffled, now), what)
			stay := map[string]bool{}
			for _, v := range plan.Verdicts {
				require.NotEmpty(t, v.Reason, what)
				stay[v.Point.ID] = v.Keep
			}
			require.Len(t, stay, len(have), what)
			require.True(t, stay[have[len(have)-1].ID], "the newest stays: %s", what)
			require.GreaterOrEqual(t, plan.Kept(), min(rule.NeverFewer, len(have)), what)
			base := ""
			for _, p := range have {
				if p.Held.After(now) || p.Locked.After(now) {
					require.True(t, stay[p.ID], "held or locked: %s", what)
				}
				if rule.EveryMoment > 0 && !p.Time.After(now.Add(-rule.EveryMoment)) {
					base = p.ID
				}
				if rule.EveryMoment > 0 && p.Time.After(now.Add(-rule.EveryMoment)) {
					require.True(t, stay[p.ID], "within every moment: %s", what)
				}
			}
			if base != "" {
				require.True(t, stay[base], "the point that moments rest on: %s", what)
				require.Equal(t, base, plan.LogFrom, what)
			}
			require.True(t, stay[plan.LogFrom], "the log that stays begins at a point that does: %s", what)
			left := kept(plan)
			require.Len(t, kept(rule.Decide(left, now)), len(left), "what stays stays when asked again: %s", what)
			have = left
			if rule.NeverMore > 0 {
				strong := 0
				for _, v := range plan.Verdicts {
					if v.Keep && len(v.Reason) > 2 && !isUnit(v.Reason) {
						strong++
					}
				}
				require.LessOrEqual(t, plan.Kept(), max(rule.NeverMore, strong), what)
				continue
			}
			// Retiring often keeps what retiring once would: nothing that a rung
			// wants is gone because it was not wanted before.
			for _, v := range rule.Decide(all, now).Verdicts {
				if v.Keep {
					require.True(t, stay[v.Point.ID], "%s is wanted (%s) and gone: %s", v.Point.ID, v.Reason, what)
				}
			}
		}
	}
}

func isUnit(why string) bool {
	for _, u := range []string{"hourly:", "daily:", "weekly:", "monthly:", "yearly:"} {
		if len(why) > len(u) && why[:len(u)] == u {
			return true
		}
	}
	return false
}

func TestProblems(t *testing.T) {
	r := retain.Rule{EveryMoment: 7 * day, NeverFewer: 9, NeverMore: 5,
		Thin: []retain.Rung{{Each: retain.Hourly, For: 2 * day}, {Each: retain.Weekly, For: 3 * day}}}
	require.Len(t, r.Problems(6*time.Hour), 4)
	require.Empty(t, retain.Rule{EveryMoment: 7 * day, Thin: []retain.Rung{{Each: retain.Daily, For: 30 * day}},
		NeverFewer: 3, NeverMore: 200}.Problems(6*time.Hour))
}

// TestAWholePointIsKeptRather than one that lacks something.
func TestAWholePointIsKeptRather(t *testing.T) {
	at := func(day, hour int) time.Time { return time.Date(2026, 5, day, hour, 0, 0, 0, time.UTC) }
	points := []retain.Point{
		{ID: "a", Time: at(1, 1), Flawed: true}, {ID: "b", Time: at(1, 2)}, {ID: "c", Time: at(1, 3)},
		{ID: "d", Time: at(2, 1), Flawed: true}, {ID: "e", Time: at(2, 2), Flawed: true},
		{ID: "f", Time: at(3, 1)}, {ID: "g", Time: at(3, 2), Flawed: true}, {ID: "h", Time: at(3, 3), Flawed: true}}
	plan := retain.Rule{Thin: []retain.Rung{{Each: retain.Daily, For: 30 * 24 * time.Hour}}}.Decide(points, at(4, 0))
	kept := map[string]string{}
	for _, v := range plan.Verdicts {
		if v.Keep {
			kept[v.Point.ID] = v.Reason
		}
	}
	require.Equal(t, map[string]string{"b": "daily: the first whole one of 2026-05-01",
		"d": "daily: the first of 2026-05-02", "f": "the newest that is whole", "h": "the newest"}, kept)
}
