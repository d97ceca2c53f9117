package integration_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine/search/searchtest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

// searchWorld is what a search cluster holds, as known from what was written to it and
// not from what it says: documents by index and identity.
type searchWorld map[string]map[string]searchDoc

type searchDoc struct {
	id, routing string
	version     int64
	source      string
}

// text is what a point has of a document, by docs/reference/search.md.
func (d searchDoc) text() string {
	quoted := func(s string) string {
		b, _ := json.Marshal(s)
		return string(b)
	}
	out := `{"_id":` + quoted(d.id)
	if d.routing != "" {
		out += `,"routing":` + quoted(d.routing)
	}
	return fmt.Sprintf("%s,\"version\":%d}\n%s", out, d.version, d.source)
}

func (w searchWorld) clone() searchWorld {
	out := searchWorld{}
	for n, docs := range w {
		out[n] = maps.Clone(docs)
	}
	return out
}

// texts returns each index's records.
func (w searchWorld) texts() map[string][]string {
	out := map[string][]string{}
	for n, docs := range w {
		out[n] = []string{}
		for _, d := range docs {
			out[n] = append(out[n], d.text())
		}
		slices.Sort(out[n])
	}
	return out
}

// pointTexts reads what a point holds.
func pointTexts(t testing.TB, e *run.Runner, p *store.Point) map[string][]string {
	t.Helper()
	when := address.When{Kind: address.Point, Text: p.ID}
	m, err := moment.Resolve(ctx, e, p.Cluster, when, restore.OnScratch{})
	require.NoError(t, err)
	x, err := e.Store.NewScratch(e.Temp)
	require.NoError(t, err)
	defer x.Close()
	states, _, err := m.Trees(ctx, x, x, func(string) bool { return true })
	require.NoError(t, err)
	out := map[string][]string{}
	for _, s := range states {
		out[s.Name] = []string{}
		for r, err := range tree.Records(ctx, x, s.Root) {
			require.NoError(t, err)
			out[s.Name] = append(out[s.Name], string(r.Value))
		}
		slices.Sort(out[s.Name])
	}
	return out
}

// sameTexts compares two sides, and names the first documents that differ.
func sameTexts(t testing.TB, want, got map[string][]string, what string) {
	t.Helper()
	if diff := textsDiffer(want, got); diff != "" {
		t.Fatalf("%s: %s", what, diff)
	}
}

func textsDiffer(want, got map[string][]string) string {
	a, b := slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got))
	if !slices.Equal(a, b) {
		return fmt.Sprintf("there should be %v, and there are %v", a, b)
	}
	for _, n := range a {
		for i := range max(len(want[n]), len(got[n])) {
			at := func(l []string) string {
				if i < len(l) {
					return l[i]
				}
				return "(nothing)"
			}
			if w, g := at(want[n]), at(got[n]); w != g {
				return fmt.Sprintf("%s has %d documents, should have %d; number %d is %.300q, should be %.300q", n,
					len(got[n]), len(want[n]), i, g, w)
			}
		}
	}
	return ""
}

// searchHand writes to a cluster at random and keeps the world in step.
type searchHand struct {
	t     testing.TB
	c     *searchtest.Cluster
	r     *rand.Rand
	world searchWorld
	made  int
	// shards are those to which a routing leads, by index: two documents of one _id in
	// one shard are one document.
	shards map[string]string
	// onBlock is called when a write was refused because writes are held back.
	onBlock func()
}

const (
	searchShards = 3
	searchIndex  = `{"settings":{"number_of_shards":%d,"number_of_replicas":%d,"refresh_interval":"%s"},
	"mappings":{"properties":{"frames":{"type":"nested","properties":{"n":{"type":"integer"},
	  "brood":{"type":"boolean"}}},
	"weight":{"type":"double"},"kind":{"type":"join","relations":{"hive":"visit"}},"note":{"type":"text"},
	"raw":{"type":"object","enabled":false}}}}`
)

// send sends a request until the cluster says what became of it. The first answer's
// status is returned; a write whose fate is not known is looked up by the caller.
func (h *searchHand) send(method, path, body string) (int, []byte, bool) {
	for try := 0; ; try++ {
		status, b, err := h.c.Try(method, path, body)
		if err == nil && status == http.StatusForbidden && strings.Contains(string(b), "cluster_block") {
			if h.onBlock != nil {
				h.onBlock()
			}
			time.Sleep(2 * time.Millisecond)
			continue
		}
		if err == nil && status < 500 && status != http.StatusTooManyRequests {
			return status, b, true
		}
		require.Less(h.t, try, 200, "%s %s: %d %s %v", method, path, status, b, err)
		time.Sleep(100 * time.Millisecond)
		if try == 0 && (err != nil || status >= 500) {
			return status, b, false
		}
	}
}

