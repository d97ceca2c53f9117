package store_test

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// The simulation has processes work on one store, over a place and by clocks that are not
// real: each may be slow, stand still for hours (its clocks with it, or not), be killed, have
// its clock set, and lose answers, at every step that it takes to the place. What chance
// decides comes from a seed.

// process is one of them.
type process struct {
	w   *simulated
	n   int
	rng *rand.Rand

	// calm is out of how many steps little happens in all but a few.
	calm int

	mu     sync.Mutex
	dead   bool
	off    time.Duration // of its wall clock
	slept  time.Duration // for how long its clocks have stood still
	until  time.Time     // of a pause
	frozen time.Time     // since when its clocks stand still; zero where they go
}

var errSimKilled = errors.New("killed")

func (p *process) now() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if !p.frozen.IsZero() {
		now = p.frozen
	}
	return now.Add(p.off - p.slept)
}

func (p *process) awake() time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	if !p.frozen.IsZero() {
		now = p.frozen
	}
	return now.Sub(p.w.began) - p.slept + time.Hour
}

// step is what can happen before and after everything that a process does at the place.
func (p *process) step() error {
	if err := p.resume(); err != nil {
		return err
	}
	p.mu.Lock()
	wait := time.Duration(0)
	switch n := p.rng.IntN(p.calm); {
	case n < 4:
		p.dead = true
	case n < 14:
		p.until = time.Now().Add(time.Minute << p.rng.IntN(9))
		if p.rng.IntN(2) == 0 {
			p.frozen = time.Now()
		}
		wait = time.Until(p.until)
	case n < 18:
		p.off = time.Duration(p.rng.IntN(9)-4) * []time.Duration{15 * time.Second, 29 * time.Second, 5 * time.Minute,
			8 * time.Hour}[p.rng.IntN(4)]
	case n < 40:
		wait = time.Duration(p.rng.IntN(60_000)) * time.Millisecond
	case n < 600:
		wait = time.Duration(p.rng.IntN(200)) * time.Millisecond
	}
	dead := p.dead
	p.mu.Unlock()
	if dead {
		return errSimKilled
	}
	if wait > 0 {
		time.Sleep(wait)
		return p.resume()
	}
	return nil
}

// resume waits for the end of a pause.
func (p *process) resume() error {
	for {
		p.mu.Lock()
		wait, dead := time.Until(p.until), p.dead
		if wait <= 0 && !p.frozen.IsZero() {
			p.slept += time.Since(p.frozen)
			p.frozen = time.Time{}
		}
		p.mu.Unlock()
		if dead {
			return errSimKilled
		}
		if wait <= 0 {
			return nil
		}
		time.Sleep(wait)
	}
}

// via is the place as a process sees it.
type via struct {
	blob.Backend
	p *process
}

func (v via) do(op func() error) error {
	if err := v.p.step(); err != nil {
		return err
	}
	err := op()
	if after := v.p.step(); after != nil {
		return after
	}
	v.p.mu.Lock()
	lost := v.p.rng.IntN(150) == 0
	v.p.mu.Unlock()
	if lost && err == nil {
		return errors.New("the answer was lost")
	}
	return err
}

func (v via) Create(c context.Context, name string, data []byte) error {
	return v.do(func() error { return v.traced("makes", name, v.Backend.Create(c, name, data)) })
}

func (v via) Remove(c context.Context, name string) error {
	return v.do(func() error { return v.traced("removes", name, v.Backend.Remove(c, name)) })
}

// traced notes what is done to the log, to be told of a schedule that fails.
func (v via) traced(what, name string, err error) error {
	if at, ok := strings.CutPrefix(name, "journal/meadow/yard/"); ok && v.Backend == v.p.w.place {
		v.p.w.mu.Lock()
		defer v.p.w.mu.Unlock()
		v.p.w.trace = append(v.p.w.trace, fmt.Sprintf("%s process %d %s %s (%v)", time.Since(v.p.w.began), v.p.n,
			what, at, err))
	}
	return err
}

func (v via) Read(c context.Context, name string) (b []byte, err error) {
	err = v.do(func() error { b, err = v.Backend.Read(c, name); return err })
	return b, err
}

func (v via) ReadAt(c context.Context, name string, off int64, n int) (b []byte, err error) {
	err = v.do(func() error { b, err = v.Backend.ReadAt(c, name, off, n); return err })
	return b, err
}

