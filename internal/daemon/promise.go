package daemon

import (
	"context"
	"slices"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// promiseReach is how far back what a promise came to is worked out at the first time: captures that went well
// are forgotten after that.
const promiseReach = 7 * 24 * time.Hour

// span is from one time to another.
type span struct{ from, to time.Time }

// keptSpans returns when the newest moment that could be restored was no older than is promised, by what runs
// did. Of a run that follows the log, what it has read counts after seal; else when it has ended.
func keptSpans(runs []*store.Run, promised, seal time.Duration, following bool) (out []span) {
	for _, r := range runs {
		if r.Kind != store.RunSnapshot && r.Kind != store.RunCapture || r.To.IsZero() || r.Finished.IsZero() {
			continue
		}
		out = append(out, span{r.Finished, r.To.Add(promised)})
		if follows := r.Started.Add(seal); following && r.Kind == store.RunCapture && r.Finished.After(follows) {
			out = append(out, span{follows, r.Finished})
		}
	}
	return out
}

// brokenFor returns for how long none of the spans was on, between two times.
func brokenFor(spans []span, from, to time.Time) (broken time.Duration) {
	slices.SortFunc(spans, func(a, b span) int { return a.from.Compare(b.from) })
	at := from
	for _, s := range spans {
		if !s.to.After(at) || !s.to.After(s.from) { // it was too old when it came
			continue
		}
		if s.from.After(to) {
			break
		}
		if s.from.After(at) {
			broken += s.from.Sub(at)
		}
		at = s.to
	}
	if to.After(at) {
		broken += to.Sub(at)
	}
	return broken
}

// promiseSince works out for how long the promise of an assignment was broken from a time on until now, but
// not before its first point; nil where nothing is promised, or nothing is there yet.
func promiseSince(ctx context.Context, e *run.Runner, w Assignment, s *State, from, now time.Time) (*store.RunPromise,
	error) {
	promised := time.Duration(w.Config.RPO)
	if promised <= 0 || len(s.Points) == 0 {
		return nil, nil
	}
	if first := s.Points[0].Finished; first.After(from) {
		from = first
	}
	if !now.After(from) {
		return nil, nil
	}
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: w.Cluster, Since: from.Add(-promised - 24*time.Hour),
		Kinds: []string{store.RunSnapshot, store.RunCapture}})
	if err != nil {
		return nil, err
	}
	spans := keptSpans(runs, promised, w.Config.SealAfter(), w.Config.When.Continuous)
	for _, r := range s.Going { // that follows now, and has stored what it read
		if r.Kind == store.RunCapture && w.Config.When.Continuous {
			spans = append(spans, span{r.Started.Add(w.Config.SealAfter()), s.Latest.Add(promised)})
		}
	}
	// Runs that are forgotten have left points: so much is known in any case.
	for _, p := range s.Points {
		spans = append(spans, span{p.Finished, p.Time.Add(promised)})
	}
	return &store.RunPromise{From: from, To: now.UTC().Truncate(time.Millisecond), Promised: record.Seconds(promised),
		Broken: record.Seconds(brokenFor(spans, from, now))}, nil
}

// keepPromise notes in a run of retention what the promise came to since it was noted last.
func keepPromise(ctx context.Context, e *run.Runner, w Assignment, s *State, r *store.Run, now time.Time) error {
	last, err := lastPromise(ctx, e, w.Cluster, now.Add(-promiseReach))
	if err != nil {
		return err
	}
	r.Promise, err = promiseSince(ctx, e, w, s, last, now)
	return err
}

// lastPromise returns up to when it was noted what a cluster's promise came to; least where it was not.
func lastPromise(ctx context.Context, e *run.Runner, cluster string, least time.Time) (time.Time, error) {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: cluster, Kinds: []string{store.RunRetention}, Last: 20})
	for _, r := range runs {
		if r.Promise != nil && r.Promise.To.After(least) {
			least = r.Promise.To
		}
	}
	return least, err
}
