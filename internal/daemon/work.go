package daemon

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/wait"

	"dexamen/internal/explain"

	"golang.org/x/time/rate"

	"dexamen/internal/capture"
	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/retain"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/report"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/undo"
	"dexamen/internal/verify"
	"dexamen/internal/workers"
)

// Deps is what policies are carried out in.
type Deps struct {
	Config *config.Config
	// OpenEnv opens a store for a cluster; its Store is closed after use.
	OpenEnv func(ctx context.Context, c *config.Config, storeName, cluster string) (*run.Runner, error)
	// OpenCluster opens a cluster; settings, where not nil, says whether users
	// and roles are protected.
	OpenCluster func(ctx context.Context, c *config.Config, cluster string, settings *bool) (engine.Cluster, error)
	// Mirrored, where set, hears of a store that now has the keys of the one that it mirrors.
	Mirrored func(name string, of *store.Store)
	// Statements, where set, returns the evidence of a store since a time, for reports.
	Statements func(since time.Time) func(ctx context.Context, name string, e *run.Runner) ([]report.Statement,
		[]string, error)
	// NoFollow: continuous capture takes what there is, and ends.
	NoFollow bool
	// SegmentBytes bounds what a capture holds before it is stored.
	SegmentBytes int
	// Workers returns what work is shared by; nil where it is not configured. Nil itself where it never is.
	Workers func(ctx context.Context) (*workers.Engine, error)
	// Version is the program's.
	Version string
	// storeNow, where not nil, has a capture of this process store what it has read; false where
	// there is none.
	storeNow func(Assignment) bool
}

func (w Deps) env(ctx context.Context, storeName, cluster string) (*run.Runner, error) {
	return w.OpenEnv(ctx, w.Config, storeName, cluster)
}

func (w Deps) connect(ctx context.Context, d Duty) (engine.Cluster, error) {
	return w.OpenCluster(ctx, w.Config, d.Assignment.Cluster, d.Assignment.Config.ClusterWide)
}

// ErrNothing is returned when what was due had been done by another process.
var ErrNothing = errors.New("it has been done")

// Hooks returns a policy's hooks as run.Record takes them.
func Hooks(p config.Policy) (out []run.Hook) {
	for _, h := range p.Hooks {
		out = append(out, run.Hook{Kind: h.Before + h.After, After: h.After != "", Command: h.Run,
			Timeout: time.Duration(h.Timeout), Environment: h.Environment, Optional: h.IfFails == "go on"})
	}
	return out
}

// MatchesNow reports whether a pattern of a scope, "not" or not, fits a name.
func MatchesNow(pattern, name string) bool {
	return address.Match(strings.TrimPrefix(pattern, "not "), name)
}

// Fit has an environment do as a policy says.
func ApplyPolicy(e *run.Runner, p config.Policy, now time.Time) {
	e.Scope = p.Namespaces.At(now.In(zone(p)))
	if p.Rate > 0 {
		e.Rate = rate.NewLimiter(rate.Limit(p.Rate), int(max(p.Rate/4, 64<<10)))
	}
}

func zone(p config.Policy) *time.Location {
	if p.When.TimeZone == nil {
		return time.UTC
	}
	return p.When.TimeZone
}

// Heard is who hears of what is captured ([capture.Options]); the zero value nobody.
type Heard struct {
	Stored func(h journal.Header)
	Urgent func(namespace string, op record.Op, busiest int64, at time.Time) bool
	Now    <-chan struct{}
	Alive  func(shard string)
	// Event hears what the run reports.
	Event func(run.Event)
}