func (h *searchHand) index() string {
	names := slices.Sorted(maps.Keys(h.world))
	return names[h.r.IntN(len(names))]
}

// makeIndex makes an index, which may have been there before.
func (h *searchHand) makeIndex(name string, replicas int) {
	shards := 1 + h.r.IntN(searchShards)
	refresh := []string{"1s", "-1", "100ms"}[h.r.IntN(3)]
	h.c.Do(h.t, http.MethodPut, "/"+name+"?wait_for_active_shards=1",
		fmt.Sprintf(searchIndex, shards, replicas, refresh))
	h.world[name] = map[string]searchDoc{}
}

// source makes up a document, with what is easily lost: numbers beyond doubles, spaces,
// escapes, line breaks.
func (h *searchHand) source() string {
	h.made++
	extra := []string{
		`"raw":{"huge":1e400,"long":12345678901234567890123,"same":1.00}`, `"note":"caf\u00e9 \ud83d\udc1d"`,
		`"note":"line\nbreak \"quoted\" \\"`, `"frames":[{"n":1,"brood":true},{"n":2}]`, `"weight": 12.50`,
		`"raw":{"b":1,"a":[ ],"b2":{}}`, `"note":"` + strings.Repeat("long ", h.r.IntN(300)) + `"`,
	}[h.r.IntN(7)]
	s := fmt.Sprintf(`{"n":%d, %s }`, h.made, extra)
	switch h.r.IntN(12) {
	case 0:
		return " " + s + "  "
	case 1:
		return strings.Replace(s, ", ", ",\n  ", 1) // cannot be a line of a bulk request
	}
	return s
}

func docPath(index, id, routing, more string) string {
	q := url.Values{}
	if routing != "" {
		q.Set("routing", routing)
	}
	return "/" + index + "/_doc/" + url.PathEscape(id) + "?" + q.Encode() + more
}

// key returns the identity of a document in an index.
func (h *searchHand) key(index, id, routing string) string {
	if routing == "" {
		routing = id
	}
	at := index + "\x00" + routing
	if h.shards == nil {
		h.shards = map[string]string{}
	}
	if _, ok := h.shards[at]; !ok {
		var v struct{ Shards [][]struct{ Shard int } }
		require.Eventually(h.t, func() bool {
			status, b, err := h.c.Try(http.MethodGet, "/"+index+"/_search_shards?routing="+url.QueryEscape(routing), "")
			return err == nil && status == 200 && json.Unmarshal(b, &v) == nil && len(v.Shards) == 1
		}, time.Minute, 50*time.Millisecond)
		h.shards[at] = fmt.Sprint(v.Shards[0][0].Shard)
	}
	return id + "\x00" + h.shards[at]
}

