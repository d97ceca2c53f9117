package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
)

// RestoreOptions say what to restore and how.
type RestoreOptions struct {
	Pattern string
	// Rename maps names, or beginnings of names ended by '.' or '*', to
	// others.
	Rename map[string]string
	// Replace allows namespaces that are there to be replaced.
	Replace bool
	// Settings puts users and roles back too: those that are missing, and with
	// Replace also those that differ. None is taken away.
	Settings bool
	// Leases says what becomes of records bound to clients' sessions: "recreate"
	// (when empty), "drop" the bond and keep the record, or "skip" the record.
	Leases string
	// held leaves expiries put off that were put off to carry out a log.
	held bool
}

// RestoreItem is one namespace of a restore's plan.
type RestoreItem struct {
	From    string `json:"from"`
	To      string `json:"to"`
	Records int64  `json:"records"`
	Bytes   int64  `json:"bytes"`
	// There says that the target has a namespace of this name now, with so
	// many records as the server estimates.
	There        bool  `json:"there"`
	ThereRecords int64 `json:"there_records"`
	space        Space
}

// RestorePlan is what a restore will do.
type RestorePlan struct {
	Moment  *Moment       `json:"-"`
	Items   []RestoreItem `json:"items"`
	Changes int64         `json:"changes"` // log changes folded in
	// Gradual: the target is changed in place, little by little.
	Gradual bool `json:"gradual,omitempty"`
	// Replays: commands of the log are carried out on the target afterwards.
	Replays bool `json:"replays,omitempty"`
	// Settings counts the users and roles to be put back.
	Settings int64 `json:"settings,omitempty"`
	settings []Space
	support  []Space
	replayed map[string]bool // namespaces with commands to carry out
	target   engine.Cluster  // as applications see it
	writer   engine.Writer
	opt      RestoreOptions
	scratch  *store.Scratch
	env      *Env
}

// Restored is what a restore did to one namespace.
type Restored struct {
	From     string        `json:"from"`
	To       string        `json:"to"`
	Records  int64         `json:"records"`
	Bytes    int64         `json:"bytes"`
	Root     tree.Hash     `json:"root"`
	Verified bool          `json:"verified"` // read back: content, indexes and options are equal
	Replaced bool          `json:"replaced"`
	Took     time.Duration `json:"took"`
	// Expired counts records whose time had come since; they do not come back.
	Expired int64 `json:"expired,omitempty"`
	// Replayed: commands of the log were carried out on what was read back.
	Replayed bool `json:"replayed,omitempty"`
}