// Do does what is due, and gives the run that came of it. [ErrNothing] says that it
// was done meanwhile, or that another process holds the claim.
func (w Deps) Do(ctx context.Context, d Duty, heard Heard) (*store.Run, error) {
	e, err := w.env(ctx, d.Assignment.Store, d.Assignment.Cluster)
	if err != nil {
		return nil, err
	}
	defer e.Store.Close()
	if heard.Event != nil {
		e.OnEvent = heard.Event
	}
	r := &store.Run{Kind: d.Kind, Cluster: d.Assignment.Cluster, Policy: d.Assignment.Policy, Due: d.Due.UTC(),
		Attempt: d.Attempt, Reason: d.Reason}
	o := run.RecordOptions{Exclusive: true, Hooks: Hooks(d.Assignment.Config),
		Deadline: time.Duration(d.Assignment.Config.Deadline),
		Check: func() error {
			// With the claim in hand nobody else can do it any more.
			s, err := ReadState(ctx, e, d.Assignment.Cluster)
			if err == nil && Done(d, s, time.Now()) {
				err = ErrNothing
			}
			return err
		}}
	if d.Kind == store.RunCapture && d.Assignment.Config.When.Continuous {
		o.Deadline = 0
	}
	do := w.snapshot
	switch d.Kind {
	case store.RunCapture:
		do = func(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
			return w.capture(ctx, e, r, d, heard)
		}
	case store.RunUndo:
		do = func(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
			return w.undo(ctx, e, r, d)
		}
	case store.RunMirror:
		do = w.mirror
	case store.RunDrill:
		do = w.drill
	case store.RunRetention:
		do = func(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
			return ApplyRetention(ctx, e, d.Assignment, r)
		}
	}
	err = e.Record(ctx, r, o, func(ctx context.Context, e *run.Runner, r *store.Run) error { return do(ctx, e, r, d) })
	if errors.Is(err, store.ErrHeld) && r.Result == "" {
		err = fmt.Errorf("%w: %w", ErrNothing, err)
	}
	if r.Result == "" {
		return nil, err // it never began
	}
	return r, err
}

// undo ends a restore that was for a time.
func (w Deps) undo(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
	list, err := undo.Temporary(ctx, e, d.Assignment.Cluster)
	if err != nil {
		return err
	}
	for _, of := range list {
		if !of.Until.Equal(d.Due) {
			continue
		}
		open := func(ctx context.Context) (engine.Cluster, error) {
			return w.OpenCluster(ctx, w.Config, of.Target, nil)
		}
		return undo.Do(ctx, e, of, open, r)
	}
	return ErrNothing
}

// Made notes in a run what point came of it.
func RecordPoint(r *store.Run, p *store.Point) {
	r.Point, r.Made, r.To = p.ID, p.Made, p.Time
	r.Held = p.Held
	r.Records, r.Bytes, r.Stored, r.Changes = p.Stats.Records, p.Stats.Bytes, p.Stats.Stored, p.Stats.Changes
	for _, s := range p.Shards {
		if s.Member != "" {
			r.Read = append(r.Read, store.RunMember{Shard: s.Name, Address: s.Member, Reason: s.Reason})
		}
	}
	for _, s := range p.Skipped {
		r.Warnings = append(r.Warnings, s.Name+" is left out: "+s.Reason)
	}
}

// Took notes in a run what was captured.
func RecordCapture(r *store.Run, g *capture.Result) {
	if g == nil {
		return
	}
	r.From, r.To, r.Changes, r.Segments, r.Stored, r.Gaps = g.From.Wall, g.To.Wall, g.Changes, g.Segments, g.Stored,
		g.Gaps
	for _, s := range g.Shards {
		r.Read = append(r.Read, store.RunMember{Shard: s.Shard, Address: s.Member})
	}
	for _, d := range g.Doubts {
		r.Warnings = append(r.Warnings, "in doubt: "+d)
	}
}

func (w Deps) snapshot(ctx context.Context, e *run.Runner, r *store.Run, d Duty) error {
	s, err := ReadState(ctx, e, d.Assignment.Cluster)
	if err != nil {
		return err
	}
	ApplyPolicy(e, d.Assignment.Config, d.Due)
	if err := proveRemaining(ctx, e, d.Assignment, s); err != nil {
		r.Warnings = append(r.Warnings, explain.Error(err))
	}
	if Folds(d.Assignment, s, d.Due) {
		p, err := w.fold(ctx, e, d)
		if err == nil && p == nil {
			r.Warnings = append(r.Warnings,
				"the log after point "+s.Newest().ID+" holds nothing: no new point was made")
			return nil
		}
		if err == nil {
			RecordPoint(r, p)
			return nil
		}
		if ctx.Err() != nil {
			return err
		}
		r.Warnings = append(r.Warnings, "the point could not be folded from the log and was read from the cluster: "+
			explain.Error(err))
	}
	c, err := w.connect(ctx, d)
	if err != nil {
		return err
	}
	e.FullRead = !ReadsChanges(d.Assignment, s, d.Due)
	end, err := w.Share(ctx, e, d.Kind, d.Assignment.Cluster, c)
	if err != nil {
		_ = c.Close()
		return err
	}
	p, err := snapshot.Take(ctx, e, d.Assignment.Cluster, c)
	end()
	_ = c.Close()
	if err != nil {
		return err
	}
	RecordPoint(r, p)
	if err := w.prove(ctx, e, r, d, s, p); err != nil {
		return err
	}
	return LeftOut(p)
}

