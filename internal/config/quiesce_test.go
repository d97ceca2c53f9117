package config_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	_ "dexamen/internal/engine/all"
)

// parse reads a configuration with clusters and ways to hold them still.
func parse(t *testing.T, clusters, quiesce string) (*config.Config, error) {
	t.Helper()
	return config.Parse([]byte("stores: { larder: { location: \"file:///larder\" } }\nclusters:\n"+clusters+
		"quiesce:\n"+quiesce), "dexamen.yaml")
}

const (
	comb = "  comb: { address: \"file:///srv/photos\", labels: { server: gallery } }\n"
	shed = "  shed: { address: \"ssh://keeper@shed/srv/photos\" }\n"
	gate = "begin: [hold], end: [go-on]"
)

func TestWhichWayToQuiesceApplies(t *testing.T) {
	c, err := parse(t, comb+shed+"  none: { address: \"file:///srv/notes\", quiesce: none }\n"+
		"  own: { address: \"file:///srv/etcd\", labels: { server: gallery }, quiesce: by-name }\n"+
		"  meadow: { address: \"mongodb://meadow/\", labels: { server: gallery } }\n",
		"  by-label: { applies_to: { kind: folder, label: server=gallery }, "+gate+" }\n"+
			"  by-name: { applies_to: { name: \"sh*\" }, "+gate+", longest: 5s }\n"+
			"  by-nothing: { "+gate+" }\n")
	require.NoError(t, err)
	for cluster, want := range map[string][2]string{
		"comb":   {"by-label", "applies by kind folder, label server=gallery"},
		"shed":   {"by-name", "applies by name sh*"},
		"none":   {"", "says none for itself"},
		"own":    {"by-name", "says so for itself"},
		"meadow": {"", ""},
	} {
		name, why, err := c.QuiesceFor(cluster)
		require.NoError(t, err)
		require.Equal(t, want, [2]string{name, why}, cluster)
	}
	target, err := c.Target(t.Context(), "shed")
	require.NoError(t, err)
	require.Equal(t, "by-name", target.Quiesce.Name)
	require.Equal(t, 5.0, target.Quiesce.Longest.Seconds())
	target, err = c.Target(t.Context(), "none")
	require.NoError(t, err)
	require.Nil(t, target.Quiesce)
}

func TestWaysToQuiesceThatAreWrong(t *testing.T) {
	for _, c := range []struct{ clusters, quiesce, want string }{
		{comb, "  a: { applies_to: { kind: folder }, " + gate + " }\n  b: { applies_to: { name: comb }, " + gate +
			" }\n",
			"dexamen.yaml:3:9: clusters.comb: a and b both apply to cluster comb: say which with " +
				"clusters.comb.quiesce, or none"},
		{comb, "  a: { applies_to: { kind: document }, " + gate + " }\n", "only clusters of kind folder are"},
		{comb, "  a: { begin: [hold] }\n", "give the commands begin and end, or the cluster"},
		{comb, "  a: { cluster: meadow, " + gate + " }\n", "give either cluster, or the commands begin and end"},
		{comb, "  a: { cluster: medow }\n", `there is no cluster "medow"`},
		{comb + shed, "  a: { cluster: shed }\n", "shed is folders itself"},
		{comb, "  a: { applies_to: { label: gallery }, " + gate + " }\n", `"gallery": write KEY=VALUE`},
		{comb, "  a: { applies_to: { name: comb, version: \"3\" }, " + gate + " }\n",
			"of the cluster that is given under cluster"},
		{comb, "  none: { " + gate + " }\n", "cannot be called none"},
		{"  comb: { address: \"file:///srv/photos\", quiesce: galery }\n", "  gallery: { " + gate + " }\n",
			`there is no way to quiesce "galery" in the configuration; near it: gallery`},
		{"  meadow: { address: \"mongodb://meadow/\", quiesce: a }\n", "  a: { " + gate + " }\n",
			"only clusters of kind folder are held still"},
		{"  comb: { address: \"file:///srv/photos\", options: { leave_out: [\"[a\"] } }\n", "  a: { " + gate + " }\n",
			"is no pattern of file names"},
		{"  comb: { address: \"file://host/srv/photos\", options: { also: [photos] } }\n", "  a: { " + gate + " }\n",
			"names no folder by its whole path"},
	} {
		_, err := parse(t, c.clusters, c.quiesce)
		require.ErrorContains(t, err, c.want)
	}
}
