package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/record"
	"dexamen/internal/daemon"
	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

const setUp = "set up"

func (a *app) configCommands() *cli.Command {
	return &cli.Command{Name: "config", Usage: "start and check the configuration file", Category: setUp, OnUsageError: onUsage, Commands: []*cli.Command{
		a.command("", "sample", "", "print a commented file to start from", "", func(_ context.Context, c *cli.Command) error {
			if err := args(c, 0, 0); err != nil {
				return err
			}
			_, err := io.WriteString(a.screen.Out, config.Sample)
			return err
		}),
		a.command("", "check", "[FILE]", "check the file; errors come with line and column", "", func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 0, 1); err != nil {
				return err
			}
			var cfg *config.Config
			var err error
			if c.Args().Present() {
				if cfg, err = config.Load(c.Args().First()); err != nil {
					return usageError{err}
				}
			} else if cfg, err = a.config(c); err != nil {
				return err
			}
			protected := map[string]bool{}
			for _, w := range daemon.Assignments(cfg) {
				protected[w.Cluster] = true
			}
			unprotected := slices.DeleteFunc(config.Names(cfg.Clusters), func(n string) bool { return protected[n] })
			var lack error
			if len(cfg.Lacking) > 0 {
				lack = fmt.Errorf("%w: what is named is not there now: %s", run.ErrIncomplete, strings.Join(cfg.Lacking, "; "))
			}
			if a.screen.JSON {
				return errors.Join(a.screen.Encode(map[string]any{"file": cfg.Path, "stores": config.Names(cfg.Stores), "clusters": config.Names(cfg.Clusters),
					"unprotected": unprotected, "lacking": cfg.Lacking, "unmade": cfg.Unmade}), lack)
			}
			if c.Bool("clusters") {
				if err := a.checkReach(ctx, c, cfg); err != nil {
					return err
				}
			}
			policies := fmt.Sprintf("%d policies", len(cfg.Policies))
			if len(cfg.Policies) == 1 {
				policies = "1 policy"
			}
			if len(cfg.Policies) > 0 && len(unprotected) > 0 {
				a.screen.Line("%s %s", a.screen.Loss("no policy protects"), strings.Join(unprotected, ", "))
			}
			if len(cfg.Unmade) > 0 {
				a.screen.Line("the keys of %s are not there yet; dexamen store create makes them", strings.Join(cfg.Unmade, ", "))
			}
			if lack != nil {
				return lack
			}
			a.screen.Line("%s is good: %s, %s, %s", cfg.Path, view.Plural(int64(len(cfg.Stores)), "store"), view.Plural(int64(len(cfg.Clusters)), "cluster"), policies)
			return nil
		}, &cli.BoolFlag{Name: "clusters", Usage: "also ask the clusters that policies protect how far their logs reach back"}),
	}}
}

// checkReach asks the clusters of the policies whether their logs reach back far
// enough for how often they are captured.
func (a *app) checkReach(ctx context.Context, c *cli.Command, cfg *config.Config) error {
	var errs []error
	for _, w := range daemon.Assignments(cfg) {
		err := func() error {
			cl, err := a.openCluster(ctx, c, cfg, w.Cluster, w.Config.ClusterWide)
			if err != nil {
				return err
			}
			defer cl.Close()
			topo, err := cl.Topology(ctx)
			if err != nil {
				return err
			}
			for _, t := range logTrouble(w, topo) {
				errs = append(errs, fmt.Errorf("%s: policies.%s.capture: %s", cfg.Where("policies."+w.Policy+".capture"), w.Policy, t))
			}
			return nil
		}()
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: clusters.%s: %w", cfg.Where("clusters."+w.Cluster), w.Cluster, err))
		}
	}
	if len(errs) > 0 {
		return usageError{errors.Join(errs...)}
	}
	return nil
}

func (a *app) clusterCommands() *cli.Command {
	return &cli.Command{Name: "cluster", Usage: "what is configured, what discovery finds, whether it works", Category: setUp, OnUsageError: onUsage, Commands: []*cli.Command{
		a.command("", "list", "", "list the configured clusters", "", a.clusterList),
		a.command("", "inspect", "CLUSTER", "show members, roles, lag, the log's reach, and what the servers lack", "", a.clusterInspect,
			&cli.DurationFlag{Name: "every", Value: 10 * time.Minute, Usage: "how often the log is captured: it should reach back three times as far"}),
		a.command("", "check", "CLUSTER", "try login, every member, every privilege, the log and reading, one by one", "", a.clusterCheck),
		a.command("", "trust", "CLUSTER", "look at the servers' certificates and pin them",
			"Shows each member's certificate with its fingerprint and asks. Once pinned, these are taken and no others.", a.clusterTrust,
			&cli.BoolFlag{Name: "yes", Usage: "do not ask: the fingerprints are known to be right"}),
		a.command("", "grants", "CLUSTER", "print the least privileges needed, as the statements to run", "", a.clusterGrants,
			&cli.StringFlag{Name: "for", Value: "backup", Usage: "for `WHAT`: backup, or restore, which is for both"}),
	}}
}

