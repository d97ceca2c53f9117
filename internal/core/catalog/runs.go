package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// Kinds of runs.
const (
	RunSnapshot  = "snapshot"
	RunCapture   = "capture"
	RunRestore   = "restore"
	RunUndo      = "undo"
	RunVerify    = "verify"
	RunRetention = "retention"
	RunDrill     = "drill"
	RunScrub     = "scrub"
	RunMirror    = "mirror"   // copied to a second store
	RunLend      = "lend"     // a login was lent
	RunLendEnd   = "lend-end" // it was taken away again
)

// RunKinds are all of them.
var RunKinds = []string{RunSnapshot, RunCapture, RunRestore, RunUndo, RunVerify, RunRetention, RunDrill, RunScrub,
	RunMirror, RunLend, RunLendEnd}

// Results of runs.
const (
	RunDone        = "done"
	RunIncomplete  = "incomplete"  // done, but something is missing
	RunDiffers     = "differs"     // a verification or comparison found a difference
	RunRefused     = "refused"     // for safety
	RunFailed      = "failed"      //
	RunInterrupted = "interrupted" // asked to stop
	RunKilled      = "died"        // its process was killed or crashed
)

// Run is one piece of work and its outcome. Once it has ended it is never
// changed.
type Run struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"`
	Cluster string `json:"cluster,omitempty"` // none where it is about the whole store
	// Policy and Slot say what asked for it and when it was due; both are empty
	// where a person did.
	Policy  string    `json:"policy,omitempty"`
	Due     time.Time `json:"due,omitzero"`
	Attempt int       `json:"attempt,omitempty"`
	Reason  string    `json:"reason,omitempty"`

	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished,omitzero"`
	Result   string    `json:"result,omitempty"`
	Error    string    `json:"error,omitempty"`
	User     string    `json:"user,omitempty"`
	Host     string    `json:"host,omitempty"`
	Process  int       `json:"process,omitempty"`
	Tool     string    `json:"tool,omitempty"`
	// What is the command line, or what it was about.
	What string `json:"what,omitempty"`

	Point string `json:"point,omitempty"` // made, restored or verified
	// Target is the cluster that was restored onto, or the store that was copied to, and Restored what became
	// of each namespace.
	Target   string        `json:"target,omitempty"`
	Restored []RunRestored `json:"restored,omitempty"`
	// Kept is the address, without a namespace, of what was there before the restore changed
	// it; empty where nothing was changed.
	Kept string `json:"kept,omitempty"`
	// Until is when a restore is to be undone by itself, or a login to go.
	Until time.Time `json:"until,omitzero"`
	// Undoes is the run that this one undid, or whose login it took away.
	Undoes string `json:"undoes,omitempty"`
	// Login is what was lent until then.
	Login   *RunLogin `json:"login,omitempty"`
	Made    string    `json:"made,omitempty"` // how a point was: scan or fold
	From    time.Time `json:"from,omitzero"`  // of the log captured
	To      time.Time `json:"to,omitzero"`
	Records int64     `json:"records,omitempty"`
	Bytes   int64     `json:"bytes,omitempty"`  // of content
	Stored  int64     `json:"stored,omitempty"` // new in the store
	Freed   int64     `json:"freed,omitempty"`  // given back
	Changes int64     `json:"changes,omitempty"`
	// Held is for how long something of the cluster was held still.
	Held     record.Seconds `json:"held_seconds,omitempty"`
	Segments int            `json:"segments,omitempty"`
	// SegmentsGoing, of so many bytes, are not needed and stay for as long as what was retired
	// can be brought back.
	SegmentsGoing int           `json:"segments_going,omitempty"`
	BytesGoing    int64         `json:"bytes_going,omitempty"`
	Read          []RunMember   `json:"read,omitempty"`
	Gaps          []journal.Gap `json:"gaps,omitempty"`
	// Wants says why a new point is needed, where one is.
	Wants string `json:"wants,omitempty"`
	// Verdicts are what a verification or a scrub found, of each thing that it looked at.
	Verdicts []RunVerdict `json:"verdicts,omitempty"`
	// Drill is what a drill measured and checked.
	Drill *Rehearsal `json:"drill,omitempty"`
	// Promise is what the promise of the policy came to since it was noted last.
	Promise *RunPromise `json:"promise,omitempty"`
	// Rule is what retention was to keep.
	Rule string `json:"rule,omitempty"`
	// Retired says of points that went why.
	Retired  []RunRetired `json:"retired,omitempty"`
	Warnings []string     `json:"warnings,omitempty"`
	Hooks    []RunHook    `json:"hooks,omitempty"`
	// After are the hooks that are still to run; kept while the run goes on.
	After []RunHook `json:"after,omitempty"`
	// Claim is what the run's process holds as long as it goes on.
	Claim string `json:"claim,omitempty"`
}

