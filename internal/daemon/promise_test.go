package daemon

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/store"
)

// TestPromises compares for how long a promise was broken with what somebody finds who looks each second.
func TestPromises(t *testing.T) {
	t.Parallel()
	base := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 23))
		promised := time.Duration(30+r.IntN(600)) * time.Second
		following := seed%3 == 0
		const seal = 30 * time.Second
		var runs []*store.Run
		for at := base; at.Before(base.Add(2 * time.Hour)); at = at.Add(time.Duration(10+r.IntN(900)) * time.Second) {
			x := &store.Run{Kind: store.RunCapture, Started: at}
			x.Finished = at.Add(time.Duration(1+r.IntN(60)) * time.Second)
			if following {
				x.Finished = at.Add(time.Duration(r.IntN(1200)) * time.Second)
			}
			if r.IntN(6) > 0 { // else it failed, and has stored nothing
				x.To = at.Add(time.Duration(-r.IntN(20)) * time.Second)
				if following {
					x.To = x.Finished.Add(-2 * time.Second)
				}
			}
			if r.IntN(5) == 0 {
				x.Kind = store.RunSnapshot
			}
			if r.IntN(9) == 0 {
				x.Kind = store.RunRestore // which protects nothing
			}
			runs = append(runs, x)
		}
		from, to := base.Add(10*time.Minute), base.Add(110*time.Minute)
		var want time.Duration
		for at := from; at.Before(to); at = at.Add(time.Second) {
			kept := false
			for _, x := range runs {
				if x.To.IsZero() || x.Kind == store.RunRestore {
					continue
				}
				kept = kept || !x.Finished.After(at) && at.Sub(x.To) < promised
				kept = kept || following && x.Kind == store.RunCapture && !x.Started.Add(seal).After(at) &&
					at.Before(x.Finished)
			}
			if !kept {
				want += time.Second
			}
		}
		require.Equal(t, want, brokenFor(keptSpans(runs, promised, seal, following), from, to), "seed %d", seed)
	}
}
