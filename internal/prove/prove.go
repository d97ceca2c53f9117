// Package prove tries on a user's own cluster what Dexamen assumes about its servers: each kind of change is made in a
// scratch part of the cluster, captured, folded and compared with a scan; then all of it is restored, beside and in
// place, and read back.
package prove

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dexamen/internal/capture"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// Verdicts of a [Finding].
const (
	Holds    = "holds"
	Fails    = "does not hold"
	NotKnown = "not known"
)

// Finding is what trying an assumption showed.
type Finding struct {
	ID      string `json:"id"`
	Says    string `json:"says"`
	Source  string `json:"source"`
	Verdict string `json:"verdict"`
	Seen    string `json:"seen,omitempty"` // what there was instead, or why it is not known
}

// prover is one run.
type prover struct {
	e      *run.Runner
	name   string
	c      engine.Cluster
	t      *engine.Trials
	report func(Finding)
	fails  int
}

// Run tries all that an engine assumes on a cluster, and reports each finding as it comes. What was made on the cluster
// is removed again, whatever happens; nothing is kept but in memory. [run.ErrDiffers] is returned where one does
// not hold.
func Run(ctx context.Context, e *run.Runner, name string, c engine.Cluster, t *engine.Trials,
	report func(Finding)) (err error) {
	defer func() {
		clean := context.WithoutCancel(ctx)
		if cerr := t.Clean(clean); cerr != nil {
			err = errors.Join(err, fmt.Errorf("removing what was made for the trials (%s): %w", t.Part, cerr))
		}
	}()
	own := *e
	p := &prover{e: &own, name: name, c: c, t: t, report: report}
	if err := p.begin(ctx); err != nil {
		return err
	}
	all := false
	if t.Together {
		if all, err = p.tryAll(ctx); err != nil {
			return err
		}
	}
	for _, trial := range t.List {
		if all {
			break
		}
		if err := p.try(ctx, trial); err != nil {
			return err
		}
	}
	if t.Snapshot.ID != "" {
		if err := p.snapshot(ctx); err != nil {
			return err
		}
	}
	if err := p.restores(ctx); err != nil {
		return err
	}
	if p.fails > 0 {
		return fmt.Errorf("what is assumed %w from what there is: %d of %d assumptions do not hold on this cluster, "+
			"so that its moments may not be what was there: keep to snapshots, and tell the makers of Dexamen what "+
			"was seen", run.ErrDiffers, p.fails, len(t.All()))
	}
	return nil
}

// begin makes a store in memory and a first point of the scratch part.
func (p *prover) begin(ctx context.Context) error {
	b := blob.NewMemory()
	if _, err := store.Create(ctx, b, store.CreateOptions{Tool: p.e.Tool, Plain: true}); err != nil {
		return err
	}
	s, err := store.Open(ctx, b, store.Options{})
	if err != nil {
		return err
	}
	p.e.Store = s
	if p.t.View == nil {
		p.e.Scope = address.Scope{p.t.Part}
	} else {
		p.c = p.t.View
	}
	return p.point(ctx)
}

func (p *prover) point(ctx context.Context) error {
	_, err := snapshot.Take(ctx, p.e, p.name, p.c)
	if err != nil {
		return fmt.Errorf("a snapshot of %s: %w", p.t.Part, err)
	}
	return nil
}

func (p *prover) found(t engine.Trial, verdict, seen string) {
	if verdict == Fails {
		p.fails++
	}
	p.report(Finding{ID: t.ID, Says: t.Says, Source: t.Source, Verdict: verdict,
		Seen: strings.Join(strings.Fields(seen), " ")})
}

