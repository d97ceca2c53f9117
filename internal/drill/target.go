package drill

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
)

const (
	// waitFor is how long a scratch cluster is waited for that another drill has.
	waitFor = 10 * time.Minute
	// emptyWithin is how long taking things away again may take when the drill was told to end.
	emptyWithin = 10 * time.Minute
	// leftMark names, in the store, what a drill put onto a scratch cluster and has not taken away yet.
	leftMark = "drill"
)

// left is what a drill puts onto a scratch cluster, noted before it does.
type left struct {
	Run        string    `json:"run"`
	Created    time.Time `json:"created"`
	Namespaces []string  `json:"namespaces"`
}

// restored puts a moment onto the scratch cluster, has the checks made, and empties the cluster again.
func restored(ctx context.Context, e *run.Runner, m *moment.Moment, r *store.Run, o Options) (err error) {
	if err := moment.SameEngine(m.Point, o.Target, "the scratch cluster"); err != nil {
		return err
	}
	claim, err := acquire(ctx, e, o.Name)
	if err != nil {
		return err
	}
	defer claim.Release(context.WithoutCancel(ctx))
	writer, err := o.Target.Writer(ctx)
	if err != nil {
		return err
	}
	t := &target{e: e, o: o, writer: writer, seen: engine.ApplicationView(o.Target), model: m.Model}
	if err := t.vacate(ctx); err != nil {
		return err
	}
	w := &stopwatch{time.Now(), r.Drill}
	opt := restore.Options{OnReady: func(string) { w.answered() }}
	if len(o.Patterns) > 0 {
		opt.Pattern, opt.Also = o.Patterns[0], o.Patterns[1:]
	}
	plan, err := restore.NewPlan(ctx, e, m, o.Target, opt)
	if err != nil {
		return err
	}
	defer plan.Close()
	var names []string
	for _, it := range plan.Items {
		r.Restored = append(r.Restored, store.RunRestored{From: it.From, To: it.To})
		names = append(names, it.To)
	}
	if err := t.begin(ctx, r, names); err != nil {
		return err
	}
	defer func() {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), emptyWithin)
		defer cancel()
		e.Emit(run.Step, "emptying %s", o.Name)
		if cerr := t.empty(end, names); cerr != nil {
			r.Drill.Left = e.Text(cerr)
			e.Emit(run.Warning, "%s is not empty again, and the next drill begins with that: %v", o.Name, cerr)
			if err == nil {
				err = fmt.Errorf("%w: %s is not empty again: %w", run.ErrIncomplete, o.Name, cerr)
			}
		}
	}()
	done, err := plan.Run(ctx)
	r.Restored = restore.Note(done, r.Restored)
	if err != nil {
		return notWhole(err)
	}
	r.Drill.Recovery = w.elapsed()
	if err := t.recount(ctx, r); err != nil {
		return err
	}
	back := &there{cluster: t.seen, address: o.Address, counts: map[string]any{}}
	for _, d := range r.Restored {
		back.counts[d.To] = d.Records
		r.Records, r.Bytes = r.Records+d.Records, r.Bytes+d.Bytes
	}
	return check(ctx, e, r, o, back)
}