// LeftOut returns run.ErrIncomplete where something that a point was to hold is not in it.
func LeftOut(p *store.Point) error {
	switch n := len(p.Skipped); n {
	case 0:
		return nil
	case 1:
		return fmt.Errorf("%w: 1 namespace is left out of point %s", run.ErrIncomplete, p.ID)
	default:
		return fmt.Errorf("%w: %d namespaces are left out of point %s", run.ErrIncomplete, n, p.ID)
	}
}

// fold makes a point from the log, captured up to now; nil where there is
// nothing new in it.
func (w Deps) fold(ctx context.Context, e *run.Runner, d Duty) (*store.Point, error) {
	now := time.Now()
	to := func(chains map[string]*journal.Chain) bool { return capture.Until(chains, now) }
	if err := w.catchUp(ctx, e, d, now, to); err != nil && !errors.Is(err, capture.ErrNotReached) {
		return nil, err // a log that has not come as far is folded as far as it has
	}
	m, err := moment.Resolve(ctx, e, d.Assignment.Cluster, address.When{Kind: address.Latest}, restore.OnScratch{})
	if err != nil || m.Exact() {
		return nil, err
	}
	return snapshot.Fold(ctx, e, m)
}

// prove has a new point prove the log since the one before it, once that is
// captured.
func (w Deps) prove(ctx context.Context, e *run.Runner, r *store.Run, d Duty, s *State, p *store.Point) error {
	when := d.Assignment.Config.When
	if s.Newest() == nil || when.Capture == 0 && !when.Continuous || !p.Exact {
		return nil
	}
	if why := verify.Unprovable(ctx, e, p); why != "" {
		e.OnEvent(run.Event{Time: time.Now(), Kind: run.Note, Text: "the log is not proven: " + why})
		return nil
	}
	// Several entries may be of one millisecond: its time does not tell whether the
	// log has come to the point.
	to := func(chains map[string]*journal.Chain) bool { return captured(chains, p) }
	if err := w.catchUp(ctx, e, d, p.Time, to); err != nil {
		e.OnEvent(run.Event{Time: time.Now(), Kind: run.Warning,
			Text: "the log could not be captured up to the new point, so nothing is proven: " + explain.Error(err)})
		return nil
	}
	m, err := verify.ProveLog(ctx, e, p)
	if m != nil {
		r.SetVerdicts(verify.LogVerdicts(m))
	}
	if err == nil && !m.Equal {
		e.OnEvent(run.Event{Time: time.Now(), Kind: run.Note, Text: moment.ProofText(m)})
	}
	return err
}

// catchUp has the log captured up to a time, which reached tells: by a run of its
// own, or by having whoever follows it store what it has.
func (w Deps) catchUp(ctx context.Context, e *run.Runner, d Duty, to time.Time,
	reached func(map[string]*journal.Chain) bool) error {
	patience := 2*d.Assignment.Config.SealAfter() + time.Minute
	for begun := time.Now(); !d.Assignment.Config.When.Continuous || w.NoFollow; {
		r := &store.Run{Kind: store.RunCapture, Cluster: d.Assignment.Cluster, Policy: d.Assignment.Policy,
			Due: d.Due.UTC(), Attempt: 1, Reason: "up to a snapshot"}
		err := e.Record(ctx, r, run.RecordOptions{Exclusive: true, Hooks: Hooks(d.Assignment.Config)},
			func(ctx context.Context, e *run.Runner, r *store.Run) error {
				return w.capture(ctx, e, r, d, Heard{})
			})
		if !errors.Is(err, store.ErrHeld) || r.Result != "" {
			return err
		}
		// Another is at it, for a moment or for long.
		chains, _, err := e.Store.Chains(ctx, d.Assignment.Cluster)
		if err != nil || reached(chains) {
			return err
		}
		if time.Since(begun) > patience {
			break
		}
		if err := wait.For(ctx, time.Second); err != nil {
			return err
		}
	}
	ask := w.storeNow
	if ask != nil && !ask(d.Assignment) {
		ask = nil
	}
	var short func()
	if ask != nil {
		short = func() { ask(d.Assignment) }
	}
	err := capture.WaitFor(ctx, e.Store, d.Assignment.Cluster, patience, short, reached)
	if errors.Is(err, capture.ErrNotReached) {
		err = fmt.Errorf("up to %s: %w", to.Local().Format(time.RFC3339), err)
	}
	return err
}

