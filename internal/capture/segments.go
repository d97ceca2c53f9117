package capture

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

func (cp *shardCapture) newSegment() {
	cp.b = journal.NewBuilder(cp.keys, cp.name, cp.out.Shard, cp.from)
	cp.b.Effect(engine.EffectOf(cp.all.model))
	cp.sealed = time.Now()
}

// seal writes the segment gathered, when it covers anything.
func (cp *shardCapture) seal(ctx context.Context) error {
	cp.sealed, cp.urgent = time.Now(), false
	if h := cp.b.Header(); h.Last.Position == h.After.Position {
		return nil
	}
	for _, d := range cp.doubts {
		cp.b.Doubt(d)
	}
	h, data, err := cp.b.Seal(cp.prev, cp.l.LogMember(cp.shard.Name))
	if err != nil {
		return err
	}
	if err := cp.put(ctx, h, data); err != nil {
		return err
	}
	cp.doubts = nil
	cp.newSegment()
	return nil
}

func (cp *shardCapture) put(ctx context.Context, h journal.Header, data []byte) error {
	err := cp.Store.PutNextSegment(ctx, h, data, cp.looked)
	if errors.Is(err, blob.ErrExists) {
		return fmt.Errorf(
			"%w: another capture of cluster %s is writing the same stretch of the log; this one ends, nothing is lost",
			run.ErrRefused, cp.name)
	}
	if err != nil {
		return err
	}
	cp.looked = cp.Store.Look()
	cp.prev, cp.from, cp.out.To = h.ID, h.Last, h.Last
	if cp.opt.OnStored != nil {
		cp.opt.OnStored(h)
	}
	cp.out.Segments++
	cp.out.Stored += h.Size
	cp.all.progressed(0, h.Size)
	return nil
}

// recordGap keeps the fact that a stretch of the log is lost, and goes on where it
// can: at the newest point that lies within the log, else where the log begins.
func (cp *shardCapture) recordGap(ctx context.Context, cause error) error {
	cp.bmu.Lock()
	defer cp.bmu.Unlock()
	if err := cp.seal(ctx); err != nil {
		return err
	}
	w := cp.window(ctx)
	ends := errors.Is(cause, engine.ErrLogEnds)
	if w == nil || !ends && w.First.Position <= cp.from.Position {
		return cause
	}
	to, found, resumed := w.First, !w.Marked, 0
	if ends {
		to, found = cp.from, false
	}
	points, _, err := cp.Store.Points(ctx, cp.name)
	if err != nil {
		return err
	}
	for _, p := range points {
		if s, ok := p.Shard(cp.out.Shard); ok && s.Mark.Position > to.Position &&
			(ends || s.Mark.Position <= w.Last.Position) {
			to, found, resumed = s.Mark, true, 1
			break
		}
	}
	if !found {
		g := journal.Gap{Shard: cp.out.Shard, From: cp.from, To: w.Last, Reason: cause.Error()}
		cp.gaps = append(cp.gaps, g)
		return remedy.With(
			fmt.Errorf("%w: nothing is known of the log from %s on, and it can be taken up only at a new point: %w",
				run.ErrIncomplete, run.FormatTime(cp.from.Wall), cause), remedy.Snapshot, cp.name)
	}
	why := "the server's log had rolled over: " + cause.Error()
	if ends || errors.Is(cause, engine.ErrOtherHistory) {
		why = cause.Error()
	}
	if to.Wall.IsZero() {
		to.Wall = time.Now() // what comes after it is read from now on
	}
	h, data, err := journal.SealGap(cp.keys, cp.name, cp.out.Shard, cp.from, to, why, cp.prev)
	if err != nil {
		return err
	}
	g := journal.Gap{Shard: cp.out.Shard, From: cp.from, To: to, Reason: why}
	if err := cp.put(ctx, h, data); err != nil {
		return err
	}
	cp.gaps = append(cp.gaps, g)
	cp.resumedAtPoint += resumed
	cp.startNames(points)
	cp.Emit(run.Warning, "nothing is known of the log from %s to %s: %s", run.FormatTime(g.From.Wall),
		run.FormatTime(g.To.Wall), why)
	return nil
}
