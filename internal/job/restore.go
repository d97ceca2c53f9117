package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
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
	// Cannot says why the namespace cannot be restored as asked.
	Cannot string `json:"cannot,omitempty"`
	// Lost says which records are lost and left out, where the rest is restored.
	Lost  []string `json:"lost,omitempty"`
	space Space
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
	claims   *engine.Claims
	cause    error               // why a namespace cannot be read, the last of them
	lost     map[string][]string // by namespace, which records cannot be read
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
	// Lost says which records are lost in the store and were left out.
	Lost []string `json:"lost,omitempty"`
	// Failed says why it was not restored; Left that it was not tried.
	Failed string `json:"failed,omitempty"`
	Left   bool   `json:"left,omitempty"`
}

// sameEngine refuses to have clusters of different kinds meet.
func sameEngine(p *store.Point, c engine.Cluster, what string) error {
	if c.Engine() != p.Engine {
		return fmt.Errorf("%w: point %s of %s is of a %s cluster, and %s is a %s cluster; nothing was read or changed there", ErrRefused, p.ID, p.Cluster, p.Engine, what, c.Engine())
	}
	return nil
}

// PlanRestore works out what a restore will do, and builds the content as it
// was, without touching the target. Close must be called on the plan.
func (e *Env) PlanRestore(ctx context.Context, m *Moment, target engine.Cluster, opt RestoreOptions) (*RestorePlan, error) {
	if err := sameEngine(m.Point, target, "the target"); err != nil {
		return nil, err
	}
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
		return nil, m.Unknown(ctx, opt.Pattern, names)
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
	spaces, changes, err := base.Trees(ctx, p.scratch, p.scratch, p.chosen)
	if damage(err) && ctx.Err() == nil {
		spaces, changes, err = p.sound(ctx, base)
	} else if err == nil && p.opt.Salvage {
		err = p.salvageAll(ctx, base, spaces)
	}
	if err != nil {
		return err
	}
	if len(spaces) == 0 && len(p.Items) > 0 {
		return fmt.Errorf("nothing of what was asked for can be read: %w%s", p.cause, p.Moment.insteadOf(ctx, p.Items[0].From))
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
		it := RestoreItem{From: s.Name, To: s.Name, Records: s.Root.Records, Bytes: s.Root.Bytes, Lost: p.lost[s.Name], space: s}
		if from, to, ok := renaming(p.opt.Rename, s.Name); ok {
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
			return fmt.Errorf("--rename %s: %w", from, UnknownName(from, "what is being restored", names))
		}
	}
	return nil
}

