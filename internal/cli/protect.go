package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/capture"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/view"
)

const protect = "protect"

func (a *app) snapshotCommand() *cli.Command {
	return a.command(protect, "snapshot", "CLUSTER", "make a restore point now",
		"Reads the cluster while its log is followed; the point is the exact state at one moment. With --from-log\nthe point is made from the last one and the captured log, without touching the cluster.",
		func(ctx context.Context, c *cli.Command) error {
			e, name, err := a.onCluster(ctx, c)
			if err != nil {
				return err
			}
			defer e.progress.Done()
			var p *store.Point
			err = a.record(ctx, c, e, store.RunSnapshot, name, func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
				if c.Bool("from-log") {
					var m *moment.Moment
					if m, err = moment.Resolve(ctx, e, name, latestMoment, restore.OnScratch{}); err == nil {
						p, err = snapshot.Fold(ctx, e, m)
					}
				} else {
					p, err = a.snapshotNow(ctx, c, e, name)
				}
				if err == nil {
					daemon.RecordPoint(r, p)
				}
				return err
			})
			e.progress.Done()
			if err != nil {
				return err
			}
			return a.showNewPoint(p)
		}, &cli.BoolFlag{Name: "from-log", Usage: "from the last point and the log, at no load on the cluster"})
}

// snapshotNow reads a cluster and makes a point of it.
func (a *app) snapshotNow(ctx context.Context, c *cli.Command, e *run.Runner, name string) (*store.Point, error) {
	_, policy, _ := a.policyOf(c, name)
	cl, err := a.connectAs(ctx, c, name, policy.ClusterWide)
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	return snapshot.Take(ctx, e, name, cl)
}

func (a *app) showNewPoint(p *store.Point) error {
	if a.screen.JSON {
		if err := a.screen.Encode(pointJSON(p, true)); err != nil {
			return err
		}
	} else {
		s := a.screen
		s.Line("point %s of %s, the state at %s", s.Accent(p.ID), p.Cluster, view.Time(p.Time))
		t := s.Table("namespace", ">records", ">size", "root")
		parts := p.Parts()
		var n, size int64
		for _, ns := range parts {
			root := ns.Root.Hash.Short()
			switch {
			case !ns.Kind.HasRecords():
				t.Row(ns.Name, "", "", "view")
				continue
			case len(ns.Shards) > 1:
				root = "on " + strings.Join(ns.Shards, ", ")
			case len(ns.Shards) == 1:
				root += " on " + ns.Shards[0]
			}
			t.Row(ns.Name, view.Count(ns.Root.Records), view.Bytes(ns.Root.Bytes), root)
			n, size = n+ns.Root.Records, size+ns.Root.Bytes
		}
		t.Row("", view.Count(n), view.Bytes(size), "")
		t.Print(2)
		share := ""
		if p.Stats.Bytes > 0 {
			share = fmt.Sprintf(" (%.1f %% of the content)", 100*float64(p.Stats.Stored)/float64(p.Stats.Bytes))
		}
		s.Line("stored %s new%s in %s, %s folded in", view.Bytes(p.Stats.Stored), share,
			view.Duration(p.Finished.Sub(p.Started)), view.Plural(p.Stats.Changes, "change"))
		for _, cv := range p.Caveats {
			s.Line("%s %s", s.Loss("not guaranteed:"), cv)
		}
		for _, sk := range p.Skipped {
			s.Line("%s %s: %s", s.Loss("left out:"), sk.Name, sk.Reason)
		}
	}
	if len(p.Skipped) > 0 {
		return fmt.Errorf("%w: %s left out of point %s", run.ErrIncomplete, view.Plural(int64(len(p.Skipped)), "namespace"), p.ID)
	}
	return nil
}

func pointJSON(p *store.Point, namespaces bool) map[string]any {
	m := map[string]any{"id": p.ID, "cluster": p.Cluster, "time": p.Time, "made": p.Made, "exact": p.Exact, "stats": p.Stats,
		"started": p.Started, "finished": p.Finished, "shards": p.Shards, "caveats": p.Caveats, "skipped": p.Skipped, "from": p.From}
	if namespaces {
		var list []map[string]any
		for _, ns := range p.Namespaces {
			list = append(list, map[string]any{"name": ns.Name, "kind": ns.Kind, "records": ns.Root.Records, "bytes": ns.Root.Bytes, "root": ns.Root.Hash, "shard": ns.Shard})
		}
		m["namespaces"] = list
	}
	return m
}

