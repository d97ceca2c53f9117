package search

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// Publish implements [engine.StagingWriter]. Servers cannot rename an index: the name
// is given to a clone of the stage, which shares its files and is there within the
// second. An index that is replaced is deleted just before, and the time without the
// name is told. Should the clone fail then, the name is given to the stage as an alias.
func (w *writer) Publish(ctx context.Context, stage, name string, replace bool) error {
	w.mu.Lock()
	ns, ok := w.stages[stage]
	w.mu.Unlock()
	if !ok {
		var err error
		if ns, err = w.CurrentNamespace(ctx, stage); err != nil {
			return err
		}
	}
	return w.c.fail(w.publish(ctx, ns, stage, name, replace))
}

func (w *writer) publish(ctx context.Context, ns record.Namespace, stage, name string, replace bool) error {
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return err
	}
	s, err := w.c.readState(ctx, name)
	if err != nil {
		return err
	}
	there := s.indices[name] != nil
	if there && !replace {
		return fmt.Errorf("%s is there already", name)
	}
	var ans struct {
		Acknowledged bool
		Shards       bool `json:"shards_acknowledged"`
	}
	err = w.c.repeat(ctx, http.MethodPut, "/"+stage+"/_settings", map[string]any{"index.blocks.write": true}, nil)
	if err != nil {
		return fmt.Errorf("preparing %s to be cloned: %w", stage, err)
	}
	settings := map[string]any{"index.blocks.write": nil}
	for k, v := range asStage {
		if v != nil { // else the stage was made without it, and servers may not know it
			settings[k] = nil
		}
	}
	last := map[string]any{}
	for k, v := range d.Settings {
		switch {
		case strings.HasPrefix(k, "index.blocks."):
			last[k] = v
		case onlyPublished(k):
			settings[k] = v
		}
	}
	body := map[string]any{"settings": settings}
	if len(d.Aliases) > 0 {
		body["aliases"] = d.Aliases
	}
	if there {
		if err := w.tryClone(ctx, stage, settings); err != nil {
			return fmt.Errorf("%s cannot take the place of %s, which stays as it is: %w", stage, name, err)
		}
	}
	begin := time.Now()
	if there {
		if err := w.c.do(ctx, http.MethodDelete, "/"+url.PathEscape(name), nil, nil); err != nil {
			return fmt.Errorf("removing the index that is replaced: %w", err)
		}
	}
	// From here on nothing shall be left half done because somebody has lost patience.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Minute)
	defer cancel()
	clone := "/" + stage + "/_clone/" + url.PathEscape(name) + "?wait_for_active_shards=1&timeout=60s"
	for try := 1; ; try++ {
		err = w.c.do(ctx, http.MethodPut, clone, body, &ans)
		if err == nil || !there || try == 4 || is(err, http.StatusBadRequest) {
			break
		}
		_ = wait.For(ctx, time.Duration(try)*300*time.Millisecond)
		if is(err, 0, "resource_already_exists_exception") {
			break
		}
	}
	if err != nil && there {
		return errors.Join(fmt.Errorf("%s was removed and a clone of %s could not take its name: %w", name, stage, err),
			w.asAlias(ctx, stage, name, d, settings))
	}
	if err != nil {
		return fmt.Errorf("cloning %s: %w", stage, err)
	}
	if !ans.Shards {
		err = w.c.get(ctx, "/_cluster/health/"+url.PathEscape(name)+"?wait_for_status=yellow&timeout=60s", nil)
		if err != nil {
			return fmt.Errorf("waiting for %s: %w", name, err)
		}
	}
	if there {
		w.without(time.Since(begin))
	}
	// A clone keeps the nulls that it was given; set again, they are gone.
	for k, v := range settings {
		if v == nil && last[k] == nil {
			last[k] = nil
		}
	}
	if len(last) > 0 {
		err = w.c.repeat(ctx, http.MethodPut, "/"+url.PathEscape(name)+"/_settings", last, nil)
		if err != nil {
			return fmt.Errorf("giving %s its own settings: %w", name, err)
		}
	}
	return w.remove(ctx, stage)
}

// tryClone clones a stage as it will be, under another name and out of sight: what keeps
// servers from that is found out while the index that is replaced is still there.
func (w *writer) tryClone(ctx context.Context, stage string, settings map[string]any) error {
	try := stage + "-trial"
	if w.claims != nil {
		if err := w.claims.Add(ctx, try); err != nil {
			return err
		}
	}
	settings = maps.Clone(settings)
	settings["index.hidden"], settings["index.number_of_replicas"] = "true", "0"
	err := w.c.do(ctx, http.MethodPut, "/"+stage+"/_clone/"+try+"?wait_for_active_shards=1&timeout=60s",
		map[string]any{"settings": settings}, nil)
	return errors.Join(err, w.remove(context.WithoutCancel(ctx), try))
}

