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
	"sync/atomic"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/workers"
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
	// ProbeEvery is how often it is tried whether a store takes a small write (default 30s).
	ProbeEvery time.Duration
	// Channels are how people are told; the configured ways when nil.
	Channels []notify.Channel

	outbox *notify.Outbox
	ledger *notify.Ledger
	mu     sync.Mutex
	wards  map[string]*watched
	stores map[string]*storeWatch
	going  map[string]*running // by assignment and kind
	group  sync.WaitGroup
	loaded time.Time // when the configuration was read
	ticked time.Time
	awake  time.Time // when pulse beat last
	// broken is why the configuration could not be read anew, and since when.
	broken      string
	brokenSince time.Time
	metrics     *metrics
	worker      *workers.Worker // nil where it does no tasks of others
	crewEngine  *workers.Engine
	division    division
	// saidOfDivision is how many clusters are this daemon's and how many others have some, as was logged last.
	saidOfDivision [2]int
	began          time.Time
	changes        atomic.Uint64 // counts what the page shows anew
	shown          shown
}

// watched is an assignment and what is known of it.
type watched struct {
	ward        Assignment
	state       *State
	stale       bool
	reading     bool // the state is being read, since when
	readSince   time.Time
	failed      string // why the state could not be read, since when
	failedSince time.Time
	stored      map[string]record.Mark
	duties      []Duty
	happened    happenings
	alerts      []string // the keys of those that were told last
}

type running struct {
	ward   Assignment
	kind   string
	begun  time.Time
	cancel context.CancelFunc
	told   bool // to end
	now    chan struct{}
	// alive is when each shard's log of a capture said something last.
	alive map[string]time.Time
	// seen is what the run has reported.
	seen progress
}

const (
	defaultLook = 5 * time.Minute
	roomAge     = time.Hour
	// How often it is seen whether the file has changed.
	fileAge = 15 * time.Second
	// lastWords is for how long alerts are still delivered when the daemon ends.
	lastWords = 10 * time.Second
)

// longest is the time between two looks at what is due, where nothing is earlier.
func (d *Daemon) longest() time.Duration {
	if d.Changed != nil {
		return fileAge
	}
	return d.CurrentNamespace
}

func key(w Assignment) string { return w.Policy + "\x00" + w.Cluster + "\x00" + w.Store }

// prepare makes what a daemon needs before it runs, once.
func (d *Daemon) prepare() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.outbox != nil {
		return
	}
	d.wards, d.going, d.stores = map[string]*watched{}, map[string]*running{}, map[string]*storeWatch{}
	if d.CurrentNamespace <= 0 {
		d.CurrentNamespace = defaultLook
	}
	d.outbox = &notify.Outbox{Log: d.Log, Delivered: d.delivered}
	d.ledger = &notify.Ledger{Outbox: d.outbox}
	d.loaded = time.Now()
	d.began = d.loaded
	d.storeNow = d.nudgeCapture
	d.metrics = newMetrics(d)
	d.setChannels()
}

// setChannels has people told as the configuration says. The caller holds the lock.
func (d *Daemon) setChannels() {
	channels := d.Channels
	if channels == nil {
		channels = notify.Channels(d.Config.Alerts)
	}
	d.outbox.Set(channels)
	d.ledger.Set(d.Config.Alerts)
}

// delivered notes that a channel has taken an alert: the store is to keep that.
func (d *Daemon) delivered(a notify.Alert, channel string) {
	d.Log.Info("alert was told", "channel", channel, "alert", notify.Title(a), "text", a.Text)
	d.ledger.Taken(a, channel)
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, x := range d.wards {
		if x.ward.Store == a.Store && x.ward.Cluster == a.Cluster {
			x.stale = true
		}
	}
	d.nudge(a.Store)
}

