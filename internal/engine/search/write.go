package search

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// writer implements [engine.StagingWriter], [engine.SettingsWriter],
// [engine.ClaimTable], [engine.Fitter] and [engine.Sequencer].
type writer struct {
	c      *cluster
	claims *engine.Claims

	mu      sync.Mutex
	stages  map[string]record.Namespace // what each is to become
	gap     time.Duration               // how long a name that was replaced was not there
	streams map[string]*streamWrite
}

// Writer implements [engine.Cluster].
func (c *cluster) Writer(context.Context) (engine.Writer, error) {
	return &writer{c: c, stages: map[string]record.Namespace{}, streams: map[string]*streamWrite{}}, nil
}

// asStage are the settings of a stage: it is quick to write, out of sight of searches
// over patterns, and nothing changes what is written to it. An index gets its own when
// it takes its name.
var asStage = map[string]any{
	"index.number_of_replicas": "0", "index.auto_expand_replicas": "false", "index.refresh_interval": "-1",
	"index.default_pipeline": "_none", "index.final_pipeline": "_none", "index.hidden": "true",
	"index.search.default_pipeline": nil,
}

// onlyPublished reports whether a setting is not that of a stage: blocks, which would
// keep it from being written, where shards lie, and what has a server change or remove
// an index by itself.
func onlyPublished(name string) bool {
	if _, ok := asStage[name]; ok {
		return true
	}
	return placement(name) || strings.HasPrefix(name, "index.blocks.") || strings.HasPrefix(name, "index.lifecycle.") ||
		strings.HasPrefix(name, "index.plugins.index_state_management.") ||
		strings.HasPrefix(name, "index.opendistro.index_state_management.") || name == "index.search.default_pipeline"
}

// Stage implements [engine.StagingWriter].
func (w *writer) Stage(ctx context.Context, ns record.Namespace) (record.Namespace, error) {
	if ns.Kind == streamKind {
		return w.planStream(ctx, ns)
	}
	id := make([]byte, 6)
	_, _ = rand.Read(id) // never fails, by its contract
	stage := stagePrefix + hex.EncodeToString(id)
	if err := w.claims.Add(ctx, stage); err != nil {
		return record.Namespace{}, err
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return record.Namespace{}, err
	}
	settings := maps.Clone(asStage)
	for k, v := range d.Settings {
		if !onlyPublished(k) {
			settings[k] = v
		}
	}
	maps.DeleteFunc(settings, func(_ string, v any) bool { return v == nil })
	if d.RoutingShards > 0 {
		settings["index.number_of_routing_shards"] = d.RoutingShards
	}
	release, err := w.shield(ctx, stage)
	if err != nil {
		return record.Namespace{}, w.c.fail(err)
	}
	err = w.c.do(ctx, http.MethodPut, "/"+stage, indexBody(settings, d.Mappings), nil)
	if err = errors.Join(err, release()); err != nil {
		_ = w.c.do(context.WithoutCancel(ctx), http.MethodDelete, "/"+stage, nil, nil)
		return record.Namespace{}, w.c.fail(fmt.Errorf("an index as %s is to be could not be made: %w", ns.Name, err))
	}
	w.mu.Lock()
	w.stages[stage] = ns
	w.mu.Unlock()
	return w.CurrentNamespace(ctx, stage)
}

func indexBody(settings, mappings map[string]any) map[string]any {
	body := map[string]any{"settings": settings}
	if len(mappings) > 0 {
		body["mappings"] = mappings
	}
	return body
}

// shield keeps templates from having a say in an index that is being made: where one
// fits its name, a template of its own and of the highest priority takes their place
// until release.
func (w *writer) shield(ctx context.Context, name string) (release func() error, err error) {
	nothing := func() error { return nil }
	fits, err := w.templateFits(ctx, name)
	if err != nil || !fits {
		return nothing, err
	}
	path := "/_index_template/" + name
	err = w.c.do(ctx, http.MethodPut, path, map[string]any{"index_patterns": []string{name},
		"priority": 1 << 52, "template": map[string]any{}}, nil)
	if err != nil {
		return nothing, fmt.Errorf("a template of this cluster would alter what is restored, and keeping it from that "+
			"needs the privilege to make templates: %w", err)
	}
	return func() error {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askTime)
		defer cancel()
		return w.c.do(ctx, http.MethodDelete, path, nil, nil)
	}, nil
}

// templateFits reports whether a template of any kind fits a name.
func (w *writer) templateFits(ctx context.Context, name string) (bool, error) {
	var old map[string]struct {
		Patterns []string `json:"index_patterns"`
	}
	if err := w.c.get(ctx, "/_template", &old); err != nil && !is(err, http.StatusNotFound) {
		return false, err
	}
	var list struct {
		Templates []struct {
			Template struct {
				Patterns []string `json:"index_patterns"`
			} `json:"index_template"`
		} `json:"index_templates"`
	}
	if err := w.c.get(ctx, "/_index_template", &list); err != nil && !is(err, http.StatusNotFound) {
		return false, err
	}
	var all []string
	for _, t := range old {
		all = append(all, t.Patterns...)
	}
	for _, t := range list.Templates {
		all = append(all, t.Template.Patterns...)
	}
	return slices.ContainsFunc(all, func(p string) bool { return fitsPattern(p, name) }), nil
}

// fitsPattern reports whether a name fits a pattern of servers, in which * stands for
// anything.
func fitsPattern(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if !strings.HasPrefix(name, parts[0]) {
		return false
	}
	if len(parts) == 1 {
		return pattern == name
	}
	rest := name[len(parts[0]):]
	for _, p := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, p)
		if i < 0 {
			return false
		}
		rest = rest[i+len(p):]
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}

