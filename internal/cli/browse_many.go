package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// manyRow is a namespace of one of several clusters.
type manyRow struct {
	Store     string    `json:"store"`
	Cluster   string    `json:"cluster"`
	Moment    time.Time `json:"moment"`
	Namespace string    `json:"namespace"`
	Records   int64     `json:"records"`
	Bytes     int64     `json:"bytes"`
	Address   string    `json:"address"`
}

// browseMany looks for namespaces in all clusters and stores that fit.
func (a *app) browseMany(ctx context.Context, c *cli.Command, ad address.Address) error {
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	names := config.Names(cfg.Stores)
	if s := c.String("store"); s != "" {
		names = []string{s}
	}
	var rows []manyRow
	var clusters, failed []string
	for _, name := range names {
		e, progress, err := a.openRunnerOf(ctx, c, name, "")
		if err != nil {
			failed = append(failed, fmt.Sprintf("store %s: %v", name, err))
			continue
		}
		found, of, bad := browseStore(ctx, e, name, ad)
		progress.Done()
		rows, clusters, failed = append(rows, found...), append(clusters, of...), append(failed, bad...)
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if len(clusters) == 0 && len(failed) == 0 {
		return fmt.Errorf("no cluster that has points in any store fits %s", ad.Cluster)
	}
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"namespaces": rows, "failed": failed}); err != nil {
			return err
		}
	} else {
		t := a.screen.Table("store", "cluster", "moment", "namespace", ">records", ">size")
		for _, r := range rows {
			t.Row(r.Store, r.Cluster, view.Time(r.Moment), r.Namespace, view.Count(r.Records), view.Bytes(r.Bytes))
		}
		t.Print(2)
		for _, f := range failed {
			a.screen.Line("  %s %s", a.screen.Loss("could not be looked at:"), f)
		}
		if len(rows) == 0 && len(failed) == 0 {
			a.screen.Line("nothing in %s fits %s", view.Plural(int64(len(clusters)), "cluster"), ad.Pattern)
		}
	}
	if len(failed) > 0 {
		return fmt.Errorf("%w: %s could not be looked at", run.ErrIncomplete,
			view.Plural(int64(len(failed)), "cluster"))
	}
	return nil
}

// browseStore looks for namespaces in the clusters of one store that fit.
func browseStore(ctx context.Context, e *run.Runner, name string, ad address.Address) (rows []manyRow,
	clusters, failed []string) {
	points, _, err := e.Store.Points(ctx, "")
	if err != nil {
		return nil, nil, []string{fmt.Sprintf("store %s: %v", name, err)}
	}
	for _, p := range points {
		if address.Match(ad.Cluster, p.Cluster) && !slices.Contains(clusters, p.Cluster) {
			clusters = append(clusters, p.Cluster)
		}
	}
	slices.Sort(clusters)
	for _, cluster := range clusters {
		found, err := browseCluster(ctx, e, name, cluster, ad)
		if err != nil {
			failed = append(failed, fmt.Sprintf("%s in store %s: %s", cluster, name, e.Text(err)))
		}
		rows = append(rows, found...)
	}
	return rows, clusters, failed
}

func browseCluster(ctx context.Context, e *run.Runner, in, cluster string, ad address.Address) ([]manyRow, error) {
	m, err := moment.Resolve(ctx, e, cluster, ad.When, restore.OnScratch{})
	if err != nil {
		return nil, err
	}
	if m.NeedsServer() { // the point is near enough for finding a name
		m = m.AtPoint()
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer x.Close()
	list, _, err := m.Trees(ctx, x, x, ad.Match)
	if err != nil {
		return nil, err
	}
	w := ad.When
	if m.Exact() {
		w = address.When{Kind: address.Point, Text: m.Point.ID}
	}
	var rows []manyRow
	for _, s := range list {
		rows = append(rows, manyRow{in, cluster, m.Time, s.Name, s.Root.Records, s.Root.Bytes,
			address.Address{Cluster: cluster, When: w, Given: true, Pattern: s.Name}.String()})
	}
	return rows, nil
}
