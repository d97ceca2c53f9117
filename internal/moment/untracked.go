package moment

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/fold"
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
	var texts []string
	whys, by := l.byReason()
	for _, why := range whys {
		if why != "" {
			texts = append(texts, some(by[why])+": "+why)
		} else {
			texts = append(texts, some(by[why])+
				" was renamed to a protected name, and what it held before is not in the store")
		}
	}
	return fmt.Sprintf("%s: no moment from %s on has it", strings.Join(texts, "; "), run.FormatTime(l.Since))
}

// byReason groups names by why moments lack them.
func (l *UntrackedError) byReason() (whys []string, by map[string][]string) {
	by = map[string][]string{}
	for _, n := range l.Names {
		why := l.Why[n]
		if by[why] == nil {
			whys = append(whys, why)
		}
		by[why] = append(by[why], n)
	}
	return whys, by
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
	if m.Model.Traits().Commands || len(m.Point.Scope) == 0 && !m.HoldsUnknown() {
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

// HoldsUnknown reports whether the log after the point holds changes that are not understood, as its headers tell.
func (m *Moment) HoldsUnknown() bool {
	for _, list := range m.Segments {
		for i := range list {
			if list[i].Unknown > 0 {
				return true
			}
		}
	}
	return false
}

// known returns which names the logs of all shards tell of: what the other shards hold of one is not all of it.
func (m *Moment) known(ctx context.Context) (func(name string) bool, error) {
	if !m.Sharded() || !m.HoldsUnknown() {
		return func(string) bool { return true }, nil
	}
	list, err := m.Untracked(ctx)
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
	var l UntrackedError
	for _, u := range list {
		l.add(&UntrackedError{Names: []string{u.Name}, Why: map[string]string{u.Name: u.Why}})
	}
	whys, by := l.byReason()
	for _, why := range whys {
		if why != "" {
			e.Emit(run.Warning, "not in it: %s: %s; moments before that have it", some(by[why]), why)
			continue
		}
		e.Emit(run.Warning,
			"not in it: %s: renamed to a protected name after point %s, and what it held before was not protected",
			some(by[why]), m.Point.ID)
	}
}