func (a *app) captureCommand() *cli.Command {
	return a.command(protect, "capture", "CLUSTER", "add the log since the last capture to the store",
		"Every moment from the point before to the end of what was captured can then be restored.",
		func(ctx context.Context, c *cli.Command) error {
			e, name, err := a.onCluster(ctx, c)
			if err != nil {
				return err
			}
			defer e.progress.Done()
			var got *capture.Result
			err = a.record(ctx, c, e, store.RunCapture, name, func(ctx context.Context, e *run.Runner, r *store.Run) error {
				_, policy, _ := a.policyOf(c, name)
				cl, err := a.connectAs(ctx, c, name, policy.ClusterWide)
				if err != nil {
					return err
				}
				defer cl.Close()
				got, err = capture.Run(ctx, e, name, cl, capture.Options{Follow: c.Bool("follow"), FlushEvery: c.Duration("flush")})
				daemon.RecordCapture(r, got)
				if errors.Is(err, run.ErrIncomplete) {
					r.Wants = explain.Error(err)
				}
				return err
			})
			e.progress.Done()
			if got != nil && (err == nil || errors.Is(err, run.ErrIncomplete) || ctx.Err() != nil) {
				if e := a.showCaptured(got); e != nil {
					return e
				}
			}
			if c.Bool("follow") && ctx.Err() != nil {
				return nil // asked to end
			}
			if c.Bool("snapshot-on-gap") && errors.Is(err, run.ErrIncomplete) {
				var p *store.Point
				serr := a.record(ctx, c, e, store.RunSnapshot, name, func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
					if p, err = a.snapshotNow(ctx, c, e, name); err == nil {
						daemon.RecordPoint(r, p)
					}
					return err
				})
				e.progress.Done()
				if serr != nil {
					return errors.Join(err, serr)
				}
				return errors.Join(a.showNewPoint(p), err)
			}
			return err
		},
		&cli.BoolFlag{Name: "snapshot-on-gap", Usage: "where part of the log is lost, take a new point at once"},
		&cli.BoolFlag{Name: "follow", Usage: "go on until interrupted"},
		&cli.DurationFlag{Name: "flush", Value: 10 * time.Second, Usage: "with --follow: how often what was read is made durable"})
}

func (a *app) showCaptured(g *capture.Result) error {
	if a.screen.JSON {
		return a.screen.Encode(g)
	}
	s := a.screen
	if g.Segments == 0 {
		s.Line("nothing new in the log of %s since %s", g.Cluster, view.Time(g.From.Wall))
		return nil
	}
	s.Line("captured %s of %s: %s to %s, %s in %s, read from %s", view.Plural(g.Changes, "change"), s.Accent(g.Cluster),
		view.Time(g.From.Wall), view.Time(g.To.Wall), view.Bytes(g.Stored), view.Plural(int64(g.Segments), "segment"), members(g))
	if len(g.Shards) > 1 {
		t := s.Table("shard", ">changes", ">stored", "to", "read from")
		for _, sh := range g.Shards {
			t.Row(sh.Shard, view.Count(sh.Changes), view.Bytes(sh.Stored), view.Time(sh.To.Wall), sh.Member)
		}
		t.Print(2)
	}
	for _, d := range g.Doubts {
		s.Line("%s %s", s.Loss("in doubt:"), d)
	}
	for _, gap := range g.Gaps {
		s.Line("%s %s to %s: %s", s.Loss("gap:"), view.Time(gap.From.Wall), view.Time(gap.To.Wall), gap.Reason)
	}
	return nil
}

// members names those whose logs were read.
func members(g *capture.Result) string {
	if len(g.Shards) == 1 {
		return g.Shards[0].Member
	}
	return view.Plural(int64(len(g.Shards)), "shard")
}