// asAlias has a stage serve under a name whose index is gone.
func (w *writer) asAlias(ctx context.Context, stage, name string, d *definition, settings map[string]any) error {
	settings = maps.Clone(settings)
	delete(settings, "index.hidden")
	err := w.c.do(ctx, http.MethodPut, "/"+stage+"/_settings", settings, nil)
	actions := []any{map[string]any{"add": map[string]any{"index": stage, "alias": name, "is_write_index": true}}}
	for _, a := range slices.Sorted(maps.Keys(d.Aliases)) {
		add := map[string]any{"index": stage, "alias": a}
		if m, ok := d.Aliases[a].(map[string]any); ok {
			maps.Copy(add, m)
		}
		actions = append(actions, map[string]any{"add": add})
	}
	err = errors.Join(err, w.c.do(ctx, http.MethodPost, "/_aliases", map[string]any{"actions": actions}, nil))
	if err != nil {
		return fmt.Errorf(
			"nor could the name be given to the stage: the content is in %s, which must not be deleted: %w",
			stage, err)
	}
	return fmt.Errorf("%s is an alias of %s for now, which has the content; restore it again when there is room", name,
		stage)
}

// StageInPlace implements [engine.StagingWriter].
func (w *writer) StageInPlace(ctx context.Context, ns record.Namespace, replace bool) (record.Namespace, error) {
	if ns.Kind != streamKind {
		return record.Namespace{}, fmt.Errorf("%s is no data stream", ns.Name)
	}
	made, err := w.makeStream(ctx, ns, replace)
	return made, w.c.fail(err)
}

// without notes how long a name was not there.
func (w *writer) without(d time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.gap = d
}

// Without implements [engine.GapTeller].
func (w *writer) Without() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.gap
}

// Fit implements [engine.Fitter]. Aliases of an index that is restored under another
// name would have searches find its documents twice; one index of an alias takes its
// writes.
func (w *writer) Fit(ctx context.Context, ns record.Namespace, from string, chosen map[string]string) (
	engine.Fitted, error) {
	if ns.Kind == streamKind {
		return engine.Fitted{Definition: ns.Definition, Rewrite: asFirstVersion}, nil
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return engine.Fitted{}, err
	}
	var notes []string
	how := chosen[aliasesOption.Name]
	if n := len(d.Aliases); n > 0 && (how == "never" || (how == "" || how == "own-name") && ns.Name != from) {
		notes = append(notes, fmt.Sprintf("%s is restored without its aliases (%s)", ns.Name,
			strings.Join(slices.Sorted(maps.Keys(d.Aliases)), ", ")))
		d.Aliases = nil
	}
	for _, a := range slices.Sorted(maps.Keys(d.Aliases)) {
		m, _ := d.Aliases[a].(map[string]any)
		if writes, _ := m["is_write_index"].(bool); !writes {
			continue
		}
		other, err := w.writeIndexOf(ctx, a, ns.Name)
		if err != nil {
			return engine.Fitted{}, w.c.fail(err)
		}
		if other != "" {
			m["is_write_index"] = false
			notes = append(notes, fmt.Sprintf("alias %s writes to %s now, and goes on doing so", a, other))
		}
	}
	here, err := w.unknownPlaces(ctx, d)
	if err != nil {
		return engine.Fitted{}, w.c.fail(err)
	}
	for _, k := range here {
		notes = append(notes, fmt.Sprintf("%s is restored without %s: no node here has %q", ns.Name, k, d.text(k)))
		delete(d.Settings, k)
	}
	return engine.Fitted{Definition: d.encode(), Notes: notes}, nil
}

// asFirstVersion returns a record as a data stream takes it.
func asFirstVersion(value []byte) (out []byte, note string) {
	d, err := readValue(value)
	if err != nil || d.Version == 1 {
		return value, ""
	}
	d.Version = 1
	return d.appendValue(nil), "restored as version 1: data streams take no other"
}

// writeIndexOf returns the index that takes the writes of an alias, if it is another
// one.
func (w *writer) writeIndexOf(ctx context.Context, alias, name string) (string, error) {
	var v map[string]struct {
		Aliases map[string]struct {
			Writes bool `json:"is_write_index"`
		}
	}
	err := w.c.get(ctx, "/_alias/"+url.PathEscape(alias), &v)
	if is(err, http.StatusNotFound) {
		return "", nil
	}
	for index, a := range v {
		if a.Aliases[alias].Writes && index != name {
			return index, err
		}
	}
	return "", err
}

// unknownPlaces returns the settings that ask for nodes of a kind that this cluster
// has none of.
func (w *writer) unknownPlaces(ctx context.Context, d *definition) ([]string, error) {
	var asked []string
	for k := range d.Settings {
		rest, ok := strings.CutPrefix(k, "index.routing.allocation.")
		if ok && (strings.HasPrefix(rest, "require.") || strings.HasPrefix(rest, "include.")) {
			asked = append(asked, k)
		}
	}
	if len(asked) == 0 {
		return nil, nil
	}
	var v struct {
		Nodes map[string]struct {
			Name       string
			Attributes map[string]string
		}
	}
	if err := w.c.get(ctx, "/_nodes/http", &v); err != nil {
		return nil, err
	}
	var out []string
	slices.Sort(asked)
	for _, k := range asked {
		attr := k[strings.LastIndex(k, ".allocation.")+len(".allocation.require."):]
		found := strings.HasPrefix(attr, "_") && attr != "_name"
		for want := range strings.SplitSeq(d.text(k), ",") {
			for _, n := range v.Nodes {
				has := n.Attributes[attr]
				if attr == "_name" {
					has = n.Name
				}
				found = found || fitsPattern(strings.TrimSpace(want), has)
			}
		}
		if !found {
			out = append(out, k)
		}
	}
	return out, nil
}