// List gives what was there when the place was asked, however late the answer comes.
func (v via) List(c context.Context, prefix string, fn func(blob.Info) error) error {
	var infos []blob.Info
	err := v.do(func() error {
		return v.Backend.List(c, prefix, func(i blob.Info) error { infos = append(infos, i); return nil })
	})
	for _, i := range infos {
		if err != nil {
			return err
		}
		err = fn(i)
	}
	return err
}

// simulated is one schedule.
type simulated struct {
	t     *testing.T
	seed  uint64
	place *blob.Memory
	// mirror is where the store is copied to.
	mirror *blob.Memory
	opt    store.Options
	began  time.Time

	mu        sync.Mutex
	committed map[string]*store.Point // the program was told that they are there
	dropping  map[string]bool         // somebody has begun to retire them
	logged    int                     // how far the program was told that the log is there
	leads     int                     // the last position of a point that may be there
	counts    map[string]int
	trace     []string
}

func (w *simulated) count(what string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.counts[what]++
}

// Reclaim keeps for minutes here what it keeps for days.
var simReclaim = store.ReclaimOptions{Grace: 20 * time.Minute, Dropped: 30 * time.Minute}

// run is one process from its beginning to its end.
func (w *simulated) run(n int, rng *rand.Rand) {
	p := &process{w: w, n: n, rng: rng, calm: 500 << rng.IntN(5)}
	o := w.opt
	o.Clock = sealed.Clock{Now: p.now, Awake: p.awake}
	s, err := store.Open(ctx, via{w.place, p}, o)
	if err != nil {
		return
	}
	defer s.Close()
	for range 1 + rng.IntN(8) {
		p.mu.Lock()
		n, rest, dead := rng.IntN(18), time.Duration(rng.IntN(20))*time.Minute, p.dead
		p.mu.Unlock()
		if dead {
			return
		}
		time.Sleep(rest)
		switch {
		case n < 4:
			w.snapshot(s, p)
		case n < 5:
			w.fold(s, p)
		case n < 7:
			w.retire(s, p)
		case n < 11:
			r, err := s.Reclaim(ctx, simReclaim)
			if err == nil {
				w.count("reclaimed")
				w.mu.Lock()
				w.counts["removed"] += r.Removed
				w.mu.Unlock()
			}
		case n < 12:
			w.bringBack(s, p)
		case n < 15:
			w.capture(s, p)
		case n < 16:
			j, err := s.Join(ctx, "meadow", store.JoinOptions{Settled: 10 * time.Minute, Least: 2})
			if err == nil && j.To > 0 {
				w.count("joined")
			}
		default:
			if _, err := s.Mirror(ctx, via{w.mirror, p}, store.MirrorOptions{Parallel: 1}); err == nil {
				w.count("mirrored")
			}
		}
	}
}

// simMark is a position of the log.
func simMark(n int) record.Mark {
	return record.Mark{Position: record.Position(fmt.Sprintf("%06d", n)), Wall: time.Unix(int64(n), 0).UTC()}
}

// capture adds a stretch to the log.
func (w *simulated) capture(s *store.Store, p *process) {
	seen := s.Look()
	chains, _, err := s.Chains(ctx, "meadow")
	if err != nil {
		return
	}
	from, prev, at := simMark(0), tree.Hash{}, 0
	if c := chains["yard"]; c != nil && len(c.Segments) > 0 {
		from, prev, _ = c.End()
		at, _ = strconv.Atoi(string(from.Position))
	}
	keys, err := s.SegmentKeys(ctx)
	if err != nil {
		return
	}
	b := journal.NewBuilder(keys, "meadow", "yard", from)
	p.mu.Lock()
	n := 1 + p.rng.IntN(3)
	p.mu.Unlock()
	for i := range n {
		m := simMark(at + i + 1)
		require.NoError(w.t, b.Add(&record.Change{Op: record.Put, Namespace: "apiary.colonies", Key: []byte{byte(i)},
			Value: []byte("weighed"), At: m.Position, Wall: m.Wall.UnixMilli()}))
	}
	b.CoverTo(simMark(at + n))
	h, data, err := b.Seal(prev, "member")
	require.NoError(w.t, err)
	if s.PutNextSegment(ctx, h, data, seen) == nil {
		w.mu.Lock()
		w.logged = max(w.logged, at+n)
		w.mu.Unlock()
		w.count("captured")
	}
}

