package restore

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Options say what to restore and how.
type Options struct {
	Pattern string
	// Also are patterns of more namespaces, each of which must fit one.
	Also []string
	// Rename maps names, or beginnings of names ended by '.' or '*', to
	// others; of several that fit a name the longest counts.
	Rename map[string]string
	// Salvage restores what can be read of namespaces that are damaged in the
	// store, and names what cannot.
	Salvage bool
	// Except are patterns of namespaces that are left out.
	Except []string
	// Conflict is what is done where a namespace is there already (default [Refuse]).
	Conflict Conflict
	// Records chooses records of what is restored.
	Records Records
	// Settings puts back what is set for the whole cluster too: those that are missing, and with
	// [Replace] also those that differ. None is taken away.
	Settings bool
	// OnReady, where set, hears of each namespace when it can be read as it is to be.
	OnReady func(name string)
	// Chosen are choices that only the engine has ([engine.RestoreOption]), by name.
	Chosen map[string]string
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
	// Effect is what becomes of the records that are there; nil where none are, or they are
	// not to be touched.
	Effect *Effect `json:"effect,omitempty"`
	// Born says that the namespace came to be after the point: the log's commands make it.
	Born bool `json:"born,omitempty"`
	// Expired counts records whose time has come since; they do not come back.
	Expired int64 `json:"expired,omitempty"`
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
	// Settings counts the cluster-wide settings to be put back.
	Settings int64 `json:"settings,omitempty"`
	// Stays are namespaces of the target that were not there at the moment: where all is put
	// back in place, they stay as they are.
	Stays []string `json:"stays,omitempty"`
	// KeysMissing are keys that were asked for and are in no namespace of the moment.
	KeysMissing []string `json:"keys_missing,omitempty"`
	// ReadTook is how long it took to read what is there, ReadBytes how much that was.
	ReadTook  time.Duration `json:"-"`
	ReadBytes int64         `json:"-"`
	keysFound map[string]bool
	settings  []moment.NamespaceState
	support   []moment.NamespaceState
	replayed  map[string]bool // namespaces with commands to carry out
	target    engine.Cluster  // as applications see it
	writer    engine.Writer
	opt       Options
	scratch   *store.Scratch
	claims    *engine.Claims
	cause     error               // why a namespace cannot be read, the last of them
	lost      map[string][]string // by namespace, which records cannot be read
	runner    *run.Runner
}

// NewPlan works out what a restore will do, and builds the content as it
// was, without touching the target. Close must be called on the plan.
func NewPlan(ctx context.Context, e *run.Runner, m *moment.Moment, target engine.Cluster, opt Options) (*Plan, error) {
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	return NewPlanFrom(ctx, e, m, x, target, opt)
}

// NewPlanFrom is NewPlan of a moment whose content is in a scratch already, which is the
// plan's from then on.
func NewPlanFrom(ctx context.Context, e *run.Runner, m *moment.Moment, x *store.Scratch, target engine.Cluster,
	opt Options) (_ *Plan, err error) {
	defer func() {
		if err != nil {
			x.Close()
		}
	}()
	if err := moment.SameEngine(m.Point, target, "the target"); err != nil {
		return nil, err
	}
	names, err := m.Names(ctx)
	if err != nil {
		return nil, err
	}
	if opt.Conflict == Replace && !opt.Records.all() {
		return nil, fmt.Errorf("%w: replacing a namespace by some of its records would remove all others; merge puts "+
			"back those that are missing or differ, fill those that are missing", run.ErrRefused)
	}
	moment.WarnUntracked(ctx, e, m)
	for _, pattern := range append([]string{opt.Pattern}, opt.Also...) {
		if !slices.ContainsFunc(names, func(n string) bool { return address.Match(pattern, n) }) {
			return nil, m.Unknown(ctx, pattern, names)
		}
	}
	p := &Plan{Moment: m, target: engine.ApplicationView(target), opt: opt, scratch: x, runner: e,
		keysFound: map[string]bool{}}
	if p.writer, err = target.Writer(ctx); err == nil {
		err = p.build(ctx)
	}
	if err != nil {
		return nil, err
	}
	return p, nil
}

