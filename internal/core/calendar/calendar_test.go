package calendar

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
)

func schedule(t testing.TB, text, zone string) Schedule {
	z, err := time.LoadLocation(zone)
	require.NoError(t, err)
	s, err := ParseSchedule(text, z, address.ParseDistance)
	require.NoError(t, err)
	return s
}

// TestClockChanges shows what becomes of work in the hour that clocks skip and in
// the one they repeat.
func TestClockChanges(t *testing.T) {
	for _, c := range []struct{ text, from, want string }{
		{"30 2 * * *", "2026-03-28T12:00:00+01:00", "2026-03-29T03:00:00+02:00"}, // 02:30 is skipped: at the jump
		{"30 2 * * *", "2026-03-29T03:00:00+02:00", "2026-03-30T02:30:00+02:00"},
		{"30 2 * * *", "2026-10-24T12:00:00+02:00", "2026-10-25T02:30:00+02:00"}, // the first of two
		{"30 2 * * *", "2026-10-25T02:30:00+02:00", "2026-10-26T02:30:00+01:00"}, // and not the second
		{"15 * * * *", "2026-10-25T02:15:00+02:00", "2026-10-25T02:15:00+01:00"}, // hourly means every hour
		{"15 * * * *", "2026-03-29T01:15:00+01:00", "2026-03-29T03:15:00+02:00"},
		{"0 3 * * 0", "2026-03-23T00:00:00+01:00", "2026-03-29T03:00:00+02:00"},
		{"every 6h", "2026-03-29T00:10:00+01:00", "2026-03-29T06:00:00+02:00"},
		{"every 6h", "2026-10-25T00:10:00+02:00", "2026-10-25T06:00:00+01:00"},
		{"every 15m", "2026-10-25T02:50:00+02:00", "2026-10-25T02:00:00+01:00"},
		{"every 24h", "2026-07-01T12:00:00+02:00", "2026-07-02T00:00:00+02:00"},
		{"every 7d", "2026-07-01T12:00:00+02:00", "2026-07-06T00:00:00+02:00"},
		{"15 1 29 2 *", "2026-01-01T00:00:00+01:00", "2028-02-29T01:15:00+01:00"},
	} {
		s := schedule(t, c.text, "Europe/Berlin")
		from, err := time.Parse(time.RFC3339, c.from)
		require.NoError(t, err)
		want, err := time.Parse(time.RFC3339, c.want)
		require.NoError(t, err)
		require.Equal(t, want.UTC(), s.Next(from).UTC(), "%s after %s", c.text, c.from)
	}
}

// TestSchedules holds what every schedule must do in any zone and year: times
// rise, none is passed over by asking from in between, Last and Next agree, and
// no day that a daily schedule has is without its run.
func TestSchedules(t *testing.T) {
	zones := []string{"UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu",
		"America/Santiago", "Pacific/Apia"}
	r := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		zone := zones[r.IntN(len(zones))]
		text := []string{
			fmt.Sprintf("%d %d * * *", r.IntN(60), r.IntN(24)),
			fmt.Sprintf("*/%d * * * *", 1+r.IntN(59)),
			fmt.Sprintf("%d */%d * * *", r.IntN(60), 1+r.IntN(23)),
			fmt.Sprintf("%d %d * * %d", r.IntN(60), r.IntN(24), r.IntN(7)),
			fmt.Sprintf("every %dm", 1+r.IntN(5000)),
		}[r.IntN(5)]
		s := schedule(t, text, zone)
		at := time.Date(2020+r.IntN(10), time.Month(1+r.IntN(12)), 1+r.IntN(28), r.IntN(24), r.IntN(60), r.IntN(60), 0,
			time.UTC)
		for range 30 {
			next := s.Next(at)
			require.True(t, next.After(at), "%s %s %s", text, zone, at)
			between := at.Add(time.Duration(r.Int64N(int64(next.Sub(at)))))
			require.True(t, s.Next(between).Equal(next), "%s %s: after %s comes %s, after %s comes %s", text, zone, at,
				next, between, s.Next(between))
			require.True(t, s.Last(next).Equal(next), "%s %s %s: %s", text, zone, next, s.Last(next))
			if l := s.Last(next.Add(-1)); !l.IsZero() {
				require.True(t, s.Next(l).Equal(next), "%s %s", text, zone)
			}
			at = next
		}
	}
	for _, zone := range zones {
		s := schedule(t, "30 2 * * *", zone)
		days := map[string]int{}
		for at := s.Next(time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)); at.Year() < 2028; at = s.Next(at) {
			days[at.Format(time.DateOnly)]++
		}
		require.GreaterOrEqual(t, len(days), 729, zone)
		for day, n := range days {
			require.Equal(t, 1, n, "%s in %s", day, zone)
		}
	}
}

