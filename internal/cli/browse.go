package cli

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/view"
)

func (a *app) browseCommand() *cli.Command {
	return a.command(recovery, "browse", "ADDRESS",
		"show namespaces with counts, sizes and indexes, and records of one",
		`A cluster's name may be a pattern too: all stores are looked through then. Of a point it
is shown what has changed since the point before.

   dexamen browse meadow@10:14:04
   dexamen browse '*@latest/*harvest*'
   dexamen browse meadow@10:14:04/apiary.colonies --key N-00017
   dexamen browse meadow@-2h/apiary.colonies --where 'status == "collapsed"'`, a.browse,
		&cli.IntFlag{Name: "show", Value: 3, Usage: "how many records to show of a namespace named in full"},
		&cli.StringFlag{Name: "key", Usage: "show the record of this `KEY`, whole"},
		&cli.StringFlag{Name: "where", Usage: "show records that fit this `EXPRESSION`, and count all that do"},
		&cli.StringFlag{Name: "files", Usage: "of folders: only files that fit this `PATTERN`, such as 2026/**/*.jpg"},
		scratchFlag())
}

func (a *app) browse(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return err
	}
	chosen := c.String("key") != "" || c.String("where") != ""
	switch {
	case chosen && (ad.Pattern == "" || !address.Literal(ad.Pattern) || !address.Literal(ad.Cluster)):
		return usage(
			"--key and --where are asked of one namespace: write its name, as in meadow@latest/apiary.colonies")
	case c.String("key") != "" && c.String("where") != "":
		return usage("--key and --where are two questions; ask one at a time")
	case chosen && ad.When.Kind == address.Live:
		return usage("--key and --where are asked of moments in the store; the live cluster has its own shell for that")
	case !address.Literal(ad.Cluster) && ad.When.Kind == address.Live:
		return usage("%s: one live cluster at a time; name it", ad)
	case !address.Literal(ad.Cluster):
		return a.browseMany(ctx, c, ad)
	case ad.When.Kind == address.Live:
		return a.browseLive(ctx, c, ad)
	}
	e, err := a.atMoment(ctx, c, ad)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	m := e.moment
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	spaces, _, err := m.Trees(ctx, x, x, ad.Match)
	if err != nil {
		return err
	}
	if len(spaces) == 0 && ad.Pattern != "" {
		names, err := m.Names(ctx)
		if err != nil {
			return err
		}
		return m.Unknown(ctx, ad.Pattern, names)
	}
	some := sample{Records: []string{}}
	if len(spaces) == 1 && spaces[0].Name == ad.Pattern {
		if some, err = sampled(ctx, c, m.Model, x, spaces[0]); err != nil {
			return err
		}
	}
	e.progress.Done()
	var rows []spaceRow
	for _, s := range spaces {
		rows = append(rows, spaceRow{s.Name, s.Kind, s.Root.Records, s.Root.Bytes, s.Root.Hash.String(),
			m.Model.Describe(s.Definition), nil})
	}
	before := ""
	if m.Exact() && !chosen {
		if before, err = changesSince(ctx, e.Runner, m.Point, rows); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		out := map[string]any{"cluster": ad.Cluster, "moment": m.Time, "point": m.Point.ID, "namespaces": rows,
			"records": some.Records}
		if before != "" {
			out["since"] = before
		}
		if c.String("where") != "" {
			out["fit"], out["of"] = some.Fit, some.Of
		}
		return a.screen.Encode(out)
	}
	a.screen.Line("%s", m)
	if before != "" {
		a.screen.Line("  what has changed is since point %s", before)
	}
	if c.String("key") != "" {
		for _, r := range some.Records { // whole: it is what was asked for
			a.screen.Line("%s", r)
		}
		return nil
	}
	a.showRows(rows, some)
	return nil
}

