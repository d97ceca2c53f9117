package daemon

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
)

const (
	// probeEvery is how often it is tried whether a store takes a small write, and answerWithin
	// for how long any answer is waited for before the store counts as hung.
	probeEvery   = 30 * time.Second
	answerWithin = 15 * time.Second
	// readWithin is how long reading all that a store holds of a cluster may take.
	readWithin = 2 * time.Minute
	// sickFor is for how long a store that answers with errors does so before that is told: one
	// request that is lost is nothing.
	sickFor = 10 * time.Second
	// catchUpFor is for how long after it was sick a store is looked at every catchUpEvery.
	catchUpFor, catchUpEvery = time.Minute, 3 * time.Second
	// retryStore is after how long a store that could not be read is asked again.
	retryStore = 15 * time.Second
)

// errNoAnswer is returned when a store does not answer.
var errNoAnswer = errors.New("it does not answer")

// storeWatch is a store, and the loop that does what is due in it. Whatever hangs in it keeps
// nothing else waiting. All of it is under the daemon's lock.
type storeWatch struct {
	name string
	wake chan struct{}
	try  chan struct{} // has it probed at once
	stop context.CancelFunc
	// ticked is when what is due was looked at last.
	ticked time.Time

	asking bool // a probe is under way
	asked  time.Time
	took   time.Time // when a write was taken last
	doubt  bool      // something failed since, perhaps by the store
	// recovered is when it was found well after it had been sick.
	recovered time.Time
	// sick is why the store takes no small write, or does not answer; since when, and whether
	// it was told.
	sick  string
	since time.Time
	hung  bool

	room Capacity
	// measured is when what it holds was counted, freeAt when its free space was read.
	measured, freeAt time.Time
	scrub            time.Time // when all of it was last read and found well
	// told is what was reconciled last of the store itself, and when.
	told    []notify.Alert
	toldAt  time.Time
	telling bool
}

// watchStores has a loop for each store that is configured, and ends those of stores that no
// longer are.
func (d *Daemon) watchStores(ctx context.Context) {
	d.mu.Lock()
	defer d.mu.Unlock()
	wanted := map[string]bool{}
	for _, name := range config.Names(d.Config.Stores) {
		wanted[name] = true
		if d.stores[name] != nil {
			d.stores[name].nudge()
			continue
		}
		sctx, stop := context.WithCancel(ctx)
		s := &storeWatch{name: name, wake: make(chan struct{}, 1), try: make(chan struct{}, 1), stop: stop}
		d.stores[name] = s
		d.group.Go(func() { d.watchStore(sctx, s) })
		d.group.Go(func() { d.probeStore(sctx, s) })
		d.group.Go(func() { d.endLogins(sctx, name) })
	}
	for name, s := range d.stores {
		if !wanted[name] {
			s.stop()
			delete(d.stores, name)
			d.ledger.Clear(s.alert())
		}
	}
}

func (s *storeWatch) nudge() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// tryNow has a store probed at once, where it counts as well. The daemon's lock is held.
func (s *storeWatch) tryNow() {
	if s.sick == "" {
		select {
		case s.try <- struct{}{}:
		default:
		}
	}
}

func (d *Daemon) tryStore(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if s := d.stores[name]; s != nil {
		s.doubt = true
		s.tryNow()
	}
}

// nudge has a store's loop look again. The caller holds the lock.
func (d *Daemon) nudge(storeName string) {
	if s := d.stores[storeName]; s != nil {
		s.nudge()
	}
}

// watchStore does what is due in a store until the context ends.
func (d *Daemon) watchStore(ctx context.Context, s *storeWatch) {
	for ctx.Err() == nil {
		next := d.tickStore(ctx, s)
		select {
		case <-ctx.Done():
		case <-s.wake:
		case <-time.After(max(time.Until(next), 10*time.Millisecond)):
		}
	}
}

// within does something that may hang, and waits for it only so long; the bool says whether it
// ended. What hangs goes on, and done is called when it ends.
func within(limit time.Duration, do func() error, done func(error)) (error, bool) {
	ended := make(chan error, 1)
	go func() {
		err := do()
		done(err)
		ended <- err
	}()
	select {
	case err := <-ended:
		return err, true
	case <-time.After(limit):
		return fmt.Errorf("%w within %s", errNoAnswer, limit), false
	}
}

