package daemon

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/run"
)

// Status is how everything is: what the command, the endpoint and the metrics say.
type Status struct {
	Time     time.Time       `json:"time"`
	Well     bool            `json:"well"`
	Clusters []ClusterStatus `json:"clusters"`
	Stores   []StoreStatus   `json:"stores"`
	// Alerts are about none of them: a configuration that was refused, a channel that is dead.
	Alerts []notify.Alert `json:"alerts"`
}

// ClusterStatus is how well a cluster is protected by a policy. Times that are not known are
// absent; those of things that never were, too.
type ClusterStatus struct {
	Cluster string    `json:"cluster"`
	Policy  string    `json:"policy"`
	Store   string    `json:"store"`
	Known   time.Time `json:"known,omitzero"` // when the store was read for this
	// Newest is the newest moment that can be restored; Promised how old it may be, in seconds,
	// zero where nothing is promised.
	Newest     time.Time `json:"newest,omitzero"`
	AgeSeconds float64   `json:"age_seconds"`
	Promised   float64   `json:"promised_seconds"`
	Points     int       `json:"points"`
	Point      string    `json:"point,omitempty"`
	PointTime  time.Time `json:"point_time,omitzero"`
	Records    int64     `json:"records"`
	Bytes      int64     `json:"bytes"`
	Gaps       int       `json:"gaps"`
	// Proof is when the log was last proven by a point that was read from the cluster.
	Proof     time.Time `json:"proof,omitzero"`
	ProofGood bool      `json:"proof_good"`
	// Drill is the last drill that went well; absent where there was none.
	Drill *DrillStatus `json:"drill,omitempty"`
	// Mirror is the second store, Mirrored the newest moment that it holds.
	Mirror   string    `json:"mirror,omitempty"`
	Mirrored time.Time `json:"mirrored,omitzero"`
	Runs     []Task    `json:"runs"`
	// Capturing: somebody follows the log right now.
	Capturing bool           `json:"capturing"`
	Alerts    []notify.Alert `json:"alerts"`
	Error     string         `json:"error,omitempty"` // why nothing is known
	duties    []Duty
	// ward and state are what this was worked out from; state is nil where nothing is known.
	ward  Assignment
	state *State
}

// Task is what became last of one kind of work, and when it is due next.
type Task struct {
	Kind     string    `json:"kind"`
	Result   string    `json:"result,omitempty"`
	Ended    time.Time `json:"finished,omitzero"`
	LastGood time.Time `json:"last_good,omitzero"`
	Next     time.Time `json:"next,omitzero"`
	Going    bool      `json:"going"`
	last     *store.Run
}

// StoreStatus is how a store is.
type StoreStatus struct {
	Store string    `json:"store"`
	Up    bool      `json:"up"`
	Error string    `json:"error,omitempty"`
	Since time.Time `json:"since,omitzero"` // of the error
	Used  int64     `json:"used_bytes"`
	// Measured is when what it holds was counted; Free is -1 where it is not known.
	Measured time.Time      `json:"measured,omitzero"`
	Free     int64          `json:"free_bytes"`
	Days     float64        `json:"days_until_full,omitempty"`
	Scrub    time.Time      `json:"scrub,omitzero"`
	Alerts   []notify.Alert `json:"alerts"`
	freeAt   time.Time
}

// daysLeft is for how many days there is room; infinite where it does not grow, or is not known.
func (s *StoreStatus) daysLeft() float64 {
	if s.Days > 0 {
		return s.Days
	}
	return math.Inf(1)
}

// taskKinds are the kinds of work of policies.
var taskKinds = []string{store.RunSnapshot, store.RunCapture, store.RunRetention, store.RunMirror,
	store.RunDrill}

