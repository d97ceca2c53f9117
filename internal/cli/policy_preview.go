package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/calendar"
	"dexamen/internal/core/record"
	"dexamen/internal/core/retain"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// previewed is what policy preview tells of one cluster.
type previewed struct {
	Policy    string         `json:"policy"`
	Cluster   string         `json:"cluster"`
	Store     string         `json:"store"`
	Next      []nextRun      `json:"next"`
	Chosen    []chosenSpace  `json:"chosen"`
	Left      []chosenSpace  `json:"left"`
	LogWindow record.Seconds `json:"log_window_seconds,omitempty"`
	Plan      *retain.Plan   `json:"plan"`
	// Steady is how many points there will be once the policy has run for long.
	Steady   int      `json:"steady"`
	Problems []string `json:"problems,omitempty"`
	// Quiesce is the way in which the cluster is held still while it is copied, empty where
	// there is none, and why.
	Quiesce string `json:"quiesce,omitempty"`
	Reason  string `json:"quiesce_reason,omitempty"`
	// Drill is the last rehearsal of a restore that went well.
	Drill *daemon.DrillStatus `json:"drill,omitempty"`
	// Cost is what it takes, where that was asked for and there is a point.
	Cost *daemon.Cost `json:"cost,omitempty"`
}

type nextRun struct {
	Kind string    `json:"kind"`
	At   time.Time `json:"at"`
	How  string    `json:"how"`
}

type chosenSpace struct {
	Name    string `json:"name"`
	Records int64  `json:"records"`
	Bytes   int64  `json:"bytes"`
}

func (a *app) policyPreview(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	wards, err := a.assignments(c, "")
	if err != nil {
		return err
	}
	if name := c.Args().First(); name != "" {
		if _, ok := a.cfg.Policies[name]; !ok {
			return usageError{config.UnknownError("policy", name, config.Names(a.cfg.Policies))}
		}
		wards = slices.DeleteFunc(wards, func(w daemon.Assignment) bool { return w.Policy != name })
	}
	out := []*previewed{}
	problems := 0
	for _, u := range a.cfg.Unprotected() {
		if u.Policy == "" || c.Args().Present() && u.Policy != c.Args().First() {
			continue
		}
		out = append(out, &previewed{Policy: u.Policy, Store: u.Store, Problems: []string{u.Text}})
		problems++
		if !a.screen.JSON {
			a.screen.Line("%s %s", a.screen.Loss("problem:"), u.Text)
		}
	}
	for _, w := range wards {
		p := &previewed{Policy: w.Policy, Cluster: w.Cluster, Store: w.Store}
		out = append(out, p)
		e, progress, err := a.openRunnerOf(ctx, c, w.Store, w.Cluster)
		state := &daemon.State{}
		if err == nil {
			state, err = daemon.ReadState(ctx, e, w.Cluster)
			progress.Done()
		}
		if err != nil {
			p.Problems = append(p.Problems, explain.Error(err))
			state = &daemon.State{}
		}
		if p.Quiesce, p.Reason, err = a.cfg.QuiesceFor(w.Cluster); err != nil {
			p.Problems = append(p.Problems, err.Error())
		}
		now := time.Now()
		p.Plan = state.Plan(w, now)
		p.Next = ahead(w, state, now, c.Int("next"))
		p.Steady, p.Drill = steady(w, now), state.LastDrill()
		if err := a.previewLive(ctx, c, w, p); err != nil {
			p.Problems = append(p.Problems, explain.Error(err))
		}
		problems += len(p.Problems)
		if c.Bool("cost") && e != nil && len(state.Points) > 0 {
			costs, err := a.costs(ctx, e, w.Store, []daemon.Assignment{w})
			if err != nil {
				return err
			}
			p.Cost = costs[0]
		}
		if !a.screen.JSON {
			a.showPreview(w, p, state)
		}
	}
	if a.screen.JSON {
		if err := a.screen.Encode(out); err != nil {
			return err
		}
	}
	if problems > 0 {
		return fmt.Errorf("%w: %s", run.ErrIncomplete, view.Plural(int64(problems), "problem"))
	}
	return nil
}

