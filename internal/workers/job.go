package workers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/wait"
)

// JobInfo is what workers are told of a job that is open.
type JobInfo struct {
	ID   string `json:"id"`   // letters and digits, of no other job
	Kind string `json:"kind"` // "snapshot"
	// Cluster is the name that the cluster has in every configuration, Identity what it calls
	// itself; Store and StoreID likewise. A job on a store alone has no cluster.
	Cluster  string `json:"cluster"`
	Identity string `json:"identity"`
	Store    string `json:"store"`
	StoreID  string `json:"store_id"`
	// Only are the labels that a worker must have to take part.
	Only map[string]string `json:"only,omitempty"`
	// Parallel bounds how many tasks are worked on at once, by all workers.
	Parallel int `json:"parallel"`
	// Urgent: its tasks come before others', and are begun also by workers that have enough to do.
	Urgent bool `json:"urgent,omitempty"`
	// Limits bound its tasks and those of other jobs together, in order of their names.
	Limits []Limit `json:"limits,omitempty"`
	// Rate bounds how many bytes a second each task moves; zero is no bound.
	Rate     int64     `json:"rate,omitempty"`
	By       string    `json:"by"` // who has it done: the name of its process
	Begun    time.Time `json:"started"`
	Protocol int       `json:"protocol"`
	Version  string    `json:"version"`
	Given    int       `json:"given"` // tasks so far
	Done     int       `json:"done"`
}

// needs names the store and the cluster that a worker must reach.
func (i *JobInfo) needs() []string {
	out := []string{"store " + i.Store}
	if i.Cluster != "" {
		out = append(out, "cluster "+i.Cluster)
	}
	return out
}

// Job has tasks done by workers.
type Job struct {
	e      *Engine
	ctx    context.Context
	cancel context.CancelCauseFunc
	group  sync.WaitGroup
	news   chan struct{} // that more was given or done

	mu      sync.Mutex
	info    JobInfo
	waiting map[int]*waiting
}

type waiting struct {
	task Task
	sent []byte
	came chan Outcome
	// again counts how often it was handed in because it was found nowhere.
	again int
}

// ErrNoWorker is returned when nobody is there, or was for long, who may do a task.
var ErrNoWorker = errors.New("no worker that may do it is there")

// NewJob opens a job. Close must be called.
func (e *Engine) NewJob(ctx context.Context, info JobInfo) (*Job, error) {
	info.Begun = time.Now()
	if info.Protocol == 0 {
		info.Protocol = Protocol
	}
	var w jetstream.KeyWatcher
	err := e.patiently(ctx, func(actx context.Context) error {
		_, err := e.tasks.CreateOrUpdateConsumer(actx, jetstream.ConsumerConfig{Durable: info.ID,
			Description:   "tasks on " + strings.Join(info.needs(), ", "),
			FilterSubject: taskSubjects + info.ID + ".*", AckPolicy: jetstream.AckExplicitPolicy,
			AckWait: e.opt.LostAfter, MaxDeliver: -1, MaxAckPending: max(1, info.Parallel), InactiveThreshold: kept})
		if err == nil {
			err = put(actx, e.jobs, info.ID, &info)
		}
		if err == nil && w == nil {
			w, err = e.results.Watch(ctx, info.ID+".*", jetstream.UpdatesOnly())
		}
		return err
	})
	if err != nil {
		return nil, e.explain("a job ("+info.Kind+")", err)
	}
	j := &Job{e: e, info: info, waiting: map[int]*waiting{}, news: make(chan struct{}, 1)}
	j.ctx, j.cancel = context.WithCancelCause(ctx)
	j.group.Go(func() {
		defer func() { _ = w.Stop() }()
		for {
			select {
			case x, ok := <-w.Updates():
				if !ok { // nothing comes any more; what is there is found by looking
					return
				}
				if x != nil {
					j.arrived(x.Key(), x.Value())
				}
			case <-j.ctx.Done():
				return
			}
		}
	})
	j.group.Go(j.beat)
	return j, nil
}

