package searchsim

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// index is an index; a shard is a part of its documents with sequence numbers of its
// own.
type index struct {
	name     string
	uuid     string
	made     time.Time
	settings map[string]any // by whole names, as texts
	mappings map[string]any
	aliases  map[string]any
	shards   []*shard
	stream   string // that it belongs to
}

type shard struct {
	docs    map[string]*doc // by _id
	next    int64           // sequence number
	term    int64
	history string
	shown   []*doc // what searches find, by sequence number
	looked  time.Time
	dirty   bool
	deleted map[string]int64 // versions of what was deleted
}

type doc struct {
	id, routing  string
	version, seq int64
	source       []byte
}

func newShard() *shard {
	return &shard{docs: map[string]*doc{}, term: 1, history: newID(), deleted: map[string]int64{}}
}

// refresh has searches find what was written.
func (s *shard) refresh() {
	if s.dirty {
		s.shown = slices.Collect(maps.Values(s.docs))
		slices.SortFunc(s.shown, func(a, b *doc) int { return int(a.seq - b.seq) })
	}
	s.dirty, s.looked = false, time.Now()
}

// current returns what a search finds now: a shard is refreshed each second, unless
// its index says otherwise.
func (x *index) current(s *shard) []*doc {
	if x.text("index.refresh_interval") != "-1" && time.Since(s.looked) > time.Second {
		s.refresh()
	}
	return s.shown
}

func (x *index) text(name string) string {
	if v := x.settings[name]; v != nil {
		return fmt.Sprint(v)
	}
	return ""
}

// blocked returns why something may not be done with an index.
func (x *index) blocked(what string) error {
	if x.text("index.blocks."+what) == "true" || what == "write" && x.text("index.blocks.read_only") == "true" {
		code := map[string]string{"write": "8/index write (api)", "read": "7/index read (api)",
			"metadata": "9/index metadata (api)"}[what]
		return fail(403, "cluster_block_exception", "index [%s] blocked by: [FORBIDDEN/%s];", x.name, code)
	}
	return nil
}

// find returns the indices that a list of names and patterns means. Hidden ones fit
// patterns where all is set.
func (c *Cluster) find(list string, all, lenient bool) ([]*index, error) {
	var out []*index
	for name := range strings.SplitSeq(list, ",") {
		if name == "_all" || strings.Contains(name, "*") {
			if name == "_all" {
				name = "*"
			}
			for _, n := range slices.Sorted(maps.Keys(c.indices)) {
				hidden := c.indices[n].text("index.hidden") == "true"
				if ok, _ := path.Match(name, n); ok && (all || !hidden) {
					out = append(out, c.indices[n])
				}
			}
			continue
		}
		if x := c.indices[name]; x != nil {
			out = append(out, x)
			continue
		}
		found := false
		if st := c.streams[name]; st != nil {
			for _, i := range st.indices {
				out = append(out, c.indices[i])
			}
			found = true
		}
		for _, n := range slices.Sorted(maps.Keys(c.indices)) {
			if _, ok := c.indices[n].aliases[name]; ok {
				out = append(out, c.indices[n])
				found = true
			}
		}
		if !found && !lenient {
			return nil, fail(404, "index_not_found_exception", "no such index [%s]", name)
		}
	}
	return out, nil
}

// indicesOf returns what a request's list means.
func (q *request) indicesOf(list string) ([]*index, error) {
	return q.c.find(list, q.query.Get("expand_wildcards") == "all", q.query.Get("ignore_unavailable") == "true")
}

func (c *Cluster) handleCluster(q *request, what, more string) (any, error) {
	switch what {
	case "health":
		out := object{"cluster_name": c.opt.Name, "status": "green", "timed_out": false,
			"number_of_nodes": len(c.nodes)}
		all := object{}
		for n := range c.indices {
			all[n] = object{"status": "green"}
		}
		if q.query.Get("level") == "indices" {
			out["indices"] = all
		}
		return out, nil
	case "settings":
		if q.method == "PUT" {
			var v struct{ Persistent map[string]any }
			if err := q.decode(&v); err != nil {
				return nil, err
			}
			for k, val := range flat("", v.Persistent) {
				if val == nil {
					delete(c.settings, k)
				} else {
					c.settings[k] = val
				}
			}
			return object{"acknowledged": true, "persistent": c.settings}, nil
		}
		return object{"persistent": c.settings, "transient": object{},
			"defaults": object{"search.max_open_pit_context": strconv.Itoa(c.opt.MostReaders)}}, nil
	case "state":
		if strings.Contains(more, "master_node") {
			return object{"cluster_name": c.opt.Name, "master_node": c.leader().id,
				"cluster_manager_node": c.leader().id}, nil
		}
		list := "_all"
		if len(q.parts) > 3 {
			list = q.parts[3]
		}
		if more == "blocks" {
			return c.blocks(q, list)
		}
		return c.state(q, list)
	}
	return nil, fail(400, "illegal_argument_exception", "no handler for /_cluster/%s", what)
}

