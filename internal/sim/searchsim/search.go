package searchsim

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// reader is a point in time of some shards; it hangs on the node where it was opened.
type reader struct {
	node  *node
	parts []readerPart
}

type readerPart struct {
	index *index
	shard int
	docs  []*doc
}

// handleSearch answers what begins with /_search or /INDEX/_search.
func (c *Cluster) handleSearch(q *request, found []*index, what, more string) (any, error) {
	switch what {
	case "point_in_time":
		switch {
		case c.opt.OtherReaders:
			return nil, fail(405, "method_not_allowed", "Incorrect HTTP method for uri [/_search/point_in_time]")
		case more == "_all" && q.method == http.MethodGet:
			pits := []any{}
			for id := range c.readers {
				pits = append(pits, object{"pit_id": id})
			}
			return object{"pits": pits}, nil
		case q.method == http.MethodDelete:
			return c.closeReaders(q)
		}
		return c.openReader(q, found, "pit_id")
	case "pipeline":
		return c.handleDefined(q, "_search/pipeline", more)
	}
	if c.searches++; c.opt.Busy > 0 && c.searches%c.opt.Busy == 0 {
		return nil, fail(429, "circuit_breaking_exception", "[parent] Data too large")
	}
	return c.search(q, found)
}

func (c *Cluster) openReader(q *request, found []*index, called string) (any, error) {
	if len(c.readers) >= c.opt.MostReaders {
		return nil, fail(429, "rejected_execution_exception",
			"Trying to create too many Point In Time contexts. Must be "+
				"less than or equal to: [%d].", c.opt.MostReaders)
	}
	only := -1
	if p, ok := strings.CutPrefix(q.query.Get("preference"), "_shards:"); ok {
		p, _, _ = strings.Cut(p, "|")
		only, _ = strconv.Atoi(p)
	}
	// Any node that is up may hold it.
	var up []*node
	for _, n := range c.nodes {
		if n.up {
			up = append(up, n)
		}
	}
	r := &reader{node: up[(len(c.readers)+max(only, 0))%len(up)]}
	for _, x := range found {
		if err := x.blocked("read"); err != nil {
			return nil, err
		}
		for i, s := range x.shards {
			if only < 0 || only == i {
				r.parts = append(r.parts, readerPart{x, i, x.current(s)})
			}
		}
	}
	id := newID()
	c.readers[id] = r
	return object{called: id, "_shards": object{"total": len(r.parts), "successful": len(r.parts), "failed": 0,
		"skipped": 0}, "creation_time": 1}, nil
}

func (c *Cluster) closeReaders(q *request) (any, error) {
	var v struct {
		ID  string   `json:"id"`
		IDs []string `json:"pit_id"`
	}
	if err := q.decode(&v); err != nil {
		return nil, err
	}
	for _, id := range append(v.IDs, v.ID) {
		delete(c.readers, id)
	}
	return object{"succeeded": true}, nil
}

type searchBody struct {
	Size  *int
	From  int
	Query map[string]map[string]any
	Pit   *struct{ ID string }
	Sort  []any
	Total any `json:"track_total_hits"`
	With  any `json:"_source"`
	Named any `json:"version"`
}

