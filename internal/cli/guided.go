package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/guided"
	"dexamen/internal/moment"
	"dexamen/internal/pinpoint"
	"dexamen/internal/run"

	"dexamen/internal/view"
)

// errNotConfirmed is returned when somebody answered no.
var errNotConfirmed = fmt.Errorf("%w: not confirmed; nothing was changed", run.ErrRefused)

// guided leads to a restore at a terminal and carries it out as if it had been typed. Who does
// not confirm its plan is led on from where they were.
func (a *app) guided(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	if !a.screen.Terminal || a.screen.JSON {
		return usage("--guided is for people at a terminal; see: dexamen restore --help")
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	// What works beneath the screen must not write on it.
	still, screen := *a, *a.screen
	screen.Err, screen.Terminal, still.screen = io.Discard, false, &screen
	src := &guideSource{a: &still, c: c, cfg: cfg, runners: map[string]*run.Runner{}}
	var choice *guided.Choice
	for {
		choice, err = guided.Run(ctx, a.screen, src, c.Args().First(), choice, os.Stdin, os.Stdout)
		a.opened, still.opened = append(a.opened, still.opened...), nil
		if err != nil {
			return err
		}
		if choice.Args == nil {
			return fmt.Errorf("%w: left; nothing was changed", run.ErrRefused)
		}
		line := []string{"dexamen"}
		for _, g := range []string{"config", "store", "log-level"} {
			if c.IsSet(g) {
				line = append(line, "--"+g, c.String(g))
			}
		}
		if !c.IsSet("store") && len(cfg.Stores) > 1 {
			line = append(line, "--store", choice.Store)
		}
		if c.Bool("no-color") {
			line = append(line, "--no-color")
		}
		line = append(line, choice.Args...)
		a.typed = guided.CommandLine(line[1:])
		a.screen.Line("%s", a.screen.Faint("$ "+a.typed))
		if err = a.root().Run(ctx, line); !errors.Is(err, errNotConfirmed) {
			return err
		}
	}
}

// guideSource answers what is asked in a guided restore, from the store and the clusters.
type guideSource struct {
	a       *app
	c       *cli.Command
	cfg     *config.Config
	runners map[string]*run.Runner // by store
}

func (g *guideSource) runner(ctx context.Context, name string) (*run.Runner, error) {
	if e := g.runners[name]; e != nil {
		return e, nil
	}
	e, _, err := g.a.openRunnerOf(ctx, g.c, name, "")
	if err == nil {
		e.OnEvent = nil
		g.runners[name] = e
	}
	return e, err
}

// Clusters implements [guided.Source].
func (g *guideSource) Clusters(ctx context.Context) (out []guided.Cluster, err error) {
	names := config.Names(g.cfg.Stores)
	if s := g.c.String("store"); s != "" {
		names = []string{s}
	}
	var errs []error
	for _, name := range names {
		e, err := g.runner(ctx, name)
		var list []*moment.Coverage
		if err == nil {
			list, err = moment.Cover(ctx, e, "")
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("store %s: %w", name, err))
			continue
		}
		for _, cv := range list {
			_, configured := g.cfg.Clusters[cv.Cluster]
			known := slices.ContainsFunc(out, func(c guided.Cluster) bool { return c.Name == cv.Cluster })
			if len(cv.Points) == 0 || known || !configured && strings.HasSuffix(cv.Cluster, store.KeptSuffix) {
				continue
			}
			of := guided.Cluster{Name: cv.Cluster, Store: name, Engine: cv.Points[0].Engine, Configured: configured,
				Latest: cv.Latest, Band: bandOf(cv)}
			for _, p := range cv.Points {
				of.Points = append(of.Points, p.ID)
			}
			out = append(out, of)
		}
	}
	slices.SortFunc(out, func(a, b guided.Cluster) int { return strings.Compare(a.Name, b.Name) })
	if len(out) > 0 {
		return out, nil // what cannot be read does not keep the rest from being restored
	}
	return nil, errors.Join(errs...)
}

// Events implements [guided.Source].
func (g *guideSource) Events(ctx context.Context, c guided.Cluster) (out []guided.Event, err error) {
	e, err := g.runner(ctx, c.Store)
	if err != nil {
		return nil, err
	}
	r, err := pinpoint.Find(ctx, e, c.Name, pinpoint.Options{})
	if err != nil {
		return nil, err
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		what, loss := findingText(f)
		ev := guided.Event{At: f.Started, Namespace: f.Namespace, What: what, Loss: loss, Cannot: f.Cannot}
		if ad, err := address.Parse(f.Before, time.Now()); err == nil && f.Cannot == "" {
			ev.When = ad.When.String()
		}
		out = append(out, ev)
	}
	return out, nil
}