// RunLogin is a login that was lent; its password is kept nowhere.
type RunLogin struct {
	User  string `json:"user"`
	Part  string `json:"part"` // the database or the namespace that it sees
	Write bool   `json:"write,omitempty"`
	// Gone: it was taken away at once, as making it failed.
	Gone bool `json:"gone,omitempty"`
}

// RunMember is who was read, and why.
type RunMember struct {
	Shard   string `json:"shard"`
	Address string `json:"address"`
	Reason  string `json:"reason,omitempty"`
}

// RunRestored is what a restore does, or did, to a namespace.
type RunRestored struct {
	From string `json:"from"`
	To   string `json:"to"`
	// There: something was there of this name, with records; it was replaced, or Merged.
	There   bool  `json:"there,omitempty"`
	Merged  bool  `json:"merged,omitempty"`
	Records int64 `json:"records,omitempty"`
	Bytes   int64 `json:"bytes,omitempty"`
	// Root is of the content when the restore had ended; zero where it did not, or where
	// commands of a log were carried out (Replayed).
	Root     tree.Hash `json:"root,omitzero"`
	Replayed bool      `json:"replayed,omitempty"`
}

// Rehearsal is what a drill measured, and what became of its checks.
type Rehearsal struct {
	// Served: the moment was served, and restored nowhere.
	Served bool `json:"served,omitempty"`
	// Chosen is how the moment was chosen, as in "random in 7d".
	Chosen string `json:"chosen,omitempty"`
	// FirstAnswer is after how long a first namespace could be read, Recovery after how long all
	// could, proven equal to what was there; zero where it did not come so far.
	FirstAnswer record.Seconds `json:"first_answer_seconds,omitempty"`
	Recovery    record.Seconds `json:"recovery_seconds,omitempty"`
	// Within is how long the recovery may take; zero where nothing is promised.
	Within record.Seconds `json:"within_seconds,omitempty"`
	// Age is how old the newest moment that could be restored was when the drill began.
	Age    record.Seconds `json:"age_seconds"`
	Checks []RunCheck     `json:"checks,omitempty"`
	// Left says what of the drill could not be taken away from the target again.
	Left string `json:"left,omitempty"`
}

// RunPromise is for how long, of some time, the newest moment that could be restored was older than is
// promised.
type RunPromise struct {
	From     time.Time      `json:"from"`
	To       time.Time      `json:"to"`
	Promised record.Seconds `json:"promised_seconds"`
	Broken   record.Seconds `json:"broken_seconds"`
}

// RunCheck is a check of what was restored.
type RunCheck struct {
	What   string         `json:"what"`
	Passed bool           `json:"passed"`
	Found  string         `json:"found,omitempty"` // in words
	Took   record.Seconds `json:"took_seconds"`
}

// RunRetired is a point that went, and why.
type RunRetired struct {
	Point  string `json:"point"`
	Reason string `json:"reason"`
}

// RunHook is a command that ran, or is to run, beside a run.
type RunHook struct {
	Phase   string         `json:"phase"` // before or after
	Command []string       `json:"command"`
	Timeout record.Seconds `json:"timeout_seconds,omitempty"`
	// Environment names the variables that it is given besides those that say what runs.
	Environment []string       `json:"environment,omitempty"`
	Started     time.Time      `json:"started,omitzero"`
	Took        record.Seconds `json:"took_seconds,omitempty"`
	Exit        int            `json:"exit"`
	Output      string         `json:"output,omitempty"` // the last of it
	Error       string         `json:"error,omitempty"`
}

// Good reports whether a run did what it was for.
func (r *Run) Good() bool { return r.Result == RunDone }

// Took is how long a run lasted, or has lasted by now.
func (r *Run) Took() time.Duration {
	if r.Finished.IsZero() {
		return time.Since(r.Started)
	}
	return r.Finished.Sub(r.Started)
}

// Newest returns the run of a policy and kind that was due or began last; nil
// without one.
func Newest(runs []*Run, policy, kind string) (last *Run) {
	for _, r := range runs {
		if r.Policy == policy && r.Kind == kind && (last == nil || r.ID > last.ID) {
			last = r
		}
	}
	return last
}

