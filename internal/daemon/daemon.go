package daemon

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"reflect"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"dexamen/internal/explain"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Daemon does what policies ask for until it is told to stop.
type Daemon struct {
	Deps
	// Load reads the configuration anew; Changed tells whether that is worth it.
	Load    func() (*config.Config, error)
	Changed func() bool
	// Reload asks for it at once.
	Reload <-chan struct{}
	Log    *slog.Logger
	// CurrentNamespace is how old what is known of a cluster may be (default 5m): what other
	// daemons did meanwhile is found out at the latest when something is due.
	CurrentNamespace time.Duration
	// Tell sends alerts; the configured ways when nil.
	Tell func(context.Context, Alert) error

	mu      sync.Mutex
	wards   map[string]*watched
	going   map[string]*running // by assignment and kind
	wake    chan struct{}
	group   sync.WaitGroup
	ticked  time.Time
	broken  string // why the configuration could not be read anew
	rooms   map[string]capacityChecks
	metrics *metrics
}

// watched is an assignment and what is known of it.
type watched struct {
	ward        Assignment
	state       *State
	stale       bool
	failed      string // why the state could not be read, since when, and whether that was told
	failedSince time.Time
	toldUnread  bool
	stored      map[string]record.Mark
	duties      []Duty
	happened    happenings
}

type running struct {
	ward   Assignment
	kind   string
	begun  time.Time
	cancel context.CancelFunc
}

type capacityChecks struct {
	Capacity
	at time.Time
}

const (
	// unreadFor is how long a store cannot be read before that is told.
	unreadFor   = 40 * time.Second
	defaultLook = 5 * time.Minute
	roomAge     = time.Hour
	// How often it is seen whether the file has changed.
	fileAge = 15 * time.Second
)

// longest is the time between two looks at what is due, where nothing is earlier.
func (d *Daemon) longest() time.Duration {
	if d.Changed != nil {
		return fileAge
	}
	return d.CurrentNamespace
}

func key(w Assignment) string { return w.Policy + "\x00" + w.Cluster + "\x00" + w.Store }

// Run works until the context ends, and then until what goes on has ended or is
// parked: a capture stores what it has, a snapshot is taken up again by the next.
func (d *Daemon) Run(ctx context.Context) error {
	d.mu.Lock()
	d.wards, d.going, d.rooms = map[string]*watched{}, map[string]*running{}, map[string]capacityChecks{}
	d.wake = make(chan struct{}, 1)
	if d.metrics == nil {
		d.metrics = newMetrics(d)
	}
	if d.CurrentNamespace <= 0 {
		d.CurrentNamespace = defaultLook
	}
	d.mu.Unlock()
	d.Log.Info("daemon begins", "policies", len(d.Config.Policies), "clusters", len(Assignments(d.Config)))
	defer d.group.Wait()
	d.group.Go(func() { d.endLogins(ctx) })
	for ctx.Err() == nil {
		d.reload()
		next := d.tick(ctx)
		select {
		case <-ctx.Done():
		case <-d.wake:
		case <-d.Reload:
			d.Log.Info("asked to read the configuration anew")
			d.load()
		case <-time.After(max(time.Until(next), 10*time.Millisecond)):
		}
	}
	d.Log.Info("daemon ends", "waiting for", d.names())
	return ctx.Err()
}

// names lists what goes on.
func (d *Daemon) names() (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, g := range d.going {
		out = append(out, g.kind+" of "+g.ward.Cluster)
	}
	slices.Sort(out)
	return out
}

func (d *Daemon) reload() {
	if d.Changed != nil && d.Changed() {
		d.load()
	}
}

// load takes up a new configuration; a broken one is refused, and the old one
// stays.
func (d *Daemon) load() {
	if d.Load == nil {
		return
	}
	c, err := d.Load()
	d.mu.Lock()
	defer d.mu.Unlock()
	if err != nil {
		d.broken = err.Error()
		d.Log.Error("the new configuration is refused and the old one stays", "error", explain.Error(err))
		return
	}
	d.broken, d.Config = "", c
	d.Log.Info("the configuration was read anew", "policies", len(c.Policies), "clusters", len(Assignments(c)))
	// What goes on under another policy than before begins anew.
	now := map[string]Assignment{}
	for _, w := range Assignments(c) {
		now[key(w)] = w
	}
	for k, g := range d.going {
		if w, ok := now[key(g.ward)]; g.kind == store.RunCapture &&
			(!ok || !reflect.DeepEqual(w.Config, g.ward.Config)) {
			d.Log.Info("capture ends to begin anew", "cluster", g.ward.Cluster)
			d.going[k].cancel()
		}
	}
}

