package snapshot

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// finishPoint completes a point whose nodes are all durable and makes it exist.
func finishPoint(ctx context.Context, e *run.Runner, p *store.Point, stats store.WriteStats, changes int64) error {
	slices.SortStableFunc(p.Namespaces, func(a, b store.PointNamespace) int { return strings.Compare(a.Name, b.Name) })
	for _, ns := range p.Namespaces {
		p.Stats.Records += ns.Root.Records
		p.Stats.Bytes += ns.Root.Bytes
	}
	p.Stats.Stored, p.Stats.New, p.Stats.Known, p.Stats.Patched, p.Stats.Changes = stats.Stored, stats.New,
		stats.Known, stats.Patched, changes
	p.Finished = time.Now()
	p.ID = store.NewPointID(p.Time)
	before, err := compareSizes(ctx, e, p)
	if err != nil {
		return err
	}
	if err := e.Store.PutPoint(ctx, p); err != nil || len(p.Shrunk) == 0 {
		return err
	}
	for _, s := range p.Shrunk {
		if s.Is == 0 {
			e.Emit(run.Warning, "%s is gone or empty; it held %s in point %s, which is kept for 30 days", s.Name,
				run.Count(s.Was, "record"), s.Since)
			continue
		}
		e.Emit(run.Warning, "%s holds %s, and %s in point %s, which is kept for 30 days", s.Name,
			run.Count(s.Is, "record"), run.Count(s.Was, "record"), s.Since)
	}
	// No later point is to be the reason that this one goes.
	return e.Store.PutHold(ctx, &store.Hold{
		Cluster: p.Cluster, Point: before.ID, Until: time.Now().Add(holdBeforeLoss).UTC().Truncate(time.Second),
		Reason: fmt.Sprintf("point %s after it has lost most of %s", p.ID, p.Shrunk[0].Name)})
}

// A namespace that had at least mostRecords has lost most of it when less than a
// third is left. The point before it is then held for a while.
const (
	mostRecords    = 100
	holdBeforeLoss = 30 * 24 * time.Hour
)

// compareSizes notes in a new point which namespaces have lost most of what they
// held in the point before it, and gives that one.
func compareSizes(ctx context.Context, e *run.Runner, p *store.Point) (*store.Point, error) {
	points, _, err := e.Store.Points(ctx, p.Cluster)
	if err != nil {
		return nil, err
	}
	var before *store.Point
	for _, q := range points {
		if !q.Time.After(p.Time) {
			before = q
		}
	}
	if before == nil {
		return nil, nil
	}
	is := map[string]int64{}
	for _, ns := range p.Parts() {
		is[ns.Name] = ns.Root.Records
	}
	for _, ns := range before.Parts() {
		if !ns.Kind.IsContent() || !address.Scope(p.Scope).Match(ns.Name) {
			continue
		}
		if was := ns.Root.Records; was >= mostRecords && is[ns.Name] < was/3 {
			p.Shrunk = append(p.Shrunk, store.Shrunk{Name: ns.Name, Was: was, Is: is[ns.Name], Since: before.ID})
		}
	}
	return before, nil
}
