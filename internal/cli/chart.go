package cli

import (
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/report"
)

// chartFlag is of commands that draw what they list.
func chartFlag(what string) cli.Flag {
	return &cli.StringFlag{Name: "chart", Usage: "draw " + what +
		" into this `FILE`, which ends in .svg or .png; one " +
		"that is there is replaced"}
}

// drawing returns the file to draw into and whether as PNG; empty where nothing is to be drawn.
func drawing(c *cli.Command) (file string, png bool, err error) {
	file = c.String("chart")
	switch {
	case file == "", strings.HasSuffix(file, ".svg"):
		return file, false, nil
	case strings.HasSuffix(file, ".png"):
		return file, true, nil
	}
	return "", false, usage("--chart %s: name a file that ends in .svg or .png", file)
}

// draw writes a picture; of several stores each has one of its own.
func (a *app) draw(p *report.Picture, file string, png bool) error {
	if a.drawn {
		return usage(
			"--chart: several stores are configured, and each has a picture of its own; say which with --store")
	}
	a.drawn = true
	if err := writeNew(file, true, func(w io.Writer) error { return p.Write(w, png) }); err != nil {
		return err
	}
	a.screen.Note("drawn: %s", file)
	return nil
}

// seriesOf gathers a number of runs by cluster and kind.
func seriesOf(runs []*store.Run, value func(*store.Run) float64) (out []report.Series) {
	at := map[string]int{}
	for _, r := range runs {
		if r.Finished.IsZero() || r.Cluster == "" {
			continue
		}
		name := r.Cluster + ", " + r.Kind
		if _, ok := at[name]; !ok {
			at[name] = len(out)
			out = append(out, report.Series{Name: name})
		}
		s := &out[at[name]]
		s.Samples = append(s.Samples, report.Sample{Time: r.Started, Value: value(r)})
	}
	return report.Largest(out)
}

// drawRuns draws how long runs took, and what they added to the store.
func (a *app) drawRuns(runs []*store.Run, file string, png bool) error {
	runs = slices.Clone(runs)
	slices.SortFunc(runs, func(x, y *store.Run) int { return x.Started.Compare(y.Started) })
	if len(runs) == 0 {
		return usage("--chart: there are no runs to draw")
	}
	took := seriesOf(runs, func(r *store.Run) float64 { return r.Took().Seconds() })
	stored := seriesOf(runs, func(r *store.Run) float64 { return float64(r.Stored) })
	from, to := runs[0].Started, time.Now()
	return a.draw(&report.Picture{Charts: []report.Chart{
		{Title: "How long runs took", Unit: report.Seconds, From: from, To: to, Series: took, Dots: true},
		{Title: "What they added to the store", Unit: report.Bytes, From: from, To: to, Series: stored, Dots: true}}},
		file, png)
}

// drawCoverage draws which moments can be restored.
func (a *app) drawCoverage(list []*moment.Coverage, file string, png bool) error {
	p := &report.Picture{To: time.Now()}
	for _, c := range list {
		row := &report.Cluster{Name: c.Cluster}
		for _, pt := range c.Points {
			row.Times = append(row.Times, pt.Time)
			if p.From.IsZero() || pt.Time.Before(p.From) {
				p.From = pt.Time
			}
		}
		for _, s := range c.Stretches {
			row.Stretches = append(row.Stretches, [2]time.Time{s.From, s.To})
		}
		for _, g := range c.Gaps {
			row.Gaps = append(row.Gaps, report.Gap{From: g.From.Wall, To: g.To.Wall, Reason: g.Reason})
		}
		p.Rows = append(p.Rows, row)
	}
	if len(p.Rows) == 0 {
		return usage("--chart: there is nothing yet that can be restored")
	}
	p.From = p.From.Add(-p.To.Sub(p.From) / 50)
	return a.draw(p, file, png)
}

// drawGrowth draws what points added to a store, summed up by cluster.
func (a *app) drawGrowth(points []*store.Point, file string, png bool) error {
	points = slices.Clone(points)
	slices.SortFunc(points, func(x, y *store.Point) int { return x.Finished.Compare(y.Finished) })
	if len(points) == 0 {
		return usage("--chart: the store holds no points yet")
	}
	at := map[string]int{}
	var all []report.Series
	for _, p := range points {
		if _, ok := at[p.Cluster]; !ok {
			at[p.Cluster] = len(all)
			all = append(all, report.Series{Name: p.Cluster})
		}
		s := &all[at[p.Cluster]]
		sum := float64(p.Stats.Stored)
		if n := len(s.Samples); n > 0 {
			sum += s.Samples[n-1].Value
		}
		s.Samples = append(s.Samples, report.Sample{Time: p.Finished, Value: sum})
	}
	return a.draw(&report.Picture{Charts: []report.Chart{{Title: "What the points that are there added to the store",
		Unit: report.Bytes, From: points[0].Finished, To: time.Now(), Series: report.Largest(all)}}}, file, png)
}
