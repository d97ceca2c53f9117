package search

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"dexamen/internal/engine"
)

// claimDocument is a claim as it is kept in the index of Dexamen's own.
type claimDocument struct {
	Name  string `json:"name"`
	Claim string `json:"claim"`
}

// seenClaim is a claim with what a change of it is bound to.
type seenClaim struct {
	Found  bool
	SeqNo  int64         `json:"_seq_no"`
	Term   int64         `json:"_primary_term"`
	Source claimDocument `json:"_source"`
}

func claimPath(name string) string { return "/" + workIndex + "/_doc/" + url.PathEscape(name) }

func (w *writer) seen(ctx context.Context, name string) (seenClaim, error) {
	var v seenClaim
	err := w.c.get(ctx, claimPath(name)+"?realtime=true", &v)
	if is(err, http.StatusNotFound) {
		return seenClaim{}, nil
	}
	return v, err
}

// Claim implements [engine.ClaimTable].
func (w *writer) Claim(ctx context.Context, name string) (string, error) {
	v, err := w.seen(ctx, name)
	return v.Source.Claim, w.c.fail(err)
}

// SwapClaim implements [engine.ClaimTable].
func (w *writer) SwapClaim(ctx context.Context, name, was, now string) (bool, error) {
	v, err := w.seen(ctx, name)
	if err != nil || v.Source.Claim != was {
		return false, w.c.fail(err)
	}
	bound := "?op_type=create"
	if v.Found {
		bound = fmt.Sprintf("?if_seq_no=%d&if_primary_term=%d", v.SeqNo, v.Term)
	}
	if now == "" {
		if !v.Found {
			return true, nil
		}
		err = w.c.do(ctx, http.MethodDelete, claimPath(name)+bound, nil, nil)
	} else {
		err = w.c.do(ctx, http.MethodPut, claimPath(name)+bound, claimDocument{name, now}, nil)
	}
	if is(err, http.StatusConflict) {
		return false, nil
	}
	return err == nil, w.c.fail(err)
}

// Reserve implements [engine.Writer].
func (w *writer) Reserve(ctx context.Context, names []string) (_ *engine.Claims, err error) {
	err = w.c.do(ctx, http.MethodPut, "/"+workIndex, map[string]any{
		"settings": map[string]any{"index.hidden": true, "index.number_of_shards": 1,
			"index.number_of_replicas": 0, "index.auto_expand_replicas": "0-2"},
		"mappings": map[string]any{"dynamic": false, "_meta": map[string]any{"made_by": "dexamen"}}}, nil)
	if err != nil && !is(err, 0, "resource_already_exists_exception") {
		return nil, w.c.fail(err)
	}
	w.claims, err = engine.ClaimNames(ctx, w, names)
	return w.claims, err
}

// Stages implements [engine.Writer].
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	if err := w.c.repeat(ctx, http.MethodPost, "/"+workIndex+"/_refresh", nil, nil); is(err, http.StatusNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, w.c.fail(err)
	}
	var v struct {
		Shards *shardCounts `json:"_shards"`
		Hits   struct {
			Hits []struct {
				Source claimDocument `json:"_source"`
			}
		}
	}
	err := w.c.get(ctx, "/"+workIndex+"/_search?size=1000&allow_partial_search_results=false", &v)
	if err == nil {
		err = v.Shards.whole("looking for what was left behind")
	}
	if err != nil {
		return nil, w.c.fail(err)
	}
	var out []string
	for _, h := range v.Hits.Hits {
		if (model{}).Staged(h.Source.Name) && engine.CutShort(h.Source.Claim) {
			out = append(out, h.Source.Name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// definedName names a record of what is defined for a whole cluster.
func definedName(value []byte) (string, bool) {
	var v definedValue
	if json.Unmarshal(value, &v) != nil || v.Name == "" || v.Definition == nil {
		return "", false
	}
	return v.Name, true
}
