package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/capture"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

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
			err = a.record(ctx, c, e, store.RunCapture, name,
				func(ctx context.Context, e *run.Runner, r *store.Run) error {
					_, policy, _ := a.policyOf(c, name)
					cl, err := a.connectAs(ctx, c, name, policy.ClusterWide)
					if err != nil {
						return err
					}
					defer cl.Close()
					if !c.Bool("follow") {
						end, err := a.share(ctx, c, e, store.RunCapture, name, cl)
						if err != nil {
							return err
						}
						defer end()
					}
					got, err = capture.Run(ctx, e, name, cl,
						capture.Options{Follow: c.Bool("follow"), FlushEvery: c.Duration("flush")})
					daemon.RecordCapture(r, got)
					if errors.Is(err, run.ErrIncomplete) {
						r.Wants = explain.Error(err)
					}
					if c.Bool("follow") && ctx.Err() != nil && errors.Is(err, context.Canceled) {
						return nil // it was to go on until it was asked to end
					}
					return err
				})
			if errors.Is(err, store.ErrHeld) && got == nil && !c.Bool("follow") {
				return a.captureByAnother(ctx, e, name)
			}
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
				serr := a.record(ctx, c, e, store.RunSnapshot, name,
					func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
						if p, err = a.snapshotNow(ctx, c, e, name); err == nil {
							daemon.RecordPoint(r, p)
							err = daemon.LeftOut(p)
						}
						return err
					})
				e.progress.Done()
				if serr != nil && (p == nil || !errors.Is(serr, run.ErrIncomplete)) {
					return errors.Join(err, serr)
				}
				return errors.Join(a.showNewPoint(p), err, serr)
			}
			return err
		},
		&cli.BoolFlag{Name: "snapshot-on-gap", Usage: "where part of the log is lost, take a new point at once"},
		&cli.BoolFlag{Name: "follow", Usage: "go on until interrupted"},
		&cli.DurationFlag{Name: "flush", Value: 10 * time.Second,
			Usage: "with --follow: how often what was read is made durable"})
}

// captureByAnother has whoever follows a cluster's log store what there is up to now.
func (a *app) captureByAnother(ctx context.Context, w work, cluster string) error {
	running, _, err := w.Store.Running(ctx)
	if err != nil {
		return err
	}
	by := "another process"
	for _, r := range running {
		if r.Kind == store.RunCapture && r.Cluster == cluster {
			by = fmt.Sprintf("process %d on %s", r.Process, r.Host)
		}
	}
	to, begun := time.Now(), time.Now()
	var end time.Time
	err = capture.WaitFor(ctx, w.Store, cluster, 2*time.Minute, nil, func(chains map[string]*journal.Chain) bool {
		end = time.Time{} // up to where all shards are stored
		for _, c := range chains {
			if at, _, _ := c.End(); end.IsZero() || at.Wall.Before(end) {
				end = at.Wall
			}
		}
		return capture.Until(chains, to)
	})
	w.progress.Done()
	if errors.Is(err, capture.ErrNotReached) {
		return fmt.Errorf("cluster %s: %s follows the log and has stored it up to %s: %w; it may hang: look with "+
			"dexamen status", cluster, by, view.Time(end), err)
	}
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": cluster, "to": end, "by": by})
	}
	a.screen.Line("%s follows the log of %s, and has now stored it up to %s (%s)", by, a.screen.Accent(cluster),
		view.Time(end), view.Duration(time.Since(begun)))
	return nil
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
		view.Time(g.From.Wall), view.Time(g.To.Wall), view.Bytes(g.Stored), view.Plural(int64(g.Segments), "segment"),
		members(g))
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
