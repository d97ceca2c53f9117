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
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

func (p *Plan) runStaged(ctx context.Context, w engine.StagingWriter) ([]Restored, error) {
	left, err := w.Stages(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range left {
		p.runner.Emit(run.Note, "removing %s, left behind by a restore that was cut short", s)
		if err := w.Discard(ctx, s); err != nil {
			return nil, err
		}
	}
	return p.each(ctx, func(it Item) (Restored, error) { return p.restoreStaged(ctx, w, it) })
}

func (p *Plan) restoreStaged(ctx context.Context, w engine.StagingWriter, it Item) (r Restored, err error) {
	start := time.Now()
	r = Restored{From: it.From, To: it.To, Records: it.Records, Bytes: it.Bytes, Root: it.space.Root.Hash,
		Replaced: it.There}
	ns := it.space.Namespace
	ns.Name, ns.Ident = it.To, nil
	if !ns.Kind.HasRecords() {
		p.runner.Emit(run.Step, "making the view %s", it.To)
		r.Verified = true
		return r, w.View(ctx, ns, it.There)
	}
	p.runner.Emit(run.Step, "restoring %s, %s", it.To, run.Count(it.Records, "record"))
	stage, err := w.Stage(ctx, ns)
	if errors.Is(err, engine.ErrNoRename) {
		p.runner.Emit(run.Note, "%v; it is written under its own name at once", err)
		if err = p.writeUnderOwnName(ctx, w, it, ns); err != nil {
			return r, err
		}
		p.restored(&r, start)
		return r, nil
	}
	if err != nil {
		return r, err
	}
	err = p.fillStage(ctx, w, stage, it, ns)
	if err == nil {
		err = w.Publish(ctx, stage.Name, it.To, it.There)
	}
	switch {
	case err == nil:
		if g, ok := w.(engine.GapTeller); ok && it.There && g.Without() > 0 {
			p.runner.Emit(run.Note, "%s was not there for %s while it was replaced", it.To,
				g.Without().Round(time.Millisecond))
		}
		if err = p.checkPublished(ctx, w, stage, it, ns); err != nil {
			return r, err
		}
	case errors.Is(err, engine.ErrNoRename):
		p.runner.Emit(run.Note, "%v; it is written under its own name instead", err)
		derr := p.writeUnderOwnName(ctx, w, it, ns)
		if err := errors.Join(derr, w.Discard(context.WithoutCancel(ctx), stage.Name)); err != nil {
			return r, err
		}
	default:
		return r, errors.Join(err, w.Discard(context.WithoutCancel(ctx), stage.Name))
	}
	p.restored(&r, start)
	return r, nil
}

// restored notes that a namespace is there and proven.
func (p *Plan) restored(r *Restored, start time.Time) {
	r.Verified, r.Took = true, time.Since(start)
	p.runner.Emit(run.Note, "%s  %s, read back and equal (root %s)", r.To, run.Count(r.Records, "record"),
		r.Root.Short())
}

// fillStage writes a stage, reads it back, and builds its indexes. When it
// returns nil the stage is what it was made as, with the content asked for.
func (p *Plan) fillStage(ctx context.Context, w engine.StagingWriter, stage record.Namespace, it Item,
	ns record.Namespace) error {
	if err := p.write(ctx, w, stage.Name, it); err != nil {
		return err
	}
	// Before indexes: one that expires records must not take any first.
	p.runner.Emit(run.Step, "reading %s back", it.To)
	live := engine.Namespace{Namespace: stage, Records: it.Records, Bytes: it.Bytes}
	got, err := moment.ReadBack(ctx, p.runner, p.scratch, p.target, live, it.space.Root)
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
	got, err := moment.ReadBack(ctx, p.runner, p.scratch, p.target,
		engine.Namespace{Namespace: now, Records: it.Records, Bytes: it.Bytes}, it.space.Root)
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
func (p *Plan) write(ctx context.Context, w engine.StagingWriter, stage string, it Item) error {
	const batchBytes, batchRecords = 4 << 20, 4000
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
		g.Go(func() error { return w.Write(gctx, stage, recs) })
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
