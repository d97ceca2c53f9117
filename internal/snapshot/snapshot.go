// Package snapshot makes points: of a cluster read while its log is followed
// (snapshot.go, scan.go), as of one position (exact.go), of what has changed since the
// point before (changes.go), or of that point and the log since (foldpoint.go). finish.go is what all of them end with.
// Other processes may read partitions (shared.go) and shards (sharedpass.go).
package snapshot

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/prepare"
	"dexamen/internal/run"
)

// Take reads a cluster and makes a point of it: the exact state at one
// moment where the cluster keeps a log. Content that the store has and that
// proves to be damaged is read from the cluster anew.
func Take(ctx context.Context, e *run.Runner, name string, c engine.Cluster) (*store.Point, error) {
	for try := 1; ; try++ {
		p, err := readPoint(ctx, e, name, c)
		var late *untrackedError
		if errors.As(err, &late) && try < 4 {
			e.Emit(run.Note, "%v; reading the cluster anew", err)
			continue
		}
		if err == nil || try == 8 || ctx.Err() != nil ||
			!errors.Is(err, store.ErrDamaged) && !errors.Is(err, store.ErrMissing) {
			return p, err
		}
		found, derr := e.Store.Distrust(ctx)
		if derr != nil || !found {
			return nil, errors.Join(err, derr)
		}
		e.Emit(run.Warning, "the store is damaged where this cluster's content lies: %v; what cannot be read is "+
			"stored anew. A scrub of the store tells what else it costs", err)
	}
}

// readPoint reads a cluster once and makes a point of it.
func readPoint(ctx context.Context, e *run.Runner, name string, c engine.Cluster) (_ *store.Point, err error) {
	started := time.Now()
	src, err := prepare.Open(ctx, e, name, c)
	if err != nil {
		return nil, err
	}
	s, err := newSnapshot(ctx, e, src)
	if err != nil {
		return nil, err
	}
	whole := ctx
	if _, brief := c.(engine.Pinned); !brief {
		if err := s.readAhead(ctx, c); err != nil {
			return nil, err
		}
		if s.held, err = prepare.Quiesce(ctx, e, name, c, s.chosen); err != nil {
			return nil, err
		}
		defer func() {
			if rerr := s.held.Resume(); rerr != nil && !errors.Is(err, rerr) {
				err = errors.Join(err, rerr)
			}
		}()
		ctx = s.held.Context(ctx)
	}
	flushed := false
	defer func() {
		for _, p := range s.parts {
			p.fold.Close()
		}
		if s.view != nil && s.view.Release != nil {
			s.view.Release()
		}
		if !flushed {
			s.w.Abandon()
		}
	}()
	topo := src.Topology
	p := &store.Point{Cluster: name, Engine: topo.Engine, Identity: topo.Identity, ClusterID: topo.ID,
		Version: topo.Version,
		Started: started, Made: "scan", Tool: e.Tool, Scope: e.Scope, Settings: topo.Settings, Exact: s.logged != nil}
	mark, err := s.read(ctx)
	if s.held != nil {
		// Before there is a point: one of what was not held still is none.
		if cause := context.Cause(ctx); err != nil && cause != nil && whole.Err() == nil {
			err = cause
		}
		if rerr := s.held.Resume(); errors.Is(rerr, engine.ErrHoldLost) {
			err = rerr
		}
		ctx, p.Held = whole, record.Seconds(s.held.Took)
	}
	if err != nil {
		return nil, err
	}
	p.Made, p.From = s.made()
	switch {
	case s.view != nil:
		p.Exact = s.view.Exact
		if s.view.Caveat != "" {
			p.Caveats = append(p.Caveats, s.view.Caveat)
		}
	case s.held != nil && s.held.Exact:
		mark, p.Exact = record.Mark{Wall: s.held.Since()}, !s.disturbed
	case s.logged == nil && isRevisited(c):
		mark = record.Mark{Wall: started}
		p.Caveats = append(p.Caveats,
			fmt.Sprintf("nothing held still what writes to it: files that were written between "+
				"%s and %s may be of different moments", started.Format(time.RFC3339), time.Now().Format(time.RFC3339)))
	case s.logged == nil:
		mark = record.Mark{Wall: started}
		p.Caveats = append(p.Caveats,
			fmt.Sprintf("the server keeps no log: writes that went on during the scan (%s to %s) may be in it in part",
				started.Format(time.RFC3339), time.Now().Format(time.RFC3339)))
	}
	if topo.HidesDrops {
		p.Unlogged = true
		p.Caveats = append(p.Caveats,
			"the server does not log drops, renames and index changes, or it is not known whether it does")
	}
	p.Time, p.Skipped = mark.Wall, s.skipped
	p.Caveats = append(p.Caveats, s.caveats...)
	changes, err := s.merge(ctx, p, mark)
	if err != nil {
		return nil, err
	}
	flushed = true
	stats, err := s.w.Flush(ctx)
	if err != nil {
		return nil, err
	}
	stats.New, stats.Known, stats.Patched, stats.Stored = stats.New+s.others.New, stats.Known+s.others.Known,
		stats.Patched+s.others.Patched, stats.Stored+s.others.Stored
	return p, finishPoint(ctx, e, p, stats, changes)
}