// statusOf works out how well a cluster is protected, from what a store holds; latest is the
// newest moment that can be restored.
func statusOf(w Assignment, s *State, latest, now time.Time) ClusterStatus {
	c := ClusterStatus{ward: w, state: s, Cluster: w.Cluster, Policy: w.Policy, Store: w.Store,
		Promised: time.Duration(w.Config.RPO).Seconds(), Alerts: []notify.Alert{}}
	if s == nil {
		return c
	}
	c.Known, c.Points, c.Gaps = s.Read, len(s.Points), len(s.Gaps)
	if p := s.Newest(); p != nil {
		c.Newest, c.Point, c.PointTime = latest, p.ID, p.Time
		c.AgeSeconds = max(0, now.Sub(latest).Seconds())
		c.Records, c.Bytes = p.Stats.Records, p.Stats.Bytes
	}
	for i := len(s.Points) - 1; i >= 0; i-- {
		if m := s.Proofs[s.Points[i].ID]; m != nil && m.NotProven == "" {
			c.Proof, c.ProofGood = m.Until, m.Equal
			break
		}
	}
	c.Drill = s.LastDrill()
	if c.Mirror = w.Config.MirrorTo; c.Mirror != "" {
		c.Mirrored = s.mirrored(c.Mirror)
	}
	duties := Duties(w, s, now)
	for _, kind := range taskKinds {
		t := Task{Kind: kind, last: store.Newest(s.Runs, w.Policy, kind)}
		t.Going = slices.ContainsFunc(s.Going, func(r *store.Run) bool { return r.Kind == kind })
		if t.last != nil {
			t.Result, t.Ended = t.last.Result, t.last.Finished
		}
		for _, r := range s.Runs {
			if r.Kind == kind && r.Good() && r.Finished.After(t.LastGood) {
				t.LastGood = r.Finished
			}
		}
		for _, d := range duties {
			if d.Kind == kind {
				t.Next = d.At
			}
		}
		if kind == store.RunCapture {
			c.Capturing = t.Going
		}
		c.Runs = append(c.Runs, t)
	}
	seen := *s
	seen.Latest = latest
	c.Alerts = append(c.Alerts, Alerts(w, &seen, now)...)
	c.duties = duties
	return c
}

// overdueFor is for how long work that is due may not have been begun, while nothing else of its
// policy is done, before that is an alert: nobody is there who does it.
const overdueFor = 10 * time.Minute

// overdue adds to what is known of the clusters of a store that nobody does the work that is due.
func overdue(clusters []ClusterStatus, wards []Assignment, now time.Time) {
	busy := map[string]bool{}
	for _, c := range clusters {
		for _, t := range c.Runs {
			busy[c.Policy] = busy[c.Policy] || t.Going && t.Kind != store.RunCapture || now.Sub(t.Ended) < overdueFor
		}
	}
	for i := range clusters {
		c, found := &clusters[i], notify.Alert{}
		for _, d := range c.duties {
			if busy[c.Policy] || now.Sub(d.At) <= overdueFor || !found.Since.IsZero() && !d.At.Before(found.Since) ||
				d.Kind == store.RunCapture && wards[i].Config.When.Continuous {
				continue
			}
			found = notify.Alert{Key: "overdue " + d.Kind, About: "failure", Store: c.Store, Cluster: c.Cluster,
				Policy: c.Policy, Since: d.At.UTC(), Do: "dexamen daemon, or dexamen due --run",
				Text: fmt.Sprintf("%s: %s has been due since %s and nobody has begun it: is a daemon at work?",
					c.Cluster, d.Kind, d.At.Local().Format(time.RFC3339))}
		}
		if found.Key != "" {
			c.Alerts = append(c.Alerts, found)
		}
	}
}

// judge works out whether all is well.
func (s *Status) judge() {
	s.Well = len(s.Alerts) == 0
	for _, c := range s.Clusters {
		s.Well = s.Well && c.Error == "" && len(c.Alerts) == 0
	}
	for _, st := range s.Stores {
		s.Well = s.Well && st.Up && len(st.Alerts) == 0
	}
}

// Look reads from the stores how everything is, of each by itself, for those who ask without a
// daemon. A store that does not answer is named.
func Look(ctx context.Context, world Deps) *Status {
	out := &Status{Time: time.Now(), Alerts: []notify.Alert{}, Clusters: []ClusterStatus{}, Stores: []StoreStatus{}}
	var mu sync.Mutex
	var group sync.WaitGroup
	for _, name := range config.Names(world.Config.Stores) {
		group.Go(func() {
			st, clusters := world.lookAt(ctx, name)
			mu.Lock()
			defer mu.Unlock()
			out.Stores, out.Clusters = append(out.Stores, st), append(out.Clusters, clusters...)
		})
	}
	group.Wait()
	for _, u := range world.Config.Unprotected() {
		out.Alerts = append(out.Alerts, unprotectedAlert(u, out.Time))
	}
	out.sort()
	out.judge()
	return out
}

func (s *Status) sort() {
	slices.SortFunc(s.Clusters, func(a, b ClusterStatus) int {
		return strings.Compare(a.Cluster+"\x00"+a.Store, b.Cluster+"\x00"+b.Store)
	})
	slices.SortFunc(s.Stores, func(a, b StoreStatus) int { return strings.Compare(a.Store, b.Store) })
}

