package search

import (
	"fmt"
	"net/http"
	"testing"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/search/searchtest"
)

func fixture(c *searchtest.Cluster) *enginetest.Fixture {
	doc := func(ns string, n int) string { return fmt.Sprintf("/%s/_doc/%06d?refresh=true", ns, n) }
	return &enginetest.Fixture{
		Target: engine.Target{Name: "clover", Address: c.Address()}, Driver: Driver{},
		Namespace: "fieldnotes-2026.11.20", Other: "fieldnotes-restored",
		Put: func(t testing.TB, ns string, n int, text string) {
			c.Do(t, http.MethodPut, doc(ns, n), fmt.Sprintf(`{"note": %q}`, text))
		},
		Remove: func(t testing.TB, ns string, n int) { c.Do(t, http.MethodDelete, doc(ns, n), "") },
		Drop:   func(t testing.TB, ns string) { c.Do(t, http.MethodDelete, "/"+ns, "") },
	}
}

func TestConformance(t *testing.T) {
	c := searchtest.Start(t, searchtest.Options{})
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		c.Clean(t)
		f := fixture(c)
		c.Do(t, http.MethodPut, "/"+f.Namespace, `{"settings":{"number_of_shards":2}}`)
		return f
	})
}
