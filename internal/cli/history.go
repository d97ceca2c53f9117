package cli

import (
	"context"
	"errors"
	"fmt"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) runsCommand() *cli.Command {
	cmd := a.command(protect, "runs", "[CLUSTER]", "what was done, by whom, with what outcome; runs show RUN shows one in full",
		"Captures that went well and follow on each other are one line; --all shows each. An ended run is never\nchanged; how long runs are kept is the policy's keep.runs.", a.runs,
		&cli.StringSliceFlag{Name: "kind", Usage: "only `KIND`: " + strings.Join(store.RunKinds, ", ")},
		&cli.StringFlag{Name: "since", Value: "-7d", Usage: "only what began since `WHEN`"},
		&cli.BoolFlag{Name: "failed", Usage: "only what failed"},
		&cli.BoolFlag{Name: "worst-first", Usage: "what failed comes first"},
		&cli.BoolFlag{Name: "all", Usage: "every capture on a line of its own"})
	cmd.Commands = []*cli.Command{a.command("", "show", "RUN", "show one run in full; the end of its name is enough", "", func(ctx context.Context, c *cli.Command) error {
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
			e, progress, err := a.envOf(ctx, c, name, "")
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
func (a *app) allRuns(ctx context.Context, e *run.Runner, f store.RunFilter) (runs []*store.Run, unreadable []error, err error) {
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
	e, progress, err := a.env(ctx, c, cluster)
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
	if len(runs) == 0 {
		if err := a.knownCluster(ctx, e, cluster, 0); err != nil {
			return err
		}
	}
	if c.Bool("failed") {
		runs = slices.DeleteFunc(runs, func(r *store.Run) bool { return r.Good() || r.Result == "" })
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
		return fmt.Errorf("%w: %s of the history cannot be read: %v", run.ErrIncomplete, view.Plural(int64(len(bad)), "run"), bad[0])
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
	t := s.Table("run", "kind", "cluster", "began", ">took", "outcome", "what it did", "requested by")
	for i := 0; i < len(runs); i++ {
		r := runs[i]
		n := 1
		if quiet(r) && !all {
			for i+n < len(runs) && quiet(runs[i+n]) && runs[i+n].Cluster == r.Cluster {
				n++
			}
		}
		id := r.ID[strings.LastIndexByte(r.ID, '-')+1:] // which runs show takes
		what := a.came(r)
		took := view.Duration(r.Took())
		if n > 1 {
			id = fmt.Sprintf("%d captures", n)
			var changes, stored int64
			for _, x := range runs[i : i+n] {
				changes, stored = changes+x.Changes, stored+x.Stored
			}
			what = fmt.Sprintf("%s, %s, to %s", view.Plural(changes, "change"), view.Bytes(stored), view.Clock(runs[i+n-1].To))
			took = ""
		}
		result := r.Result
		switch {
		case result == "":
			result = s.Accent("going on")
		case !r.Good():
			result = s.Loss(result)
		}
		t.Row(id, r.Kind, r.Cluster, view.Time(r.Started), took, result, what, asker(r))
		i += n - 1
	}
	t.Print(0)
}

// quiet reports whether a run is a capture that went well: there are many.
func quiet(r *store.Run) bool {
	return r.Kind == store.RunCapture && r.Good() && len(r.Warnings) == 0 && len(r.Gaps) == 0
}

func asker(r *store.Run) string {
	if r.Policy != "" {
		return r.Policy
	}
	return r.User + " by hand"
}

// came says in a few words what came of a run.
func (a *app) came(r *store.Run) string {
	if r.Error != "" {
		text := []rune(strings.ReplaceAll(r.Error, "\n", "; "))
		if most := max(40, a.screen.Width-90); len(text) > most {
			text = append(text[:most-1], '…')
		}
		return string(text)
	}
	switch r.Kind {
	case store.RunSnapshot:
		if r.Point != "" {
			return fmt.Sprintf("point %s by %s, %s, %s new", r.Point, r.Made, view.Plural(r.Records, "record"), view.Bytes(r.Stored))
		}
	case store.RunCapture:
		if r.Result != "" {
			return fmt.Sprintf("%s, %s, to %s", view.Plural(r.Changes, "change"), view.Bytes(r.Stored), view.Clock(r.To))
		}
	case store.RunRetention:
		return fmt.Sprintf("%s removed, %s of log and %s given back", view.Plural(int64(len(r.Retired)), "point"), view.Plural(int64(r.Segments), "segment"), view.Bytes(r.Freed))
	case store.RunRestore, store.RunVerify, store.RunScrub:
		if r.Records > 0 {
			return fmt.Sprintf("%s, %s", view.Plural(r.Records, "record"), view.Bytes(r.Bytes))
		}
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
		return usage("%d runs are called %q; see: dexamen runs --since -30d --all", len(found), id)
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
		s.Line("  %-10s %s", name, fmt.Sprintf(format, args...))
	}
	if r.Error != "" {
		line("error", "%s", s.Loss(r.Error))
	}
	line("began", "%s", view.Time(r.Started))
	if !r.Finished.IsZero() {
		line("ended", "%s, after %s", view.Time(r.Finished), view.Duration(r.Took()))
	}
	if r.Policy != "" {
		line("asked by", "policy %s (%s), due %s, attempt %d", r.Policy, r.Reason, view.Time(r.Due), r.Attempt)
	} else {
		line("asked by", "%s: %s", r.User, r.What)
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
		line("log", "%s to %s, %s in %s", view.Time(r.From), view.Time(r.To), view.Plural(r.Changes, "change"), view.Plural(int64(r.Segments), "segment"))
	}
	if r.Records > 0 {
		line("content", "%s, %s", view.Plural(r.Records, "record"), view.Bytes(r.Bytes))
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
	for _, p := range r.Retired {
		line("retired", "%s: %s", p.Point, p.Reason)
	}
	for _, w := range r.Warnings {
		line("warning", "%s", w)
	}
	for _, h := range r.Hooks {
		how := fmt.Sprintf("exit %d after %s", h.Exit, view.Duration(h.Took))
		if h.Error != "" {
			how = s.Loss(h.Error)
		}
		line("hook", "%s it: %s: %s", h.Phase, strings.Join(h.Command, " "), how)
		for _, l := range strings.Split(strings.TrimRight(h.Output, "\n"), "\n") {
			if l != "" {
				s.Line("             | %s", l)
			}
		}
	}
	return nil
}

func (a *app) holdCommand() *cli.Command {
	return a.command(protect, "hold", "CLUSTER@POINT", "keep a point whatever retention says, until a date, with a reason",
		"Whoever asks several times has the latest date count. The log that leads on from the point is kept as long\nas the policy says: a held point alone is the state at its own moment.", a.hold,
		&cli.StringFlag{Name: "until", Usage: "until `WHEN`: a date, or for how long, such as 90d"},
		&cli.StringFlag{Name: "why", Usage: "`REASON`, for those who come later"},
		&cli.BoolFlag{Name: "lift", Usage: "end all holds of the point: retention decides about it again"})
}

// heldPoint reads CLUSTER@POINT.
func (a *app) heldPoint(ctx context.Context, c *cli.Command) (w work, p *store.Point, err error) {
	if err := args(c, 1, 1); err != nil {
		return w, nil, err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return w, nil, err
	}
	if ad.When.Kind != address.Point && ad.When.Kind != address.Latest || ad.Pattern != "" {
		return w, nil, usage("%s: name a point, as in %s@20261123-101404-k7qx; dexamen points %[2]s lists them", ad, ad.Cluster)
	}
	if w, err = a.atMoment(ctx, c, ad); err != nil {
		return w, nil, err
	}
	return w, w.moment.Point, nil
}

func (a *app) hold(ctx context.Context, c *cli.Command) error {
	if c.Bool("lift") {
		if c.IsSet("until") || c.IsSet("why") {
			return usage("--lift ends the holds of a point; it needs no --until and no --why")
		}
		return a.lift(ctx, c)
	}
	why := strings.TrimSpace(c.String("why"))
	if c.String("until") == "" || why == "" {
		return usage("say until when and why: dexamen hold %s --until 90d --why \"the auditors look at it\"", c.Args().First())
	}
	now := time.Now()
	var until time.Time
	if d, err := address.ParseDistance(c.String("until")); err == nil {
		until = now.Add(d)
	} else if when, err := address.ParseWhen(c.String("until"), now); err == nil && when.Kind == address.Time {
		until = when.Time
	} else {
		return usage("--until %s: write a date such as 2027-03-31, or for how long, such as 90d", c.String("until"))
	}
	if !until.After(now) {
		return usage("--until %s: that is over already", c.String("until"))
	}
	w, p, err := a.heldPoint(ctx, c)
	if err != nil {
		return err
	}
	defer w.progress.Done()
	h := &store.Hold{Cluster: p.Cluster, Point: p.ID, Until: until.UTC(), Reason: why}
	if u, err := user.Current(); err == nil {
		h.User = u.Username
	}
	if err := w.Store.PutHold(ctx, h); err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(h)
	}
	a.screen.Line("point %s of %s is held until %s: %s", a.screen.Accent(p.ID), p.Cluster, view.Time(h.Until), why)
	return nil
}

// lift ends the holds of a point.
func (a *app) lift(ctx context.Context, c *cli.Command) error {
	w, p, err := a.heldPoint(ctx, c)
	if err != nil {
		return err
	}
	defer w.progress.Done()
	holds, err := w.Store.Holds(ctx, p.Cluster)
	if err != nil {
		return err
	}
	n := 0
	for _, h := range holds {
		if h.Point == p.ID {
			if err := w.Store.RemoveHold(ctx, h); err != nil {
				return err
			}
			n++
		}
	}
	if n == 0 {
		return usage("point %s of %s is not held", p.ID, p.Cluster)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"point": p.ID, "cluster": p.Cluster, "lifted": n})
	}
	a.screen.Line("point %s of %s is held no longer (%s lifted)", a.screen.Accent(p.ID), p.Cluster, view.Plural(int64(n), "hold"))
	return nil
}

func (a *app) retentionCommand() *cli.Command {
	return a.command(protect, "retention", "[CLUSTER]", "show which points stay and which go, and why; --apply does it",
		"Every point is listed with what becomes of it, and why. With --apply what no rule keeps goes. The daemon\ndoes the same by itself. It may be stopped anywhere and run again. The space of what went is given back a day\nlater, so that nobody who is reading loses it.", a.retention,
		&cli.BoolFlag{Name: "apply", Usage: "remove what no rule keeps"},
		&cli.BoolFlag{Name: "yes", Usage: "with --apply: do not ask"})
}

// wards returns what the policies protect, of one cluster or of all.
func (a *app) wards(c *cli.Command, cluster string) ([]daemon.Assignment, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, err
	}
	if _, ok := cfg.Clusters[cluster]; !ok && cluster != "" {
		return nil, usageError{config.UnknownError("cluster", cluster, config.Names(cfg.Clusters))}
	}
	var out []daemon.Assignment
	for _, w := range daemon.Assignments(cfg) {
		if (cluster == "" || w.Cluster == cluster) && (c.String("store") == "" || w.Store == c.String("store")) {
			out = append(out, w)
		}
	}
	if len(out) == 0 && cluster != "" {
		return nil, usage("no policy protects cluster %s; see: dexamen policy list", cluster)
	}
	if len(out) == 0 {
		return nil, usage("no policy is configured in %s; dexamen config sample shows one", cfg.Path)
	}
	return out, nil
}

func (a *app) retention(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	wards, err := a.wards(c, c.Args().First())
	if err != nil {
		return err
	}
	var out []map[string]any
	for _, ward := range wards {
		e, progress, err := a.envOf(ctx, c, ward.Store, ward.Cluster)
		if err != nil {
			return err
		}
		w := work{Runner: e, progress: progress}
		s, err := daemon.ReadState(ctx, e, ward.Cluster)
		if err != nil {
			return err
		}
		plan := s.Plan(ward, time.Now())
		if !a.screen.JSON {
			a.showVerdicts(ward, plan, s)
		}
		gone := len(plan.Verdicts) - plan.Kept()
		entry := map[string]any{"cluster": ward.Cluster, "store": ward.Store, "policy": ward.Policy, "plan": plan, "applied": c.Bool("apply")}
		if !c.Bool("apply") {
			out = append(out, entry)
			progress.Done()
			continue
		}
		if gone > 0 && !c.Bool("yes") {
			if !a.screen.Terminal {
				return fmt.Errorf("%w: %s would go; say --yes too", run.ErrRefused, view.Plural(int64(gone), "point"))
			}
			if !a.ask(fmt.Sprintf("Remove %s of %s?", view.Plural(int64(gone), "point"), ward.Cluster)) {
				return fmt.Errorf("%w: nothing was changed", run.ErrRefused)
			}
		}
		var done *store.Run
		err = a.record(ctx, c, w, store.RunRetention, ward.Cluster, func(ctx context.Context, e *run.Runner, r *store.Run) error {
			done = r
			return daemon.ApplyRetention(ctx, e, ward, r)
		})
		progress.Done()
		if err != nil {
			return err
		}
		entry["run"] = done
		out = append(out, entry)
		if !a.screen.JSON {
			a.screen.Line("  %s removed, %s of log removed, %s given back; see: dexamen runs show %s", view.Plural(int64(len(done.Retired)), "point"),
				view.Plural(int64(done.Segments), "segment"), view.Bytes(done.Freed), done.ID)
			for _, warn := range done.Warnings {
				a.screen.Line("  %s", a.screen.Loss(warn))
			}
		}
	}
	if a.screen.JSON {
		return a.screen.Encode(out)
	}
	return nil
}
