package workers

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// Handler does a task and returns its outcome: little, as what it reads goes straight to
// where it belongs. It may be called again for a task that was done.
type Handler func(ctx context.Context, job *JobInfo, t *Task) (json.RawMessage, error)

// Worker does tasks.
type Worker struct {
	Engine  *Engine
	Name    string
	Version string
	Labels  map[string]string
	// Parallel is how many tasks it works on at once.
	Parallel int
	// For, where set, is the id of the one job that it takes part in.
	For      string
	Plans    bool // as [Info.Plans]
	Handlers map[string]Handler
	// Try tries whether the store and the cluster of a job can be reached, and are those that are meant. It returns
	// which could not ("store NAME", "cluster NAME"), and why. What it says counts for a minute where it is bad.
	Try func(ctx context.Context, job *JobInfo) (what string, err error)
	// Fenced are kinds of tasks that are given up where the servers were not heard for so long that they may have
	// given them to others: what writes must not go on then.
	Fenced []string
	// Own, where set, is a slot that its process holds: one task at a time needs no other.
	Own *Slot
	// Drain is how long tasks may go on when it ends (default 4m30s, which is less than service managers give).
	Drain time.Duration
	// Ended, where set, hears of each job that is open no more.
	Ended func(job string)

	info   Info
	spoke  time.Time // when the servers answered last
	mu     sync.Mutex
	jobs   map[string]*openJob
	doing  map[string]Doing
	next   int                  // of the jobs, which is asked next
	avoids map[string]time.Time // until when, by what
	freed  chan struct{}
	change chan struct{}
	news   chan struct{} // that it is worth to say what it does
}

// openJob is a job as a worker sees it.
type openJob struct {
	info     JobInfo
	heard    time.Time // when it said last that it is open
	ready    bool      // its store and cluster are reached
	trying   bool
	tryAgain time.Time
	consumer jetstream.Consumer
}

const defaultDrain = 4*time.Minute + 30*time.Second

var (
	errJobEnded = errors.New("the job has ended")
	errDrained  = errors.New("the worker ends")
	errCutOff   = errors.New("the workers' servers were not heard for long")
)

// Run works until the context ends, and then until what goes on has ended, for as long as Drain.
func (w *Worker) Run(ctx context.Context) error {
	if w.Drain <= 0 {
		w.Drain = defaultDrain
	}
	host, _ := os.Hostname()
	w.mu.Lock()
	w.info = Info{Name: w.Name, Instance: rand.Text(), Host: host, Process: os.Getpid(), Version: w.Version,
		Protocol: Protocol, Labels: w.Labels, Parallel: w.Parallel, Since: time.Now(), For: w.For, Plans: w.Plans,
		Cannot: map[string]string{}}
	w.jobs, w.doing = map[string]*openJob{}, map[string]Doing{}
	w.freed, w.change, w.news = make(chan struct{}, 1), make(chan struct{}, 1), make(chan struct{}, 1)
	w.mu.Unlock()
	// Presence and what goes on outlive ctx: both until all has ended.
	after, end := context.WithCancelCause(context.WithoutCancel(ctx))
	defer end(nil)
	var watch jetstream.KeyWatcher
	err := w.Engine.patiently(ctx, func(context.Context) (err error) {
		watch, err = w.Engine.jobs.WatchAll(after)
		return err
	})
	if err != nil {
		return w.Engine.explain("open jobs", err)
	}
	defer func() { _ = watch.Stop() }()
	if err := w.Engine.patiently(ctx, w.say); err != nil {
		return w.Engine.explain("a worker", err)
	}
	var beats, tasks sync.WaitGroup
	beats.Go(func() { w.beat(after) })
	beats.Go(func() {
		for {
			select {
			case x, ok := <-watch.Updates():
				if !ok { // nothing comes any more
					return
				}
				w.heard(x)
			case <-after.Done():
				return
			}
		}
	})
	w.pull(ctx, func(msg jetstream.Msg, s *Slot) {
		tasks.Go(func() {
			w.do(after, msg, s)
			nudge(w.freed)
			nudge(w.news)
		})
	})
	w.mu.Lock()
	w.info.Draining = true
	w.mu.Unlock()
	if w.Engine.Connected() {
		_ = w.say(after)
	}
	late := time.AfterFunc(w.Drain, func() { end(errDrained) })
	tasks.Wait()
	late.Stop()
	end(nil)
	beats.Wait()
	if !w.Engine.Connected() {
		return nil // they forget it by themselves
	}
	gone, cancel := context.WithTimeout(context.WithoutCancel(ctx), w.Engine.beat)
	defer cancel()
	_ = w.Engine.present.Purge(gone, w.info.Instance)
	return nil
}