func (s *Catalog) RunFolder(prefix, cluster, kind string) string {
	if cluster == "" {
		cluster = "-"
	}
	return prefix + s.NamePart("cluster", cluster) + "/" + s.NamePart("run", kind) + "/"
}

// ErrRunEnded is returned when a run that has ended was to be changed.
var ErrRunEnded = errors.New("the run has ended and is not changed")

// BeginRun makes it known that a run goes on. With exclusive set no other run of
// its kind and cluster may: ErrHeld says so. Check, where not nil, is asked with
// the claim in hand whether the run is still to be. The claim must be given to
// EndRun.
func (s *Catalog) BeginRun(ctx context.Context, r *Run, exclusive bool, check func() error) (*sealed.Claim, error) {
	r.Started = s.Now().UTC().Truncate(time.Millisecond)
	r.ID = r.Started.Format("20060102-150405.000-") + sealed.NewID(3)
	r.Claim = sealed.RunClaim + r.ID
	if exclusive {
		r.Claim = "work-" + s.NamePart("cluster", r.Cluster) + "-" + s.NamePart("run", r.Kind)
	}
	l, err := s.Acquire(ctx, r.Claim)
	if err != nil {
		return nil, err
	}
	r.Claim += "/" + l.Entry.Holder
	if check != nil {
		if err := check(); err != nil {
			l.Release(context.WithoutCancel(ctx))
			return nil, err
		}
	}
	if err := s.PutObject(ctx, s.ListKey(), s.RunFolder(sealed.RunningPrefix, r.Cluster, r.Kind)+r.ID, r); err != nil {
		l.Release(context.WithoutCancel(ctx))
		return nil, err
	}
	return l, nil
}

// EndRun keeps a run as it ended, and gives its claim up; a nil claim is that of
// somebody who is gone. Where the store does not take it the claim is kept: it is to be called
// again, or EndLater.
func (s *Catalog) EndRun(ctx context.Context, r *Run, l *sealed.Claim) (err error) {
	if l != nil {
		defer func() {
			if err == nil || errors.Is(err, ErrRunEnded) {
				l.Release(ctx)
			}
		}()
	}
	if r.Finished.IsZero() {
		r.Finished = s.Now().UTC().Truncate(time.Millisecond)
	}
	kept := *r
	kept.After, kept.Claim = nil, ""
	err = s.PutObject(ctx, s.ListKey(), s.RunFolder(sealed.RunsPrefix, r.Cluster, r.Kind)+r.ID, &kept)
	if errors.Is(err, blob.ErrExists) {
		err = fmt.Errorf("run %s: %w", r.ID, ErrRunEnded)
	}
	if err != nil && !errors.Is(err, ErrRunEnded) {
		return err
	}
	rerr := s.RemoveObject(ctx, s.RunFolder(sealed.RunningPrefix, r.Cluster, r.Kind)+r.ID)
	if errors.Is(rerr, blob.ErrNotFound) {
		rerr = nil
	}
	return errors.Join(err, rerr)
}

// EndLater is EndRun in the background, until the store takes it or the run's claim is lost: what
// came of a run is to be known also where the store was away when it ended.
func (s *Catalog) EndLater(r *Run, l *sealed.Claim) {
	kept := *r
	go func() {
		for pause := 2 * time.Second; ; pause = min(2*pause, 4*time.Second) {
			time.Sleep(pause)
			if l.Check() != nil { // it counts as died by now
				l.Release(context.Background())
				return
			}
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			err := s.EndRun(ctx, &kept, l)
			cancel()
			if err == nil || errors.Is(err, ErrRunEnded) {
				return
			}
		}
	}()
}