// Run works until the context ends, and then until what goes on has ended or is
// parked: a capture stores what it has, a snapshot is taken up again by the next.
func (d *Daemon) Run(ctx context.Context) error {
	d.prepare()
	for _, w := range d.Config.Warnings {
		d.Log.Warn("the configuration works and should not be so", "what", w)
	}
	d.Log.Info("daemon begins", "policies", len(d.Config.Policies), "clusters", len(Assignments(d.Config)))
	defer func() {
		d.group.Wait()
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastWords)
		defer cancel()
		if err := d.outbox.Flush(end); err != nil {
			d.Log.Error("alerts that were not told", "error", explain.Error(err))
		}
		d.outbox.Close()
	}()
	d.group.Go(func() { d.pulse(ctx) })
	d.group.Go(func() { d.sendReports(ctx) })
	for ctx.Err() == nil {
		d.reload()
		d.forgetUnwanted()
		d.watchStores(ctx)
		d.mu.Lock()
		d.ticked = time.Now()
		d.mu.Unlock()
		select {
		case <-ctx.Done():
		case <-d.Reload:
			d.Log.Info("asked to read the configuration anew")
			if d.Changed != nil {
				d.Changed() // the change of the file is read now, and not once more
			}
			d.load()
		case <-time.After(d.longest()):
		}
	}
	d.Log.Info("daemon ends", "waiting for", d.names())
	return ctx.Err()
}

// forgetUnwanted drops what is known of assignments that the configuration no longer has.
func (d *Daemon) forgetUnwanted() {
	d.mu.Lock()
	defer d.mu.Unlock()
	known := map[string]bool{}
	for _, w := range d.assignments() {
		known[key(w)] = true
	}
	for k, x := range d.wards {
		if !known[k] {
			delete(d.wards, k)
			d.ledger.Clear(x.alert())
			d.ledger.Clear(stalledAlert(x.ward, time.Time{}))
		}
	}
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
	if err == nil && len(c.Policies) == 0 && len(d.Config.Policies) > 0 {
		// A file that was cut short looks like this.
		err = fmt.Errorf("%s: it holds no policies; to carry none out, end the daemon", c.Path)
	}
	if err != nil {
		if d.broken == "" {
			d.brokenSince = time.Now()
		}
		d.broken = err.Error()
		d.Log.Error("the new configuration is refused and the old one stays", "error", explain.Error(err))
		d.ledger.Raise(d.refusedConfiguration(time.Now()))
		return
	}
	was := d.Config
	d.broken, d.Config, d.loaded = "", c, time.Now()
	d.setChannels()
	d.ledger.Clear(d.refusedConfiguration(time.Now()))
	d.Log.Info("the configuration was read anew", "policies", len(c.Policies), "clusters", len(Assignments(c)))
	// What goes on otherwise than is now asked for begins anew; the rest goes on.
	now := map[string]Assignment{}
	for _, w := range d.assignments() {
		now[key(w)] = w
	}
	for k, g := range d.going {
		w, ok := now[key(g.ward)]
		if g.kind == store.RunCapture && (!ok || !same(w, g.ward) ||
			!reflect.DeepEqual(was.Clusters[w.Cluster], c.Clusters[w.Cluster]) ||
			!reflect.DeepEqual(was.Stores[w.Store], c.Stores[w.Store])) {
			d.Log.Info("capture ends to begin anew", "cluster", g.ward.Cluster)
			d.going[k].told = true
			d.going[k].cancel()
		}
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

// reserveWorker reports whether one more run of a kind may begin: what hangs in one store keeps no
// other waiting. Captures always may.
func (d *Daemon) reserveWorker(w Assignment, kind string) bool { return hasRoom(d.going, w, kind) }

func hasRoom(going map[string]*running, w Assignment, kind string) bool {
	if kind == store.RunCapture {
		return true
	}
	most := w.Config.ClustersAtOnce
	if most == 0 {
		most = 2
	}
	n := 0
	for _, g := range going {
		if g.kind != store.RunCapture && g.ward.Policy == w.Policy && g.ward.Store == w.Store {
			n++
		}
	}
	return n < most
}

// start begins a run. The caller holds the lock.
func (d *Daemon) start(ctx context.Context, world Deps, duty Duty, k string) {
	rctx, cancel := context.WithCancel(ctx)
	g := &running{ward: duty.Assignment, kind: duty.Kind, begun: time.Now(), cancel: cancel,
		now: make(chan struct{}, 1), alive: map[string]time.Time{}}
	d.going[k] = g
	d.changes.Add(1)
	d.group.Go(func() {
		defer cancel()
		log := d.Log.With("cluster", duty.Assignment.Cluster, "policy", duty.Assignment.Policy, "kind", duty.Kind)
		log.Debug("begins", "due", duty.Due, "attempt", duty.Attempt, "reason", duty.Reason)
		var r *store.Run
		err := d.guarded(duty.Kind+" of "+duty.Assignment.Cluster, func() (err error) {
			r, err = world.Do(rctx, duty, Heard{
				Stored: func(h journal.Header) { d.stored(duty.Assignment, h) },
				Urgent: d.urgent(duty.Assignment), Now: g.now, Alive: func(shard string) { d.alive(g, shard) },
				Event: g.seen.hear})
			return err
		})
		switch {
		case errors.Is(err, ErrNothing):
			log.Debug("nothing to do", "why", err)
		case ctx.Err() != nil || d.wasTold(g):
			log.Info("stopped", "run", runID(r))
		case err != nil:
			log.Error("run failed", "run", runID(r), "error", explain.Error(err), "attempt", duty.Attempt)
		default:
			log.Info("done", "run", r.ID, "took", r.Took().Round(time.Millisecond), "point", r.Point, "changes",
				r.Changes, "stored", r.Stored)
		}
		d.metrics.ran(r)
		if err != nil && !errors.Is(err, ErrNothing) {
			d.avoid(duty.Assignment, err)
			d.tryStore(duty.Assignment.Store) // is it the store?
		}
		if r == nil && err != nil && ctx.Err() == nil {
			// It never began: not at once again.
			select {
			case <-ctx.Done():
			case <-time.After(10 * time.Second):
			}
		}
		d.mu.Lock()
		if err != nil && ctx.Err() == nil && !g.told {
			d.endedStalled(g)
		}
		delete(d.going, k)
		d.changes.Add(1)
		if x := d.wards[key(duty.Assignment)]; x != nil {
			x.stale = true
		}
		d.nudge(duty.Assignment.Store)
		d.mu.Unlock()
	})
}

// nudgeCapture has this process's capture of an assignment store what it has read; false where there
// is none.
func (d *Daemon) nudgeCapture(w Assignment) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	g := d.going[key(w)+"\x00"+store.RunCapture]
	if g == nil {
		return false
	}
	select {
	case g.now <- struct{}{}:
	default:
	}
	return true
}

func runID(r *store.Run) string {
	if r == nil {
		return ""
	}
	return r.ID
}

// wasTold reports whether a run was told to end.
func (d *Daemon) wasTold(g *running) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return g.told
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
	d.Log.Debug("log stored", "cluster", w.Cluster, "shard", h.Shard, "to", h.Last.Wall, "changes", h.Changes,
		"bytes", h.Size)
	if s := d.stores[w.Store]; s != nil && s.sick == "" {
		s.took = time.Now()
	}
	if x.happened.telling(&h, d.Config.Alerts.Burst) || x.ends() {
		x.stale = true // it is looked at now
		d.nudge(w.Store)
	}
}

