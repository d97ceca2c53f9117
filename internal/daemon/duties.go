package daemon

import (
	"slices"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/calendar"
	"dexamen/internal/core/process"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
)

// Duty is one thing that a policy asks for.
type Duty struct {
	Assignment Assignment `json:"-"`
	Kind       string     `json:"kind"`
	// Slot is the time it was due; the same whoever computes it.
	Due time.Time `json:"due"`
	// At is when it may begin: later than Slot after a failure and in quiet
	// hours.
	At      time.Time `json:"at"`
	Attempt int       `json:"attempt"`
	Reason  string    `json:"reason"`
	// Urgent: a new point is needed before anything else can be protected.
	Urgent bool `json:"urgent"`
}

// due reports whether it may begin.
func (d *Duty) due(now time.Time) bool { return !d.At.After(now) }

// Duties reports what an assignment's policy asks for next, of each kind: what is due by
// now, or else when it will be. What goes on is left out.
func Duties(w Assignment, s *State, now time.Time) (out []Duty) {
	for _, d := range []*Duty{snapshotDuty(w, s, now), captureDuty(w, s, now), retentionDuty(w, s, now),
		mirrorDuty(w, s, now), drillDuty(w, s, now), undoDuty(w, s)} {
		if d != nil && !slices.ContainsFunc(s.Going, func(r *store.Run) bool { return r.Kind == d.Kind }) {
			d.Assignment = w
			out = append(out, *d)
		}
	}
	return out
}

// Done reports whether a duty has been done, or given up, since it was computed.
func Done(d Duty, s *State, now time.Time) bool {
	for _, n := range Duties(d.Assignment, s, now) {
		if n.Kind == d.Kind && n.Due.Equal(d.Due) && n.Attempt == d.Attempt && n.due(now) {
			return false
		}
	}
	return true
}

// ahead reports whether a time is one that is still to come, by more than clocks are apart.
func ahead(t, now time.Time) bool { return t.After(now.Add(process.Tolerance)) }

// Ahead returns the first point that is dated later than now; the clock by which it was made, or this
// one, is wrong.
func (s *State) Ahead(now time.Time) *store.Point {
	for _, p := range s.Points {
		if ahead(p.Time, now) {
			return p
		}
	}
	return nil
}

// served reports whether a due time has had its run.
func served(s *State, w Assignment, kind string, dueAt, now time.Time) bool {
	for _, r := range s.Runs {
		if ahead(r.Started, now) || ahead(r.Due, now) {
			continue // by a clock that was wrong: it must not stand for all that is to come
		}
		// what differs is told
		did := r.Result == store.RunDone || r.Result == store.RunIncomplete || r.Result == store.RunDiffers
		if r.Kind == kind && did &&
			(r.Policy == w.Policy && !r.Due.Before(dueAt) || r.Policy == "" && !r.Started.Before(dueAt)) {
			return true
		}
	}
	return false
}

// attempt reports when a due time that is not served may be tried: at once, later after
// failures, or never again.
func attempt(s *State, w Assignment, kind string, dueAt time.Time) (at time.Time, n int, never bool) {
	n, at = 1, dueAt
	for _, r := range s.Runs {
		if r.Kind != kind || r.Policy != w.Policy || !r.Due.Equal(dueAt) {
			continue
		}
		switch {
		case r.Result == store.RunInterrupted:
			n, at = r.Attempt, r.Finished // it was told to stop: no failure
			continue
		case r.Result == store.RunKilled && r.Attempt <= 1:
			n, at = r.Attempt+1, r.Finished // whoever ended the process is gone by now
			continue
		}
		wait, over := w.Config.Retry.Wait(r.Attempt, r.Finished.Sub(dueAt))
		n, at, never = r.Attempt+1, r.Finished.Add(wait), over
	}
	return at, n, never
}

// try works out when the duty's due time may be tried; one that was given up makes way for
// the next.
func (d *Duty) try(w Assignment, s *State, next time.Time) {
	var never bool
	if d.At, d.Attempt, never = attempt(s, w, d.Kind, d.Due); never {
		d.Due, d.At, d.Attempt = next, next, 1
	}
}

