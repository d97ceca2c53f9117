package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// costs works out what protecting clusters in a store takes.
func (a *app) costs(ctx context.Context, e *run.Runner, name string, wards []daemon.Assignment) ([]*daemon.Cost,
	error) {
	shares, _, _, err := e.Store.Shares(ctx)
	if err != nil {
		return nil, err
	}
	out := []*daemon.Cost{}
	for _, w := range wards {
		if w.Store != name {
			continue
		}
		s, err := daemon.ReadState(ctx, e, w.Cluster)
		if err != nil {
			return nil, err
		}
		var mine *store.Share
		for _, sh := range shares {
			if sh.Cluster == w.Cluster {
				mine = sh
			}
		}
		c, err := daemon.CostOf(ctx, e, w, s, mine, steady(w, s.Read), a.cfg.Stores[name].Prices)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// costsIn works out what protecting the clusters of a store takes by their policies.
func (a *app) costsIn(ctx context.Context, c *cli.Command, name string) ([]*daemon.Cost, error) {
	wards := daemon.Assignments(a.cfg)
	if !slices.ContainsFunc(wards, func(w daemon.Assignment) bool { return w.Store == name }) {
		return []*daemon.Cost{}, nil
	}
	e, progress, err := a.openRunnerOf(ctx, c, name, "")
	if err != nil {
		return nil, err
	}
	defer progress.Done()
	if e.Store.WriteOnly() {
		return []*daemon.Cost{}, nil
	}
	return a.costs(ctx, e, name, wards)
}

// showCosts prints what protecting clusters takes, now and as it goes on.
func (a *app) showCosts(costs []*daemon.Cost) {
	s := a.screen
	head := []string{"cluster", ">holds now", ">a day", ">in a year", ">sent a month", ">writes a month",
		">reads a month"}
	var priced *daemon.Price
	for _, c := range costs {
		if c.Price != nil {
			priced = c.Price
		}
	}
	if priced != nil {
		head = append(head, ">"+priced.Currency+" a month", ">in a year")
	}
	t := s.Table(head...)
	var sum [2]float64
	for _, c := range costs {
		row := []any{c.Cluster, view.Bytes(c.Now), "+" + view.Bytes(c.Day), view.Bytes(c.InAYear), view.Bytes(c.Sent),
			view.Count(c.Writes), view.Count(c.Reads)}
		if c.Price != nil {
			row = append(row, fmt.Sprintf("%.2f", c.Price.Month), fmt.Sprintf("%.2f", c.Price.InAYear))
			sum[0], sum[1] = sum[0]+c.Price.Month, sum[1]+c.Price.InAYear
		}
		t.Row(row...)
	}
	if priced != nil && len(costs) > 1 {
		t.Row("together", "", "", "", "", "", "", fmt.Sprintf("%.2f", sum[0]), fmt.Sprintf("%.2f", sum[1]))
	}
	t.Print(2)
	for _, c := range costs {
		if c.Days < 7 {
			s.Line("  %s",
				s.Faint(fmt.Sprintf("%s: from the runs of %.1f days only: an estimate for a year needs a week of them",
					c.Cluster, c.Days)))
		}
	}
}

// showRules prints what is kept for which reason, and how much of it was new.
func (a *app) showRules(c *daemon.Cost) {
	t := a.screen.Table("kept for", ">points", ">new with them")
	for _, r := range c.Rules {
		t.Row(r.Reason, view.Count(int64(r.Points)), view.Bytes(r.Bytes))
	}
	t.Print(2)
}
