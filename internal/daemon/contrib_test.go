package daemon

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/stretchr/testify/require"

	"dexamen/internal/notify"
)

// promtool runs Prometheus' own tool.
func promtool(t *testing.T, stdin string, args ...string) {
	t.Helper()
	c := exec.Command("promtool", args...)
	c.Stdin = strings.NewReader(stdin)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "promtool %v: %s", args, out)
}

// TestContrib holds the names of metrics to Prometheus' conventions, and the rules and the dashboard
// that ship to metrics that there are; the rules do what they are for.
func TestContrib(t *testing.T) {
	y := newTestEnv(t, "snapshot: every 6h, capture: continuous, flush: 1s, rpo: 30m")
	d, stop := y.daemon(func(context.Context, notify.Alert) error { return nil })
	defer stop()
	require.Eventually(t, func() bool { return d.Status().Well }, 20*time.Second, 50*time.Millisecond)
	w := httptest.NewRecorder()
	promhttp.HandlerFor(d.metrics.registry, promhttp.HandlerOpts{}).ServeHTTP(w,
		httptest.NewRequest("GET", "/metrics", nil))
	text, err := io.ReadAll(w.Result().Body)
	require.NoError(t, err)
	problems, err := promlint.New(strings.NewReader(string(text))).Lint()
	require.NoError(t, err)
	require.Empty(t, problems)
	promtool(t, string(text), "check", "metrics")

	name := regexp.MustCompile(`\bdexamen_[a-z_]+\b`)
	there := name.FindAllString(string(text), -1)
	read := func(file string) string {
		b, err := os.ReadFile(filepath.Join("../../contrib", file))
		require.NoError(t, err)
		for _, n := range name.FindAllString(string(b), -1) {
			require.True(t, slices.Contains(there, n), "%s: there is no metric %s", file, n)
		}
		return string(b)
	}
	read("rules.yaml")
	promtool(t, "", "check", "rules", "../../contrib/rules.yaml")
	promtool(t, "", "test", "rules", "../../contrib/rules_test.yaml")
	var board struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(read("dashboard.json")), &board))
	rules := "groups:\n  - name: dashboard\n    rules:\n"
	for i, p := range board.Panels {
		require.NotEmpty(t, p.Targets, p.Title)
		for j, x := range p.Targets {
			rules += fmt.Sprintf("      - { record: 'panel_%d_%d', expr: %q }\n", i, j, x.Expr)
		}
	}
	file := filepath.Join(t.TempDir(), "dashboard.yaml")
	require.NoError(t, os.WriteFile(file, []byte(rules), 0o600))
	promtool(t, "", "check", "rules", file)
}