// build works out the items of the plan: what content there is, what is put back
// beside it, and where each namespace goes.
func (p *Plan) build(ctx context.Context) error {
	base := p.Moment
	if p.Replays = base.NeedsServer() && !p.opt.Conflict.keepsOthers() && p.opt.Records.all(); p.Replays {
		base = base.AtPoint()
	}
	states, err := p.readContent(ctx, base)
	if err != nil {
		return err
	}
	if p.support, err = base.OfKind(ctx, record.KindSupport, p.scratch, p.scratch); err != nil {
		return err
	}
	if p.Replays {
		if err := p.planReplay(ctx); err != nil {
			return err
		}
		states = append(states, p.born(states)...)
		moment.SortStates(states)
	}
	if p.opt.Settings {
		if err := p.readSettings(ctx, base); err != nil {
			return err
		}
	}
	now, err := p.present(ctx)
	if err != nil {
		return err
	}
	if err := p.checkRenames(states); err != nil {
		return err
	}
	from := map[string]string{} // by target name
	first := len(p.Items)
	for _, s := range states {
		it, err := p.item(ctx, s, now)
		if err != nil {
			return err
		}
		it.Born = p.Replays && !slices.ContainsFunc(p.Moment.Point.Namespaces,
			func(ns store.PointNamespace) bool { return ns.Name == s.Name })
		if other, twice := from[it.To]; twice {
			return fmt.Errorf("both %s and %s would be restored as %s", other, s.Name, it.To)
		}
		from[it.To] = s.Name
		p.Items = append(p.Items, it)
	}
	if err := p.lookTogether(ctx, p.Items[first:]); err != nil {
		return err
	}
	for i := first; i < len(p.Items); i++ {
		if err := p.lookBeyond(ctx, &p.Items[i]); err != nil {
			return err
		}
	}
	if err := p.checkRecords(); err != nil {
		return err
	}
	if p.Replays {
		if err := p.checkReplay(ctx); err != nil {
			return err
		}
	}
	if err := p.findStays(ctx); err != nil {
		return err
	}
	return p.compare(ctx)
}

// findStays names what a restore of everything in place leaves that was not there.
func (p *Plan) findStays(ctx context.Context) error {
	whole := p.opt.Pattern == "" || p.opt.Pattern == "*"
	if !whole || p.opt.Conflict != Replace || len(p.opt.Rename) > 0 || len(p.opt.Except) > 0 {
		return nil
	}
	now, err := p.target.Namespaces(ctx)
	if err != nil {
		return err
	}
	chosen := moment.Chooser(p.Moment.Point.Scope, p.Moment.Model)
	for _, ns := range now {
		known := !ns.Kind.IsContent() || ns.Skip != "" || chosen != nil && !chosen(ns.Name) ||
			slices.ContainsFunc(p.Items, func(it Item) bool { return it.To == ns.Name })
		if !known {
			p.Stays = append(p.Stays, ns.Name)
		}
	}
	return nil
}

// compare works out what becomes of the records that are there.
func (p *Plan) compare(ctx context.Context) error {
	for i := range p.Items {
		it := &p.Items[i]
		if !it.There || it.Cannot != "" || !it.space.Kind.HasRecords() || p.Replays ||
			p.opt.Conflict == Refuse || p.opt.Conflict == "" {
			continue
		}
		p.runner.Emit(run.Step, "comparing with what is there of %s", it.To)
		start := time.Now()
		was, err := p.readTarget(ctx, it)
		if err != nil && ctx.Err() == nil {
			// It is for people; what is done looks again.
			p.runner.Emit(run.Note, "what is there of %s could not be compared: %v", it.To, err)
			continue
		}
		if err != nil {
			return err
		}
		p.ReadTook, p.ReadBytes = p.ReadTook+time.Since(start), p.ReadBytes+was.Bytes
		it.ThereRecords = was.Records
		e, err := p.effectOn(ctx, it, was)
		if err != nil {
			return err
		}
		it.Effect = &e
	}
	return nil
}

// readContent builds the chosen namespaces as they were. Those that are damaged in
// the store become items that cannot be restored, where others can.
func (p *Plan) readContent(ctx context.Context, base *moment.Moment) ([]moment.NamespaceState, error) {
	p.runner.Emit(run.Step, "building the state of %s", base)
	states, changes, err := base.Trees(ctx, p.scratch, p.scratch, p.chosen)
	if moment.IsDamage(err) && ctx.Err() == nil {
		states, changes, err = p.readable(ctx, base)
	} else if err == nil && p.opt.Salvage {
		err = p.salvageAll(ctx, base, states)
	}
	if err != nil {
		return nil, err
	}
	if len(states) == 0 && len(p.Items) > 0 {
		return nil, p.Moment.WithAlternatives(ctx, p.Items[0].From,
			fmt.Errorf("nothing of what was asked for can be read: %w", p.cause))
	}
	if len(states) == 0 && !p.Replays {
		return nil, fmt.Errorf("%s: nothing that fits %q had any records then", base, p.opt.Pattern)
	}
	p.Changes = changes
	return states, nil
}

// readSettings builds the cluster-wide settings as they were.
func (p *Plan) readSettings(ctx context.Context, base *moment.Moment) (err error) {
	if !p.Moment.Point.Settings {
		return fmt.Errorf("%w: cluster-wide settings are not in point %s; they are protected where the cluster's "+
			"configuration says cluster_wide: true",
			run.ErrRefused, p.Moment.Point.ID)
	}
	p.settings, err = base.OfKind(ctx, record.KindSettings, p.scratch, p.scratch)
	for _, s := range p.settings {
		p.Settings += s.Root.Records
	}
	return err
}

// present lists the target's namespaces, where they are not asked for one by one.
func (p *Plan) present(ctx context.Context) (map[string]engine.Namespace, error) {
	if _, p.InPlace = p.writer.(engine.InPlaceWriter); p.InPlace {
		return nil, nil
	}
	list, err := p.target.Namespaces(ctx)
	now := map[string]engine.Namespace{}
	for _, ns := range list {
		now[ns.Name] = ns
	}
	return now, err
}

