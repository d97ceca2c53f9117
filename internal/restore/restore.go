// Package restore puts a moment onto a cluster.
//
//	plan.go      what will be done: NewPlan
//	restore.go   Plan.Run, namespace by namespace
//	choose.go    which records
//	merge.go     records put onto what is there
//	staged.go    content is written beside, read back, and then takes its name
//	inplace.go   content is changed where it is (key-value clusters)
//	replay.go    a log of commands is carried out
//	settings.go  users, roles, templates: what is set for the whole cluster
//	damage.go    what of damaged content can be restored
//	scratch.go   OnScratch: a moment is made on a scratch server, to be read there
package restore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Restored is what a restore did to one namespace.
type Restored struct {
	From     string    `json:"from"`
	To       string    `json:"to"`
	Records  int64     `json:"records"`
	Bytes    int64     `json:"bytes"`
	Root     tree.Hash `json:"root"`
	Verified bool      `json:"verified"` // read back: content, indexes and options are equal
	Replaced bool      `json:"replaced"`
	// Merged: records were put onto what is there; Records, Bytes and Effect are of those.
	Merged bool           `json:"merged,omitempty"`
	Effect *Effect        `json:"effect,omitempty"`
	Took   record.Seconds `json:"took_seconds"`
	// Expired counts records whose time had come since; they do not come back.
	Expired int64 `json:"expired,omitempty"`
	// Replayed: commands of the log were carried out on what was read back.
	Replayed bool `json:"replayed,omitempty"`
	// Lost says which records are lost in the store and were left out.
	Lost []string `json:"lost,omitempty"`
	// Failed says why it was not restored; Left that it was not tried.
	Failed string `json:"failed,omitempty"`
	Left   bool   `json:"left,omitempty"`
}

// Note returns what became of what was planned, as a run keeps it.
func Note(done []Restored, planned []store.RunRestored) []store.RunRestored {
	by := map[string]*Restored{}
	for i := range done {
		if d := &done[i]; d.Failed == "" && !d.Left {
			by[d.To] = d
		}
	}
	for i := range planned {
		p := &planned[i]
		d := by[p.To]
		if d == nil {
			continue
		}
		p.Root, p.Replayed, p.Records, p.Bytes = d.Root, d.Replayed, d.Records, d.Bytes
		if d.Replayed {
			p.Root = tree.Hash{}
		}
	}
	return planned
}