func (w Deps) capture(ctx context.Context, e *run.Runner, r *store.Run, d Duty,
	heard Heard) error {
	c, err := w.connect(ctx, d)
	if err != nil {
		return err
	}
	defer c.Close()
	opt := capture.Options{Follow: d.Kind == store.RunCapture && d.Assignment.Config.When.Continuous && !w.NoFollow,
		FlushEvery: d.Assignment.Config.SealAfter()}
	opt.OnStored, opt.Urgent, opt.Now, opt.SegmentBytes = heard.Stored, heard.Urgent, heard.Now, w.SegmentBytes
	opt.Alive = heard.Alive
	if !opt.Follow { // what goes on without an end is read by one
		topo, err := c.Topology(ctx)
		if err != nil {
			return err
		}
		if len(topo.Shards) > 1 {
			end, err := w.Share(ctx, e, d.Kind, d.Assignment.Cluster, c)
			if err != nil {
				return err
			}
			defer end()
		}
	}
	g, err := capture.Run(ctx, e, d.Assignment.Cluster, c, opt)
	RecordCapture(r, g)
	if errors.Is(err, run.ErrIncomplete) && (g == nil || !g.ResumedAtPoint) {
		r.Wants = explain.Error(err)
	}
	return err
}

// proveRemaining makes up for proofs that a killed run owes: of the newest points that
// were read from the cluster.
func proveRemaining(ctx context.Context, e *run.Runner, w Assignment, s *State) error {
	when := w.Config.When
	if when.Capture == 0 && !when.Continuous || e.Store.WriteOnly() {
		return nil
	}
	if p := s.Newest(); p == nil || verify.Unprovable(ctx, e, p) != "" {
		return nil
	}
	for i, left := len(s.Points)-1, 3; i > 0 && left > 0; i-- {
		p := s.Points[i]
		if p.Made != "scan" || !p.Exact {
			continue
		}
		left--
		if s.Proofs[p.ID] != nil || !captured(s.Chains, p) {
			continue
		}
		if _, err := verify.ProveLog(ctx, e, p); err != nil {
			return err
		}
	}
	return nil
}

// captured reports whether the log reaches a point.
func captured(chains map[string]*journal.Chain, p *store.Point) bool {
	for _, sh := range p.Shards {
		c := chains[sh.Name]
		if c == nil {
			return false
		}
		if end, _, _ := c.End(); end.Position < sh.Mark.Position {
			return false
		}
	}
	return true
}

// ApplyRetention makes up for proofs that are owed, while the log for them is there, and
// applies an assignment's retention, puts small log segments together, gives room back
// and forgets old runs; the run notes which points went and why.
func ApplyRetention(ctx context.Context, e *run.Runner, w Assignment, r *store.Run) error {
	s, err := ReadState(ctx, e, w.Cluster)
	if err != nil {
		return err
	}
	// What is in doubt is no reason to keep what no rule keeps.
	return errors.Join(keepPromise(ctx, e, w, s, r, time.Now()), proveRemaining(ctx, e, w, s),
		applyRetention(ctx, e, w, s, r))
}

func applyRetention(ctx context.Context, e *run.Runner, w Assignment, s *State, r *store.Run) error {
	if err := s.ReadFlaws(ctx, e, w.Cluster); err != nil {
		return err
	}
	plan := s.Plan(w, time.Now())
	var drop []string
	for _, v := range plan.Verdicts {
		if !v.Keep {
			drop = append(drop, v.Point.ID)
		}
	}
	var braked error
	if p := s.Ahead(time.Now()); p != nil {
		braked = fmt.Errorf("%w: point %s of %s is dated %s, which is still to come: set the clocks right "+
			"first; what is old "+
			"enough to go cannot be told until then", run.ErrRefused, p.ID, w.Cluster,
			p.Time.Local().Format(time.RFC3339))
	} else if r.Policy != "" { // nobody looks on
		braked = checkBrake(ctx, e, w, s.Points, len(drop))
	}
	if braked != nil {
		drop, plan = nil, &retain.Plan{}
	} else {
		r.Rule = ruleOf(w)
	}
	gone, err := e.Store.Retire(ctx, w.Cluster, drop, plan.LogFrom)
	if gone != nil {
		for _, v := range plan.Verdicts {
			if !v.Keep && !slices.Contains(gone.Locked, v.Point.ID) {
				r.Retired = append(r.Retired, store.RunRetired{Point: v.Point.ID, Reason: v.Reason})
			}
		}
		if len(gone.Held) > 0 {
			r.Retired = slices.DeleteFunc(r.Retired,
				func(d store.RunRetired) bool { return slices.Contains(gone.Held, d.Point) })
			r.Warnings = append(r.Warnings, fmt.Sprintf("%d points should go and are held since a moment ago",
				len(gone.Held)))
		}
		if len(gone.Locked) > 0 {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%d points should go and are locked for now", len(gone.Locked)))
		}
		r.Segments, r.Freed = gone.Segments, gone.Bytes
		r.SegmentsGoing, r.BytesGoing = gone.Going, gone.GoingBytes
	}
	if err = errors.Join(braked, err, prolongLocks(ctx, e, w, s, gone)); err != nil {
		return err
	}
	for _, h := range s.Holds {
		if h.Until.Before(time.Now().Add(-24 * time.Hour)) {
			if err := e.Store.RemoveHold(ctx, h); err != nil {
				return err
			}
		}
	}
	if _, err := e.Store.Join(ctx, w.Cluster, store.JoinOptions{}); err != nil {
		return err
	}
	keep := time.Duration(w.Config.Keep.Runs)
	if keep <= 0 {
		keep = 400 * 24 * time.Hour
	}
	now := time.Now()
	if _, err := e.Store.ForgetRuns(ctx, w.Cluster, now.Add(-min(keep, 7*24*time.Hour)), now.Add(-keep)); err != nil {
		return err
	}
	if e.Store.WriteOnly() {
		r.Warnings = append(r.Warnings,
			"this key can only write: what retired points held is given back by whoever can read the store")
		return nil
	}
	// What goes today is given back tomorrow at the earliest: of the clusters of
	// a store one is enough to see to it. Who asks for it gets it at once.
	o := store.ReclaimOptions{}
	if !r.Due.IsZero() {
		o.Every = 12 * time.Hour
	}
	back, err := e.Store.Reclaim(ctx, o)
	if errors.Is(err, store.ErrHeld) {
		return nil // another cluster's run is giving room back right now
	}
	if back != nil {
		r.Freed += back.Freed
	}
	return err
}

