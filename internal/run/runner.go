// Package run is what all the verbs of the program share: the Runner that a piece
// of work is done with, the events it reports, the errors that decide a command's
// exit code, and the record of runs in the store with their hooks.
//
//	runner.go  Runner, Event, the errors
//	record.go  a run: who did it, when, with what outcome; hooks
//	crew.go    other processes that do pieces of it
//
// The verbs are packages beside it: moment (which states can be had, and their
// content), snapshot, capture, restore and verify.
package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
)

// Errors that decide how a command ends.
var (
	// ErrRefused is returned when doing it would not be safe.
	ErrRefused = errors.New("refused")
	// ErrDiffers is returned when a verification or comparison found a difference.
	ErrDiffers = errors.New("differs")
	// ErrIncomplete is returned when it is done, but something is missing.
	ErrIncomplete = errors.New("incomplete")
)

// Kind describes what an event is about.
type Kind string

// The kinds of events.
const (
	Step     Kind = "step"     // a new stage of the work begins
	Progress Kind = "progress" // numbers of the stage, often
	Note     Kind = "note"     // a fact worth keeping
	Warning  Kind = "warning"  // something an administrator should look at
)

// Event is what a piece of work reports while it goes on.
type Event struct {
	Time      time.Time `json:"time"`
	Kind      Kind      `json:"kind"`
	Text      string    `json:"text,omitempty"`
	Namespace string    `json:"namespace,omitempty"`
	Records   int64     `json:"records,omitempty"`
	Unit      string    `json:"unit,omitempty"`  // of what is counted, where not records
	Total     int64     `json:"total,omitempty"` // records expected, where known
	Bytes     int64     `json:"bytes,omitempty"`
}

// Runner is what a piece of work is done with: the store, bounds, and who hears its events.
type Runner struct {
	Store *store.Store
	// StoreName is what the configuration calls the store.
	StoreName string
	// Tool names the version of Dexamen, for what is written.
	Tool string
	// Temp is the folder for temporary files; the system's when empty.
	Temp string
	// Memory bounds what sorters hold together, of the records read and of the
	// changes folded each, in bytes (default 32 MiB).
	Memory int
	// Parallel is how many readers or writers work on a cluster at once
	// (default 4).
	Parallel int
	// Scope chooses the namespaces that snapshots take; all where empty. Dates
	// in it are filled in.
	Scope address.Scope
	// Rate bounds how many bytes a second scans read; nil is no bound.
	Rate *rate.Limiter
	// ScratchServer, where set, opens the server on which moments of a cluster are made
	// that are to be had on a server only; it gives nil where there is none.
	ScratchServer func(ctx context.Context, cluster string) (engine.Cluster, error)
	// FullRead has snapshots read all content, also where they could read what has
	// changed since the last point only.
	FullRead bool
	// Unheld has nothing held still that could be while it is read, but for the moment in which
	// a view of it is pinned.
	Unheld bool
	// Guard, where set, has another process stand by that lets go on what is held still
	// of a cluster, should this one be killed; relieve ends it, and returns an error where
	// it has let go before.
	Guard func(ctx context.Context, cluster string, h engine.Hold) (relieve func() error, err error)
	// Crew, where set, are other processes that share the work.
	Crew Crew
	// Attest, where set, leaves signed evidence of a run that has ended.
	Attest func(ctx context.Context, r *store.Run) error
	// Explain words an error with what to do next; nil gives its own text.
	Explain func(error) string
	// OnEvent hears events; it may be called from several goroutines.
	OnEvent func(Event)
}

// WaitForRate waits until so many bytes may be moved.
func (e *Runner) WaitForRate(ctx context.Context, n int) error {
	if e.Rate == nil {
		return nil
	}
	for n > 0 {
		part := min(n, e.Rate.Burst())
		if err := e.Rate.WaitN(ctx, part); err != nil {
			return err
		}
		n -= part
	}
	return nil
}

// Limiter returns what bounds a rate, in bytes a second; nil for none.
func Limiter(bytes int64) *rate.Limiter {
	if bytes <= 0 {
		return nil
	}
	return rate.NewLimiter(rate.Limit(bytes), int(max(bytes/4, 64<<10)))
}

func (e *Runner) SortMemory() int {
	if e.Memory > 0 {
		return e.Memory
	}
	return 32 << 20
}

func (e *Runner) Readers() int {
	if e.Parallel > 0 {
		return e.Parallel
	}
	return 4
}

func (e *Runner) TempDir() string {
	if e.Temp != "" {
		return e.Temp
	}
	return os.TempDir()
}

func (e *Runner) Emit(k Kind, format string, args ...any) {
	if e.OnEvent == nil {
		return
	}
	for i, a := range args {
		if err, ok := a.(error); ok {
			args[i] = e.Text(err)
		}
	}
	e.OnEvent(Event{Time: time.Now(), Kind: k, Text: fmt.Sprintf(format, args...)})
}

// Text words an error for people.
func (e *Runner) Text(err error) string {
	if e.Explain == nil {
		return err.Error()
	}
	return e.Explain(err)
}

// Count renders a number of things with its noun, its thousands apart.
func Count(n int64, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return humanize.Comma(n) + " " + noun
}

func (e *Runner) ReportProgress(ns string, records, total, bytes int64) {
	if e.OnEvent != nil {
		e.OnEvent(Event{Time: time.Now(), Kind: Progress, Namespace: ns, Records: records, Total: total, Bytes: bytes})
	}
}

func FormatTime(t time.Time) string { return t.Local().Format("2006-01-02T15:04:05.999-07:00") }
