package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) pointsCommand() *cli.Command {
	return a.command(protect, "points", "[CLUSTER]", "list the restore points", "",
		a.everyStore(func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 0, 1); err != nil {
				return err
			}
			e, progress, err := a.openRunner(ctx, c, c.Args().First())
			if err != nil {
				return err
			}
			defer progress.Done()
			points, bad, err := e.Store.Points(ctx, c.Args().First())
			if err != nil {
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
					row := []any{p.ID, view.Time(p.Time), p.Made, len(p.Parts()), view.Count(p.Stats.Records),
						view.Bytes(p.Stats.Bytes), view.Bytes(p.Stats.Stored), strings.Join(notes[p.ID], ", ")}
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
				a.screen.Note("! %v", b)
			}
			if len(bad) > 0 {
				return fmt.Errorf("%w: %s cannot be read", run.ErrIncomplete, view.Plural(int64(len(bad)), "point"))
			}
			return nil
		}))
}

// pointNotes returns what of points is worth knowing: what is missing, what was
// proven, who holds them.
func (a *app) pointNotes(ctx context.Context, c *cli.Command, e *run.Runner,
	points []*store.Point) (map[string][]string, error) {
	s, notes := a.screen, map[string][]string{}
	if scrub, err := e.Store.LastScrub(ctx); err == nil && scrub != nil {
		for _, h := range scrub.Points {
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
				notes[h.Point] = append(notes[h.Point],
					s.Accent("held until "+h.Until.Local().Format(time.DateOnly)+": "+h.Reason))
			}
		}
	}
	return notes, nil
}