// shown returns which records are shown: where they are in groups the first of each, and of
// folders the files that fit a pattern.
func shown(m engine.Model, files string) (func(record.Record) bool, error) {
	rewriter, ok := m.(engine.RestoreRewriter)
	group, grouped := m.(engine.Grouper)
	grouped = grouped && m.Traits().Grouped
	if files != "" && (!ok || !grouped) {
		return nil, usage("--files is for folders")
	}
	return func(r record.Record) bool {
		if grouped && !bytes.Equal(group.GroupPrefix(r.Key), r.Key) {
			return false
		}
		if files == "" {
			return true
		}
		_, keep, _ := rewriter.RewriteForRestore(map[string]string{"files": files}, r.Value)
		return keep
	}, nil
}

type spaceRow struct {
	Name       string      `json:"name"`
	Kind       record.Kind `json:"kind"`
	Records    int64       `json:"records"`
	Bytes      int64       `json:"bytes"`
	Root       string      `json:"root,omitempty"`
	Definition []string    `json:"definition"`
	Since      *since      `json:"since,omitempty"`
}

func (a *app) showRows(rows []spaceRow, some sample) {
	head := []string{"namespace", ">records", ">size", "indexes"}
	changes := slices.ContainsFunc(rows, func(r spaceRow) bool { return r.Since != nil })
	if changes {
		head = []string{"namespace", ">records", ">size", ">added", ">changed", ">removed", "indexes"}
	}
	t := a.screen.Table(head...)
	for _, r := range rows {
		var ix []string
		for _, d := range r.Definition {
			if rest, ok := strings.CutPrefix(d, "index "); ok {
				n, _, _ := strings.Cut(rest, " ")
				ix = append(ix, n)
			}
		}
		row := []any{r.Name, view.Count(r.Records), view.Bytes(r.Bytes)}
		if !r.Kind.HasRecords() {
			row, ix = []any{r.Name, "", ""}, []string{"view"}
		}
		if changes {
			var counts [3]any
			for i := range counts {
				counts[i] = ""
			}
			if r.Since != nil {
				counts = [3]any{view.Count(r.Since.Added), view.Count(r.Since.Changed), view.Count(r.Since.Removed)}
			}
			row = append(row, counts[:]...)
		}
		t.Row(append(row, strings.Join(ix, ", "))...)
	}
	t.Print(2)
	if len(rows) == 1 {
		for _, d := range rows[0].Definition {
			a.screen.Line("  %s", d)
		}
	}
	a.showSample(some)
}

func (a *app) browseLive(ctx context.Context, c *cli.Command, ad address.Address) error {
	cl, err := a.connect(ctx, c, ad.Cluster)
	if err != nil {
		return err
	}
	defer cl.Close()
	whole := engine.ApplicationView(cl)
	list, err := whole.Namespaces(ctx)
	if err != nil {
		return err
	}
	name, _, err := engine.ForAddress(a.cfg.Clusters[ad.Cluster].Address)
	if err != nil {
		return err
	}
	drv, err := engine.ForName(name)
	if err != nil {
		return err
	}
	var rows []spaceRow
	var names []string
	some := sample{Records: []string{}}
	for _, ns := range list {
		names = append(names, ns.Name)
		if !ad.Match(ns.Name) {
			continue
		}
		rows = append(rows, spaceRow{ns.Name, ns.Kind, ns.Records, ns.Bytes, "", drv.Model().Describe(ns.Definition),
			nil})
		if ns.Name == ad.Pattern && ns.Kind.HasRecords() && ns.Skip == "" && c.Int("show") > 0 {
			err := whole.Scan(ctx, ns, engine.Partition{}, func(r record.Record) error {
				some.Records = append(some.Records, drv.Model().Render(r.Value))
				if len(some.Records) >= c.Int("show") {
					return engine.ErrStopFollowing
				}
				return nil
			})
			if err != nil && !errors.Is(err, engine.ErrStopFollowing) {
				return err
			}
		}
	}
	if len(rows) == 0 && ad.Pattern != "" {
		return moment.UnknownName(ad.Pattern, ad.Cluster+"@live", names)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"cluster": ad.Cluster, "moment": "live", "namespaces": rows, "records": some.Records})
	}
	a.screen.Line("%s@live, counts as the server estimates them", ad.Cluster)
	a.showRows(rows, some)
	return nil
}
