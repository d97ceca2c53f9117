package daemon

import (
	"context"
	"fmt"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/drill"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

// DrillStatus is a drill that went well.
type DrillStatus struct {
	Run         string         `json:"run"`
	Finished    time.Time      `json:"finished"`
	FirstAnswer record.Seconds `json:"first_answer_seconds"`
	Recovery    record.Seconds `json:"recovery_seconds"`
	Age         record.Seconds `json:"age_seconds"`
	Target      string         `json:"target,omitempty"`
}

// LastDrill returns the last drill of a cluster that went well, of the last few; nil where there is none.
func LastDrill(ctx context.Context, e *run.Runner, cluster string) (*DrillStatus, error) {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: cluster, Kinds: []string{store.RunDrill}, Last: recent})
	return (&State{Runs: runs}).LastDrill(), err
}

// LastDrill returns the last drill that went well, of the last few; nil where there is none.
func (s *State) LastDrill() (last *DrillStatus) {
	for _, r := range s.Runs {
		if r.Kind == store.RunDrill && r.Good() && r.Drill != nil {
			last = &DrillStatus{Run: r.ID, Finished: r.Finished, FirstAnswer: r.Drill.FirstAnswer,
				Recovery: r.Drill.Recovery, Age: r.Drill.Age, Target: r.Target}
		}
	}
	return last
}

// drillDuty is the next rehearsal. A cluster whose first point is younger than the last due time waits
// for the next.
func drillDuty(w Assignment, s *State, now time.Time) *Duty {
	if w.Config.Drill == nil || len(s.Points) == 0 {
		return nil
	}
	when := w.Config.Drill.When.Schedule
	d := &Duty{Kind: store.RunDrill, Due: when.Last(now), Reason: when.String()}
	if served(s, w, d.Kind, d.Due, now) || s.Points[0].Finished.After(d.Due) && s.last(d.Kind) == nil {
		d.Due = when.Next(now)
	}
	d.try(w, s, when.Next(now))
	return d
}

// drillOverdue reports whether a whole turn of the schedule went by without a drill that went well, and
// since when.
func drillOverdue(w Assignment, s *State, now time.Time) (since time.Time, overdue bool) {
	if w.Config.Drill == nil || len(s.Points) == 0 {
		return since, false
	}
	when := w.Config.Drill.When.Schedule
	since = when.Last(now)
	before := when.Last(since.Add(-time.Second))
	if s.Points[0].Finished.After(before) {
		return since, false
	}
	last := s.LastDrill()
	return since, last == nil || last.Finished.Before(before)
}

func lastDrillText(s *State) string {
	if d := s.LastDrill(); d != nil {
		return d.Finished.Local().Format(time.RFC3339)
	}
	return "it is protected"
}

// DrillOptions returns how a policy has restores rehearsed, but for the scratch cluster itself.
func DrillOptions(d config.Drill) drill.Options {
	o := drill.Options{Patterns: d.Namespaces, Name: d.To, Within: time.Duration(d.Within), Chosen: d.Moment}
	if o.Chosen == "" {
		o.Chosen = "latest"
	}
	for _, c := range d.Checks {
		o.Checks = append(o.Checks, drill.Check{That: c.That, Find: c.Find, Where: c.Where, AtLeast: c.AtLeast,
			Run: c.Run, Timeout: time.Duration(c.Timeout), Environment: c.Environment})
	}
	return o
}

// DrillMoment finds the moment that a drill restores.
func DrillMoment(ctx context.Context, e *run.Runner, cluster, text string) (*moment.Moment, error) {
	random, when, err := config.ParseDrillMoment(text, time.Now())
	if err != nil {
		return nil, err
	}
	if random > 0 {
		return drill.Random(ctx, e, cluster, random, restore.OnScratch{})
	}
	return moment.Resolve(ctx, e, cluster, when, restore.OnScratch{})
}

// drill rehearses a restore.
func (w Deps) drill(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
	how := *d.Assignment.Config.Drill
	m, err := DrillMoment(ctx, e, d.Assignment.Cluster, how.Moment)
	if err != nil {
		return err
	}
	o := DrillOptions(how)
	if how.To != "" {
		o.Address = w.Config.Clusters[how.To].Address
		if o.Target, err = w.OpenCluster(ctx, w.Config, how.To, new(bool)); err != nil {
			return fmt.Errorf("the scratch cluster %s: %w", how.To, err)
		}
		defer func() { _ = o.Target.Close() }()
		end, err := w.Share(ctx, e, d.Kind, how.To, o.Target)
		if err != nil {
			return err
		}
		defer end()
	}
	return drill.Do(ctx, e, m, r, o)
}