// Run does the restore. Each namespace is written beside, read back and
// compared, and only then takes its name, in one step: what is there under the
// name is whole, old or new. One that cannot be restored does not keep the
// others from it: what became of each is given, also beside an error.
func (p *Plan) Run(ctx context.Context) ([]Restored, error) {
	if c := p.Conflicts(); len(c) > 0 && (p.opt.Conflict == Refuse || p.opt.Conflict == "") {
		return nil, remedy.With(fmt.Errorf("%w: %s is there already, with %d records", run.ErrRefused, c[0].To,
			c[0].ThereRecords),
			remedy.Beside, c[0].From)
	}
	if len(p.Stays) > 0 {
		p.runner.Emit(run.Warning, "%s there that were not at that time, and stay as they are: %s",
			run.Count(int64(len(p.Stays)), "namespace"), joinSome(p.Stays[:min(5, len(p.Stays))], len(p.Stays)))
	}
	var names []string
	for _, ns := range p.targets() {
		names = append(names, ns.Name)
	}
	var left []string
	var err error
	g, gradual := p.writer.(engine.InPlaceWriter)
	if gradual {
		// Before they are taken over, those of which a restore was cut short.
		if left, err = g.Stages(ctx); err != nil {
			return nil, err
		}
	}
	claims, err := p.writer.Reserve(ctx, names)
	if errors.Is(err, engine.ErrClaimed) {
		return nil, fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil {
		return nil, err
	}
	p.claims = claims
	for _, n := range claims.TakenOver() {
		if !gradual {
			p.runner.Emit(run.Warning, "a restore of %s was cut short before this one", n)
		}
	}
	for _, n := range left {
		p.runner.Emit(run.Warning, "a restore of %s was cut short: what is there is neither old nor new", n)
	}
	first := p.Moment.Model.Traits().SettingsFirst
	if first {
		if err := p.putSettings(ctx, p.writer); err != nil {
			return nil, errors.Join(err, claims.Release(context.WithoutCancel(ctx), false))
		}
	}
	var out []Restored
	if gradual {
		out, err = p.runInPlace(ctx, g)
	} else {
		out, err = p.runStaged(ctx, p.writer.(engine.StagingWriter))
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	if !gradual {
		for _, n := range names {
			_ = claims.End(end, n)
		}
	}
	if rerr := claims.Release(end, true); rerr != nil {
		p.runner.Emit(run.Warning, "the target still carries the mark of this restore, which ends by itself: %v", rerr)
	}
	if err == nil && p.Replays && len(p.settings) > 0 {
		p.runner.Emit(run.Note, "cluster-wide settings are as of the point, but for what the log tells of them")
	}
	if err != nil || first {
		return out, err
	}
	return out, p.putSettings(ctx, p.writer)
}

// targets are the namespaces that a restore writes to.
func (p *Plan) targets() []record.Namespace {
	var names []record.Namespace
	for _, it := range p.Items {
		names = append(names, it.namespace())
	}
	return names
}

// tally gathers what became of items.
type tally struct {
	out    []Restored
	failed []string
	done   int
	err    error // the last of them
}

func (t *tally) add(r Restored, err error) {
	if err == nil {
		t.done++
		t.out = append(t.out, r)
		return
	}
	r.Verified, r.Failed = false, err.Error()
	t.out, t.err = append(t.out, r), err
	t.failed = append(t.failed, r.To+": "+err.Error())
}

// result gives what became of each. The error says of several what failed; of one alone it
// is its own.
func (t *tally) result(p *Plan) ([]Restored, error) {
	lost := slices.ContainsFunc(t.out, func(r Restored) bool { return len(r.Lost) > 0 })
	switch {
	case len(t.failed) == 0 && lost:
		return t.out, fmt.Errorf("%w: what is damaged in the store was left out", run.ErrIncomplete)
	case len(t.failed) == 0 && len(p.KeysMissing) > 0:
		return t.out, fmt.Errorf("%w: %s not there then", run.ErrIncomplete,
			run.Count(int64(len(p.KeysMissing)), "key"))
	case len(t.failed) == 0 || len(p.Items) == 1:
		return t.out, t.err
	}
	return t.out, fmt.Errorf("%w: %d of %s restored and %d not: %s", run.ErrIncomplete, t.done,
		run.Count(int64(len(p.Items)), "namespace"), len(t.failed), strings.Join(t.failed, "; "))
}

// each restores the items one after the other, and gives what became of each.
func (p *Plan) each(ctx context.Context, restore func(Item) (Restored, error)) ([]Restored, error) {
	var t tally
	for i, it := range p.Items {
		r, err := Restored{From: it.From, To: it.To}, fmt.Errorf("%w: %s", run.ErrRefused, it.Cannot)
		if it.Cannot == "" {
			r, err = restore(it)
			r.Lost = it.Lost
			if moment.IsDamage(err) && ctx.Err() == nil {
				err = p.Moment.WithAlternatives(ctx, it.From, err)
			}
		}
		t.add(r, err)
		if err == nil {
			continue
		}
		if ctx.Err() == nil && !errors.Is(err, engine.ErrClaimLost) {
			p.runner.Emit(run.Warning, "%s was not restored: %v", it.To, err)
			continue
		}
		for _, l := range p.Items[i+1:] {
			t.out = append(t.out, Restored{From: l.From, To: l.To, Left: true})
		}
		return t.out, err
	}
	return t.result(p)
}