func snapshotDuty(w Assignment, s *State, now time.Time) *Duty {
	when := w.Config.When.Snapshot
	if when.IsZero() {
		return nil
	}
	d := &Duty{Kind: store.RunSnapshot, Due: when.Last(now), Reason: when.String()}
	p := s.Newest()
	switch since, why := s.FailingSince(); {
	case p == nil:
		d.Reason = "there is no point yet"
	case !since.IsZero():
		d.Reason, d.Urgent = why, true
		if since.After(d.Due) {
			d.Due = since
		}
	case !p.Time.Before(d.Due) && !ahead(p.Time, now) || served(s, w, d.Kind, d.Due, now):
		d.Due = when.Next(now)
	}
	d.try(w, s, when.Next(now))
	at := d.At
	// Only scans are kept out of quiet hours.
	if !Folds(w, s, d.Due) {
		d.At = calendar.Quiet(w.Config.When.NoScans, later(d.At, now))
		if !d.At.After(now) {
			d.At = at
		}
	}
	return d
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Folds reports whether a point for a due time can be folded from the log: the last
// one that was read from the cluster is young enough, and the log follows on the
// newest.
func Folds(w Assignment, s *State, dueAt time.Time) bool {
	rescan := w.Config.When.FullRead
	if rescan.IsZero() {
		return false
	}
	scanned := s.Scanned()
	if scanned == nil || traits(scanned.Engine).Incremental || scanned.Time.Before(rescan.Last(dueAt)) ||
		!scanned.Exact {
		return false
	}
	if since, _ := s.FailingSince(); !since.IsZero() || traits(scanned.Engine).Commands {
		return false
	}
	// A point that holds other namespaces cannot be gone on from.
	return slices.Equal(s.Newest().Scope, w.Config.Namespaces.At(dueAt.In(zone(w.Config))))
}

// fullReadDefault is how often a cluster of which only what has changed need be read is
// read whole, where its policy does not say.
const fullReadDefault = 30 * 24 * time.Hour

// ReadsChanges reports whether a point for a due time is made of what has changed since
// the last one, where the cluster's engine can tell that.
func ReadsChanges(w Assignment, s *State, dueAt time.Time) bool {
	scanned := s.Scanned()
	return scanned != nil && ReadsChangesAfter(w, s, scanned.Time, dueAt)
}

// ReadsChangesAfter is ReadsChanges where the last point that was read whole is of a
// time; the zero time stands for none.
func ReadsChangesAfter(w Assignment, s *State, scanned, dueAt time.Time) bool {
	p := s.Newest()
	if p == nil || scanned.IsZero() || !traits(p.Engine).Incremental {
		return false
	}
	if re := w.Config.When.FullRead; !re.IsZero() {
		return !scanned.Before(re.Last(dueAt))
	}
	return scanned.After(dueAt.Add(-fullReadDefault))
}

// traits returns what is peculiar to an engine.
func traits(name string) engine.Traits {
	drv, err := engine.ForName(name)
	if err != nil {
		return engine.Traits{}
	}
	return drv.Model().Traits()
}

func captureDuty(w Assignment, s *State, now time.Time) *Duty {
	when := w.Config.When
	p := s.Newest()
	if when.Capture == 0 && !when.Continuous || p == nil {
		return nil // a log without a point restores nothing
	}
	d := &Duty{Kind: store.RunCapture}
	if when.Continuous {
		d.Reason, d.Due, d.At, d.Attempt = "continuous", s.Points[0].Time, now, 1
		if r := s.last(d.Kind); r != nil && r.Policy == w.Policy {
			d.Due = r.Finished // one row of runs, each of which begins where the last ended
			if r.Result == store.RunFailed || r.Result == store.RunRefused {
				retry := w.Config.Retry
				if retry.First == 0 { // it costs little, and each second counts
					retry.First = config.Duration(5 * time.Second)
				}
				wait, never := retry.Wait(r.Attempt, 0)
				if never {
					wait = time.Hour
				}
				d.At, d.Attempt = r.Finished.Add(wait), r.Attempt+1
				if ahead(r.Finished, now) {
					d.At = now.Add(wait)
				}
			} else if r.Wants != "" && !p.Started.After(r.Started) {
				d.At = now.Add(time.Minute) // it waits for a new point
			}
		}
		return d
	}
	d.Reason = "every " + w.Config.Capture
	d.Due = now.Truncate(when.Capture)
	// The point itself is as good as a capture up to it.
	if served(s, w, d.Kind, d.Due, now) || !p.Time.Before(d.Due) && !ahead(p.Time, now) {
		d.Due = d.Due.Add(when.Capture)
	}
	d.try(w, s, now.Truncate(when.Capture).Add(when.Capture))
	return d
}

func retentionDuty(w Assignment, s *State, now time.Time) *Duty {
	when := w.Config.When.Retention
	if len(s.Points) == 0 {
		return nil
	}
	d := &Duty{Kind: store.RunRetention, Due: when.Last(now), Reason: when.String()}
	if served(s, w, d.Kind, d.Due, now) {
		d.Due = when.Next(now)
	}
	d.try(w, s, when.Next(now))
	return d
}

func mirrorDuty(w Assignment, s *State, now time.Time) *Duty {
	every := w.Config.Mirrors()
	if w.Config.MirrorTo == "" || len(s.Points) == 0 {
		return nil
	}
	d := &Duty{Kind: store.RunMirror, Due: now.Truncate(every), Reason: "every " + every.String() + " to " +
		w.Config.MirrorTo}
	if s.last(d.Kind) == nil {
		d.Due = s.Points[0].Finished // the first copy is made at once
	}
	next := now.Truncate(every).Add(every)
	if served(s, w, d.Kind, d.Due, now) {
		d.Due = next
	}
	d.try(w, s, next)
	return d
}

// undoDuty is the end of a restore that was for a time.
func undoDuty(w Assignment, s *State) *Duty {
	if len(s.Temporary) == 0 {
		return nil
	}
	r := s.Temporary[0]
	d := &Duty{Kind: store.RunUndo, Due: r.Until, Reason: "restore " + r.ID + " was for a time"}
	d.At, d.Attempt, _ = attempt(s, w, d.Kind, d.Due)
	return d
}