// blockNumbers are the numbers under which blocks are told, by their settings.
var blockNumbers = map[string]string{"read_only": "5", "read": "7", "write": "8", "metadata": "9"}

// blocks returns which blocks of indices are in force.
func (c *Cluster) blocks(q *request, list string) (any, error) {
	found, err := q.indicesOf(list)
	if err != nil {
		return nil, err
	}
	indices := object{}
	for _, x := range found {
		in := object{}
		for what, n := range blockNumbers {
			if x.text("index.blocks."+what) == "true" {
				in[n] = object{"description": "index " + what + " (api)", "retryable": false}
			}
		}
		if len(in) > 0 {
			indices[x.name] = in
		}
	}
	return object{"cluster_name": c.opt.Name, "blocks": object{"indices": indices}}, nil
}

// state returns what the state of the cluster has of indices: aliases by name only.
func (c *Cluster) state(q *request, list string) (any, error) {
	found, err := q.indicesOf(list)
	if err != nil {
		return nil, err
	}
	indices := object{}
	for _, x := range found {
		terms := object{}
		for i, s := range x.shards {
			terms[strconv.Itoa(i)] = s.term
		}
		mappings := object{}
		if len(x.mappings) > 0 {
			mappings["_doc"] = x.mappings
		}
		indices[x.name] = object{"state": "open", "system": false, "routing_num_shards": 1024, "settings": x.settings,
			"mappings": mappings, "aliases": slices.Sorted(maps.Keys(x.aliases)), "primary_terms": terms}
	}
	streams := object{}
	for n, st := range c.streams {
		var l []object
		for _, i := range st.indices {
			l = append(l, object{"index_name": i, "index_uuid": c.indices[i].uuid})
		}
		streams[n] = object{"name": n, "timestamp_field": object{"name": st.timestamp}, "indices": l,
			"generation": st.generation}
	}
	return object{"cluster_name": c.opt.Name, "metadata": object{"cluster_uuid": c.uuid, "indices": indices,
		"data_stream": object{"data_stream": streams}, "stored_scripts": c.defined["_scripts"]}}, nil
}

// stats returns the statistics of indices: by shard where that is asked for.
func (c *Cluster) stats(found []*index, q *request) any {
	if found == nil {
		found = slices.Collect(maps.Values(c.indices))
	}
	out := object{}
	for _, x := range found {
		count, bytes := 0, 0
		shards := object{}
		for i, s := range x.shards {
			for _, d := range x.current(s) {
				count++
				bytes += len(d.source)
			}
			shards[strconv.Itoa(i)] = []object{{"routing": object{"state": "STARTED", "primary": true},
				"seq_no": object{"max_seq_no": s.next - 1, "local_checkpoint": s.next - 1,
					"global_checkpoint": s.next - 1},
				"commit": object{"user_data": object{"history_uuid": s.history}}}}
		}
		one := object{"primaries": object{"docs": object{"count": count}, "store": object{"size_in_bytes": bytes}}}
		if q.query.Get("level") == "shards" {
			one["shards"] = shards
		}
		out[x.name] = one
	}
	return object{"_shards": object{"total": len(out), "successful": len(out), "failed": 0}, "indices": out}
}

// flat returns settings by whole names.
func flat(prefix string, m map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range m {
		if sub, ok := v.(map[string]any); ok {
			maps.Copy(out, flat(prefix+k+".", sub))
			continue
		}
		out[prefix+k] = v
	}
	return out
}

// texts returns settings of an index as servers keep them: by whole names, as texts.
func texts(m map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range flat("", m) {
		if !strings.HasPrefix(k, "index.") {
			k = "index." + k
		}
		switch l := v.(type) {
		case nil:
			out[k] = nil
		case []any:
			out[k] = l
		default:
			out[k] = fmt.Sprint(v)
		}
	}
	return out
}
