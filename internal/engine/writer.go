package engine

import (
	"context"
	"time"

	"dexamen/internal/core/record"
)

// Writer gives access to a cluster for restoring: a [StagingWriter] or an
// [InPlaceWriter].
type Writer interface {
	// Reserve takes namespaces of the target for this restore, on the target
	// itself. [ErrClaimed]: another one has them. It is called before anything is
	// written, once.
	Reserve(ctx context.Context, names []string) (*Claims, error)
	// Stages lists what restores left behind that were cut short and whose
	// processes are gone: stages that a record on the target names, or for an
	// [InPlaceWriter] the names of namespaces that were being written.
	Stages(ctx context.Context) ([]string, error)
}

// StagingWriter writes content to a stage that no application sees, and makes it the
// namespace in one step.
type StagingWriter interface {
	Writer
	// Stage makes an empty stage for a namespace of this definition and gives
	// its name. Indexes are not built yet.
	Stage(ctx context.Context, ns record.Namespace) (stage record.Namespace, err error)
	// Write adds records to a stage, in any order. When it returns, they are
	// where they cannot be rolled back and Scan finds them.
	Write(ctx context.Context, stage string, recs []record.Record) error
	// CurrentNamespace returns a namespace as the cluster has it now.
	CurrentNamespace(ctx context.Context, name string) (record.Namespace, error)
	// Index builds what the definition asks for, besides what is there.
	Index(ctx context.Context, stage string, ns record.Namespace) error
	// Count returns how many records a namespace has, exactly.
	Count(ctx context.Context, name string) (int64, error)
	// Publish makes the stage the namespace of this name. Replace allows that
	// one of the name is there, which is then gone; without it that is an
	// error and nothing is changed. [ErrNoRename] is returned when the server
	// refuses to give a stage this name; nothing was changed then.
	Publish(ctx context.Context, stage, name string, replace bool) error
	// Replaceable returns [ErrNotReplaceable] where publishing cannot put a stage of
	// this namespace in the place of one that is there.
	Replaceable(ns record.Namespace) error
	// KeepsIdentity reports whether a namespace has the identity of its stage after
	// it was published.
	KeepsIdentity(ns record.Namespace) bool
	// Trusted reports whether publishing is known to keep a stage's identity,
	// definition and content: it was tried on something of Dexamen's own.
	Trusted(ctx context.Context) bool
	// StageInPlace makes an empty namespace under its own name, which must be
	// free, for servers that refuse to rename a stage to it. Replace removes one
	// of the name first.
	StageInPlace(ctx context.Context, ns record.Namespace, replace bool) (record.Namespace, error)
	// Discard removes a stage.
	Discard(ctx context.Context, stage string) error
	// View makes a namespace that holds no records, in one step.
	View(ctx context.Context, ns record.Namespace, replace bool) error
}

// Fitted is how a namespace can be on a target.
type Fitted struct {
	Definition []byte
	// Notes say for people what differs from what it was.
	Notes []string
	// Rewrite, where set, returns what is written for a record's value. Where it is
	// changed, note says so for people, after a count of records.
	Rewrite func(value []byte) (out []byte, note string)
	// Notice, where set, returns what people are to know of a record's value beforehand, after a count of
	// records; empty where it is nothing.
	Notice func(value []byte) string
}

// Fitter is a Writer of a cluster on which a namespace may have to differ from what it
// was.
type Fitter interface {
	Writer
	// Fit returns how a namespace, which is to be restored from one of the name from, can
	// be on this target, by what was chosen ([RestoreOption]).
	Fit(ctx context.Context, ns record.Namespace, from string, chosen map[string]string) (Fitted, error)
}

// Sequencer is a StagingWriter of namespaces some of which must be written in order of
// keys, one batch after the other.
type Sequencer interface {
	StagingWriter
	InOrder(ns record.Namespace) bool
}

// SharedWriter is a Writer of which those of several processes can write a namespace for one restore, whose process
// has reserved it and made what is written to.
type SharedWriter interface {
	Writer
	// ShareWrites returns what a writer of another process has to know to write to a namespace, or to a
	// stage; nil where one process writes it alone.
	ShareWrites(ctx context.Context, ns record.Namespace) (ticket []byte, err error)
	// WriteShared writes records, in any order; some of them may be there since an earlier try.
	// [ErrClaimLost] is returned where the restore is seen to have ended, and nothing is written then.
	WriteShared(ctx context.Context, ticket []byte, ns record.Namespace, recs []record.Record) error
}