// try does what a trial does, and sees whether the log told of it.
func (p *prover) try(ctx context.Context, t engine.Trial) error {
	refused := t.Do(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	seen, err := p.differs(ctx)
	if rolledOver(err) {
		p.found(t, NotKnown, err.Error())
		return p.anew(ctx, t)
	}
	if err != nil {
		return fmt.Errorf("trial %s: %w", t.ID, err)
	}
	if seen != "" {
		p.found(t, Fails, seen)
		return p.anew(ctx, t)
	}
	p.judge(t, refused)
	return nil
}

// tryAll does what all trials do, and sees whether the log told of all of it. Where it did not, nothing is reported,
// and what follows begins at a new point.
func (p *prover) tryAll(ctx context.Context) (held bool, err error) {
	refused := make([]error, len(p.t.List))
	for i, t := range p.t.List {
		if refused[i] = t.Do(ctx); ctx.Err() != nil {
			return false, ctx.Err()
		}
	}
	seen, err := p.differs(ctx)
	if seen != "" || rolledOver(err) {
		return false, p.anew(ctx, p.t.List...)
	}
	if err != nil {
		return false, err
	}
	for i, t := range p.t.List {
		p.judge(t, refused[i])
	}
	return true, nil
}

// judge reports a trial of which the log told what there is.
func (p *prover) judge(t engine.Trial, refused error) {
	if refused != nil {
		p.found(t, NotKnown, "it could not be done: "+refused.Error())
		return
	}
	p.found(t, Holds, "")
}

// anew begins at a new point, so that what comes after is not measured by what was before. The gap before the point
// is told of once. Where none can be taken, what some trials did is undone.
func (p *prover) anew(ctx context.Context, done ...engine.Trial) error {
	if err := p.point(ctx); err != nil {
		for _, t := range done {
			if t.Undo != nil {
				err = errors.Join(err, t.Undo(ctx))
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if again := p.point(ctx); again != nil {
			return err
		}
	}
	_, err := capture.Run(ctx, p.e, p.name, p.c, capture.Options{})
	if errors.Is(err, run.ErrIncomplete) {
		return nil
	}
	return err
}

// rolledOver reports whether a log had no room for what was done, which says nothing of what it tells.
func rolledOver(err error) bool {
	return errors.Is(err, engine.ErrLogLost) && !errors.Is(err, engine.ErrLogEnds)
}

// differs captures the log and compares the moment that it leads to with what there is; it returns what is not the
// same, empty where all is.
func (p *prover) differs(ctx context.Context) (string, error) {
	if _, err := capture.Run(ctx, p.e, p.name, p.c, capture.Options{}); err != nil {
		if ctx.Err() != nil || errors.Is(err, engine.ErrUnreachable) || errors.Is(err, engine.ErrNoLog) ||
			rolledOver(err) {
			return "", err
		}
		return "its log: " + err.Error(), nil
	}
	m, err := p.latest(ctx)
	if err != nil {
		return "the log: " + err.Error(), nil
	}
	return p.compare(ctx, m, nil)
}

func (p *prover) latest(ctx context.Context) (*moment.Moment, error) {
	return moment.Resolve(ctx, p.e, p.name, address.When{Kind: address.Latest}, restore.OnScratch{})
}

// compare returns how what there is differs from a moment, by its names or by others.
func (p *prover) compare(ctx context.Context, m *moment.Moment, rename map[string]string) (string, error) {
	names, err := m.Names(ctx)
	if err != nil {
		return "the log: " + err.Error(), nil
	}
	there := map[string]bool{}
	for _, n := range names {
		there[n] = true
	}
	now, err := engine.ApplicationView(p.c).Namespaces(ctx)
	if err != nil {
		return "", err
	}
	for _, ns := range now {
		if address.Match(p.t.Part, ns.Name) && ns.Skip == "" && !there[ns.Name] {
			return ns.Name + " is there, and nothing told of it", nil
		}
	}
	if len(names) == 0 {
		return "", nil
	}
	diffs, err := verify.Live(ctx, p.e, m, p.c, p.t.Part, rename, 3)
	if err != nil {
		if errors.Is(err, engine.ErrUnreachable) || ctx.Err() != nil {
			return "", err
		}
		return err.Error(), nil
	}
	var out []string
	for i := range diffs {
		d := &diffs[i]
		if d.Same() {
			continue
		}
		what := fmt.Sprintf("%s: %d missing, %d more, %d changed of %d records", d.A, d.Missing, d.Extra, d.Changed,
			d.RecordsA)
		if d.B == "" {
			what = d.A + " is not there"
		}
		for _, l := range d.DefinitionA {
			what += "; by the log " + l
		}
		for _, l := range d.DefinitionB {
			what += "; by the listing " + l
		}
		for _, k := range d.Keys {
			what += "; " + k.Kind + " " + k.Label
		}
		out = append(out, what)
	}
	return strings.Join(out, ". "), nil
}

// snapshot makes a new point, and compares it with what there is.
func (p *prover) snapshot(ctx context.Context) error {
	if err := p.anew(ctx); err != nil {
		return err
	}
	m, err := p.latest(ctx)
	if err != nil {
		return err
	}
	seen, err := p.compare(ctx, m, nil)
	if err != nil {
		return err
	}
	if seen != "" {
		p.found(p.t.Snapshot, Fails, seen)
		return nil
	}
	p.found(p.t.Snapshot, Holds, "")
	return nil
}

// restores puts all of it beside what is there, and then in its place.
func (p *prover) restores(ctx context.Context) error {
	m, err := p.latest(ctx)
	if err != nil {
		return err
	}
	put := func(t engine.Trial, o restore.Options, rename map[string]string) error {
		plan, err := restore.NewPlan(ctx, p.e, m, p.c, o)
		if err == nil {
			_, err = plan.Run(ctx)
			plan.Close()
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			p.found(t, Fails, err.Error())
			return nil
		}
		seen, err := p.compare(ctx, m, rename)
		if err != nil {
			return err
		}
		verdict := Holds
		if seen != "" {
			verdict = Fails
		}
		p.found(t, verdict, seen)
		return nil
	}
	rename := map[string]string{p.t.Part: p.t.Beside}
	if err := put(p.t.RestoreBeside, restore.Options{Pattern: p.t.Part, Rename: rename}, rename); err != nil {
		return err
	}
	if err := p.t.Spoil(ctx); err != nil {
		p.found(p.t.RestoreInPlace, NotKnown, "it could not be done: "+err.Error())
		return nil
	}
	return put(p.t.RestoreInPlace, restore.Options{Pattern: p.t.Spoiled, Conflict: restore.Replace}, nil)
}
