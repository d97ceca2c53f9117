package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) runsCommand() *cli.Command {
	cmd := a.command(protect, "runs", "[CLUSTER]",
		"what was done, by whom, with what outcome; runs show RUN shows one in full",
		"Captures that went well and follow on each other are one line; --all shows each. An ended run is "+
			"never\nchanged; how long runs are kept is the policy's keep.runs.",
		a.everyStore(a.runs),
		&cli.StringSliceFlag{Name: "kind", Usage: "only `KIND`: " + strings.Join(store.RunKinds, ", ")},
		&cli.StringFlag{Name: "since", Value: "-7d", Usage: "only what began since `WHEN`"},
		&cli.BoolFlag{Name: "failed", Usage: "only what failed"},
		&cli.BoolFlag{Name: "worst-first", Usage: "what failed comes first"},
		chartFlag("durations and sizes over time"),
		&cli.BoolFlag{Name: "all", Usage: "every capture on a line of its own"})
	cmd.Commands = []*cli.Command{a.command("", "show", "RUN", "show one run in full; the end of its name is enough",
		"", func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 1, 1); err != nil {
				return err
			}
			cfg, err := a.config(c)
			if err != nil {
				return err
			}
			names := config.Names(cfg.Stores)
			if s := c.String("store"); s != "" {
				names = []string{s}
			}
			var runs []*store.Run
			var errs []error
			for _, name := range names {
				e, progress, err := a.openRunnerOf(ctx, c, name, "")
				if err == nil {
					var of []*store.Run
					of, _, err = a.allRuns(ctx, e, store.RunFilter{})
					for _, r := range of { // a mirror has the same runs
						if !slices.ContainsFunc(runs, func(x *store.Run) bool { return x.ID == r.ID }) {
							runs = append(runs, r)
						}
					}
					progress.Done()
				}
				if err != nil {
					errs = append(errs, fmt.Errorf("store %s: %w", name, err))
				}
			}
			// Of several stores one that cannot be read does not hide the run that another has.
			if err := a.showRun(runs, c.Args().First()); err != nil {
				return errors.Join(append(errs, err)...)
			}
			return nil
		})}
	return cmd
}

