// Package daemon does what policies ask for when it is due: it computes that
// from the schedules and from what the store holds, so that neither a restart
// nor a second daemon does a thing twice or forgets one.
package daemon

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/retain"
	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/undo"
)

// Assignment is one cluster under one policy.
type Assignment struct {
	Policy  string
	Store   string
	Cluster string
	Config  config.Policy
}

// Assignments lists what a configuration's policies protect.
func Assignments(c *config.Config) (out []Assignment) {
	for _, name := range config.Names(c.Policies) {
		p := c.Policies[name]
		for _, cl := range c.Protected(p) {
			if st, err := c.StoreFor(p, cl); err == nil {
				out = append(out, Assignment{Policy: name, Store: st, Cluster: cl, Config: p})
			}
		}
	}
	return out
}

// State is what a store knows of a cluster.
type State struct {
	Points []*store.Point // oldest first
	Chains map[string]*journal.Chain
	Runs   []*store.Run // the newest of each kind, oldest first
	Going  []*store.Run // that have begun and not ended
	Proofs map[string]*store.ProofMark
	Holds  []*store.Hold
	Gaps   []journal.Gap
	Latest time.Time // the newest moment that can be restored
	// Stretches are those in which every moment can be restored.
	Stretches []moment.Stretch
	Read      time.Time // when this was read
	Damaged   []string  // what could not be read
	// Temporary are restores that are to be undone at a time, the first to go first.
	Temporary []*store.Run
	// Flawed are points that the last scrub found damaged, where that was asked for.
	Flawed map[string]bool
	// KeepLocked is for how long the store lets nothing be removed.
	KeepLocked time.Duration
}

// recent is how many runs of each kind are looked at.
const recent = 4

// ReadState reads what a store knows of a cluster.
func ReadState(ctx context.Context, e *run.Runner, cluster string) (*State, error) {
	s := &State{Read: time.Now(), KeepLocked: time.Duration(e.Store.ImmutableFor) * time.Second}
	running, _, err := e.Store.Running(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range running {
		if r.Cluster == cluster {
			s.Going = append(s.Going, r)
		}
	}
	runs, bad, err := e.Store.Runs(ctx, store.RunFilter{Cluster: cluster, Last: recent})
	if err != nil {
		return nil, err
	}
	s.Runs = runs
	if s.Temporary, err = undo.Temporary(ctx, e, cluster); err != nil {
		return nil, err
	}
	covers, err := moment.Cover(ctx, e, cluster)
	if err != nil {
		return nil, err
	}
	for _, c := range covers {
		s.Points, s.Gaps, s.Latest, s.Damaged = c.Points, c.Gaps, c.Latest, c.Unreadable
		s.Chains, s.Proofs, s.Stretches = c.Chains, c.Proofs, c.Stretches
	}
	for _, b := range bad {
		s.Damaged = append(s.Damaged, b.Error())
	}
	s.Holds, err = e.Store.Holds(ctx, cluster)
	return s, err
}

// ReadFlaws reads which points the last scrub found damaged: retention keeps others rather.
func (s *State) ReadFlaws(ctx context.Context, e *run.Runner, cluster string) error {
	scrub, err := e.Store.LastScrub(ctx)
	if errors.Is(err, store.ErrDamaged) || err == nil && scrub == nil {
		return nil
	}
	if err != nil {
		return err
	}
	s.Flawed = map[string]bool{}
	for _, p := range scrub.Points {
		if p.Cluster == cluster {
			s.Flawed[p.ID] = true
		}
	}
	return nil
}

// Newest returns the last point.
func (s *State) Newest() *store.Point {
	if len(s.Points) == 0 {
		return nil
	}
	return s.Points[len(s.Points)-1]
}

// Scanned returns the last point that was read from the cluster.
func (s *State) Scanned() *store.Point {
	for i := len(s.Points) - 1; i >= 0; i-- {
		if s.Points[i].Made == "scan" {
			return s.Points[i]
		}
	}
	return nil
}

// FailingSince reports whether log lies after the newest point that does not follow on
// it, or a shard's log cannot be taken up: a new point is needed then. Since is
// when, the same however often it is asked.
func (s *State) FailingSince() (since time.Time, why string) {
	p := s.Newest()
	if p == nil {
		return time.Time{}, ""
	}
	for _, sh := range p.Shards {
		c := s.Chains[sh.Name]
		if c == nil || sh.Mark.Position == "" {
			continue
		}
		if end, _, ok := c.End(); ok {
			reach := c.Reach(sh.Mark)
			if reach.Position >= end.Position {
				continue
			}
			why = "the log after point " + p.ID + " has a gap"
			for _, g := range c.Gaps() {
				if g.From.Position >= reach.Position {
					return g.To.Wall, why
				}
			}
			return reach.Wall, why
		}
	}
	if r := s.last(store.RunCapture); r != nil && r.Wants != "" && p.Started.Before(r.Started) {
		return r.Started, r.Wants
	}
	return time.Time{}, ""
}

// last returns the newest run of a kind, whoever asked for it.
func (s *State) last(kind string) (last *store.Run) {
	for _, r := range s.Runs {
		if r.Kind == kind {
			last = r
		}
	}
	return last
}

// Plan reports what an assignment's retention would keep and retire.
func (s *State) Plan(w Assignment, now time.Time) *retain.Plan {
	var points []retain.Point
	for i, p := range s.Points {
		rp := retain.Point{ID: p.ID, Time: p.Time, Made: p.Finished,
			Flawed: !p.Exact || len(p.Skipped) > 0 || s.Flawed[p.ID]}
		for _, h := range s.Holds {
			if h.Point == p.ID && h.Until.After(rp.Held) {
				rp.Held, rp.HeldReason = h.Until, h.Reason
			}
		}
		if s.KeepLocked > 0 {
			// The one after it has prolonged its lock, for the moments in between.
			last := s.Points[min(i+1, len(s.Points)-1)]
			rp.Locked = last.Finished.Add(s.KeepLocked)
		}
		points = append(points, rp)
	}
	if k := w.Config.Keep; k.EveryMoment == 0 && len(k.Thin) == 0 && k.NeverFewer == 0 && k.NeverMore == 0 {
		// A policy that does not say what is kept lets nothing go.
		plan := &retain.Plan{}
		for i, p := range points {
			plan.Verdicts = append(plan.Verdicts,
				retain.Verdict{Point: p, Keep: true, Reason: "the policy does not say for how long points are kept"})
			if i == 0 {
				plan.LogFrom = p.ID
			}
		}
		return plan
	}
	return w.Config.When.Rule.Decide(points, now)
}
