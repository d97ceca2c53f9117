package capture

import (
	"context"
	"fmt"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// take adds changes to the segment being gathered. What cannot be carried out
// later ends the log there: that is said now, and not on the day it is needed.
func (cp *shardCapture) take(ctx context.Context, changes []record.Change, p engine.Progress) error {
	p.Mark.Wall = cp.dated(changes, p.Mark)
	bad := len(changes)
	var why error
	for i := range changes {
		if why = cp.understand(&changes[i]); why == nil {
			why = cp.checkChange(ctx, &changes[i])
		}
		if why != nil {
			bad = i
			break
		}
	}
	for i := range changes[:bad] {
		c := &changes[i]
		if why != nil && c.At >= changes[bad].At {
			break // of the same entry
		}
		if err := cp.b.Add(c); err != nil {
			return err
		}
		cp.out.Changes++
		cp.hurry(c)
		if c.Op == record.Unknown {
			cp.b.Doubt(fmt.Sprintf("%s: an entry is not understood (%s)", c.Namespace, c.Value))
		}
		if why != nil {
			cp.b.CoverTo(record.Mark{Position: c.At, Wall: time.UnixMilli(c.Wall).UTC()})
		}
	}
	if why != nil {
		return fmt.Errorf("%w: %w", engine.ErrLogEnds, why)
	}
	cp.b.CoverTo(p.Mark)
	for i := range changes {
		c := &changes[i]
		noted := len(c.Key) == 0 && cp.untracked[c.Namespace] && time.Since(cp.untrackedAt) < untrackedTime
		if c.Op == record.Unknown && !noted || c.Op == record.Rename && cp.renamedIn(c) {
			if err := cp.recordUntracked(ctx, c.Time()); err != nil {
				return err
			}
			break
		}
	}
	return nil
}

// untrackedTime is for how long it is not asked again whether a name is noted.
const untrackedTime = 10 * time.Minute

// understand returns an error where a change cannot be carried out on anything. Of a namespace of content it makes
// it one that is not understood instead: of all else the log goes on to tell.
func (cp *shardCapture) understand(c *record.Change) error {
	err := cp.all.model.CheckChange(c)
	if err == nil || !cp.all.model.Kind(c.Namespace).IsContent() {
		return err
	}
	*c = record.Change{Op: record.Unknown, Namespace: c.Namespace, Ident: c.Ident, Value: []byte(err.Error()),
		At: c.At, Wall: c.Wall}
	return nil
}

// dated dates changes that were there when the ends were asked for by then, where the log
// tells no times, and returns the time of what was read. What came later has a later time, also
// where it came within the same millisecond: the newest moment of all shards is the time that each
// of them reaches.
func (cp *shardCapture) dated(changes []record.Change, read record.Mark) time.Time {
	asked := cp.all.asked
	if !cp.all.own || asked.IsZero() {
		return read.Wall
	}
	asked = time.UnixMilli(asked.UnixMilli() + 1).UTC()
	wall := read.Wall
	if read.Position >= cp.end && wall.Before(asked) {
		wall = asked
	}
	for i := range changes {
		c := &changes[i]
		switch {
		case c.At <= cp.end:
			c.Wall = min(c.Wall, asked.UnixMilli())
			continue
		case c.Wall <= asked.UnixMilli():
			c.Wall = asked.UnixMilli() + 1
		}
		wall = later(read.Wall, c.Time())
	}
	if wall.After(asked) && (len(changes) == 0 || changes[len(changes)-1].At <= cp.end) {
		return asked
	}
	return wall
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// hurry notes where a change is to be stored soon.
func (cp *shardCapture) hurry(c *record.Change) {
	if cp.opt.Urgent == nil || cp.urgent || cp.all.model.Staged(c.Namespace) ||
		!cp.all.model.Kind(c.Namespace).IsContent() {
		return
	}
	op := c.Op
	if of := engine.EffectOf(cp.all.model); of != nil {
		op = of(c)
	}
	if cp.opt.Urgent(c.Namespace, op, cp.b.Busiest(c.Namespace, op), c.Time()) {
		cp.urgent = true
		select {
		case cp.hurried <- struct{}{}:
		default:
		}
	}
}

// checkChange returns an error where a change's name and identity are not of one namespace.
func (cp *shardCapture) checkChange(ctx context.Context, c *record.Change) error {
	if len(c.Ident) == 0 || cp.all.last.Unlogged {
		return nil
	}
	id := string(c.Ident)
	name, known := cp.names[id]
	if c.Op != record.Create && name != c.Namespace && !cp.namesLoaded {
		// The namespaces of the point do not tell: those of the log after it do.
		if err := cp.loadNames(ctx); err != nil {
			return err
		}
		name, known = cp.names[id]
	}
	if known && name != c.Namespace {
		return fmt.Errorf("log entry at %s, %s of %s, carries the identity of %s: what it changed cannot be told",
			cp.all.model.FormatPosition(c.At), c.Op, c.Namespace, name)
	}
	if !known && c.Op.Record() {
		for other, n := range cp.names {
			if n == c.Namespace {
				return fmt.Errorf(
					"log entry at %s, %s of %s, carries the identity of another collection (%x, and not %x)",
					cp.all.model.FormatPosition(c.At), c.Op, c.Namespace, c.Ident, other)
			}
		}
	}
	switch c.Op {
	case record.Drop:
		delete(cp.names, id)
	case record.Rename:
		cp.names[id] = c.To
	default:
		cp.names[id] = c.Namespace
	}
	return nil
}

// maxNamesLog is how much log is read at most to know what its namespaces are
// called.
const maxNamesLog = 256 << 20

// loadNames finds out what the namespaces are called where the stored log ends.
func (cp *shardCapture) loadNames(ctx context.Context) error {
	cp.namesLoaded = true
	unknown := func() error {
		clear(cp.names)
		clear(cp.pointNames)
		return nil
	}
	if cp.base == nil {
		return unknown()
	}
	chains, _, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	if chains[cp.out.Shard] == nil {
		return nil // nothing was stored since the point
	}
	m, err := moment.At(cp.Runner, cp.base, chains, map[string]record.Mark{cp.out.Shard: cp.from})
	if err != nil {
		return unknown() // there are gaps, which are told
	}
	size := int64(0)
	for _, h := range m.Segments[cp.out.Shard] {
		size += h.Size
	}
	if size > maxNamesLog {
		return unknown()
	}
	f, err := m.Plan(ctx, cp.out.Shard)
	if err != nil {
		return err
	}
	// What was seen since counts more.
	for id, name := range f.Identities() {
		if was, ok := cp.names[id]; !ok || cp.pointNames[id] == was {
			cp.names[id] = name
		}
	}
	return nil
}

// startNames begins with what the namespaces were called in the newest point that
// is not after where the log is taken up.
func (cp *shardCapture) startNames(points []*store.Point) {
	cp.names, cp.pointNames, cp.namesLoaded, cp.base = map[string]string{}, map[string]string{}, false, nil
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position != "" && s.Mark.Position <= cp.from.Position {
			cp.base = p
		}
	}
	if cp.base == nil {
		cp.namesLoaded = true
		return
	}
	for _, ns := range cp.base.Namespaces {
		if len(ns.Ident) > 0 && (ns.Shard == cp.out.Shard || len(cp.base.Shards) == 1) {
			cp.names[string(ns.Ident)], cp.pointNames[string(ns.Ident)] = ns.Name, ns.Name
		}
	}
}

// renamedIn reports whether something is renamed to a protected name from one that
// is not.
func (cp *shardCapture) renamedIn(c *record.Change) bool {
	chosen := moment.Chooser(cp.all.last.Scope, cp.all.model)
	return chosen != nil && chosen(c.To) && !chosen(c.Namespace)
}

// recordUntracked finds out whether what was renamed to a protected name can be followed
// from where it was made, and what was changed that is not understood is there still. Where one
// cannot, or is, no moment holds it before the next point: the capture ends and says so.
func (cp *shardCapture) recordUntracked(ctx context.Context, since time.Time) error {
	if err := cp.seal(ctx); err != nil {
		return err
	}
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil || len(points) == 0 {
		return err
	}
	chains, _, err := cp.Store.Chains(ctx, cp.name)
	if err != nil {
		return err
	}
	m, err := moment.Reaching(cp.Runner, points[len(points)-1], chains)
	if err != nil {
		return nil // there are gaps, which are told
	}
	list, err := m.Untracked(ctx)
	if err != nil {
		return err
	}
	// Whoever writes entries that are not understood writes many.
	cp.untracked, cp.untrackedAt = map[string]bool{}, time.Now()
	for _, u := range list {
		cp.untracked[u.Name] = true
	}
	l, err := m.KeepUntracked(ctx, list, since)
	if err != nil || l == nil {
		return err
	}
	cp.all.mu.Lock()
	cp.all.out.Untracked = append(cp.all.out.Untracked, l.Names...)
	cp.all.mu.Unlock()
	return fmt.Errorf("%w: %w", run.ErrIncomplete, l)
}