// RecordWriter is a StagingWriter that can also write single records of a namespace that
// is there.
type RecordWriter interface {
	StagingWriter
	// TakesRecords reports whether it can for a namespace of this kind.
	TakesRecords(ns record.Namespace) bool
	// PutRecords writes records, each whole or not at all, in the place of those that are
	// there; was has what is there now, nil where there is none. When it returns, they are
	// where they cannot be rolled back.
	PutRecords(ctx context.Context, name string, recs []record.Record, was [][]byte) error
}

// NamespaceRemover is a Writer that can take away a namespace that was reserved, with all
// that it holds.
type NamespaceRemover interface {
	Writer
	RemoveNamespace(ctx context.Context, ns record.Namespace) error
}

// GapTeller is a StagingWriter whose servers cannot replace a namespace in one step.
type GapTeller interface {
	StagingWriter
	// Without returns how long the name was not there when Publish replaced a namespace
	// last.
	Without() time.Duration
}

// InPlaceWriter is a Writer of a cluster that cannot make content visible in one
// step: what differs is changed in place, and a mark on the target says until the
// end that it is not complete.
type InPlaceWriter interface {
	Writer
	// Occupied returns how many records there are where the namespace's would be.
	Occupied(ctx context.Context, ns record.Namespace) (int64, error)
	// Begin prepares writing to a namespace that was reserved. Support calls fn with
	// the records of a namespace of kind "support", to which records may refer.
	Begin(ctx context.Context, ns record.Namespace, support func(name string, fn func(record.Record) error) error) error
	// Put writes records, each whole or not at all; a call has whole
	// groups of records (Grouper), or part of one. Remove removes records.
	Put(ctx context.Context, ns record.Namespace, recs []record.Record) error
	Remove(ctx context.Context, ns record.Namespace, keys [][]byte) error
	// End marks the namespace as complete.
	End(ctx context.Context, ns record.Namespace) error
}

// ManyWriter is an InPlaceWriter that goes through all that is there to find what one namespace has, so that
// several are better looked for together.
type ManyWriter interface {
	InPlaceWriter
	// OccupiedMany is Occupied for several namespaces, none of kind settings.
	OccupiedMany(ctx context.Context, list []record.Namespace) ([]int64, error)
	// BeginMany is Begin for several.
	BeginMany(ctx context.Context, list []record.Namespace) error
}

// Replayer is a Writer that replays commands of a log.
type Replayer interface {
	Writer
	// Replay replays commands in order and returns how many it replayed. Names maps
	// the namespaces they were logged for to those they are replayed on; others are
	// skipped. [ErrOutsideNamespaces] is returned when a command concerns more than
	// these.
	Replay(ctx context.Context, names map[string]string, cmds []record.Change) (int64, error)
	// CanReplay returns a function that reports whether a command can be replayed so, before
	// anything is written: its error is what Replay would return of it.
	CanReplay(names map[string]string) (func(c *record.Change) error, error)
	// Rest counts the records that are in a namespace and in none of others, and removes
	// them where asked to.
	Rest(ctx context.Context, ns record.Namespace, others []string, remove bool) (int64, error)
	// RestoreExpiries ends the replay of a namespace: deferred expiries are set as
	// they were, and what has expired is removed.
	RestoreExpiries(ctx context.Context, ns record.Namespace) error
}

// ScratchServer is a Writer of a server that one process can have for itself for a
// while, to make moments on it that only a server can make.
type ScratchServer interface {
	Writer
	// ClaimServer claims the server, which must be empty or hold only what a process
	// that is gone has left there. [ErrInUse] is returned while another process has it.
	// Release empties the server and ends the claim; its error says that the claim was
	// lost meanwhile, so that nothing that was read there can be relied on.
	ClaimServer(ctx context.Context) (release func(ctx context.Context) error, err error)
}

// SettingsSaver is a SettingsWriter whose servers forget what is set when they begin again,
// where they are not told to keep it.
type SettingsSaver interface {
	SettingsWriter
	// SaveSettings has every server keep what was set, and returns why one does not; empty
	// where all do.
	SaveSettings(ctx context.Context) (note string, err error)
}

// Outcome describes what became of a setting.
type Outcome string

// What PutSetting does.
const (
	// CreatedWithoutPassword: made, but for a secret that the servers do not give out.
	CreatedWithoutPassword Outcome = "made without password"
	Created                Outcome = "made"     // there was none of the name
	Unchanged              Outcome = "same"     // it was there already
	KeptExisting           Outcome = "kept"     // another one of the name is there and stays
	Replaced               Outcome = "replaced" // another one of the name was there
)

// SettingsWriter is a Writer that can put back users and roles.
type SettingsWriter interface {
	Writer
	// PutSetting puts one record of a settings namespace back; what else is
	// there stays as it is.
	PutSetting(ctx context.Context, ns record.Namespace, rec record.Record, replace bool) (Outcome, error)
}
