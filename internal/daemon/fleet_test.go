package daemon

import (
	"container/heap"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/workers"
)

// What a fleet goes by. A claim of a process on another machine counts for its length and what clocks may be apart
// ([process.Tolerance]).
const (
	fleetLost    = 30 * time.Second
	fleetClaim   = 15 * time.Minute
	fleetDrain   = 4*time.Minute + 30*time.Second
	fleetPromise = 30 * time.Minute
	fleetHands   = 4
	fleetReaders = 16
	fleetSpeed   = 40e6 // bytes a second that one hand reads
)

// fleet is a simulation, on a clock that is not real, of daemons that divide very many clusters. What is due, who sees
// to it and whether there is room are asked of the code that daemons run; how long it takes is made up.
type fleet struct {
	t        *testing.T
	r        *rand.Rand
	now      time.Time
	queue    fleetQueue
	clusters []*fleetCluster
	workers  []*fleetWorker
	seen     []workers.Info // as the servers say it
	only     map[string]map[string]string

	looks, divisions, captures, snapshots, killed, failed, stuck int
	scans                                                        int // snapshots going on
	looking, dividing                                            time.Duration
	worst                                                        time.Duration // lag of what could be kept
	broken                                                       []string
	excused                                                      int
}

type fleetCluster struct {
	a       Assignment
	s       State
	bytes   float64
	home    *fleetWorker
	next    int // of the look that counts; others are of before
	down    bool
	ended   map[string]time.Time // by kind of a run that was killed: until when its claim counts
	running map[string]*fleetRun
	// cut is for how long since Latest nothing could be captured, whoever tried, and since when that is so now.
	cut      time.Duration
	cutSince time.Time
}

type fleetRun struct {
	run  *store.Run
	by   *fleetWorker
	gone bool // its process was killed
}

type fleetWorker struct {
	info  workers.Info
	alive bool // takes on work
	seen  bool
	going map[string]*running
}

type fleetEvent struct {
	at time.Time
	do func()
}

type fleetQueue []fleetEvent

func (q fleetQueue) Len() int           { return len(q) }
func (q fleetQueue) Less(i, j int) bool { return q[i].at.Before(q[j].at) }
func (q fleetQueue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *fleetQueue) Push(x any)        { *q = append(*q, x.(fleetEvent)) }
func (q *fleetQueue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}

func (f *fleet) after(d time.Duration, do func()) { heap.Push(&f.queue, fleetEvent{f.now.Add(d), do}) }

// some returns a time that is often short and seldom long.
func (f *fleet) some(mean time.Duration) time.Duration {
	return time.Duration(f.r.ExpFloat64() * float64(mean))
}

// newFleet makes clusters, a fifth of which are in the north and may be worked on there only, and workers, a fifth of
// which are there.
func newFleet(t *testing.T, clusters, hosts int) *fleet {
	text := "stores: { larder: { location: \"mem:\" } }\npolicies:\n  all: { clusters: [\"*\"], time_zone: UTC, " +
		"snapshot: \"0 2 * * *\", capture: 10m, clusters_at_once: 2, retry: { first: 30s, longest: 5m }, " +
		"keep: { thin: [daily for 30d] } }\nworkers: { servers: [\"nats://127.0.0.1:4222\"], divide: true, " +
		"rules: [ { clusters: { label: site=north }, only: { site: north } } ] }\nclusters:\n"
	var b strings.Builder
	for i := range clusters {
		site := "any"
		if i%5 == 0 {
			site = "north"
		}
		fmt.Fprintf(&b, "  fleet-%05d: { address: \"field://%d\", labels: { site: %s } }\n", i, i, site)
	}
	cfg, err := config.Parse([]byte(text+b.String()), "fleet.yaml")
	require.NoError(t, err)
	f := &fleet{t: t, r: rand.New(rand.NewPCG(25, 10_000)), only: map[string]map[string]string{},
		now: time.Date(2030, 3, 4, 0, 0, 0, 0, time.UTC)}
	for _, a := range Assignments(cfg) {
		c := &fleetCluster{a: a, ended: map[string]time.Time{}, running: map[string]*fleetRun{},
			bytes: 1e10 * math.Exp(f.r.NormFloat64()*1.5)}
		p := &store.Point{ID: "0", Cluster: a.Cluster, Engine: "field", Made: "scan", Exact: true, Time: f.now,
			Started: f.now, Finished: f.now}
		c.s = State{Points: []*store.Point{p}, Latest: f.now}
		f.clusters = append(f.clusters, c)
		f.only[a.Cluster] = cfg.Only(a.Cluster)
	}
	for i := range hosts {
		site := "south"
		if i%5 == 0 {
			site = "north"
		}
		name := fmt.Sprintf("host-%02d", i)
		f.workers = append(f.workers, &fleetWorker{alive: true, seen: true, going: map[string]*running{},
			info: workers.Info{Name: name, Instance: name, Parallel: fleetHands, Plans: true,
				Labels: map[string]string{"site": site}}})
	}
	return f
}