// lookAt reads how a store and what is protected in it are.
func (w Deps) lookAt(ctx context.Context, name string) (StoreStatus, []ClusterStatus) {
	var wards []Assignment
	for _, a := range Assignments(w.Config) {
		if a.Store == name {
			wards = append(wards, a)
		}
	}
	var mu sync.Mutex
	st := StoreStatus{Store: name, Free: -1, Alerts: []notify.Alert{}}
	found := map[string]ClusterStatus{}
	err := w.whileItAnswers(ctx, name, func() error {
		room, scrub, err := w.lookAtStore(ctx, name)
		if err != nil {
			return err
		}
		mu.Lock()
		st.Used, st.Free, st.Scrub, st.Measured = room.Used, room.Free, scrub, time.Now()
		st.Days, _ = room.Days()
		st.Alerts = append(st.Alerts, room.alerts(name, time.Duration(w.Config.Alerts.FullWithin), time.Now())...)
		mu.Unlock()
		for _, a := range wards {
			c := w.lookAtCluster(ctx, a)
			mu.Lock()
			found[key(a)] = c
			mu.Unlock()
		}
		return nil
	})
	mu.Lock()
	defer mu.Unlock()
	st.Up = err == nil
	if err != nil {
		st.Error, st.Since = explain.Error(err), time.Now()
	}
	var clusters []ClusterStatus
	for _, a := range wards {
		c, ok := found[key(a)]
		if !ok {
			c = statusOf(a, nil, time.Time{}, time.Now())
			c.Error = "store " + name + " cannot be used"
		}
		clusters = append(clusters, c)
	}
	overdue(clusters, wards, time.Now())
	return st, clusters
}

// lookAtStore tries a small write and counts what a store holds.
func (w Deps) lookAtStore(ctx context.Context, name string) (Capacity, time.Time, error) {
	e, err := w.env(ctx, name, "")
	if err != nil {
		return Capacity{}, time.Time{}, err
	}
	defer e.Store.Close()
	if e.Store.ImmutableFor == 0 && !w.Config.Stores[name].ReadOnly {
		if err := store.Probe(ctx, e.Store.Place()); err != nil {
			return Capacity{}, time.Time{}, fmt.Errorf("it does not take a small write: %w", err)
		}
	}
	room, err := MeasureCapacity(ctx, e, int64(w.Config.Stores[name].Capacity))
	if err != nil {
		return room, time.Time{}, err
	}
	scrub, err := lastScrub(ctx, e)
	return room, scrub, err
}

// lastScrub returns when everything in a store was last read and found well.
func lastScrub(ctx context.Context, e *run.Runner) (at time.Time, err error) {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Kinds: []string{store.RunScrub}, Last: recent})
	for _, r := range runs {
		if r.Good() && r.Finished.After(at) {
			at = r.Finished
		}
	}
	return at, err
}

func (w Deps) lookAtCluster(ctx context.Context, a Assignment) ClusterStatus {
	e, err := w.env(ctx, a.Store, a.Cluster)
	var s *State
	if err == nil {
		defer e.Store.Close()
		s, err = ReadState(ctx, e, a.Cluster)
	}
	if err != nil {
		c := statusOf(a, nil, time.Time{}, time.Now())
		c.Error = explain.Error(err)
		return c
	}
	c := statusOf(a, s, s.Latest, time.Now())
	if told, err := notify.Active(ctx, e.Store, a.Cluster); err == nil {
		c.since(told)
	}
	return c
}

// since dates alerts as they were told first.
func (c *ClusterStatus) since(told []notify.Alert) {
	for i := range c.Alerts {
		for _, t := range told {
			if t.Key == c.Alerts[i].Key && t.Since.Before(c.Alerts[i].Since) {
				c.Alerts[i].Since = t.Since
			}
		}
	}
}

