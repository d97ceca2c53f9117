package workers

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// do works on one message until it is acknowledged or given back.
func (w *Worker) do(ctx context.Context, msg jetstream.Msg, s *Slot) {
	// Others can be begun once the handler is through: saying so takes as long as the servers are far away.
	leave := sync.OnceFunc(func() {
		switch {
		case s == nil:
		case s == w.Own:
			s.unuse()
		default:
			go s.Free()
		}
		w.mu.Lock()
		delete(w.doing, msg.Subject())
		w.mu.Unlock()
		nudge(w.freed)
	})
	defer leave()
	log := w.Engine.opt.Log
	var t Task
	if err := json.Unmarshal(msg.Data(), &t); err != nil {
		log.Error("a task makes no sense and is thrown away", "subject", msg.Subject(), "error", err)
		_ = msg.Term()
		return
	}
	log = log.With("job", t.Job, "task", t.Number, "what", t.What)
	job, err := w.job(ctx, t.Job)
	switch {
	case err != nil:
		log.Warn("a task is given back", "error", err)
		_ = msg.NakWithDelay(w.Engine.beat)
		return
	case job == nil: // its job has ended, and nobody cleared up
		_ = msg.Term()
		return
	}
	if err := w.work(ctx, msg, job, &t, s, leave); err != nil && ctx.Err() == nil {
		log.Warn("a task is given back", "error", err)
	}
}

// work does a task that has a job.
func (w *Worker) work(ctx context.Context, msg jetstream.Msg, job *JobInfo, t *Task, s *Slot, leave func()) error {
	e, begun := w.Engine, time.Now()
	var was Outcome
	if _, done, err := get(ctx, e.results, t.key(), &was); err != nil {
		_ = msg.NakWithDelay(e.beat)
		return err
	} else if done { // by one that was lost before it could say so
		return msg.DoubleAck(ctx)
	}
	mine := func(x Try) bool { return x.Instance == w.info.Instance && x.Begun.Equal(begun) }
	var give bool
	tries, err := e.editTries(ctx, t, func(tries []Try) []Try {
		if give = spent(tries); give {
			return tries
		}
		return append(tries, Try{Worker: w.Name, Instance: w.info.Instance, Begun: begun})
	})
	switch {
	case err != nil:
		_ = msg.NakWithDelay(e.beat)
		return err
	case give:
		return w.settle(ctx, msg, t, Outcome{Worker: w.Name, Tries: tries})
	case w.failedAt(tries) && w.othersCould(ctx, job, tries):
		_, err := e.editTries(ctx, t, func(l []Try) []Try { return slices.DeleteFunc(l, mine) })
		return errors.Join(err, msg.NakWithDelay(e.beat/5))
	}
	w.mu.Lock()
	w.doing[msg.Subject()] = Doing{Job: t.Job, Of: cmp.Or(job.Cluster, job.Store), What: t.What, Begun: begun}
	w.mu.Unlock()
	nudge(w.news)
	data, err := w.handle(ctx, msg, job, t, s)
	leave()
	if err == nil {
		w.count(&w.info.Done)
		return w.settle(ctx, msg, t, Outcome{Worker: w.Name, Took: time.Since(begun), Data: data})
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*e.beat)
	defer cancel()
	switch {
	case errors.Is(err, errJobEnded):
		return msg.Term() // and nothing is written: who began it has cleared up
	case errors.Is(err, errDrained), errors.Is(err, errCutOff):
		_, eerr := e.editTries(after, t, func(l []Try) []Try { return slices.DeleteFunc(l, mine) })
		return errors.Join(err, eerr, msg.Nak())
	}
	w.count(&w.info.Failed)
	tries, eerr := e.editTries(after, t, func(l []Try) []Try {
		if i := slices.IndexFunc(l, mine); i >= 0 {
			l[i].Error = err.Error()
		}
		return l
	})
	if eerr == nil && spent(tries) {
		return errors.Join(err, w.settle(after, msg, t, Outcome{Worker: w.Name, Tries: tries}))
	}
	return errors.Join(err, eerr, msg.NakWithDelay(e.beat/5))
}

func (w *Worker) count(n *int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	*n++
}

// failedAt reports whether this worker has failed at a task, other than by the try that it is at.
func (w *Worker) failedAt(tries []Try) bool {
	return slices.ContainsFunc(tries, func(t Try) bool { return t.Instance == w.info.Instance && t.Error != "" })
}

// othersCould reports whether a worker is there that may do a task and has not failed at it.
func (w *Worker) othersCould(ctx context.Context, job *JobInfo, tries []Try) bool {
	list, err := w.Engine.Workers(ctx)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(list, func(i Info) bool {
		return i.Instance != w.info.Instance && !i.Draining && (i.For == "" || i.For == job.ID) &&
			i.refuses(job) == "" &&
			!slices.ContainsFunc(tries, func(t Try) bool { return t.Instance == i.Instance && t.Error != "" })
	})
}

// settle writes what came of a task, for as long as the servers wait for it, and acknowledges it.
func (w *Worker) settle(ctx context.Context, msg jetstream.Msg, t *Task, o Outcome) error {
	e := w.Engine
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), e.opt.LostAfter)
	defer cancel()
	for {
		once, stop := context.WithTimeout(ctx, 2*e.beat)
		err := put(once, e.results, t.key(), &o)
		if err == nil {
			err = msg.DoubleAck(once)
		}
		stop()
		if err == nil {
			return nil
		}
		select {
		case <-time.After(e.beat / 5):
			_ = msg.InProgress()
		case <-ctx.Done():
			return err
		}
	}
}

// handle calls the handler while the servers are told that it goes on, and the job is open.
func (w *Worker) handle(ctx context.Context, msg jetstream.Msg, job *JobInfo, t *Task, s *Slot) (
	data json.RawMessage, err error) {
	h := w.Handlers[t.Kind]
	if h == nil {
		return nil, fmt.Errorf("version %s does not know tasks of the kind %q", w.Version, t.Kind)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	told := make(chan struct{})
	go func() {
		defer close(told)
		tick := time.NewTicker(w.Engine.beat)
		defer tick.Stop()
		var lost <-chan struct{}
		if s != nil {
			lost = s.Lost()
		}
		fenced := slices.Contains(w.Fenced, t.Kind)
		for {
			select {
			case <-tick.C:
				_ = msg.InProgress()
				if !w.isOpen(t.Job) {
					cancel(errJobEnded)
				}
				if fenced && w.silent() > w.Engine.fence() {
					cancel(errCutOff)
				}
			case <-lost:
				cancel(errCutOff)
				lost = nil
			case <-ctx.Done():
				return
			}
		}
	}()
	defer func() { cancel(nil); <-told }()
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault of the program: %v", p)
			w.Engine.opt.Log.Error("a fault of the program", "in", t.What, "fault", p, "stack", string(debug.Stack()))
		}
		if err == nil {
			return
		}
		if cause := context.Cause(ctx); errors.Is(cause, errDrained) || errors.Is(cause, errJobEnded) ||
			errors.Is(cause, errCutOff) {
			err = errors.Join(cause, err)
		}
	}()
	return h(ctx, job, t)
}

// silent is for how long the servers were not heard.
func (w *Worker) silent() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return time.Since(w.spoke)
}
