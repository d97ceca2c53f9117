package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/condition"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// sample is what is shown of a namespace's records.
type sample struct {
	Records []string `json:"records"`
	// Fit counts the records that fit a condition; Of those that there are.
	Fit int64 `json:"fit,omitempty"`
	Of  int64 `json:"of,omitempty"`
}

// sampled returns some records of a namespace: the first, those of a key, or those that fit a
// condition.
func sampled(ctx context.Context, c *cli.Command, m engine.Model, src tree.Source,
	s moment.NamespaceState) (sample, error) {
	out := sample{Records: []string{}}
	if !s.Kind.HasRecords() {
		return out, nil
	}
	if key := c.String("key"); key != "" {
		return recordOf(ctx, m, src, s, key)
	}
	choose, err := shown(m, c.String("files"))
	if err != nil {
		return out, err
	}
	if text := c.String("where"); text != "" {
		return fitting(ctx, c, m, src, s, text, choose)
	}
	it := tree.NewIterator(src, s.Root)
	for len(out.Records) < c.Int("show") {
		r, ok, err := it.Next(ctx)
		if err != nil || !ok {
			return out, err
		}
		if choose(r) {
			out.Records = append(out.Records, m.Render(r.Value))
		}
	}
	return out, nil
}

// recordOf returns the record that a text names, with all its parts.
func recordOf(ctx context.Context, m engine.Model, src tree.Source, s moment.NamespaceState,
	key string) (sample, error) {
	out := sample{Records: []string{}}
	ins, ok := m.(engine.Inspector)
	if !ok {
		return out, fmt.Errorf("%w: records of clusters of this kind cannot be asked for by key", run.ErrRefused)
	}
	for _, k := range ins.KeysNamed(s.Name, key) {
		for r, err := range tree.RecordsFrom(ctx, src, s.Root, k) {
			if err != nil {
				return out, err
			}
			if !engine.Named(m, r.Key, k) {
				break
			}
			out.Records = append(out.Records, m.Render(r.Value))
		}
		if len(out.Records) > 0 {
			return out, nil
		}
	}
	return out, fmt.Errorf("there is no record %s in %s", key, s.Name)
}

// fitting returns the first records that fit a condition, and counts all that do.
func fitting(ctx context.Context, c *cli.Command, m engine.Model, src tree.Source, s moment.NamespaceState, text string,
	choose func(record.Record) bool) (sample, error) {
	out := sample{Records: []string{}, Of: s.Root.Records}
	ins, ok := m.(engine.Inspector)
	if !ok {
		return out, fmt.Errorf("%w: records of clusters of this kind cannot be chosen by a condition", run.ErrRefused)
	}
	cond, err := condition.Compile(text)
	if err != nil {
		return out, usageError{err}
	}
	err = tree.Walk(ctx, src, s.Root, func(r record.Record) error {
		fields, ok, err := ins.Fields(r.Value)
		if err != nil || !ok || !choose(r) || !cond.Fits(fields) {
			return err
		}
		if out.Fit++; len(out.Records) < c.Int("show") {
			out.Records = append(out.Records, m.Render(r.Value))
		}
		return ctx.Err()
	})
	if err == nil {
		err = cond.Check()
	}
	return out, err
}

// changesSince counts what has changed in each namespace of a point since the point before.
func changesSince(ctx context.Context, e *run.Runner, p *store.Point, rows []spaceRow) (string, error) {
	points, _, err := e.Store.Points(ctx, p.Cluster)
	if err != nil {
		return "", err
	}
	var before *store.Point
	for _, q := range points {
		if q.ID < p.ID {
			before = q
		}
	}
	if before == nil || len(p.Shards) > 1 {
		return "", nil // parts on several shards move between them
	}
	was := map[string]store.PointNamespace{}
	for _, ns := range before.Namespaces {
		was[ns.Name] = ns
	}
	for i := range rows {
		r := &rows[i]
		for _, ns := range p.Namespaces {
			if ns.Name != r.Name || !ns.Kind.HasRecords() {
				continue
			}
			r.Since = &since{}
			err := tree.Diff(ctx, tree.Side{Source: e.Store, Root: was[ns.Name].Root},
				tree.Side{Source: e.Store, Root: ns.Root}, func(d tree.Difference) error {
					switch {
					case d.A == nil:
						r.Since.Added++
					case d.B == nil:
						r.Since.Removed++
					default:
						r.Since.Changed++
					}
					return ctx.Err()
				})
			if err != nil {
				return "", err
			}
		}
	}
	return before.ID, nil
}

// since counts what has changed in a namespace since the point before.
type since struct {
	Added   int64 `json:"added"`
	Changed int64 `json:"changed"`
	Removed int64 `json:"removed"`
}

func (a *app) showSample(m sample) {
	if m.Of > 0 || m.Fit > 0 {
		a.screen.Line("  %s of %s fit", view.Count(m.Fit), view.Plural(m.Of, "record"))
	}
	for _, s := range m.Records {
		a.screen.Line("  %s", a.screen.Faint(cut(s, 2*a.screen.Width)))
	}
}
