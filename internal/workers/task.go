package workers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// Task is a piece of a job.
type Task struct {
	Job    string `json:"job"`
	Number int    `json:"number"`
	// Kind says which handler does it, and What what it is, for people.
	Kind string `json:"kind"`
	What string `json:"what"`
	// Data is what the handler has to know. It holds no secrets: each worker has its own.
	Data json.RawMessage `json:"data"`
}

func (t *Task) key() string { return fmt.Sprintf("%s.%d", t.Job, t.Number) }

// Try is that a worker has taken a task.
type Try struct {
	Worker   string    `json:"worker"`   // its name
	Instance string    `json:"instance"` // of its process
	Begun    time.Time `json:"started"`
	// Error is why it failed; empty while it goes on, and where nothing was heard of it any more.
	Error string `json:"error,omitempty"`
}

// Outcome is what came of a task.
type Outcome struct {
	Worker string          `json:"worker"`
	Took   time.Duration   `json:"took"`
	Data   json.RawMessage `json:"data,omitempty"`
	// Tries are set where it is given up.
	Tries []Try `json:"tries,omitempty"`
}

// After so many failures, or so many workers that were lost with it, a task is given up.
const (
	mostFailures = 3
	mostLost     = 5
)

// FailedError is returned when a task was given up: workers failed at it one after the other.
type FailedError struct {
	What  string
	Tries []Try
}

func (e *FailedError) Error() string {
	var parts []string
	for _, t := range e.Tries {
		why := t.Error
		if why == "" {
			why = "was lost with it, or cut off"
		}
		parts = append(parts, t.Worker+": "+why)
	}
	return fmt.Sprintf("%s: %d tries of workers have failed: %s", e.What, len(e.Tries), strings.Join(parts, "; "))
}

// spent reports whether tries are so many that a task is given up.
func spent(tries []Try) bool {
	failed := 0
	for _, t := range tries {
		if t.Error != "" {
			failed++
		}
	}
	return failed >= mostFailures || len(tries)-failed >= mostLost
}

func triesKey(t *Task) string { return "tries." + t.key() }

// editTries changes what is kept of a task's tries, and returns them.
func (e *Engine) editTries(ctx context.Context, t *Task, edit func([]Try) []Try) ([]Try, error) {
	for {
		var tries []Try
		rev, ok, err := get(ctx, e.results, triesKey(t), &tries)
		if err != nil {
			return nil, err
		}
		tries = edit(slices.Clone(tries))
		b, err := json.Marshal(tries)
		if err != nil {
			return nil, err
		}
		if ok {
			_, err = e.results.Update(ctx, triesKey(t), b, rev)
		} else {
			_, err = e.results.Create(ctx, triesKey(t), b)
		}
		// Another worker may have the task, too.
		if err == nil || !errors.Is(err, jetstream.ErrKeyExists) && !isOtherRevision(err) || ctx.Err() != nil {
			return tries, err
		}
	}
}

// isOtherRevision reports whether a key has changed since it was read.
func isOtherRevision(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence
}