// divide gives each cluster a home among those that are seen.
func (f *fleet) divide() {
	f.divisions++
	began := time.Now()
	f.seen = f.seen[:0]
	by := map[string]*fleetWorker{}
	for _, w := range f.workers {
		if w.seen {
			f.seen = append(f.seen, w.info)
			by[w.info.Instance] = w
		}
	}
	for _, c := range f.clusters {
		home := by[workers.Home(c.a.Cluster, f.seen, func(w *workers.Info) bool {
			return w.CanWork(c.a.Cluster, c.a.Store, f.only[c.a.Cluster])
		})]
		if home != c.home {
			c.home = home
			f.lookAt(c, time.Duration(f.r.Int64N(int64(10*time.Second)))) // its state is read first
		}
	}
	f.dividing += time.Since(began)
	for _, c := range f.clusters {
		f.able(c)
	}
}

// able notes whether anybody could capture a cluster now.
func (f *fleet) able(c *fleetCluster) {
	can := !c.down && slices.ContainsFunc(f.workers, func(w *fleetWorker) bool {
		return w.alive && w.info.CanWork(c.a.Cluster, c.a.Store, f.only[c.a.Cluster])
	})
	switch {
	case !can && c.cutSince.IsZero():
		c.cutSince = f.now
	case can && !c.cutSince.IsZero():
		c.cut += f.now.Sub(c.cutSince)
		c.cutSince = time.Time{}
	}
}

// lookAt has a cluster's home look at what is due in it.
func (f *fleet) lookAt(c *fleetCluster, d time.Duration) {
	c.next++
	n := c.next
	f.after(d, func() {
		if n == c.next {
			f.look(c)
		}
	})
}

func (f *fleet) look(c *fleetCluster) {
	w := c.home
	if w == nil || !w.alive {
		return // the next division has it looked at
	}
	f.looks++
	for kind, until := range c.ended { // whose claim is over
		if !until.After(f.now) {
			delete(c.ended, kind)
			g := c.running[kind]
			delete(c.running, kind)
			g.run.Result, g.run.Finished = store.RunKilled, f.now
			f.keep(c, g.run)
		}
	}
	c.s.Going = c.s.Going[:0]
	for _, g := range c.running {
		c.s.Going = append(c.s.Going, g.run)
	}
	began := time.Now()
	duties := Duties(c.a, &c.s, f.now)
	f.looking += time.Since(began)
	next := f.now.Add(defaultLook)
	for _, until := range c.ended {
		if until.Before(next) {
			next = until
		}
	}
	for _, d := range duties {
		k := key(c.a) + "\x00" + d.Kind
		switch {
		case !d.due(f.now):
			if d.At.Before(next) {
				next = d.At
			}
		case !hasRoom(w.going, c.a, d.Kind):
			if at := f.now.Add(time.Minute); at.Before(next) { // the end of another wakes it
				next = at
			}
		default:
			f.start(c, w, d, k)
		}
	}
	f.lookAt(c, next.Sub(f.now))
}

