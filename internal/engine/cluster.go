package engine

import (
	"context"

	"dexamen/internal/core/record"
)

// Namespace is what a live cluster says of a namespace.
type Namespace struct {
	record.Namespace
	Shard   string // that holds it; of a sharded namespace each shard has a part
	Records int64  // as the server estimates
	Bytes   int64
	// Note says at a glance what else is worth knowing: "2 shards, 1 replica".
	Note string
	// Skip, where set, is why Dexamen cannot protect it.
	Skip string
}

// Partition is a stretch of a namespace that is scanned by itself. The zero
// Partition is all of it.
type Partition struct {
	From, To any // engine's own key values; nil is open
}

// Through returns the stretch from a partition to the end of one that follows it, of the same list.
func (p Partition) Through(last Partition) Partition { return Partition{p.From, last.To} }

// Choice is the member of a shard that is read, and why that one was chosen.
type Choice struct {
	Shard  string
	Member Member
	Reason string
}

// Cluster is a connection to a cluster. Methods may be called at the same time
// from several goroutines.
type Cluster interface {
	// Engine returns the name under which the cluster's driver is registered.
	Engine() string
	// Topology asks every member anew.
	Topology(ctx context.Context) (*Topology, error)
	// Choose picks the member of a shard to read, by preference, health and
	// lag; later reads use it until it fails. [ErrNoMember] is returned, with why each
	// was refused, when none is fit.
	Choose(ctx context.Context, shard string) (Choice, error)
	// Namespaces lists what there is, with definitions, in order of names.
	Namespaces(ctx context.Context) ([]Namespace, error)
	// Partitions cuts a namespace into at most n stretches for scanning at
	// the same time, in key order.
	Partitions(ctx context.Context, ns Namespace, n int) ([]Partition, error)
	// Scan reads a partition, calling fn with each record; its bytes are
	// valid until fn returns. When a member fails the scan goes on at another
	// one after the last key, or from the beginning where the server has no
	// order to go by. [ErrMoved] is returned when the
	// namespace is not the one that was listed, [ErrReadAgain] when it must be read
	// again from the start, from a new call of Partitions on.
	Scan(ctx context.Context, ns Namespace, p Partition, fn func(record.Record) error) error
	// Writer returns access for restoring.
	Writer(ctx context.Context) (Writer, error)
	// Close ends the connection.
	Close() error
}

// Routed is a Cluster whose content is spread over shards.
type Routed interface {
	Cluster
	// Routed returns the cluster as applications see it: each namespace once,
	// wherever its records are. It is closed with the cluster it belongs to,
	// and is the cluster itself where nothing is spread.
	Routed() Cluster
}

// ApplicationView returns a cluster as its applications see it.
func ApplicationView(c Cluster) Cluster {
	if r, ok := c.(Routed); ok {
		return r.Routed()
	}
	return c
}

// PinnedView is a cluster as it was at a moment.
type PinnedView struct {
	// Cluster reads it. It is closed with the cluster that it is of.
	Cluster Cluster
	// Mark is its position, without one where the cluster keeps no log, and its time.
	Mark record.Mark
	// Exact: all of it is of one moment.
	Exact bool
	// Caveat says what is not guaranteed about it; empty where nothing is missing.
	Caveat string
	// Release, where set, gives up what the servers hold for it.
	Release func()
}

// Pinned is a Cluster of one shard that can be read as of one position or time.
type Pinned interface {
	Cluster
	// Pin returns a view of the cluster as it is now; of the content, the namespaces
	// chosen (nil: all) can be read. When the server no longer keeps that state, what
	// reads it ends with [ErrStateGone]. A view that was pinned before is given up.
	Pin(ctx context.Context, chosen func(namespace string) bool) (*PinnedView, error)
}

// Incremental is a pinned view in which can be found what has changed since a point
// without a log that tells it.
type Incremental interface {
	Cluster
	// Cursor returns up to where a namespace is read in this view, to be kept with
	// what was read; nil where nothing can be gone on from.
	Cursor(ctx context.Context, ns Namespace) []byte
	// Since cuts what was written after a cursor into about n stretches for Scan:
	// every record of the view that was not, as it is, in what the cursor was kept
	// with. None: it is what it was. Records that are gone do not show. [ErrNotContinued] is returned when that
	// cannot be told, and why.
	Since(ctx context.Context, ns Namespace, cursor []byte, n int) ([]Partition, error)
	// Count returns how many records the namespace has in this view, exactly; -1 where
	// that cannot be told.
	Count(ctx context.Context, ns Namespace) (int64, error)
	// ScanKeys reads the keys of a partition, in any order.
	ScanKeys(ctx context.Context, ns Namespace, p Partition, fn func(key []byte) error) error
}

// Visit takes what a [Revisited] cluster finds in a namespace. All is told in order of
// keys, from one goroutine, and bytes are valid until a call returns.
type Visit struct {
	// Replace says that what the namespace had under a group's prefix is no more, but for
	// what Put says next.
	Replace func(prefix []byte) error
	// Put takes a record that was read.
	Put func(r record.Record) error
	// Note takes what is to be known of one thing the next time; by it is found, too, that
	// the thing is gone. A thing that may change without showing it has an empty one.
	Note func(n record.Record) error
	// Skip says that something is not in what was read, and why.
	Skip func(name, reason string)
	// Caveat says what is not guaranteed about what was read.
	Caveat func(text string)
	// Say says what is worth knowing of what was read.
	Say func(text string)
}