// Running returns the runs that have begun and not ended: those whose process is
// at it, and those that died.
func (s *Catalog) Running(ctx context.Context) (going, broken []*Run, err error) {
	var names []string
	if err := s.Blob.List(ctx, sealed.RunningPrefix,
		func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil || len(names) == 0 {
		return nil, nil, err
	}
	top, _, _, err := s.ClaimEntries(ctx, "")
	if err != nil {
		return nil, nil, err
	}
	now := s.Now()
	for _, n := range names {
		r := new(Run)
		err := s.GetObject(ctx, n, r)
		switch {
		case errors.Is(err, blob.ErrNotFound):
			continue
		case errors.Is(err, sealed.ErrDamaged):
			continue // the scrub tells
		case err != nil:
			return nil, nil, err
		}
		what, holder, _ := strings.Cut(r.Claim, "/")
		if e, ok := top[what]; ok && e.Holder == holder && e.Held(now) {
			going = append(going, r)
		} else if _, err := s.Blob.ReadAt(ctx, s.RunFolder(sealed.RunsPrefix, r.Cluster, r.Kind)+r.ID, 0,
			1); err == nil {
			_ = s.RemoveObject(ctx, n) // ended, and killed before it could say so here
		} else {
			broken = append(broken, r)
		}
	}
	return going, broken, nil
}

// RunFilter chooses runs; what is empty or zero chooses all.
type RunFilter struct {
	Cluster string
	ID      string
	Kinds   []string
	Since   time.Time
	// Last bounds how many of each cluster and kind are read, the newest.
	Last int
}

// Runs returns runs that have ended, in order of when they began. Those that
// cannot be read are errors beside the rest.
func (s *Catalog) Runs(ctx context.Context, f RunFilter) (runs []*Run, unreadable []error, err error) {
	prefix := sealed.RunsPrefix
	if f.Cluster != "" {
		prefix += s.NamePart("cluster", f.Cluster) + "/"
	}
	byFolder := map[string][]string{}
	kinds := map[string]bool{}
	for _, k := range f.Kinds {
		kinds[s.NamePart("run", k)] = true
	}
	since := ""
	if !f.Since.IsZero() {
		since = f.Since.UTC().Format("20060102-150405")
	}
	err = s.Blob.List(ctx, prefix, func(i blob.Info) error {
		cut := strings.LastIndexByte(i.Name, '/')
		folder, id := i.Name[:cut], i.Name[cut+1:]
		if kind := folder[strings.LastIndexByte(folder, '/')+1:]; (len(kinds) == 0 || kinds[kind]) && id >= since &&
			(f.ID == "" || f.ID == id) {
			byFolder[folder] = append(byFolder[folder], i.Name)
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(16) // a history is many small objects
	for _, names := range byFolder {
		slices.Sort(names)
		if f.Last > 0 && len(names) > f.Last {
			names = names[len(names)-f.Last:]
		}
		for _, n := range names {
			g.Go(func() error {
				r, err := sealed.Recall(s.Limits.Memo, n, func(r *Run) error { return s.GetObject(gctx, n, r) },
					(*Run).weight)
				if err == nil && n != s.RunFolder(sealed.RunsPrefix, r.Cluster, r.Kind)+r.ID {
					err = fmt.Errorf("%s: %w: it is the record of run %s", n, sealed.ErrDamaged, r.ID)
				}
				mu.Lock()
				defer mu.Unlock()
				switch {
				case err == nil:
					runs = append(runs, r)
				case errors.Is(err, sealed.ErrDamaged):
					unreadable = append(unreadable, err)
				case errors.Is(err, blob.ErrNotFound):
				default:
					return err
				}
				return nil
			})
		}
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	slices.SortFunc(runs, func(a, b *Run) int { return strings.Compare(a.ID, b.ID) })
	return runs, unreadable, nil
}

// ForgetRuns removes what is known of a cluster's captures that went well and
// began before uneventful, and of all its runs that began before all. The newest
// of each kind stays.
func (s *Catalog) ForgetRuns(ctx context.Context, cluster string, uneventful, all time.Time) (n int, err error) {
	by := map[string][]string{}
	err = s.Blob.List(ctx, sealed.RunsPrefix+s.NamePart("cluster", cluster)+"/", func(i blob.Info) error {
		folder := i.Name[:strings.LastIndexByte(i.Name, '/')+1]
		by[folder] = append(by[folder], i.Name)
		return nil
	})
	if err != nil {
		return 0, err
	}
	capture := s.NamePart("run", RunCapture)
	for folder, names := range by {
		slices.Sort(names)
		for _, name := range names[:len(names)-1] {
			began, err := time.Parse("20060102-150405", strings.TrimPrefix(name, folder)[:15])
			if err != nil || !began.Before(uneventful) {
				break
			}
			if !began.Before(all) {
				if !strings.HasSuffix(folder, "/"+capture+"/") {
					break
				}
				var r Run
				if err := s.GetObject(ctx, name, &r); err != nil || !r.Good() || len(r.Warnings) > 0 {
					continue
				}
			}
			if err := s.RemoveObject(ctx, name); err != nil && !errors.Is(err, blob.ErrNotFound) &&
				!errors.Is(err, blob.ErrLocked) {
				return n, err
			}
			n++
		}
	}
	return n, nil
}