// look has the world know what a document is now; sent is what was sent, which the
// answer has without the spaces around it.
func (h *searchHand) look(index, id, routing, sent string) {
	key := h.key(index, id, routing)
	var v struct {
		Found   bool
		Version int64           `json:"_version"`
		Source  json.RawMessage `json:"_source"`
		Routing string          `json:"_routing"`
	}
	for {
		status, b, err := h.c.Try(http.MethodGet, docPath(index, id, routing, "&realtime=true"), "")
		if err == nil && (status == 200 || status == 404 && strings.Contains(string(b), `"found":false`)) {
			require.NoError(h.t, json.Unmarshal(b, &v), "%s", b)
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if !v.Found {
		delete(h.world[index], key)
		return
	}
	source := string(v.Source)
	if source == strings.TrimSpace(sent) {
		source = sent
	} else if was := h.world[index][key]; strings.TrimSpace(was.source) == source {
		source = was.source
	}
	h.world[index][key] = searchDoc{id, v.Routing, v.Version, source}
}

func (h *searchHand) put(index, id, routing, source string) {
	key := h.key(index, id, routing)
	_, b, known := h.send(http.MethodPut, docPath(index, id, routing, ""), source)
	if !known {
		h.settle()
		h.look(index, id, routing, source)
		return
	}
	var v struct {
		Version int64 `json:"_version"`
		Result  string
	}
	require.NoError(h.t, json.Unmarshal(b, &v))
	require.Contains(h.t, []string{"created", "updated"}, v.Result, "%s: %s", source, b)
	h.world[index][key] = searchDoc{id, routing, v.Version, source}
}

// settle waits until the cluster is whole again, so that what is looked up is what is.
func (h *searchHand) settle() {
	require.Eventually(h.t, func() bool {
		status, b, err := h.c.Try(http.MethodGet, "/_cluster/health?wait_for_status=yellow&timeout=1s", "")
		return err == nil && status == 200 && !strings.Contains(string(b), `"timed_out":true`)
	}, time.Minute, 100*time.Millisecond)
}

// step does something at random.
func (h *searchHand) step() {
	index := h.index()
	docs := h.world[index]
	id := fmt.Sprintf("doc %d/é", h.r.IntN(60))
	routing := []string{"", "", "", "north", "süd"}[h.r.IntN(5)]
	switch k := h.r.IntN(100); {
	case k < 50:
		h.put(index, id, routing, h.source())
	case k < 62:
		if _, ok := docs[h.key(index, id, routing)]; !ok && h.r.IntN(3) > 0 {
			return
		}
		if _, _, known := h.send(http.MethodDelete, docPath(index, id, routing, ""), ""); !known {
			h.settle()
			h.look(index, id, routing, "")
			return
		}
		delete(docs, h.key(index, id, routing))
	case k < 70: // rewritten by the server: what it has is read
		_, _, _ = h.send(http.MethodPost, "/"+index+"/_update/"+url.PathEscape(id)+"?routing="+url.QueryEscape(routing),
			fmt.Sprintf(`{"doc":{"weight":%d},"doc_as_upsert":true}`, h.r.IntN(100)))
		h.settle()
		h.look(index, id, routing, "")
	case k < 76: // a parent and a child, which needs its routing
		h.put(index, "hive", "hive", `{"kind":"hive"}`)
		h.put(index, "visit "+fmt.Sprint(h.r.IntN(9)), "hive", `{"kind":{"name":"visit","parent":"hive"},"n":1}`)
	case k < 82:
		h.bulk(index)
	case k < 90:
		_, _, _ = h.c.Try(http.MethodPost, "/"+index+[]string{"/_refresh", "/_flush", "/_forcemerge?max_num_segments=1",
			"/_refresh"}[h.r.IntN(4)], "")
	case k < 93:
		_, _, _ = h.send(http.MethodPut, "/"+index+"/_mapping",
			fmt.Sprintf(`{"properties":{"more_%d":{"type":"keyword"}}}`, h.r.IntN(5)))
	case k < 97:
		_, _, _ = h.send(http.MethodPost, "/_aliases",
			fmt.Sprintf(`{"actions":[{"remove":{"index":"*","alias":"current",
			"must_exist":false}},{"add":{"index":%q,"alias":"current","filter":{"term":{"n":%d}}}}]}`, index,
				h.r.IntN(5)))
	default:
		if len(h.world) < 2 || h.onBlock != nil {
			return
		}
		h.settle()
		h.c.Do(h.t, http.MethodDelete, "/"+index, "")
		h.shards = nil
		h.makeIndex(index, len(h.c.Nodes)-1)
	}
}

func (h *searchHand) bulk(index string) {
	var body strings.Builder
	type one struct{ id, routing, source string }
	var all []one
	for range 1 + h.r.IntN(20) {
		o := one{id: fmt.Sprintf("bulk-%d", h.r.IntN(200)), routing: []string{"", "north"}[h.r.IntN(2)]}
		meta, _ := json.Marshal(map[string]string{"_id": o.id, "routing": o.routing})
		if o.routing == "" {
			meta, _ = json.Marshal(map[string]string{"_id": o.id})
		}
		if h.r.IntN(5) == 0 {
			fmt.Fprintf(&body, "{\"delete\":%s}\n", meta)
		} else {
			o.source = strings.ReplaceAll(h.source(), "\n", " ")
			fmt.Fprintf(&body, "{\"index\":%s}\n%s\n", meta, o.source)
		}
		all = append(all, o)
	}
	status, b, known := h.send(http.MethodPost, "/"+index+"/_bulk", body.String())
	if !known {
		h.settle()
		for _, o := range slices.Backward(all) {
			h.look(index, o.id, o.routing, o.source)
		}
		return
	}
	var v struct {
		Items []map[string]struct {
			Version int64 `json:"_version"`
			Status  int
		}
	}
	require.Equal(h.t, 200, status, "%s", b)
	require.NoError(h.t, json.Unmarshal(b, &v))
	for i, o := range all {
		for op, r := range v.Items[i] {
			key := h.key(index, o.id, o.routing)
			if op == "delete" {
				delete(h.world[index], key)
				continue
			}
			require.Less(h.t, r.Status, 300, "%s", b)
			h.world[index][key] = searchDoc{o.id, o.routing, r.Version, o.source}
		}
	}
}