func isRevisited(c engine.Cluster) bool {
	_, ok := c.(engine.Revisited)
	return ok
}

// newSnapshot chooses the member of each shard to read, and what of it.
func newSnapshot(ctx context.Context, e *run.Runner, src *prepare.Source) (*snapshot, error) {
	topo, model := src.Topology, src.Model
	s := &snapshot{Runner: e, name: src.Name, c: src.Cluster, last: src.Last, resume: src.Resumed, model: model,
		settings: topo.Settings, exact: topo.Exact, logged: src.Log,
		gone: map[string]bool{}, cursors: map[string][]byte{}, notes: map[string]*tree.Root{}, from: map[string]bool{}}
	if s.logged == nil && len(topo.Shards) > 1 {
		return nil, fmt.Errorf("cluster %s: %w: a cluster of several shards has no moment of its own without one",
			src.Name, engine.ErrNoLog)
	}
	if _, pinned := src.Cluster.(engine.Pinned); s.logged == nil && !pinned {
		for _, l := range topo.Limitations {
			e.Emit(run.Warning, "%s: %s", l.What, l.Consequence)
		}
	}
	s.chosen = moment.Chooser(e.Scope, model)
	if model.Traits().Incremental && !e.Store.WriteOnly() {
		var err error
		if s.points, _, err = e.Store.Points(ctx, src.Name); err != nil {
			return nil, err
		}
	}
	if s.chosen != nil && model.Traits().Commands {
		return nil, fmt.Errorf("%w: cluster %s is protected whole: its log holds commands, which cannot be told "+
			"apart by namespace; leave namespaces out of its policy",
			run.ErrRefused, src.Name)
	}
	for _, sh := range topo.Shards {
		choice, err := src.Cluster.Choose(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		p := &part{shard: sh.Name, choice: choice}
		if len(topo.Shards) > 1 {
			p.label = sh.Name
		}
		s.parts = append(s.parts, p)
		e.Emit(run.Step, "reading %s%s (%s, %s)", p.of(), choice.Member.Address, choice.Member.Role, choice.Reason)
	}
	for _, p := range s.parts {
		p.fold = s.newFold()
		p.fold.Unlogged(topo.HidesDrops)
	}
	s.w = e.Store.NewWriter(ctx)
	return s, nil
}

// newFold returns an empty fold of one shard's log.
func (s *snapshot) newFold() *fold.Fold {
	f := fold.New(s.model, true, s.TempDir(), s.SortMemory()/len(s.parts))
	if s.chosen != nil {
		f.Choose(s.chosen)
	}
	return f
}

// merge folds what each shard's log told meanwhile into what was read, and enters
// the result in a point. It returns the number of changes folded.
func (s *snapshot) merge(ctx context.Context, p *store.Point, mark record.Mark) (changes int64, err error) {
	for _, part := range s.parts {
		m := mark
		switch {
		case s.model.Traits().ShardClocks:
			m = part.reached
		case len(s.parts) > 1:
			m.Entry = "" // it may be of another shard's log
		}
		p.Shards = append(p.Shards, store.PointShard{
			Name: part.shard, Mark: m, Member: part.choice.Member.Address, Reason: part.choice.Reason})
		changes += part.fold.Count
	}
	if !s.exact && s.logged != nil && s.view == nil {
		s.Emit(run.Step, "folding %s made meanwhile into the scan", run.Count(changes, "change"))
	}
	for _, part := range s.parts {
		if late := part.fold.Untracked(); len(late) > 0 {
			return 0, &untrackedError{late}
		}
		err := part.fold.Merge(ctx, s.w, s.w, nil, func(n *fold.Namespace, root tree.Root) error {
			if (root.Records > 0 || !s.model.Traits().DropsEmpty) && !s.gone[n.Name] {
				p.Namespaces = append(p.Namespaces,
					store.PointNamespace{
						Namespace: n.Namespace, Shard: part.label, Root: root, Cursor: s.cursors[n.Name],
						Notes: s.notes[n.Name], NotesOfAll: s.notes[n.Name] != nil})
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return changes, nil
}

// untrackedError is returned when something came to have a protected name while
// the cluster was read, so that its content was not.
type untrackedError struct{ list []fold.Untracked }

func (e *untrackedError) Error() string {
	return moment.WhyUntracked(e.list, "renamed to a protected name meanwhile, and what it held before is not known")
}

type snapshot struct {
	*run.Runner
	name      string
	c         engine.Cluster
	logged    engine.Logged // nil without a log
	model     engine.Model
	settings  bool
	exact     bool              // read as of one position
	chosen    func(string) bool // nil: all
	last      *store.Point
	alike     map[string][]*store.PointNamespace // of last, by name and by identity
	alikeOnce sync.Once
	points    []*store.Point         // from which reading can go on
	resume    map[string]record.Mark // by shard, the last place that is known
	view      *engine.PinnedView     // nil where the cluster is not pinned
	held      *prepare.Held          // nil where nothing was held still
	w         *store.Writer
	others    store.WriteStats // what other processes have stored for it
	parts     []*part

	mu      sync.Mutex
	skipped []store.Skipped
	gone    map[string]bool       // namespaces that went while they were read
	cursors map[string][]byte     // by namespace, up to where it was read
	notes   map[string]*tree.Root // by namespace, what was noted of it
	// ahead is what was read before anything was held still, by namespace.
	ahead        map[string]*store.PointNamespace
	readingAhead bool
	from         map[string]bool // points that reading went on from
	caveats      []string
	// disturbed: something changed that should have been held still.
	disturbed bool
	total     atomic.Int64
	done      atomic.Int64
	bytes     atomic.Int64

	// cut is the moment the snapshot will be of. While it is nil the logs'
	// changes are folded as they come; it is set with all of them held still.
	cutting sync.RWMutex
	cut     *record.Mark
}

// part is one shard on the way to a point.
type part struct {
	shard   string
	label   string // the shard's name where there are several
	choice  engine.Choice
	fold    *fold.Fold
	start   record.Mark
	reached record.Mark
}

// of begins a message about the part.
func (p *part) of() string {
	if p.label == "" {
		return ""
	}
	return "shard " + p.label + ": "
}

// read scans all namespaces while the logs are followed, until every log has
// passed the end of the scan. It gives the mark of the state reached.
func (s *snapshot) read(ctx context.Context) (record.Mark, error) {
	switch c := s.c.(type) {
	case engine.Streamed:
		return s.stream(ctx, c)
	case engine.Pinned:
		return s.pinned(ctx, c)
	}
	if s.logged == nil {
		return record.Mark{}, s.scanAll(ctx)
	}
	g, gctx := errgroup.WithContext(ctx)
	for _, p := range s.parts {
		g.Go(func() (err error) {
			p.start, err = s.logged.LogStart(gctx, p.shard)
			p.reached = p.start
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return record.Mark{}, err
	}
	spaces, err := s.list(ctx)
	if err != nil {
		return record.Mark{}, err
	}
	// From here on each fold belongs to its follower until both have ended.
	bases := s.bases(spaces)
	g, gctx = errgroup.WithContext(ctx)
	following, stop := context.WithCancel(gctx)
	defer stop()
	for _, p := range s.parts {
		g.Go(func() error {
			err := s.follow(following, p)
			if following.Err() != nil && gctx.Err() == nil {
				return nil // all have passed the end; one of them waited for more
			}
			return err
		})
	}
	g.Go(func() error {
		if err := s.scanBases(gctx, bases); err != nil {
			return err
		}
		s.Emit(run.Step, "waiting for the log to pass the end of the scan")
		if err := s.chooseCut(gctx); err != nil {
			return err
		}
		if err := s.nudgeLagging(gctx); err != nil {
			return err
		}
		stop()
		return nil
	})
	if err := g.Wait(); err != nil {
		return record.Mark{}, err
	}
	mark := *s.cut
	for _, p := range s.parts {
		if len(s.parts) == 1 {
			mark = p.reached
		} else if p.reached.Position == mark.Position && p.reached.Wall.After(mark.Wall) {
			mark.Wall = p.reached.Wall
		}
	}
	return mark, nil
}

// follow folds a shard's log until it has passed the cut.
func (s *snapshot) follow(ctx context.Context, p *part) error {
	return s.logged.Follow(ctx, p.shard, p.start.Position, func(changes []record.Change, prog engine.Progress) error {
		s.cutting.RLock()
		defer s.cutting.RUnlock()
		for i := range changes {
			c := &changes[i]
			if s.cut != nil && len(s.parts) > 1 && c.At > s.cut.Position {
				break
			}
			if !s.settings && s.model.Kind(c.Namespace) == record.KindSettings {
				continue
			}
			if err := p.fold.Change(c); err != nil {
				return p.fail(err)
			}
		}
		if prog.Mark.Position >= p.reached.Position {
			p.reached = prog.Mark
		}
		if s.cut != nil && prog.Mark.Position >= s.cut.Position {
			return engine.ErrStopFollowing
		}
		return nil
	})
}

func (p *part) fail(err error) error {
	if err == nil || p.label == "" {
		return err
	}
	return fmt.Errorf("shard %s: %w", p.label, err)
}

// chooseCut sets the cut: the newest position of any shard, so that nothing the
// scan has shown is newer. Clusters of several shards share one clock.
func (s *snapshot) chooseCut(ctx context.Context) error {
	var cut record.Mark
	for _, p := range s.parts {
		m, err := s.logged.LogEnd(ctx, p.shard)
		if err != nil {
			return err
		}
		if m.Position > cut.Position {
			cut = m
		}
	}
	s.cutting.Lock()
	defer s.cutting.Unlock()
	for _, p := range s.parts {
		if p.reached.Position > cut.Position {
			cut = p.reached
		}
	}
	s.cut = &cut
	return nil
}

// nudgeLagging waits until all shards have passed the cut; those that are idle are made
// to write to their logs.
func (s *snapshot) nudgeLagging(ctx context.Context) error {
	behind := func() map[string]record.Position {
		s.cutting.Lock()
		defer s.cutting.Unlock()
		out := map[string]record.Position{}
		for _, p := range s.parts {
			if p.reached.Position < s.cut.Position {
				out[p.shard] = p.reached.Position
			}
		}
		return out
	}
	return prepare.WaitForEnd(ctx, s.Runner, s.logged, len(s.parts) > 1, "past the end of the scan", behind)
}
