package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/undo"
	"dexamen/internal/view"
)

func (a *app) undoCommand() *cli.Command {
	return a.command(recovery, "undo", "RUN", "put back what a restore replaced or changed, and take away what it made",
		`A restore prints the name of its run; runs --kind restore lists them, and the end of a name is
enough. What was there before comes back as a whole, read back and compared: what was written to
it since is shown first, and can be had again by undoing the undo.`, a.undo,
		&cli.BoolFlag{Name: "preview", Usage: "show what would be done; change nothing"},
		&cli.BoolFlag{Name: "without-undo", Usage: "do not see to it first that what is there now can be had back"},
		&cli.BoolFlag{Name: "yes", Usage: "do not ask"})
}

// opener returns what connects to a cluster anew.
func (a *app) opener(c *cli.Command, cluster string) undo.Open {
	return func(ctx context.Context) (engine.Cluster, error) { return a.connect(ctx, c, cluster) }
}

// keep sees to it, before a restore, that what it changes can be had back, and notes in its
// run what it is about to do.
func (a *app) keep(ctx context.Context, c *cli.Command, e work, p *restore.Plan, r *store.Run) error {
	var there []string
	for _, it := range p.Items {
		if it.Cannot != "" {
			continue
		}
		r.Restored = append(r.Restored, store.RunRestored{From: it.From, To: it.To, There: it.There,
			Merged: it.There && p.Merges()})
		if it.There {
			there = append(there, it.To)
		}
	}
	return a.keepNames(ctx, c, e, there, r)
}

func (a *app) keepNames(ctx context.Context, c *cli.Command, e work, there []string, r *store.Run) (err error) {
	if len(there) == 0 || c.Bool("without-undo") {
		return nil
	}
	if r.Kept, err = undo.Keep(ctx, e.Runner, r.Target, a.opener(c, r.Target), there); err != nil {
		return fmt.Errorf(
			"nothing was changed: it could not be undone afterwards; --without-undo does it all the same: %w",
			err)
	}
	return nil
}

// findRun finds a run by the end of its name in any store, or the one that is named.
func (a *app) findRun(ctx context.Context, c *cli.Command, id string) (found *store.Run, in string, err error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, "", err
	}
	names := config.Names(cfg.Stores)
	if s := c.String("store"); s != "" {
		names = []string{s}
	}
	var errs []error
	for _, name := range names {
		e, progress, err := a.openRunnerOf(ctx, c, name, "")
		if err != nil {
			errs = append(errs, fmt.Errorf("store %s: %w", name, err))
			continue
		}
		runs, _, err := a.allRuns(ctx, e, store.RunFilter{})
		progress.Done()
		if err != nil {
			errs = append(errs, fmt.Errorf("store %s: %w", name, err))
			continue
		}
		for _, r := range runs {
			if !strings.HasSuffix(r.ID, id) || found != nil && found.ID == r.ID {
				continue // a mirror has the same runs
			}
			if found != nil {
				return nil, "", usage("%s is the end of several runs' names, among them %s and %s", id, found.ID, r.ID)
			}
			found, in = r, name
		}
	}
	if found == nil {
		return nil, "", errors.Join(append(errs, usage("there is no run %s; see: dexamen runs", id))...)
	}
	return found, in, nil
}

func (a *app) undo(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	of, in, err := a.findRun(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	if of.Target == "" {
		return fmt.Errorf("%w: run %s is a %s, and only restores are undone", run.ErrRefused, of.ID, of.Kind)
	}
	e := work{}
	if e.Runner, e.progress, err = a.openRunnerOf(ctx, c, in, of.Cluster); err != nil {
		return err
	}
	defer e.progress.Done()
	cl, err := a.connect(ctx, c, of.Target)
	if err != nil {
		return err
	}
	defer cl.Close()
	p, err := undo.New(ctx, e.Runner, of, cl)
	if err != nil {
		return err
	}
	defer p.Close()
	e.progress.Done()
	if !a.screen.JSON {
		a.showUndo(p)
	}
	if c.Bool("preview") {
		if a.screen.JSON {
			return a.screen.Encode(map[string]any{"run": of.ID, "to": of.Target, "plan": p.Items})
		}
		return nil
	}
	if len(p.Names()) == 0 && p.Back == nil {
		return a.undoneNothing(of)
	}
	if !c.Bool("yes") {
		if !a.screen.Terminal {
			return fmt.Errorf("%w: this would change %s on %s; without a terminal to ask at, say --yes to do it",
				run.ErrRefused,
				view.Plural(int64(len(p.Items)), "namespace"), of.Target)
		}
		if !a.ask("Go on?") {
			return errNotConfirmed
		}
	}
	r := &store.Run{Kind: store.RunUndo, Cluster: of.Cluster}
	p.Note(r)
	if err := a.keepNames(ctx, c, e, p.Names(), r); err != nil {
		return err
	}
	err = a.recordRun(ctx, c, e, r, func(ctx context.Context, _ *run.Runner, r *store.Run) error {
		done, err := p.Run(ctx)
		undo.Did(r, done)
		return err
	})
	e.progress.Done()
	if a.screen.JSON {
		if e := a.screen.Encode(map[string]any{
			"run": r.ID, "undoes": of.ID, "to": of.Target, "restored": r.Restored}); e != nil {
			return e
		}
		return err
	}
	if err == nil {
		a.screen.Line("run %s is undone; undo that with: dexamen undo %s", of.ID, r.ID)
	}
	return err
}

func (a *app) undoneNothing(of *store.Run) error {
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"undoes": of.ID, "restored": []any{}})
	}
	a.screen.Line("nothing is left of what run %s did: there is nothing to undo", of.ID)
	return nil
}

func (a *app) showUndo(p *undo.Plan) {
	s := a.screen
	s.Line("undo    %s of %s", p.Of.ID, view.Time(p.Of.Started))
	s.Line("on      %s", s.Accent(p.Of.Target))
	t := s.Table("namespace", ">records now", "since the restore", "will", ">added", ">changed", ">removed", ">left")
	for _, it := range p.Items {
		since, will := "unchanged", "go, as the restore made it"
		if it.Changed && !it.Absent {
			since = s.Loss("written to")
		}
		if it.Absent {
			since = s.Loss("gone")
		}
		if it.Unknown {
			since = "not known"
		}
		row := []any{}
		if !it.Remove {
			will = "be as it was before"
		} else if it.Gone {
			since, will = "", "stay away: it is gone already"
		}
		row = append(row, it.Name, view.Count(it.Records), since, will)
		if p.Back != nil && !it.Remove {
			for _, b := range p.Back.Items {
				if f := b.Effect; b.To == it.Name && f != nil {
					row = append(row, view.Count(f.Added), view.Count(f.Changed), view.Count(f.Removed),
						view.Count(f.Left))
				}
			}
		}
		t.Row(row...)
	}
	t.Print(2)
	if p.Back != nil {
		s.Line("  what was there is taken from %s", p.Of.Kept)
	}
	if names := p.Changed(); len(names) > 0 {
		s.Line("  %s has been written to since the restore; that goes too, and can be had back by undoing the undo",
			strings.Join(names, ", "))
	}
}
