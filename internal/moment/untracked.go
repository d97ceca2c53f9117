package moment

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// UntrackedMark begins the marks that say what moments after a point lack.
const UntrackedMark = "untracked-"

// UntrackedError describes what was renamed to a protected name and is in no moment
// before the next point.
type UntrackedError struct {
	Names []string  `json:"names"`
	Point string    `json:"point"` // the newest point then
	Since time.Time `json:"since"`

	Cluster string `json:"-"`
}

func (l *UntrackedError) Error() string {
	return fmt.Sprintf(
		"%s was renamed to a protected name, and what it held before is not in the store: no moment from %s on has it",
		strings.Join(l.Names, ", "), run.FormatTime(l.Since))
}

// Remedy implements [remedy.Remedied].
func (l *UntrackedError) Remedy() remedy.Remedy {
	return remedy.Remedy{Kind: remedy.Snapshot, Of: l.Cluster}
}

// UntrackedSince returns what moments after the newest point lack; nil where that is
// nothing. With forget set what is kept of earlier points is forgotten.
func UntrackedSince(ctx context.Context, e *run.Runner, newest *store.Point,
	forget bool) (found *UntrackedError, err error) {
	var old []string
	err = e.Store.Marks(ctx, newest.Cluster, UntrackedMark, func(what string, read func(any) error) error {
		if what != UntrackedMark+newest.ID && !forget {
			return nil
		}
		if what != UntrackedMark+newest.ID {
			old = append(old, what)
			return nil
		}
		l := &UntrackedError{Cluster: newest.Cluster}
		if err := read(l); err != nil {
			return nil // the scrub tells of it
		}
		found = l
		return nil
	})
	for _, what := range old {
		if rerr := e.Store.RemoveMark(ctx, newest.Cluster, what); rerr != nil && !errors.Is(rerr, blob.ErrNotFound) &&
			err == nil {
			err = rerr
		}
	}
	return found, err
}

// UntrackedRenames names what was renamed, after the point, to a name that the point's
// scope chooses: its content before that is not known.
func (m *Moment) UntrackedRenames(ctx context.Context) ([]string, error) {
	if len(m.Point.Scope) == 0 || m.Model.Traits().Commands {
		return nil, nil
	}
	var out []string
	for _, s := range m.Point.Shards {
		plan, err := m.Plan(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, plan.UntrackedRenames()...)
	}
	return out, nil
}

// WarnUntracked warns of what a moment lacks because it came by its name late.
func WarnUntracked(ctx context.Context, e *run.Runner, m *Moment) {
	names, err := m.UntrackedRenames(ctx)
	if err != nil {
		return // whoever reads the moment meets it
	}
	for _, n := range names {
		e.Emit(run.Warning,
			"%s is not in it: it was renamed to that name after point %s, and what it held before was not protected",
			n, m.Point.ID)
	}
}
