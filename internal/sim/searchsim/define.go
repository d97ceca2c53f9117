package searchsim

import (
	"cmp"
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// handleIndex answers requests about an index, or several.
func (c *Cluster) handleIndex(q *request, list, what, more string) (any, error) {
	switch what {
	case "":
		return c.handleWhole(q, list)
	case "_doc", "_create":
		if what == "_create" {
			q.query.Set("op_type", "create")
		}
		return c.handleDoc(q, list, more)
	case "_bulk":
		return c.bulk(q, list)
	case "_clone":
		return c.clone(q, list, more)
	case "_rollover":
		return c.rollOver(list)
	case "_pit":
		if !c.opt.OtherReaders {
			return nil, fail(400, "illegal_argument_exception", "no handler found for uri [/%s/_pit]", list)
		}
	}
	found, err := q.indicesOf(list)
	if err != nil {
		return nil, err
	}
	counts := object{"total": 2 * len(found), "successful": 2 * len(found), "failed": 0}
	switch what {
	case "_pit":
		return c.openReader(q, found, "id")
	case "_search":
		return c.handleSearch(q, found, more, "")
	case "_refresh", "_flush", "_forcemerge":
		c.refresh(found...)
		return object{"_shards": counts}, nil
	case "_count":
		n := 0
		for _, x := range found {
			for _, s := range x.shards {
				n += len(x.current(s))
			}
		}
		return object{"count": n, "_shards": counts}, nil
	case "_stats":
		return c.stats(found, q), nil
	case "_alias":
		return c.listAliases(found, more)
	case "_block":
		answers := []object{}
		for _, x := range found {
			x.settings["index.blocks."+more] = "true"
			answers = append(answers, object{"name": x.name, "blocked": true})
		}
		return object{"acknowledged": true, "shards_acknowledged": true, "indices": answers}, nil
	case "_settings":
		return c.handleSettings(q, found)
	case "_mapping":
		return c.handleMapping(q, found)
	case "_search_shards":
		s := found[0].shardOf("", q.query.Get("routing"))
		return object{"shards": []any{[]any{object{"shard": slices.Index(found[0].shards, s)}}}}, nil
	}
	return nil, fail(400, "illegal_argument_exception", "no handler found for uri [/%s/%s]", list, what)
}

func (c *Cluster) handleWhole(q *request, list string) (any, error) {
	switch q.method {
	case http.MethodPut:
		var v struct {
			Settings, Mappings, Aliases map[string]any
		}
		if err := q.decode(&v); err != nil {
			return nil, err
		}
		x, err := c.create(list, func(x *index) {
			maps.Copy(x.settings, texts(v.Settings))
			if len(v.Mappings) > 0 {
				merge(&x.mappings, v.Mappings)
			}
			for a, def := range v.Aliases {
				x.aliases[a] = def
			}
		})
		if err != nil {
			return nil, err
		}
		return object{"acknowledged": true, "shards_acknowledged": true, "index": x.name}, nil
	case http.MethodDelete:
		found, err := q.indicesOf(list)
		if err != nil {
			return nil, err
		}
		for _, x := range found {
			if x.stream != "" && c.streams[x.stream] != nil && !c.streams[x.stream].let(x.name) {
				return nil, fail(400, "illegal_argument_exception",
					"index [%s] is the write index for data stream [%s] and "+
						"cannot be deleted", x.name, x.stream)
			}
			delete(c.indices, x.name)
		}
		return object{"acknowledged": true}, nil
	}
	found, err := q.indicesOf(list)
	if err != nil {
		return nil, err
	}
	out := object{}
	for _, x := range found {
		out[x.name] = object{"aliases": x.aliases, "mappings": x.mappings, "settings": x.settings}
	}
	return out, nil
}

// create makes an index: what templates say first, then what define adds.
func (c *Cluster) create(name string, define func(*index)) (*index, error) {
	if c.indices[name] != nil {
		return nil, fail(400, "resource_already_exists_exception", "index [%s/%s] already exists", name,
			c.indices[name].uuid)
	}
	for _, x := range c.indices {
		if _, ok := x.aliases[name]; ok {
			return nil, fail(400, "invalid_index_name_exception", "Invalid index name [%s], already exists as alias",
				name)
		}
	}
	if strings.ToLower(name) != name || strings.ContainsAny(name, `\/*?"<>| ,#`) ||
		strings.ContainsAny(name[:1], "_-+") {
		return nil, fail(400, "invalid_index_name_exception", "Invalid index name [%s]", name)
	}
	x := &index{name: name, uuid: newID(), made: time.Now(), settings: map[string]any{}, mappings: map[string]any{},
		aliases: map[string]any{}}
	if err := c.applyTemplates(x); err != nil {
		return nil, err
	}
	if define != nil {
		define(x)
	}
	for k, v := range map[string]string{"index.number_of_shards": "1", "index.number_of_replicas": "1"} {
		if x.settings[k] == nil {
			x.settings[k] = v
		}
	}
	maps.DeleteFunc(x.settings, func(_ string, v any) bool { return v == nil })
	delete(x.settings, "index.number_of_routing_shards")
	x.settings["index.uuid"], x.settings["index.provided_name"] = x.uuid, name
	x.settings["index.creation_date"] = strconv.FormatInt(x.made.UnixMilli(), 10)
	x.settings["index.version.created"] = "136408127"
	n, err := strconv.Atoi(x.text("index.number_of_shards"))
	if err != nil || n < 1 || n > 64 {
		return nil, fail(400, "illegal_argument_exception",
			"Failed to parse value for setting [index.number_of_shards]")
	}
	for range n {
		x.shards = append(x.shards, newShard())
	}
	c.indices[name] = x
	return x, nil
}

// applyTemplates takes the index template of the highest priority that fits, with its
// component templates; without one, all legacy templates that fit, by order.
func (c *Cluster) applyTemplates(x *index) error {
	best := c.templateOf(x.name)
	put := func(v any) {
		t, _ := v.(map[string]any)
		if s, ok := t["settings"].(map[string]any); ok {
			maps.Copy(x.settings, texts(s))
		}
		if m, ok := t["mappings"].(map[string]any); ok {
			merge(&x.mappings, m)
		}
		if a, ok := t["aliases"].(map[string]any); ok {
			maps.Copy(x.aliases, a)
		}
	}
	if best != nil {
		parts, _ := best["composed_of"].([]any)
		for _, p := range parts {
			comp, _ := c.defined["_component_template"][fmt.Sprint(p)].(map[string]any)
			put(comp["template"])
		}
		put(best["template"])
		return nil
	}
	var old []map[string]any
	for _, v := range c.defined["_template"] {
		if t, ok := v.(map[string]any); ok && fitsAny(t["index_patterns"], x.name) {
			old = append(old, t)
		}
	}
	slices.SortFunc(old, func(a, b map[string]any) int { return cmp.Compare(number(a["order"]), number(b["order"])) })
	for _, t := range old {
		put(t)
	}
	return nil
}

// templateOf returns the index template that wins for a name.
func (c *Cluster) templateOf(name string) (best map[string]any) {
	for _, v := range c.defined["_index_template"] {
		t, _ := v.(map[string]any)
		if fitsAny(t["index_patterns"], name) && (best == nil || number(t["priority"]) > number(best["priority"])) {
			best = t
		}
	}
	return best
}

func number(v any) int64 {
	n, _ := strconv.ParseInt(fmt.Sprint(v), 10, 64)
	return n
}

func fitsAny(patterns any, name string) bool {
	l, _ := patterns.([]any)
	return slices.ContainsFunc(l, func(p any) bool { ok, _ := path.Match(fmt.Sprint(p), name); return ok })
}

// merge adds mappings to those that are there.
func merge(to *map[string]any, from map[string]any) {
	if *to == nil {
		*to = map[string]any{}
	}
	for k, v := range from {
		sub, ok := v.(map[string]any)
		have, there := (*to)[k].(map[string]any)
		if ok && there {
			merge(&have, sub)
			(*to)[k] = have
			continue
		}
		(*to)[k] = copied(v)
	}
}

// copied returns a value that shares nothing with another.
func copied(v any) any {
	if m, ok := v.(map[string]any); ok {
		out := map[string]any{}
		for k, x := range m {
			out[k] = copied(x)
		}
		return out
	}
	return v
}

func (c *Cluster) handleSettings(q *request, found []*index) (any, error) {
	if q.method != http.MethodPut {
		out := object{}
		for _, x := range found {
			out[x.name] = object{"settings": x.settings}
		}
		return out, nil
	}
	var v map[string]any
	if err := q.decode(&v); err != nil {
		return nil, err
	}
	for _, x := range found {
		for k, val := range texts(v) {
			switch {
			case k == "index.number_of_shards":
				return nil, fail(400, "illegal_argument_exception", "Can't update non dynamic settings [[%s]]", k)
			case val == nil:
				delete(x.settings, k)
			default:
				x.settings[k] = val
			}
		}
	}
	return object{"acknowledged": true}, nil
}

func (c *Cluster) handleMapping(q *request, found []*index) (any, error) {
	if q.method == http.MethodGet {
		out := object{}
		for _, x := range found {
			out[x.name] = object{"mappings": x.mappings}
		}
		return out, nil
	}
	var v map[string]any
	if err := q.decode(&v); err != nil {
		return nil, err
	}
	for _, x := range found {
		merge(&x.mappings, v)
	}
	return object{"acknowledged": true}, nil
}

// clone makes an index of another one that takes no writes: with its settings and
// sequence numbers, without its aliases, and with one replica.
func (c *Cluster) clone(q *request, from, to string) (any, error) {
	src := c.indices[from]
	if src == nil {
		return nil, fail(404, "index_not_found_exception", "no such index [%s]", from)
	}
	if src.text("index.blocks.write") != "true" {
		return nil, fail(500, "illegal_state_exception", "index %s must be read-only to resize index. use "+
			`"index.blocks.write=true"`, from)
	}
	if c.indices[to] != nil {
		return nil, fail(400, "resource_already_exists_exception", "index [%s/%s] already exists", to,
			c.indices[to].uuid)
	}
	var v struct{ Settings, Aliases map[string]any }
	if err := q.decode(&v); err != nil {
		return nil, err
	}
	kept := c.defined
	c.defined = map[string]map[string]any{} // templates have no say
	x, err := c.create(to, func(x *index) {
		for k, s := range src.settings {
			if k != "index.uuid" && !strings.HasPrefix(k, "index.version") && k != "index.creation_date" &&
				k != "index.number_of_replicas" {
				x.settings[k] = s
			}
		}
		maps.Copy(x.settings, texts(v.Settings))
		x.settings["index.resize.source.name"], x.settings["index.resize.source.uuid"] = from, src.uuid
		x.settings["index.routing_partition_size"] = "1"
		x.mappings, _ = copied(src.mappings).(map[string]any)
		maps.Copy(x.aliases, v.Aliases)
	})
	c.defined = kept
	if err != nil {
		return nil, err
	}
	for i, s := range src.shards {
		x.shards[i].docs, x.shards[i].next, x.shards[i].dirty = maps.Clone(s.docs), s.next, true
		x.shards[i].refresh()
	}
	return object{"acknowledged": true, "shards_acknowledged": true, "index": to}, nil
}

func (c *Cluster) listAliases(found []*index, name string) (any, error) {
	if found == nil {
		found = slices.Collect(maps.Values(c.indices))
	}
	out := object{}
	for _, x := range found {
		have := map[string]any{}
		for a, v := range x.aliases {
			if name == "" || name == a {
				have[a] = v
			}
		}
		if name == "" || len(have) > 0 {
			out[x.name] = object{"aliases": have}
		}
	}
	if name != "" && len(out) == 0 {
		return object{"_http": 404, "status": 404, "error": fmt.Sprintf("alias [%s] missing", name)}, nil
	}
	return out, nil
}

// changeAliases does all of a list of actions, or none.
func (c *Cluster) changeAliases(q *request) (any, error) {
	var v struct {
		Actions []map[string]map[string]any
	}
	if err := q.decode(&v); err != nil {
		return nil, err
	}
	for _, do := range v.Actions {
		for op, a := range do {
			found, err := c.find(fmt.Sprint(a["index"]), true, false)
			if err != nil {
				return nil, err
			}
			name := fmt.Sprint(a["alias"])
			for _, x := range found {
				switch op {
				case "add":
					def := map[string]any{}
					for k, val := range a {
						if k != "index" && k != "alias" {
							def[k] = val
						}
					}
					x.aliases[name] = def
				case "remove":
					delete(x.aliases, name)
				case "remove_index":
					delete(c.indices, x.name)
				}
			}
		}
	}
	return object{"acknowledged": true}, nil
}

// handleDefined answers requests about templates, pipelines and scripts.
func (c *Cluster) handleDefined(q *request, kind, name string) (any, error) {
	all := c.defined[kind]
	switch q.method {
	case http.MethodPut, http.MethodPost:
		var v map[string]any
		if err := q.decode(&v); err != nil {
			return nil, err
		}
		if kind == "_scripts" {
			v, _ = v["script"].(map[string]any)
		}
		if all == nil {
			all = map[string]any{}
			c.defined[kind] = all
		}
		all[name] = v
		return object{"acknowledged": true}, nil
	case http.MethodDelete:
		found := false
		for _, n := range slices.Sorted(maps.Keys(all)) {
			if ok, _ := path.Match(name, n); ok {
				t, _ := all[n].(map[string]any)
				for st := range c.streams {
					if kind == "_index_template" && fitsAny(t["index_patterns"], st) {
						return nil, fail(400, "illegal_argument_exception",
							"unable to remove composable templates [%s] as they are "+
								"in use by a data streams [%s]", n, st)
					}
				}
				delete(all, n)
				found = true
			}
		}
		if !found {
			return nil, fail(404, "resource_not_found_exception", "%s [%s] missing", kind, name)
		}
		return object{"acknowledged": true}, nil
	}
	list := map[string]string{"_index_template": "index_template", "_component_template": "component_template"}
	if one := list[kind]; one != "" {
		out := []object{}
		for _, n := range slices.Sorted(maps.Keys(all)) {
			if name == "" || n == name {
				out = append(out, object{"name": n, one: all[n]})
			}
		}
		return object{one + "s": out}, nil
	}
	if all == nil {
		all = map[string]any{}
	}
	return all, nil
}
