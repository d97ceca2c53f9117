package daemon

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/notify"
)

// TestNamesMakeNoLines: a status as text has a line for what there is, whatever the names in its alerts
// hold.
func TestNamesMakeNoLines(t *testing.T) {
	var b strings.Builder
	(&Status{Clusters: []ClusterStatus{{Cluster: "meadow", Error: "no server answers\nat all",
		Alerts: []notify.Alert{{Text: "apiary\x1b[2K.combs\ncluster orchard  well"}}}}}).Text(&b)
	require.NotContains(t, b.String(), "\x1b")
	for i, l := range strings.Split(strings.TrimRight(b.String(), "\n"), "\n") {
		require.Equal(t, i == 0, strings.HasPrefix(l, "cluster "), l)
	}
}