// CurrentNamespace implements [engine.StagingWriter]. A stage is shown with those
// settings and aliases that it gets when it takes its name: the ones it has until then
// are its own.
func (w *writer) CurrentNamespace(ctx context.Context, name string) (record.Namespace, error) {
	w.mu.Lock()
	to, staged := w.stages[name]
	st := w.streams[name]
	w.mu.Unlock()
	names := []string{name}
	if st != nil || to.Kind == streamKind {
		names = nil
	}
	s, err := w.c.readState(ctx, names...)
	if err != nil {
		return record.Namespace{}, w.c.fail(err)
	}
	if s.indices[name] == nil && s.streams[name] == nil {
		if s, err = w.c.readState(ctx); err != nil { // a data stream is not found by its name alone
			return record.Namespace{}, w.c.fail(err)
		}
		if s.streams[name] == nil {
			return record.Namespace{}, fmt.Errorf("cluster %s has no index %s: %w", w.c.t.Name, name, engine.ErrMoved)
		}
	}
	ns := w.c.namespace(s, name).Namespace
	if !staged {
		return ns, nil
	}
	have, err := decodeDefinition(ns.Definition)
	if err != nil {
		return ns, err
	}
	want, err := decodeDefinition(to.Definition)
	if err != nil {
		return ns, err
	}
	maps.DeleteFunc(have.Settings, func(k string, _ any) bool { return onlyPublished(k) })
	for k, v := range want.Settings {
		if onlyPublished(k) {
			have.Settings[k] = v
		}
	}
	have.Aliases = want.Aliases
	ns.Definition = have.encode()
	return ns, nil
}

// Index implements [engine.StagingWriter]: an index is made with all that its
// definition asks for, a data stream is completed.
func (w *writer) Index(ctx context.Context, stage string, _ record.Namespace) error {
	w.mu.Lock()
	st := w.streams[stage]
	w.mu.Unlock()
	if st == nil {
		return nil
	}
	return w.c.fail(st.complete(ctx))
}

// Count implements [engine.StagingWriter].
func (w *writer) Count(ctx context.Context, name string) (int64, error) {
	path := "/" + url.PathEscape(name)
	var ans struct {
		Count  int64
		Shards *shardCounts `json:"_shards"`
	}
	err := w.c.repeat(ctx, http.MethodPost, path+"/_refresh", nil, &ans)
	if err == nil {
		err = ans.Shards.whole("showing what was written")
	}
	if err == nil {
		if err = w.c.get(ctx, path+"/_count", &ans); err == nil {
			err = ans.Shards.whole("counting documents")
		}
	}
	return ans.Count, w.c.fail(err)
}

// Replaceable implements [engine.StagingWriter].
func (w *writer) Replaceable(ns record.Namespace) error {
	if ns.Kind == streamKind {
		return engine.ErrNotReplaceable
	}
	return nil
}

// KeepsIdentity implements [engine.StagingWriter]: an index under its name is a clone
// of the stage.
func (w *writer) KeepsIdentity(record.Namespace) bool { return false }

// Trusted implements [engine.StagingWriter].
func (w *writer) Trusted(context.Context) bool { return false }

// View implements [engine.StagingWriter].
func (w *writer) View(context.Context, record.Namespace, bool) error {
	return errors.New("search clusters have no views")
}

// Discard implements [engine.StagingWriter]. A stage that bears a name is what
// applications see, and stays.
func (w *writer) Discard(ctx context.Context, stage string) error {
	if !(model{}).Staged(stage) {
		return fmt.Errorf("%s is no stage", stage)
	}
	var bears map[string]struct{ Aliases map[string]json.RawMessage }
	if err := w.c.get(ctx, "/"+stage+"/_alias", &bears); err == nil && len(bears[stage].Aliases) > 0 {
		return fmt.Errorf("%s stays: it is in use as %s", stage,
			strings.Join(slices.Sorted(maps.Keys(bears[stage].Aliases)), ", "))
	}
	return w.remove(ctx, stage)
}

// remove deletes a stage and ends the claim to it.
func (w *writer) remove(ctx context.Context, stage string) error {
	err := w.c.do(ctx, http.MethodDelete, "/"+stage, nil, nil)
	if err != nil && !is(err, http.StatusNotFound) {
		return w.c.fail(err)
	}
	w.mu.Lock()
	delete(w.stages, stage)
	w.mu.Unlock()
	if w.claims == nil {
		_, err := w.swapAway(ctx, stage)
		return err
	}
	if err := w.claims.End(ctx, stage); err != nil {
		return err
	}
	_, err = w.swapAway(ctx, stage)
	return err
}

// swapAway takes away the mark of a stage of a process that is gone.
func (w *writer) swapAway(ctx context.Context, stage string) (bool, error) {
	was, err := w.Claim(ctx, stage)
	if err != nil || was == "" || !engine.CutShort(was) {
		return false, err
	}
	return w.SwapClaim(ctx, stage, was, "")
}

// RemoveNamespace implements [engine.NamespaceRemover].
func (w *writer) RemoveNamespace(ctx context.Context, ns record.Namespace) error {
	path := "/" + url.PathEscape(ns.Name)
	if ns.Kind == streamKind {
		path = "/_data_stream" + path
	}
	if err := w.c.do(ctx, http.MethodDelete, path, nil, nil); err != nil && !is(err, http.StatusNotFound) {
		return w.c.fail(err)
	}
	return nil
}
