package daemon

import (
	"context"
	"fmt"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

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
func (r Capacity) alerts(storeName string, atLeast time.Duration, now time.Time) []notify.Alert {
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
	return []notify.Alert{{Key: "capacity", About: "capacity", Store: storeName, Since: now.UTC(), Text: text,
		Do: "dexamen store inspect " + storeName + "; give it more room, or keep less"}}
}

// MeasureCapacity finds how full a store is and how it grows: what runs of the last
// seven days added, less what was given back. Capacity is what its place has,
// where that is configured.
func MeasureCapacity(ctx context.Context, e *run.Runner, capacity int64) (Capacity, error) {
	u, err := e.Store.Usage(ctx)
	if err != nil {
		return Capacity{}, err
	}
	r := Capacity{Free: -1}
	for _, n := range u.Bytes {
		r.Used += n
	}
	if f, ok := e.Store.Place().(blob.Roomy); ok {
		if free, err := f.Free(); err == nil {
			r.Free = free
		}
	}
	if capacity > 0 {
		r.Free = max(capacity-r.Used, 0)
	}
	now := time.Now()
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{
		Since: now.Add(-7 * 24 * time.Hour), Kinds: []string{store.RunSnapshot, store.RunCapture, store.RunRetention}})
	if err != nil || len(runs) == 0 {
		return r, err
	}
	var sum int64
	for _, x := range runs {
		sum += x.Stored - x.Freed
	}
	// The first day says little about the next.
	if span := now.Sub(runs[0].Started); span > 24*time.Hour {
		r.Grows = max(0, int64(float64(sum)/span.Hours()*24))
	}
	return r, nil
}
