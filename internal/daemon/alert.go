package daemon

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Alert is something that somebody has to be told, once.
type Alert struct {
	// Key names the alert; as long as it is the same one, it is told once.
	Key     string    `json:"key"`
	About   string    `json:"about"` // what it is about, as the configuration names it
	Store   string    `json:"store"`
	Cluster string    `json:"cluster,omitempty"`
	Policy  string    `json:"policy,omitempty"`
	Since   time.Time `json:"since"`
	Text    string    `json:"text"`
	Do      string    `json:"do,omitempty"` // what to do about it
	// Over: it has ended.
	Over bool `json:"over"`
}

// passes reports whether an alert is of something that has happened, and does not end.
func (a *Alert) passes() bool {
	return a.About == "drop" || a.About == "burst" || a.About == "temporary"
}

// Alerts finds what is wrong with an assignment.
func Alerts(w Assignment, s *State, now time.Time) (out []Alert) {
	add := func(key, about string, since time.Time, do, text string, args ...any) {
		out = append(out, Alert{Key: key, About: about, Store: w.Store, Cluster: w.Cluster, Policy: w.Policy,
			Since: since.UTC(), Text: fmt.Sprintf(text, args...), Do: do})
	}
	doubt := s.doubt()
	for _, kind := range []string{store.RunSnapshot, store.RunCapture, store.RunRetention} {
		r := store.Newest(s.Runs, w.Policy, kind)
		if r == nil || r.Good() || r.Result == store.RunInterrupted {
			continue
		}
		if r.Result == store.RunDiffers && s.doubted() {
			continue // told below, with what is in doubt
		}
		// What is tried again at once and then goes well is not worth waking
		// anybody for.
		_, never := w.Config.Retry.Wait(r.Attempt, r.Finished.Sub(r.Due))
		if again := r.Result == store.RunFailed || r.Result == store.RunKilled; again && !never && s.wasGood(r) {
			continue
		}
		add("failure "+kind, "failure", r.Started, "dexamen runs show "+r.ID, "%s of %s: %s: %s", kind, w.Cluster,
			r.Result, r.Error)
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
			good = b.Good()
		}
	}
	return good
}

// Capacity describes how full a store is.
type Capacity struct {
	Used, Free int64 // bytes; Free is -1 where it is not known
	// Grows is how many bytes a day were added lately.
	Grows int64
}

// Days is for how many days there is room; ok is false where that is not known.
func (r Capacity) Days() (days float64, ok bool) {
	if r.Free < 0 || r.Grows <= 0 {
		return 0, false
	}
	return float64(r.Free) / float64(r.Grows), true
}

// alerts reports that a store is nearly full.
func (r Capacity) alerts(storeName string, atLeast time.Duration, now time.Time) []Alert {
	if atLeast <= 0 {
		atLeast = 14 * 24 * time.Hour
	}
	text := ""
	if days, ok := r.Days(); ok && days < atLeast.Hours()/24 {
		text = fmt.Sprintf("store %s is full in %.1f days as it grows now (%d MiB free, %d MiB a day)", storeName,
			days, r.Free>>20, r.Grows>>20)
	} else if r.Free >= 0 && r.Free < (r.Used+r.Free)/50 {
		text = fmt.Sprintf("store %s has %d MiB left", storeName, r.Free>>20)
	}
	if text == "" {
		return nil
	}
	return []Alert{{Key: "capacity", About: "capacity", Store: storeName, Since: now.UTC(), Text: text,
		Do: "dexamen store inspect " + storeName + "; give it more room, or keep less"}}
}

// sentAlert is what a store keeps of an alert that has been told, so that it is told
// once, whoever sees it and however often it is started anew.
type sentAlert struct {
	Alert Alert     `json:"alert"`
	Seen  time.Time `json:"seen"`
	Sent  time.Time `json:"sent,omitzero"`
}

const alertPrefix = "alert-"

// repeatAfter is after how long an alert that was seen and not told is told by whoever
// sees it next: who saw it first is gone.
const repeatAfter = 5 * time.Minute

func alertName(t Alert) string {
	sum := blake3.Sum256([]byte(t.Key))
	return fmt.Sprintf("%s%x", alertPrefix, sum[:8])
}

// Reconcile sends the alerts that are new and those that are over, and records that
// it did.
func Reconcile(ctx context.Context, e *run.Runner, cluster string, now []Alert, about []string,
	send func(context.Context, Alert) error) error {
	if cluster == "" {
		cluster = "-" // the store itself
	}
	type seen struct {
		sentAlert
		name string
	}
	var known []seen
	sent := map[string]bool{}
	err := e.Store.Marks(ctx, cluster, alertPrefix, func(what string, read func(any) error) error {
		if name, ok := strings.CutSuffix(what, "-sent"); ok {
			sent[name] = true
			return nil
		}
		s := seen{name: what}
		if err := read(&s.sentAlert); err != nil {
			if errors.Is(err, blob.ErrNotFound) || errors.Is(err, store.ErrDamaged) {
				return nil
			}
			return err
		}
		known = append(known, s) // a cluster has one policy here, whatever it was called
		return nil
	})
	if err != nil {
		return err
	}
	var failed []error
	tell := func(name string, t Alert) {
		if len(about) > 0 && !slices.Contains(about, t.About) {
			return
		}
		if err := send(ctx, t); err != nil {
			failed = append(failed, err)
			return
		}
		if !t.Over {
			_ = e.Store.PutMark(ctx, cluster, name+"-sent", sentAlert{Alert: t, Sent: time.Now().UTC()})
		}
	}
	for _, t := range now {
		name := alertName(t)
		i := slices.IndexFunc(known, func(s seen) bool { return s.name == name })
		if i >= 0 {
			if !sent[name] && time.Since(known[i].Seen) > repeatAfter {
				tell(name, known[i].Alert)
			}
			continue
		}
		err := e.Store.PutMark(ctx, cluster, name, sentAlert{Alert: t, Seen: time.Now().UTC()})
		if errors.Is(err, blob.ErrExists) {
			continue // another tells
		}
		if err != nil {
			return err
		}
		tell(name, t)
	}
	for _, s := range known {
		if slices.ContainsFunc(now, func(t Alert) bool { return alertName(t) == s.name }) {
			continue
		}
		if err := e.Store.RemoveMark(ctx, cluster, s.name); err != nil {
			if errors.Is(err, blob.ErrNotFound) {
				continue // another tells
			}
			return err
		}
		over := s.Alert
		over.Over = true
		_ = e.Store.RemoveMark(ctx, cluster, s.name+"-sent")
		if sent[s.name] && !over.passes() {
			tell(s.name, over)
		}
	}
	return errors.Join(failed...)
}

// ActiveAlerts lists the alerts that go on, as a store keeps them.
func ActiveAlerts(ctx context.Context, e *run.Runner, cluster string) (out []Alert, err error) {
	err = e.Store.Marks(ctx, cluster, alertPrefix, func(what string, read func(any) error) error {
		var t sentAlert
		if !strings.HasSuffix(what, "-sent") && read(&t) == nil {
			out = append(out, t.Alert)
		}
		return nil
	})
	return out, err
}
