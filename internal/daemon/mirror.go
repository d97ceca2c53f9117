package daemon

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

// mirror copies what a policy's second store does not have yet of a cluster, and keeps there by the
// same rule what is kept.
func (w Deps) mirror(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
	name := d.Assignment.Config.MirrorTo
	s, err := ReadState(ctx, e, d.Assignment.Cluster)
	if err != nil {
		return err
	}
	to, err := w.Config.Open(ctx, name)
	if err != nil {
		return fmt.Errorf("mirror %s: %w", name, err)
	}
	r.Target, r.To = name, s.Latest
	end, err := w.Share(ctx, e, d.Kind, "", nil)
	if err != nil {
		return err
	}
	o := store.MirrorOptions{Clusters: []string{d.Assignment.Cluster}, Parallel: e.Parallel}
	ShareMirror(&o, e, name)
	m, err := e.Store.Mirror(ctx, to, o)
	end()
	if errors.Is(err, store.ErrOtherStore) {
		err = fmt.Errorf("%w: mirror %s: %w: a mirror begins as an empty place; it must not be made by store create",
			run.ErrRefused, name, err)
	}
	if m != nil {
		r.Stored, r.Segments = m.Bytes, m.Points
	}
	if err != nil {
		return err
	}
	if w.Mirrored != nil {
		w.Mirrored(name, e.Store)
	}
	if err := w.retireMirrored(ctx, d.Assignment); err != nil {
		return fmt.Errorf("mirror %s: what is kept there: %w", name, err)
	}
	if len(m.Damaged) > 0 {
		return fmt.Errorf("%w: %d objects are damaged and were not copied; look with: dexamen store scrub %s",
			run.ErrIncomplete, len(m.Damaged), d.Assignment.Store)
	}
	return nil
}

// retireMirrored lets go in the second store what no rule keeps. What the first store still has is
// never let go: the second is not to have less.
func (w Deps) retireMirrored(ctx context.Context, a Assignment) error {
	e, err := w.env(ctx, a.Config.MirrorTo, a.Cluster)
	if err != nil {
		return err
	}
	defer e.Store.Close()
	s, err := ReadState(ctx, e, a.Cluster)
	if err != nil {
		return err
	}
	first, err := w.env(ctx, a.Store, a.Cluster)
	if err != nil {
		return err
	}
	defer first.Store.Close()
	points, _, err := first.Store.Points(ctx, a.Cluster)
	if err != nil {
		return err
	}
	has := map[string]bool{}
	for _, p := range points {
		has[p.ID] = true
	}
	var drop []string
	logFrom := ""
	for _, v := range s.Plan(a, time.Now()).Verdicts {
		if !v.Keep && !has[v.Point.ID] {
			drop = append(drop, v.Point.ID)
		} else if logFrom == "" {
			logFrom = v.Point.ID // the log of what stays stays whole
		}
	}
	if len(drop) == 0 {
		return nil
	}
	if _, err := e.Store.Retire(ctx, a.Cluster, drop, logFrom); err != nil {
		return err
	}
	_, err = e.Store.Reclaim(ctx, store.ReclaimOptions{Every: 12 * time.Hour})
	if errors.Is(err, store.ErrHeld) {
		return nil
	}
	return err
}

// mirrored is the newest moment that the second store holds, as far as runs tell; the zero time
// where nothing was copied.
func (s *State) mirrored(to string) (at time.Time) {
	for _, r := range s.Runs {
		if r.Kind == store.RunMirror && r.Target == to && r.Result == store.RunDone && r.To.After(at) {
			at = r.To
		}
	}
	return at
}

// mirrorAlert returns the alert that the second store is behind: nothing was copied at two times when it was
// due, while there was something to copy.
func mirrorAlert(w Assignment, s *State, now time.Time) (a notify.Alert, behind bool) {
	to := w.Config.MirrorTo
	if to == "" || len(s.Points) == 0 {
		return a, false
	}
	// When it was copied last. Of each kind only the last few runs are known: where all of those
	// failed, it was before them.
	last := s.Points[0].Finished
	good := false
	for _, r := range s.Runs {
		switch {
		case r.Kind != store.RunMirror || r.Target != to:
		case r.Result == store.RunDone:
			last, good = r.Finished, true
		case !good && r.Started.After(last):
			last, good = r.Started, true
		}
	}
	since := last.Add(2*w.Config.Mirrors() + 10*time.Minute)
	if now.Before(since) {
		return a, false
	}
	text := fmt.Sprintf("%s: the second copy in store %s is behind: nothing was copied since %s", w.Cluster, to,
		last.Local().Format(time.RFC3339))
	if at := s.mirrored(to); !at.IsZero() {
		text += ", and the newest moment there is " + at.Local().Format(time.RFC3339)
	}
	return notify.Alert{Key: "mirror " + to, About: "mirror", Store: w.Store, Cluster: w.Cluster, Policy: w.Policy,
		Since: since.UTC(), Text: text, Do: "dexamen runs " + w.Cluster + " --kind mirror"}, true
}