// Revisited is a Cluster of things, such as files, each of which shows whether it has
// changed since it was read. Its model is a [Grouper]: a thing is a group of records.
type Revisited interface {
	Cluster
	// Revisit goes through a namespace as it is now and reads what is not as it was noted
	// before. Before gives what was noted of it the last time, in order of keys; nil has
	// all of it read. The partitions of a Scan give all records, too.
	Revisit(ctx context.Context, ns Namespace, before func() (n record.Record, more bool, err error), v Visit) error
}

// Streamed is a Cluster whose shards are read in one pass each.
type Streamed interface {
	Logged
	// Stream reads all that a shard holds at one position of its log. Records
	// of all namespaces come mixed, in any order; their bytes are valid until
	// fn returns.
	Stream(ctx context.Context, shard string, fn func(ns record.Namespace, r record.Record) error) (record.Mark, error)
	// ContentPlacement returns a text that changes when content moves to another shard.
	// [ErrMoving] is returned while content is on its way.
	ContentPlacement(ctx context.Context) (string, error)
}

// WholeScanner is a Cluster whose servers may hand over a whole namespace at less cost than
// record by record.
type WholeScanner interface {
	Cluster
	// ScanWhole is Scan for who wants all of a partition. The order may be another; records
	// that have expired by the server's clock are left out, as they are by Scan.
	ScanWhole(ctx context.Context, ns Namespace, p Partition, fn func(record.Record) error) error
}

// ManyScanner is a Cluster that goes through all it holds to read one namespace, so that many are better read
// together.
type ManyScanner interface {
	Cluster
	// Together reports whether some namespaces are such.
	Together(list []Namespace) bool
	// ScanMany is Scan for several namespaces in one pass, in any order, and tells whose each record is.
	// Records may come more than once; what comes last counts. The records are valid until fn returns.
	ScanMany(ctx context.Context, list []Namespace, fn func(ns *Namespace, r record.Record) error) error
}

// HistoryResumer is a Logged whose servers may begin a history anew, with positions that
// say nothing about the one before.
type HistoryResumer interface {
	Logged
	// ResumeFrom sets the last place that is known of a shard. It is called before
	// anything else is asked of the connection. Where the server's history proves to
	// continue it, positions go on from it; else they begin after it.
	ResumeFrom(ctx context.Context, shard string, last record.Mark) error
}

// Progress is told by Follow after each batch of changes.
type Progress struct {
	// Mark is the last position read and its time. Everything up to it has
	// been passed to fn.
	Mark record.Mark
	// AtEnd is set when there was nothing further to read.
	AtEnd bool
}

// Logged is a Cluster with a log to follow.
type Logged interface {
	Cluster
	// LogEnd returns the newest position of a shard that cannot be rolled back.
	// Whatever was read from the cluster before the call is no newer.
	LogEnd(ctx context.Context, shard string) (record.Mark, error)
	// LogStart returns a position from which to follow a shard's log beside a
	// scan: what a read begun later may lack comes after it.
	LogStart(ctx context.Context, shard string) (record.Mark, error)
	// Follow reads a shard's log from just after a position, calling fn with
	// whole entries' changes, in order, and how far it got; without changes
	// now and then while nothing happens. It goes on until fn returns an
	// error; [ErrStopFollowing] ends it without one. [ErrLogLost] is returned when the
	// log no longer holds what comes after the position.
	Follow(ctx context.Context, shard string, after record.Position, fn func([]record.Change, Progress) error) error
	// LogMember returns the member whose log is being read.
	LogMember(shard string) string
}

// Nudger is a Logged that can make an idle shard's log go on.
type Nudger interface {
	// Nudge has a shard write an entry that changes nothing, at a time after
	// all positions that this connection has heard of from any shard. Where
	// that is not allowed or not possible the shard's own rhythm must do.
	Nudge(ctx context.Context, shard string) error
}

// Continuer is a Logged cluster that can tell whether a shard's log is still the history that was read.
type Continuer interface {
	Logged
	// Continues returns [ErrLogEnds] where the log reaches back to the last entry that a mark
	// tells of, and does not have it: its servers were put back from older copies, or are others.
	Continues(ctx context.Context, shard string, from record.Mark) error
}

// LogProber is a Logged cluster whose log can be tried where Follow would need what only a point
// tells.
type LogProber interface {
	Logged
	// ProbeLog tries whether a shard's log can be followed from a position on, and keeps nothing.
	// What cannot be tried yet is said in the note.
	ProbeLog(ctx context.Context, shard string, from record.Position) (note string, err error)
}

// Checker is a Cluster that can try its privileges one by one.
type Checker interface {
	Cluster
	// Check tries on every member what the work needs, and reports each: err
	// nil where it works. What does not concern a member is not tried there.
	Check(ctx context.Context, report func(what string, err error, note string))
}
