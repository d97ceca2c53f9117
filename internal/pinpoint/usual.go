package pinpoint

import (
	"context"
	"slices"
	"time"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/run"
)

// Usual is how busy namespaces are: by operation, over all hours, and by hour of the day. It
// is for one goroutine at a time.
type Usual struct {
	of map[busyKey][]busyAt
	// found is what was worked out for an hour.
	found map[hourKey]int64
}

type hourKey struct {
	busyKey
	hour int64 // since 1970
}

type busyKey struct {
	namespace string
	op        string
}

// busyAt is the busiest window of a segment.
type busyAt struct {
	at time.Time
	n  int64
}

// Learn returns what is usual on a cluster, by the log in the store.
func Learn(ctx context.Context, e *run.Runner, cluster string) (*Usual, error) {
	u := NewUsual()
	chains, _, err := e.Store.Chains(ctx, cluster)
	for _, c := range chains {
		for i := range c.Segments {
			u.Add(&c.Segments[i])
		}
	}
	return u, err
}

// NewUsual makes one that has learned nothing.
func NewUsual() *Usual { return &Usual{map[busyKey][]busyAt{}, map[hourKey]int64{}} }

// Add learns from a segment's summary.
func (u *Usual) Add(h *journal.Header) {
	for _, t := range h.Summary {
		for _, c := range t.By {
			k := busyKey{t.Namespace, c.Op}
			u.of[k] = append(u.of[k], busyAt{h.Last.Wall, c.Busiest})
		}
	}
	clear(u.found)
}

// Of returns how many changes of an operation a busy [journal.Window] of a namespace has at
// a time: the median of the busiest of all segments; or, where that is more, of those of the
// same hour on at least two other days, so that what is done every night is usual at night.
func (u *Usual) Of(namespace string, op record.Op, at time.Time) int64 {
	key := hourKey{busyKey{namespace, op.String()}, at.Unix() / 3600}
	n, ok := u.found[key]
	if !ok {
		n = usualAt(u.of[key.busyKey], at)
		u.found[key] = n
	}
	return n
}

func usualAt(list []busyAt, at time.Time) int64 {
	const leastSegments, leastDays = 5, 2
	if len(list) < leastSegments {
		return 0 // too little to tell
	}
	all := make([]int64, 0, len(list))
	byDay := map[string]int64{}
	local := at.Local()
	today := local.Format(time.DateOnly)
	for _, b := range list {
		all = append(all, b.n)
		l := b.at.Local()
		if day := l.Format(time.DateOnly); day != today && l.Hour() == local.Hour() {
			byDay[day] = max(byDay[day], b.n)
		}
	}
	usual := median(all)
	if len(byDay) >= leastDays {
		var days []int64
		for _, n := range byDay {
			days = append(days, n)
		}
		usual = max(usual, median(days))
	}
	return usual
}

func median(list []int64) int64 {
	slices.Sort(list)
	return list[(len(list)-1)/2]
}