// look at the log: it goes from the newest point on, and to the end that the program was told of, without
// a gap, and begins where it does for a reason.
func (w *simulated) lookAtLog(s *store.Store, at string, leads, logged int) {
	chains, bad, err := s.Chains(ctx, "meadow")
	require.NoError(w.t, err)
	require.Empty(w.t, bad)
	c := chains["yard"]
	if c == nil || len(c.Segments) == 0 {
		require.Zero(w.t, logged, "seed %d, %s: the log is gone", w.seed, at)
		return
	}
	begins, err := s.Begins(ctx, "meadow", c)
	require.NoError(w.t, err)
	gaps := c.Gaps()
	if begins && len(gaps) > 0 && gaps[0].Reason == journal.Beginning {
		gaps = gaps[1:]
	}
	// One that stood still in the very moment of putting a segment may have put it where retention has
	// removed what was there: that is told, and goes with what nothing needs.
	if len(gaps) > 0 && gaps[0].To.Position <= simMark(leads).Position &&
		gaps[0].From.Position == c.Segments[0].Last.Position {
		gaps = gaps[1:]
	}
	end, _, _ := c.End()
	if len(gaps) > 0 || end.Position < simMark(logged).Position ||
		c.Segments[0].After.Position > simMark(leads).Position {
		w.t.Fatalf("seed %d, %s: the log should go from %d at the latest to %d, and goes from %s to %s with gaps %v\n"+
			"%s", w.seed, at, leads, logged, c.Segments[0].After.Position, end.Position, gaps,
			strings.Join(w.trace, "\n"))
	}
}

// lookAtMirror sees that what points are there are whole.
func (w *simulated) lookAtMirror(at string) {
	s, err := store.Open(ctx, w.mirror, w.opt)
	if errors.Is(err, store.ErrNoStore) {
		return
	}
	require.NoError(w.t, err)
	defer s.Close()
	points, bad, err := s.Points(ctx, "meadow")
	require.NoError(w.t, err)
	require.Empty(w.t, bad)
	for _, p := range points {
		if err := check(s, p); err != nil {
			w.t.Fatalf("seed %d, %s: the mirror says it has point %s: %v", w.seed, at, p.ID, err)
		}
	}
}

func (w *simulated) put(s *store.Store, p *process, root tree.Root) {
	p.mu.Lock()
	slow := time.Duration(0)
	if p.rng.IntN(6) == 0 { // it is at work for longer than what was marked stays
		slow = time.Duration(p.rng.IntN(200)) * time.Minute
	}
	p.mu.Unlock()
	time.Sleep(slow)
	w.mu.Lock()
	leads := w.logged
	w.leads = max(w.leads, leads) // it may be there although the program is not told
	w.mu.Unlock()
	id := store.NewPointID(time.Now())
	pt := &store.Point{ID: id, Cluster: "meadow", Time: time.Now(), Finished: time.Now(),
		Shards: []store.PointShard{{Name: "yard", Mark: simMark(leads)}},
		Namespaces: []store.PointNamespace{{Namespace: record.Namespace{Name: "apiary.colonies", Kind: "collection"},
			Root: root}}}
	switch err := s.PutPoint(ctx, pt); {
	case err == nil:
		w.mu.Lock()
		w.committed[id] = pt
		w.mu.Unlock()
		w.count("points")
	case errors.Is(err, store.ErrLapsed), errors.Is(err, store.ErrCondemned):
		w.count("refused")
	default:
		w.count("failed")
	}
}

// snapshot writes a world that may have been there before, as it is or a little changed.
func (w *simulated) snapshot(s *store.Store, p *process) {
	p.mu.Lock()
	base, change, half := p.rng.IntN(4), p.rng.IntN(8), p.rng.IntN(2)
	p.mu.Unlock()
	var near tree.Root
	if points, _, err := s.Points(ctx, "meadow"); err == nil && len(points) > 0 && half == 0 {
		near = points[len(points)-1].Namespaces[0].Root
	}
	wr := s.NewWriter(ctx)
	tb := tree.NewBuilder(wr).Near(wr, near)
	for i := range 6 {
		v := base
		if i == 3 {
			v += 10 * change
		}
		r := record.Record{Key: binary.BigEndian.AppendUint64(nil, uint64(i)), Value: noise(i*100+v+1, 9_000*(1+i%3))}
		if tb.Add(ctx, r) != nil {
			wr.Abandon()
			return
		}
	}
	root, err := tb.Finish(ctx)
	if err != nil {
		wr.Abandon()
		return
	}
	if _, err := wr.Flush(ctx); err != nil {
		return
	}
	w.put(s, p, root)
}

