package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
)

// Moment is a state of a cluster that can be had from the store: a point, or a
// point and the log after it.
type Moment struct {
	Point *store.Point
	Time  time.Time
	Model engine.Model
	// Upto says for each shard how much of the log belongs to it.
	Upto     map[string]record.Mark
	segments map[string][]journal.Header
	env      *Env
	// loose: records may be lost that the log changes.
	loose bool
}

// Exact reports whether log is folded in, beyond the point.
func (m *Moment) Exact() bool { return len(m.segments) == 0 }

// String describes the moment for people.
func (m *Moment) String() string {
	s := m.Point.Cluster + "@" + m.Time.Local().Format("2006-01-02T15:04:05.000-07:00")
	if len(m.segments) == 0 {
		return s + " (point " + m.Point.ID + ")"
	}
	return s + " (point " + m.Point.ID + " and the log after it)"
}

// Resolve finds the moment an address names. Nearest moments are named where
// it cannot be had.
func (e *Env) Resolve(ctx context.Context, cluster string, when address.When) (*Moment, error) {
	points, unreadable, err := e.Store.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range unreadable {
		e.emit(Warning, "a point cannot be read and is left out: %v", u)
	}
	if len(points) == 0 {
		return nil, fmt.Errorf("the store %s holds no point of cluster %q%s; take one with: dexamen snapshot %s",
			e.Store.Location(), cluster, e.otherClusters(ctx, cluster), cluster)
	}
	chains, bad, err := e.Store.Chains(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range bad {
		e.emit(Warning, "a log segment cannot be read: %v", u)
	}
	switch when.Kind {
	case address.Point:
		for _, p := range points {
			if p.ID == when.Text {
				return e.momentAt(p, nil, nil)
			}
		}
		var ids []string
		for _, p := range points {
			ids = append(ids, p.ID)
		}
		return nil, fmt.Errorf("cluster %s has no point %s; near it: %s", cluster, when.Text, strings.Join(engine.Nearest(when.Text, ids, 3), ", "))
	case address.Latest:
		p := points[len(points)-1]
		if len(p.Shards) > 1 && ownClocks(p) {
			end := reach(p.Shards[0], chains).Wall
			for _, s := range p.Shards {
				if r := reach(s, chains).Wall; r.Before(end) {
					end = r
				}
			}
			if !end.After(p.Time) {
				return e.momentAt(p, nil, nil)
			}
			return e.momentAtTime(ctx, points, chains, end)
		}
		return e.momentAt(p, chains, latestCut(p, chains))
	case address.Time:
		return e.momentAtTime(ctx, points, chains, when.Time)
	case address.Place:
		return e.momentAtPlace(points, chains, when.Text)
	}
	return nil, fmt.Errorf("%s@%s is no moment of the store", cluster, when)
}

func (e *Env) otherClusters(ctx context.Context, cluster string) string {
	all, _, err := e.Store.Points(ctx, "")
	if err != nil || len(all) == 0 {
		return ""
	}
	var names []string
	for _, p := range all {
		if !slices.Contains(names, p.Cluster) {
			names = append(names, p.Cluster)
		}
	}
	sort.Strings(names)
	return " (it holds points of " + strings.Join(names, ", ") + ")"
}

// momentAt makes the moment that follows a point by as much of each shard's
// log as upto says; nil is the point itself.
func (e *Env) momentAt(p *store.Point, chains map[string]*journal.Chain, upto map[string]record.Mark) (*Moment, error) {
	drv, err := engine.ForName(p.Engine)
	if err != nil {
		return nil, err
	}
	m := &Moment{Point: p, Time: p.Time, Model: drv.Model(), Upto: map[string]record.Mark{}, segments: map[string][]journal.Header{}, env: e}
	for _, s := range p.Shards {
		to, ok := upto[s.Name]
		if !ok || to.Position <= s.Mark.Position {
			to.Position = s.Mark.Position
			if to.Wall.Before(s.Mark.Wall) {
				to.Wall = s.Mark.Wall
			}
		} else {
			segs, err := chains[s.Name].Between(s.Mark.Position, to.Position)
			if err != nil {
				return nil, err
			}
			m.segments[s.Name] = segs
		}
		m.Upto[s.Name] = to
		if to.Wall.After(m.Time) {
			m.Time = to.Wall
		}
	}
	return m, nil
}

// reach reports how far a shard's log is known after a point.
func reach(s store.PointShard, chains map[string]*journal.Chain) record.Mark {
	if c := chains[s.Name]; c != nil && s.Mark.Position != "" {
		return c.Reach(s.Mark)
	}
	return s.Mark
}

// latestCut returns the newest moment after a point. Over several shards it is
// one position, the newest that all their logs have reached.
func latestCut(p *store.Point, chains map[string]*journal.Chain) map[string]record.Mark {
	out := map[string]record.Mark{}
	var least record.Mark
	for i, s := range p.Shards {
		end := reach(s, chains)
		out[s.Name] = end
		if i == 0 || end.Position < least.Position {
			least = end
		}
	}
	if len(p.Shards) > 1 {
		for name := range out {
			out[name] = least
		}
	}
	return out
}

// momentAtTime finds the state at a wall-clock time.
func (e *Env) momentAtTime(ctx context.Context, points []*store.Point, chains map[string]*journal.Chain, t time.Time) (*Moment, error) {
	i := sort.Search(len(points), func(i int) bool { return points[i].Time.After(t) }) - 1
	if i < 0 {
		return nil, fmt.Errorf("%s is before the first point of cluster %s; the nearest moment is %s (point %s)",
			at(t), points[0].Cluster, at(points[0].Time), points[0].ID)
	}
	p := points[i]
	if p.Time.Equal(t) {
		return e.momentAt(p, nil, nil)
	}
	// Each shard's clock is its own: the moment over all shards is the last
	// position before any of them wrote something later.
	upto := map[string]record.Mark{}
	var least record.Position
	for _, s := range p.Shards {
		end := reach(s, chains)
		if end.Wall.Before(t) {
			return nil, e.cannot(points, i, chains[s.Name], s, end, t)
		}
		if end == s.Mark {
			upto[s.Name] = end
		} else {
			var next record.Position
			var err error
			upto[s.Name], next, err = chains[s.Name].PositionAt(s.Mark, t, func(h journal.Header, fn func(*record.Change) error) error { return e.Store.ReadSegment(ctx, h, fn) })
			if err != nil {
				return nil, err
			}
			if next != "" && (least == "" || next.Prev() < least) {
				least = next.Prev()
			}
		}
		if least == "" || end.Position < least {
			least = end.Position
		}
	}
	if len(p.Shards) > 1 && !ownClocks(p) {
		for name := range upto {
			upto[name] = record.Mark{Position: least, Wall: t}
		}
	}
	return e.momentAt(p, chains, upto)
}

// ownClocks reports whether the positions of a point's shards have no common
// clock, so that a moment of all of them is a time.
func ownClocks(p *store.Point) bool {
	drv, err := engine.ForName(p.Engine)
	return err == nil && drv.Model().Traits().OwnClocks
}

// AtPoint returns the moment of the point alone, without the log after it.
func (m *Moment) AtPoint() *Moment {
	base, _ := m.env.momentAt(m.Point, nil, nil)
	return base
}

// cannot reports why a moment cannot be had, and the nearest ones that can.
func (e *Env) cannot(points []*store.Point, i int, c *journal.Chain, s store.PointShard, end record.Mark, t time.Time) error {
	why := "no log was captured after it"
	if s.Mark.Position == "" {
		why = "the server keeps no log"
	} else if c != nil {
		why = "the log is captured up to there"
		for _, g := range c.Gaps() {
			if g.From.Position >= end.Position && g.From.Wall.Before(t) {
				why = "nothing is known of the log from there to " + at(g.To.Wall) + ": " + g.Why
				break
			}
		}
	}
	msg := fmt.Sprintf("%s cannot be had: the nearest moment before it is %s (%s)", at(t), at(end.Wall), why)
	if i+1 < len(points) {
		msg += fmt.Sprintf("; the nearest after it is %s (point %s)", at(points[i+1].Time), points[i+1].ID)
	} else if why == "the log is captured up to there" {
		msg += fmt.Sprintf("; capture what has happened since with: dexamen capture %s", points[i].Cluster)
	}
	return errors.New(msg)
}

func at(t time.Time) string { return t.Local().Format("2006-01-02T15:04:05.999-07:00") }

// momentAtPlace finds the state just after a log position.
func (e *Env) momentAtPlace(points []*store.Point, chains map[string]*journal.Chain, text string) (*Moment, error) {
	drv, err := engine.ForName(points[0].Engine)
	if err != nil {
		return nil, err
	}
	pos, err := drv.Model().ParsePosition(text)
	if err != nil {
		return nil, err
	}
	var best *store.Point
	if n := len(points[0].Shards); n > 1 && drv.Model().Traits().OwnClocks {
		return nil, fmt.Errorf("%w: each of the %d shards of cluster %s has log positions of its own; name a time", ErrRefused, n, points[0].Cluster)
	}
	for _, p := range points {
		fits := len(p.Shards) > 0
		for _, s := range p.Shards {
			fits = fits && s.Mark.Position != "" && s.Mark.Position <= pos
		}
		if fits {
			best = p
		}
	}
	if best == nil {
		return nil, fmt.Errorf("log position %s is before the first point of cluster %s", text, points[0].Cluster)
	}
	upto := map[string]record.Mark{}
	for _, s := range best.Shards {
		if end := reach(s, chains); end.Position < pos {
			return nil, fmt.Errorf("log position %s is not captured: the log of shard %s after point %s reaches to %s (%s)",
				text, s.Name, best.ID, drv.Model().FormatPosition(end.Position), at(end.Wall))
		}
		upto[s.Name] = record.Mark{Position: pos, Wall: s.Mark.Wall}
	}
	return e.momentAt(best, chains, upto)
}

// Since is what the store knows of the time after a moment.
type Since struct {
	// Changes counts the changes of each namespace that were captured after it.
	Changes map[string]int64 `json:"changes"`
	// Until is the newest moment that can be restored: what was written later is
	// in no backup.
	Until time.Time `json:"until"`
}

// Since counts what was captured after the moment.
func (m *Moment) Since(ctx context.Context) (*Since, error) {
	out := &Since{Changes: map[string]int64{}}
	cov, err := m.env.Coverage(ctx, m.Point.Cluster)
	if err != nil {
		return nil, err
	}
	for _, c := range cov {
		out.Until = c.Latest
		for shard, chain := range c.Chains {
			after := m.Upto[shard].Position
			for _, h := range chain.Segments {
				if h.Last.Position <= after || h.Gap != "" {
					continue
				}
				err := m.env.Store.ReadSegment(ctx, h, func(c *record.Change) error {
					if kind, _ := m.Model.Implied(c.Namespace); c.At > after && content(&record.Namespace{Kind: kind}) {
						out.Changes[c.Namespace]++
					}
					return nil
				})
				if err != nil && ctx.Err() != nil {
					return nil, err
				} // what cannot be read is not counted; coverage tells of it
			}
		}
	}
	return out, nil
}