// Rows implements [guided.Source].
func (g *guideSource) Rows(ctx context.Context, c guided.Cluster, when string) (out []guided.Row, note string,
	err error) {
	e, err := g.runner(ctx, c.Store)
	if err != nil {
		return nil, "", err
	}
	w, err := address.ParseWhen(when, time.Now())
	if err != nil {
		return nil, "", err
	}
	m, err := moment.Resolve(ctx, e, c.Name, w, nil)
	if err != nil {
		return nil, "", err
	}
	then, err := m.Names(ctx)
	if err != nil {
		return nil, "", err
	}
	rows := map[string]*guided.Row{}
	for _, n := range then {
		rows[n] = &guided.Row{Name: n, Now: -1, Since: -1}
	}
	counted := map[string]bool{}
	for _, s := range moment.StatesOf(m.Point) {
		if r := rows[s.Name]; r != nil {
			r.Then, r.About, counted[s.Name] = r.Then+s.Root.Records, m.MayChange(s.Name), true
		}
	}
	if err := g.made(ctx, e, m, rows, counted); err != nil {
		return nil, "", err
	}
	if m.Point.HasLog() {
		since, err := m.Since(ctx)
		if err != nil {
			return nil, "", err
		}
		for _, r := range rows {
			r.Since = since.Changes[r.Name]
		}
	}
	if err := g.present(ctx, c, rows); err != nil {
		if ctx.Err() != nil {
			return nil, "", err
		}
		note = err.Error() // it can be restored onto another cluster all the same
		for _, r := range rows {
			r.Now = -2
		}
	}
	for _, n := range slices.Sorted(maps.Keys(rows)) {
		out = append(out, *rows[n])
	}
	return out, note, nil
}

// made counts what was made after the point before the moment, which the log has whole.
func (g *guideSource) made(ctx context.Context, e *run.Runner, m *moment.Moment, rows map[string]*guided.Row,
	counted map[string]bool) error {
	if m.Exact() || m.NeedsServer() || len(counted) == len(rows) {
		return nil
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	states, _, err := m.Trees(ctx, x, x, func(n string) bool { return rows[n] != nil && !counted[n] })
	for _, s := range states {
		rows[s.Name].Then += s.Root.Records
	}
	return err
}

// present adds what there is now.
func (g *guideSource) present(ctx context.Context, c guided.Cluster, rows map[string]*guided.Row) error {
	cl, err := g.a.connect(ctx, g.c, c.Name)
	if err != nil {
		return fmt.Errorf("what is there now cannot be seen: %w", err)
	}
	defer cl.Close()
	now, err := engine.ApplicationView(cl).Namespaces(ctx)
	if err != nil {
		return fmt.Errorf("what is there now cannot be seen: %w", err)
	}
	for _, ns := range now {
		if !ns.Kind.IsContent() {
			continue
		}
		r := rows[ns.Name]
		if r == nil {
			r = &guided.Row{Name: ns.Name, Then: -1}
			rows[ns.Name] = r
		}
		r.Now = ns.Records
	}
	return nil
}

// Moment implements [guided.Source].
func (g *guideSource) Moment(text string) (string, time.Time, error) {
	w, err := address.ParseWhen(text, time.Now())
	switch {
	case err != nil:
		return "", time.Time{}, err
	case w.Kind == address.Live:
		return "", time.Time{}, errors.New("live is now; a moment that was is needed here")
	case w.Kind == address.Time: // what it is today it shall be when it is run
		return w.Time.Local().Format("2006-01-02T15:04:05.000Z07:00"), w.Time, nil
	}
	return w.String(), time.Time{}, nil
}

// Targets implements [guided.Source].
func (g *guideSource) Targets(name string) (out []string) {
	for _, n := range config.Names(g.cfg.Clusters) {
		if of, _, err := engine.ForAddress(g.cfg.Clusters[n].Address); err == nil && of == name {
			out = append(out, n)
		}
	}
	return out
}

// bandOf returns the coverage of a cluster as a ribbon shows it.
func bandOf(c *moment.Coverage) view.Band {
	b := view.Band{Name: c.Cluster}
	for _, p := range c.Points {
		b.Points = append(b.Points, p.Time)
	}
	for _, st := range c.Stretches {
		if st.To.After(st.From) {
			b.Covered = append(b.Covered, [2]time.Time{st.From, st.To})
		}
	}
	for _, g := range c.Gaps {
		b.Gaps = append(b.Gaps, [2]time.Time{g.From.Wall, g.To.Wall})
	}
	return b
}
