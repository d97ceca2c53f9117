package integration_test

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/engine/search/searchtest"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// everyField has a field of every type of the reference's list that the server's own
// modules know, with a value each, and what indices are given beside.
const everyField = `{"settings":{"number_of_shards":3,"number_of_replicas":0,"max_ngram_diff":5,
  "codec":"best_compression",
 "similarity":{"plain":{"type":"BM25","b":0.2}},"default_pipeline":"stamp","final_pipeline":"last",
 "analysis":{"analyzer":{"folded":{"type":"custom","tokenizer":"grams","char_filter":["dash"],
   "filter":["lowercase","asciifolding","bees"]}},
  "tokenizer":{"grams":{"type":"ngram","min_gram":2,"max_gram":5}},"normalizer":{"low":{"type":"custom",
  "filter":["lowercase"]}},
  "char_filter":{"dash":{"type":"mapping","mappings":["- => _"]}},
  "filter":{"bees":{"type":"synonym","synonyms":["bee, drone => insect","königin => queen"]}}}},
 "aliases":{"notes":{},"north":{"filter":{"bool":{"must":[{"term":{"k":"north"}},{"range":{"n":{"gte":0}}}]}},
  "routing":"r1"},
   "writes":{"is_write_index":true,"index_routing":"a","search_routing":"a,b"}},
 "mappings":{"_meta":{"made":"by hand","n":1e3},"date_detection":false,"dynamic":"strict",
  "_routing":{"required":false},
  "dynamic_templates":[{"texts":{"match_mapping_type":"string","mapping":{"type":"keyword"}}}],
  "properties":{
   "n":{"type":"long","null_value":7},"t":{"type":"text","analyzer":"folded","fields":{"raw":{"type":"keyword",
  "ignore_above":20}}},
   "k":{"type":"keyword","normalizer":"low"},"c":{"type":"constant_keyword","value":"one"},"w":{"type":"wildcard"},
   "i":{"type":"integer"},"s":{"type":"short"},"b":{"type":"byte"},"d":{"type":"double"},"f":{"type":"float"},
   "h":{"type":"half_float"},"sf":{"type":"scaled_float","scaling_factor":10},"ul":{"type":"unsigned_long"},
   "date":{"type":"date","format":"yyyy/MM/dd||epoch_millis"},"nanos":{"type":"date_nanos"},"yes":{"type":"boolean"},
   "bin":{"type":"binary"},"ir":{"type":"integer_range"},"dr":{"type":"date_range"},"ipr":{"type":"ip_range"},
   "o":{"type":"object","properties":{"x":{"type":"long"}}},"off":{"type":"object","enabled":false},
   "nest":{"type":"nested","properties":{"a":{"type":"integer"},"deep":{"type":"nested",
  "properties":{"b":{"type":"keyword"}}}}},
   "flat":{"type":"flat_object"},"ip":{"type":"ip"},"join":{"type":"join","relations":{"hive":["visit","sample"]}},
   "comp":{"type":"completion"},"typed":{"type":"search_as_you_type"},"count":{"type":"token_count",
  "analyzer":"standard"},
   "gp":{"type":"geo_point"},"gs":{"type":"geo_shape"},
   "rf":{"type":"rank_feature"},"rfs":{"type":"rank_features"},"perc":{"type":"percolator"},
  "copy":{"type":"text","copy_to":"t"},
   "al":{"type":"alias","path":"n"}}}}`

var everyDocument = []struct{ id, routing, source string }{
	{
		"1", "",
		`{"n":1,"t":"Die Königin-Biene","k":"NORTH","c":"one","w":"a*b","i":-5,"s":3,"b":1,"d":1.50,"f":1e3,` +
			`"h":0.1,` +
			`"sf":1.25,"ul":18446744073709551615,"date":"2026/11/20","nanos":"2026-11-20T00:00:00.123456789Z",` +
			`"yes":true,` +
			`"bin":"AAEC","ir":{"gte":1,"lt":5},"dr":{"gte":"2026-01-01"},"ipr":"10.0.0.0/8","o":{"x":1},` +
			`"ip":"::1",` +
			`"comp":{"input":["a","b"],"weight":3},"typed":"as you","count":"three words here","gp":{"lat":52.1,` +
			`"lon":9.5},` +
			`"gs":{"type":"Point","coordinates":[9.5,52.1]},"rf":3.5,"rfs":{"a":1},"copy":"copied"}`},
	{
		"2", "",
		`{"off":{"huge":1e400,"digits":12345678901234567890123,"same":1.00,"\u00e9":"\u00e9","n":null},"n":null}`},
	{"same", "a", `{"n":10,"k":"routed a"}`}, {"same", "b", `{"n":11,"k":"routed b"}`},
	{"hive", "hive", `{"join":"hive"}`}, {"visit", "hive", `{"join":{"name":"visit","parent":"hive"},"n":2}`},
	{"nest", "", `{"nest":[{"a":1,"deep":[{"b":"x"},{"b":"y"}]},{"a":2}],"flat":{"any":{"thing":[1,"2"]}}}`},
	{"query", "", `{"perc":{"bool":{"must":[{"match":{"t":"queen"}},{"range":{"n":{"gte":5}}}]}}}`},
	{"odd / id ? # % é \"quoted\"", "süd/ost", `{"n":3}`},
	{"lines", "", "{\n  \"n\" : 4 ,\n  \"k\" : \"spread\"\n}\n"},
	{"spaces", "", `  {"n":5}   `}, {"comment", "",
		"{\"n\":6 /* a } comment \" of its own */,\"k\":\"c\"} // and \" another\n"},
}