func (f *fleet) start(c *fleetCluster, w *fleetWorker, d Duty, k string) {
	r := &store.Run{Kind: d.Kind, Cluster: c.a.Cluster, Policy: c.a.Policy, Due: d.Due, Attempt: d.Attempt,
		Started: f.now}
	g := &fleetRun{run: r, by: w}
	c.running[d.Kind], w.going[k] = g, &running{ward: c.a, kind: d.Kind}
	took := 2*time.Second + f.some(10*time.Second)
	if d.Kind == store.RunSnapshot {
		f.scans++
		hands := 0
		for _, w := range f.workers {
			if w.alive {
				hands += fleetHands
			}
		}
		at := math.Min(fleetReaders, math.Max(1, float64(hands)/float64(f.scans)))
		took += time.Duration(c.bytes / (at * fleetSpeed) * float64(time.Second))
	}
	f.after(took, func() {
		if d.Kind == store.RunSnapshot {
			f.scans--
		}
		if !g.gone {
			delete(w.going, k)
			f.ends(c, g)
		}
	})
}

// ends has a run end.
func (f *fleet) ends(c *fleetCluster, g *fleetRun) {
	r := g.run
	delete(c.running, r.Kind)
	r.Result, r.Finished = store.RunDone, f.now
	if c.down && (r.Kind == store.RunCapture || r.Kind == store.RunSnapshot) {
		r.Result = store.RunFailed
		f.failed++
	}
	f.keep(c, r)
	if r.Result == store.RunDone {
		switch r.Kind {
		case store.RunCapture:
			f.captures++
			f.reached(c, r.Started)
		case store.RunSnapshot:
			f.snapshots++
			c.s.Points = append(c.s.Points[max(0, len(c.s.Points)-1):], &store.Point{ID: r.Started.String(),
				Made: "scan", Engine: "field", Exact: true, Time: f.now, Started: r.Started, Finished: f.now})
			f.reached(c, f.now)
		}
	}
	f.lookAt(c, 0)
}

// keep notes a run in a cluster's state, of which the last few of each kind are known.
func (f *fleet) keep(c *fleetCluster, r *store.Run) {
	n := 0
	for _, x := range c.s.Runs {
		if x.Kind == r.Kind {
			n++
		}
	}
	if n == recent {
		i := slices.IndexFunc(c.s.Runs, func(x *store.Run) bool { return x.Kind == r.Kind })
		c.s.Runs = slices.Delete(c.s.Runs, i, i+1)
	}
	c.s.Runs = append(c.s.Runs, r)
}

// reached notes that a cluster is protected up to a time, and whether it was as late as promised before: without the
// time in which nobody could have captured it.
func (f *fleet) reached(c *fleetCluster, to time.Time) {
	cut := c.cut
	if !c.cutSince.IsZero() {
		cut += f.now.Sub(c.cutSince)
	}
	lag := f.now.Sub(c.s.Latest)
	f.worst = max(f.worst, lag-cut)
	switch {
	case lag-cut > fleetPromise:
		f.broken = append(f.broken, fmt.Sprintf("%s: %s at %s, of which nobody could for %s", c.a.Cluster, lag, f.now,
			cut))
	case lag > fleetPromise:
		f.excused++
	}
	if to.After(c.s.Latest) {
		c.s.Latest = to
	}
	c.cut = 0
	if !c.cutSince.IsZero() {
		c.cutSince = f.now
	}
}

// live has a worker be killed, or told to end, time and again.
func (f *fleet) live(w *fleetWorker) {
	f.after(f.some(24*time.Hour), func() {
		if !w.alive {
			f.live(w)
			return
		}
		f.stop(w, f.r.IntN(2) == 0)
		f.after(time.Minute+f.some(20*time.Minute), func() {
			f.begin(w)
			f.live(w)
		})
	})
}

// stop ends a worker: one that is killed leaves what it was at as it is, and is seen to be gone after a while.
func (f *fleet) stop(w *fleetWorker, kill bool) {
	if !w.alive {
		return
	}
	w.alive = false
	if !kill {
		w.seen = false
		f.divide()
		f.after(fleetDrain, func() { f.leave(w) })
		return
	}
	f.killed++
	f.leave(w)
	f.after(fleetLost, func() {
		if !w.alive {
			w.seen = false
			f.divide()
		}
	})
	f.divide()
}

