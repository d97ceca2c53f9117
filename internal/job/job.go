// Package job is the work itself: snapshot, capture, restore, compare, verify.
// It puts engines and the core together and tells what happens through one
// type of event; it prints nothing.
package job

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/time/rate"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
)

// Errors that decide how a command ends.
var (
	// ErrRefused: doing it would not be safe.
	ErrRefused = errors.New("refused")
	// ErrDiffers: a verification or comparison found a difference.
	ErrDiffers = errors.New("differs")
	// ErrIncomplete: it is done, but something is missing.
	ErrIncomplete = errors.New("incomplete")
)

// Kind says what an event is about.
type Kind string

// The kinds of events.
const (
	Step     Kind = "step"     // a new stage of the work begins
	Progress Kind = "progress" // numbers of the stage, often
	Note     Kind = "note"     // a fact worth keeping
	Warning  Kind = "warning"  // something an administrator should look at
)

// Event is what a job tells while it works.
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

// Env is what jobs work with.
type Env struct {
	Store *store.Store
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
	// PauseBalancer stops a sharded cluster's balancer while it is scanned.
	PauseBalancer bool
	// Scope chooses the namespaces that snapshots take; all where empty. Dates
	// in it are filled in.
	Scope address.Scope
	// Rate bounds how many bytes a second scans read; nil is no bound.
	Rate *rate.Limiter
	// Bench, where set, opens the server on which moments of a cluster are made
	// that are to be had on a server only; it gives nil where there is none.
	Bench func(ctx context.Context, cluster string) (engine.Cluster, error)
	// Emit hears events; it may be called from several goroutines.
	Emit func(Event)
}

func (e *Env) memory() int {
	if e.Memory > 0 {
		return e.Memory
	}
	return 32 << 20
}

func (e *Env) parallel() int {
	if e.Parallel > 0 {
		return e.Parallel
	}
	return 4
}

func (e *Env) temp() string {
	if e.Temp != "" {
		return e.Temp
	}
	return os.TempDir()
}

func (e *Env) emit(k Kind, format string, args ...any) {
	if e.Emit != nil {
		e.Emit(Event{Time: time.Now(), Kind: k, Text: fmt.Sprintf(format, args...)})
	}
}

// count renders a number of things with its noun, its thousands apart.
func count(n int64, noun string) string {
	if n != 1 {
		noun += "s"
	}
	return humanize.Comma(n) + " " + noun
}

func (e *Env) progress(ns string, records, total, bytes int64) {
	if e.Emit != nil {
		e.Emit(Event{Time: time.Now(), Kind: Progress, Namespace: ns, Records: records, Total: total, Bytes: bytes})
	}
}

// UnknownName is the error for a namespace that is not there: it names those
// most like it.
func UnknownName(what, where string, all []string) error {
	msg := fmt.Sprintf("there is no namespace %s in %s", what, where)
	if !address.Literal(what) {
		msg = fmt.Sprintf("no namespace in %s fits %s", where, what)
	}
	if near := engine.Nearest(what, all, 3); len(near) > 0 {
		msg += "; near it: " + strings.Join(near, ", ")
	} else if len(all) > 0 {
		msg += fmt.Sprintf("; it holds %s", strings.Join(all[:min(len(all), 8)], ", "))
		if len(all) > 8 {
			msg += fmt.Sprintf(" and %d more", len(all)-8)
		}
	} else {
		msg += ", which holds none"
	}
	return errors.New(msg)
}
