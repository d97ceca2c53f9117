package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

// Once does all that is due now, tells of what is wrong, as the daemon does, and returns the runs:
// for those who have something else keep the time. Continuous capture takes what there is. Each
// store is worked at by itself; one that does not answer is named, and keeps no other waiting.
// Channels, where nil, are the configured ways to tell people.
func Once(ctx context.Context, world Deps, channels []notify.Channel) ([]*store.Run, error) {
	world.NoFollow = true
	if channels == nil {
		channels = notify.Channels(world.Config.Alerts)
	}
	o := &once{Deps: world, outbox: &notify.Outbox{Log: slog.New(slog.DiscardHandler)}}
	o.ledger = &notify.Ledger{Outbox: o.outbox}
	o.outbox.Delivered = o.ledger.Taken
	o.outbox.Set(channels)
	o.ledger.Set(world.Config.Alerts)
	defer o.outbox.Close()
	err := eachStore(ctx, world, config.Names(world.Config.Stores), o.store)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushWithin)
	defer cancel()
	if ferr := o.outbox.Flush(end); ferr != nil {
		err = errors.Join(err, ferr)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, keep := range o.keep {
		_, _ = within(answerWithin, func() error { return keep(end) }, func(error) {})
	}
	slices.SortStableFunc(o.runs, func(a, b *store.Run) int { return a.Started.Compare(b.Started) })
	return o.runs, err
}

// flushWithin is for how long alerts are delivered where no daemon is there to do it later.
const flushWithin = 45 * time.Second

// once is what is done in one go.
type once struct {
	Deps
	outbox *notify.Outbox
	ledger *notify.Ledger
	mu     sync.Mutex
	runs   []*store.Run
	keep   []func(context.Context) error // notes in a store that something was told
}

// eachStore does something in each store at the same time. One that does not answer is left where
// it hangs, and named.
func eachStore(ctx context.Context, world Deps, names []string,
	do func(ctx context.Context, name string) error) error {
	var group sync.WaitGroup
	errs := make([]error, len(names))
	for i, name := range names {
		group.Go(func() {
			errs[i] = world.whileItAnswers(ctx, name, func() error { return do(ctx, name) })
		})
	}
	group.Wait()
	return errors.Join(errs...)
}

// whileItAnswers does something in a store for as long as that answers at all.
func (w Deps) whileItAnswers(ctx context.Context, name string, do func() error) error {
	open := func() error {
		e, err := w.env(ctx, name, "")
		if err == nil {
			e.Store.Close()
		}
		return err
	}
	silent := func() error {
		if err, ended := within(answerWithin, open, func(error) {}); !ended {
			return fmt.Errorf("store %s: %w: nothing is done there; look with: dexamen store check %s", name, err, name)
		}
		return nil
	}
	if err := silent(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- do() }()
	for {
		select {
		case err := <-ended:
			return err
		case <-time.After(probeEvery):
			if err := silent(); err != nil {
				return err
			}
		}
	}
}

func (o *once) add(runs ...*store.Run) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.runs = append(o.runs, runs...)
}

// store does what is due in one store.
func (o *once) store(ctx context.Context, name string) error {
	ended, failed, err := o.endOverdue(ctx, name)
	o.add(ended...)
	errs := []error{err}
	for _, err := range failed {
		errs = append(errs, err)
	}
	any := false
	for _, w := range Assignments(o.Config) {
		if w.Store != name || ctx.Err() != nil {
			continue
		}
		done, err := onceAssignment(ctx, o.Deps, w)
		o.add(done...)
		errs = append(errs, err)
		if ctx.Err() != nil {
			break
		}
		any = true
		if err := o.tell(ctx, w); err != nil {
			errs = append(errs, fmt.Errorf("cluster %s: %w", w.Cluster, err))
		}
	}
	if any && ctx.Err() == nil {
		errs = append(errs, o.tellOfStore(ctx, name))
	}
	return errors.Join(errs...)
}

// reconcile sends alerts, and notes in the end that they were told.
func (o *once) reconcile(ctx context.Context, storeName, cluster string, e *run.Runner, now []notify.Alert) error {
	o.mu.Lock()
	o.keep = append(o.keep, func(ctx context.Context) error {
		if !o.ledger.Unkept(storeName, cluster) {
			return nil
		}
		e, err := o.env(ctx, storeName, cluster)
		if err != nil {
			return err
		}
		defer e.Store.Close()
		return o.ledger.Reconcile(ctx, e.Store, storeName, cluster, now)
	})
	o.mu.Unlock()
	return o.ledger.Reconcile(ctx, e.Store, storeName, cluster, now)
}

