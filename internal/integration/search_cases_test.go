package integration_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/search/searchtest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/sim/searchsim"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// openWide opens a cluster with what is set for the whole of it.
func openWide(t testing.TB, name, address string) engine.Cluster {
	_, drv, err := engine.ForAddress(address)
	require.NoError(t, err)
	c, err := drv.Open(ctx, engine.Target{Name: name, Address: address, Settings: true})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// request is a way to a cluster that is not Dexamen's.
type request func(t testing.TB, method, path, body string) map[string]any

// TestSearchStreams restores a data stream and all that is defined for the whole
// cluster onto one that has nothing.
func TestSearchStreams(t *testing.T) {
	t.Parallel()
	if long(1, 0) == 0 {
		return // make test has the stand-in do
	}
	from, to := searchtest.Start(t, searchtest.Options{}), searchtest.Start(t, searchtest.Options{})
	searchStreams(t, from.Address(), to.Address(), from.Do, to.Do)
}

// TestSearchStreamsOfTheStandIn is the same on the stand-in.
func TestSearchStreamsOfTheStandIn(t *testing.T) {
	t.Parallel()
	from, do := searchStandIn(t, searchsim.Options{})
	to, doTo := searchStandIn(t, searchsim.Options{Name: "paddock"})
	searchStreams(t, from.Address(), to.Address(), do, doTo)
}

func searchStandIn(t testing.TB, opt searchsim.Options) (*searchsim.Cluster, request) {
	c, err := searchsim.Start(opt)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	other := &searchtest.Cluster{URL: c.URL()}
	return c, other.Do
}

func searchStreams(t *testing.T, fromAddress, toAddress string, from, to request) {
	from(t, http.MethodPut, "/_component_template/shards", `{"template":{"settings":{"number_of_shards":2}}}`)
	from(t, http.MethodPut, "/_index_template/hums", `{"index_patterns":["hums-*"],"priority":50,"data_stream":{},
		"composed_of":["shards"],"template":{"mappings":{"properties":{"@timestamp":{"type":"date"},
  "hz":{"type":"integer"}}}}}`)
	from(t, http.MethodPut, "/_ingest/pipeline/stamp", `{"description":"made up","processors":[]}`)
	from(t, http.MethodPut, "/_template/old",
		`{"index_patterns":["old-*"],"order":3,"settings":{"index.number_of_shards":"1"}}`)
	from(t, http.MethodPut, "/_scripts/double", `{"script":{"lang":"painless","source":"doc['hz'].value * 2"}}`)
	from(t, http.MethodPut, "/_cluster/settings", `{"persistent":{"cluster.max_shards_per_node":"987"}}`)
	from(t, http.MethodPut, "/_data_stream/hums-north", "")
	for generation := range 5 {
		for i := range 30 {
			from(t, http.MethodPut, fmt.Sprintf("/hums-north/_doc/%d-%d?op_type=create&refresh=true", generation, i),
				fmt.Sprintf(`{"@timestamp":"2026-11-2%dT10:00:%02dZ","hz":%d}`, generation, i, 200+i))
		}
		if generation == 4 {
			break
		}
		from(t, http.MethodPost, "/hums-north/_rollover", "")
		if generation == 2 { // the next index has another mapping and an empty generation before it
			from(t, http.MethodPut, "/_index_template/hums",
				`{"index_patterns":["hums-*"],"priority":50,"data_stream":{},
				"composed_of":["shards"],"template":{"mappings":{"properties":{"@timestamp":{"type":"date"},
				  "hz":{"type":"long"},
				"note":{"type":"keyword"}}}}}`)
			from(t, http.MethodPost, "/hums-north/_rollover", "")
		}
	}
	from(t, http.MethodDelete, "/.ds-hums-north-000002", "")
	e := newRunner(t)
	src := openWide(t, "clover", fromAddress)
	p, err := snapshot.Take(ctx, e, "clover", src)
	require.NoError(t, err)
	target := openWide(t, "paddock", toAddress)
	m := mustResolve(t, e, p)
	plan, err := restore.NewPlan(ctx, e, m, target, restore.Options{Pattern: "hums-*"})
	require.NoError(t, err)
	_, err = plan.Run(ctx)
	require.ErrorContains(t, err, "no index template with data_stream")
	plan.Close()
	done := searchRestore(t, e, p, target, restore.Options{Pattern: "hums-*", Settings: true})
	require.Len(t, done, 1)
	require.EqualValues(t, 4*30, done[0].Records)
	diff, err := verify.Live(ctx, e, m, target, "hums-*", nil, 5)
	require.NoError(t, err)
	require.NoError(t, moment.Different(diff))
	for _, path := range []string{"/_index_template", "/_component_template", "/_template", "/_ingest/pipeline",
		"/_scripts/double"} {
		a, b := from(t, http.MethodGet, path, ""), to(t, http.MethodGet, path, "")
		require.Equal(t, a, b, path)
	}
	to(t, http.MethodPut, "/hums-north/_doc/new?op_type=create&refresh=true",
		`{"@timestamp":"2026-11-27T00:00:00Z","hz":1}`)
	// A second point reads what is new; the stream goes on, an old generation goes.
	from(t, http.MethodPost, "/hums-north/_rollover", "")
	from(t, http.MethodPut, "/hums-north/_doc/late?op_type=create&refresh=true",
		`{"@timestamp":"2026-11-27T00:00:00Z","hz":1}`)
	from(t, http.MethodDelete, "/.ds-hums-north-000001", "")
	next, err := snapshot.Take(ctx, e, "clover", src)
	require.NoError(t, err)
	require.Equal(t, "changes", next.Made)
	require.Equal(t, p.ID, next.From)
	require.Len(t, pointTexts(t, e, next)["hums-north"], 3*30+1)
}

// TestSearchOddAnswers has a point taken from servers that answer with what cannot be
// protected, too much, or too little: it is left out with its reason, goes on rightly,
// or fails clearly.
func TestSearchOddAnswers(t *testing.T) {
	t.Parallel()
	c := searchtest.Start(t, searchtest.Options{Settings: []string{"search.max_open_pit_context=40"}})
	index := func(name, body string) {
		c.Do(t, http.MethodPut, "/"+name, body)
		c.Do(t, http.MethodPut, "/"+name+"/_doc/1?refresh=true", `{"n":1}`)
	}
	index("shut", "{}")
	c.Do(t, http.MethodPost, "/shut/_close", "")
	index("nothing-kept", `{"mappings":{"_source":{"enabled":false}}}`)
	index("kept-in-part", `{"mappings":{"_source":{"excludes":["secret"]}}}`)
	index("unreadable", "{}")
	c.Do(t, http.MethodPut, "/unreadable/_settings", `{"index.blocks.read":true}`)
	index("hidden", `{"settings":{"index.hidden":true}}`)
	index("unseen", "{}")
	c.Do(t, http.MethodPut, "/unseen/_settings", `{"index.blocks.metadata":true}`)
	index("sound", "{}")
	e := newRunner(t)
	var said []string
	e.OnEvent = func(v run.Event) { said = append(said, v.Text) }
	p, err := snapshot.Take(ctx, e, "clover", open(t, "clover", c.Address()))
	require.NoError(t, err)
	skipped := map[string]string{}
	for _, s := range p.Skipped {
		skipped[s.Name] = s.Reason
	}
	for name, why := range map[string]string{
		"shut": "closed", "nothing-kept": "switched off", "kept-in-part": "only in part",
		"unreadable": "blocks.read", "unseen": "blocks.metadata"} {
		require.Contains(t, skipped[name], why, name)
	}
	require.Len(t, p.Skipped, 5)
	require.Equal(t, map[string][]string{"sound": {searchDoc{"1", "", 1, `{"n":1}`}.text()},
		"hidden": {searchDoc{"1", "", 1, `{"n":1}`}.text()}}, pointTexts(t, e, p))
	c.Do(t, http.MethodPut, "/unseen/_settings", `{"index.blocks.metadata":null}`)
	c.Do(t, http.MethodDelete, "/shut,nothing-kept,kept-in-part,unreadable,unseen?expand_wildcards=all", "")

	// More shards than readers may be open: without holding writes back the rest is
	// opened one by one; with it that is refused, and nothing is blocked.
	for i := range 30 {
		index(fmt.Sprintf("small-%02d", i), `{"settings":{"number_of_shards":2,"number_of_replicas":0}}`)
	}
	p, err = snapshot.Take(ctx, e, "clover", open(t, "clover", c.Address()))
	require.NoError(t, err)
	require.Len(t, p.Namespaces, 32)
	require.Contains(t, strings.Join(p.Caveats, " "), "max_open_pit_context")
	held := openWith(t, "clover", c.Address(), map[string]any{"quiesce": "write-block"})
	_, err = snapshot.Take(ctx, e, "clover", held)
	require.ErrorContains(t, err, "raise it to")
	c.Do(t, http.MethodPut, "/small-00/_doc/2", `{"n":2}`)
	// Somebody else has nearly all of them open.
	for range 38 {
		c.Do(t, http.MethodPost, "/sound/_search/point_in_time?keep_alive=5m", "")
	}
	time.AfterFunc(time.Second, func() { _, _, _ = c.Try(http.MethodDelete, "/_search/point_in_time/_all", "") })
	_, err = snapshot.Take(ctx, e, "clover", open(t, "clover", c.Address()))
	require.NoError(t, err)
	v := c.Do(t, http.MethodGet,
		"/_nodes/stats/indices/search?filter_path=nodes.*.indices.search.point_in_time_current", "")
	b, err := json.Marshal(v)
	require.NoError(t, err)
	require.Contains(t, string(b), `"point_in_time_current":0`, "no reader is left open")

	// A shard on no node that is up.
	c.Do(t, http.MethodPut, "/lost?timeout=1s&wait_for_active_shards=0",
		`{"settings":{"number_of_replicas":0,"index.routing.allocation.require.box":"gone"}}`)
	p, err = snapshot.Take(ctx, e, "clover", open(t, "clover", c.Address()))
	require.NoError(t, err)
	require.Len(t, p.Skipped, 1)
	require.Contains(t, p.Skipped[0].Reason, "no node that is up")
}

// TestSearchLargeDocuments has documents of up to ten megabytes pass through a heap that
// is small, and a document that cannot come back named.
func TestSearchLargeDocuments(t *testing.T) {
	t.Parallel()
	if long(1, 0) == 0 {
		return // a server with a heap of its own: make test-long
	}
	c := searchtest.Start(t, searchtest.Options{Heap: "384m"})
	c.Do(t, http.MethodPut, "/large", `{"mappings":{"properties":{"text":{"type":"text","index":false}}}}`)
	want := []string{}
	for i := range 30 {
		size := 10 << 20
		if i%3 > 0 {
			size = 1000 << (i % 12)
		}
		src := fmt.Sprintf(`{"n":%d,"text":"%s"}`, i, strings.Repeat("brood ", size/6))
		c.Do(t, http.MethodPut, fmt.Sprintf("/large/_doc/%d", i), src)
		want = append(want, searchDoc{fmt.Sprint(i), "", 1, src}.text())
	}
	e := newRunner(t)
	cl := open(t, "clover", c.Address())
	p, err := snapshot.Take(ctx, e, "clover", cl)
	require.NoError(t, err)
	got := pointTexts(t, e, p)["large"]
	require.Len(t, got, len(want))
	require.ElementsMatch(t, want, got)
	searchRestore(t, e, p, cl, restore.Options{Pattern: "large", Rename: map[string]string{"large": "large-again"}})

	// A document that its own index would not take today.
	c.Do(t, http.MethodPut, "/odd", `{"mappings":{"properties":{"n":{"type":"integer","ignore_malformed":true}}}}`)
	c.Do(t, http.MethodPut, "/odd/_doc/fits", `{"n":1}`)
	c.Do(t, http.MethodPut, "/odd/_doc/does%20not", `{"n":"seven"}`)
	c.Do(t, http.MethodPut, "/odd/_mapping", `{"properties":{"n":{"type":"integer","ignore_malformed":false}}}`)
	p, err = snapshot.Take(ctx, e, "clover", cl)
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, mustResolve(t, e, p), cl,
		restore.Options{Pattern: "odd", Conflict: restore.Replace})
	require.NoError(t, err)
	defer plan.Close()
	_, err = plan.Run(ctx)
	require.ErrorContains(t, err, `document "does not"`)
	require.ErrorContains(t, err, "failed to parse field [n]")
	require.EqualValues(t, "2", fmt.Sprint(c.Do(t, http.MethodGet, "/odd/_count", "")["count"]), "what was there stays")
}

