package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/remedy"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

func (p *Plan) runStaged(ctx context.Context, w engine.StagingWriter) ([]Restored, error) {
	if err := Sweep(ctx, p.runner, w); err != nil {
		return nil, err
	}
	list := make([]*staged, len(p.Items))
	for i, it := range p.Items {
		ns := it.space.Namespace
		ns.Name, ns.Ident = it.To, nil
		list[i] = &staged{it: it, ns: ns, start: time.Now(), r: Restored{From: it.From, To: it.To, Records: it.Records,
			Bytes: it.Bytes, Root: it.space.Root.Hash, Replaced: it.There}}
		if it.Cannot != "" {
			list[i].end(fmt.Errorf("%w: %s", run.ErrRefused, it.Cannot))
		}
	}
	p.stageAll(ctx, w, list)
	p.publishAll(ctx, w, list)
	// What servers refuse to rename takes longer, and what is put onto what is there does.
	for _, st := range list {
		if !st.ended && ctx.Err() == nil && p.claims.Check() == nil {
			st.end(p.restoreLast(ctx, w, st))
		}
	}
	return p.outcome(ctx, list)
}

// staged is an item on its way.
type staged struct {
	it    Item
	ns    record.Namespace
	stage record.Namespace
	r     Restored
	start time.Time
	err   error
	// filled: the stage is complete and was read back. published: it has its name, which is
	// still to be looked at. refused: servers refuse to rename to it.
	filled, published, ended bool
	refused                  error
}

func (s *staged) end(err error) { s.err, s.ended = err, true }

// stageAll writes the stages and reads them back, several at the same time where the
// cluster's writer allows it.
func (p *Plan) stageAll(ctx context.Context, w engine.StagingWriter, list []*staged) {
	at := 1
	if _, ordered := w.(engine.Sequencer); !ordered {
		at = max(1, min(len(list), p.runner.Readers()/2))
	}
	whole := p.runner
	defer func() { p.runner = whole }()
	share := *whole
	share.Parallel, share.Memory = max(1, whole.Readers()/at), max(1<<20, whole.SortMemory()/at)
	p.runner = &share
	var g errgroup.Group
	g.SetLimit(at)
	for _, st := range list {
		if st.ended || !st.ns.Kind.HasRecords() || p.merges(st.it) {
			continue
		}
		g.Go(func() error {
			if err := p.stageOne(ctx, w, st); err != nil {
				st.end(err)
				if !errors.Is(err, context.Canceled) {
					p.runner.Emit(run.Warning, "%s is not restored: %v", st.it.To, err)
				}
			}
			return nil
		})
	}
	_ = g.Wait() // errors are the items'
}

func (p *Plan) stageOne(ctx context.Context, w engine.StagingWriter, st *staged) error {
	if err := errors.Join(ctx.Err(), p.claims.Check()); err != nil {
		return err
	}
	if st.it.There && p.opt.Conflict.keepsOthers() {
		it, effect, err := p.mergeWhole(ctx, st.it)
		if err != nil {
			return err
		}
		st.it, st.ns.Definition = it, it.space.Definition
		st.r.Merged, st.r.Effect, st.r.Root = true, &effect, it.space.Root.Hash
		st.r.Records = effect.Added + effect.Changed
	}
	p.runner.Emit(run.Step, "restoring %s, %s", st.it.To, run.Count(st.it.Records, "record"))
	stage, err := w.Stage(ctx, st.ns)
	if errors.Is(err, engine.ErrNoRename) {
		p.runner.Emit(run.Note, "%v; it is written under its own name at once", err)
		st.refused = err
		return nil
	}
	if err != nil {
		return err
	}
	st.stage = stage
	if err := p.fillStage(ctx, w, stage, st.it, st.ns); err != nil {
		return errors.Join(err, w.Discard(context.WithoutCancel(ctx), stage.Name))
	}
	st.filled = true
	return nil
}

// publishAll gives the stages their names, one right after the other, when all are there,
// and then looks at what bears each name.
func (p *Plan) publishAll(ctx context.Context, w engine.StagingWriter, list []*staged) {
	first := time.Now()
	n := 0
	for _, st := range list {
		if !st.filled || st.ended {
			continue
		}
		err := errors.Join(ctx.Err(), p.claims.Check())
		if err == nil {
			err = w.Publish(ctx, st.stage.Name, st.it.To, st.it.There)
		}
		switch {
		case err == nil:
			st.published = true
			p.ready(st.it.To)
			n++
			if g, ok := w.(engine.GapTeller); ok && st.it.There && g.Without() > 0 {
				p.runner.Emit(run.Note, "%s was not there for %s while it was replaced", st.it.To,
					g.Without().Round(time.Millisecond))
			}
		case errors.Is(err, engine.ErrNoRename):
			p.runner.Emit(run.Note, "%v; it is written under its own name instead", err)
			st.refused = err
		default:
			st.end(errors.Join(err, w.Discard(context.WithoutCancel(ctx), st.stage.Name)))
		}
	}
	if n > 1 {
		p.runner.Emit(run.Note, "%s took their names within %s", run.Count(int64(n), "namespace"),
			time.Since(first).Round(time.Millisecond))
	}
	for _, st := range list {
		if !st.published {
			continue
		}
		err := p.checkPublished(ctx, w, st.stage, st.it, st.ns)
		if err == nil {
			p.restored(&st.r, st.start)
		}
		st.end(err)
	}
}