// ahead lists the next runs of a ward.
func ahead(w daemon.Assignment, s *daemon.State, now time.Time, n int) (out []nextRun) {
	for _, d := range daemon.Duties(w, s, now) {
		if d.Kind != store.RunSnapshot {
			how := d.Reason
			if !d.At.After(now) {
				how += "; due now"
			}
			out = append(out, nextRun{d.Kind, d.At, how})
			continue
		}
		at, scanned := d.At, time.Time{}
		logged := s.Newest() == nil || s.Newest().HasLog()
		how := d.Reason
		if p := s.Scanned(); p != nil {
			scanned = p.Time
		}
		for i := range n {
			made := "read from the cluster"
			if daemon.ReadsChangesAfter(w, s, scanned, at) {
				made = "what has changed is read"
			} else if re := w.Config.When.FullRead; !re.IsZero() && logged && i+len(s.Points) > 0 &&
				!scanned.Before(re.Last(at)) {
				made = "folded from the log"
			} else {
				scanned = at
			}
			if !at.After(now) {
				how += "; due now"
			}
			begins := at
			if made != "folded from the log" { // only what reads the cluster keeps out of quiet hours
				if begins = calendar.Quiet(w.Config.When.NoScans, at); begins.After(at) && begins.After(now) {
					how += "; waits for the end of quiet hours"
				} else {
					begins = at
				}
			}
			out = append(out, nextRun{d.Kind, begins, made + "; " + how})
			at, how = w.Config.When.Snapshot.Next(at), w.Config.When.Snapshot.String()
			for begins.After(at) { // those due while it waits are made up for by it
				at = w.Config.When.Snapshot.Next(at)
			}
		}
	}
	slices.SortStableFunc(out, func(x, y nextRun) int { return x.At.Compare(y.At) })
	return out
}

// steady counts the points that are there after years of keeping to schedule, at the end of the day: what is said is
// the same at each of its hours.
func steady(w daemon.Assignment, now time.Time) int {
	zone := w.Config.When.TimeZone
	if zone == nil {
		zone = time.Local
	}
	year, month, day := now.In(zone).Date()
	now = time.Date(year, month, day+1, 0, 0, 0, 0, zone).Add(-time.Nanosecond)
	longest := time.Duration(w.Config.Keep.EveryMoment)
	for _, g := range w.Config.When.Rule.Thin {
		longest = max(longest, g.For)
	}
	var points []retain.Point
	for at := w.Config.When.Snapshot.Next(now.Add(-longest - 40*24*time.Hour)); !at.After(now) &&
		len(points) < 200_000; at = w.Config.When.Snapshot.Next(at) {
		points = append(points, retain.Point{ID: at.String(), Time: at})
	}
	return w.Config.When.Rule.Decide(points, now).Kept()
}

// previewLive asks the cluster what the policy chooses, and whether its log
// reaches back far enough.
func (a *app) previewLive(ctx context.Context, c *cli.Command, w daemon.Assignment, p *previewed) error {
	cl, err := a.connectAs(ctx, c, w.Cluster, w.Config.ClusterWide)
	if err != nil {
		return err
	}
	defer cl.Close()
	topo, err := cl.Topology(ctx)
	if err != nil {
		return err
	}
	p.Problems = append(p.Problems, logProblems(w, topo)...)
	for _, sh := range topo.Shards {
		if sh.Log != nil && !sh.Log.First.Wall.IsZero() && !sh.Log.Last.Wall.IsZero() {
			p.LogWindow = record.Seconds(sh.Log.Last.Wall.Sub(sh.Log.First.Wall))
		}
	}
	spaces, err := engine.ApplicationView(cl).Namespaces(ctx)
	if err != nil {
		return err
	}
	scope := w.Config.Namespaces.At(time.Now().In(w.Config.When.TimeZone))
	for _, ns := range spaces {
		if ns.Kind == "settings" || ns.Kind == "layout" || ns.Kind == "support" {
			continue
		}
		cs := chosenSpace{ns.Name, ns.Records, ns.Bytes}
		if scope.Match(ns.Name) && ns.Skip == "" {
			p.Chosen = append(p.Chosen, cs)
		} else {
			p.Left = append(p.Left, cs)
		}
	}
	for _, pattern := range scope {
		hit := slices.ContainsFunc(spaces, func(ns engine.Namespace) bool {
			return daemon.MatchesNow(pattern, ns.Name)
		})
		if !hit && !strings.HasPrefix(pattern, "not ") {
			p.Problems = append(p.Problems, fmt.Sprintf("the pattern %q fits no namespace of %s", pattern, w.Cluster))
		}
	}
	return nil
}

// logTrouble reports where a server's log reaches back less far than it should for
// how often it is captured.
func logProblems(w daemon.Assignment, topo *engine.Topology) (out []string) {
	when := w.Config.When
	if when.Capture == 0 && !when.Continuous {
		return nil
	}
	for _, sh := range topo.Shards {
		switch {
		case sh.Log == nil:
			out = append(out, fmt.Sprintf("cluster %s: shard %s keeps no log to capture", w.Cluster, sh.Name))
		case sh.Log.Max > 0 && sh.Log.Size < sh.Log.Max*9/10:
			// It has not filled up yet: how far it will reach is not known.
		case when.Capture > 0 && !sh.Log.First.Wall.IsZero() && sh.Log.Max > 0 &&
			sh.Log.Last.Wall.Sub(sh.Log.First.Wall) < when.Capture:
			out = append(out, fmt.Sprintf("cluster %s: shard %s's log reaches back %s only, and is captured every "+
				"%s: what happens in between is lost; capture it more often, or give it more room",
				w.Cluster, sh.Name, view.Duration(sh.Log.Last.Wall.Sub(sh.Log.First.Wall)), w.Config.Capture))
		}
	}
	return out
}

