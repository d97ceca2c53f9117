package config_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
)

const drilled = `stores: { larder: { location: "file:///srv/larder" } }
clusters:
  meadow: { address: "mongodb://meadow-1:27017/" }
  paddock: { address: "mongodb://paddock-1:27017/" }
  willow: { address: "etcd://willow-1:2379" }
  creek: { address: "redis://creek-1:6379" }
policies:
  nightly:
    clusters: [%s]
    snapshot: every 6h
    keep: { never_fewer: 3 }
    drill: %s
`

// TestDrillsAreChecked: what is wrong with a drill is said with its place, before one is due.
func TestDrillsAreChecked(t *testing.T) {
	t.Parallel()
	for drill, says := range map[string]string{
		`{ to: paddock }`:                                                 "has no schedule",
		`{ schedule: "0 4 * *" }`:                                         "write five fields",
		`{ schedule: every 7d, to: paddok }`:                              "near it: paddock",
		`{ schedule: every 7d, to: meadow }`:                              "is protected by this policy itself",
		`{ schedule: every 7d, to: willow }`:                              "of another kind than meadow",
		`{ schedule: every 7d, moment: yesterday }`:                       "is no moment",
		`{ schedule: every 7d, moment: live }`:                            "is the cluster itself",
		`{ schedule: every 7d, moment: random in 0d }`:                    "write how far back",
		`{ schedule: every 7d, checks: [{}] }`:                            "say one of",
		`{ schedule: every 7d, checks: [{ that: "1 +" }] }`:               "column",
		`{ schedule: every 7d, checks: [{ run: [/none] }] }`:              "no program that can be run",
		`{ schedule: every 7d, checks: [{ that: "true", at_least: 3 }] }`: "go with find",
	} {
		_, err := config.Parse(fmt.Appendf(nil, drilled, "meadow", drill), "dexamen.yaml")
		require.ErrorContains(t, err, says, drill)
		require.ErrorContains(t, err, "dexamen.yaml:", drill)
	}
	_, err := config.Parse(fmt.Appendf(nil, drilled, "meadow, creek", `{ schedule: every 7d }`), "dexamen.yaml")
	require.ErrorContains(t, err, "cluster creek needs a scratch cluster")
	c, err := config.Parse(fmt.Appendf(nil, drilled, "meadow", `{ schedule: every 7d, to: paddock, moment: random in 7d,
      within: 30m, checks: [{ find: apiary.colonies, where: yard == "north", at_least: 3 }] }`), "dexamen.yaml")
	require.NoError(t, err)
	d := c.Policies["nightly"].Drill
	require.Equal(t, 7*24*time.Hour, d.When.Random)
	require.True(t, c.IsScratch("paddock"))
	require.EqualValues(t, 3, d.Checks[0].AtLeast)
}