// allRuns returns runs that have ended, that go on, and that died.
func (a *app) allRuns(ctx context.Context, e *run.Runner,
	f store.RunFilter) (runs []*store.Run, unreadable []error, err error) {
	runs, unreadable, err = e.Store.Runs(ctx, f)
	if err != nil {
		return nil, nil, err
	}
	going, broken, err := e.Store.Running(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, r := range append(going, broken...) {
		if (f.Cluster == "" || r.Cluster == f.Cluster) && (len(f.Kinds) == 0 || slices.Contains(f.Kinds, r.Kind)) {
			if slices.Contains(broken, r) {
				r.Result = store.RunKilled
			}
			runs = append(runs, r)
		}
	}
	return runs, unreadable, nil
}

func (a *app) runs(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	cluster := c.Args().First()
	e, progress, err := a.openRunner(ctx, c, cluster)
	if err != nil {
		return err
	}
	defer progress.Done()
	since, err := address.ParseWhen(c.String("since"), time.Now())
	if err != nil || since.Kind != address.Time {
		return usage("--since %s: write a time or a distance back, such as -7d", c.String("since"))
	}
	for _, k := range c.StringSlice("kind") {
		if !slices.Contains(store.RunKinds, k) {
			return usage("--kind %s: use one of %s", k, strings.Join(store.RunKinds, ", "))
		}
	}
	f := store.RunFilter{Cluster: cluster, Kinds: c.StringSlice("kind"), Since: since.Time}
	runs, bad, err := a.allRuns(ctx, e, f)
	if err != nil {
		return err
	}
	if c.Bool("failed") {
		runs = slices.DeleteFunc(runs, func(r *store.Run) bool { return r.Good() || r.Result == "" })
	}
	chart, png, err := drawing(c)
	if err != nil {
		return err
	}
	if chart != "" {
		if err := a.drawRuns(runs, chart, png); err != nil {
			return err
		}
	}
	if c.Bool("worst-first") {
		slices.SortStableFunc(runs, func(x, y *store.Run) int { return order(x) - order(y) })
	}
	if a.screen.JSON {
		if runs == nil {
			runs = []*store.Run{}
		}
		return a.screen.Encode(runs)
	}
	a.showRuns(runs, c.Bool("all"))
	if len(bad) > 0 {
		return fmt.Errorf("%w: %s of the history cannot be read: %w", run.ErrIncomplete,
			view.Plural(int64(len(bad)), "run"), bad[0])
	}
	return nil
}

func order(r *store.Run) int {
	if r.Good() || r.Result == "" {
		return 1
	}
	return 0
}

func (a *app) showRuns(runs []*store.Run, all bool) {
	s := a.screen
	if len(runs) == 0 {
		s.Line("no runs")
		return
	}
	t := s.Table("run", "kind", "cluster", "started", ">took", "outcome", "what it did", "requested by")
	for i := 0; i < len(runs); i++ {
		r := runs[i]
		n := 1
		if uneventful(r) && !all {
			for i+n < len(runs) && uneventful(runs[i+n]) && runs[i+n].Cluster == r.Cluster {
				n++
			}
		}
		id := r.ID[strings.LastIndexByte(r.ID, '-')+1:] // which runs show takes
		what := a.outcome(r)
		took := view.Duration(r.Took())
		if n > 1 {
			id = fmt.Sprintf("%d captures", n)
			var changes, stored int64
			for _, x := range runs[i : i+n] {
				changes, stored = changes+x.Changes, stored+x.Stored
			}
			what = fmt.Sprintf("%s, %s, to %s", view.Plural(changes, "change"), view.Bytes(stored),
				view.Clock(runs[i+n-1].To))
			took = ""
		}
		result := r.Result
		switch {
		case result == "":
			result = s.Accent("going on")
		case !r.Good():
			result = s.Loss(result)
		}
		t.Row(id, r.Kind, r.Cluster, view.Time(r.Started), took, result, what, requester(r))
		i += n - 1
	}
	t.Print(0)
}

// uneventful reports whether a run is a capture that went well: there are many.
func uneventful(r *store.Run) bool {
	return r.Kind == store.RunCapture && r.Good() && len(r.Warnings) == 0 && len(r.Gaps) == 0
}

func requester(r *store.Run) string {
	if r.Policy != "" {
		return r.Policy
	}
	return r.User + " by hand"
}

// outcome reports in a few words what came of a run.
func (a *app) outcome(r *store.Run) string {
	if r.Error != "" {
		text := []rune(strings.ReplaceAll(r.Error, "\n", "; "))
		if most := max(40, a.screen.Width-90); a.screen.Bounded && len(text) > most {
			text = append(text[:most-1], '…')
		}
		return string(text)
	}
	switch r.Kind {
	case store.RunSnapshot:
		if r.Point != "" {
			return fmt.Sprintf("point %s by %s, %s, %s new", r.Point, r.Made, view.Plural(r.Records, "record"),
				view.Bytes(r.Stored))
		}
	case store.RunCapture:
		if r.Result != "" {
			return fmt.Sprintf("%s, %s, to %s", view.Plural(r.Changes, "change"), view.Bytes(r.Stored),
				view.Clock(r.To))
		}
	case store.RunRetention:
		return fmt.Sprintf("%s removed, %s of log and %s given back", view.Plural(int64(len(r.Retired)), "point"),
			view.Plural(int64(r.Segments), "segment"), view.Bytes(r.Freed))
	case store.RunMirror:
		return fmt.Sprintf("%s copied to %s, which now has moments up to %s", view.Bytes(r.Stored), r.Target,
			view.Clock(r.To))
	case store.RunRestore, store.RunVerify, store.RunScrub:
		if r.Records > 0 {
			return fmt.Sprintf("%s, %s", view.Plural(r.Records, "record"), view.Bytes(r.Bytes))
		}
	case store.RunLend:
		return fmt.Sprintf("login %s, which sees %s, until %s", r.Login.User, r.Login.Part, view.Time(r.Until))
	case store.RunLendEnd:
		return fmt.Sprintf("login %s taken away: %s", r.Login.User, r.Reason)
	}
	return ""
}

func (a *app) showRun(runs []*store.Run, id string) error {
	var found []*store.Run
	for _, r := range runs {
		if r.ID == id || strings.HasSuffix(r.ID, id) {
			found = append(found, r)
		}
	}
	if len(found) != 1 {
		return usage("%s %q; see: dexamen runs --since -30d --all", map[bool]string{
			true: "no run is called", false: fmt.Sprintf("%d runs are called", len(found))}[len(found) == 0], id)
	}
	r := found[0]
	if a.screen.JSON {
		return a.screen.Encode(r)
	}
	s := a.screen
	result := r.Result
	if result == "" {
		result = "going on"
	} else if !r.Good() {
		result = s.Loss(result)
	}
	of := ""
	if r.Cluster != "" {
		of = " of " + r.Cluster
	}
	s.Line("run %s: %s%s, %s", s.Accent(r.ID), r.Kind, of, result)
	line := func(name, format string, args ...any) {
		s.Line("  %-12s %s", name, fmt.Sprintf(format, args...))
	}
	if r.Error != "" {
		line("error", "%s", s.Loss(r.Error))
	}
	line("started", "%s", view.Time(r.Started))
	if !r.Finished.IsZero() {
		line("finished", "%s, after %s", view.Time(r.Finished), view.Duration(r.Took()))
	}
	if r.Policy != "" {
		line("requested by", "policy %s (%s), due %s, attempt %d", r.Policy, r.Reason, view.Time(r.Due), r.Attempt)
	} else {
		line("requested by", "%s: %s", r.User, r.What)
	}
	line("done by", "%s, process %d on %s, user %s", r.Tool, r.Process, r.Host, r.User)
	for _, m := range r.Read {
		why := ""
		if m.Reason != "" {
			why = " (" + m.Reason + ")"
		}
		line("read", "%s of shard %s%s", m.Address, m.Shard, why)
	}
	if r.Point != "" {
		made := ""
		if r.Made != "" {
			made = ", made by " + r.Made
		}
		line("point", "%s%s", r.Point, made)
	}
	if !r.From.IsZero() {
		line("log", "%s to %s, %s in %s", view.Time(r.From), view.Time(r.To), view.Plural(r.Changes, "change"),
			view.Plural(int64(r.Segments), "segment"))
	}
	if r.Records > 0 {
		line("content", "%s, %s", view.Plural(r.Records, "record"), view.Bytes(r.Bytes))
	}
	if r.Held > 0 {
		line("held still", "for %s", view.Duration(r.Held.D()))
	}
	if r.Stored > 0 {
		line("stored", "%s new", view.Bytes(r.Stored))
	}
	if r.Freed > 0 {
		line("given back", "%s", view.Bytes(r.Freed))
	}
	for _, g := range r.Gaps {
		line("gap", "%s %s to %s", s.Loss(g.Reason), view.Time(g.From.Wall), view.Time(g.To.Wall))
	}
	a.showFound(r.Verdicts, line)
	for _, p := range r.Retired {
		line("retired", "%s: %s", p.Point, p.Reason)
	}
	for _, w := range r.Warnings {
		line("warning", "%s", w)
	}
	for _, h := range r.Hooks {
		how := fmt.Sprintf("exit %d after %s", h.Exit, view.Duration(h.Took.D()))
		if h.Error != "" {
			how = s.Loss(h.Error)
		}
		line("hook", "%s it: %s: %s", h.Phase, strings.Join(h.Command, " "), how)
		for _, l := range strings.Split(strings.TrimRight(h.Output, "\n"), "\n") {
			if l != "" {
				s.Line("               | %s", l)
			}
		}
	}
	return nil
}

// showFound lists what a verification, a proof or a scrub found.
func (a *app) showFound(list []store.RunVerdict, line func(name, format string, args ...any)) {
	for _, v := range list {
		found := v.Found
		if found != store.FoundSound && found != store.FoundNotProven {
			found = a.screen.Loss(found)
		}
		if v.Detail != "" {
			found += ": " + v.Detail
		}
		line("found", "%s: %s", v.Of, found)
	}
}