// chosen reports whether a namespace is to be restored.
func (p *RestorePlan) chosen(name string) bool {
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

// renaming returns what a name becomes, by the longest FROM that fits it.
func renaming(rename map[string]string, name string) (from, to string, ok bool) {
	for f, t := range rename {
		if n, fits := renamed(name, f, t); fits && (!ok || len(f) > len(from) || len(f) == len(from) && f < from) {
			from, to, ok = f, n, true
		}
	}
	return from, to, ok
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
// name is whole, old or new. One that cannot be restored does not keep the
// others from it: what became of each is given, also beside an error.
func (p *RestorePlan) Run(ctx context.Context) ([]Restored, error) {
	if c := p.Conflicts(); len(c) > 0 && !p.opt.Replace {
		return nil, fmt.Errorf("%w: %s is there already, with %d records; restore beside it with --rename %s=NEWNAME, or replace it with --conflict replace",
			ErrRefused, c[0].To, c[0].ThereRecords, c[0].From)
	}
	var names []string
	for _, ns := range p.targets() {
		names = append(names, ns.Name)
	}
	var left []string
	var err error
	g, gradual := p.writer.(engine.Gradual)
	if gradual {
		// Before they are taken over, those of which a restore was cut short.
		if left, err = g.Stages(ctx); err != nil {
			return nil, err
		}
	}
	claims, err := p.writer.Reserve(ctx, names)
	if errors.Is(err, engine.ErrClaimed) {
		return nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if err != nil {
		return nil, err
	}
	p.claims = claims
	for _, n := range claims.TakenOver() {
		if !gradual {
			p.env.emit(Warning, "a restore of %s was cut short before this one", n)
		}
	}
	for _, n := range left {
		p.env.emit(Warning, "a restore of %s was cut short: what is there is neither old nor new", n)
	}
	var out []Restored
	if gradual {
		out, err = p.runGradual(ctx, g)
	} else {
		out, err = p.runStaged(ctx, p.writer.(engine.Stager))
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	if !gradual {
		for _, n := range names {
			_ = claims.End(end, n)
		}
	}
	if rerr := claims.Release(end, true); rerr != nil {
		p.env.emit(Warning, "the target still carries the mark of this restore, which ends by itself: %v", rerr)
	}
	if err != nil {
		return out, err
	}
	if p.Replays && len(p.settings) > 0 {
		p.env.emit(Note, "users and roles are as of the point; the log does not tell of them")
	}
	return out, p.putSettings(ctx, p.writer)
}

// targets are the namespaces that a restore writes to.
func (p *RestorePlan) targets() []record.Namespace {
	names := p.unseen()
	for _, it := range p.Items {
		names = append(names, it.as())
	}
	return names
}

// each restores the items one after the other, and gives what became of each.
// The error says of several what failed; of one alone it is its own.
func (p *RestorePlan) each(ctx context.Context, restore func(RestoreItem) (Restored, error)) (out []Restored, err error) {
	var failed []string
	done := 0
	for i, it := range p.Items {
		var r Restored
		var rerr error
		if it.Cannot != "" {
			r, rerr = Restored{From: it.From, To: it.To}, fmt.Errorf("%w: %s", ErrRefused, it.Cannot)
		} else {
			r, rerr = restore(it)
			r.Lost = it.Lost
			if damage(rerr) && ctx.Err() == nil {
				rerr = fmt.Errorf("%w%s", rerr, p.Moment.insteadOf(ctx, it.From))
			}
		}
		if rerr == nil {
			done++
			out = append(out, r)
			continue
		}
		r.Verified, r.Failed = false, rerr.Error()
		out = append(out, r)
		err = rerr
		failed = append(failed, it.To+": "+rerr.Error())
		stop := ctx.Err() != nil || errors.Is(rerr, engine.ErrClaimLost)
		if !stop {
			p.env.emit(Warning, "%s was not restored: %v", it.To, rerr)
			continue
		}
		for _, l := range p.Items[i+1:] {
			out = append(out, Restored{From: l.From, To: l.To, Left: true})
		}
		return out, err
	}
	lost := slices.ContainsFunc(out, func(r Restored) bool { return len(r.Lost) > 0 })
	if len(failed) == 0 && lost {
		return out, fmt.Errorf("%w: what is damaged in the store was left out", ErrIncomplete)
	}
	if len(failed) == 0 || len(p.Items) == 1 {
		return out, err
	}
	return out, fmt.Errorf("%w: %d of %s restored and %d not: %s", ErrIncomplete, done, count(int64(len(p.Items)), "namespace"), len(failed), strings.Join(failed, "; "))
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
	return p.each(ctx, func(it RestoreItem) (Restored, error) { return p.one(ctx, w, it) })
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
				p.env.emit(Warning, "%s of %s is there and differs; it stays as it is (--conflict replace puts it back)", p.Moment.Model.Label(r.Value), s.Name)
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
	err = p.fillStage(ctx, w, stage, it, ns)
	if err == nil {
		err = w.Publish(ctx, stage.Name, it.To, it.There)
	}
	switch {
	case err == nil:
		if err = p.checkPublished(ctx, w, stage, it, ns); err != nil {
			return r, err
		}
	case errors.Is(err, engine.ErrNoRename):
		p.env.emit(Note, "%v; it is written under its own name instead", err)
		derr := p.inPlace(ctx, w, it, ns)
		if err := errors.Join(derr, w.Discard(context.WithoutCancel(ctx), stage.Name)); err != nil {
			return r, err
		}
	default:
		return r, errors.Join(err, w.Discard(context.WithoutCancel(ctx), stage.Name))
	}
	r.Verified, r.Took = true, time.Since(start)
	p.env.emit(Note, "%s  %s, read back and equal (root %s)", it.To, count(it.Records, "record"), it.space.Root.Hash.Short())
	return r, nil
}

// fillStage writes a stage, reads it back, and builds its indexes. When it
// returns nil the stage is what it was made as, with the content asked for.
func (p *RestorePlan) fillStage(ctx context.Context, w engine.Stager, stage record.Namespace, it RestoreItem, ns record.Namespace) error {
	if err := p.write(ctx, w, stage.Name, it); err != nil {
		return err
	}
	// Before indexes: one that expires records must not take any first.
	p.env.emit(Step, "reading %s back", it.To)
	live := engine.Namespace{Namespace: stage, Records: it.Records, Bytes: it.Bytes}
	got, err := p.env.readBack(ctx, p.scratch, p.target, live, it.space.Root)
	if err != nil {
		return err
	}
	if got.Hash != it.space.Root.Hash {
		return p.explainDifference(ctx, it, got)
	}
	n, err := w.Count(ctx, stage.Name)
	if err != nil {
		return err
	}
	if err := w.Index(ctx, stage.Name, ns); err != nil {
		return err
	}
	now, err := w.Look(ctx, stage.Name)
	if err != nil {
		return err
	}
	// Building indexes makes a collection anew that was taken away meanwhile.
	if !bytes.Equal(now.Ident, stage.Ident) || n != it.Records {
		return fmt.Errorf("%s: what was written %w: somebody has taken it away or changed it while it was restored (%d records of %d); nothing was published", it.To, ErrDiffers, n, it.Records)
	}
	if err := p.sameDefinition(ns, now); err != nil {
		return err
	}
	return p.claims.Check()
}

// checkPublished looks at what bears the name after publishing: the proof is of
// what will be used, not of its stage.
func (p *RestorePlan) checkPublished(ctx context.Context, w engine.Stager, stage record.Namespace, it RestoreItem, ns record.Namespace) error {
	now, err := w.Look(ctx, it.To)
	if err != nil {
		return fmt.Errorf("%s: what was published is not there under its name: %w: %w", it.To, ErrDiffers, err)
	}
	there := func() string {
		n, err := w.Count(ctx, it.To)
		if err != nil {
			return "what it holds now cannot be counted: " + err.Error()
		}
		return fmt.Sprintf("it holds %s now, of %d", count(n, "record"), it.Records)
	}
	if err := p.sameDefinition(ns, now); err != nil {
		return fmt.Errorf("after it was published: %w; %s", err, there())
	}
	if w.Trusted(ctx) && len(stage.Ident) > 0 {
		if bytes.Equal(now.Ident, stage.Ident) {
			return nil
		}
		if ns.Kind != "timeseries" && !sharded(p.target) {
			return fmt.Errorf("%s bears the name after it was published, and %w: it is another collection than the one that was read back; %s", it.To, ErrDiffers, there())
		}
	}
	p.env.emit(Step, "reading %s once more, under its name", it.To)
	got, err := p.env.readBack(ctx, p.scratch, p.target, engine.Namespace{Namespace: now, Records: it.Records, Bytes: it.Bytes}, it.space.Root)
	if err != nil {
		return fmt.Errorf("after it was published: %w", err)
	}
	if got.Hash != it.space.Root.Hash {
		return fmt.Errorf("after it was published: %w; %s", p.explainDifference(ctx, it, got), there())
	}
	return nil
}

// sharded reports whether a cluster's namespaces may be spread over shards, whose
// identities change when they are renamed.
func sharded(c engine.Cluster) bool {
	r, ok := c.(engine.Routed)
	return ok && r.Routed() != c || !ok
}

// inPlace writes a namespace under its own name, where a server refuses to
// rename a stage to it. What is there before is gone first.
func (p *RestorePlan) inPlace(ctx context.Context, w engine.Stager, it RestoreItem, ns record.Namespace) error {
	made, err := w.StageInPlace(ctx, ns, it.There)
	if err != nil {
		return err
	}
	if err := p.fillStage(ctx, w, made, it, ns); err != nil {
		return fmt.Errorf("%w; what is under the name %s now is not complete", err, it.To)
	}
	return nil
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
	return fmt.Errorf("%s: what was read back %w from what was written: %s", it.To, ErrDiffers, msg)
}

// sameDefinition compares what was asked for with what a server has.
func (p *RestorePlan) sameDefinition(ns, now record.Namespace) error {
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
