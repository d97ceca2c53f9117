package drill

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Random finds a moment at random among those of the last so long that can be restored: any of a
// log, else a point.
func Random(ctx context.Context, e *run.Runner, cluster string, last time.Duration,
	mat moment.Materializer) (*moment.Moment, error) {
	covers, err := moment.Cover(ctx, e, cluster)
	if err != nil {
		return nil, err
	}
	var stretches []moment.Stretch
	since := time.Now().Add(-last)
	for _, c := range covers {
		stretches = append(stretches, within(c.Stretches, since)...)
	}
	if len(stretches) == 0 {
		return nil, fmt.Errorf("no moment of %s of the last %s can be restored; see: dexamen coverage %s", cluster,
			last,
			cluster)
	}
	for try := 0; ; try++ {
		at := pick(stretches, rand.Int64N)
		m, err := moment.Resolve(ctx, e, cluster, address.When{Kind: address.Time, Time: at,
			Text: at.Format(time.RFC3339Nano)}, mat)
		// What is between two entries at the very edge may not be had.
		if err == nil || ctx.Err() != nil || try == 10 {
			return m, err
		}
	}
}

// within returns what of stretches is not before a time.
func within(stretches []moment.Stretch, since time.Time) (out []moment.Stretch) {
	for _, s := range stretches {
		if s.To.Before(since) {
			continue
		}
		if s.From.Before(since) {
			s.From = since
		}
		out = append(out, s)
	}
	return out
}

// pick returns a time in one of the stretches, each moment as likely as any other; one of those that are
// of a single moment where all are. Upto returns a number below n.
func pick(stretches []moment.Stretch, upto func(n int64) int64) time.Time {
	total := int64(0)
	for _, s := range stretches {
		total += int64(s.To.Sub(s.From))
	}
	if total == 0 {
		return stretches[upto(int64(len(stretches)))].To
	}
	n := upto(total)
	for _, s := range stretches {
		length := int64(s.To.Sub(s.From))
		if n < length {
			return s.From.Add(time.Duration(n))
		}
		n -= length
	}
	return stretches[len(stretches)-1].To
}
