package notify

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"dexamen/internal/explain"
)

const (
	// sendLimit is how long one attempt may take.
	sendLimit = 30 * time.Second
	// firstPause and longestPause bound the time between two attempts.
	firstPause, longestPause = time.Second, time.Minute
	// mostWaiting is how many notices wait for a channel at most; the oldest are dropped, and counted.
	mostWaiting = 1000
	// failingFor is for how long a channel fails before that is told by the others.
	failingFor = 20 * time.Second
)

// Outbox delivers notices: each channel has a queue of its own, tries again with backing off
// until the notice is taken, and never waits for another.
type Outbox struct {
	Log *slog.Logger
	// Delivered, where not nil, hears of each notice that a channel has taken.
	Delivered func(a Alert, channel string)

	mu     sync.Mutex
	queues map[string]*queue
	ctx    context.Context // of deliveries; ended by Close
	end    context.CancelFunc
	group  sync.WaitGroup
}

// queue is what waits for one channel. All of it is under the outbox's lock.
type queue struct {
	channel Channel
	waiting []*waiting
	working bool
	wake    chan struct{}
	pause   time.Duration
	failing string // why the last attempt failed
	since   time.Time
	told    *Alert // that it fails
	counts  Counts
	gone    bool // no longer configured
}

type waiting struct {
	alert    Alert
	attempts int
	err      error
}

// Counts is what a channel has done since the process began.
type Counts struct {
	Sent, Failed, Dropped int64 // notices taken, attempts that failed, notices given up
	Waiting               int
	// Failing is why the last attempt failed, and Since when the first failed in a row.
	Failing string
	Since   time.Time
}

// Set has the outbox use these channels from now on. What waits for one that goes on waits on.
func (o *Outbox) Set(channels []Channel) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.queues == nil {
		o.queues = map[string]*queue{}
		o.ctx, o.end = context.WithCancel(context.Background())
	}
	for name, q := range o.queues {
		if !slices.ContainsFunc(channels, func(c Channel) bool { return c.Name() == name }) {
			q.gone, q.waiting = true, nil
			delete(o.queues, name)
			q.nudge()
		}
	}
	for _, c := range channels {
		if q := o.queues[c.Name()]; q != nil {
			q.channel, q.pause = c, 0
			q.nudge()
			continue
		}
		o.queues[c.Name()] = &queue{channel: c, wake: make(chan struct{}, 1)}
	}
}