func (a *app) showPreview(w daemon.Assignment, p *previewed, state *daemon.State) {
	s := a.screen
	s.Line("policy %s: cluster %s into store %s", s.Accent(w.Policy), s.Accent(w.Cluster), w.Store)
	for _, t := range p.Problems {
		s.Line("  %s %s", s.Loss("problem:"), t)
	}
	if p.Quiesce != "" {
		s.Line("  held still as %s says: %s", s.Accent(p.Quiesce), p.Reason)
	} else if p.Reason != "" {
		s.Line("  not held still while it is copied: %s", p.Reason)
	}
	s.Line("\n  next runs")
	t := s.Table("at", "what", "how")
	for _, n := range p.Next {
		t.Row(view.Time(n.At), n.Kind, n.How)
	}
	t.Print(2)
	if w.Config.Drill != nil || p.Drill != nil {
		s.Line("  %s", rehearsed(p.Drill, w.Cluster))
	} else {
		s.Line("  restores are not rehearsed: the policy has no drill")
	}
	if p.LogWindow > 0 && w.Config.Capture != "" {
		s.Line("  the server's log reaches back %s; it is captured %s", view.Duration(p.LogWindow.D()), every(w.Config))
	}
	if len(p.Chosen)+len(p.Left) > 0 {
		s.Line("\n  namespaces chosen now")
		t = s.Table("namespace", ">records", ">size", "")
		var n, size int64
		for _, x := range p.Chosen {
			t.Row(x.Name, view.Count(x.Records), view.Bytes(x.Bytes), "")
			n, size = n+x.Records, size+x.Bytes
		}
		t.Row("", view.Count(n), view.Bytes(size), "")
		for _, x := range p.Left {
			t.Row(s.Faint(x.Name), s.Faint(view.Count(x.Records)), s.Faint(view.Bytes(x.Bytes)), s.Faint("left out"))
		}
		t.Print(2)
	}
	s.Line("\n  retention: %s", keeps(w.Config))
	s.Line("  about %s once it has run for long", view.Plural(int64(p.Steady), "point"))
	if len(p.Plan.Verdicts) > 0 {
		a.showVerdicts(w, p.Plan, state)
	}
	if p.Cost != nil {
		s.Line("\n  what it takes in store %s", w.Store)
		a.showCosts([]*daemon.Cost{p.Cost})
		s.Line("")
		a.showRules(p.Cost)
	}
	s.Line("")
}

// showVerdicts lists what becomes of each point, and why.
func (a *app) showVerdicts(w daemon.Assignment, plan *retain.Plan, state *daemon.State) {
	s := a.screen
	gone := len(plan.Verdicts) - plan.Kept()
	s.Line("%s in %s: %s %s, %s", s.Accent(w.Cluster), w.Store, view.Plural(int64(plan.Kept()), "point"),
		map[bool]string{true: "stays", false: "stay"}[plan.Kept() == 1],
		fateText(s, gone))
	t := s.Table("point", "moment", ">new in store", "", "why")
	stored := map[string]int64{}
	for _, p := range state.Points {
		stored[p.ID] = p.Stats.Stored
	}
	for _, v := range plan.Verdicts {
		what := "stays"
		if !v.Keep {
			what = s.Loss("goes")
		}
		t.Row(v.Point.ID, view.Time(v.Point.Time), view.Bytes(stored[v.Point.ID]), what, v.Reason)
	}
	t.Print(2)
	if p := state.Newest(); plan.LogFrom != "" && p != nil && p.HasLog() {
		var size int64
		n := 0
		for _, p := range state.Points {
			if p.ID == plan.LogFrom {
				for _, sh := range p.Shards {
					if c := state.Chains[sh.Name]; c != nil {
						for _, seg := range c.Segments {
							if seg.Last.Position <= sh.Mark.Position {
								n, size = n+1, size+seg.Size
							}
						}
					}
				}
			}
		}
		if n == 0 {
			s.Line("  the log stays from point %s on", plan.LogFrom)
			return
		}
		s.Line("  the log stays from point %s on; %s before it (%s) %s not needed", plan.LogFrom,
			view.Plural(int64(n), "segment"), view.Bytes(size), map[bool]string{true: "is", false: "are"}[n == 1])
	}
}

func fateText(s *view.Screen, n int) string {
	if n == 0 {
		return "none goes"
	}
	return s.Loss(fmt.Sprintf("%d %s", n, map[bool]string{true: "goes", false: "go"}[n == 1]))
}