// tick starts what is due and gives when to look again.
func (d *Daemon) tick(ctx context.Context) (next time.Time) {
	d.mu.Lock()
	world := d.Deps
	wards := Assignments(d.Config)
	known := map[string]bool{}
	for _, w := range wards {
		known[key(w)] = true
		if x := d.wards[key(w)]; x == nil {
			d.wards[key(w)] = &watched{ward: w, stored: map[string]record.Mark{}}
		} else if !reflect.DeepEqual(x.ward.Config, w.Config) {
			x.ward = w
		}
	}
	for k := range d.wards {
		if !known[k] {
			delete(d.wards, k)
		}
	}
	d.mu.Unlock()
	next = time.Now().Add(d.longest())
	for _, w := range wards {
		if ctx.Err() != nil {
			return next
		}
		at := time.Now().Add(20 * time.Second)
		_ = d.guarded("looking at "+w.Cluster, func() error {
			at = d.tickAssignment(ctx, world, w)
			return nil
		})
		if at.Before(next) {
			next = at
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ticked = time.Now()
	return next
}

func (d *Daemon) tickAssignment(ctx context.Context, world Deps, w Assignment) (next time.Time) {
	d.mu.Lock()
	x := d.wards[key(w)]
	fresh := x.state != nil && !x.stale && time.Since(x.state.Read) < d.CurrentNamespace
	d.mu.Unlock()
	if !fresh {
		if err := d.refresh(ctx, world, w, x); err != nil {
			if ctx.Err() == nil {
				d.storeFailed(ctx, world, w, x, err)
			}
			return time.Now().Add(20 * time.Second)
		}
		d.storeRecovered(ctx, world, w, x)
	}
	now := time.Now()
	next = now.Add(d.longest())
	d.mu.Lock()
	defer d.mu.Unlock()
	x.duties = Duties(w, x.state, now)
	for _, duty := range x.duties {
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

// storeFailed notes that a store cannot be read. That it lasts is told from here: the
// store cannot remember it.
func (d *Daemon) storeFailed(ctx context.Context, world Deps, w Assignment, x *watched, err error) {
	d.mu.Lock()
	first := x.failed == ""
	if first {
		x.failedSince = time.Now()
	}
	x.failed, x.stale = explain.Error(err), true
	tell := !x.toldUnread && time.Since(x.failedSince) > unreadFor
	x.toldUnread = x.toldUnread || tell
	t := x.unreadable()
	d.mu.Unlock()
	if first {
		d.Log.Error("store cannot be read", "store", w.Store, "cluster", w.Cluster, "error", explain.Error(err))
	}
	if tell {
		d.sendAlert(ctx, world, t)
	}
}

func (d *Daemon) storeRecovered(ctx context.Context, world Deps, w Assignment, x *watched) {
	d.mu.Lock()
	was, sentAlert := x.failed != "", x.toldUnread
	t := x.unreadable()
	x.failed, x.toldUnread = "", false
	d.mu.Unlock()
	if was {
		d.Log.Info("store can be read again", "store", w.Store, "cluster", w.Cluster)
	}
	if sentAlert {
		t.Over = true
		d.sendAlert(ctx, world, t)
	}
}

func (x *watched) unreadable() Alert {
	return Alert{Key: "unread", About: "failure", Store: x.ward.Store, Cluster: x.ward.Cluster, Policy: x.ward.Policy,
		Since: x.failedSince.UTC(),
		Text:  "store " + x.ward.Store + " cannot be read, so nothing is done for " + x.ward.Cluster + ": " + x.failed,
		Do:    "dexamen store check " + x.ward.Store}
}

// sendAlert sends an alert that no store remembers.
func (d *Daemon) sendAlert(ctx context.Context, world Deps, t Alert) {
	about := world.Config.Alerts.About
	if len(about) > 0 && !slices.Contains(about, t.About) {
		return
	}
	if err := d.sender(world)(ctx, t); err != nil {
		d.Log.Error("alerts", "error", explain.Error(err))
	}
}

// sender is how alerts go out.
func (d *Daemon) sender(world Deps) func(context.Context, Alert) error {
	if d.Tell != nil {
		return d.Tell
	}
	return func(ctx context.Context, t Alert) error {
		d.Log.Warn(Title(t), "text", t.Text, "since", t.Since)
		return Notifier{world.Config.Alerts}.Send(ctx, t)
	}
}

// guarded does something that must not end the daemon: a panic becomes an error,
// its stack goes to the log.
func (d *Daemon) guarded(what string, do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%s: a fault of the program: %v", what, p)
			d.Log.Error("a fault of the program", "in", what, "fault", p, "stack", string(debug.Stack()))
		}
	}()
	return do()
}

// reserveWorker reports whether one more run of a kind may begin. Captures always may.
func (d *Daemon) reserveWorker(w Assignment, kind string) bool {
	if kind == store.RunCapture {
		return true
	}
	most := w.Config.ClustersAtOnce
	if most == 0 {
		most = 2
	}
	n := 0
	for _, g := range d.going {
		if g.kind != store.RunCapture && g.ward.Policy == w.Policy {
			n++
		}
	}
	return n < most
}

// start begins a run. The caller holds the lock.
func (d *Daemon) start(ctx context.Context, world Deps, duty Duty, k string) {
	rctx, cancel := context.WithCancel(ctx)
	d.going[k] = &running{ward: duty.Assignment, kind: duty.Kind, begun: time.Now(), cancel: cancel}
	d.group.Go(func() {
		defer cancel()
		log := d.Log.With("cluster", duty.Assignment.Cluster, "policy", duty.Assignment.Policy, "kind", duty.Kind)
		log.Debug("begins", "due", duty.Due, "attempt", duty.Attempt, "reason", duty.Reason)
		var r *store.Run
		err := d.guarded(duty.Kind+" of "+duty.Assignment.Cluster, func() (err error) {
			r, err = world.Do(rctx, duty, Heard{
				Stored: func(h journal.Header) { d.stored(duty.Assignment, h) },
				Urgent: d.urgent(duty.Assignment)})
			return err
		})
		switch {
		case errors.Is(err, ErrNothing):
			log.Debug("nothing to do", "why", err)
		case ctx.Err() != nil:
			log.Info("stopped")
		case err != nil:
			log.Error("run failed", "error", explain.Error(err), "attempt", duty.Attempt)
		default:
			log.Info("done", "run", r.ID, "took", r.Took().Round(time.Millisecond), "point", r.Point, "changes",
				r.Changes, "stored", r.Stored)
		}
		d.metrics.ran(r)
		if r == nil && err != nil && ctx.Err() == nil {
			// It never began: not at once again.
			select {
			case <-ctx.Done():
			case <-time.After(10 * time.Second):
			}
		}
		d.mu.Lock()
		delete(d.going, k)
		if x := d.wards[key(duty.Assignment)]; x != nil {
			x.stale = true
		}
		d.mu.Unlock()
		select {
		case d.wake <- struct{}{}:
		default:
		}
	})
}

// urgent returns what is asked of changes as they are captured.
func (d *Daemon) urgent(w Assignment) func(string, record.Op, int64, time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	x, b := d.wards[key(w)], d.Config.Alerts.Burst
	if x == nil {
		return nil
	}
	return func(ns string, op record.Op, busiest int64, at time.Time) bool {
		return x.happened.urgent(b, ns, op, busiest, at)
	}
}

// stored notes up to where a log is stored, between two looks at the store.
func (d *Daemon) stored(w Assignment, h journal.Header) {
	d.mu.Lock()
	defer d.mu.Unlock()
	x := d.wards[key(w)]
	if x == nil {
		return
	}
	x.stored[h.Shard] = h.Last
	if x.happened.telling(&h, d.Config.Alerts.Burst) {
		x.stale = true // it is looked at now
		select {
		case d.wake <- struct{}{}:
		default:
		}
	}
}

// latest is the newest moment that can be restored, as far as is known. The
// caller holds the lock.
func (x *watched) latest() time.Time {
	if x.state == nil {
		return time.Time{}
	}
	at := x.state.Latest
	p := x.state.Newest()
	if p == nil || len(x.stored) < len(p.Shards) {
		return at
	}
	if since, _ := x.state.FailingSince(); !since.IsZero() {
		return at
	}
	var least time.Time
	for _, m := range x.stored {
		if least.IsZero() || m.Wall.Before(least) {
			least = m.Wall
		}
	}
	return later(at, least)
}

// refresh reads what the store knows of an assignment, ends runs that died, and
// sends the alerts that are new.
func (d *Daemon) refresh(ctx context.Context, world Deps, w Assignment, x *watched) error {
	e, err := world.env(ctx, w.Store, w.Cluster)
	if err != nil {
		return err
	}
	defer e.Store.Close()
	ended, err := e.EndKilled(ctx)
	for _, r := range ended {
		d.Log.Warn("a run died", "run", r.ID, "cluster", r.Cluster, "kind", r.Kind, "process", r.Process, "host",
			r.Host)
	}
	if err != nil {
		return err
	}
	d.mu.Lock()
	x.stale = false // before it is read: a run that ends meanwhile says so again
	d.mu.Unlock()
	s, err := ReadState(ctx, e, w.Cluster)
	if err != nil {
		return err
	}
	d.mu.Lock()
	x.state = s
	latest := x.latest()
	room, seen := d.rooms[w.Store]
	d.mu.Unlock()
	tell := *s
	tell.Latest = latest
	send, alerts := d.sender(world), world.Config.Alerts
	err = d.guarded("telling of "+w.Cluster, func() error {
		// What cannot be looked through does not keep the rest from being told.
		lerr := x.happened.look(ctx, e, w.Cluster, s, alerts.Burst)
		now := append(Alerts(w, &tell, time.Now()), x.happened.alerts(w)...)
		return errors.Join(Reconcile(ctx, e, w.Cluster, now, alerts.About, send), lerr)
	})
	if err != nil {
		d.Log.Error("alerts", "error", explain.Error(err))
	}
	if seen && time.Since(room.at) < roomAge {
		return nil
	}
	room.Capacity, err = MeasureCapacity(ctx, e, int64(world.Config.Stores[w.Store].Capacity))
	if err != nil {
		return fmt.Errorf("how full it is: %w", err)
	}
	room.at = time.Now()
	d.mu.Lock()
	d.rooms[w.Store] = room
	d.mu.Unlock()
	err = d.guarded("telling of store "+w.Store, func() error {
		return Reconcile(ctx, e, "", room.alerts(w.Store, time.Duration(alerts.FullWithin), time.Now()),
			alerts.About, send)
	})
	if err != nil {
		d.Log.Error("alerts", "error", explain.Error(err))
	}
	return nil
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

// Once does all that is due now, sends the alerts there are, as the daemon does,
// and returns the runs: for those who have something else keep the time.
// Continuous capture takes what there is. Send, where nil, is the configured
// ways.
func Once(ctx context.Context, world Deps, send func(context.Context, Alert) error) (runs []*store.Run, err error) {
	world.NoFollow = true
	if send == nil {
		send = Notifier{world.Config.Alerts}.Send
	}
	var errs []error
	for _, name := range config.Names(world.Config.Stores) {
		ended, failed, err := world.endOverdue(ctx, name)
		runs, errs = append(runs, ended...), append(errs, err)
		for _, err := range failed {
			errs = append(errs, err)
		}
	}
	measured := map[string]bool{}
	for _, w := range Assignments(world.Config) {
		done, err := onceAssignment(ctx, world, w)
		runs = append(runs, done...)
		if err != nil {
			errs = append(errs, err)
		}
		if ctx.Err() != nil {
			break
		}
		if err := tellOnce(ctx, world, w, measured, send); err != nil {
			errs = append(errs, fmt.Errorf("cluster %s: %w", w.Cluster, err))
		}
	}
	return runs, errors.Join(errs...)
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

// tellOnce sends the alerts about an assignment and its store.
func tellOnce(ctx context.Context, world Deps, w Assignment, measured map[string]bool,
	send func(context.Context, Alert) error) error {
	alerts := world.Config.Alerts
	e, err := world.env(ctx, w.Store, w.Cluster)
	if err == nil {
		defer e.Store.Close()
		var s *State
		if s, err = ReadState(ctx, e, w.Cluster); err == nil {
			var h happenings
			lerr := h.look(ctx, e, w.Cluster, s, alerts.Burst)
			err = errors.Join(Reconcile(ctx, e, w.Cluster, append(Alerts(w, s, time.Now()), h.alerts(w)...),
				alerts.About,
				send), lerr)
			if err != nil || measured[w.Store] {
				return err
			}
			measured[w.Store] = true
			room, err := MeasureCapacity(ctx, e, int64(world.Config.Stores[w.Store].Capacity))
			if err != nil {
				return fmt.Errorf("how full store %s is: %w", w.Store, err)
			}
			return Reconcile(ctx, e, "", room.alerts(w.Store, time.Duration(alerts.FullWithin), time.Now()),
				alerts.About, send)
		}
	}
	// The store cannot remember that this was told.
	t := (&watched{ward: w, failed: explain.Error(err), failedSince: time.Now()}).unreadable()
	if len(alerts.About) > 0 && !slices.Contains(alerts.About, t.About) {
		return err
	}
	return errors.Join(err, send(ctx, t))
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
