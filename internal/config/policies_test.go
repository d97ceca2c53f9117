package config_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
)

const policyHead = `stores:
  larder: { location: "file:///srv/larder" }
  loft: { location: "file:///srv/loft" }
clusters:
  meadow: { address: "mongodb://meadow-1/", labels: { yard: north } }
  orchard: { address: "mongodb://orchard-1/", labels: { yard: south } }
  bramble: { address: "redis://bramble-1/" }
policies:
`

// TestPoliciesThatContradictThemselves are told with line and column.
func TestPoliciesThatContradictThemselves(t *testing.T) {
	for _, c := range []struct{ policy, at, says string }{
		{`  n: { clusters: [meadow], store: larder, snapshot: "61 1 * * *" }`, "9:53", "above maximum"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, time_zone: Mars/Olympus }`, "9:74",
			"no time zone"},
		{`  n: { clusters: [maedow], store: larder, snapshot: every 6h }`, "9:", "near it: meadow"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, keep: { every_moment: 7d } }`, "9:",
			"need the log"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, keep: { never_fewer: 9, never_more: 3 } }`,
			"9:", "never_fewer 9 is more than never_more 3"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, keep: { thin: [hourly for 2d] } }`, "9:",
			"points are taken every 6h"},
		{
			`  n: { clusters: [meadow], store: larder, snapshot: every 1h, capture: 10m, keep: { every_moment: 30d, never_more: 200 } }`, "9:", "about 720 points"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, full_read: every 7d }`, "9:",
			"cannot be folded without the log"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, capture: 1h, rpo: 30m }`, "9:", "up to 1h"},
		{`  n: { clusters: [bramble], store: larder, snapshot: every 6h, namespaces: ["db0/*"] }`, "9:",
			"protected whole"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, namespaces: ["x on -1d"] }`, "9:",
			"and no date"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, no_scans: ["9-5"] }`, "9:", "write hours as"},
		{`  n: { clusters: [meadow], store: larder, snapshot: every 6h, hooks: [{ before: lunch, run: [true] }] }`,
			"9:", "of which kind"},
		{
			`  n: { clusters: [meadow], store: larder, snapshot: every 6h, hooks: [{ before: snapshot, run: [/no/such/program] }] }`, "9:", "no program"},
		{`  n: { clusters: [meadow], snapshot: every 6h }`, "9:", "several stores"},
		{`  n: { clusters: [meadow], store: larder }`, "9:", "no snapshot schedule"},
		{`  n: { clusters: { label: north }, store: larder, snapshot: every 6h }`, "9:", "KEY=VALUE"},
		{"  n: { clusters: [\"m*\"], store: larder, snapshot: every 6h }\n  o: { clusters: { label: yard=north }, " +
			"store: larder, snapshot: every 6h }", "10:", "protected in store larder by policy n already"},
	} {
		_, err := config.Parse([]byte(policyHead+c.policy+"\n"), "dexamen.yaml")
		require.Error(t, err, c.policy)
		require.Contains(t, err.Error(), "dexamen.yaml:"+c.at, c.policy)
		require.Contains(t, err.Error(), c.says, c.policy)
	}
}

func TestWhomPoliciesChoose(t *testing.T) {
	c, err := config.Parse([]byte(policyHead+`
  n: { clusters: { label: yard=north }, store: larder, snapshot: every 6h }
  o: { clusters: ["*"], store: loft, snapshot: "15 1 * * *", time_zone: Europe/Berlin, capture: continuous, keep: { every_moment: 7d, thin: [weekly for 26w] } }
`), "dexamen.yaml")
	require.NoError(t, err)
	require.Equal(t, []string{"meadow"}, c.Protected(c.Policies["n"]))
	require.Equal(t, []string{"bramble", "meadow", "orchard"}, c.Protected(c.Policies["o"]))
	name, p, ok := c.PolicyOf("meadow", "loft")
	require.True(t, ok)
	require.Equal(t, "o", name)
	require.True(t, p.When.Continuous)
	require.Equal(t, 7*24*time.Hour, p.When.Rule.EveryMoment)
	_, _, ok = c.PolicyOf("orchard", "larder")
	require.False(t, ok)
}

// TestScratchServersAreNotProtected, unless somebody says so by name.
func TestScratchServersAreNotProtected(t *testing.T) {
	parse := func(clusters string) []string {
		c, err := config.Parse([]byte("stores: { larder: { location: 'file:///x' } }\nclusters:\n  bramble: { "+
			"address: 'redis://a', scratch: hedge }\n  hedge: { address: 'redis://b' }\npolicies:\n  n: { clusters: "+
			clusters+", snapshot: every 6h }\n"), "f.yaml")
		require.NoError(t, err)
		target, ok, err := c.ScratchTarget(t.Context(), "bramble", "")
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, "redis://b", target.Address)
		return c.Protected(c.Policies["n"])
	}
	require.Equal(t, []string{"bramble"}, parse(`["*"]`))
	require.Equal(t, []string{"bramble", "hedge"}, parse("[bramble, hedge]"))
}

func TestWaitingLongerEachTime(t *testing.T) {
	var r config.Retry
	var got []string
	for n := 1; n < 10; n++ {
		d, never := r.Wait(n, 0)
		require.False(t, never)
		got = append(got, d.String())
	}
	require.Equal(t, "1m0s 2m0s 4m0s 8m0s 16m0s 32m0s 1h0m0s 1h0m0s 1h0m0s", strings.Join(got, " "))
	limit := config.Duration(time.Hour)
	r.For = &limit
	_, never := r.Wait(2, 57*time.Minute)
	require.False(t, never)
	_, never = r.Wait(2, 59*time.Minute)
	require.True(t, never)
}