// TestSearchManyIndices has more names than a request line takes.
func TestSearchManyIndices(t *testing.T) {
	t.Parallel()
	yard := "fieldnotes-of-the-north-yard-" + strings.Repeat("and-of-the-heath-", 5)
	many := long(400, 60)
	if n, err := strconv.Atoi(os.Getenv("DEXAMEN_SEARCH_INDICES")); err == nil {
		many = n // make search
	}
	address, do := "", request(nil)
	if many < 100 { // the stand-in bounds the line as real servers do
		c, d := searchStandIn(t, searchsim.Options{})
		address, do = c.Address(), d
	} else {
		c := searchtest.Start(t, searchtest.Options{Heap: "1g", Settings: []string{"cluster.max_shards_per_node=5000",
			"search.max_open_pit_context=4000", "indices.breaker.total.use_real_memory=false"}})
		address, do = c.Address(), c.Do
	}
	for i := range many {
		name := fmt.Sprintf("%s-%05d", yard, i)
		do(t, http.MethodPut, "/"+name, `{"settings":{"number_of_shards":1,"number_of_replicas":0}}`)
		do(t, http.MethodPut, "/"+name+"/_doc/1", fmt.Sprintf(`{"n":%d}`, i))
	}
	e := newRunner(t)
	begin := time.Now()
	cl := openWith(t, "clover", address, map[string]any{"quiesce": "write-block"})
	p, err := snapshot.Take(ctx, e, "clover", cl)
	require.NoError(t, err)
	require.True(t, p.Exact)
	require.Len(t, p.Namespaces, many)
	first := time.Since(begin)
	begin = time.Now()
	again, err := snapshot.Take(ctx, e, "clover", cl)
	require.NoError(t, err)
	require.Equal(t, "changes", again.Made)
	t.Logf("%d indices: %s, then %s", many, first.Round(time.Millisecond), time.Since(begin).Round(time.Millisecond))
	do(t, http.MethodPut, "/"+yard+"-00000/_doc/2", `{"n":2}`)
}

