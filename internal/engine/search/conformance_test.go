package search

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/search/searchtest"
	"dexamen/internal/sim/searchsim"
)

// doer sends a request to a cluster that must succeed.
type doer func(t testing.TB, method, path, body string) map[string]any

func fixture(address string, do doer) *enginetest.Fixture {
	doc := func(ns string, n int) string { return fmt.Sprintf("/%s/_doc/%06d?refresh=true", ns, n) }
	return &enginetest.Fixture{
		Target: engine.Target{Name: "clover", Address: address}, Driver: Driver{},
		Namespace: "fieldnotes-2026.11.20", Other: "fieldnotes-restored",
		Put: func(t testing.TB, ns string, n int, text string) {
			do(t, http.MethodPut, doc(ns, n), fmt.Sprintf(`{"note": %q}`, text))
		},
		Remove: func(t testing.TB, ns string, n int) { do(t, http.MethodDelete, doc(ns, n), "") },
		Drop:   func(t testing.TB, ns string) { do(t, http.MethodDelete, "/"+ns, "") },
	}
}

const twoShards = `{"settings":{"number_of_shards":2}}`

func TestConformance(t *testing.T) {
	c := searchtest.Start(t, searchtest.Options{})
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		c.Clean(t)
		f := fixture(c.Address(), c.Do)
		c.Do(t, http.MethodPut, "/"+f.Namespace, twoShards)
		return f
	})
}

// TestConformanceOfTheStandIn runs the suite on the stand-in, with a login, and with
// the other kind of readers.
func TestConformanceOfTheStandIn(t *testing.T) {
	for _, opt := range []searchsim.Options{{User: "ada", Password: "made up"}, {OtherReaders: true},
		{Nodes: 1, Busy: 3}} {
		t.Run(fmt.Sprintf("%+v", opt), func(t *testing.T) {
			enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
				c, do := standIn(t, opt)
				f := fixture(c.Address(), do)
				do(t, http.MethodPut, "/"+f.Namespace, twoShards)
				if opt.User != "" {
					f.Target.User, f.Target.Secret = opt.User, opt.Password
					wrong := f.Target
					wrong.Secret = "mistyped"
					f.WrongLogin = &wrong
				}
				return f
			})
		})
	}
}

// standIn runs a stand-in for a test.
func standIn(t testing.TB, opt searchsim.Options) (*searchsim.Cluster, doer) {
	c, err := searchsim.Start(opt)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, func(t testing.TB, method, path, body string) map[string]any {
		t.Helper()
		req, err := http.NewRequest(method, c.URL()+path, strings.NewReader(body))
		require.NoError(t, err)
		req.SetBasicAuth(opt.User, opt.Password)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.Less(t, res.StatusCode, 300, "%s %s: %s", method, path, b)
		var v map[string]any
		_ = json.Unmarshal(b, &v)
		return v
	}
}