// PlanRestore works out what a restore will do, and builds the content as it
// was, without touching the target. Close must be called on the plan.
func (e *Env) PlanRestore(ctx context.Context, m *Moment, target engine.Cluster, opt RestoreOptions) (*RestorePlan, error) {
	names, err := m.Names(ctx)
	if err != nil {
		return nil, err
	}
	e.tellStrangers(ctx, m)
	found := false
	for _, n := range names {
		found = found || address.Match(opt.Pattern, n)
	}
	if !found {
		return nil, UnknownName(opt.Pattern, m.String(), names)
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	p := &RestorePlan{Moment: m, target: engine.Whole(target), opt: opt, scratch: x, env: e}
	if p.writer, err = target.Writer(ctx); err == nil {
		err = p.fill(ctx)
	}
	if err != nil {
		x.Close()
		return nil, err
	}
	return p, nil
}

func (p *RestorePlan) fill(ctx context.Context) error {
	base := p.Moment
	if p.Replays = base.needsBench(); p.Replays {
		base = base.AtPoint()
	}
	p.env.emit(Step, "building the state of %s", base)
	spaces, changes, err := base.Trees(ctx, p.scratch, p.scratch, func(n string) bool { return address.Match(p.opt.Pattern, n) })
	if err != nil {
		return err
	}
	if len(spaces) == 0 && !p.Replays {
		return fmt.Errorf("%s: nothing that fits %q had any records then", base, p.opt.Pattern)
	}
	p.Changes = changes
	if p.support, err = base.ofKind(ctx, supportKind, p.scratch, p.scratch); err != nil {
		return err
	}
	if p.Replays {
		if err := p.planReplay(ctx); err != nil {
			return err
		}
	}
	gradual, isGradual := p.writer.(engine.Gradual)
	p.Gradual = isGradual
	if p.opt.Settings {
		if !p.Moment.Point.Settings {
			return fmt.Errorf("%w: users and roles are not in point %s; they are protected where the cluster's configuration says settings: true", ErrRefused, p.Moment.Point.ID)
		}
		if p.settings, err = base.ofKind(ctx, settingsKind, p.scratch, p.scratch); err != nil {
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
		it := RestoreItem{From: s.Name, To: s.Name, Records: s.Root.Records, Bytes: s.Root.Bytes, space: s}
		for from, to := range p.opt.Rename {
			if n, ok := renamed(s.Name, from, to); ok {
				it.To = n
				used[from] = true
			}
		}
		if other, twice := taken[it.To]; twice {
			return fmt.Errorf("both %s and %s would be restored as %s", other, s.Name, it.To)
		}
		taken[it.To] = s.Name
		if err := p.Moment.Model.CheckName(it.To); err != nil {
			return fmt.Errorf("%s cannot be restored as it is to be called: %w", s.Name, err)
		}
		if it.space, err = p.unbound(ctx, s); err != nil {
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
			return fmt.Errorf("%w: %s is there, and servers neither rename nor replace a time-series collection in one step; restore beside it with --rename %s=NEWNAME, or drop it first", ErrRefused, it.To, s.Name)
		}
		p.Items = append(p.Items, it)
	}
	for from := range p.opt.Rename {
		if !used[from] {
			var names []string
			for _, s := range spaces {
				names = append(names, s.Name)
			}
			return fmt.Errorf("--rename %s: %w", from, UnknownName(from, "what is being restored", names))
		}
	}
	return nil
}

// renamed applies one renaming to a name.
func renamed(name, from, to string) (string, bool) {
	if name == from {
		return to, true
	}
	head, tail := strings.TrimSuffix(from, "*"), strings.TrimSuffix(to, "*")
	if (head != from || strings.HasSuffix(from, ".") || strings.HasSuffix(from, "/") || strings.HasSuffix(from, ":")) && strings.HasPrefix(name, head) {
		return tail + name[len(head):], true
	}
	return name, false
}

// Close gives temporary files back.
func (p *RestorePlan) Close() { p.scratch.Close() }

// Conflicts lists the items whose target is there.
func (p *RestorePlan) Conflicts() []RestoreItem {
	var out []RestoreItem
	for _, it := range p.Items {
		if it.There {
			out = append(out, it)
		}
	}
	return out
}

// Run does the restore. Each namespace is written beside, read back and
// compared, and only then takes its name, in one step: what is there under the
// name is whole, old or new.
func (p *RestorePlan) Run(ctx context.Context) ([]Restored, error) {
	if c := p.Conflicts(); len(c) > 0 && !p.opt.Replace {
		return nil, fmt.Errorf("%w: %s is there already, with %d records; restore beside it with --rename %s=NEWNAME, or replace it with --present replace",
			ErrRefused, c[0].To, c[0].ThereRecords, c[0].From)
	}
	var out []Restored
	var err error
	if g, ok := p.writer.(engine.Gradual); ok {
		out, err = p.runGradual(ctx, g)
	} else {
		out, err = p.runStaged(ctx, p.writer.(engine.Stager))
	}
	if err != nil {
		return out, err
	}
	if p.Replays && len(p.settings) > 0 {
		p.env.emit(Note, "users and roles are as of the point; the log does not tell of them")
	}
	return out, p.putSettings(ctx, p.writer)
}

func (p *RestorePlan) runStaged(ctx context.Context, w engine.Stager) ([]Restored, error) {
	left, err := w.Stages(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range left {
		p.env.emit(Note, "removing %s, left behind by a restore that was cut short", s)
		if err := w.Discard(ctx, s); err != nil {
			return nil, err
		}
	}
	var out []Restored
	for _, it := range p.Items {
		r, err := p.one(ctx, w, it)
		if err != nil {
			return out, err
		}
		out = append(out, r)
	}
	return out, nil
}

// putSettings puts users and roles back.
func (p *RestorePlan) putSettings(ctx context.Context, w engine.Writer) error {
	if len(p.settings) == 0 {
		return nil
	}
	sw, ok := w.(engine.SettingsWriter)
	if !ok {
		return fmt.Errorf("%w: users and roles cannot be put back on this cluster", ErrRefused)
	}
	done := map[engine.Did]int64{}
	for _, s := range p.settings {
		err := tree.Walk(ctx, p.scratch, s.Root, func(r record.Record) error {
			did, err := sw.PutSetting(ctx, s.Namespace, r, p.opt.Replace)
			done[did]++
			if did == engine.Kept {
				p.env.emit(Warning, "%s of %s is there and differs; it stays as it is (--present replace puts it back)", p.Moment.Model.Label(r.Value), s.Name)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	if n := done[engine.Bare]; n > 0 {
		p.env.emit(Warning, "%s made without a password, which servers do not give out; set one before they can log in", count(n, "user"))
	}
	p.env.emit(Note, "users and roles: %d made, %d replaced, %d the same already, %d kept as they are", done[engine.Made]+done[engine.Bare], done[engine.Replaced], done[engine.Same], done[engine.Kept])
	return nil
}

func (p *RestorePlan) one(ctx context.Context, w engine.Stager, it RestoreItem) (r Restored, err error) {
	start := time.Now()
	r = Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Root: it.space.Root.Hash, Replaced: it.There}
	ns := it.space.Namespace
	ns.Name, ns.Ident = it.To, nil
	if ns.Kind == "view" {
		p.env.emit(Step, "making the view %s", it.To)
		r.Verified = true
		return r, w.View(ctx, ns, it.There)
	}
	p.env.emit(Step, "restoring %s, %s", it.To, count(it.Records, "record"))
	stage, err := w.Stage(ctx, ns)
	if err != nil {
		return r, err
	}
	published := false
	defer func() {
		if !published {
			err = errors.Join(err, w.Discard(context.WithoutCancel(ctx), stage.Name))
		}
	}()
	if err := p.write(ctx, w, stage.Name, it); err != nil {
		return r, err
	}
	// Before indexes: one that expires records must not take any first.
	p.env.emit(Step, "reading %s back", it.To)
	live := engine.Namespace{Namespace: stage, Records: it.Records, Bytes: it.Bytes}
	got, err := p.env.readBack(ctx, p.scratch, p.target, live, it.space.Root)
	if err != nil {
		return r, err
	}
	if got.Hash != it.space.Root.Hash {
		return r, p.explainDifference(ctx, it, got)
	}
	if err := w.Index(ctx, stage.Name, ns); err != nil {
		return r, err
	}
	if err := p.checkDefinition(ctx, w, stage.Name, ns); err != nil {
		return r, err
	}
	if err := w.Publish(ctx, stage.Name, it.To, it.There); err != nil {
		return r, err
	}
	published = true
	r.Verified, r.Took = true, time.Since(start)
	p.env.emit(Note, "%s  %s, read back and equal (root %s)", it.To, count(got.Records, "record"), got.Hash.Short())
	return r, nil
}

func (p *RestorePlan) explainDifference(ctx context.Context, it RestoreItem, got tree.Root) error {
	d, err := diffSpaces(ctx, p.scratch, &it.space, &Space{Namespace: it.space.Namespace, Root: got}, p.Moment.Model, 5)
	if err != nil {
		return err
	}
	msg := fmt.Sprintf("%d records missing, %d extra, %d changed", d.Missing, d.Extra, d.Changed)
	for _, k := range d.Keys {
		msg += fmt.Sprintf("; %s %s", k.Kind, k.Label)
	}
	return fmt.Errorf("%s: what was read back %w from what was written: %s; nothing was published, the target is as it was", it.To, ErrDiffers, msg)
}

func (p *RestorePlan) checkDefinition(ctx context.Context, w engine.Stager, stage string, ns record.Namespace) error {
	now, err := w.Look(ctx, stage)
	if err != nil {
		return err
	}
	if a, b := diffDefinitions(p.Moment.Model, ns.Definition, now.Definition); len(a) > 0 || len(b) > 0 {
		return fmt.Errorf("%s: indexes or options %w: asked for %s; the server has %s", ns.Name, ErrDiffers,
			strings.Join(a, ", "), strings.Join(b, ", "))
	}
	return nil
}

// write sends a namespace's records to a stage, several batches at once.
func (p *RestorePlan) write(ctx context.Context, w engine.Stager, stage string, it RestoreItem) error {
	const batchBytes, batchRecords = 4 << 20, 4000
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(p.env.parallel())
	var batch []record.Record
	var done, size, bytesDone int64
	send := func() {
		recs := batch
		batch, size = nil, 0
		g.Go(func() error { return w.Write(gctx, stage, recs) })
		p.env.progress(it.To, done, it.Records, bytesDone)
	}
	err := tree.Walk(ctx, p.scratch, it.space.Root, func(r record.Record) error {
		batch = append(batch, record.Record{Value: bytes.Clone(r.Value)})
		done++
		size += int64(len(r.Value))
		bytesDone += int64(len(r.Value))
		if size >= batchBytes || len(batch) >= batchRecords {
			send()
		}
		return gctx.Err()
	})
	if err == nil && len(batch) > 0 {
		send()
	}
	if werr := g.Wait(); werr != nil {
		return werr
	}
	return err
}
