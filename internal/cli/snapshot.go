package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/view"
)

func (a *app) snapshotCommand() *cli.Command {
	return a.command(protect, "snapshot", "CLUSTER", "make a restore point now",
		"Reads the cluster while its log is followed; the point is the exact state at one moment. With "+
			"--from-log\nthe point is made from the last one and the captured log, without touching the cluster. Of "+
			"search clusters,\nwhich have no log, what has changed since the last point is read; all with --full-read.",
		func(ctx context.Context, c *cli.Command) error {
			e, name, err := a.onCluster(ctx, c)
			if err != nil {
				return err
			}
			defer e.progress.Done()
			var p *store.Point
			err = a.record(ctx, c, e, store.RunSnapshot, name,
				func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
					if c.Bool("from-log") {
						var m *moment.Moment
						if m, err = moment.Resolve(ctx, e, name, latestMoment, restore.OnScratch{}); err == nil {
							p, err = snapshot.Fold(ctx, e, m)
						}
					} else {
						e.FullRead = c.Bool("full-read")
						p, err = a.snapshotNow(ctx, c, e, name)
					}
					if err == nil {
						daemon.RecordPoint(r, p)
						err = daemon.LeftOut(p)
					}
					return err
				})
			e.progress.Done()
			if err != nil && (p == nil || !errors.Is(err, run.ErrIncomplete)) {
				return err
			}
			return cmp.Or(a.showNewPoint(p), err)
		}, &cli.BoolFlag{Name: "from-log", Usage: "from the last point and the log, at no load on the cluster"},
		&cli.BoolFlag{Name: "full-read", Usage: "read all content, also of clusters of which only what has changed " +
			"need be read, and compare the two"})
}

// snapshotNow reads a cluster and makes a point of it.
func (a *app) snapshotNow(ctx context.Context, c *cli.Command, e *run.Runner, name string) (*store.Point, error) {
	_, policy, _ := a.policyOf(c, name)
	cl, err := a.connectAs(ctx, c, name, policy.ClusterWide)
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	end, err := a.share(ctx, c, e, store.RunSnapshot, name, cl)
	if err != nil {
		return nil, err
	}
	defer end()
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
		how := ""
		switch {
		case p.Made == "changes":
			how = ", of what has changed since point " + p.From
		case p.HasLog():
			how = ", " + view.Plural(p.Stats.Changes, "change") + " folded in"
		}
		s.Line("stored %s new%s in %s%s", view.Bytes(p.Stats.Stored), share, view.Duration(p.Finished.Sub(p.Started)),
			how)
		for _, cv := range p.Caveats {
			s.Line("%s %s", s.Loss("not guaranteed:"), cv)
		}
		for _, sk := range p.Skipped {
			s.Line("%s %s: %s", s.Loss("left out:"), sk.Name, sk.Reason)
		}
	}
	return nil
}

func pointJSON(p *store.Point, namespaces bool) map[string]any {
	m := map[string]any{"id": p.ID, "cluster": p.Cluster, "time": p.Time, "made": p.Made, "exact": p.Exact,
		"stats":   p.Stats,
		"started": p.Started, "finished": p.Finished, "shards": p.Shards, "caveats": p.Caveats, "skipped": p.Skipped,
		"from": p.From}
	if namespaces {
		var list []map[string]any
		for _, ns := range p.Namespaces {
			list = append(list, map[string]any{
				"name": ns.Name, "kind": ns.Kind, "records": ns.Root.Records, "bytes": ns.Root.Bytes,
				"root": ns.Root.Hash, "shard": ns.Shard})
		}
		m["namespaces"] = list
	}
	return m
}