// search finds documents. Sorted by _seq_no they come in order of it, else as shards
// keep them.
func (c *Cluster) search(q *request, found []*index) (any, error) {
	var body searchBody
	if err := q.decode(&body); err != nil {
		return nil, err
	}
	size := 10
	if n, err := strconv.Atoi(q.query.Get("size")); err == nil {
		size = n
	}
	if body.Size != nil {
		size = *body.Size
	}
	if size > 10000 {
		return nil, fail(400, "illegal_argument_exception",
			"Result window is too large, from + size must be less than or "+
				"equal to: [10000] but was [%d].", size)
	}
	var parts []readerPart
	if body.Pit != nil {
		r := c.readers[body.Pit.ID]
		if r == nil {
			return nil, fail(404, "search_context_missing_exception", "No search context found for id [1]")
		}
		for _, p := range r.parts {
			if c.indices[p.index.name] != p.index {
				return nil, fail(404, "index_not_found_exception", "no such index [%s]", p.index.name)
			}
		}
		parts = r.parts
	} else {
		for _, x := range found {
			if err := x.blocked("read"); err != nil {
				return nil, err
			}
			for i, s := range x.shards {
				parts = append(parts, readerPart{x, i, x.current(s)})
			}
		}
	}
	type hit struct {
		index string
		d     *doc
	}
	var hits []hit
	for _, p := range parts {
		for _, d := range p.docs {
			ok, err := fits(body.Query, d)
			if err != nil {
				return nil, err
			}
			if ok {
				hits = append(hits, hit{p.index.name, d})
			}
		}
	}
	bySeq := strings.Contains(fmt.Sprint(body.Sort), "_seq_no")
	if bySeq {
		slices.SortStableFunc(hits, func(a, b hit) int { return int(a.d.seq - b.d.seq) })
	}
	total := len(hits)
	hits = hits[min(body.From, len(hits)):]
	hits = hits[:min(size, len(hits))]
	var b bytes.Buffer
	fmt.Fprintf(&b,
		`{"took":1,"timed_out":false,"_shards":{"total":%d,"successful":%[1]d,"skipped":0,"failed":0},"hits":{`,
		len(parts))
	if fmt.Sprint(body.Total) != "false" {
		fmt.Fprintf(&b, `"total":{"value":%d,"relation":"eq"},`, total)
	}
	b.WriteString(`"max_score":null,"hits":[`)
	for i, h := range hits {
		if i > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, `{"_index":%s,"_id":%s,"_version":%d,"_score":null`, quote(h.index), quote(h.d.id), h.d.version)
		if h.d.routing != "" {
			b.WriteString(`,"_routing":` + quote(h.d.routing))
		}
		if fmt.Sprint(body.With) != "false" {
			b.WriteString(`,"_source":`)
			b.Write(h.d.source) // as it was sent
		}
		if bySeq {
			fmt.Fprintf(&b, `,"sort":[%d]`, h.d.seq)
		}
		b.WriteByte('}')
	}
	b.WriteString(`]}}`)
	return raw(b.Bytes()), nil
}

// fits reports whether a document fits a query: match_all, ids, term, and ranges.
func fits(query map[string]map[string]any, d *doc) (bool, error) {
	for kind, of := range query {
		switch kind {
		case "match_all":
		case "ids":
			ids, _ := of["values"].([]any)
			if !slices.Contains(ids, any(d.id)) {
				return false, nil
			}
		case "term", "match":
			for field, want := range of {
				if w, ok := want.(map[string]any); ok {
					want = w["value"]
				}
				if fmt.Sprint(value(d, field)) != fmt.Sprint(want) {
					return false, nil
				}
			}
		case "range":
			for field, bounds := range of {
				b, _ := bounds.(map[string]any)
				v := float64(d.seq)
				if field != "_seq_no" {
					n, err := strconv.ParseFloat(fmt.Sprint(value(d, field)), 64)
					if err != nil {
						return false, nil
					}
					v = n
				}
				for op, bound := range b {
					x, err := strconv.ParseFloat(fmt.Sprint(bound), 64)
					if err != nil {
						return false, fail(400, "parsing_exception", "range of %s: %v", field, err)
					}
					if op == "gt" && v <= x || op == "gte" && v < x || op == "lt" && v >= x || op == "lte" && v > x {
						return false, nil
					}
				}
			}
		default:
			return false, fail(400, "parsing_exception", "unknown query [%s]", kind)
		}
	}
	return true, nil
}

func value(d *doc, field string) any {
	var v any
	dec := json.NewDecoder(bytes.NewReader(d.source))
	dec.UseNumber()
	if dec.Decode(&v) != nil {
		return nil
	}
	for part := range strings.SplitSeq(strings.TrimSuffix(field, ".keyword"), ".") {
		m, _ := v.(map[string]any)
		v = m[part]
	}
	return v
}
