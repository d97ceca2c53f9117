package search

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// definedValue is a record of what is defined for a whole cluster.
type definedValue struct {
	Name       string `json:"name"`
	Definition any    `json:"definition"`
}

// wide is a kind of definition of a whole cluster: how all of them are had, and how one
// is put.
type wide struct {
	name string
	list func(ctx context.Context, c *cluster) (map[string]any, error)
	put  func(name string, def any) (path string, body any)
}

// wides are in the order in which they can be put: index templates refer to component
// templates.
var wides = []wide{
	{"_cluster_settings", listClusterSettings, func(name string, def any) (string, any) {
		return "/_cluster/settings", map[string]any{"persistent": map[string]any{name: def}}
	}},
	{"_component_template", listNamed("/_component_template", "component_templates", "component_template"),
		putAt("/_component_template/")},
	{"_index_template", listNamed("/_index_template", "index_templates", "index_template"), putAt("/_index_template/")},
	{"_ingest_pipeline", listMap("/_ingest/pipeline"), putAt("/_ingest/pipeline/")},
	{"_script", listScripts, func(name string, def any) (string, any) {
		return "/_scripts/" + url.PathEscape(name), map[string]any{"script": def}
	}},
	{"_search_pipeline", listMap("/_search/pipeline"), putAt("/_search/pipeline/")},
	{"_template", listMap("/_template"), putAt("/_template/")},
}

func putAt(path string) func(string, any) (string, any) {
	return func(name string, def any) (string, any) { return path + url.PathEscape(name), def }
}

// lacking reports whether an error says that there is nothing of a kind, or that the
// servers do not know the kind.
func lacking(err error) bool {
	return is(err, http.StatusNotFound) || is(err, http.StatusBadRequest) || is(err, http.StatusMethodNotAllowed)
}

func listMap(path string) func(context.Context, *cluster) (map[string]any, error) {
	return func(ctx context.Context, c *cluster) (out map[string]any, err error) {
		if err = c.get(ctx, path, &out); lacking(err) {
			return nil, nil
		}
		return out, err
	}
}

func listNamed(path, list, one string) func(context.Context, *cluster) (map[string]any, error) {
	return func(ctx context.Context, c *cluster) (map[string]any, error) {
		var v map[string][]map[string]any
		if err := c.get(ctx, path, &v); lacking(err) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
		out := map[string]any{}
		for _, t := range v[list] {
			if name, ok := t["name"].(string); ok && !strings.HasPrefix(name, stagePrefix) {
				out[name] = t[one]
			}
		}
		return out, nil
	}
}

func listClusterSettings(ctx context.Context, c *cluster) (map[string]any, error) {
	var v struct{ Persistent map[string]any }
	err := c.get(ctx, "/_cluster/settings?flat_settings=true", &v)
	return v.Persistent, err
}

// listScripts reads scripts from the state: nothing else lists them.
func listScripts(ctx context.Context, c *cluster) (map[string]any, error) {
	var v struct {
		Metadata struct {
			Scripts map[string]any `json:"stored_scripts"`
		}
	}
	err := c.get(ctx, "/_cluster/state/metadata?filter_path=metadata.stored_scripts", &v)
	return v.Metadata.Scripts, err
}

// clusterWide lists what is defined for the whole cluster as namespaces.
func (c *cluster) clusterWide(ctx context.Context) ([]engine.Namespace, error) {
	var out []engine.Namespace
	for _, w := range wides {
		ns := engine.Namespace{Namespace: record.Namespace{Name: w.name, Kind: record.KindSettings}}
		all, err := w.list(ctx, c)
		if err != nil {
			ns.Skip = err.Error()
		}
		if ns.Records = int64(len(all)); ns.Records > 0 || err != nil {
			out = append(out, ns)
		}
	}
	return out, nil
}

func (c *cluster) scanClusterWide(ctx context.Context, name string, fn func(record.Record) error) error {
	for _, w := range wides {
		if w.name != name {
			continue
		}
		all, err := w.list(ctx, c)
		if err != nil {
			return err
		}
		for _, n := range slices.Sorted(maps.Keys(all)) {
			v, err := encodeJSON(definedValue{n, all[n]})
			if err != nil {
				return err
			}
			if err := fn(record.Record{Key: []byte(n), Value: v}); err != nil {
				return err
			}
		}
	}
	return nil
}

// PutSetting implements [engine.SettingsWriter].
func (w *writer) PutSetting(ctx context.Context, ns record.Namespace, rec record.Record, replace bool) (
	engine.Outcome, error) {
	i := slices.IndexFunc(wides, func(k wide) bool { return k.name == ns.Name })
	if i < 0 {
		return "", fmt.Errorf("%s is no setting of a search cluster", ns.Name)
	}
	var v definedValue
	d := json.NewDecoder(strings.NewReader(string(rec.Value)))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return "", fmt.Errorf("a record of %s: %w", ns.Name, err)
	}
	all, err := wides[i].list(ctx, w.c)
	if err != nil {
		return "", w.c.fail(err)
	}
	did := engine.Created
	if now, ok := all[v.Name]; ok {
		b, err := encodeJSON(definedValue{v.Name, now})
		switch {
		case err == nil && string(b) == string(rec.Value):
			return engine.Unchanged, nil
		case !replace:
			return engine.KeptExisting, nil
		}
		did = engine.Replaced
	}
	path, body := wides[i].put(v.Name, v.Definition)
	if err := w.c.do(ctx, http.MethodPut, path, body, nil); err != nil {
		return "", w.c.fail(fmt.Errorf("%s of %s: %w", v.Name, ns.Name, err))
	}
	return did, nil
}