func (q *queue) nudge() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// Names lists the channels.
func (o *Outbox) Names() (names []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for n := range o.queues {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Add has a notice delivered by the channels named; by all where none is.
func (o *Outbox) Add(a Alert, channels ...string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.add(a, channels)
}

func (o *Outbox) add(a Alert, channels []string) {
	for name, q := range o.queues {
		if len(channels) > 0 && !slices.Contains(channels, name) {
			continue
		}
		if a.Over {
			// Who has not been told yet that it began is told of both at once.
			q.waiting = slices.DeleteFunc(q.waiting, func(w *waiting) bool { return w.alert.of() == a.of() })
		}
		q.waiting = append(q.waiting, &waiting{alert: a})
		if over := len(q.waiting) - mostWaiting; over > 0 {
			q.counts.Dropped += int64(over)
			q.waiting = q.waiting[over:]
			o.Log.Error("alerts are dropped: too many wait", "channel", name, "dropped", over)
		}
		if !q.working {
			q.working = true
			o.group.Go(func() { o.work(q) })
		} else {
			q.nudge()
		}
	}
}

// work delivers what waits for a channel, until nothing does.
func (o *Outbox) work(q *queue) {
	o.mu.Lock()
	defer o.mu.Unlock()
	defer func() { q.working = false }()
	for len(q.waiting) > 0 && !q.gone && o.ctx.Err() == nil {
		w, channel := q.waiting[0], q.channel
		w.attempts++
		o.mu.Unlock()
		err := Send(o.ctx, channel, NewMessage(w.alert))
		o.mu.Lock()
		if o.ctx.Err() != nil && err != nil {
			w.err = err
			return
		}
		if err == nil {
			q.waiting = slices.DeleteFunc(q.waiting, func(x *waiting) bool { return x == w })
			o.taken(q, w)
			continue
		}
		w.err = err
		o.failed(q, w)
		// The others behind it are not kept waiting by one that is never taken.
		if i := slices.Index(q.waiting, w); i == 0 {
			q.waiting = append(q.waiting[1:], w)
		}
		pause := q.pause
		o.mu.Unlock()
		select {
		case <-o.ctx.Done():
		case <-time.After(pause):
		case <-q.wake: // something new: tried at once, unless it has just been
			sleep(o.ctx, firstPause)
		}
		o.mu.Lock()
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Send makes one attempt, for as long as one may take; a fault in a channel is a failed attempt.
func Send(ctx context.Context, c Channel, m Message) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault of the program: %v", p)
		}
	}()
	ctx, cancel := context.WithTimeout(ctx, sendLimit)
	defer cancel()
	return c.Send(ctx, m)
}

// taken notes that a notice was taken. The lock is held.
func (o *Outbox) taken(q *queue, w *waiting) {
	q.counts.Sent++
	name := q.channel.Name()
	if q.failing != "" {
		o.Log.Info("alerts get through again", "channel", name, "failed since", q.since.Format(time.RFC3339))
	}
	q.failing, q.pause = "", 0
	if q.told != nil {
		over := *q.told
		over.Over, q.told = true, nil
		o.add(over, o.others(name))
	}
	if o.Delivered != nil {
		a := w.alert
		o.mu.Unlock()
		o.Delivered(a, name)
		o.mu.Lock()
	}
}

// failed notes that an attempt failed. The lock is held.
func (o *Outbox) failed(q *queue, w *waiting) {
	name := q.channel.Name()
	q.counts.Failed++
	q.pause = min(max(2*q.pause, firstPause), longestPause)
	if q.failing == "" {
		q.since = time.Now()
		o.Log.Error("an alert does not get through", "channel", name, "alert", w.alert.Key, "error",
			explain.Error(w.err))
	}
	q.failing = explain.Error(w.err)
	others := o.others(name)
	if q.told == nil && len(others) > 0 && time.Since(q.since) > failingFor {
		q.told = &Alert{Key: "channel " + name, About: "failure", Since: q.since.UTC(),
			Text: fmt.Sprintf("alerts by %s do not get through: %s", name, q.failing), Do: "dexamen alerts test"}
		o.add(*q.told, others)
	}
}

// others lists the channels beside one; nil where there is none. The lock is held.
func (o *Outbox) others(name string) (names []string) {
	for n := range o.queues {
		if n != name {
			names = append(names, n)
		}
	}
	return names
}

// Counts returns what each channel has done.
func (o *Outbox) Counts() map[string]Counts {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := map[string]Counts{}
	for name, q := range o.queues {
		c := q.counts
		c.Waiting, c.Failing = len(q.waiting), q.failing
		if c.Failing != "" {
			c.Since = q.since
		}
		out[name] = c
	}
	return out
}

// Flush waits until all that waits was taken, or was tried three times, or the context ends; it
// returns what was not taken.
func (o *Outbox) Flush(ctx context.Context) error {
	for {
		left, errs := 0, map[string]error{}
		o.mu.Lock()
		for name, q := range o.queues {
			for _, w := range q.waiting {
				if w.attempts < 3 {
					left++
				}
				err := w.err
				if err == nil {
					err = errors.New("it was not answered in time")
				}
				errs[name] = fmt.Errorf("alert by %s: %w", name, err)
			}
		}
		o.mu.Unlock()
		if left == 0 || ctx.Err() != nil {
			var all []error
			for _, err := range errs {
				all = append(all, err)
			}
			return errors.Join(all...)
		}
		sleep(ctx, 50*time.Millisecond)
	}
}

// Close ends deliveries. What still waits is told by whoever looks next: the store does not say
// that it was.
func (o *Outbox) Close() {
	o.mu.Lock()
	if o.end != nil {
		o.end()
	}
	o.mu.Unlock()
	o.group.Wait()
}
