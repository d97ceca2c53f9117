// Package moment answers which states of a cluster the store can restore, and
// reads them: a point, or a point with the log after it folded in.
//
//	resolve.go    an address's moment, or why it cannot be had
//	coverage.go   which moments can be had, gaps, doubts
//	state.go      the namespaces of a moment with their content
//	layout.go     namespaces that are spread over shards
//	commands.go   moments whose log holds commands
//	versions.go   what the log made of records, one change after the other
//	compare.go    two moments, or a moment and a live cluster; diff.go one pair
//	readback.go   a live namespace's content
//	damage.go     what can be read of what is damaged in the store
//	untracked.go  renames into what is protected
package moment

import (
	"context"
	"time"

	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Moment is a state of a cluster that can be had from the store: a point, or a
// point and the log after it.
type Moment struct {
	Point *store.Point
	Time  time.Time
	Model engine.Model
	// Upto says for each shard how much of the log belongs to it.
	Upto     map[string]record.Mark
	Segments map[string][]journal.Header
	Runner   *run.Runner
	// Materializer builds the moment where only a server can; nil where there is
	// none.
	Materializer Materializer
	// incomplete: records may be lost that the log changes.
	incomplete bool
}

// Exact reports whether log is folded in, beyond the point.
func (m *Moment) Exact() bool { return len(m.Segments) == 0 }

// String describes the moment for people.
func (m *Moment) String() string {
	s := m.Point.Cluster + "@" + m.Time.Local().Format("2006-01-02T15:04:05.000-07:00")
	if m.Point.Made == store.MadeByExport {
		return s + " (an export)"
	}
	if len(m.Segments) == 0 {
		return s + " (point " + m.Point.ID + ")"
	}
	return s + " (point " + m.Point.ID + " and the log after it)"
}

// AtPoint returns the moment of the point alone, without the log after it.
func (m *Moment) AtPoint() *Moment {
	base, _ := At(m.Runner, m.Point, nil, nil)
	base.Materializer = m.Materializer
	return base
}

// Materializer builds moments whose log holds commands, which only a server can
// carry out.
type Materializer interface {
	// Materialize builds the namespaces of the moment that choose accepts, into x,
	// and returns them in order of their names with the number of log changes
	// carried out. ErrRefused is returned when there is no server to do it on.
	Materialize(ctx context.Context, m *Moment, x *store.Scratch, choose func(name string) bool) ([]NamespaceState,
		int64, error)
}