// tell reports what is wrong with a cluster.
func (o *once) tell(ctx context.Context, w Assignment) error {
	e, err := o.env(ctx, w.Store, w.Cluster)
	if err == nil {
		defer e.Store.Close()
		var s *State
		if s, err = ReadState(ctx, e, w.Cluster); err == nil {
			var h happenings
			lerr := h.look(ctx, e, w.Cluster, s, o.Config.Alerts.Burst)
			now := append(Alerts(w, s, time.Now()), h.alerts(w)...)
			return errors.Join(o.reconcile(ctx, w.Store, w.Cluster, e, now), lerr)
		}
	}
	// The store cannot remember that this was told.
	o.ledger.Raise((&watched{ward: w, failed: explain.Error(err), failedSince: time.Now()}).alert())
	return err
}

// tellOfStore reports what is wrong with a store as a whole.
func (o *once) tellOfStore(ctx context.Context, name string) error {
	e, err := o.env(ctx, name, "")
	if err != nil {
		return err
	}
	defer e.Store.Close()
	room, err := MeasureCapacity(ctx, e, int64(o.Config.Stores[name].Capacity))
	if err != nil {
		return fmt.Errorf("how full store %s is: %w", name, err)
	}
	now := append(room.alerts(name, time.Duration(o.Config.Alerts.FullWithin), time.Now()),
		unprotected(o.Config, name, time.Now())...)
	return o.reconcile(ctx, name, "", e, now)
}

// onceAssignment does what is due of one assignment.
func onceAssignment(ctx context.Context, world Deps, w Assignment) (runs []*store.Run, err error) {
	var errs []error
	// A snapshot makes a capture due, and that nothing more than a retire.
	took := false
	for range 4 {
		duties, err := Due(ctx, world, w)
		if err != nil {
			errs = append(errs, fmt.Errorf("cluster %s: %w", w.Cluster, err))
			break
		}
		did := false
		for _, d := range duties {
			if !d.due(time.Now()) || ctx.Err() != nil || took && d.Kind == store.RunCapture {
				continue
			}
			r, err := world.Do(ctx, d, Heard{})
			if r != nil {
				runs, did = append(runs, r), true
				took = took || d.Kind == store.RunCapture
			}
			if err != nil && !errors.Is(err, ErrNothing) {
				errs = append(errs, fmt.Errorf("%s of %s: %w", d.Kind, w.Cluster, err))
			}
			// Its time may have passed while it was begun; that of the next has come.
			did = did || errors.Is(err, ErrNothing)
		}
		if !did {
			break
		}
	}
	return runs, errors.Join(errs...)
}

// DueNow reads what the policies of some assignments ask for next, of each store by itself, and
// which stores could not say.
func DueNow(ctx context.Context, world Deps, wards []Assignment) ([]Duty, error) {
	var names []string
	for _, w := range wards {
		if !slices.Contains(names, w.Store) {
			names = append(names, w.Store)
		}
	}
	var mu sync.Mutex
	var out []Duty
	err := eachStore(ctx, world, names, func(ctx context.Context, name string) error {
		var errs []error
		for _, w := range wards {
			if w.Store != name {
				continue
			}
			duties, err := Due(ctx, world, w)
			if err != nil {
				errs = append(errs, fmt.Errorf("cluster %s: %w", w.Cluster, err))
			}
			mu.Lock()
			out = append(out, duties...)
			mu.Unlock()
		}
		return errors.Join(errs...)
	})
	mu.Lock()
	defer mu.Unlock()
	return slices.Clone(out), err
}

// Due reads what an assignment's policy asks for next, after ending what died.
func Due(ctx context.Context, world Deps, w Assignment) ([]Duty, error) {
	e, err := world.env(ctx, w.Store, w.Cluster)
	if err != nil {
		return nil, err
	}
	defer e.Store.Close()
	if _, err := e.EndKilled(ctx); err != nil {
		return nil, err
	}
	s, err := ReadState(ctx, e, w.Cluster)
	if err != nil {
		return nil, err
	}
	return Duties(w, s, time.Now()), nil
}
