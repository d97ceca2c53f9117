package search

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"sync"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// streamWrite is a data stream that is being restored. Documents get into it only
// through its newest index, so its generations are written one after the other, and
// those that were gone are deleted at the end. The index of each is made as it was by
// a template of Dexamen's own, which goes when the stream is complete.
type streamWrite struct {
	w    *writer
	name string
	def  *definition

	mu      sync.Mutex
	at      int64            // the newest generation
	indices map[int64]string // by generation
	shield  string           // the template's name; empty when it is gone
}

// planStream refuses to stage a data stream: it is written under its own name.
func (w *writer) planStream(context.Context, record.Namespace) (record.Namespace, error) {
	return record.Namespace{}, fmt.Errorf("%w: documents of a data stream are written through it", engine.ErrNoRename)
}

// InOrder implements [engine.Sequencer].
func (w *writer) InOrder(ns record.Namespace) bool { return ns.Kind == streamKind }

// streamTemplateFits reports whether there is a template by which a data stream of a
// name can be made.
func (w *writer) streamTemplateFits(ctx context.Context, name string) (bool, error) {
	var list struct {
		Templates []struct {
			Template struct {
				Patterns []string `json:"index_patterns"`
				Stream   any      `json:"data_stream"`
			} `json:"index_template"`
		} `json:"index_templates"`
	}
	if err := w.c.get(ctx, "/_index_template", &list); err != nil && !is(err, http.StatusNotFound) {
		return false, err
	}
	for _, t := range list.Templates {
		fits := slices.ContainsFunc(t.Template.Patterns, func(p string) bool { return fitsPattern(p, name) })
		if fits && t.Template.Stream != nil {
			return true, nil
		}
	}
	return false, nil
}

// makeStream makes an empty data stream.
func (w *writer) makeStream(ctx context.Context, ns record.Namespace, replace bool) (record.Namespace, error) {
	if replace {
		return ns, fmt.Errorf("%s: %w", ns.Name, engine.ErrNotReplaceable)
	}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return ns, err
	}
	fits, err := w.streamTemplateFits(ctx, ns.Name)
	if err != nil {
		return ns, err
	}
	if !fits {
		return ns, fmt.Errorf(
			"%s is a data stream, and this cluster has no index template with data_stream whose pattern "+
				"fits it: restore the templates with it (--cluster-wide), or make one", ns.Name)
	}
	st := &streamWrite{w: w, name: ns.Name, def: d, indices: map[int64]string{}, shield: "dexamen-" + ns.Name}
	err = st.protect(ctx, 1)
	if err == nil {
		err = w.c.do(ctx, http.MethodPut, "/_data_stream/"+url.PathEscape(ns.Name), nil, nil)
	}
	if err == nil {
		err = st.look(ctx)
	}
	if err != nil {
		return ns, errors.Join(err, st.unprotect(ctx))
	}
	w.mu.Lock()
	w.streams[ns.Name] = st
	w.mu.Unlock()
	return w.CurrentNamespace(ctx, ns.Name)
}