// recount counts the records of namespaces in which a log's commands were carried out: how many there
// are then only the server tells.
func (t *target) recount(ctx context.Context, r *store.Run) error {
	if !slices.ContainsFunc(r.Restored, func(d store.RunRestored) bool { return d.Replayed }) {
		return nil
	}
	x, err := t.e.Store.NewScratch(t.e.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	now, err := t.content(ctx)
	if err != nil {
		return err
	}
	for i := range r.Restored {
		d := &r.Restored[i]
		if !d.Replayed {
			continue
		}
		d.Records, d.Bytes = 0, 0
		for _, ns := range now {
			if ns.Name != d.To {
				continue
			}
			root, err := moment.ReadBack(ctx, t.e, x, t.seen, ns, tree.Root{})
			if err != nil {
				return err
			}
			d.Records, d.Bytes = root.Records, root.Bytes
		}
	}
	return nil
}

// acquire claims a scratch cluster among the drills of a store.
func acquire(ctx context.Context, e *run.Runner, name string) (*sealed.Claim, error) {
	for began := time.Now(); ; {
		claim, err := e.Store.AcquireFor(ctx, leftMark, name)
		if err == nil {
			return claim, nil
		}
		if !errors.Is(err, store.ErrHeld) {
			return nil, err
		}
		if time.Since(began) > waitFor {
			return nil, fmt.Errorf("%w: another drill has %s: %w", run.ErrRefused, name, err)
		}
		e.Emit(run.Step, "waiting for %s: %v", name, err)
		if err := wait.For(ctx, time.Second); err != nil {
			return nil, err
		}
	}
}

// target is a scratch cluster in the hands of a drill.
type target struct {
	e      *run.Runner
	o      Options
	writer engine.Writer
	seen   engine.Cluster
	model  engine.Model
}

// vacate sees to it that the scratch cluster holds nothing. What a drill left that died is taken away;
// anything else is a reason to go no further.
func (t *target) vacate(ctx context.Context) error {
	var was left
	marked, err := t.e.Store.Mark(ctx, t.o.Name, leftMark, &was)
	if err != nil {
		return err
	}
	if w, ok := t.writer.(engine.StagingWriter); ok {
		// A drill that died while it restored left stages, which have names of their own.
		if err := restore.Sweep(ctx, t.e, w); err != nil {
			return err
		}
	}
	there, err := t.content(ctx)
	if err != nil {
		return err
	}
	for _, ns := range there {
		if t.model.Staged(ns.Name) {
			return fmt.Errorf("%w: a restore onto %s is under way, or was cut short on another host: %s is there; "+
				"drill again when it has ended", run.ErrRefused, t.o.Name, ns.Name)
		}
		if !slices.Contains(was.Namespaces, ns.Name) {
			return fmt.Errorf("%w: %s is not empty: %s is there, with %s; a drill restores onto a cluster that holds "+
				"nothing, and empties it afterwards", run.ErrRefused, t.o.Name, ns.Name,
				run.Count(ns.Records, "record"))
		}
	}
	if !marked {
		return nil
	}
	if len(there) > 0 {
		t.e.Emit(run.Warning, "drill %s left %s on %s when it ended: taken away", was.Run,
			run.Count(int64(len(there)), "namespace"), t.o.Name)
	}
	return t.empty(ctx, was.Namespaces)
}

// begin notes what will be put onto the scratch cluster, before anything is.
func (t *target) begin(ctx context.Context, r *store.Run, names []string) error {
	err := t.e.Store.PutMark(ctx, t.o.Name, leftMark, left{Run: r.ID, Created: time.Now().UTC(), Namespaces: names})
	if errors.Is(err, blob.ErrExists) {
		return fmt.Errorf("%w: another drill has begun on %s", run.ErrRefused, t.o.Name)
	}
	return err
}

// content returns the namespaces that are there.
func (t *target) content(ctx context.Context) (out []engine.Namespace, err error) {
	now, err := t.seen.Namespaces(ctx)
	for _, ns := range now {
		_, inPlace := t.writer.(engine.InPlaceWriter)
		if !ns.Kind.IsContent() || ns.Skip != "" || inPlace && ns.Records == 0 {
			continue
		}
		out = append(out, ns)
	}
	return out, err
}

// empty takes away what a drill has put onto the scratch cluster, and sees that it is gone.
func (t *target) empty(ctx context.Context, names []string) error {
	there, err := t.content(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, ns := range there {
		if !slices.Contains(names, ns.Name) {
			continue
		}
		if err := restore.Remove(ctx, t.e, t.writer, t.seen, ns); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", ns.Name, err))
		}
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	if there, err = t.content(ctx); err != nil {
		return err
	}
	var still []string
	for _, ns := range there {
		if slices.Contains(names, ns.Name) {
			still = append(still, ns.Name)
		}
	}
	if len(still) > 0 {
		return fmt.Errorf("%s still there", strings.Join(still, ", "))
	}
	return t.e.Store.RemoveMark(ctx, t.o.Name, leftMark)
}
