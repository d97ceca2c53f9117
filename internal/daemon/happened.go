package daemon

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/notify"
	"dexamen/internal/pinpoint"
	"dexamen/internal/run"
)

// toldFor is how long something that was dropped or spoiled is among the alerts.
const toldFor = 24 * time.Hour

// What a burst is that somebody is told of, where the configuration does not say.
const (
	burstLeast  = 100
	burstFactor = 10
)

// happenings is what was dropped, emptied or spoiled lately, as far as the log in the store
// was looked through.
type happenings struct {
	found map[string]pinpoint.Finding
	upTo  time.Time

	mu    sync.Mutex
	usual *pinpoint.Usual // nil before anything was learned
}

// look looks through what the store holds of the log since the last time.
func (h *happenings) look(ctx context.Context, e *run.Runner, cluster string, s *State, b config.Burst) error {
	if h.found == nil {
		h.found = map[string]pinpoint.Finding{}
	}
	oldest := time.Now().Add(-toldFor)
	for k, f := range h.found {
		if f.Started.Before(oldest) {
			delete(h.found, k)
		}
	}
	if len(s.Points) == 0 || !s.Latest.After(h.upTo) {
		return nil
	}
	const overlap = time.Minute // of a burst that went on
	since := h.upTo.Add(-overlap)
	if since.Before(oldest) {
		since = oldest
	}
	least, factor := b.Limits(burstLeast, burstFactor)
	r, err := pinpoint.Find(ctx, e, cluster, pinpoint.Options{Since: since, Least: least, Factor: factor})
	if err != nil {
		return err
	}
	for _, f := range r.Findings {
		switch f.Kind {
		case pinpoint.Dropped, pinpoint.Emptied, pinpoint.Deletes, pinpoint.Updates:
			k := fmt.Sprint(f.Kind, " ", f.Namespace, " ", f.Started.UnixMilli())
			h.found[k] = f
		}
	}
	h.upTo = s.Latest
	u, err := pinpoint.Learn(ctx, e, cluster)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.usual = u
	return err
}

// urgent reports whether a change is of what somebody is told of: a drop, or so many changes
// of records that they are not usual.
func (h *happenings) urgent(b config.Burst, namespace string, op record.Op, busiest int64, at time.Time) bool {
	switch op {
	case record.Drop, record.Empty:
		return true
	case record.Delete, record.Patch:
		least, factor := b.Limits(burstLeast, burstFactor)
		if busiest < least {
			return false
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		return h.usual == nil || busiest >= factor*h.usual.Of(namespace, op, at)
	}
	return false
}

// alerts returns the alerts about what happened.
func (h *happenings) alerts(w Assignment) (out []notify.Alert) {
	for k, f := range h.found {
		a := notify.Alert{Key: "happened " + k, About: "drop", Store: w.Store, Cluster: w.Cluster, Policy: w.Policy,
			Since: f.Started.UTC()}
		at := f.Started.Local().Format(time.RFC3339)
		switch f.Kind {
		case pinpoint.Dropped, pinpoint.Emptied:
			a.Text = fmt.Sprintf("%s: %s was %s at %s", w.Cluster, f.Namespace, f.Kind, at)
			if f.Was > 0 {
				a.Text += fmt.Sprintf("; the point before has %s of it", run.Count(f.Was, "record"))
			}
		default:
			a.About = "burst"
			a.Text = fmt.Sprintf("%s: %s in %s within %s, from %s on; usual there are up to %d in ten seconds",
				w.Cluster,
				run.Count(f.Changes, strings.TrimSuffix(string(f.Kind), "s")), f.Namespace,
				f.Finished.Sub(f.Started).Round(time.Millisecond), at, f.Usual)
		}
		a.Do = "what was there just before is " + f.Before
		if f.Cannot != "" {
			a.Do = "dexamen pinpoint " + w.Cluster
		}
		out = append(out, a)
	}
	return out
}

// telling reports whether a stored segment has something that somebody may have to be told.
func (h *happenings) telling(seg *journal.Header, b config.Burst) bool {
	for _, t := range seg.Summary {
		for _, op := range []record.Op{record.Drop, record.Empty, record.Delete, record.Patch} {
			if c := t.By.Of(op.String()); c.Changes > 0 && h.urgent(b, t.Namespace, op, c.Busiest, seg.Last.Wall) {
				return true
			}
		}
	}
	return !seg.Summarized()
}
