package searchsim

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"net/http"
	"strconv"
	"strings"
)

// write is what is to be done with a document.
type write struct {
	op, index, id, routing string
	version                *int64 // external, greater or equal
	ifSeq                  *int64
	source                 []byte
}

// target returns the index that takes a write through a name.
func (c *Cluster) target(name string) (*index, error) {
	if x := c.indices[name]; x != nil {
		return x, nil
	}
	if st := c.streams[name]; st != nil {
		return c.indices[st.indices[len(st.indices)-1]], nil
	}
	var with []*index
	for _, x := range c.indices {
		if a, ok := x.aliases[name].(map[string]any); ok {
			if on, _ := a["is_write_index"].(bool); on {
				return x, nil
			}
			with = append(with, x)
		}
	}
	switch len(with) {
	case 1:
		return with[0], nil
	case 0:
		return c.create(name, nil) // action.auto_create_index
	}
	return nil, fail(400, "illegal_argument_exception", "no write index is defined for alias [%s].", name)
}

func (x *index) shardOf(id, routing string) *shard {
	if routing == "" {
		routing = id
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte(routing))
	return x.shards[int(h.Sum32()%uint32(len(x.shards)))]
}

// apply does a write. Each takes a sequence number, also one that deletes nothing.
func (c *Cluster) apply(w *write) (object, error) {
	x, err := c.target(w.index)
	if err != nil {
		return nil, err
	}
	if err := x.blocked("write"); err != nil {
		return nil, err
	}
	if x.stream != "" && w.op == "index" && w.index == x.stream {
		return nil, fail(400, "illegal_argument_exception",
			"only write ops with an op_type of create are allowed in data "+
				"streams")
	}
	if w.id == "" {
		w.id = newID()
	}
	if w.op != "delete" {
		if err := x.learn(w.source); err != nil {
			return nil, err
		}
	}
	s := x.shardOf(w.id, w.routing)
	was := s.docs[w.id]
	version := int64(0)
	if was != nil {
		version = was.version
	} else {
		version = s.deleted[w.id] // remembered for a while (index.gc_deletes)
	}
	conflict := func(why string) error {
		return fail(409, "version_conflict_engine_exception", "[%s]: version conflict, %s", w.id, why)
	}
	switch {
	case w.op == "create" && was != nil:
		return nil, conflict(fmt.Sprintf("document already exists (current version [%d])", was.version))
	case w.ifSeq != nil && (was == nil || was.seq != *w.ifSeq):
		return nil, conflict("required seqNo [" + strconv.FormatInt(*w.ifSeq, 10) + "]")
	case w.version != nil && *w.version < version:
		return nil, conflict(fmt.Sprintf("current version [%d] is higher than the one provided [%d]", version,
			*w.version))
	}
	if version++; w.version != nil {
		version = *w.version
	}
	seq := s.next
	s.next++
	s.dirty = true
	result, status := "updated", 200
	if w.op == "delete" {
		result = "deleted"
		if was == nil {
			result, status = "not_found", 404
		}
		delete(s.docs, w.id)
		s.deleted[w.id] = version
	} else {
		if was == nil {
			result, status = "created", 201
		}
		delete(s.deleted, w.id)
		s.docs[w.id] = &doc{w.id, w.routing, version, seq, bytes.Clone(w.source)}
	}
	return object{"_index": x.name, "_id": w.id, "_version": version, "result": result, "_seq_no": seq,
		"_primary_term": s.term, "_shards": object{"total": 2, "successful": 2, "failed": 0}, "status": status}, nil
}

// learn adds fields that a document has to the mapping, and refuses a document that it
// does not fit.
func (x *index) learn(source []byte) error {
	var fields map[string]any
	d := json.NewDecoder(bytes.NewReader(source))
	d.UseNumber()
	if err := d.Decode(&fields); err != nil {
		return fail(400, "mapper_parsing_exception", "failed to parse: %v", err)
	}
	if x.mappings == nil {
		x.mappings = map[string]any{}
	}
	return learnFields(x.mappings, fields, fmt.Sprint(x.mappings["dynamic"]) == "false")
}

// scalar are the types of fields that take no objects ("Mapping field types").
var scalar = map[string]bool{"text": true, "keyword": true, "long": true, "integer": true, "short": true, "byte": true,
	"double": true, "float": true, "half_float": true, "scaled_float": true, "boolean": true, "date": true, "ip": true}

func learnFields(m map[string]any, fields map[string]any, still bool) error {
	props, _ := m["properties"].(map[string]any)
	for k, v := range fields {
		if l, ok := v.([]any); ok && len(l) > 0 {
			v = l[0]
		}
		known, _ := props[k].(map[string]any)
		sub, isObject := v.(map[string]any)
		switch {
		case known == nil && !still && v != nil:
			def := guessed(v)
			if def == nil {
				continue
			}
			if props == nil {
				props = map[string]any{}
				m["properties"] = props
			}
			props[k] = def
			if isObject {
				if err := learnFields(def, sub, false); err != nil {
					return err
				}
			}
		case known != nil && isObject && fmt.Sprint(known["enabled"]) != "false":
			t, ok := known["type"]
			if ok && scalar[fmt.Sprint(t)] {
				return fail(400, "mapper_parsing_exception", "failed to parse field [%s] of type [%v]", k, t)
			}
			if ok && t != "object" && t != "nested" {
				continue // a type that takes objects of its own
			}
			if err := learnFields(known, sub, still); err != nil {
				return err
			}
		case known != nil:
			if s, ok := v.(string); ok && (known["type"] == "long" || known["type"] == "float") {
				if _, err := strconv.ParseFloat(s, 64); err != nil {
					return fail(400, "mapper_parsing_exception", "failed to parse field [%s] of type [%v]", k,
						known["type"])
				}
			}
		}
	}
	return nil
}

