package snapshot

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/wait"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/prepare"
	"dexamen/internal/run"
)

// pinned reads a cluster as of one position or time. Where the servers give that state
// up meanwhile it begins again at a newer one; what was stored is found again.
func (s *snapshot) pinned(ctx context.Context, c engine.Pinned) (record.Mark, error) {
	part := s.parts[0]
	begin := time.Now()
	for try := 1; ; try++ {
		v, err := s.pin(ctx, c)
		if err == nil {
			s.c, s.view, s.skipped, s.gone = v.Cluster, v, nil, map[string]bool{}
			s.total.Store(0)
			s.done.Store(0)
			var spaces []engine.Namespace
			if spaces, err = s.list(ctx); err == nil {
				err = s.scanBases(ctx, s.bases(spaces))
			}
			if err == nil {
				part.reached = v.Mark
				return v.Mark, nil
			}
		}
		if !errors.Is(err, engine.ErrStateGone) || try >= 10 && time.Since(begin) > pinFor {
			return record.Mark{}, err
		}
		s.Emit(run.Note, "%v; beginning again with the state of now", err)
		if err := wait.For(ctx, min(5*time.Second, time.Duration(try)*200*time.Millisecond)); err != nil {
			return record.Mark{}, err
		}
		part.fold.Close()
		part.fold = s.newFold()
	}
}

// pinFor is how long pinning is tried at least: for as long as servers take to notice
// that one of them is gone, and to agree.
const pinFor = 90 * time.Second

// pin pins a cluster, while what its options ask for is held still.
func (s *snapshot) pin(ctx context.Context, c engine.Pinned) (*engine.PinnedView, error) {
	held, err := prepare.Quiesce(ctx, s.Runner, s.name, c, s.chosen)
	if err != nil {
		return nil, err
	}
	v, err := c.Pin(held.Context(ctx), s.chosen)
	if err = errors.Join(err, held.Resume()); err != nil && v != nil && v.Release != nil {
		v.Release()
	}
	if held.Took > 0 {
		s.held = held
	}
	return v, err
}

// stream reads every shard in one pass, each as of a position of its own.
func (s *snapshot) stream(ctx context.Context, c engine.Streamed) (record.Mark, error) {
	// What moves from one shard to another meanwhile may be in neither.
	where, err := c.ContentPlacement(ctx)
	if err != nil {
		return record.Mark{}, err
	}
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range s.parts {
		g.Go(func() error { return p.fail(s.streamPart(gctx, c, p)) })
	}
	if err := g.Wait(); err != nil {
		return record.Mark{}, err
	}
	if now, err := c.ContentPlacement(ctx); err != nil {
		return record.Mark{}, err
	} else if now != where {
		return record.Mark{}, fmt.Errorf(
			"%w: content has moved between shards while it was read; run it again when that has ended", run.ErrRefused)
	}
	var first, last record.Mark
	for i, p := range s.parts {
		if i == 0 || p.reached.Wall.Before(first.Wall) {
			first = p.reached
		}
		if i == 0 || p.reached.Wall.After(last.Wall) {
			last = p.reached
		}
	}
	if len(s.parts) > 1 {
		s.caveats = append(s.caveats, fmt.Sprintf("each shard is as of a position of its own, at most %s apart",
			last.Wall.Sub(first.Wall).Round(time.Millisecond)))
	}
	return last, nil
}

// streamPart reads one shard. A pass that breaks off cannot be gone on with: it
// begins again, at the member that is fit by then.
func (s *snapshot) streamPart(ctx context.Context, c engine.Streamed, part *part) error {
	for try := 1; ; try++ {
		err := s.streamOnce(ctx, c, part)
		if err == nil || try == 5 || ctx.Err() != nil || !errors.Is(err, engine.ErrUnreachable) {
			return err
		}
		s.Emit(run.Warning, "%s%v; reading it again", part.of(), err)
		if err := wait.For(ctx, time.Duration(try)*500*time.Millisecond); err != nil {
			return err
		}
		if part.choice, err = c.Choose(ctx, part.shard); err != nil && try == 4 {
			return err
		}
	}
}

func (s *snapshot) streamOnce(ctx context.Context, c engine.Streamed, part *part) error {
	if s.shareStreams(ctx) {
		return s.streamShared(ctx, part)
	}
	take := func(ns record.Namespace, root tree.Root) {
		part.fold.Base(ns, root)
		if ns.Kind.IsContent() {
			s.Emit(run.Note, "%s%s: %s", part.of(), ns.Name, run.Count(root.Records, "record"))
		}
	}
	p := &pass{Runner: s.Runner, shard: part.shard, of: part.of(), w: s.w, bound: s.SortMemory() / len(s.parts),
		near: func(ns record.Namespace) tree.Root {
			return s.similarTree(engine.Namespace{Namespace: ns, Shard: part.shard})
		},
		progress: func(n int64) { s.ReportProgress("", s.done.Add(n), 0, s.bytes.Load()) },
		bytes:    func(n int) { s.bytes.Add(int64(n)) }}
	mark, err := p.read(ctx, c, take)
	if err == nil {
		part.reached = mark
	}
	return err
}

// pass is the reading of all that one shard holds, in one go.
type pass struct {
	*run.Runner
	shard, of string
	w         *store.Writer
	bound     int // bytes of memory for sorting
	near      func(ns record.Namespace) tree.Root
	progress  func(records int64)
	bytes     func(n int)
}

// read reads the shard and calls take with each namespace's tree, whose nodes the writer has.
func (p *pass) read(ctx context.Context, c engine.Streamed, take func(ns record.Namespace, root tree.Root)) (
	record.Mark, error) {
	found := moment.NewContents(p.TempDir(), p.bound)
	defer found.Close()
	n := int64(0)
	mark, err := c.Stream(ctx, p.shard, func(ns record.Namespace, r record.Record) error {
		if n++; n%1024 == 0 {
			p.progress(1024)
		}
		p.bytes(len(r.Value))
		if err := p.WaitForRate(ctx, len(r.Key)+len(r.Value)); err != nil {
			return err
		}
		return found.Add(ns, r)
	})
	if err != nil {
		return mark, err
	}
	p.Emit(run.Step, "%sread %s; sorting and storing", p.of, run.Count(n, "record"))
	builder := func(ns record.Namespace) *tree.Builder { return tree.NewBuilder(p.w).Near(p.w, p.near(ns)) }
	return mark, found.Trees(ctx, builder, take)
}