// ends reports whether a stretch of log that was stored may end an alert: that no capture works, or
// that a promise is broken. The caller holds the lock.
func (x *watched) ends() bool {
	return slices.Contains(x.alerts, "failure "+store.RunCapture) || slices.Contains(x.alerts, "rpo")
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
// tells of what is new.
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
	// What cannot be ended, as the store takes nothing, does not keep the rest from being told.
	d.mu.Lock()
	x.stale = false // before it is read: a run that ends meanwhile says so again
	d.mu.Unlock()
	s, rerr := ReadState(ctx, e, w.Cluster)
	if rerr != nil {
		return errors.Join(err, rerr)
	}
	if err != nil {
		d.Log.Error("a run that died cannot be ended", "cluster", w.Cluster, "error", explain.Error(err))
	}
	d.mu.Lock()
	x.state = s
	d.changes.Add(1)
	latest := x.latest()
	d.mu.Unlock()
	tell := *s
	tell.Latest = latest
	alerts := world.Config.Alerts
	terr := d.guarded("telling of "+w.Cluster, func() error {
		// What cannot be looked through does not keep the rest from being told.
		lerr := x.happened.look(ctx, e, w.Cluster, s, alerts.Burst)
		now := Alerts(w, &tell, time.Now())
		d.mu.Lock()
		x.alerts = alertKeys(now)
		d.mu.Unlock()
		now = append(now, x.happened.alerts(w)...)
		return errors.Join(d.ledger.Reconcile(ctx, e.Store, w.Store, w.Cluster, now), lerr)
	})
	if terr != nil {
		d.Log.Error("alerts", "cluster", w.Cluster, "error", explain.Error(terr))
	}
	return nil
}
