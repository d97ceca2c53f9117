package engine

import (
	"context"
	"encoding/json"
	"errors"
	"time"
)

// ErrHoldLost is returned when what was to be held still was not, all the time.
var ErrHoldLost = errors.New("it was not held still all the time")

// Quiesce is a way to hold still what writes to a cluster, as the configuration names it.
type Quiesce struct {
	Name string
	// Begin and End are commands that hold it still and let it go on; Check, where there is
	// one, succeeds while it is held. They run on each machine that has a folder of the
	// cluster, or on this one. End does no harm where nothing is held.
	Begin, End, Check []string
	Here              bool
	// Of is another cluster, whose servers write to the folders: it is held still by means
	// of its own engine, on the members named (none: on all).
	Of      *Target
	Members []string
	// Version is the oldest of its servers for which this is meant; empty is any.
	Version string
	// Clone, where set, makes a clone of the folders while they are held still, which is read
	// in their place.
	Clone *CloneCommands
	// Longest is how long it may last; after that it is let go on, and the copy is void.
	Longest time.Duration
}

// CloneCommands make clones of folders by a volume manager, or whatever else has them. They
// run on each machine that has a folder of the cluster. In them and in At, {folder} is the
// path of the folder, the first one where a machine has several.
type CloneCommands struct {
	Make []string
	// Remove removes the clone; it does no harm where there is none.
	Remove []string
	// At is where the clone of a folder is.
	At string
}

// Hold is something of a cluster that is held still, or is to be. Another process can
// let it go on by what is in it.
type Hold struct {
	// ID is this one's alone.
	ID string `json:"id,omitempty"`
	// What names it for people; empty where there is nothing to be held still.
	What string `json:"what"`
	// Detail is the engine's own.
	Detail json.RawMessage `json:"detail,omitempty"`
	// Exact: while it is held nothing of the cluster's content changes.
	Exact bool `json:"exact,omitempty"`
	// Longest, where set, is how long it may last. Whoever stands by lets it go on then.
	Longest time.Duration `json:"longest,omitempty"`
}

// Quiescer is a Cluster in which something can be held still: while a [Pinned] cluster
// is pinned, any other while it is read.
type Quiescer interface {
	Cluster
	// Quiescible returns what is to be held still: what the cluster's options ask for
	// and is going on now, of the namespaces chosen (nil: all).
	Quiescible(ctx context.Context, chosen func(namespace string) bool) (Hold, error)
	// Quiesce holds it still until Resume.
	Quiesce(ctx context.Context, h Hold) error
	// Resume lets it go on, also what another process has held still.
	Resume(ctx context.Context, h Hold) error
}

// HoldChecker is a Quiescer that can tell whether what it holds still is held.
type HoldChecker interface {
	Quiescer
	// StillHeld returns [ErrHoldLost] where it is not, or was not all the time.
	StillHeld(ctx context.Context, h Hold) error
}

// FileQuiescer is a HoldChecker whose servers can be kept from writing to their files.
type FileQuiescer interface {
	HoldChecker
	// QuiescibleFiles returns what keeps the servers of some members (none: of all) from
	// writing, for Quiesce and the others.
	QuiescibleFiles(ctx context.Context, members []string) (Hold, error)
}

// ServerStarter is a Cluster beside which a server can be started on what was restored.
type ServerStarter interface {
	Cluster
	// StartServer runs a command that starts one on a namespace and returns, and then
	// another one until it succeeds, for at most so long.
	StartServer(ctx context.Context, namespace string, start, ready []string, within time.Duration) error
}