// leave has what a worker is still at never end.
func (f *fleet) leave(w *fleetWorker) {
	if w.alive {
		return // it is back
	}
	for _, c := range f.clusters {
		for kind, g := range c.running {
			if g.by == w && !g.gone {
				g.gone = true
				c.ended[kind] = f.now.Add(fleetClaim)
				f.stuck++
				f.lookAt(c, fleetClaim)
			}
		}
	}
	clear(w.going)
}

func (f *fleet) begin(w *fleetWorker) {
	w.alive, w.seen = true, true
	f.divide()
}

// harm has sites go dark and clusters not be reached.
func (f *fleet) harm() {
	f.after(f.some(36*time.Hour), func() {
		length := 2*time.Minute + f.some(time.Hour)
		for _, w := range f.workers {
			if w.info.Labels["site"] == "north" {
				f.stop(w, true)
				f.after(length, func() { f.begin(w) })
			}
		}
		f.harm()
	})
}

func (f *fleet) harmClusters() {
	f.after(f.some(time.Duration(float64(30*24*time.Hour)/float64(len(f.clusters)))), func() {
		c := f.clusters[f.r.IntN(len(f.clusters))]
		if !c.down {
			c.down = true
			f.able(c)
			f.after(f.some(time.Hour), func() {
				c.down = false
				f.able(c)
			})
		}
		f.harmClusters()
	})
}

// TestFleet has 50 daemons divide 1,000 clusters for a day, 3,000 with DEXAMEN_LONG, and as many and for as long as
// DEXAMEN_FLEET says ("10000 7" takes half an hour), each of which is captured every ten minutes and read at night,
// while daemons are killed, told to end and begin again, a site goes dark, and clusters are not reached. No cluster is
// later than was promised but for as long as nobody could have done anything, and each is read every night.
func TestFleet(t *testing.T) {
	clusters, days := 1000, 1
	if os.Getenv("DEXAMEN_LONG") != "" {
		clusters = 3000
	}
	if s := os.Getenv("DEXAMEN_FLEET"); s != "" { // CLUSTERS DAYS
		a, b, _ := strings.Cut(s, " ")
		clusters, _ = strconv.Atoi(a)
		days, _ = strconv.Atoi(b)
	}
	f := newFleet(t, clusters, 50)
	f.divide()
	for _, w := range f.workers {
		f.live(w)
	}
	f.harm()
	f.harmClusters()
	begun, end := time.Now(), f.now.Add(time.Duration(days)*24*time.Hour)
	for len(f.queue) > 0 && f.now.Before(end) {
		e := heap.Pop(&f.queue).(fleetEvent)
		f.now = e.at
		e.do()
	}
	least, most := math.MaxInt, 0
	homes := map[*fleetWorker]int{}
	for _, c := range f.clusters {
		f.reached(c, f.now)
		homes[c.home]++
	}
	for _, n := range homes {
		least, most = min(least, n), max(most, n)
	}
	t.Logf("%d clusters, %d days in %s: %d captures, %d snapshots, %d failed; %d daemons killed, %d runs left behind",
		clusters, days, time.Since(begun).Round(time.Millisecond), f.captures, f.snapshots, f.failed, f.killed, f.stuck)
	t.Logf("the latest, but for when nobody could: %s; later than promised while nobody could: %d times; homes of "+
		"%d to %d clusters", f.worst.Round(time.Second), f.excused, least, most)
	t.Logf("%d looks of %s each; %d divisions of %s each", f.looks, (f.looking / time.Duration(f.looks)).Round(10*
		time.Nanosecond), f.divisions, (f.dividing / time.Duration(f.divisions)).Round(time.Microsecond))
	require.Empty(t, f.broken)
	require.GreaterOrEqual(t, f.snapshots, clusters*days*99/100)
	require.Greater(t, f.killed, days)
	require.Positive(t, f.stuck)
	require.Positive(t, f.excused, "nothing was so bad that it could not be kept: the harm is too little")
}
