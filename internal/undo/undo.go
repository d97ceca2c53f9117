package undo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

// Item is what undoing a restore does to one namespace.
type Item struct {
	Name string `json:"name"`
	// Remove: the restore made it, and it goes. Otherwise what was there comes back.
	Remove bool `json:"remove,omitempty"`
	// Gone: it is not there any more, so that nothing is to be removed.
	Gone bool `json:"gone,omitempty"`
	// Absent: nothing of this name is there now.
	Absent bool `json:"absent,omitempty"`
	// Changed: it is not as the restore left it; somebody has written to it since, or the
	// restore was cut short.
	Changed bool `json:"changed,omitempty"`
	// Unknown: whether it has changed since cannot be told, as the restore carried out a log.
	Unknown bool  `json:"unknown,omitempty"`
	Records int64 `json:"records"` // there now
}

// Plan is what undoing a restore will do.
type Plan struct {
	Of    *store.Run `json:"-"`
	Items []Item     `json:"items"`
	// Back is the restore of what was there; nil where nothing was.
	Back *restore.Plan `json:"-"`

	runner *run.Runner
	target engine.Cluster
	writer engine.Writer
	kinds  map[string]engine.Namespace // that are removed
}

// New works out what undoing a run will do, without changing anything. Close must be called on
// the plan. Target is a connection to the cluster that was restored onto.
func New(ctx context.Context, e *run.Runner, r *store.Run, target engine.Cluster) (*Plan, error) {
	if r.Kind != store.RunRestore && r.Kind != store.RunUndo {
		return nil, fmt.Errorf("%w: run %s is a %s, and only restores are undone", run.ErrRefused, r.ID, r.Kind)
	}
	if len(r.Restored) == 0 {
		return nil, fmt.Errorf("%w: run %s changed nothing that could be undone", run.ErrRefused, r.ID)
	}
	if by, err := undone(ctx, e, r); err != nil {
		return nil, err
	} else if by != "" {
		return nil, fmt.Errorf("%w: run %s was undone already, by %s, which can be undone itself", run.ErrRefused,
			r.ID, by)
	}
	p := &Plan{Of: r, runner: e, target: engine.ApplicationView(target), kinds: map[string]engine.Namespace{}}
	var err error
	if p.writer, err = target.Writer(ctx); err != nil {
		return nil, err
	}
	var back []string
	for _, d := range r.Restored {
		if d.There {
			back = append(back, d.To)
		}
	}
	if len(back) > 0 {
		if r.Kept == "" {
			return nil, fmt.Errorf("%w: what was there before run %s is not kept", run.ErrRefused, r.ID)
		}
		ad, err := address.Parse(r.Kept, time.Now())
		if err != nil {
			return nil, err
		}
		m, err := moment.Resolve(ctx, e, ad.Cluster, ad.When, restore.OnScratch{})
		if err != nil {
			return nil, fmt.Errorf("what was there before run %s can no longer be had: %w", r.ID, err)
		}
		p.Back, err = restore.NewPlan(ctx, e, m, target, restore.Options{Pattern: back[0], Also: back[1:],
			Conflict: restore.Replace})
		if err != nil {
			return nil, err
		}
	}
	if err := p.items(ctx); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// undone returns the run by which a run was undone; empty where it was not.
func undone(ctx context.Context, e *run.Runner, r *store.Run) (string, error) {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: r.Cluster, Kinds: []string{store.RunUndo}})
	if err != nil {
		return "", err
	}
	for _, u := range runs {
		if u.Undoes == r.ID && u.Good() {
			return u.ID, nil
		}
	}
	return "", nil
}

// items looks at what is there now.
func (p *Plan) items(ctx context.Context) error {
	x, err := p.runner.Store.NewScratch(p.runner.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	list, err := p.target.Namespaces(ctx)
	if err != nil {
		return err
	}
	for _, d := range p.Of.Restored {
		it := Item{Name: d.To, Remove: !d.There}
		ns, err := p.namespace(list, d.To)
		if err != nil {
			it.Gone, it.Absent = it.Remove, true
			p.Items = append(p.Items, it)
			continue
		}
		var root tree.Root
		if ns.Kind.HasRecords() {
			if root, err = moment.ReadBack(ctx, p.runner, x, p.target, ns, tree.Root{}); err != nil {
				return err
			}
		}
		if _, inPlace := p.writer.(engine.InPlaceWriter); inPlace && root.Records == 0 {
			it.Gone, it.Absent = it.Remove, true
		}
		it.Records, it.Unknown = root.Records, d.Replayed
		it.Changed = ns.Kind.HasRecords() && root.Hash != d.Root && !d.Replayed
		if it.Remove {
			p.kinds[d.To] = ns
		}
		p.Items = append(p.Items, it)
	}
	return nil
}

var errGone = errors.New("it is not there")

// namespace returns a namespace as it is there; where keys have any name, one that has none
// yet is empty.
func (p *Plan) namespace(list []engine.Namespace, name string) (engine.Namespace, error) {
	if i := slices.IndexFunc(list, func(n engine.Namespace) bool { return n.Name == name }); i >= 0 {
		return list[i], nil
	}
	if _, ok := p.writer.(engine.InPlaceWriter); ok {
		drv, err := engine.ForName(p.target.Engine())
		if err != nil {
			return engine.Namespace{}, err
		}
		kind, def := drv.Model().Implied(name)
		return engine.Namespace{Namespace: record.Namespace{Name: name, Kind: kind, Definition: def}}, nil
	}
	return engine.Namespace{}, errGone
}

// Close removes temporary files.
func (p *Plan) Close() {
	if p.Back != nil {
		p.Back.Close()
	}
}

// Changed names what is not as the restore left it.
func (p *Plan) Changed() (out []string) {
	for _, it := range p.Items {
		if it.Changed && !it.Absent {
			out = append(out, it.Name)
		}
	}
	return out
}

// Names returns what is there and will be changed or removed.
func (p *Plan) Names() (out []string) {
	for _, it := range p.Items {
		if !it.Absent {
			out = append(out, it.Name)
		}
	}
	return out
}

// Run undoes the restore: what was there comes back, read back and compared, and what the
// restore made goes.
func (p *Plan) Run(ctx context.Context) ([]store.RunRestored, error) {
	var out []store.RunRestored
	if p.Back != nil {
		done, err := p.Back.Run(ctx)
		for _, d := range done {
			r := store.RunRestored{From: d.From, To: d.To, There: true, Root: d.Root, Replayed: d.Replayed}
			if d.Replayed {
				r.Root = tree.Hash{}
			}
			out = append(out, r)
		}
		if err != nil {
			return out, err
		}
	}
	var failed []string
	var last error
	for _, it := range p.Items {
		if !it.Remove || it.Gone {
			continue
		}
		p.runner.Emit(run.Step, "removing %s", it.Name)
		err := restore.Remove(ctx, p.runner, p.writer, p.target, p.kinds[it.Name])
		if err != nil {
			last = err
			failed = append(failed, it.Name+": "+err.Error())
			continue
		}
		out = append(out, store.RunRestored{To: it.Name, There: true})
	}
	if len(failed) > 1 {
		return out, fmt.Errorf("%w: not removed: %s", run.ErrIncomplete, strings.Join(failed, "; "))
	}
	return out, last
}