func (a *app) pointsCommand() *cli.Command {
	return a.command(protect, "points", "[CLUSTER]", "list the restore points", "", func(ctx context.Context, c *cli.Command) error {
		if err := args(c, 0, 1); err != nil {
			return err
		}
		e, progress, err := a.env(ctx, c, c.Args().First())
		if err != nil {
			return err
		}
		defer progress.Done()
		points, bad, err := e.Store.Points(ctx, c.Args().First())
		if err != nil {
			return err
		}
		if err := a.knownCluster(ctx, e, c.Args().First(), len(points)); err != nil {
			return err
		}
		if a.screen.JSON {
			out := []map[string]any{}
			for _, p := range points {
				out = append(out, pointJSON(p, false))
			}
			if err := a.screen.Encode(out); err != nil {
				return err
			}
		} else {
			notes, err := a.pointNotes(ctx, c, e, points)
			if err != nil {
				return err
			}
			headings := []string{"point", "moment", "made by", ">namespaces", ">records", ">size", ">stored", ""}
			if c.Args().First() == "" {
				headings = slices.Insert(headings, 1, "cluster")
			}
			t := a.screen.Table(headings...)
			for _, p := range points {
				row := []any{p.ID, view.Time(p.Time), p.Made, len(p.Parts()), view.Count(p.Stats.Records), view.Bytes(p.Stats.Bytes), view.Bytes(p.Stats.Stored), strings.Join(notes[p.ID], ", ")}
				if c.Args().First() == "" {
					row = slices.Insert(row, 1, any(p.Cluster))
				}
				t.Row(row...)
			}
			t.Print(0)
			if len(points) == 0 {
				a.screen.Line("no points yet; take one with: dexamen snapshot CLUSTER")
			}
		}
		for _, b := range bad {
			fmt.Fprintf(a.screen.Err, "! %v\n", b)
		}
		if len(bad) > 0 {
			return fmt.Errorf("%w: %s cannot be read", run.ErrIncomplete, view.Plural(int64(len(bad)), "point"))
		}
		return nil
	})
}

// pointNotes returns what of points is worth knowing: what is missing, what was
// proven, who holds them.
func (a *app) pointNotes(ctx context.Context, c *cli.Command, e *run.Runner, points []*store.Point) (map[string][]string, error) {
	s, notes := a.screen, map[string][]string{}
	if audit, err := e.Store.LastScrub(ctx); err == nil && audit != nil {
		for _, h := range audit.Points {
			notes[h.ID] = append(notes[h.ID], s.Loss("damaged: "+view.Plural(int64(len(h.Namespaces)), "namespace")))
		}
	}
	byCluster := map[string][]*store.Point{}
	for _, p := range points {
		byCluster[p.Cluster] = append(byCluster[p.Cluster], p)
		if !p.Exact {
			notes[p.ID] = append(notes[p.ID], s.Loss("not of one moment"))
		}
		if n := len(p.Skipped); n > 0 {
			notes[p.ID] = append(notes[p.ID], s.Loss(view.Plural(int64(n), "namespace")+" left out"))
		}
		if len(p.Scope) > 0 {
			notes[p.ID] = append(notes[p.ID], "chosen namespaces")
		}
	}
	for cluster, list := range byCluster {
		proofs, err := e.Store.Proofs(ctx, cluster)
		if err != nil {
			return nil, err
		}
		proven, doubted := moment.Proven(list, proofs)
		for _, p := range list {
			switch m := doubted[p.ID]; {
			case m != nil:
				notes[p.ID] = append(notes[p.ID], s.Loss(moment.ProofText(m)))
			case proven[p.ID] == p.ID:
				notes[p.ID] = append(notes[p.ID], "proven")
			case proven[p.ID] != "":
				notes[p.ID] = append(notes[p.ID], "proven by …"+proven[p.ID][max(0, len(proven[p.ID])-5):])
			}
		}
		holds, err := e.Store.Holds(ctx, cluster)
		if err != nil {
			return nil, err
		}
		for _, h := range holds {
			if h.Until.After(time.Now()) {
				notes[h.Point] = append(notes[h.Point], s.Accent("held until "+h.Until.Local().Format(time.DateOnly)+": "+h.Reason))
			}
		}
	}
	return notes, nil
}

// knownCluster refuses a cluster's name of which the store has nothing and the
// configuration neither.
func (a *app) knownCluster(ctx context.Context, e *run.Runner, name string, found int) error {
	if name == "" || found > 0 {
		return nil
	}
	if _, ok := a.cfg.Clusters[name]; ok {
		return nil
	}
	_, err := moment.Resolve(ctx, e, name, latestMoment, restore.OnScratch{})
	return usageError{err}
}

