package moment

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/remedy"
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
	// Why says, by name, which change was not understood; what is not in it was renamed.
	Why map[string]string `json:"reasons,omitempty"`

	Cluster string `json:"-"`
}

func (l *UntrackedError) Error() string {
	var list []fold.Untracked
	for _, n := range l.Names {
		list = append(list, fold.Untracked{Name: n, Why: l.Why[n]})
	}
	return fmt.Sprintf("%s: no moment from %s on has it",
		WhyUntracked(list, "renamed to a protected name, and what it held before is not in the store"),
		run.FormatTime(l.Since))
}

// WhyUntracked describes what is not tracked, for people: each reason once. Renamed is the reason for what was renamed
// to a chosen name.
func WhyUntracked(list []fold.Untracked, renamed string) string {
	var whys, texts []string
	by := map[string][]string{}
	for _, u := range list {
		why := cmp.Or(u.Why, renamed)
		if by[why] == nil {
			whys = append(whys, why)
		}
		by[why] = append(by[why], u.Name)
	}
	for _, why := range whys {
		texts = append(texts, some(by[why])+": "+why)
	}
	return strings.Join(texts, "; ")
}

// some lists names, of many the first ones.
func some(names []string) string {
	const most = 8
	if n := len(names); n > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), n-most)
	}
	return strings.Join(names, ", ")
}

// add puts what another one names with what this one does.
func (l *UntrackedError) add(o *UntrackedError) {
	for _, n := range o.Names {
		if !slices.Contains(l.Names, n) {
			l.Names = append(l.Names, n)
		}
		if why := o.Why[n]; why != "" && l.Why == nil {
			l.Why = map[string]string{n: why}
		} else if why != "" {
			l.Why[n] = why
		}
	}
	if l.Since.IsZero() || o.Since.Before(l.Since) {
		l.Since = o.Since
	}
}

// KeepUntracked keeps that moments lack something from a time on, until a newer point is there. It returns
// nil where that is known already.
func (m *Moment) KeepUntracked(ctx context.Context, list []fold.Untracked, since time.Time) (*UntrackedError, error) {
	l := &UntrackedError{Point: m.Point.ID, Since: since, Cluster: m.Point.Cluster}
	known, err := UntrackedSince(ctx, m.Runner, m.Point, false)
	if err != nil {
		return nil, err
	}
	for _, u := range list {
		if known == nil || !slices.Contains(known.Names, u.Name) {
			l.add(&UntrackedError{Names: []string{u.Name}, Why: map[string]string{u.Name: u.Why}, Since: since})
		}
	}
	if len(l.Names) == 0 {
		return nil, nil
	}
	name := UntrackedMark + m.Point.ID
	for n := 2; ; n++ {
		err := m.Runner.Store.PutMark(ctx, m.Point.Cluster, name, l)
		if !errors.Is(err, blob.ErrExists) || n > 1000 {
			return l, err
		}
		name = fmt.Sprintf("%s%s-%d", UntrackedMark, m.Point.ID, n)
	}
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
		if what != UntrackedMark+newest.ID && !strings.HasPrefix(what, UntrackedMark+newest.ID+"-") {
			if forget {
				old = append(old, what)
			}
			return nil
		}
		var l UntrackedError
		if err := read(&l); err != nil {
			return nil // the scrub tells of it
		}
		if found == nil {
			found = &UntrackedError{Cluster: newest.Cluster, Point: newest.ID}
		}
		found.add(&l)
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

// Untracked lists what was renamed, after the point, to a name that the point's scope chooses, as its content
// before that is not known, and what was changed in a way that is not understood.
func (m *Moment) Untracked(ctx context.Context) ([]fold.Untracked, error) {
	if m.Model.Traits().Commands || len(m.Point.Scope) == 0 && !m.holdsUnknown() {
		return nil, nil
	}
	var out []fold.Untracked
	for _, s := range m.Point.Shards {
		plan, err := m.Plan(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		for _, u := range plan.Untracked() {
			if !slices.ContainsFunc(out, func(o fold.Untracked) bool { return o.Name == u.Name }) {
				out = append(out, u)
			}
		}
	}
	return out, nil
}

// holdsUnknown reports whether the log after the point holds changes that are not understood, by its headers.
func (m *Moment) holdsUnknown() bool {
	for _, list := range m.Segments {
		if slices.ContainsFunc(list, func(h journal.Header) bool { return h.Unknown > 0 }) {
			return true
		}
	}
	return false
}

// NotUnderstood lists what the moment lacks because it was changed in a way that is not understood. Where the log
// holds no such change it is not read.
func (m *Moment) NotUnderstood(ctx context.Context) ([]fold.Untracked, error) {
	if !m.holdsUnknown() {
		return nil, nil
	}
	list, err := m.Untracked(ctx)
	return slices.DeleteFunc(list, func(u fold.Untracked) bool { return u.Why == "" }), err
}

// known returns which names the logs of all shards tell of: what the other shards hold of one is not all of it.
func (m *Moment) known(ctx context.Context) (func(name string) bool, error) {
	if !m.Sharded() {
		return func(string) bool { return true }, nil
	}
	list, err := m.NotUnderstood(ctx)
	return func(name string) bool {
		return !slices.ContainsFunc(list, func(u fold.Untracked) bool { return u.Name == name })
	}, err
}

// WarnUntracked warns of what a moment lacks because it came by its name late, or because of what is not understood.
func WarnUntracked(ctx context.Context, e *run.Runner, m *Moment) {
	list, err := m.Untracked(ctx)
	if err != nil {
		return // whoever reads the moment meets it
	}
	for i := range list {
		if list[i].Why != "" {
			list[i].Why += ", and moments before that have it"
		}
	}
	if len(list) > 0 {
		e.Emit(run.Warning, "not in it: %s", WhyUntracked(list,
			"renamed to a protected name after point "+m.Point.ID+", and what it held before was not protected"))
	}
}