// beat says that the job is open, and looks for what was lost on the way.
func (j *Job) beat() {
	swept := time.Now()
	for pulse := newPulse(j.e.beat); pulse.next(j.ctx, j.news); {
		ctx, cancel := context.WithTimeout(j.ctx, 2*j.e.beat)
		err := put(ctx, j.e.jobs, j.info.ID, j.Info())
		if err == nil && time.Since(swept) >= j.e.opt.LostAfter {
			err, swept = j.sweep(ctx), time.Now()
		}
		cancel()
		if err != nil && j.ctx.Err() == nil {
			j.e.opt.Log.Warn("a job cannot say that it is open", "job", j.info.ID, "error", err)
		}
	}
}

// sweep looks for tasks of which neither the message nor an outcome is there: servers that were lost
// may have taken them along. They are handed in again.
func (j *Job) sweep(ctx context.Context) error {
	j.mu.Lock()
	open := maps.Clone(j.waiting)
	j.mu.Unlock()
	for n, w := range open {
		var o Outcome
		_, ok, err := get(ctx, j.e.results, w.task.key(), &o)
		if err != nil {
			return err
		}
		if ok {
			j.hand(n, o)
			continue
		}
		_, err = j.e.tasks.GetLastMsgForSubject(ctx, j.subject(n))
		if errors.Is(err, jetstream.ErrMsgNotFound) {
			j.mu.Lock()
			w.again++
			again := w.again
			j.mu.Unlock()
			err = j.publish(ctx, w, again)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (j *Job) arrived(key string, value []byte) {
	n, err := strconv.Atoi(strings.TrimPrefix(key, j.info.ID+"."))
	var o Outcome
	if err == nil {
		err = json.Unmarshal(value, &o)
	}
	if err != nil {
		j.e.opt.Log.Warn("an outcome of a task makes no sense", "key", key, "error", err)
		return
	}
	j.hand(n, o)
}

// hand gives an outcome to who waits for it; it may come more than once.
func (j *Job) hand(n int, o Outcome) {
	j.mu.Lock()
	defer j.mu.Unlock()
	w := j.waiting[n]
	if w == nil {
		return
	}
	delete(j.waiting, n)
	j.info.Done++
	nudge(j.news)
	w.came <- o
}

// Info returns what workers are told of the job now.
func (j *Job) Info() *JobInfo {
	j.mu.Lock()
	defer j.mu.Unlock()
	info := j.info
	return &info
}

func (j *Job) subject(n int) string {
	return taskSubjects + j.info.ID + "." + strconv.Itoa(n)
}

func (j *Job) publish(ctx context.Context, w *waiting, again int) error {
	id := w.task.key()
	if again > 0 {
		id += "." + strconv.Itoa(again)
	}
	for {
		_, err := j.e.js.PublishMsg(ctx, &nats.Msg{Subject: j.subject(w.task.Number), Data: w.sent},
			jetstream.WithMsgID(id))
		if err == nil || ctx.Err() != nil {
			return err
		}
		// Servers may be without a leader for a moment; one that took it knows it by its id.
		if !isSilence(err) {
			return j.e.explain("a task", err)
		}
		if err := wait.For(ctx, j.e.beat/5); err != nil {
			return err
		}
	}
}

// Do has tasks of one kind done; what names each for people. Done is called with what came of each, in any order,
// one at a time; an error of it, or a task that is given up ([FailedError]), ends the rest. It may be
// called several times at once.
func (j *Job) Do(ctx context.Context, kind, what string, data []json.RawMessage,
	done func(i int, o Outcome) error) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	came := make(chan int, len(data))
	list := make([]*waiting, len(data))
	j.mu.Lock()
	for i, d := range data {
		t := Task{Job: j.info.ID, Number: j.info.Given, Kind: kind, What: what, Data: d}
		j.info.Given++
		list[i] = &waiting{task: t, came: make(chan Outcome, 1)}
		j.waiting[t.Number] = list[i]
	}
	j.mu.Unlock()
	nudge(j.news)
	defer func() { j.takeBack(list) }()
	outcomes := make([]Outcome, len(data))
	for _, w := range list {
		var err error
		if w.sent, err = json.Marshal(&w.task); err != nil {
			return err
		}
	}
	const atOnce = 16 // each takes the way to the servers and back
	var hand errgroup.Group
	hand.SetLimit(atOnce)
	for i, w := range list {
		hand.Go(func() error { return j.publish(ctx, w, 0) })
		j.group.Go(func() {
			select {
			case outcomes[i] = <-w.came:
				came <- i
			case <-ctx.Done():
			case <-j.ctx.Done():
			}
		})
	}
	if err := hand.Wait(); err != nil {
		return err
	}
	absent := time.NewTicker(j.e.beat)
	defer absent.Stop()
	alone := time.Time{}
	for left := len(data); left > 0; {
		select {
		case i := <-came:
			left--
			if o := outcomes[i]; len(o.Tries) > 0 {
				return &FailedError{list[i].task.What, o.Tries}
			}
			if err := done(i, outcomes[i]); err != nil {
				return err
			}
		case <-absent.C:
			n, why, err := j.Hands(ctx)
			switch {
			case err != nil || n > 0:
				alone = time.Time{}
			case alone.IsZero():
				alone = time.Now()
				j.e.opt.Log.Warn("no worker that may do it is there; waiting for one", "what", what, "at most",
					j.e.opt.Alone, "others", strings.Trim(why, " ()"))
			case time.Since(alone) > j.e.opt.Alone:
				return fmt.Errorf("%s: %w for %s now%s", what, ErrNoWorker, time.Since(alone).Round(time.Second), why)
			}
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-j.ctx.Done():
			return context.Cause(j.ctx)
		}
	}
	return nil
}

// takeBack has tasks that nobody has begun not be done any more.
func (j *Job) takeBack(list []*waiting) {
	var left []int
	j.mu.Lock()
	for _, w := range list {
		if _, open := j.waiting[w.task.Number]; open {
			delete(j.waiting, w.task.Number)
			left = append(left, w.task.Number)
		}
	}
	j.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(j.ctx), 2*j.e.beat)
	defer cancel()
	for _, n := range left {
		if err := j.e.tasks.Purge(ctx, jetstream.WithPurgeSubject(j.subject(n))); err != nil {
			return // Close takes back all
		}
	}
}

// Hands returns how many tasks the workers that are there may do at once, and why others take no part.
func (j *Job) Hands(ctx context.Context) (n int, why string, err error) {
	list, err := j.e.Workers(ctx)
	if err != nil {
		return 0, "", err
	}
	info := j.Info()
	var out []string
	for _, w := range list {
		if w.For != "" && w.For != info.ID || w.Draining {
			continue
		}
		if no := w.refuses(info); no != "" {
			out = append(out, w.Name+": "+no)
			continue
		}
		n += w.Parallel
	}
	if len(out) > 0 {
		why = " (" + strings.Join(out, "; ") + ")"
	}
	return n, why, nil
}

// Close ends the job: what is still worked on is given up, and what lies at the servers is cleared
// away.
func (j *Job) Close() {
	j.cancel(nil)
	j.group.Wait()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(j.ctx), 2*j.e.beat)
	defer cancel()
	err := j.e.jobs.Purge(ctx, j.info.ID)
	if err == nil {
		err = j.e.tasks.Purge(ctx, jetstream.WithPurgeSubject(taskSubjects+j.info.ID+".*"))
	}
	if err == nil {
		err = j.e.tasks.DeleteConsumer(ctx, j.info.ID)
	}
	if err == nil {
		var s jetstream.Stream
		if s, err = j.e.js.Stream(ctx, "KV_"+resultsBucket); err == nil {
			err = errors.Join(s.Purge(ctx, jetstream.WithPurgeSubject("$KV."+resultsBucket+"."+j.info.ID+".>")),
				s.Purge(ctx, jetstream.WithPurgeSubject("$KV."+resultsBucket+".tries."+j.info.ID+".>")))
		}
	}
	if err != nil {
		j.e.opt.Log.Warn("what a job left at the workers' servers is not cleared away; it goes by itself", "job",
			j.info.ID, "after", kept, "error", err)
	}
}