// fold makes a point of an earlier one without looking at what it takes over.
func (w *simulated) fold(s *store.Store, p *process) {
	points, _, err := s.Points(ctx, "meadow")
	if err != nil || len(points) == 0 {
		return
	}
	wr := s.NewWriter(ctx)
	if s.Enlist(ctx, s.Refresh) != nil {
		wr.Abandon()
		return
	}
	root, err := tree.Merge(ctx, wr, points[len(points)/2].Namespaces[0].Root, &noEdits{}, wr)
	if err != nil {
		wr.Abandon()
		return
	}
	if _, err := wr.Flush(ctx); err != nil {
		return
	}
	w.put(s, p, root)
}

func (w *simulated) retire(s *store.Store, p *process) {
	points, _, err := s.Points(ctx, "meadow")
	if err != nil || len(points) < 2 {
		return
	}
	p.mu.Lock()
	id := points[p.rng.IntN(len(points)-1)].ID
	p.mu.Unlock()
	w.mu.Lock()
	w.dropping[id] = true
	w.mu.Unlock()
	if _, err := s.Retire(ctx, "meadow", []string{id}, ""); err == nil {
		w.count("retired")
	}
}

func (w *simulated) bringBack(s *store.Store, p *process) {
	list, _, err := s.Dropped(ctx, "meadow")
	if err != nil || len(list) == 0 {
		return
	}
	if _, err := s.BringBack(ctx, "meadow", list[0].ID); err == nil {
		w.mu.Lock()
		w.committed[list[0].ID] = list[0].Point
		w.mu.Unlock()
		w.count("brought back")
	}
}