func TestSchedulesThatAreNone(t *testing.T) {
	for _, text := range []string{"", "1 2 3", "@daily", "61 * * * *", "every", "every fortnight", "0 0 31 2 *",
		"every 0s", "* * * * * *"} {
		_, err := ParseSchedule(text, nil, address.ParseDistance)
		require.Error(t, err, text)
	}
	require.Equal(t, 7*24*time.Hour, schedule(t, "0 4 * * 0",
		"UTC").Spacing(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)))
	require.Equal(t, 25*time.Hour, schedule(t, "15 1 * * *",
		"Europe/Berlin").Spacing(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)))
}

func TestQuietHours(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	var hours []Hours
	for _, text := range []string{"22:00-06:00 mon-fri", "06:00-07:30", "08:00-24:00 sat,sun"} {
		h, err := ParseHours(text, berlin)
		require.NoError(t, err)
		hours = append(hours, h)
	}
	for _, c := range []struct{ at, want string }{
		{"2026-11-23T12:00:00+01:00", "2026-11-23T12:00:00+01:00"},
		{"2026-11-23T22:00:00+01:00", "2026-11-24T07:30:00+01:00"},
		{"2026-11-28T05:00:00+01:00", "2026-11-28T07:30:00+01:00"}, // of Friday's
		{"2026-11-28T09:00:00+01:00", "2026-11-29T00:00:00+01:00"},
		{"2026-11-29T09:00:00+01:00", "2026-11-30T00:00:00+01:00"},
	} {
		at, _ := time.Parse(time.RFC3339, c.at)
		want, _ := time.Parse(time.RFC3339, c.want)
		require.Equal(t, want.UTC(), Quiet(hours, at).UTC(), c.at)
	}
	for _, text := range []string{"", "8-18", "08:00", "08:00-25:00", "08:00-18:00 someday"} {
		_, err := ParseHours(text, nil)
		require.Error(t, err, text)
	}
}

// FuzzSchedule: what is taken for a schedule or hours tells of times that go on, and nothing takes long.
func FuzzSchedule(f *testing.F) {
	for _, s := range []string{"15 1 * * *", "every 6h", "every 7d", "0 0 30 2 *", "@daily", "01:00-06:00",
		"sat 22:00-04:00", "every 0s"} {
		f.Add(s)
	}
	now := time.Date(2026, 11, 23, 10, 14, 4, 0, time.UTC)
	f.Fuzz(func(t *testing.T, s string) {
		if h, err := ParseHours(s, time.UTC); err == nil {
			if Quiet([]Hours{h}, now).Before(now) {
				t.Fatalf("%q ends before now", s)
			}
		}
		sched, err := ParseSchedule(s, time.UTC, address.ParseDistance)
		if err != nil {
			return
		}
		if next := sched.Next(now); !next.IsZero() && !next.After(now) {
			t.Fatalf("%q: next is %s", s, next)
		}
		sched.Last(now)
	})
}

// TestWhatIsRemembered holds that times that were found before are those that are found anew.
func TestWhatIsRemembered(t *testing.T) {
	rng := rand.New(rand.NewPCG(25, 1))
	for _, zone := range []string{"UTC", "Europe/Berlin", "America/Santiago"} {
		for _, text := range []string{"0 2 * * *", "*/10 * * * *", "30 2 * * 0", "every 6h", "every 7d", "0 0 29 2 *"} {
			s := schedule(t, text, zone)
			at := time.Date(2028, 3, 25, 0, 0, 0, 0, time.UTC)
			for range 400 {
				at = at.Add(time.Duration(rng.Int64N(int64(2*time.Hour))) - 20*time.Minute)
				require.True(t, s.preceding(at).Equal(s.Last(at)), "%s in %s at %s", text, zone, at)
				require.True(t, s.following(at).Equal(s.Next(at)), "%s in %s at %s", text, zone, at)
			}
		}
	}
}
