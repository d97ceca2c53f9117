package address_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
)

var now = time.Date(2026, 11, 23, 15, 4, 5, 0, time.FixedZone("", 3600))

func TestAddresses(t *testing.T) {
	at := func(s string) time.Time {
		v, err := time.Parse(time.RFC3339Nano, s)
		require.NoError(t, err)
		return v
	}
	for text, want := range map[string]address.Address{
		"meadow":        {Cluster: "meadow"},
		"meadow@latest": {Cluster: "meadow"},
		"meadow@live/apiary.*": {
			Cluster: "meadow", When: address.When{Kind: address.Live}, Pattern: "apiary.*"},
		"meadow/apiary.harvests": {Cluster: "meadow", Pattern: "apiary.harvests"},
		"meadow@10:14:04/apiary.harvests": {
			Cluster: "meadow", When: address.When{
				Kind: address.Time, Time: at("2026-11-23T10:14:04+01:00")}, Pattern: "apiary.harvests"},
		"meadow@10:14": {
			Cluster: "meadow", When: address.When{Kind: address.Time, Time: at("2026-11-23T10:14:00+01:00")}},
		"meadow@-15m": {
			Cluster: "meadow", When: address.When{Kind: address.Time, Time: at("2026-11-23T14:49:05+01:00")}},
		"meadow@-1d2h": {
			Cluster: "meadow", When: address.When{Kind: address.Time, Time: at("2026-11-22T13:04:05+01:00")}},
		"meadow@2026-11-20T08:00:00.25Z/a.b": {
			Cluster: "meadow", When: address.When{
				Kind: address.Time, Time: at("2026-11-20T08:00:00.25Z")}, Pattern: "a.b"},
		"meadow@2026-11-20": {
			Cluster: "meadow", When: address.When{Kind: address.Time, Time: at("2026-11-20T00:00:00+01:00")}},
		"meadow@20261123-101404-k7qx": {Cluster: "meadow", When: address.When{Kind: address.Point}},
		"meadow@log:1763979244.12/apiary.keeper": {
			Cluster: "meadow", When: address.When{Kind: address.Place}, Pattern: "apiary.keeper"},
	} {
		got, err := address.Parse(text, now)
		require.NoError(t, err, text)
		require.True(t, want.When.Time.Equal(got.When.Time), "%s: %s", text, got.When.Time)
		require.Equal(t, want.When.Kind, got.When.Kind, text)
		require.Equal(t, []string{want.Cluster, want.Pattern}, []string{got.Cluster, got.Pattern}, text)
	}
	for text, why := range map[string]string{
		"":                 "begins with a cluster",
		"@latest":          "begins with a cluster",
		"meadow@":          "is no moment",
		"meadow@yesterday": "is no moment",
		"meadow@25:00":     "is no moment",
		"meadow@16:00":     "still to come today",
		"meadow@-15":       "is no duration",
		"meadow@-":         "a duration is missing",
		"meadow@live/a.[b": "is not closed",
	} {
		_, err := address.Parse(text, now)
		require.ErrorContains(t, err, why, text)
	}
}

func TestPatterns(t *testing.T) {
	require.True(t, address.Match("", "a.b"))
	require.True(t, address.Match("apiary.*", "apiary.harvests"))
	require.True(t, address.Match("*.harvests*", "apiary.harvests_2025"))
	require.True(t, address.Match("a.*", "a.b/c"))
	require.False(t, address.Match("apiary.harvests", "apiary.harvests_2025"))
	require.False(t, address.Match("apiary.harvest?", "apiary.harvests_2025"))
}

func FuzzParse(f *testing.F) {
	f.Add("meadow@10:14:04/apiary.*")
	f.Add("a@-1w2d3h")
	f.Fuzz(func(t *testing.T, s string) {
		if a, err := address.Parse(s, now); err == nil {
			if a.Cluster == "" {
				t.Fatal("no cluster")
			}
			a.Match("apiary.harvests")
		}
	})
}

// FuzzDistance: a length of time is not negative and reads back from how Go writes it.
func FuzzDistance(f *testing.F) {
	for _, s := range []string{"90s", "2h30m", "7d", "1w2d", "9223372036s", "1.5d", "0.0000001s", "-1d", "1e9d"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, err := address.ParseDistance(s)
		if err != nil {
			return
		}
		if d < 0 {
			t.Fatalf("%q is %s", s, d)
		}
		if again, err := address.ParseDistance(d.String()); err != nil || again != d {
			t.Fatalf("%q is %s, and that is %s: %v", s, d, again, err)
		}
	})
}

// FuzzMatch: a pattern that is a name fits that name and no other, and no pattern takes long.
func FuzzMatch(f *testing.F) {
	f.Add("apiary.*", "apiary.harvests")
	f.Add("[a", "[a")
	f.Add("********************a", "bbbbbbbbbbbbbbbbbbbbbbbbbbbb")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		fits := address.Match(pattern, name)
		if pattern != "" && address.Literal(pattern) && fits != (pattern == name) {
			t.Fatalf("%q fits %q: %v", pattern, name, fits)
		}
	})
}