// restoreLast restores an item that has no stage: a view, one that servers refuse to
// rename, or records that are put onto what is there.
func (p *Plan) restoreLast(ctx context.Context, w engine.StagingWriter, st *staged) error {
	switch {
	case !st.ns.Kind.HasRecords():
		st.r.Verified = true
		if st.it.There && p.opt.Conflict.keepsOthers() {
			return nil
		}
		p.runner.Emit(run.Step, "making the view %s", st.it.To)
		return w.View(ctx, st.ns, st.it.There)
	case p.merges(st.it):
		var err error
		st.r, err = p.mergeRecords(ctx, w.(engine.RecordWriter), st.it)
		return err
	case st.refused == nil:
		return errors.Join(ctx.Err(), p.claims.Check())
	}
	err := p.writeUnderOwnName(ctx, w, st.it, st.ns)
	if st.stage.Name != "" {
		err = errors.Join(err, w.Discard(context.WithoutCancel(ctx), st.stage.Name))
	}
	if err == nil {
		p.restored(&st.r, st.start)
	}
	return err
}

// outcome gives what became of each item.
func (p *Plan) outcome(ctx context.Context, list []*staged) ([]Restored, error) {
	var t tally
	for _, st := range list {
		if !st.ended {
			t.out = append(t.out, Restored{From: st.it.From, To: st.it.To, Left: true})
			continue
		}
		st.r.Lost = st.it.Lost
		if moment.IsDamage(st.err) && ctx.Err() == nil {
			st.err = p.Moment.WithAlternatives(ctx, st.it.From, st.err)
		}
		t.add(st.r, st.err)
	}
	if err := errors.Join(ctx.Err(), p.claims.Check()); err != nil && t.err == nil {
		t.err = err
	}
	if ctx.Err() != nil || errors.Is(t.err, engine.ErrClaimLost) {
		return t.out, t.err
	}
	return t.result(p)
}

// restored notes that a namespace is there and proven.
func (p *Plan) restored(r *Restored, start time.Time) {
	r.Verified, r.Took = true, record.Seconds(time.Since(start))
	p.runner.Emit(run.Note, "%s  %s, read back and equal (root %s)", r.To, run.Count(r.Records, "record"),
		r.Root.Short())
}

// fillStage writes a stage, reads it back, and builds its indexes. When it
// returns nil the stage is what it was made as, with the content asked for.
func (p *Plan) fillStage(ctx context.Context, w engine.StagingWriter, stage record.Namespace, it Item,
	ns record.Namespace) error {
	if err := p.write(ctx, w, stage, it); err != nil {
		return err
	}
	// Before indexes: one that expires records must not take any first.
	p.runner.Emit(run.Step, "reading %s back", it.To)
	live := engine.Namespace{Namespace: stage, Records: it.Records, Bytes: it.Bytes}
	got, err := moment.ReadEqual(ctx, p.runner, p.scratch, p.target, live, it.space.Root, true)
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
	now, err := w.CurrentNamespace(ctx, stage.Name)
	if err != nil {
		return err
	}
	// Building indexes makes a collection anew that was taken away meanwhile.
	if !bytes.Equal(now.Ident, stage.Ident) || n != it.Records {
		return fmt.Errorf("%s: what was written %w: somebody has taken it away or changed it while it was restored "+
			"(%d records of %d); nothing was published", it.To, run.ErrDiffers, n, it.Records)
	}
	if err := p.sameDefinition(ns, now); err != nil {
		return err
	}
	return p.claims.Check()
}

