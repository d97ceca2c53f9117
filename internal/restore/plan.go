package restore

import (
	"context"
	"fmt"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Options say what to restore and how.
type Options struct {
	Pattern string
	// Rename maps names, or beginnings of names ended by '.' or '*', to
	// others; of several that fit a name the longest counts.
	Rename map[string]string
	// Salvage restores what can be read of namespaces that are damaged in the
	// store, and names what cannot.
	Salvage bool
	// Except are patterns of namespaces that are left out.
	Except []string
	// Replace allows namespaces that are there to be replaced.
	Replace bool
	// Settings puts users and roles back too: those that are missing, and with
	// Replace also those that differ. None is taken away.
	Settings bool
	// Leases says what becomes of records bound to clients' sessions: "recreate"
	// (when empty), "drop" the bond and keep the record, or "skip" the record.
	Leases string
	// keepDeferred leaves expiries put off that were put off to carry out a log.
	keepDeferred bool
}

// Item is one namespace of a restore's plan.
type Item struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Records int64  `json:"records"`
	Bytes   int64  `json:"bytes"`
	// There says that the target has a namespace of this name now, with so
	// many records as the server estimates.
	There        bool  `json:"there"`
	ThereRecords int64 `json:"there_records"`
	// Cannot says why the namespace cannot be restored as asked.
	Cannot string `json:"cannot,omitempty"`
	// Lost says which records are lost and left out, where the rest is restored.
	Lost  []string `json:"lost,omitempty"`
	space moment.NamespaceState
}

// Plan is what a restore will do.
type Plan struct {
	Moment  *moment.Moment `json:"-"`
	Items   []Item         `json:"items"`
	Changes int64          `json:"changes"` // log changes folded in
	// InPlace: the target is changed in place, little by little.
	InPlace bool `json:"gradual,omitempty"`
	// Replays: commands of the log are carried out on the target afterwards.
	Replays bool `json:"replays,omitempty"`
	// Settings counts the users and roles to be put back.
	Settings int64 `json:"settings,omitempty"`
	settings []moment.NamespaceState
	support  []moment.NamespaceState
	replayed map[string]bool // namespaces with commands to carry out
	target   engine.Cluster  // as applications see it
	writer   engine.Writer
	opt      Options
	scratch  *store.Scratch
	claims   *engine.Claims
	cause    error               // why a namespace cannot be read, the last of them
	lost     map[string][]string // by namespace, which records cannot be read
	runner   *run.Runner
}