// guessed returns what dynamic mapping makes of a value ("Dynamic mapping").
func guessed(v any) map[string]any {
	switch v := v.(type) {
	case string:
		return map[string]any{"type": "text",
			"fields": map[string]any{"keyword": map[string]any{"type": "keyword", "ignore_above": 256}}}
	case json.Number:
		if strings.ContainsAny(string(v), ".eE") {
			return map[string]any{"type": "float"}
		}
		return map[string]any{"type": "long"}
	case bool:
		return map[string]any{"type": "boolean"}
	case map[string]any:
		return map[string]any{"properties": map[string]any{}}
	}
	return nil
}

// handleDoc answers requests about one document.
func (c *Cluster) handleDoc(q *request, name, id string) (any, error) {
	routing := q.query.Get("routing")
	if q.method == http.MethodGet || q.method == http.MethodHead {
		found, err := q.indicesOf(name)
		if err != nil {
			return nil, err
		}
		x := found[0]
		s := x.shardOf(id, routing)
		d := s.docs[id]
		if d == nil {
			return object{"_index": x.name, "_id": id, "found": false, "_http": 404}, nil
		}
		ans, err := json.Marshal(map[string]any{"_index": x.name, "_id": id, "found": true, "_version": d.version,
			"_seq_no": d.seq, "_primary_term": s.term})
		if err != nil {
			return nil, err
		}
		ans = ans[:len(ans)-1]
		if d.routing != "" {
			ans = append(ans, `,"_routing":`+quote(d.routing)...)
		}
		return raw(append(append(append(ans, `,"_source":`...), d.source...), '}')), nil
	}
	w := &write{op: "index", index: name, id: id, routing: routing, source: q.body}
	if q.method == http.MethodDelete {
		w.op = "delete"
	}
	if q.query.Get("op_type") == "create" {
		w.op = "create"
	}
	if v, err := strconv.ParseInt(q.query.Get("version"), 10, 64); err == nil {
		w.version = &v
	}
	if v, err := strconv.ParseInt(q.query.Get("if_seq_no"), 10, 64); err == nil {
		w.ifSeq = &v
	}
	ans, err := c.apply(w)
	if err != nil {
		return nil, err
	}
	if q.query.Has("refresh") && q.query.Get("refresh") != "false" {
		c.refresh(c.indices[ans["_index"].(string)])
	}
	ans["_http"] = ans["status"]
	delete(ans, "status")
	return ans, nil
}

func quote(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // of a string it never fails
	return strings.TrimSuffix(b.String(), "\n")
}

func (c *Cluster) refresh(list ...*index) {
	for _, x := range list {
		for _, s := range x.shards {
			s.refresh()
		}
	}
}

// bulk does many writes. An action with a key that is not known makes all of it fail,
// before anything is written.
func (c *Cluster) bulk(q *request, name string) (any, error) {
	known := map[string]bool{"_index": true, "_id": true, "routing": true, "version": true, "version_type": true,
		"if_seq_no": true, "if_primary_term": true, "require_alias": true, "pipeline": true}
	var all []*write
	lines := bytes.Split(bytes.TrimSuffix(q.body, []byte("\n")), []byte("\n"))
	for i := 0; i < len(lines); i++ {
		var line map[string]map[string]json.RawMessage
		if err := json.Unmarshal(lines[i], &line); err != nil {
			return nil, fail(400, "illegal_argument_exception", "Malformed action/metadata line [%d]", i+1)
		}
		for op, raw := range line {
			w := &write{op: op, index: name}
			for k, v := range raw {
				if !known[k] {
					return nil, fail(400, "illegal_argument_exception",
						"Action/metadata line [%d] contains an unknown "+
							"parameter [%s]", i+1, k)
				}
				switch k {
				case "_index":
					_ = json.Unmarshal(v, &w.index)
				case "_id":
					_ = json.Unmarshal(v, &w.id)
				case "routing":
					_ = json.Unmarshal(v, &w.routing)
				case "version":
					_ = json.Unmarshal(v, &w.version)
				}
			}
			if op == "create" && w.version != nil {
				return nil, fail(400, "action_request_validation_exception", "create operations only support internal "+
					"versioning. use index instead")
			}
			if op != "delete" {
				if i++; i >= len(lines) {
					return nil, fail(400, "illegal_argument_exception",
						"The bulk request must be terminated by a newline")
				}
				w.source = bytes.TrimSuffix(lines[i], []byte("\r"))
			}
			all = append(all, w)
		}
	}
	var items []any
	failed := false
	touched := map[string]*index{}
	for _, w := range all {
		ans, err := c.apply(w)
		if err != nil {
			var f *failure
			if !errors.As(err, &f) {
				return nil, err
			}
			failed = true
			ans = object{"_index": w.index, "_id": w.id, "status": f.status,
				"error": object{"type": f.kind, "reason": f.reason}}
		} else if x := c.indices[ans["_index"].(string)]; x != nil {
			touched[x.name] = x
		}
		items = append(items, object{w.op: ans})
	}
	if q.query.Has("refresh") && q.query.Get("refresh") != "false" {
		for x := range maps.Values(touched) {
			c.refresh(x)
		}
	}
	return object{"took": 1, "errors": failed, "items": items}, nil
}

// Slip changes what a document holds without a version or sequence number: what no
// server does, so that it can be seen whether it would be noticed.
func (c *Cluster) Slip(index, id string, source []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.indices[index].shards {
		if d := s.docs[id]; d != nil {
			slipped := *d
			slipped.source = source
			s.docs[id], s.dirty = &slipped, true
		}
	}
}