// TestSearchEverything protects an index that has everything, deletes it, and restores
// it on a cluster whose templates fit every name.
func TestSearchEverything(t *testing.T) {
	t.Parallel()
	c := searchtest.Start(t, searchtest.Options{})
	everything(t, c, everyField)
}

func everything(t *testing.T, c *searchtest.Cluster, definition string) {
	c.Do(t, http.MethodPut, "/_ingest/pipeline/stamp", `{"processors":[{"set":{"field":"n","value":99}}]}`)
	c.Do(t, http.MethodPut, "/_ingest/pipeline/last", `{"processors":[{"set":{"field":"i","value":98}}]}`)
	c.Do(t, http.MethodPut, "/everything", definition)
	c.Do(t, http.MethodPut, "/everything/_settings", `{"index.default_pipeline":null,"index.final_pipeline":null}`)
	want := []string{}
	for _, d := range everyDocument {
		q := url.Values{"refresh": {"true"}}
		if d.routing != "" {
			q.Set("routing", d.routing)
		}
		for range 1 + len(d.id)%3 { // versions differ
			c.Do(t, http.MethodPut, "/everything/_doc/"+url.PathEscape(d.id)+"?"+q.Encode(), d.source)
		}
		want = append(want, searchDoc{d.id, d.routing, int64(1 + len(d.id)%3), d.source}.text())
	}
	c.Do(t, http.MethodPut, "/everything/_settings", `{"index.default_pipeline":"stamp","index.final_pipeline":"last",
		"index.blocks.write":true,"index.refresh_interval":"7s","index.number_of_replicas":0,
  "index.max_result_window":500}`)
	before, answers := c.Do(t, http.MethodGet, "/everything", ""), searchAnswers(t, c)
	for _, n := range answers {
		require.Positive(t, n, "%v", answers)
	}
	e := newRunner(t)
	cl := open(t, "clover", c.Address())
	p, err := snapshot.Take(ctx, e, "clover", cl)
	require.NoError(t, err)
	require.ElementsMatch(t, want, pointTexts(t, e, p)["everything"])

	c.Do(t, http.MethodDelete, "/everything", "")
	c.Do(t, http.MethodPut, "/_index_template/greedy", `{"index_patterns":["*"],"priority":7,"template":{
		"settings":{"number_of_replicas":2,"refresh_interval":"42s","default_pipeline":"last"},
		"mappings":{"properties":{"intruder":{"type":"keyword"}}},"aliases":{"intruders":{}}}}`)
	searchRestore(t, e, p, cl, restore.Options{Pattern: "everything"})
	after := c.Do(t, http.MethodGet, "/everything", "")
	strip := func(v map[string]any) string {
		index := v["everything"].(map[string]any)
		s := index["settings"].(map[string]any)["index"].(map[string]any)
		for _, k := range []string{"uuid", "creation_date", "provided_name", "version", "resize", "routing",
			"routing_partition_size"} {
			delete(s, k)
		}
		b, err := json.Marshal(index)
		require.NoError(t, err)
		return string(b)
	}
	require.JSONEq(t, strip(before), strip(after))
	_, err = verify.Live(ctx, e, mustResolve(t, e, p), cl, "everything", nil, 5)
	require.NoError(t, err)
	require.Equal(t, answers, searchAnswers(t, c), "what the mapping is for works")
	left, _, _ := c.Try(http.MethodGet, "/_index_template/dexamen*", "")
	require.Equal(t, 404, left, "no template of Dexamen's own is left")
	status, b, _ := c.Try(http.MethodGet, "/_cat/indices/dexamen-stage-*?expand_wildcards=all&h=index", "")
	require.Equal(t, 200, status)
	require.Empty(t, strings.TrimSpace(string(b)), "no stage is left")
}

// searchAnswers counts what queries find that need what a mapping says.
func searchAnswers(t *testing.T, c *searchtest.Cluster) (out []int) {
	for _, q := range []string{
		`{"percolate":{"field":"perc","document":{"t":"a queen","n":9}}}`,
		`{"nested":{"path":"nest","query":{"term":{"nest.a":2}}}}`,
		`{"has_child":{"type":"visit",` +
			`"query":{"match_all":{}}}}`, `{"match":{"t":"biene"}}`, `{"term":{"k":"North"}}`,
		`{"term":{"flat.any.thing":"2"}}`, `{"range":{"ir":{"gte":2,"lte":3}}}`,
	} {
		v := c.Do(t, http.MethodPost, "/everything/_search", `{"query":`+q+`}`)
		out = append(out, len(v["hits"].(map[string]any)["hits"].([]any)))
	}
	return out
}

// searchRestore restores namespaces of a point.
func searchRestore(t *testing.T, e *run.Runner, p *store.Point, to engine.Cluster,
	opt restore.Options) []restore.Restored {
	t.Helper()
	m, err := moment.Resolve(ctx, e, p.Cluster, address.When{Kind: address.Point, Text: p.ID}, restore.OnScratch{})
	require.NoError(t, err)
	plan, err := restore.NewPlan(ctx, e, m, to, opt)
	require.NoError(t, err)
	defer plan.Close()
	done, err := plan.Run(ctx)
	require.NoError(t, err)
	for _, d := range done {
		require.True(t, d.Verified)
	}
	return done
}