func (a *app) clusterList(_ context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	type row struct {
		Name    string            `json:"name"`
		Engine  string            `json:"engine"`
		Address string            `json:"address"`
		User    string            `json:"user,omitempty"`
		Labels  map[string]string `json:"labels,omitempty"`
	}
	var rows []row
	for _, n := range config.Names(cfg.Clusters) {
		cl := cfg.Clusters[n]
		name, _, err := engine.ForAddress(cl.Address)
		if err != nil {
			return usageError{err}
		}
		r := row{Name: n, Engine: name, Address: engine.Redact(cl.Address), Labels: cl.Labels}
		if cl.Login != nil {
			r.User = cl.Login.User
		}
		rows = append(rows, r)
	}
	if a.screen.JSON {
		return a.screen.Encode(rows)
	}
	t := a.screen.Table("cluster", "engine", "address", "user")
	for _, r := range rows {
		t.Row(r.Name, r.Engine, r.Address, r.User)
	}
	t.Print(0)
	return nil
}

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
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": name, "topology": t, "namespaces": jsonSpaces(spaces)})
	}
	s := a.screen
	s.Line("%s  %s %s, server version %s", s.Accent(name), t.Kind, t.Identity, t.Version)
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
			s.Line("  log: from position %s to %s%s", m.FormatPosition(sh.Log.First.Position), m.FormatPosition(sh.Log.Last.Position), size)
			continue
		}
		back := sh.Log.Last.Wall.Sub(sh.Log.First.Wall)
		s.Line("  log: reaches back %s, to %s%s", view.Duration(back), view.Time(sh.Log.First.Wall), size)
		// A log that is not full yet reaches back to its beginning.
		if every := c.Duration("every"); back < 3*every && (sh.Log.Max == 0 || sh.Log.Size > sh.Log.Max*9/10) {
			s.Line("  %s that is less than three times the %s between captures: after a delay it may have rolled over; make it larger or capture more often", s.Loss("short:"), view.Duration(every))
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
		out = append(out, m)
	}
	return out
}

func (a *app) showSpaces(spaces []engine.Namespace) {
	tb := a.screen.Table("namespace", ">records", ">size", "")
	var n, size int64
	for _, ns := range spaces {
		note := ns.Skip
		if !ns.Kind.HasRecords() {
			note = "view"
		}
		tb.Row(ns.Name, view.Count(ns.Records), view.Bytes(ns.Bytes), note)
		n, size = n+ns.Records, size+ns.Bytes
	}
	tb.Row("", view.Count(n), view.Bytes(size), "")
	tb.Print(2)
}

// clusterCheck tries what the other commands will need, and says of each
// whether it works and what follows where it does not.
func (a *app) clusterCheck(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	type result struct {
		What string `json:"what"`
		OK   bool   `json:"ok"`
		Note string `json:"note,omitempty"`
	}
	var results []result
	failed := 0
	report := func(what string, err error, note string) {
		r := result{what, err == nil, note}
		if err != nil {
			r.Note = explain.Error(err)
			failed++
		}
		results = append(results, r)
		if !a.screen.JSON {
			mark := "works "
			if err != nil {
				mark = a.screen.Loss("fails ")
			}
			a.screen.Line("%s %-28s %s", mark, what, r.Note)
		}
	}
	name := c.Args().First()
	start := time.Now()
	cl, err := a.connect(ctx, c, name)
	var ue usageError
	if errors.As(err, &ue) {
		return err
	}
	report("connect and log in", err, view.Duration(time.Since(start)))
	if err == nil {
		defer cl.Close()
		a.checkMembers(ctx, cl, report)
	}
	if a.screen.JSON {
		if err := a.screen.Encode(results); err != nil {
			return err
		}
	}
	if failed > 0 {
		return fmt.Errorf("cluster %s: %d of %d checks failed", name, failed, len(results))
	}
	return nil
}

func (a *app) checkMembers(ctx context.Context, cl engine.Cluster, report func(string, error, string)) {
	t, err := cl.Topology(ctx)
	if err != nil {
		report("discover", err, "")
		return
	}
	report("discover", nil, fmt.Sprintf("%s %s, version %s", t.Kind, t.Identity, t.Version))
	if k, ok := cl.(engine.Checker); ok {
		k.Check(ctx, report)
	}
	for _, sh := range t.Shards {
		of := ""
		if len(t.Shards) > 1 {
			of = " of " + sh.Name
		}
		ch, err := cl.Choose(ctx, sh.Name)
		report("choose a member"+of, err, fmt.Sprintf("%s (%s)", ch.Member.Address, ch.Reason))
		l, ok := cl.(engine.Logged)
		if !ok || sh.Log == nil {
			report("follow the log"+of, engine.ErrNoLog, "")
			continue
		}
		end, err := l.LogEnd(ctx, sh.Name)
		if err == nil {
			err = l.Follow(ctx, sh.Name, sh.Log.Last.Position, func([]record.Change, engine.Progress) error { return engine.ErrStopFollowing })
		}
		report("follow the log"+of, err, "newest committed entry "+view.Time(end.Wall))
	}
	spaces, err := cl.Namespaces(ctx)
	report("list namespaces", err, view.Plural(int64(len(spaces)), "namespace"))
	read := errors.New("enough")
	for _, ns := range spaces {
		if ns.Skip != "" || !ns.Kind.HasRecords() {
			continue
		}
		err := cl.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { return read })
		if err == nil || errors.Is(err, read) {
			continue
		}
		report("read "+ns.Name, err, "")
	}
	report("read each of them", nil, "one record")
	for _, l := range t.Limitations {
		report("note", nil, l.What+": "+l.Consequence)
	}
}
