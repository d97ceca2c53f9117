package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/view"
)

func (a *app) dueCommand() *cli.Command {
	return a.command(protect, "due", "",
		"what the policies ask for now and next; with --run do what is due, for those who use cron",
		"Does the same as the daemon, once: a missed night is made up for, what another has done is not done "+
			"again,\nand what died is ended. Continuous capture takes what there is.", a.due,
		&cli.BoolFlag{Name: "run", Usage: "do what is due"})
}

func (a *app) due(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	wards, err := a.assignments(c, "")
	if err != nil {
		return err
	}
	world := a.deps(c)
	if c.Bool("run") {
		runs, err := daemon.Once(ctx, world, nil)
		if a.screen.JSON {
			if runs == nil {
				runs = []*store.Run{}
			}
			return errors.Join(a.screen.Encode(runs), err)
		}
		if len(runs) == 0 && err == nil {
			a.screen.Line("nothing is due")
		}
		if len(runs) > 0 {
			a.showRuns(runs, true)
		}
		return err
	}
	type row struct {
		daemon.Duty
		Cluster string `json:"cluster"`
		Policy  string `json:"policy"`
		Now     bool   `json:"now"`
	}
	rows := []row{}
	duties, err := daemon.DueNow(ctx, world, wards)
	for _, d := range duties {
		rows = append(rows, row{d, d.Assignment.Cluster, d.Assignment.Policy, !d.At.After(time.Now())})
	}
	slices.SortStableFunc(rows, func(x, y row) int { return x.At.Compare(y.At) })
	if a.screen.JSON {
		return errors.Join(err, a.screen.Encode(rows))
	}
	t := a.screen.Table("due", "kind", "cluster", "policy", "why", "")
	for _, r := range rows {
		note := ""
		if r.Attempt > 1 {
			note = a.screen.Loss(fmt.Sprintf("attempt %d", r.Attempt))
		}
		at := view.Time(r.At)
		if r.Now {
			at = a.screen.Accent("now") + " (" + at + ")"
		}
		t.Row(at, r.Kind, r.Cluster, r.Policy, r.Reason, note)
	}
	t.Print(0)
	return err
}
