package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/engine"
	"dexamen/internal/view"
)

func (a *app) clusterInspect(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	name := c.Args().First()
	cl, err := a.connect(ctx, c, name)
	if err != nil {
		return err
	}
	defer cl.Close()
	t, err := cl.Topology(ctx)
	if err != nil {
		return err
	}
	spaces, err := engine.ApplicationView(cl).Namespaces(ctx)
	if err != nil {
		return err
	}
	tried, err := provedOf(name, t.Identity)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		out := map[string]any{"cluster": name, "topology": t, "namespaces": jsonSpaces(spaces)}
		if tried != nil {
			out["proved"] = tried
		}
		return a.screen.Encode(out)
	}
	s := a.screen
	health := ""
	if t.Health != "" {
		health = ", " + t.Health
	}
	s.Line("%s  %s %s, server version %s%s", s.Accent(name), t.Kind, t.Identity, t.Version, health)
	if len(t.Routers) > 0 {
		s.Line("")
		s.Line("  routers")
		a.showMembers(t.Routers)
	}
	for _, sh := range t.Shards {
		s.Line("")
		switch {
		case sh.Layout:
			s.Line("  config servers")
		case len(t.Shards) > 1:
			s.Line("  shard %s", s.Accent(sh.Name))
		}
		a.showMembers(sh.Members)
		if _, drv, err := engine.ForAddress(a.cfg.Clusters[name].Address); err == nil && sh.Log == nil &&
			drv.Model().Traits().Incremental {
			continue // servers of this kind keep none
		}
		if sh.Log == nil {
			s.Line("  log: %s", s.Loss("none"))
			continue
		}
		size := ""
		if sh.Log.Max > 0 {
			size = fmt.Sprintf(", %s of %s used", view.Bytes(sh.Log.Size), view.Bytes(sh.Log.Max))
		}
		if sh.Log.First.Wall.IsZero() {
			_, drv, err := engine.ForAddress(a.cfg.Clusters[name].Address)
			if err != nil {
				return err
			}
			m := drv.Model()
			if sh.Log.Marked {
				s.Line("  log: %s, taken up where a point or a capture ended", strings.TrimPrefix(size, ", "))
				continue
			}
			s.Line("  log: from position %s to %s%s", m.FormatPosition(sh.Log.First.Position),
				m.FormatPosition(sh.Log.Last.Position), size)
			continue
		}
		back := sh.Log.Last.Wall.Sub(sh.Log.First.Wall)
		s.Line("  log: reaches back %s, to %s%s", view.Duration(back), view.Time(sh.Log.First.Wall), size)
		// A log that is not full yet reaches back to its beginning.
		if every := c.Duration("every"); back < 3*every && (sh.Log.Max == 0 || sh.Log.Size > sh.Log.Max*9/10) {
			s.Line("  %s that is less than three times the %s between captures: after a delay it may have rolled "+
				"over; make it larger or capture more often", s.Loss("short:"), view.Duration(every))
		}
	}
	s.Line("")
	a.showSpaces(spaces)
	for i, l := range t.Limitations {
		if i == 0 {
			s.Line("\n  What this server lacks, and what follows:")
		}
		s.Line("  - %s: %s", l.What, l.Consequence)
	}
	a.showProved(tried, t.Version)
	return nil
}

func (a *app) showMembers(list []engine.Member) {
	tb := a.screen.Table("member", "role", "state", ">lag", "note")
	for _, m := range list {
		state := "healthy"
		if !m.Healthy {
			state = a.screen.Loss("unfit")
		} else if m.CutOff {
			state = a.screen.Loss("cut off")
		}
		tb.Row(m.Address, m.Role, state, view.Duration(m.Lag), m.Note)
	}
	tb.Print(2)
}

func jsonSpaces(list []engine.Namespace) []map[string]any {
	var out []map[string]any
	for _, ns := range list {
		m := map[string]any{"name": ns.Name, "kind": ns.Kind, "records": ns.Records, "bytes": ns.Bytes}
		if ns.Skip != "" {
			m["skip"] = ns.Skip
		}
		if ns.Note != "" {
			m["note"] = ns.Note
		}
		out = append(out, m)
	}
	return out
}

func (a *app) showSpaces(spaces []engine.Namespace) {
	tb := a.screen.Table("namespace", ">records", ">size", "")
	var n, size int64
	for _, ns := range spaces {
		note := ns.Note
		if ns.Skip != "" {
			note = a.screen.Loss("left out: ") + ns.Skip
		}
		if !ns.Kind.HasRecords() {
			note = "view"
		}
		tb.Row(ns.Name, view.Count(ns.Records), view.Bytes(ns.Bytes), note)
		n, size = n+ns.Records, size+ns.Bytes
	}
	tb.Row("", view.Count(n), view.Bytes(size), "")
	tb.Print(2)
}
