package workers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"dexamen/internal/core/wait"
)

// Protocol is the form of what processes tell each other. Who speaks another one takes no part in
// each other's jobs.
const Protocol = 2

// What lies at the servers:
//
//	stream DEXAMEN_TASKS          dexamen.task.JOB.N   a task, until it is done
//	bucket dexamen-jobs           JOB                  a job that is open, for as long as it says so
//	bucket dexamen-results        JOB.N                a task's outcome
//	                              tries.JOB.N          who has taken it
//	bucket dexamen-workers        INSTANCE             who is there, for as long as it says so
//	bucket dexamen-slots          LIMIT.I              a place of a limit that is taken, likewise
//
// N is a number from zero. The stream has a consumer for each job.
const (
	tasksStream   = "DEXAMEN_TASKS"
	taskSubjects  = "dexamen.task."
	jobsBucket    = "dexamen-jobs"
	resultsBucket = "dexamen-results"
	presentBucket = "dexamen-workers"
	slotsBucket   = "dexamen-slots"
)

// kept is how long what nobody fetches is kept: of jobs that ended without clearing up.
const kept = 24 * time.Hour

func (e *Engine) makeBuckets(ctx context.Context) error {
	storage, replicas := jetstream.FileStorage, e.opt.Replicas
	if e.Within() {
		storage, replicas = jetstream.MemoryStorage, 1
	} else if replicas == 0 {
		if replicas = 1; len(e.opt.Servers) >= 3 {
			replicas = 3
		}
	}
	err := e.patiently(ctx, func(ctx context.Context) (err error) {
		if e.tasks, err = e.js.Stream(ctx, tasksStream); !errors.Is(err, jetstream.ErrStreamNotFound) {
			return err
		}
		e.tasks, err = e.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: tasksStream,
			Description: "what Dexamen's workers are to do", Subjects: []string{taskSubjects + ">"},
			Retention: jetstream.WorkQueuePolicy, Storage: storage, Replicas: replicas, MaxAge: kept,
			Duplicates: 2 * time.Minute})
		return err
	})
	if err != nil {
		return e.explain("the stream of tasks", err)
	}
	gone := e.opt.LostAfter
	for _, b := range []struct {
		to   *jetstream.KeyValue
		name string
		ttl  time.Duration
	}{{&e.jobs, jobsBucket, gone}, {&e.results, resultsBucket, kept}, {&e.present, presentBucket, gone},
		{&e.slots, slotsBucket, gone}} {
		err = e.patiently(ctx, func(ctx context.Context) (err error) {
			if *b.to, err = e.js.KeyValue(ctx, b.name); err == nil {
				// Another bound may be configured by now.
				if st, serr := (*b.to).Status(ctx); serr == nil && st.TTL() == b.ttl {
					return nil
				}
			} else if !errors.Is(err, jetstream.ErrBucketNotFound) {
				return err
			}
			*b.to, err = e.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: b.name, TTL: b.ttl,
				Storage: storage, Replicas: replicas, Description: "of Dexamen's workers"})
			return err
		})
		if err != nil {
			return e.explain("the bucket "+b.name, err)
		}
	}
	return nil
}

// beginning is for how long servers may be without one that leads them before they are taken for gone, and
// nobody how long nobody may answer at all.
const (
	beginning = 45 * time.Second
	nobody    = 15 * time.Second
)

// patiently asks again where servers do not answer: they may be choosing who leads them.
func (e *Engine) patiently(ctx context.Context, ask func(ctx context.Context) error) error {
	for begun := time.Now(); ; {
		once, cancel := context.WithTimeout(ctx, 10*time.Second)
		err := ask(once)
		cancel()
		longest := beginning
		if errors.Is(err, nats.ErrNoResponders) {
			longest = nobody
		}
		if err == nil || !isSilence(err) || ctx.Err() != nil || time.Since(begun) > longest {
			return err
		}
		if err := wait.For(ctx, 200*time.Millisecond); err != nil {
			return err
		}
	}
}

// notNow is the code by which servers say that they have nobody who leads them ("JetStream system temporarily
// unavailable").
const notNow jetstream.ErrorCode = 10008

// isSilence reports whether servers have not answered, rather than refused.
func isSilence(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && api.ErrorCode == notNow ||
		errors.Is(err, context.DeadlineExceeded) || errors.Is(err, nats.ErrTimeout) ||
		errors.Is(err, nats.ErrNoResponders) || errors.Is(err, jetstream.ErrNoStreamResponse) ||
		errors.Is(err, nats.ErrConnectionClosed)
}

// explain says what servers lack.
func (e *Engine) explain(what string, err error) error {
	switch {
	case errors.Is(err, jetstream.ErrJetStreamNotEnabled), errors.Is(err, jetstream.ErrJetStreamNotEnabledForAccount):
		return fmt.Errorf("the workers' servers (%s) have JetStream off: %w", e.conn.ConnectedUrlRedacted(), err)
	case errors.Is(err, nats.ErrNoResponders):
		return fmt.Errorf("nobody at the workers' servers (%s) answers for JetStream: it is off there, or no majority "+
			"of them is there: %s: %w", e.conn.ConnectedUrlRedacted(), what, err)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("the workers' servers (%s) do not answer for %s: is a majority of them there? %w",
			e.conn.ConnectedUrlRedacted(), what, err)
	}
	return fmt.Errorf("the workers' servers (%s): %s: %w", e.conn.ConnectedUrlRedacted(), what, err)
}

// put writes a value as JSON.
func put(ctx context.Context, kv jetstream.KeyValue, key string, v any) error {
	b, err := json.Marshal(v)
	if err == nil {
		_, err = kv.Put(ctx, key, b)
	}
	return err
}

// get reads a value; ok is false where there is none.
func get(ctx context.Context, kv jetstream.KeyValue, key string, v any) (revision uint64, ok bool, err error) {
	x, err := kv.Get(ctx, key)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	return x.Revision(), true, json.Unmarshal(x.Value(), v)
}