// generations returns the generations that there were, in order.
func (st *streamWrite) generations() (out []int64) {
	for _, g := range slices.Sorted(maps.Keys(st.def.Generations)) {
		if n, err := strconv.ParseInt(g, 10, 64); err == nil {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// protect has the index of the next generation made as it was.
func (st *streamWrite) protect(ctx context.Context, gen int64) error {
	all := st.generations()
	if len(all) == 0 {
		return fmt.Errorf("data stream %s has no index", st.name)
	}
	i, _ := slices.BinarySearch(all, gen) // one that is gone is made as the one after it
	def := st.def.Generations[fmt.Sprintf("%06d", all[min(i, len(all)-1)])]
	settings := maps.Clone(def.Settings)
	maps.DeleteFunc(settings, func(k string, _ any) bool {
		return k == "index.hidden" || onlyPublished(k) && asStage[k] == nil
	})
	template := indexBody(settings, def.Mappings)
	template["settings"].(map[string]any)["index.default_pipeline"] = "_none"
	template["settings"].(map[string]any)["index.final_pipeline"] = "_none"
	return st.w.c.do(ctx, http.MethodPut, "/_index_template/"+url.PathEscape(st.shield), map[string]any{
		"index_patterns": []string{st.name}, "priority": 1 << 52, "template": template,
		"data_stream": map[string]any{"timestamp_field": map[string]any{"name": st.def.Timestamp}}}, nil)
}

// unprotect takes the template away. One whose pattern fits a stream cannot be deleted:
// it gets a pattern that fits none first.
func (st *streamWrite) unprotect(ctx context.Context) error {
	if st.shield == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askTime)
	defer cancel()
	path := "/_index_template/" + url.PathEscape(st.shield)
	err := st.w.c.do(ctx, http.MethodPut, path, map[string]any{"index_patterns": []string{stagePrefix + st.name},
		"priority": 0, "template": map[string]any{}}, nil)
	if err == nil {
		err = st.w.c.do(ctx, http.MethodDelete, path, nil, nil)
	}
	if err != nil && !is(err, http.StatusNotFound) {
		return fmt.Errorf("the index template %s, made for the restore, could not be removed: %w", st.shield, err)
	}
	st.shield = ""
	return nil
}

// look asks which indices the stream has.
func (st *streamWrite) look(ctx context.Context) error {
	s, err := st.w.c.readState(ctx)
	if err != nil {
		return err
	}
	now := s.streams[st.name]
	if now == nil {
		return fmt.Errorf("data stream %s is not there", st.name)
	}
	for _, i := range now.Indices {
		g := generation(i.Name)
		st.indices[g] = i.Name
		st.at = max(st.at, g)
	}
	return nil
}

// advance makes generations up to one.
func (st *streamWrite) advance(ctx context.Context, gen int64) error {
	if gen < st.at {
		return fmt.Errorf("documents of generation %d of %s come after those of generation %d", gen, st.name, st.at)
	}
	for st.at < gen {
		if err := st.protect(ctx, st.at+1); err != nil {
			return err
		}
		var ans struct {
			Index      string `json:"new_index"`
			RolledOver bool   `json:"rolled_over"`
		}
		err := st.w.c.do(ctx, http.MethodPost, "/"+url.PathEscape(st.name)+"/_rollover", nil, &ans)
		if err != nil {
			return err
		}
		if g := generation(ans.Index); !ans.RolledOver || g != st.at+1 {
			return fmt.Errorf("rolling over %s gave %s, and not generation %d", st.name, ans.Index, st.at+1)
		}
		st.at++
		st.indices[st.at] = ans.Index
	}
	return nil
}

// write writes documents, which come in order of their generations.
func (st *streamWrite) write(ctx context.Context, recs []record.Record) (err error) {
	st.mu.Lock()
	defer st.mu.Unlock()
	defer func() {
		if err != nil {
			err = errors.Join(err, st.unprotect(ctx))
		}
	}()
	for len(recs) > 0 {
		first, err := readValue(recs[0].Value)
		if err != nil {
			return err
		}
		n := 1
		for ; n < len(recs); n++ {
			d, err := readValue(recs[n].Value)
			if err != nil {
				return err
			}
			if d.Generation != first.Generation {
				break
			}
		}
		if err := st.advance(ctx, first.Generation); err != nil {
			return err
		}
		if err := st.w.bulk(ctx, st.name, "create", recs[:n]); err != nil {
			return err
		}
		recs = recs[n:]
	}
	return nil
}

// complete makes the generations that have no documents, deletes those that were gone,
// and gives each index the settings that it could not have while it was written.
func (st *streamWrite) complete(ctx context.Context) error {
	st.mu.Lock()
	defer st.mu.Unlock()
	all := st.generations()
	err := st.advance(ctx, all[len(all)-1])
	for g, index := range st.indices {
		if err != nil {
			break
		}
		path := "/" + url.PathEscape(index)
		if !slices.Contains(all, g) {
			err = st.w.c.do(ctx, http.MethodDelete, path, nil, nil)
			delete(st.indices, g)
			continue
		}
		settings := map[string]any{"index.default_pipeline": nil, "index.final_pipeline": nil}
		for k, v := range st.def.Generations[fmt.Sprintf("%06d", g)].Settings {
			if onlyPublished(k) && k != "index.hidden" {
				settings[k] = v
			}
		}
		err = st.w.c.do(ctx, http.MethodPut, path+"/_settings", settings, nil)
	}
	return errors.Join(err, st.unprotect(ctx))
}
