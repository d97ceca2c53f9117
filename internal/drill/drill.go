// Package drill rehearses a restore: a moment is put onto a scratch cluster, or served, read back
// and compared, looked at by checks of the administrator's own, measured, and taken away again.
//
//	drill.go   Do: one drill
//	target.go  onto a scratch cluster, which is empty before and afterwards
//	served.go  without one: the moment is served and read back over the cluster's own protocol
//	check.go   Check: what is asked of what came back
//	choose.go  which moment
package drill

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Options say how a moment is rehearsed.
type Options struct {
	// Patterns choose namespaces; all when empty.
	Patterns []string
	// Target is the scratch cluster, Name its name and Address where commands find it; without a Target the
	// moment is served.
	Target  engine.Cluster
	Name    string
	Address string
	// Checks are made when all is there.
	Checks []Check
	// Within is how long it may take until all is there; zero where nothing is promised.
	Within time.Duration
	// Chosen says how the moment was chosen.
	Chosen string
}

// there is what came back, as checks are asked of it.
type there struct {
	cluster  engine.Cluster
	address  string
	user     string // of a login for this one time; empty where the cluster's own is needed
	password string
	counts   map[string]any
}

// Do rehearses the restore of a moment and notes in its run what was measured and found. The error
// tells outcomes apart: run.ErrRefused where the scratch cluster is not empty or another process has it,
// run.ErrDiffers where a check failed or it took longer than is promised, run.ErrIncomplete where
// something of it could not be taken away again; any other where it did not come back.
func Do(ctx context.Context, e *run.Runner, m *moment.Moment, r *store.Run, o Options) error {
	d := &store.Rehearsal{Served: o.Target == nil, Chosen: o.Chosen, Within: record.Seconds(o.Within)}
	r.Drill, r.Point, r.To, r.Target = d, m.Point.ID, m.Time, o.Name
	if e.Store.WriteOnly() {
		return fmt.Errorf("%w: this key can only write, and a drill reads", run.ErrRefused)
	}
	covers, err := moment.Cover(ctx, e, m.Point.Cluster)
	if err != nil {
		return err
	}
	for _, c := range covers {
		d.Age = record.Seconds(max(0, time.Since(c.Latest)).Truncate(time.Millisecond))
	}
	if o.Target == nil {
		err = served(ctx, e, m, r, o)
	} else {
		err = restored(ctx, e, m, r, o)
	}
	if err != nil {
		return err
	}
	return verdict(d)
}

// verdict returns run.ErrDiffers where a promise was not kept.
func verdict(d *store.Rehearsal) error {
	var bad []string
	for _, c := range d.Checks {
		if !c.Passed {
			bad = append(bad, fmt.Sprintf("%s: %s", c.What, cmp.Or(c.Found, "it failed")))
		}
	}
	if d.Within > 0 && d.Recovery > d.Within {
		bad = append(bad, fmt.Sprintf("all was there after %s, and %s is promised", d.Recovery.D().Round(time.Second),
			d.Within.D()))
	}
	if len(bad) == 0 {
		return nil
	}
	return fmt.Errorf("everything came back, but what was asked of it %w: %s", run.ErrDiffers,
		strings.Join(bad, "; "))
}

// stopwatch measures from when a restore began.
type stopwatch struct {
	begun time.Time
	d     *store.Rehearsal
}

func (s *stopwatch) elapsed() record.Seconds {
	return record.Seconds(max(time.Since(s.begun).Truncate(time.Millisecond), time.Millisecond))
}

// answered notes the first time that something could be read.
func (s *stopwatch) answered() {
	if s.d.FirstAnswer == 0 {
		s.d.FirstAnswer = s.elapsed()
	}
}

// notWhole returns the error of a restore that did not bring everything back: of a drill that is no
// work that was done but for something.
func notWhole(err error) error {
	if errors.Is(err, run.ErrIncomplete) || errors.Is(err, run.ErrDiffers) {
		return fmt.Errorf("not everything came back: %s", err.Error())
	}
	return err
}