func (a *app) coverageCommand() *cli.Command {
	return a.command(protect, "coverage", "[CLUSTER]", "show which moments can be restored, and every gap with its cause", "", func(ctx context.Context, c *cli.Command) error {
		if err := args(c, 0, 1); err != nil {
			return err
		}
		e, progress, err := a.env(ctx, c, c.Args().First())
		if err != nil {
			return err
		}
		defer progress.Done()
		list, err := moment.Cover(ctx, e, c.Args().First())
		if err != nil {
			return err
		}
		if err := a.knownCluster(ctx, e, c.Args().First(), len(list)); err != nil {
			return err
		}
		gaps := 0
		for _, cv := range list {
			gaps += len(cv.Gaps) + len(cv.Unreadable)
		}
		if a.screen.JSON {
			err = a.screen.Encode(list)
		} else {
			a.showCoverage(list)
			err = a.showRisk(ctx, c, e, list)
		}
		if err == nil && gaps > 0 {
			err = fmt.Errorf("%w: the log has %s", run.ErrIncomplete, view.Plural(int64(gaps), "gap"))
		}
		return err
	})
}

// showRisk shows what could be lost: as of now, and at the worst by what the
// policies ask for; and what trouble goes on.
func (a *app) showRisk(ctx context.Context, c *cli.Command, e *run.Runner, list []*moment.Coverage) error {
	s := a.screen
	for _, cv := range list {
		line := fmt.Sprintf("%s  if it were lost now, what was written in the last %s would be", s.Accent(cv.Cluster), view.Duration(time.Since(cv.Latest)))
		name, p, ok := a.policyOf(c, cv.Cluster)
		switch w := p.When; {
		case !ok:
			line += "; no policy protects it"
		case w.Continuous:
			line += fmt.Sprintf("; at the worst by policy %s about %s", name, view.Long(p.SealAfter()))
		case w.Capture > 0:
			line += fmt.Sprintf("; at the worst by policy %s %s and the time a capture takes", name, view.Long(w.Capture))
		default:
			line += fmt.Sprintf("; at the worst by policy %s %s and the time a snapshot takes", name, view.Long(w.Snapshot.Spacing(time.Now())))
		}
		s.Line("%s", line)
		trouble, err := daemon.ActiveAlerts(ctx, e, cv.Cluster)
		if err != nil {
			return err
		}
		for _, t := range trouble {
			s.Line("  %s %s", s.Loss("trouble since "+view.Time(t.Since)+":"), t.Text)
		}
	}
	return nil
}

func (a *app) showCoverage(list []*moment.Coverage) {
	s := a.screen
	if len(list) == 0 {
		s.Line("nothing can be restored yet; take a point with: dexamen snapshot CLUSTER")
		return
	}
	var bands []view.Band
	for _, c := range list {
		b := view.Band{Name: c.Cluster}
		for _, p := range c.Points {
			b.Points = append(b.Points, p.Time)
		}
		for _, st := range c.Stretches {
			if st.To.After(st.From) {
				b.Covered = append(b.Covered, [2]time.Time{st.From, st.To})
			}
		}
		for _, g := range c.Gaps {
			b.Gaps = append(b.Gaps, [2]time.Time{g.From.Wall, g.To.Wall})
		}
		bands = append(bands, b)
	}
	s.Ribbon(bands)
	s.Line("")
	for _, c := range list {
		s.Line("%s  %s, latest moment %s, %s ago", s.Accent(c.Cluster), view.Plural(int64(len(c.Points)), "point"),
			view.Time(c.Latest), view.Duration(time.Since(c.Latest)))
		for _, st := range c.Stretches {
			if st.To.After(st.From) {
				s.Line("  every moment from %s to %s (%s)", view.Time(st.From), view.Time(st.To), view.Duration(st.To.Sub(st.From)))
			} else {
				s.Line("  the point at %s alone", view.Time(st.From))
			}
		}
		if p := c.Proven; p != nil {
			s.Line("  proven from %s to %s: the log leads where the points say", view.Time(p.From), view.Time(p.To))
		}
		for _, g := range c.Gaps {
			s.Line("  %s %s to %s: %s", s.Loss("gap"), view.Time(g.From.Wall), view.Time(g.To.Wall), g.Reason)
		}
		for _, n := range c.Narrowed {
			s.Line("  %s from point %s on: %s, which its policy no longer chooses; only moments before %s have it", s.Loss("left out"), n.Point, strings.Join(n.Names, ", "), view.Time(n.Until))
		}
		for _, d := range c.Doubts {
			s.Line("  %s %s to %s: %s", s.Loss("in doubt"), view.Time(d.From), view.Time(d.To), d.What)
		}
		for _, u := range c.Unreadable {
			s.Line("  %s %s", s.Loss("unreadable"), u)
		}
	}
}
