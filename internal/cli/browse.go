package cli

import (
	"bytes"
	"context"
	"errors"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/view"
)

func (a *app) browseCommand() *cli.Command {
	return a.command(recovery, "browse", "ADDRESS",
		"show namespaces with counts, sizes and indexes, and a few records of one", "", a.browse,
		&cli.IntFlag{Name: "show", Value: 3, Usage: "how many records to show of a namespace named in full"},
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
	if ad.When.Kind == address.Live {
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
	var sample []string
	if len(spaces) == 1 && spaces[0].Name == ad.Pattern {
		it := tree.NewIterator(x, spaces[0].Root)
		choose, err := shown(m.Model, c.String("files"))
		if err != nil {
			return err
		}
		for len(sample) < c.Int("show") {
			r, ok, err := it.Next(ctx)
			if err != nil {
				return err
			}
			if !ok {
				break
			}
			if choose(r) {
				sample = append(sample, m.Model.Render(r.Value))
			}
		}
	}
	e.progress.Done()
	var rows []spaceRow
	for _, s := range spaces {
		rows = append(rows, spaceRow{s.Name, s.Kind, s.Root.Records, s.Root.Bytes, s.Root.Hash.String(),
			m.Model.Describe(s.Definition)})
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"cluster": ad.Cluster, "moment": m.Time, "point": m.Point.ID, "namespaces": rows, "records": sample})
	}
	a.screen.Line("%s", m)
	a.showRows(rows, sample)
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
}

func (a *app) showRows(rows []spaceRow, sample []string) {
	t := a.screen.Table("namespace", ">records", ">size", "indexes")
	for _, r := range rows {
		var ix []string
		for _, d := range r.Definition {
			if rest, ok := strings.CutPrefix(d, "index "); ok {
				n, _, _ := strings.Cut(rest, " ")
				ix = append(ix, n)
			}
		}
		if !r.Kind.HasRecords() {
			t.Row(r.Name, "", "", "view")
			continue
		}
		t.Row(r.Name, view.Count(r.Records), view.Bytes(r.Bytes), strings.Join(ix, ", "))
	}
	t.Print(2)
	if len(rows) == 1 {
		for _, d := range rows[0].Definition {
			a.screen.Line("  %s", d)
		}
	}
	for _, s := range sample {
		if len(s) > 2*a.screen.Width {
			s = s[:2*a.screen.Width] + "…"
		}
		a.screen.Line("  %s", a.screen.Faint(s))
	}
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
	var names, sample []string
	for _, ns := range list {
		names = append(names, ns.Name)
		if !ad.Match(ns.Name) {
			continue
		}
		rows = append(rows, spaceRow{ns.Name, ns.Kind, ns.Records, ns.Bytes, "", drv.Model().Describe(ns.Definition)})
		if ns.Name == ad.Pattern && ns.Kind.HasRecords() && ns.Skip == "" && c.Int("show") > 0 {
			err := whole.Scan(ctx, ns, engine.Partition{}, func(r record.Record) error {
				sample = append(sample, drv.Model().Render(r.Value))
				if len(sample) >= c.Int("show") {
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
			"cluster": ad.Cluster, "moment": "live", "namespaces": rows, "records": sample})
	}
	a.screen.Line("%s@live, counts as the server estimates them", ad.Cluster)
	a.showRows(rows, sample)
	return nil
}
