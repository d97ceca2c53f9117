package moment

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Resolve finds the moment an address names. Nearest moments are named where
// it cannot be had. Mat builds it where only a server can; it may be nil.
func Resolve(ctx context.Context, e *run.Runner, cluster string, when address.When, mat Materializer) (*Moment, error) {
	m, err := resolve(ctx, e, cluster, when)
	if err == nil {
		m.Materializer = mat
	}
	return m, err
}

func resolve(ctx context.Context, e *run.Runner, cluster string, when address.When) (*Moment, error) {
	points, unreadable, err := e.Store.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range unreadable {
		e.Emit(run.Warning, "a point cannot be read and is left out: %v", u)
	}
	if len(points) == 0 {
		return nil, remedy.With(fmt.Errorf("the store %s holds no point of cluster %q%s",
			e.Store.Location(), cluster, otherClusters(ctx, e, cluster)), remedy.FirstSnapshot, cluster)
	}
	chains, bad, err := e.Store.Chains(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, u := range bad {
		e.Emit(run.Warning, "a log segment cannot be read: %v", u)
	}
	switch when.Kind {
	case address.Point:
		p, err := pointOf(points, cluster, when.Text)
		if err != nil {
			return nil, err
		}
		return At(e, p, nil, nil)
	case address.Latest:
		p := points[len(points)-1]
		if len(p.Shards) > 1 && HasShardClocks(p) {
			end := reach(p.Shards[0], chains).Wall
			for _, s := range p.Shards {
				if r := reach(s, chains).Wall; r.Before(end) {
					end = r
				}
			}
			if !end.After(p.Time) {
				return At(e, p, nil, nil)
			}
			return momentAtTime(ctx, e, points, chains, end)
		}
		return At(e, p, chains, latestCut(p, chains))
	case address.Time:
		return momentAtTime(ctx, e, points, chains, when.Time)
	case address.Place:
		return momentAtPlace(ctx, e, points, chains, when.Text)
	}
	return nil, fmt.Errorf("%s@%s is no moment of the store", cluster, when)
}

func otherClusters(ctx context.Context, e *run.Runner, cluster string) string {
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

// ErrNoPoint is returned where an id is of no point, or the end of several.
var ErrNoPoint = errors.New("there is no such point")

// pointOf returns the point of an id, or of the end of one.
func pointOf(points []*store.Point, cluster, text string) (*store.Point, error) {
	var ids, fit []string
	var found *store.Point
	for _, p := range points {
		if p.ID == text {
			return p, nil
		}
		if ids = append(ids, p.ID); strings.HasSuffix(p.ID, "-"+text) {
			found, fit = p, append(fit, p.ID)
		}
	}
	switch {
	case len(fit) == 1:
		return found, nil
	case len(fit) > 1:
		return nil, fmt.Errorf("%w: %q is the end of several of cluster %s: %s", ErrNoPoint, text, cluster,
			strings.Join(fit, ", "))
	case len(text) == 4:
		return nil, fmt.Errorf("%w: no id of a point of cluster %s ends with %q, and it is no other moment: write "+
			"latest, live, a time (10:14:04 or 2026-11-23T10:14:04Z), or a distance back (-15m); see: "+
			"dexamen points %[2]s",
			ErrNoPoint, cluster, text)
	}
	return nil, fmt.Errorf("%w: cluster %s has none called %s; near it: %s", ErrNoPoint, cluster, text,
		strings.Join(engine.Nearest(text, ids, 3), ", "))
}

// At makes the moment that follows a point by as much of each shard's
// log as upto says; nil is the point itself.
func At(e *run.Runner, p *store.Point, chains map[string]*journal.Chain, upto map[string]record.Mark) (*Moment, error) {
	drv, err := engine.ForName(p.Engine)
	if err != nil {
		return nil, err
	}
	m := &Moment{Point: p, Time: p.Time, Model: drv.Model(), Upto: map[string]record.Mark{},
		Segments: map[string][]journal.Header{}, Runner: e}
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
			m.Segments[s.Name] = segs
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
		least.Entry = "" // of one shard's log
		for name := range out {
			out[name] = least
		}
	}
	return out
}

// momentAtTime finds the state at a wall-clock time.
func momentAtTime(ctx context.Context, e *run.Runner, points []*store.Point, chains map[string]*journal.Chain,
	t time.Time) (*Moment, error) {
	i := sort.Search(len(points), func(i int) bool { return points[i].Time.After(t) }) - 1
	if i < 0 {
		return nil, fmt.Errorf("%s is before the first point of cluster %s; the nearest moment is %s (point %s)",
			run.FormatTime(t), points[0].Cluster, run.FormatTime(points[0].Time), points[0].ID)
	}
	if points[i].Time.Equal(t) {
		return At(e, points[i], nil, nil)
	}
	upto, err := cutAt(ctx, e, points, i, chains, t)
	if err != nil {
		return nil, err
	}
	return At(e, points[i], chains, upto)
}

// cutAt returns how much of each shard's log after a point belongs to a time.
func cutAt(ctx context.Context, e *run.Runner, points []*store.Point, i int, chains map[string]*journal.Chain,
	t time.Time) (map[string]record.Mark, error) {
	p := points[i]
	// Each shard's clock is its own: the moment over all shards is the last
	// position before any of them wrote something later.
	upto := map[string]record.Mark{}
	var least record.Position
	for _, s := range p.Shards {
		end := reach(s, chains)
		if end.Wall.Before(t) {
			return nil, notCovered(e, points, i, chains[s.Name], s, end, t)
		}
		if end == s.Mark {
			upto[s.Name] = end
		} else {
			var next record.Position
			var err error
			upto[s.Name], next, err = chains[s.Name].PositionAt(s.Mark, t,
				readSegment(ctx, e))
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
	if len(p.Shards) > 1 && !HasShardClocks(p) {
		for name := range upto {
			upto[name] = record.Mark{Position: least, Wall: t}
		}
	}
	return upto, nil
}

// HasShardClocks reports whether the positions of a point's shards have no common
// clock, so that a moment of all of them is a time.
func HasShardClocks(p *store.Point) bool {
	drv, err := engine.ForName(p.Engine)
	return err == nil && drv.Model().Traits().ShardClocks
}

// notCovered reports why a moment cannot be had, and the nearest ones that can.
func notCovered(e *run.Runner, points []*store.Point, i int, c *journal.Chain, s store.PointShard, end record.Mark,
	t time.Time) error {
	why := "no log was captured after it"
	if s.Mark.Position == "" {
		why = "the server keeps no log"
	} else if c != nil {
		why = "the log is captured up to there"
		for _, g := range c.Gaps() {
			if g.From.Position >= end.Position && g.From.Wall.Before(t) {
				why = "nothing is known of the log from there to " + run.FormatTime(g.To.Wall) + ": " + g.Reason
				break
			}
		}
	}
	msg := fmt.Sprintf("%s cannot be had: the nearest moment before it is %s (%s)", run.FormatTime(t),
		run.FormatTime(end.Wall), why)
	if i+1 < len(points) {
		msg += fmt.Sprintf("; the nearest after it is %s (point %s)", run.FormatTime(points[i+1].Time), points[i+1].ID)
	} else if why == "the log is captured up to there" {
		return remedy.Plain(msg, remedy.Capture, points[i].Cluster)
	}
	return errors.New(msg)
}

// ShardPlace returns how a position of one of several shards whose positions have no
// common clock is written: the moment is that position there, and its time on the others.
func ShardPlace(shard, position string) string { return shard + "=" + position }

// momentAtPlace finds the state just after a log position.
func momentAtPlace(ctx context.Context, e *run.Runner, points []*store.Point, chains map[string]*journal.Chain,
	text string) (*Moment, error) {
	drv, err := engine.ForName(points[0].Engine)
	if err != nil {
		return nil, err
	}
	shard := ""
	if n := len(points[0].Shards); n > 1 && drv.Model().Traits().ShardClocks {
		i := strings.LastIndexByte(text, '=')
		if i < 0 {
			return nil, fmt.Errorf(
				"%w: each of the %d shards of cluster %s has log positions of its own; name a time, "+
					"or log:SHARD=POSITION", run.ErrRefused, n, points[0].Cluster)
		}
		shard, text = text[:i], text[i+1:]
	}
	pos, err := drv.Model().ParsePosition(text)
	if err != nil {
		return nil, err
	}
	best := -1
	for i, p := range points {
		fits := len(p.Shards) > 0
		for _, s := range p.Shards {
			fits = fits && (shard != "" && s.Name != shard || s.Mark.Position != "" && s.Mark.Position <= pos)
		}
		if _, there := p.Shard(shard); fits && (shard == "" || there) {
			best = i
		}
	}
	if best < 0 {
		return nil, fmt.Errorf("log position %s is before the first point of cluster %s", text, points[0].Cluster)
	}
	p, upto := points[best], map[string]record.Mark{}
	for _, s := range p.Shards {
		if shard != "" && s.Name != shard {
			continue
		}
		if end := reach(s, chains); end.Position < pos {
			return nil, fmt.Errorf(
				"log position %s is not captured: the log of shard %s after point %s reaches to %s (%s)",
				text, s.Name, p.ID, drv.Model().FormatPosition(end.Position), run.FormatTime(end.Wall))
		}
		at := record.Mark{Position: pos, Wall: s.Mark.Wall}
		if c := chains[s.Name]; c != nil && pos > s.Mark.Position {
			if at.Wall, err = c.TimeOf(pos, s.Mark.Wall, readSegment(ctx, e)); err != nil {
				return nil, err
			}
		}
		upto[s.Name] = at
	}
	if shard == "" {
		return At(e, p, chains, upto)
	}
	all, err := cutAt(ctx, e, points, best, chains, upto[shard].Wall)
	if err != nil {
		return nil, err
	}
	all[shard] = upto[shard]
	return At(e, p, chains, all)
}

func readSegment(ctx context.Context, e *run.Runner) func(journal.Header, func(*record.Change) error) error {
	return func(h journal.Header, fn func(*record.Change) error) error { return e.Store.ReadSegment(ctx, h, fn) }
}