// checkRenames returns an error where a renaming is of nothing that is restored.
func (p *Plan) checkRenames(states []moment.NamespaceState) error {
	used := map[string]bool{}
	var names []string
	for _, s := range states {
		if from, _, ok := moment.Renamed(p.opt.Rename, s.Name); ok {
			used[from] = true
		}
		names = append(names, s.Name)
	}
	for _, from := range slices.Sorted(maps.Keys(p.opt.Rename)) {
		if !used[from] {
			return fmt.Errorf("renaming %s: %w", from, moment.UnknownName(from, "what is being restored", names))
		}
	}
	return nil
}

// item works out where a namespace goes, and what is there.
func (p *Plan) item(ctx context.Context, s moment.NamespaceState, now map[string]engine.Namespace) (Item, error) {
	it := Item{From: s.Name, To: s.Name, Lost: p.lost[s.Name]}
	if _, to, ok := moment.Renamed(p.opt.Rename, s.Name); ok {
		it.To = to
	}
	if err := p.Moment.Model.CheckName(it.To); err != nil {
		return it, fmt.Errorf("%s cannot be restored as it is to be called: %w", s.Name, err)
	}
	fit := engine.Fitted{Definition: s.Definition}
	if f, ok := p.writer.(engine.Fitter); ok {
		ns := s.Namespace
		ns.Name = it.To
		var err error
		if fit, err = f.Fit(ctx, ns, s.Name, p.opt.Chosen); errors.Is(err, engine.ErrOpen) {
			return it, fmt.Errorf("%w: %w", run.ErrRefused, err)
		} else if err != nil {
			return it, err
		}
		for _, n := range fit.Notes {
			p.runner.Emit(run.Note, "%s", n)
		}
	}
	var err error
	if s, err = p.chooseRecords(ctx, s); err != nil {
		return it, err
	}
	if it.space, err = p.rewritten(ctx, s, fit.Rewrite); err != nil {
		return it, err
	}
	if fit.Notice != nil {
		if err := p.notice(ctx, it.space, fit.Notice); err != nil {
			return it, err
		}
	}
	it.space.Definition = fit.Definition
	if it.Expired, err = p.dropExpired(ctx, &it); err != nil {
		return it, err
	}
	it.Records, it.Bytes = it.space.Root.Records, it.space.Root.Bytes
	switch w := p.writer.(type) {
	case engine.ManyWriter: // lookTogether
	case engine.InPlaceWriter:
		ns := s.Namespace
		ns.Name = it.To
		it.ThereRecords, err = w.Occupied(ctx, ns)
		it.There = it.ThereRecords > 0
	case engine.StagingWriter:
		there, ok := now[it.To]
		it.There, it.ThereRecords = ok, there.Records
		if err := w.Replaceable(s.Namespace); ok && err != nil && (p.opt.Conflict == Replace || !p.merges(it)) {
			it.Cannot = p.runner.Text(remedy.With(fmt.Errorf("%s: %w", it.To, err), remedy.BesideOrDrop, s.Name))
		}
	}
	return it, err
}

// lookTogether finds what is there of items, where that is found of all at once.
func (p *Plan) lookTogether(ctx context.Context, items []Item) error {
	w, ok := p.writer.(engine.ManyWriter)
	if !ok {
		return nil
	}
	list := make([]record.Namespace, len(items))
	for i := range items {
		list[i] = items[i].namespace()
	}
	there, err := w.OccupiedMany(ctx, list)
	if err != nil {
		return err
	}
	for i := range items {
		items[i].ThereRecords, items[i].There = there[i], there[i] > 0
	}
	return nil
}

// lookBeyond finds what is there of a namespace that came to be after the point.
func (p *Plan) lookBeyond(ctx context.Context, it *Item) (err error) {
	w, ok := p.writer.(engine.Replayer)
	if !it.Born || !ok {
		return nil
	}
	it.ThereRecords, err = w.Rest(ctx, it.namespace(), p.othersOf(it.From), false)
	it.There = it.ThereRecords > 0
	return err
}

// chosen reports whether a namespace is to be restored.
func (p *Plan) chosen(name string) bool {
	if !address.Match(p.opt.Pattern, name) &&
		!slices.ContainsFunc(p.opt.Also, func(a string) bool { return address.Match(a, name) }) {
		return false
	}
	for _, e := range p.opt.Except {
		if address.Match(e, name) {
			return false
		}
	}
	return true
}

// merges reports whether records are put onto an item's namespace, one by one.
func (p *Plan) merges(it Item) bool {
	if !it.There || !p.opt.Conflict.keepsOthers() {
		return false
	}
	w, ok := p.writer.(engine.RecordWriter)
	return p.InPlace || ok && w.TakesRecords(it.space.Namespace)
}

// ready tells that a namespace can be read as it is to be.
func (p *Plan) ready(name string) {
	if p.opt.OnReady != nil {
		p.opt.OnReady(name)
	}
}

// Close removes temporary files.
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

// Merges reports whether records are put onto what is there, and others stay.
func (p *Plan) Merges() bool { return p.opt.Conflict.keepsOthers() }