// prolongLocks locks for longer, once a day, what retention has left of a cluster.
func prolongLocks(ctx context.Context, e *run.Runner, w Assignment, s *State, gone *store.Retired) error {
	var left []*store.Point
	for _, p := range s.Points {
		if gone == nil || !slices.Contains(gone.Dropped, p.ID) {
			left = append(left, p)
		}
	}
	_, err := e.Store.ProlongLocks(ctx, w.Cluster, left, 20*time.Hour)
	if errors.Is(err, store.ErrHeld) {
		return nil // another process is at it
	}
	return err
}

// ruleOf writes down what a policy keeps.
func ruleOf(w Assignment) string {
	k := w.Config.Keep
	return fmt.Sprintf("every_moment %s, thin %s, never_fewer %d, never_more %d", time.Duration(k.EveryMoment),
		strings.Join(k.Thin, "; "), k.NeverFewer, k.NeverMore)
}

// fewDropped is how many points retention may drop unattended, however few there
// are.
const fewDropped = 5

// checkBrake keeps retention from dropping much unattended: under a rule that was
// changed since it ran last, or more than a quarter of the points that there were then.
// As many may go besides as were made since: where each hour has a point and each day keeps
// one, that is most of them. Somebody has to look, and to do it by hand once.
func checkBrake(ctx context.Context, e *run.Runner, w Assignment, points []*store.Point, drop int) error {
	if drop == 0 {
		return nil
	}
	byHand := fmt.Sprintf("look with: dexamen retention %s, and confirm with: dexamen retention %s --apply --yes",
		w.Cluster, w.Cluster)
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Cluster: w.Cluster, Kinds: []string{store.RunRetention}})
	if err != nil {
		return err
	}
	var last *store.Run
	for _, r := range runs {
		if r.Rule != "" && r.Good() {
			last = r
		}
	}
	if last != nil && last.Rule != ruleOf(w) {
		return fmt.Errorf("%w: what is kept of %s was changed since retention ran last (%s, before %s), and by that "+
			"%d of %d points would go; %s", run.ErrRefused, w.Cluster, ruleOf(w), last.Rule, drop, len(points), byHand)
	}
	made := 0
	for _, p := range points {
		if last != nil && p.Finished.After(last.Started) {
			made++
		}
	}
	if had := len(points) - made; drop-made > max(fewDropped, had/4) {
		return fmt.Errorf("%w: retention would drop %d of %d points of %s at once, more than a quarter of "+
			"the %d that there "+
			"were when it ran last and the %d made since; %s", run.ErrRefused, drop, len(points), w.Cluster, had,
			made, byHand)
	}
	return nil
}

// gapText returns a gap in a line.
func gapText(g journal.Gap) string {
	return fmt.Sprintf("nothing is known of the log from %s to %s: %s", g.From.Wall.Local().Format(time.RFC3339),
		g.To.Wall.Local().Format(time.RFC3339), g.Reason)
}