// NewPlan works out what a restore will do, and builds the content as it
// was, without touching the target. Close must be called on the plan.
func NewPlan(ctx context.Context, e *run.Runner, m *moment.Moment, target engine.Cluster, opt Options) (*Plan, error) {
	if err := moment.SameEngine(m.Point, target, "the target"); err != nil {
		return nil, err
	}
	names, err := m.Names(ctx)
	if err != nil {
		return nil, err
	}
	moment.WarnUntracked(ctx, e, m)
	found := false
	for _, n := range names {
		found = found || address.Match(opt.Pattern, n)
	}
	if !found {
		return nil, m.Unknown(ctx, opt.Pattern, names)
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	p := &Plan{Moment: m, target: engine.Whole(target), opt: opt, scratch: x, runner: e}
	if p.writer, err = target.Writer(ctx); err == nil {
		err = p.build(ctx)
	}
	if err != nil {
		x.Close()
		return nil, err
	}
	return p, nil
}

func (p *Plan) build(ctx context.Context) error {
	base := p.Moment
	if p.Replays = base.NeedsServer(); p.Replays {
		base = base.AtPoint()
	}
	p.runner.Emit(run.Step, "building the state of %s", base)
	spaces, changes, err := base.Trees(ctx, p.scratch, p.scratch, p.chosen)
	if moment.IsDamage(err) && ctx.Err() == nil {
		spaces, changes, err = p.readable(ctx, base)
	} else if err == nil && p.opt.Salvage {
		err = p.salvageAll(ctx, base, spaces)
	}
	if err != nil {
		return err
	}
	if len(spaces) == 0 && len(p.Items) > 0 {
		return fmt.Errorf("nothing of what was asked for can be read: %w%s", p.cause, p.Moment.Alternatives(ctx, p.Items[0].From))
	}
	if len(spaces) == 0 && !p.Replays {
		return fmt.Errorf("%s: nothing that fits %q had any records then", base, p.opt.Pattern)
	}
	p.Changes = changes
	if p.support, err = base.OfKind(ctx, moment.SupportKind, p.scratch, p.scratch); err != nil {
		return err
	}
	if p.Replays {
		if err := p.planReplay(ctx); err != nil {
			return err
		}
	}
	gradual, isGradual := p.writer.(engine.Gradual)
	p.InPlace = isGradual
	if p.opt.Settings {
		if !p.Moment.Point.Settings {
			return fmt.Errorf("%w: users and roles are not in point %s; they are protected where the cluster's configuration says settings: true", run.ErrRefused, p.Moment.Point.ID)
		}
		if p.settings, err = base.OfKind(ctx, moment.SettingsKind, p.scratch, p.scratch); err != nil {
			return err
		}
		for _, s := range p.settings {
			p.Settings += s.Root.Records
		}
	}
	var now []engine.Namespace
	if !isGradual {
		if now, err = p.target.Namespaces(ctx); err != nil {
			return err
		}
	}
	used := map[string]bool{}
	taken := map[string]string{}
	for _, s := range spaces {
		it := Item{From: s.Name, To: s.Name, Records: s.Root.Records, Bytes: s.Root.Bytes, Lost: p.lost[s.Name], space: s}
		if from, to, ok := moment.Renamed(p.opt.Rename, s.Name); ok {
			it.To = to
			used[from] = true
		}
		if other, twice := taken[it.To]; twice {
			return fmt.Errorf("both %s and %s would be restored as %s", other, s.Name, it.To)
		}
		taken[it.To] = s.Name
		if err := p.Moment.Model.CheckName(it.To); err != nil {
			return fmt.Errorf("%s cannot be restored as it is to be called: %w", s.Name, err)
		}
		if it.space, err = p.withoutSessions(ctx, s); err != nil {
			return err
		}
		it.Records, it.Bytes = it.space.Root.Records, it.space.Root.Bytes
		if isGradual {
			ns := s.Namespace
			ns.Name = it.To
			if it.ThereRecords, err = gradual.Occupied(ctx, ns); err != nil {
				return err
			}
			it.There = it.ThereRecords > 0
		}
		for _, ns := range now {
			if ns.Name == it.To {
				it.There, it.ThereRecords = true, ns.Records
			}
		}
		if it.There && s.Kind == "timeseries" {
			it.Cannot = fmt.Sprintf("%s is there, and servers neither rename nor replace a time-series collection in one step; restore beside it with --rename %s=NEWNAME, or drop it first", it.To, s.Name)
		}
		p.Items = append(p.Items, it)
	}
	for from := range p.opt.Rename {
		if !used[from] {
			var names []string
			for _, s := range spaces {
				names = append(names, s.Name)
			}
			return fmt.Errorf("--rename %s: %w", from, moment.UnknownName(from, "what is being restored", names))
		}
	}
	return nil
}

// chosen reports whether a namespace is to be restored.
func (p *Plan) chosen(name string) bool {
	if !address.Match(p.opt.Pattern, name) {
		return false
	}
	for _, e := range p.opt.Except {
		if address.Match(e, name) {
			return false
		}
	}
	return true
}

// Close gives temporary files back.
func (p *Plan) Close() { p.scratch.Close() }

// Conflicts lists the items whose target is there.
func (p *Plan) Conflicts() []Item {
	var out []Item
	for _, it := range p.Items {
		if it.There {
			out = append(out, it)
		}
	}
	return out
}