// Status returns how everything is, as far as the daemon knows. Freshen first.
func (d *Daemon) Status() *Status {
	d.prepare()
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	out := &Status{Time: now, Alerts: []notify.Alert{}, Clusters: []ClusterStatus{}, Stores: []StoreStatus{}}
	for _, w := range d.assignments() {
		x := d.wards[key(w)]
		if x == nil {
			x = &watched{ward: w}
		}
		c := statusOf(w, x.state, x.latest(), now)
		c.since(d.ledger.Told(w.Store, w.Cluster))
		switch s := d.stores[w.Store]; {
		case x.failed != "":
			c.Error = x.failed
		case s != nil && s.hung:
			c.Error = "store " + w.Store + " does not answer"
		case x.state == nil:
			c.Error = "what store " + w.Store + " holds of it has not been read yet"
		}
		for _, a := range d.ledger.Raised() {
			if a.Key == "stalled" && a.Store == w.Store && a.Cluster == w.Cluster {
				c.Alerts = append(c.Alerts, a)
			}
		}
		if x.state != nil {
			for _, g := range d.going {
				for i := range c.Runs {
					if key(g.ward) == key(w) && g.kind == c.Runs[i].Kind {
						c.Runs[i].Going = true
						c.Capturing = c.Capturing || g.kind == store.RunCapture
					}
				}
			}
		}
		out.Clusters = append(out.Clusters, c)
	}
	for _, name := range config.Names(d.Config.Stores) {
		st := StoreStatus{Store: name, Free: -1, Alerts: []notify.Alert{}}
		if s := d.stores[name]; s != nil {
			st.Up, st.Error = s.sick == "" && !s.took.IsZero(), s.sick
			if s.sick != "" {
				st.Since = s.since
			}
			if !s.freeAt.IsZero() {
				st.Free, st.freeAt = s.room.Free, s.freeAt
			}
			st.Used, st.Measured, st.Scrub = s.room.Used, s.measured, s.scrub
			st.Days, _ = s.room.Days()
			st.Alerts = append(st.Alerts, s.room.alerts(name, time.Duration(d.Config.Alerts.FullWithin), now)...)
		}
		out.Stores = append(out.Stores, st)
	}
	for _, u := range d.Config.Unprotected() {
		out.Alerts = append(out.Alerts, unprotectedAlert(u, d.loaded))
	}
	if d.broken != "" {
		out.Alerts = append(out.Alerts, d.refusedConfiguration(d.brokenSince))
	}
	for name, c := range d.outbox.Counts() {
		if c.Failing != "" {
			out.Alerts = append(out.Alerts, notify.Alert{Key: "channel " + name, About: "failure", Since: c.Since.UTC(),
				Text: fmt.Sprintf("alerts by %s do not get through: %s", name, c.Failing), Do: "dexamen alerts test"})
		}
	}
	out.sort()
	out.judge()
	return out
}

func (d *Daemon) refusedConfiguration(now time.Time) notify.Alert {
	return notify.Alert{Key: "configuration", About: "failure", Since: now.UTC(), Do: "dexamen config check",
		Text: "the new configuration is refused and the old one stays: " + d.broken}
}

// freshFor is how old what is known may be when somebody asks. What this process captures itself
// it knows at once.
const freshFor = 30 * time.Second

// Freshen reads anew what others may have changed, for at most a time.
func (d *Daemon) Freshen(ctx context.Context, limit time.Duration) {
	asked := time.Now()
	old := func() (n int) {
		d.mu.Lock()
		defer d.mu.Unlock()
		for _, x := range d.wards {
			s := d.stores[x.ward.Store]
			if s == nil || s.sick != "" || x.failed != "" || d.going[key(x.ward)+"\x00"+store.RunCapture] != nil {
				continue
			}
			if x.state == nil || asked.Sub(x.state.Read) > freshFor {
				x.stale = true
				s.nudge()
				n++
			}
		}
		return n
	}
	for old() > 0 && time.Since(asked) < limit && ctx.Err() == nil {
		sleepFor(ctx, 20*time.Millisecond)
	}
}

func sleepFor(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Err returns what of a status is not well, as an error: run.ErrIncomplete where something is
// amiss and everything could be looked at.
func (s *Status) Err() error {
	if s.Well {
		return nil
	}
	var unknown []string
	alerts := len(s.Alerts)
	for _, st := range s.Stores {
		alerts += len(st.Alerts)
		if !st.Up {
			unknown = append(unknown, "store "+st.Store+": "+st.Error)
		}
	}
	for _, c := range s.Clusters {
		alerts += len(c.Alerts)
		if c.Error != "" && !strings.HasPrefix(c.Error, "store ") {
			unknown = append(unknown, "cluster "+c.Cluster+": "+c.Error)
		}
	}
	if len(unknown) > 0 {
		return errors.New(strings.Join(unknown, "; "))
	}
	return fmt.Errorf("%w: %s", run.ErrIncomplete, run.Count(int64(alerts), "alert"))
}