func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// Avoid has a worker take no part in jobs on something that it does not reach ("store NAME", "cluster NAME") for some
// time, and say so.
func (w *Worker) Avoid(what, why string, d time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.info.Cannot == nil { // it has not begun, or ended
		return
	}
	if w.avoids == nil {
		w.avoids = map[string]time.Time{}
	}
	w.info.Cannot[what], w.avoids[what] = why, time.Now().Add(d)
	nudge(w.news)
}

// SeesTo notes how many clusters a worker that plans sees to.
func (w *Worker) SeesTo(n int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.info.Clusters = n
	nudge(w.news)
}

// Info returns what the worker says of itself now.
func (w *Worker) Info() Info {
	w.mu.Lock()
	defer w.mu.Unlock()
	for what, until := range w.avoids {
		if time.Now().After(until) {
			delete(w.avoids, what)
			delete(w.info.Cannot, what)
		}
	}
	i := w.info
	i.Labels, i.Cannot, i.Reaches = maps.Clone(i.Labels), maps.Clone(i.Cannot), slices.Clone(i.Reaches)
	i.Doing = nil
	for _, k := range slices.Sorted(maps.Keys(w.doing)) {
		i.Doing = append(i.Doing, w.doing[k])
	}
	return i
}

// say says that the worker is there, and what it does.
func (w *Worker) say(ctx context.Context) error {
	i := w.Info()
	ctx, cancel := context.WithTimeout(ctx, 2*w.Engine.beat)
	defer cancel()
	asked := time.Now()
	err := put(ctx, w.Engine.present, i.Instance, &i)
	if err == nil {
		w.mu.Lock()
		w.spoke = asked
		w.mu.Unlock()
	}
	return err
}

func (w *Worker) beat(ctx context.Context) {
	for pulse := newPulse(w.Engine.beat); pulse.next(ctx, w.news); {
		if err := w.say(ctx); err != nil && ctx.Err() == nil {
			w.Engine.opt.Log.Warn("the worker cannot say that it is there", "error", err)
		}
		w.forget()
	}
}

// heard takes what the bucket of jobs says.
func (w *Worker) heard(x jetstream.KeyValueEntry) {
	if x == nil {
		return
	}
	if x.Operation() != jetstream.KeyValuePut {
		w.endJob(x.Key())
		return
	}
	var info JobInfo
	if err := json.Unmarshal(x.Value(), &info); err != nil {
		w.Engine.opt.Log.Warn("what a job says of itself makes no sense", "job", x.Key(), "error", err)
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	j := w.jobs[info.ID]
	if j == nil {
		j = &openJob{}
		w.jobs[info.ID] = j
		nudge(w.change)
	}
	j.info, j.heard = info, time.Now()
}

// forget ends jobs of which nothing was heard for long.
func (w *Worker) forget() {
	var gone []string
	w.mu.Lock()
	for id, j := range w.jobs {
		if time.Since(j.heard) > w.Engine.opt.LostAfter {
			gone = append(gone, id)
		}
	}
	w.mu.Unlock()
	for _, id := range gone {
		w.endJob(id)
	}
}

func (w *Worker) endJob(id string) {
	w.mu.Lock()
	_, was := w.jobs[id]
	delete(w.jobs, id)
	w.mu.Unlock()
	if was && w.Ended != nil {
		w.Ended(id)
	}
}

// job returns a job that is open, asking where it is not known: its tasks may come before what says
// that it is.
func (w *Worker) job(ctx context.Context, id string) (*JobInfo, error) {
	w.mu.Lock()
	j := w.jobs[id]
	w.mu.Unlock()
	if j != nil {
		w.mu.Lock()
		defer w.mu.Unlock()
		info := j.info
		return &info, nil
	}
	var info JobInfo
	_, ok, err := get(ctx, w.Engine.jobs, id, &info)
	if err != nil || !ok {
		return nil, err
	}
	return &info, nil
}

// isOpen reports whether a job is still open, as far as was heard.
func (w *Worker) isOpen(id string) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	_, ok := w.jobs[id]
	return ok
}

// pull hands tasks to begin as there is room, one of each open job in turn, until the context ends.
func (w *Worker) pull(ctx context.Context, begin func(jetstream.Msg, *Slot)) {
	const least, most = 20 * time.Millisecond, 200 * time.Millisecond
	pause := least
	for ctx.Err() == nil {
		w.mu.Lock()
		n := len(w.doing)
		w.mu.Unlock()
		if n < w.Parallel+max(1, w.Parallel/2) {
			if msg, s := w.fetch(ctx, n >= w.Parallel); msg != nil {
				w.mu.Lock()
				w.doing[msg.Subject()] = Doing{Begun: time.Now()}
				w.mu.Unlock()
				begin(msg, s)
				pause = least
				continue
			}
		}
		select {
		case <-w.freed:
			pause = least
		case <-w.change:
			pause = least
		case <-time.After(pause):
			pause = min(2*pause, most)
		case <-ctx.Done():
		}
	}
}

