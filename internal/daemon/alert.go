package daemon

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/notify"
)

// Alerts finds what is wrong with an assignment.
func Alerts(w Assignment, s *State, now time.Time) (out []notify.Alert) {
	add := func(key, about string, since time.Time, do, text string, args ...any) {
		out = append(out, notify.Alert{Key: key, About: about, Store: w.Store, Cluster: w.Cluster, Policy: w.Policy,
			Since: since.UTC(), Text: fmt.Sprintf(text, args...), Do: do})
	}
	doubt := s.doubt()
	for _, kind := range taskKinds {
		about := "failure"
		if kind == store.RunDrill {
			about = "drill"
		}
		if r := s.failed(w, kind); r != nil {
			add("failure "+kind, about, r.Started, "dexamen runs show "+r.ID, "%s of %s: %s: %s", kind, w.Cluster,
				r.Result, r.Error)
		}
	}
	if since, why := s.FailingSince(); !since.IsZero() {
		text := why
		for _, g := range s.Gaps {
			if !g.To.Wall.Before(since) {
				text = gapText(g)
			}
		}
		add("gap", "gap", since, "a new point is taken as soon as that is possible; see dexamen coverage "+w.Cluster,
			"%s: %s", w.Cluster, text)
	}
	if p := s.Ahead(now); p != nil {
		add("ahead", "failure", now, "set the clocks right; dexamen points "+w.Cluster,
			"%s: point %s is dated %s, which is still to come: the clock of %s, or of this machine, is "+
				"wrong. It does not "+
				"count as newest, and nothing is let go meanwhile", w.Cluster, p.ID,
			p.Time.Local().Format(time.RFC3339),
			w.Cluster)
	}
	if p := time.Duration(w.Config.RPO); p > 0 {
		switch {
		case len(s.Points) == 0 && s.last(store.RunSnapshot) == nil:
			// It is about to be taken for the first time.
		case len(s.Points) == 0:
			add("rpo", "rpo", now, "dexamen runs "+w.Cluster,
				"%s: there is no moment that can be restored; promised is one of the last %s", w.Cluster, p)
		case now.Sub(s.Latest) > p:
			add("rpo", "rpo", s.Latest.Add(p), "dexamen runs "+w.Cluster,
				"%s: the newest moment that can be restored is %s; promised is one of the last %s",
				w.Cluster, s.Latest.Local().Format(time.RFC3339), p)
		}
	}
	if a, behind := mirrorAlert(w, s, now); behind {
		out = append(out, a)
	}
	if since, overdue := drillOverdue(w, s, now); overdue &&
		!slices.ContainsFunc(out, func(a notify.Alert) bool { return a.Key == "failure "+store.RunDrill }) {
		add("overdue drill", "drill", since, "dexamen drill "+w.Cluster,
			"%s: no restore has been rehearsed with success since %s; by policy it is to be (%s)", w.Cluster,
			lastDrillText(s), w.Config.Drill.Schedule)
	}
	if n := s.Newest(); n != nil && len(n.Shrunk) > 0 {
		var lost []string
		for _, l := range n.Shrunk {
			lost = append(lost, fmt.Sprintf("%s (%d records, %d before)", l.Name, l.Is, l.Was))
		}
		add("loss "+n.ID, "loss", n.Time,
			fmt.Sprintf("dexamen compare %s@%s %s@%s; the point before is held", w.Cluster, n.Shrunk[0].Since,
				w.Cluster, n.ID),
			"%s: point %s has lost most of %s", w.Cluster, n.ID, strings.Join(lost, ", "))
	}
	if doubt != nil {
		var names []string
		for _, d := range doubt.Doubts {
			names = append(names, d.Namespace)
		}
		add("proof", "proof", doubt.Until, "dexamen verify "+w.Cluster+"@"+doubt.Point,
			"%s: the log from %s to %s does not lead to point %s in %s: moments in between are in doubt there",
			w.Cluster,
			doubt.Since.Local().Format(time.RFC3339), doubt.Until.Local().Format(time.RFC3339), doubt.Point,
			strings.Join(names, ", "))
	}
	for _, r := range s.Temporary {
		if left := r.Until.Sub(now); left < toldFor && left < r.Until.Sub(r.Started)*3/4 {
			var names []string
			for _, n := range r.Restored {
				names = append(names, n.To)
			}
			add("temporary "+r.ID, "temporary", now, "what is still needed of it must be copied until then",
				"%s: %s, restored for a time by run %s, goes at %s", r.Target, strings.Join(names, ", "), r.ID,
				r.Until.Local().Format(time.RFC3339))
		}
	}
	for _, d := range s.Damaged {
		add("damaged "+d, "failure", now, "dexamen store scrub "+w.Store+" --repair", "%s: %s", w.Cluster, d)
	}
	return out
}

// failed returns the last run of a kind where it failed in a way that is to be told by itself; nil
// otherwise.
func (s *State) failed(w Assignment, kind string) *store.Run {
	r := store.Newest(s.Runs, w.Policy, kind)
	if r == nil || r.Good() || r.Result == store.RunInterrupted {
		return nil
	}
	switch drilled := s.LastDrill(); {
	case kind == store.RunDrill && drilled != nil && drilled.Finished.After(r.Finished):
		return nil // somebody has done it by hand since
	case kind != store.RunDrill && r.Result == store.RunDiffers && s.doubted():
		return nil // it is told with what is in doubt
	case kind == store.RunCapture && s.recaptured(r):
		return nil // it goes on, and has stored something since
	}
	// What is tried again at once and then goes well is not worth waking anybody for.
	_, never := w.Config.Retry.Wait(r.Attempt, r.Finished.Sub(r.Due))
	if again := r.Result == store.RunFailed || r.Result == store.RunKilled; again && !never && s.wasGood(r) {
		return nil
	}
	return r
}

// recaptured reports whether a capture goes on that has stored something since a run failed.
func (s *State) recaptured(failed *store.Run) bool {
	return s.Latest.After(failed.Finished) && slices.ContainsFunc(s.Going, func(r *store.Run) bool {
		return r.Kind == store.RunCapture && r.Started.After(failed.Started)
	})
}

// doubt returns the last proof where it found a difference, else nil.
func (s *State) doubt() *store.ProofMark {
	for i := len(s.Points) - 1; i >= 0; i-- {
		if m := s.Proofs[s.Points[i].ID]; m != nil && m.NotProven == "" {
			if m.Equal {
				return nil
			}
			return m
		}
	}
	return nil
}

// doubted reports whether any proof found a difference.
func (s *State) doubted() bool {
	for _, m := range s.Proofs {
		if m.NotProven == "" && !m.Equal {
			return true
		}
	}
	return false
}

// wasGood reports whether the run before one, of its kind and policy, did what it
// was for.
func (s *State) wasGood(r *store.Run) bool {
	good := true
	for _, b := range s.Runs {
		if b.Kind == r.Kind && b.Policy == r.Policy && b.ID < r.ID && b.Result != store.RunInterrupted {
			// A capture that failed and has stored something since is no failure in a row.
			good = b.Good() || b.Kind == store.RunCapture && s.Latest.After(b.Finished)
		}
	}
	return good
}