// probeStore tries whether a store takes a small write, until the context ends. Beside one that
// hangs no second is begun.
func (d *Daemon) probeStore(ctx context.Context, s *storeWatch) {
	every := d.ProbeEvery
	if every <= 0 {
		every = probeEvery
	}
	for ctx.Err() == nil {
		d.mu.Lock()
		world, skip := d.Deps, s.asking || !s.doubt && time.Since(s.took) < every/3
		if !skip {
			s.asking, s.asked = true, time.Now()
		}
		d.mu.Unlock()
		if !skip {
			err, ended := within(answerWithin, func() error {
				return d.guarded("trying store "+s.name, func() error { return d.probe(ctx, world, s) })
			}, func(err error) { d.probed(ctx, s, err, true) })
			if !ended && ctx.Err() == nil {
				d.probed(ctx, s, err, false)
			}
		}
		pause := every
		d.mu.Lock()
		if s.sick != "" { // that it is over is told soon, too
			pause = min(every, max(5*time.Second, min(time.Since(s.since)/10, 20*time.Second)))
		}
		d.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-s.try:
			sleepFor(ctx, time.Second) // whatever asks for it, not more often
		case <-time.After(pause):
		}
	}
}

// probe tries whether a store takes a small write. One whose objects cannot be removed for a time
// is only read: what is tried would pile up.
func (d *Daemon) probe(ctx context.Context, world Deps, s *storeWatch) error {
	e, err := world.env(ctx, s.name, "")
	if err != nil {
		return err
	}
	defer e.Store.Close()
	if e.Store.ImmutableFor == 0 && !world.Config.Stores[s.name].ReadOnly {
		if err := store.Probe(ctx, e.Store.Place()); err != nil {
			return err
		}
	}
	d.mu.Lock()
	capacity := int64(world.Config.Stores[s.name].Capacity)
	d.mu.Unlock()
	if f, ok := e.Store.Place().(blob.Roomy); ok && capacity == 0 {
		if free, err := f.Free(); err == nil {
			d.mu.Lock()
			s.room.Free, s.freeAt = free, time.Now()
			d.mu.Unlock()
		}
	}
	return nil
}