// fetch returns the next task: of a job that is urgent, or else of the first that has one; nil where none has.
// Where the job has limits the slot is what the task needs.
func (w *Worker) fetch(ctx context.Context, onlyUrgent bool) (jetstream.Msg, *Slot) {
	w.mu.Lock()
	ids := slices.Sorted(maps.Keys(w.jobs))
	if len(ids) > 0 { // each in turn
		at := w.next % len(ids)
		ids = slices.Concat(ids[at:], ids[:at])
	}
	urgent := map[string]bool{}
	for _, id := range ids {
		urgent[id] = w.jobs[id].info.Urgent
	}
	w.mu.Unlock()
	for i, id := range ids {
		if urgent[id] {
			if msg, s := w.fetchOf(ctx, id, i); msg != nil {
				return msg, s
			}
		}
	}
	for i, id := range ids {
		if !urgent[id] && !onlyUrgent {
			if msg, s := w.fetchOf(ctx, id, i); msg != nil {
				return msg, s
			}
		}
	}
	return nil, nil
}

// fetchOf returns the next task of one job, which was asked as the n-th.
func (w *Worker) fetchOf(ctx context.Context, id string, n int) (jetstream.Msg, *Slot) {
	c := w.consumer(ctx, id)
	if c == nil {
		return nil, nil
	}
	batch, err := c.FetchNoWait(1)
	if err != nil {
		return nil, nil
	}
	msg, ok := <-batch.Messages()
	if !ok {
		return nil, nil
	}
	s, ok := w.slotFor(ctx, id)
	if !ok {
		_ = msg.NakWithDelay(w.Engine.beat / 5)
		return nil, nil
	}
	w.mu.Lock()
	w.next += n + 1
	w.mu.Unlock()
	return msg, s
}

// slotFor takes what a task of a job needs of its limits; false where there is none now.
func (w *Worker) slotFor(ctx context.Context, id string) (*Slot, bool) {
	w.mu.Lock()
	var limits []Limit
	if j := w.jobs[id]; j != nil {
		limits = j.info.Limits
	}
	w.mu.Unlock()
	if len(limits) == 0 {
		return nil, true
	}
	if w.Own != nil && w.Own.use() {
		select {
		case <-w.Own.Lost(): // it is of no use any more
		default:
			return w.Own, true
		}
	}
	once, cancel := context.WithTimeout(ctx, 2*w.Engine.beat)
	defer cancel()
	s, err := w.Engine.takeSlot(once, limits, w.Name)
	return s, err == nil && s != nil
}

// consumer returns what hands out a job's tasks; nil where this worker takes no part in it, or does
// not know yet.
func (w *Worker) consumer(ctx context.Context, id string) jetstream.Consumer {
	w.mu.Lock()
	defer w.mu.Unlock()
	j := w.jobs[id]
	if j == nil || w.For != "" && w.For != id || j.trying {
		return nil
	}
	if !j.ready {
		if time.Now().Before(j.tryAgain) {
			return nil
		}
		for _, what := range j.info.needs() {
			if _, ok := w.avoids[what]; !ok {
				delete(w.info.Cannot, what) // it is tried anew
			}
		}
		if why := w.info.refuses(&j.info); why != "" {
			j.tryAgain = time.Now().Add(time.Minute)
			return nil
		}
		j.trying = true
		go w.try(ctx, j)
		return nil
	}
	if j.consumer == nil {
		w.mu.Unlock()
		c, err := w.Engine.tasks.Consumer(ctx, id)
		w.mu.Lock()
		if err != nil {
			return nil
		}
		j.consumer = c
	}
	return j.consumer
}

// try finds out whether a job's store and cluster are reached from here.
func (w *Worker) try(ctx context.Context, j *openJob) {
	info := j.info
	var what string
	var err error
	if w.Try != nil {
		what, err = w.Try(ctx, &info)
	}
	w.mu.Lock()
	j.trying, j.ready = false, err == nil
	if err != nil {
		j.tryAgain = time.Now().Add(time.Minute)
		w.info.Cannot[what] = err.Error()
		w.Engine.opt.Log.Warn("the worker takes no part in a job", "cluster", info.Cluster, "kind", info.Kind,
			"because of", what, "error", err)
	} else {
		for _, r := range info.needs() {
			if !slices.Contains(w.info.Reaches, r) {
				w.info.Reaches = append(w.info.Reaches, r)
			}
		}
	}
	w.mu.Unlock()
	_ = w.say(ctx)
	nudge(w.change)
}
