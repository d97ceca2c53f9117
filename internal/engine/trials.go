package engine

import (
	"context"
	"errors"
	"slices"
)

// Trial is an assumption about servers that can be tried on them: what is done through public commands is then what
// log, listing and scan have to agree on.
type Trial struct {
	ID string // short, and the same for ever
	// Says is the assumption in a sentence, Source the title of the public documentation that it was taken from.
	Says, Source string
	// Do does it. An error says that the servers do not offer it, or refuse.
	Do func(ctx context.Context) error
	// Undo takes back what may keep a snapshot from being taken; nil: there is no such thing.
	Undo func(ctx context.Context) error
}

// Trials are a cluster's trials, in a scratch part of it that is theirs alone.
type Trials struct {
	// View is the cluster with the scratch part alone; nil: the cluster itself can be protected in part.
	View Cluster
	// Part is the pattern of the namespaces that they make, Beside that of those that it is restored to.
	Part, Beside string
	List         []Trial
	// Together: to read what there is takes long, so that all are done before it is read once. One by one they are
	// done again where that shows a difference.
	Together bool
	// RestoreBeside and RestoreInPlace say what is tried by restoring; they have nothing to do by themselves.
	RestoreBeside, RestoreInPlace Trial
	// Snapshot says what is tried by a new point, of clusters that send their content otherwise than it is scanned.
	Snapshot Trial
	// Spoil changes content of the namespaces Spoiled after the last moment, so that putting them back in place has
	// something to do.
	Spoil   func(ctx context.Context) error
	Spoiled string
	// Clean removes all that was made.
	Clean func(ctx context.Context) error
}

// All returns all that is tried, in order.
func (t *Trials) All() []Trial {
	out := slices.Clone(t.List)
	if t.Snapshot.ID != "" {
		out = append(out, t.Snapshot)
	}
	return append(out, t.RestoreBeside, t.RestoreInPlace)
}

// ErrMayNotTry is returned when a login may not write where trials are made; its text says what to grant.
var ErrMayNotTry = errors.New("the login may not write where trials are made")

// Prover is a Cluster on which the assumptions that its engine makes can be tried.
type Prover interface {
	Cluster
	// Trials prepares the scratch part for one run, which the name tells from others. [ErrMayNotTry] is returned
	// where it cannot be written to.
	Trials(ctx context.Context, run string) (*Trials, error)
}
