package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) retentionCommand() *cli.Command {
	return a.command(protect, "retention", "[CLUSTER]", "show which points stay and which go, and why; --apply does it",
		"Every point is listed with what becomes of it, and why. With --apply what no rule keeps goes. The "+
			"daemon\ndoes the same by itself. It may be stopped anywhere and run again. The space of what went is "+
			"given back a week\nlater: until then --bring-back makes a point exist again.", a.retention,
		&cli.BoolFlag{Name: "apply", Usage: "remove what no rule keeps"},
		&cli.BoolFlag{Name: "yes", Usage: "with --apply: do not ask"},
		&cli.StringSliceFlag{Name: "bring-back", Usage: "make a `POINT` exist again that was retired within the last " +
			"7 days; may be repeated"})
}

// assignments returns what the policies protect, of one cluster or of all.
func (a *app) assignments(c *cli.Command, cluster string) ([]daemon.Assignment, error) {
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
	wards, err := a.assignments(c, c.Args().First())
	if err != nil {
		return err
	}
	if c.IsSet("bring-back") {
		return a.bringBack(ctx, c, wards)
	}
	var out []map[string]any
	for _, ward := range wards {
		e, progress, err := a.openRunnerOf(ctx, c, ward.Store, ward.Cluster)
		if err != nil {
			return err
		}
		w := work{Runner: e, progress: progress}
		s, err := daemon.ReadState(ctx, e, ward.Cluster)
		if err != nil {
			return err
		}
		if err := s.ReadFlaws(ctx, e, ward.Cluster); err != nil {
			return err
		}
		plan := s.Plan(ward, time.Now())
		old, err := dropped(ctx, e, ward.Cluster, s.Points)
		if err != nil {
			return err
		}
		if !a.screen.JSON {
			a.showVerdicts(ward, plan, s)
			a.showDropped(ward.Cluster, old)
		}
		gone := len(plan.Verdicts) - plan.Kept()
		entry := map[string]any{"cluster": ward.Cluster, "store": ward.Store, "policy": ward.Policy, "plan": plan,
			"dropped": droppedJSON(old), "applied": c.Bool("apply")}
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
		err = a.record(ctx, c, w, store.RunRetention, ward.Cluster,
			func(ctx context.Context, e *run.Runner, r *store.Run) error {
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
			a.screen.Line("  %s removed, %s of log removed, %s given back; see: dexamen runs show %s",
				view.Plural(int64(len(done.Retired)), "point"),
				view.Plural(int64(done.Segments), "segment"), view.Bytes(done.Freed), done.ID)
			if done.SegmentsGoing > 0 {
				a.screen.Line("  %s of log, %s, no longer needed: removed within %s",
					view.Plural(int64(done.SegmentsGoing), "segment"), view.Bytes(done.BytesGoing),
					view.Duration(store.DroppedFor+24*time.Hour))
			}
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
