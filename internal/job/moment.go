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
	"dexamen/internal/core/fold"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
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
}

// Exact tells whether log is folded in, beyond the point.
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
		return e.momentAt(p, chains, func(s store.PointShard, c *journal.Chain) (record.Mark, error) { return c.Reach(s.Mark), nil })
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
// log as upto says.
func (e *Env) momentAt(p *store.Point, chains map[string]*journal.Chain, upto func(store.PointShard, *journal.Chain) (record.Mark, error)) (*Moment, error) {
	drv, err := engine.ForName(p.Engine)
	if err != nil {
		return nil, err
	}
	m := &Moment{Point: p, Time: p.Time, Model: drv.Model(), Upto: map[string]record.Mark{}, segments: map[string][]journal.Header{}, env: e}
	if len(p.Shards) > 1 {
		return nil, fmt.Errorf("point %s has %d shards; this version restores clusters of one", p.ID, len(p.Shards))
	}
	for _, s := range p.Shards {
		to := s.Mark
		c := chains[s.Name]
		if upto != nil && c != nil && s.Mark.Position != "" {
			if to, err = upto(s, c); err != nil {
				return nil, err
			}
			if to.Position > s.Mark.Position {
				segs, err := c.Between(s.Mark.Position, to.Position)
				if err != nil {
					return nil, err
				}
				m.segments[s.Name] = segs
			}
		}
		m.Upto[s.Name] = to
		if to.Wall.After(m.Time) {
			m.Time = to.Wall
		}
	}
	return m, nil
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
	for _, s := range p.Shards {
		end := s.Mark
		if c := chains[s.Name]; c != nil && s.Mark.Position != "" {
			end = c.Reach(s.Mark)
		}
		if end.Wall.Before(t) {
			return nil, e.cannot(points, i, chains[s.Name], s, end, t)
		}
	}
	return e.momentAt(p, chains, func(s store.PointShard, c *journal.Chain) (record.Mark, error) {
		return c.PositionAt(s.Mark, t, func(h journal.Header, fn func(*record.Change) error) error { return e.Store.ReadSegment(ctx, h, fn) })
	})
}

// cannot says why a moment cannot be had, and the nearest ones that can.
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
	for _, p := range points {
		if len(p.Shards) > 0 && p.Shards[0].Mark.Position != "" && p.Shards[0].Mark.Position <= pos {
			best = p
		}
	}
	if best == nil {
		return nil, fmt.Errorf("log position %s is before the first point of cluster %s", text, points[0].Cluster)
	}
	return e.momentAt(best, chains, func(s store.PointShard, c *journal.Chain) (record.Mark, error) {
		if end := c.Reach(s.Mark); end.Position < pos {
			return end, fmt.Errorf("log position %s is not captured: the log after point %s reaches to %s (%s)",
				text, best.ID, drv.Model().FormatPosition(end.Position), at(end.Wall))
		}
		return record.Mark{Position: pos, Wall: s.Mark.Wall}, nil
	})
}

// changes calls fn with every change that belongs to the moment, in order.
func (m *Moment) changes(ctx context.Context, fn func(*record.Change) error) error {
	for shard, segs := range m.segments {
		mark, _ := m.Point.Shard(shard)
		upto := m.Upto[shard].Position
		for _, h := range segs {
			err := m.env.Store.ReadSegment(ctx, h, func(c *record.Change) error {
				if c.At <= mark.Mark.Position || c.At > upto {
					return nil
				}
				return fn(c)
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Plan follows namespaces through the log and says which there are at the
// moment; it reads no records.
func (m *Moment) Plan(ctx context.Context) (*fold.Fold, error) {
	f := fold.NewPlan(m.Model)
	m.bases(f)
	return f, m.changes(ctx, f.Change)
}

func (m *Moment) bases(f *fold.Fold) {
	for _, ns := range m.Point.Namespaces {
		f.Base(ns.Namespace, ns.Root)
	}
}

// Space is a namespace at a moment, with its content.
type Space struct {
	record.Namespace
	Root tree.Root
}

// Trees builds the trees of the namespaces that choose accepts (nil: all) as
// they are at the moment, into sink, and gives them in order of names, with
// the number of changes folded in.
func (m *Moment) Trees(ctx context.Context, src tree.Source, sink tree.Sink, choose func(name string) bool) ([]Space, int64, error) {
	if choose == nil {
		choose = func(string) bool { return true }
	}
	var out []Space
	if len(m.segments) == 0 {
		for _, ns := range m.Point.Namespaces {
			if choose(ns.Name) {
				out = append(out, Space{ns.Namespace, ns.Root})
			}
		}
		return out, 0, nil
	}
	plan, err := m.Plan(ctx)
	if err != nil {
		return nil, 0, err
	}
	f := fold.New(m.Model, false, m.env.temp(), m.env.memory())
	defer f.Close()
	m.bases(f)
	chosen := func(n *fold.Namespace) bool { return choose(n.Name) }
	f.Want(plan, chosen)
	if err := m.changes(ctx, f.Change); err != nil {
		return nil, 0, err
	}
	err = f.Merge(ctx, src, sink, chosen, func(n *fold.Namespace, root tree.Root) error {
		out = append(out, Space{n.Namespace, root})
		return nil
	})
	slices.SortFunc(out, func(a, b Space) int { return strings.Compare(a.Name, b.Name) })
	return out, f.Count, err
}

// Names gives the namespaces at the moment.
func (m *Moment) Names(ctx context.Context) ([]string, error) {
	plan, err := m.Plan(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, n := range plan.Namespaces() {
		out = append(out, n.Name)
	}
	return out, nil
}