// TestSearchFullReadProves has a change that no sequence number tells of be found by the
// next full read, and not before; and what was not continued be read whole.
func TestSearchFullReadProves(t *testing.T) {
	t.Parallel()
	c, do := searchStandIn(t, searchsim.Options{})
	do(t, http.MethodPut, "/notes", `{"settings":{"number_of_shards":2}}`)
	for i := range 50 {
		do(t, http.MethodPut, fmt.Sprintf("/notes/_doc/%d", i), fmt.Sprintf(`{"n":%d}`, i))
	}
	e := newRunner(t)
	var said string
	e.OnEvent = func(v run.Event) { said += v.Text + "\n" }
	cl := open(t, "clover", c.Address())
	take := func(full bool) *store.Point {
		said, e.FullRead = "", full
		p, err := snapshot.Take(ctx, e, "clover", cl)
		require.NoError(t, err)
		return p
	}
	first := take(false)
	require.Equal(t, "scan", first.Made)
	do(t, http.MethodPut, "/notes/_doc/new", `{"n":99}`)
	p := take(true)
	require.Equal(t, "scan", p.Made)
	require.Contains(t, said, "equal to point "+first.ID+" with what has changed since")
	c.Slip("notes", "7", []byte(`{"n":-7}`))
	do(t, http.MethodPut, "/notes/_doc/newer", `{"n":100}`)
	p = take(false)
	require.Equal(t, "changes", p.Made)
	require.Len(t, p.Caveats, 1, "of the writes that went on alone")
	p = take(true)
	require.Contains(t, said, "not to be relied on")
	require.Contains(t, strings.Join(p.Caveats, " "), "1 otherwise; changed 7")
	require.Contains(t, pointTexts(t, e, p)["notes"], searchDoc{"7", "", 1, `{"n":-7}`}.text())
	// Another primary: sequence numbers may have been given out twice.
	c.Kill(2)
	do(t, http.MethodDelete, "/notes/_doc/3", "")
	p = take(false)
	require.Equal(t, "scan", p.Made)
	require.Contains(t, said, "another primary")
	require.Len(t, pointTexts(t, e, p)["notes"], 51)
	do(t, http.MethodDelete, "/notes/_doc/4", "")
	p = take(false)
	require.Equal(t, "changes", p.Made)
	require.Len(t, pointTexts(t, e, p)["notes"], 50)
}