// look sees that every point that the program was told of is there and whole, unless somebody
// has begun to retire it; and that those that are retired are whole as long as they are there.
func (w *simulated) look(at string) {
	w.mu.Lock()
	committed := map[string]*store.Point{}
	for id, p := range w.committed {
		committed[id] = p
	}
	leads, logged := w.leads, w.logged
	w.mu.Unlock()
	s, err := store.Open(ctx, w.place, w.opt)
	require.NoError(w.t, err)
	defer s.Close()
	w.lookAtLog(s, at, leads, logged)
	w.lookAtMirror(at)
	points, bad, err := s.Points(ctx, "meadow")
	require.NoError(w.t, err)
	require.Empty(w.t, bad)
	for _, p := range points {
		if committed[p.ID] == nil {
			continue // its process does not know yet whether it stays
		}
		delete(committed, p.ID)
		if err := check(s, p); err != nil {
			w.t.Fatalf("seed %d, %s: point %s, which the program was told is there: %v", w.seed, at, p.ID, err)
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for id := range committed {
		if !w.dropping[id] { // also one that somebody has begun to retire since it was looked
			w.t.Fatalf("seed %d, %s: point %s is gone and nobody retired it", w.seed, at, id)
		}
	}
}

// simulate runs one schedule.
func simulate(t *testing.T, seed uint64, opt store.Options, place *blob.Memory) map[string]int {
	w := &simulated{t: t, seed: seed, place: place, mirror: blob.NewMemory(), opt: opt, began: time.Now(),
		committed: map[string]*store.Point{},
		dropping:  map[string]bool{}, counts: map[string]int{}}
	rng := rand.New(rand.NewPCG(seed, 20))
	var group sync.WaitGroup
	for n := range 6 + rng.IntN(8) {
		mine := rand.New(rand.NewPCG(seed, uint64(n)+100))
		begin := time.Duration(rng.IntN(300)) * time.Minute
		group.Go(func() {
			time.Sleep(begin)
			w.run(n, mine)
		})
	}
	ended := make(chan struct{})
	go func() { group.Wait(); close(ended) }()
	for running := true; running; {
		select {
		case <-ended:
			running = false
		case <-time.After(5 * time.Hour):
		}
		w.look(time.Since(w.began).String())
	}
	w.settle()
	return w.counts
}

// settle has what is left over be given back, by a process to which nothing happens: points of
// which their process was killed before it could take them back are retired by hand.
func (w *simulated) settle() {
	time.Sleep(9 * time.Hour) // claims of those that were killed are over, and their last steps
	s, err := store.Open(ctx, w.place, w.opt)
	require.NoError(w.t, err)
	points, _, err := s.Points(ctx, "meadow")
	require.NoError(w.t, err)
	for _, p := range points {
		if err := check(s, p); err != nil {
			require.NotContains(w.t, w.committed, p.ID)
			w.count("left broken")
			require.NoError(w.t, w.place.Remove(ctx, "points/meadow/"+p.ID))
			_, err := s.AcceptMissing(ctx)
			require.NoError(w.t, err)
		}
	}
	s.Close()
	for range 6 {
		s, err := store.Open(ctx, w.place, w.opt)
		require.NoError(w.t, err)
		r, err := s.Reclaim(ctx, simReclaim)
		if errors.Is(err, store.ErrUnexplained) {
			// A head or a run names a point that its process took back, or never made.
			_, err = s.AcceptMissing(ctx)
		}
		if os.Getenv("DEXAMEN_SCHEDULES") == "1" {
			w.t.Logf("%+v", r)
		}
		require.NoError(w.t, err, "seed %d", w.seed)
		s.Close()
		time.Sleep(4 * time.Hour)
	}
	w.look("after all")
	s, err = store.Open(ctx, w.place, w.opt)
	require.NoError(w.t, err)
	r, err := s.Reclaim(ctx, store.ReclaimOptions{Preview: true})
	require.NoError(w.t, err)
	if r.Dead > 0 && r.Files > r.Dead {
		w.t.Fatalf("seed %d: of %d content files %d are needed by nobody, and stay for ever", w.seed, r.Files, r.Dead)
	}
	for _, prefix := range []string{"pending_delete/", "active_writers/", "claims/writer-"} {
		if r.Files == r.Dead && prefix != "claims/writer-" {
			continue // without a point nothing is removed: the first may be on its way
		}
		require.Empty(w.t, namesBelow(w.t, w.place, prefix), "seed %d: nothing is left behind", w.seed)
	}
}

// TestSimulation runs schedules (DEXAMEN_SCHEDULES of them from seed DEXAMEN_SEED on): never can
// a point not be read that the program was told of, and what nobody needs goes.
func TestSimulation(t *testing.T) {
	schedules, first := 300, uint64(1)
	if s := os.Getenv("DEXAMEN_SCHEDULES"); s != "" {
		schedules, _ = strconv.Atoi(s)
	}
	if s := os.Getenv("DEXAMEN_SEED"); s != "" {
		first, _ = strconv.ParseUint(s, 10, 64)
	}
	var next atomic.Uint64
	var mu sync.Mutex
	total := map[string]int{}
	t.Run("schedules", func(t *testing.T) {
		for n := range runtime.GOMAXPROCS(0) {
			t.Run(fmt.Sprint(n), func(t *testing.T) {
				t.Parallel()
				for i := next.Add(1); i <= uint64(schedules); i = next.Add(1) {
					if i%1000 == 0 {
						fmt.Fprintln(os.Stderr, i, "schedules begun")
					}
					place := blob.NewMemory()
					o := store.Options{FileBytes: 16 << 10, Workers: 1}
					if i%200 == 0 {
						o.IndexBytes = 1 // all that is stored lies in tables
					}
					_, err := store.Create(ctx, place, store.CreateOptions{Tool: "test", Plain: true})
					require.NoError(t, err)
					synctest.Test(t, func(t *testing.T) {
						for what, n := range simulate(t, first+i-1, o, place) {
							mu.Lock()
							total[what] += n
							mu.Unlock()
						}
					})
					if t.Failed() {
						t.Logf("again with: DEXAMEN_SCHEDULES=1 DEXAMEN_SEED=%d", first+i-1)
						return
					}
				}
			})
		}
	})
	var said []string
	for what, n := range total {
		said = append(said, fmt.Sprintf("%s %d", what, n))
	}
	slices.Sort(said)
	t.Logf("%d schedules from seed %d on: %s", schedules, first, strings.Join(said, ", "))
	for _, what := range []string{"points", "refused", "retired", "removed", "brought back", "captured", "joined",
		"mirrored"} {
		if schedules < 100 {
			break
		}
		require.Positive(t, total[what], "nothing was tried: %s", what)
	}
}