// checkPublished looks at what bears the name after publishing: the proof is of
// what will be used, not of its stage.
func (p *Plan) checkPublished(ctx context.Context, w engine.StagingWriter, stage record.Namespace, it Item,
	ns record.Namespace) error {
	now, err := w.CurrentNamespace(ctx, it.To)
	if err != nil {
		return fmt.Errorf("%s: what was published is not there under its name: %w: %w", it.To, run.ErrDiffers, err)
	}
	there := func() string {
		n, err := w.Count(ctx, it.To)
		if err != nil {
			return "what it holds now cannot be counted: " + err.Error()
		}
		return fmt.Sprintf("it holds %s now, of %d", run.Count(n, "record"), it.Records)
	}
	if err := p.sameDefinition(ns, now); err != nil {
		return fmt.Errorf("after it was published: %w; %s", err, there())
	}
	if w.Trusted(ctx) && len(stage.Ident) > 0 {
		if bytes.Equal(now.Ident, stage.Ident) {
			return nil
		}
		if w.KeepsIdentity(ns) {
			return fmt.Errorf("%s bears the name after it was published, and %w: it is another collection than the "+
				"one that was read back; %s", it.To, run.ErrDiffers, there())
		}
	}
	p.runner.Emit(run.Step, "reading %s once more, under its name", it.To)
	got, err := moment.ReadEqual(ctx, p.runner, p.scratch, p.target,
		engine.Namespace{Namespace: now, Records: it.Records, Bytes: it.Bytes}, it.space.Root, true)
	if err != nil {
		return fmt.Errorf("after it was published: %w", err)
	}
	if got.Hash != it.space.Root.Hash {
		return fmt.Errorf("after it was published: %w; %s", p.explainDifference(ctx, it, got), there())
	}
	return nil
}

// writeUnderOwnName writes a namespace under its own name, where a server refuses to
// rename a stage to it. What is there before is gone first.
func (p *Plan) writeUnderOwnName(ctx context.Context, w engine.StagingWriter, it Item, ns record.Namespace) error {
	made, err := w.StageInPlace(ctx, ns, it.There)
	if err != nil {
		return err
	}
	if err := p.fillStage(ctx, w, made, it, ns); err != nil {
		return fmt.Errorf("%w; what is under the name %s now is not complete", err, it.To)
	}
	return nil
}

func (p *Plan) explainDifference(ctx context.Context, it Item, got tree.Root) error {
	d, err := moment.DiffStates(ctx, p.scratch, &it.space,
		&moment.NamespaceState{Namespace: it.space.Namespace, Root: got}, p.Moment.Model, 5)
	if err != nil {
		return err
	}
	msg := fmt.Sprintf("%d records missing, %d extra, %d changed", d.Missing, d.Extra, d.Changed)
	for _, k := range d.Keys {
		msg += fmt.Sprintf("; %s %s", k.Kind, k.Label)
	}
	return fmt.Errorf("%s: what was read back %w from what was written: %s", it.To, run.ErrDiffers, msg)
}

// sameDefinition compares what was asked for with what a server has.
func (p *Plan) sameDefinition(ns, now record.Namespace) error {
	if a, b := moment.DiffDefinitions(p.Moment.Model, ns.Definition, now.Definition); len(a) > 0 || len(b) > 0 {
		return fmt.Errorf("%s: indexes or options %w: asked for %s; the server has %s", ns.Name, run.ErrDiffers,
			strings.Join(a, ", "), strings.Join(b, ", "))
	}
	return nil
}

// write sends a namespace's records to a stage, several batches at once.
func (p *Plan) write(ctx context.Context, w engine.StagingWriter, stage record.Namespace, it Item) error {
	if o, ok := w.(engine.Sequencer); !ok || !o.InOrder(it.namespace()) {
		if done, err := p.writeByOthers(ctx, w, stage, it); done || err != nil {
			return err
		}
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(p.runner.Readers())
	if o, ok := w.(engine.Sequencer); ok && o.InOrder(it.namespace()) {
		g.SetLimit(1)
	}
	var batch []record.Record
	var done, size, bytesDone int64
	send := func() {
		recs := batch
		batch, size = nil, 0
		g.Go(func() error {
			err := w.Write(gctx, stage.Name, recs)
			if errors.Is(err, engine.ErrSameKey) && p.Moment.Sharded() {
				return remedy.With(err, remedy.Sharded, "")
			}
			return err
		})
		p.runner.ReportProgress(it.To, done, it.Records, bytesDone)
	}
	var err error
	for r, rerr := range tree.Records(gctx, p.scratch, it.space.Root) {
		if err = rerr; err != nil {
			break
		}
		batch = append(batch, record.Record{Value: bytes.Clone(r.Value)})
		done++
		size += int64(len(r.Value))
		bytesDone += int64(len(r.Value))
		if size >= batchBytes || len(batch) >= batchRecords {
			send()
		}
		if err = gctx.Err(); err != nil {
			break
		}
	}
	if err == nil && len(batch) > 0 {
		send()
	}
	if werr := g.Wait(); werr != nil {
		return werr
	}
	return err
}
