package moment

import (
	"context"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

var Latest = address.When{Kind: address.Latest}

// Stretch is a run of time within which every moment can be restored.
type Stretch struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// Coverage describes which moments of a cluster can be restored.
type Coverage struct {
	Cluster   string                      `json:"cluster"`
	Points    []*store.Point              `json:"-"`
	Chains    map[string]*journal.Chain   `json:"-"`
	Proofs    map[string]*store.ProofMark `json:"-"`
	Stretches []Stretch                   `json:"stretches"`
	Gaps      []journal.Gap               `json:"gaps,omitempty"`
	// Proven is the last stretch of which points that were read from the cluster
	// have proven that the log leads where it should.
	Proven *Stretch `json:"proven,omitempty"`
	Doubts []Doubt  `json:"doubts,omitempty"`
	// Narrowed says from which points on namespaces are left out that a point
	// before holds, as the policy no longer chooses them.
	Narrowed []Narrowed `json:"narrowed,omitempty"`
	Latest   time.Time  `json:"latest"` // the newest moment that can be restored
	// Unreadable objects were left out.
	Unreadable []string `json:"unreadable,omitempty"`
}

// Narrowed is what a point does not hold that the one before it does, as it was
// not asked for any more.
type Narrowed struct {
	Point string    `json:"point"`
	Names []string  `json:"names"`
	Until time.Time `json:"until"` // the last moment that has them
	Last  string    `json:"last"`  // the last point that holds them
}

// narrowed compares what points were asked to hold.
func narrowed(points []*store.Point, reach func(*store.Point) time.Time) (out []Narrowed) {
	for i := 1; i < len(points); i++ {
		before, p := points[i-1], points[i]
		scope := address.Scope(p.Scope)
		if len(scope) == 0 || slices.Equal(before.Scope, p.Scope) {
			continue
		}
		var names []string
		for _, ns := range before.Parts() {
			if ns.Kind.IsContent() && !scope.Match(ns.Name) {
				names = append(names, ns.Name)
			}
		}
		if len(names) == 0 {
			continue
		}
		until := reach(before)
		if before.Time.After(until) {
			until = before.Time
		}
		if last := p.Time.Add(-time.Millisecond); until.After(last) {
			until = last
		}
		out = append(out, Narrowed{p.ID, names, until, before.ID})
	}
	return out
}

// Doubt is something seen in a stretch of log that the log does not tell.
type Doubt struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	What string    `json:"what"`
}

// Cover finds what can be restored of a cluster; of all clusters with
// points when the name is empty.
func Cover(ctx context.Context, e *run.Runner, cluster string) ([]*Coverage, error) {
	points, unreadable, err := e.Store.Points(ctx, cluster)
	if err != nil {
		return nil, err
	}
	byCluster := map[string]*Coverage{}
	var out []*Coverage
	for _, p := range points {
		c := byCluster[p.Cluster]
		if c == nil {
			c = &Coverage{Cluster: p.Cluster}
			byCluster[p.Cluster] = c
			out = append(out, c)
		}
		c.Points = append(c.Points, p)
	}
	for _, c := range out {
		for _, u := range unreadable {
			c.Unreadable = append(c.Unreadable, u.Error())
		}
		if err := c.fill(ctx, e); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// fill works out what the log after the points gives.
func (c *Coverage) fill(ctx context.Context, e *run.Runner) error {
	chains, bad, err := e.Store.Chains(ctx, c.Cluster)
	if err != nil {
		return err
	}
	c.Chains = chains
	for _, b := range bad {
		c.Unreadable = append(c.Unreadable, b.Error())
	}
	if c.Proofs, err = e.Store.Proofs(ctx, c.Cluster); err != nil {
		return err
	}
	c.Proven = lastProven(c.Points, c.Proofs)
	for _, m := range c.Proofs {
		for _, d := range m.Doubts {
			what := strings.TrimPrefix(d.Namespace+": ", ": ") + "the log and point " + m.Point + " disagree: " + d.What
			c.Doubts = append(c.Doubts, Doubt{m.Since, m.Until, what})
		}
	}
	for _, p := range c.Points {
		c.stretch(p)
	}
	c.Narrowed = narrowed(c.Points, func(p *store.Point) time.Time { return reachOf(p, chains) })
	if n := len(c.Points); n > 0 {
		l, err := UntrackedSince(ctx, e, c.Points[n-1], false)
		if err != nil {
			return err
		}
		if l != nil {
			c.Doubts = append(c.Doubts, Doubt{l.Since, c.Latest, e.Text(l)})
		}
		return c.gaps(ctx, e, l != nil)
	}
	return c.gaps(ctx, e, false)
}

// stretch adds the time after a point as far as the logs of all shards reach.
func (c *Coverage) stretch(p *store.Point) {
	s := Stretch{p.Time, p.Time}
	for i, sh := range p.Shards {
		if end := reach(sh, c.Chains); i == 0 || end.Wall.Before(s.To) {
			s.To = end.Wall
		}
	}
	if s.To.Before(s.From) {
		s.To = s.From
	}
	if n := len(c.Stretches); n > 0 && !s.From.After(c.Stretches[n-1].To) {
		if s.To.After(c.Stretches[n-1].To) {
			c.Stretches[n-1].To = s.To
		}
	} else {
		c.Stretches = append(c.Stretches, s)
	}
	if s.To.After(c.Latest) {
		c.Latest = s.To
	}
}

// gaps lists the gaps of the logs, and what is doubtful in them. Told: what moments after the newest point lack
// is listed already.
func (c *Coverage) gaps(ctx context.Context, e *run.Runner, told bool) error {
	for _, ch := range c.Chains {
		begins, err := e.Store.Begins(ctx, c.Cluster, ch)
		if err != nil {
			return err
		}
		for _, g := range ch.Gaps() {
			if g.Reason != journal.Beginning || !begins {
				c.Gaps = append(c.Gaps, g)
			}
		}
		for i := range ch.Segments {
			s := &ch.Segments[i]
			until := s.Last.Wall
			if s.Unknown > 0 { // moments lack it until the next point has it
				n := slices.IndexFunc(c.Points, func(p *store.Point) bool { return p.Time.After(s.Last.Wall) })
				if n < 0 && told {
					continue
				}
				if until = c.Latest; n >= 0 {
					until = c.Points[n].Time
				}
			}
			for _, d := range s.Doubt {
				c.Doubts = append(c.Doubts, Doubt{s.After.Wall, until, d})
			}
		}
	}
	return nil
}

// reachOf returns until when every moment after a point can be restored.
func reachOf(p *store.Point, chains map[string]*journal.Chain) time.Time {
	var least time.Time
	for _, s := range p.Shards {
		if end := reach(s, chains).Wall; least.IsZero() || end.Before(least) {
			least = end
		}
	}
	return least
}
