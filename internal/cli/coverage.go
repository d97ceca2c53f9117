package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/moment"
	"dexamen/internal/notify"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) coverageCommand() *cli.Command {
	return a.command(protect, "coverage", "[CLUSTER]",
		"show which moments can be restored, and every gap with its cause", "",
		a.everyStore(func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 0, 1); err != nil {
				return err
			}
			e, progress, err := a.openRunner(ctx, c, c.Args().First())
			if err != nil {
				return err
			}
			defer progress.Done()
			list, err := moment.Cover(ctx, e, c.Args().First())
			if err != nil {
				return err
			}
			chart, png, err := drawing(c)
			if err == nil && chart != "" {
				err = a.drawCoverage(list, chart, png)
			}
			if err != nil {
				return err
			}
			gaps := 0
			for _, cv := range list {
				gaps += len(cv.Gaps) + len(cv.Unreadable)
			}
			if a.screen.JSON {
				err = a.encodeCoverage(ctx, e, list)
			} else {
				a.showCoverage(list)
				err = a.showRisk(ctx, c, e, list)
			}
			if err == nil && gaps > 0 {
				err = fmt.Errorf("%w: the log has %s", run.ErrIncomplete, view.Plural(int64(gaps), "gap"))
			}
			return err
		}), chartFlag("it"))
}

// covered is a cluster's coverage, and when its restore was last rehearsed.
type covered struct {
	*moment.Coverage
	Drill *daemon.DrillStatus `json:"drill,omitempty"`
}

func (a *app) encodeCoverage(ctx context.Context, e *run.Runner, list []*moment.Coverage) error {
	out := []covered{}
	for _, c := range list {
		d, err := daemon.LastDrill(ctx, e, c.Cluster)
		if err != nil {
			return err
		}
		out = append(out, covered{c, d})
	}
	return a.screen.Encode(out)
}

// rehearsed says when a restore was last rehearsed with success, and how long it took.
func rehearsed(d *daemon.DrillStatus, cluster string) string {
	if d == nil {
		return "no restore of it has been rehearsed: dexamen drill " + cluster
	}
	return fmt.Sprintf("a restore was last rehearsed %s ago: all was there after %s",
		view.Duration(time.Since(d.Finished).Round(time.Second)), view.Duration(d.Recovery.D()))
}

// showRisk shows what could be lost: as of now, and at the worst by what the
// policies ask for; and what trouble goes on.
func (a *app) showRisk(ctx context.Context, c *cli.Command, e *run.Runner, list []*moment.Coverage) error {
	s := a.screen
	for _, cv := range list {
		line := fmt.Sprintf("%s  if it were lost now, what was written in the last %s would be", s.Accent(cv.Cluster),
			view.Duration(time.Since(cv.Latest)))
		name, p, ok := a.policyOf(c, cv.Cluster)
		switch w := p.When; {
		case !ok:
			line += "; no policy protects it"
		case w.Continuous:
			line += fmt.Sprintf("; at the worst by policy %s about %s", name, view.Long(p.SealAfter()))
		case w.Capture > 0:
			line += fmt.Sprintf("; at the worst by policy %s %s and the time a capture takes", name,
				view.Long(w.Capture))
		default:
			line += fmt.Sprintf("; at the worst by policy %s %s and the time a snapshot takes", name,
				view.Long(w.Snapshot.Spacing(time.Now())))
		}
		s.Line("%s", line)
		d, err := daemon.LastDrill(ctx, e, cv.Cluster)
		if err != nil {
			return err
		}
		if !strings.HasSuffix(cv.Cluster, store.KeptSuffix) { // which are there to undo by
			s.Line("  %s", rehearsed(d, cv.Cluster))
		}
		problems, err := notify.Active(ctx, e.Store, cv.Cluster)
		if err != nil {
			return err
		}
		for _, t := range problems {
			s.Line("  %s %s", s.Loss("alert since "+view.Time(t.Since)+":"), t.Text)
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
		bands = append(bands, bandOf(c))
	}
	s.Ribbon(bands)
	s.Line("")
	for _, c := range list {
		s.Line("%s  %s, latest moment %s, %s ago", s.Accent(c.Cluster), view.Plural(int64(len(c.Points)), "point"),
			view.Time(c.Latest), view.Duration(time.Since(c.Latest)))
		for _, st := range c.Stretches {
			if st.To.After(st.From) {
				s.Line("  every moment from %s to %s (%s)", view.Time(st.From), view.Time(st.To),
					view.Duration(st.To.Sub(st.From)))
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
			s.Line("  %s from point %s on: %s, which its policy no longer chooses; only moments before %s have it",
				s.Loss("left out"), n.Point, strings.Join(n.Names, ", "), view.Time(n.Until))
		}
		for _, d := range c.Doubts {
			s.Line("  %s %s to %s: %s", s.Loss("in doubt"), view.Time(d.From), view.Time(d.To), d.What)
		}
		for _, u := range c.Unreadable {
			s.Line("  %s %s", s.Loss("unreadable"), u)
		}
	}
}
