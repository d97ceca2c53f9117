package daemon

import (
	"context"
	"fmt"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/notify"
)

// stalledFor is for how long a log that is followed may say nothing, not even that nothing happened.
// Every engine says so at least every ten seconds; a cluster that stands still as a whole does not
// end a connection.
const stalledFor = 35 * time.Second

// alive notes that a shard's log said something.
func (d *Daemon) alive(g *running, shard string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	g.alive[shard] = time.Now()
}

// pulseEvery is how often this process sees that it is awake. One that was stopped, or whose machine
// slept, has heard nothing meanwhile: that says nothing of the clusters.
const pulseEvery = 10 * time.Second

// pulse has silence not count that is this process's own, until the context ends.
func (d *Daemon) pulse(ctx context.Context) {
	for {
		d.mu.Lock()
		if slept := time.Since(d.awake); !d.awake.IsZero() && slept > 2*pulseEvery {
			d.Log.Warn("this process did nothing for a while: it was stopped, or the machine slept", "for",
				slept.Round(time.Second).String())
			for _, g := range d.going {
				for shard := range g.alive {
					g.alive[shard] = time.Now()
				}
			}
		}
		d.awake = time.Now()
		d.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-time.After(pulseEvery):
		}
	}
}

// slept reports whether this process has just woken. The caller holds the lock.
func (d *Daemon) slept() bool { return !d.awake.IsZero() && time.Since(d.awake) > 2*pulseEvery }

// stalled raises an alert where a log that this process follows says nothing, and ends it. The caller
// holds the lock.
func (d *Daemon) stalled(w Assignment) {
	g := d.going[key(w)+"\x00"+store.RunCapture]
	if !w.Config.When.Continuous {
		d.ledger.Clear(stalledAlert(w, time.Time{}))
		return
	}
	if g == nil || len(g.alive) == 0 || d.slept() {
		return // it is not over by that another begins, which fails by itself
	}
	oldest := g.quietest()
	if a := stalledAlert(w, oldest); time.Since(oldest) > stalledFor {
		d.ledger.Raise(a)
	} else {
		d.ledger.Clear(a)
	}
}

// quietest is when the shard that has been silent for longest said something last.
func (g *running) quietest() time.Time {
	oldest := time.Now()
	for _, at := range g.alive {
		if at.Before(oldest) {
			oldest = at
		}
	}
	return oldest
}

// endedStalled raises an alert about a capture that failed after its log had said nothing for long: that it is begun
// anew does not make the cluster answer. The caller holds the lock.
func (d *Daemon) endedStalled(g *running) {
	if oldest := g.quietest(); g.kind == store.RunCapture && g.ward.Config.When.Continuous &&
		time.Since(oldest) > stalledFor/2 && !d.slept() {
		d.ledger.Raise(stalledAlert(g.ward, oldest))
	}
}

func stalledAlert(w Assignment, since time.Time) notify.Alert {
	return notify.Alert{Key: "stalled", About: "failure", Store: w.Store, Cluster: w.Cluster, Policy: w.Policy,
		Since: since.UTC(), Do: "dexamen cluster check " + w.Cluster,
		Text: fmt.Sprintf("%s: nothing was heard of its log since %s, though it is followed", w.Cluster,
			since.Local().Format(time.RFC3339))}
}
