// Package undo keeps what restores are about to change, and puts it back.
//
//	keep.go  Keep: what is there can be had from the store before it is changed
//	undo.go  New, Plan.Run: a restore is undone
package undo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
)

// keptFor is how long protective points are kept.
const keptFor = 14 * 24 * time.Hour

// Open connects to the cluster that is restored onto. Each connection is used once.
type Open func(ctx context.Context) (engine.Cluster, error)

// Keep makes sure that what namespaces of a cluster hold now can be had from the store: by
// capturing its log up to now, or by a protective point of them. It returns the address,
// without a namespace, under which it can be had.
func Keep(ctx context.Context, e *run.Runner, cluster string, open Open, names []string) (string, error) {
	logged, err := keepByLog(ctx, e, cluster, open, names)
	if err != nil && ctx.Err() != nil {
		return "", err
	}
	if err == nil && logged != "" {
		return logged, nil
	}
	if err != nil {
		e.Emit(run.Note, "the log of %s does not cover what is there (%v): a point of it is made first", cluster, err)
	}
	return keepByPoint(ctx, e, cluster, open, names)
}

// keepByLog captures the log of a cluster that is protected in this store; an empty address
// says that it is not, or keeps none.
func keepByLog(ctx context.Context, e *run.Runner, cluster string, open Open, names []string) (string, error) {
	points, _, err := e.Store.Points(ctx, cluster)
	if err != nil || len(points) == 0 || !points[len(points)-1].HasLog() {
		return "", err
	}
	c, err := open(ctx)
	if err != nil {
		return "", err
	}
	defer c.Close()
	begun := time.Now()
	e.Emit(run.Step, "capturing the log of %s, so that this can be undone", cluster)
	err = e.Record(ctx, &store.Run{Kind: store.RunCapture, Cluster: cluster, What: "before a restore changes it"},
		run.RecordOptions{Exclusive: true}, func(ctx context.Context, e *run.Runner, r *store.Run) error {
			res, err := capture.Run(ctx, e, cluster, c, capture.Options{})
			if res != nil {
				r.Changes, r.Segments, r.Stored, r.Gaps = res.Changes, res.Segments, res.Stored, res.Gaps
				r.From, r.To = res.From.Wall, res.To.Wall
			}
			return err
		})
	if errors.Is(err, run.ErrRefused) || errors.Is(err, store.ErrHeld) {
		err = awaitCapture(ctx, e, cluster, begun) // another process captures it
	}
	if err != nil {
		return "", err
	}
	m, err := moment.Resolve(ctx, e, cluster, moment.Latest, nil)
	if err != nil {
		return "", err
	}
	have, err := m.Names(ctx)
	if err != nil {
		return "", err
	}
	for _, n := range names {
		if !slices.Contains(have, n) {
			return "", fmt.Errorf("%s is not among what is protected", n)
		}
	}
	w := address.When{Kind: address.Time, Text: m.Time.Local().Format("2006-01-02T15:04:05.000Z07:00")}
	if len(m.Point.Shards) == 1 || !m.Model.Traits().ShardClocks {
		w = address.When{Kind: address.Place,
			Text: m.Model.FormatPosition(m.Upto[m.Point.Shards[0].Name].Position)}
	}
	return address.Address{Cluster: cluster, When: w, Given: true}.String(), nil
}

// awaitCapture waits until another process has captured the log up to a time.
func awaitCapture(ctx context.Context, e *run.Runner, cluster string, until time.Time) error {
	const longest = 30 * time.Second
	for time.Since(until) < longest {
		cov, err := moment.Cover(ctx, e, cluster)
		if err != nil {
			return err
		}
		if len(cov) == 1 && cov[0].Latest.After(until) {
			return nil
		}
		if err := wait.For(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
	return fmt.Errorf("another process captures the log and has not come up to now within %s", longest)
}

// keepByPoint makes a protective point.
func keepByPoint(ctx context.Context, e *run.Runner, cluster string, open Open, names []string) (string, error) {
	c, err := open(ctx)
	if err != nil {
		return "", err
	}
	defer c.Close()
	own := *e
	if own.Scope = names; commands(c) {
		own.Scope = nil // a log of commands cannot be told apart by namespaces
	}
	// What is about to be replaced need not be held still for it, and its server may be gone.
	own.Unheld = true
	if e.Guard != nil { // it knows the cluster by its own name
		own.Guard = func(ctx context.Context, _ string, h engine.Hold) (func() error, error) {
			return e.Guard(ctx, cluster, h)
		}
	}
	e.Emit(run.Step, "making a point of %s as it is, so that this can be undone", strings.Join(names, ", "))
	p, err := snapshot.Take(ctx, &own, cluster+store.KeptSuffix, c)
	if err != nil && (p == nil || !errors.Is(err, run.ErrIncomplete)) {
		return "", fmt.Errorf("what is there could not be kept: %w", err)
	}
	for _, n := range names {
		if !slices.ContainsFunc(p.Namespaces, func(ns store.PointNamespace) bool { return ns.Name == n }) {
			return "", fmt.Errorf("what is there could not be kept: %s is not in the point that was made of it", n)
		}
	}
	if err := prune(ctx, e, cluster+store.KeptSuffix); err != nil {
		e.Emit(run.Warning, "old protective points of %s could not be removed: %v", cluster, err)
	}
	return address.Address{Cluster: p.Cluster, When: address.When{Kind: address.Point, Text: p.ID},
			Given: true}.String(),
		nil
}

// commands reports whether a cluster's log holds commands.
func commands(c engine.Cluster) bool {
	drv, err := engine.ForName(c.Engine())
	return err == nil && drv.Model().Traits().Commands
}

// prune removes protective points that are older than they are kept.
func prune(ctx context.Context, e *run.Runner, name string) error {
	points, _, err := e.Store.Points(ctx, name)
	if err != nil {
		return err
	}
	holds, err := e.Store.Holds(ctx, name)
	if err != nil {
		return err
	}
	var old []string
	for _, p := range points {
		held := slices.ContainsFunc(holds, func(h *store.Hold) bool { return h.Point == p.ID })
		if time.Since(p.Finished) > keptFor && !held {
			old = append(old, p.ID)
		}
	}
	if len(old) == 0 || len(old) == len(points) {
		return nil
	}
	_, err = e.Store.Retire(ctx, name, old, "")
	return err
}