// probed notes what came of a probe; ended is false where it goes on.
func (d *Daemon) probed(ctx context.Context, s *storeWatch, err error, ended bool) {
	if ctx.Err() != nil {
		return
	}
	if errors.Is(err, store.ErrNoStore) {
		err = nil // it is configured and not made yet: what is to be done in it says so
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if ended {
		s.asking = false
	}
	if err == nil {
		s.took, s.doubt = time.Now(), false
		if s.sick != "" {
			d.Log.Info("store is well again", "store", s.name, "sick since", s.since.Format(time.RFC3339))
			s.recovered = time.Now()
			for _, x := range d.wards {
				if x.ward.Store == s.name {
					x.stale = true
				}
			}
			s.nudge()
		}
		s.sick, s.hung = "", false
		d.ledger.Clear(s.alert())
		return
	}
	if s.sick == "" {
		s.since = time.Now()
		if !ended {
			s.since = s.asked
		}
		d.Log.Error("store is sick", "store", s.name, "error", explain.Error(err))
	}
	s.sick, s.hung = explain.Error(err), !ended
	if !ended || time.Since(s.since) > sickFor {
		d.ledger.Raise(s.alert(d.clustersIn(s.name)...))
	}
}

// clustersIn names the clusters that are protected in a store. The caller holds the lock.
func (d *Daemon) clustersIn(storeName string) (names []string) {
	for _, x := range d.wards {
		if x.ward.Store == storeName {
			names = append(names, x.ward.Cluster)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// alert returns the alert that a store is sick.
func (s *storeWatch) alert(clusters ...string) notify.Alert {
	text := "store " + s.name + " does not take a small write: " + s.sick
	if len(clusters) > 0 {
		text += "; while that is so nothing of " + list(clusters) + " is protected"
	}
	return notify.Alert{Key: "store", About: "failure", Store: s.name, Since: s.since.UTC(), Text: text,
		Do: "dexamen store check " + s.name}
}

// list puts names into a text, the first few of many.
func list(names []string) string {
	const most = 8
	text, more := "", 0
	if len(names) > most {
		more = len(names) - most
		names = names[:most]
	}
	for i, n := range names {
		switch {
		case i == 0:
		case i == len(names)-1 && more == 0:
			text += " and "
		default:
			text += ", "
		}
		text += n
	}
	if more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// tickStore starts what is due in a store, and returns when to look again.
func (d *Daemon) tickStore(ctx context.Context, s *storeWatch) (next time.Time) {
	d.mu.Lock()
	world := d.Deps
	wards := slices.DeleteFunc(d.assignments(), func(w Assignment) bool { return w.Store != s.name })
	for _, w := range wards {
		if x := d.wards[key(w)]; x == nil {
			d.wards[key(w)] = &watched{ward: w, stored: map[string]record.Mark{}}
		} else if !same(x.ward, w) {
			x.ward = w
		}
	}
	d.mu.Unlock()
	next = time.Now().Add(d.longest())
	for _, w := range wards {
		if ctx.Err() != nil {
			return next
		}
		at := time.Now().Add(retryStore)
		_ = d.guarded("looking at "+w.Cluster, func() error {
			at = d.tickAssignment(ctx, world, s, w)
			return nil
		})
		if at.Before(next) {
			next = at
		}
	}
	d.tellOfStore(ctx, world, s)
	d.mu.Lock()
	defer d.mu.Unlock()
	s.ticked = time.Now()
	return next
}

// same reports whether two assignments ask for the same. What the texts mean is not compared: it
// is made anew whenever a configuration is read.
func same(a, b Assignment) bool {
	when := a.Config.When
	a.Config.When = b.Config.When
	equal := reflect.DeepEqual(a, b)
	a.Config.When = when
	return equal
}

func (d *Daemon) tickAssignment(ctx context.Context, world Deps, s *storeWatch, w Assignment) (next time.Time) {
	d.mu.Lock()
	x := d.wards[key(w)]
	if x == nil {
		d.mu.Unlock()
		return time.Now()
	}
	fresh := x.state != nil && !x.stale && time.Since(x.state.Read) < d.CurrentNamespace && !x.changed()
	catchesUp := time.Since(s.recovered) < catchUpFor
	if catchesUp { // what ended while the store was away is recorded by and by
		fresh = fresh && time.Since(x.state.Read) < catchUpEvery
	}
	hung, reading, since := s.hung, x.reading, x.readSince
	d.mu.Unlock()
	if hung || reading { // it is not asked again beside that
		if reading && time.Since(since) > readWithin {
			d.unreadable(s, x, fmt.Errorf("%w within %s", errNoAnswer, time.Since(since).Round(time.Second)))
		}
		return time.Now().Add(retryStore)
	}
	if !fresh {
		if err := d.read(ctx, world, s, x); err != nil {
			return time.Now().Add(retryStore)
		}
	}
	now := time.Now()
	next = now.Add(d.longest())
	d.mu.Lock()
	defer d.mu.Unlock()
	if catchesUp {
		next = now.Add(catchUpEvery)
	}
	d.stalled(w)
	x.duties = Duties(w, x.state, now)
	for _, duty := range x.duties {
		if r := x.state.last(duty.Kind); r != nil && r.Result == store.RunFailed && r.Finished.Before(s.recovered) &&
			duty.Attempt > 1 {
			duty.At = now // it failed while the store was sick: nothing else need be waited for
		}
		k := key(w) + "\x00" + duty.Kind
		switch {
		case d.going[k] != nil:
		case !duty.due(now):
			if duty.At.Before(next) {
				next = duty.At
			}
		case !d.reserveWorker(w, duty.Kind):
			// The end of another wakes us.
		default:
			d.start(ctx, world, duty, k)
		}
	}
	return next
}

// changed reports whether other alerts go on by now than were told, as far as is known without
// reading anew. The caller holds the lock.
func (x *watched) changed() bool {
	seen := *x.state
	seen.Latest = x.latest()
	now := alertKeys(Alerts(x.ward, &seen, time.Now()))
	return !slices.Equal(now, x.alerts)
}

func alertKeys(list []notify.Alert) (keys []string) {
	for _, a := range list {
		keys = append(keys, a.Key)
	}
	return keys
}

// read refreshes what is known of an assignment, and says where it cannot. One that takes long is
// not waited for: the others of its store are looked at meanwhile.
func (d *Daemon) read(ctx context.Context, world Deps, s *storeWatch, x *watched) error {
	d.mu.Lock()
	x.reading, x.readSince = true, time.Now()
	w := x.ward
	d.mu.Unlock()
	err, _ := within(answerWithin, func() error {
		return d.guarded("reading what store "+w.Store+" holds of "+w.Cluster, func() error {
			return d.refresh(ctx, world, w, x)
		})
	}, func(err error) {
		d.mu.Lock()
		x.reading = false
		late := time.Since(x.readSince) > answerWithin
		d.mu.Unlock()
		switch {
		case err == nil:
			d.readable(x)
		case ctx.Err() == nil:
			d.unreadable(s, x, err)
		}
		if late { // nobody waited for it
			s.nudge()
		}
	})
	return err
}

// unreadable notes that what a store knows of a cluster cannot be read. That it lasts is told from
// here: the store cannot remember it. Where the store as such is sick, that is told instead.
func (d *Daemon) unreadable(s *storeWatch, x *watched, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if x.failed == "" {
		x.failedSince = time.Now()
		d.Log.Error("store cannot be read", "store", x.ward.Store, "cluster", x.ward.Cluster, "error",
			explain.Error(err))
	}
	x.failed, x.stale = explain.Error(err), true
	s.tryNow() // where the store as such is sick that is told, once
	if s.sick == "" && s.took.After(x.failedSince) && time.Since(x.failedSince) > sickFor {
		d.ledger.Raise(x.alert())
	}
}

func (d *Daemon) readable(x *watched) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if x.failed != "" {
		d.Log.Info("store can be read again", "store", x.ward.Store, "cluster", x.ward.Cluster)
	}
	x.failed = ""
	d.ledger.Clear(x.alert())
}

func (x *watched) alert() notify.Alert {
	return notify.Alert{Key: "unread", About: "failure", Store: x.ward.Store, Cluster: x.ward.Cluster,
		Policy: x.ward.Policy, Since: x.failedSince.UTC(),
		Text: "store " + x.ward.Store + " cannot be read, so nothing is done for " + x.ward.Cluster + ": " + x.failed,
		Do:   "dexamen store check " + x.ward.Store}
}

// tellOfStore reports what is wrong with a store as a whole: how full it is, and what of the
// configuration protects nothing in it.
func (d *Daemon) tellOfStore(ctx context.Context, world Deps, s *storeWatch) {
	d.mu.Lock()
	now := append(s.room.alerts(s.name, time.Duration(world.Config.Alerts.FullWithin), time.Now()),
		unprotected(world.Config, s.name, time.Now())...)
	same := slices.EqualFunc(now, s.told, func(a, b notify.Alert) bool { return a.Key == b.Key })
	measure := time.Since(s.measured) > roomAge
	due := measure || !same || time.Since(s.toldAt) > d.CurrentNamespace || d.ledger.Unkept(s.name, "")
	if s.hung || s.telling || !due {
		d.mu.Unlock()
		return
	}
	s.telling = true
	d.mu.Unlock()
	_, _ = within(answerWithin, func() error {
		return d.guarded("telling of store "+s.name, func() error { return d.reconcileStore(ctx, world, s, measure) })
	}, func(err error) {
		d.mu.Lock()
		s.telling = false
		d.mu.Unlock()
		if err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrNoStore) {
			d.Log.Error("alerts", "store", s.name, "error", explain.Error(err))
		}
	})
}

func (d *Daemon) reconcileStore(ctx context.Context, world Deps, s *storeWatch, measure bool) error {
	e, err := world.env(ctx, s.name, "")
	if err != nil {
		return err
	}
	defer e.Store.Close()
	if measure {
		room, err := MeasureCapacity(ctx, e, int64(world.Config.Stores[s.name].Capacity))
		if err != nil {
			return fmt.Errorf("how full it is: %w", err)
		}
		scrub, err := lastScrub(ctx, e)
		if err != nil {
			return err
		}
		d.mu.Lock()
		s.room, s.measured, s.freeAt, s.scrub = room, time.Now(), time.Now(), scrub
		d.mu.Unlock()
	}
	d.mu.Lock()
	now := append(s.room.alerts(s.name, time.Duration(world.Config.Alerts.FullWithin), time.Now()),
		unprotected(world.Config, s.name, time.Now())...)
	s.told, s.toldAt = now, time.Now()
	d.mu.Unlock()
	return d.ledger.Reconcile(ctx, e.Store, s.name, "", now)
}

// unprotected lists what of a configuration protects nothing, as far as it concerns a store.
func unprotected(c *config.Config, storeName string, now time.Time) (out []notify.Alert) {
	for _, u := range c.Unprotected() {
		if u.Store == storeName {
			out = append(out, unprotectedAlert(u, now))
		}
	}
	return out
}

func unprotectedAlert(u config.Unprotected, now time.Time) notify.Alert {
	return notify.Alert{Key: "unprotected " + u.Policy + " " + u.Cluster + " " + u.Text, About: "unprotected",
		Store: u.Store, Cluster: u.Cluster, Policy: u.Policy, Since: now.UTC(), Text: u.Text,
		Do: "dexamen config check"}
}
