package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/drill"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) drillCommand() *cli.Command {
	return a.command(proof, "drill", "ADDRESS",
		"rehearse a restore: put a moment onto a scratch cluster, prove and check it, and empty the cluster again",
		`What is restored is read back and compared (content, counts, indexes), then the checks of the
policy's drill: are made, and everything is timed: until a first answer, until all is there (the
recovery time), and how old the newest moment was (the recovery point). The scratch cluster must
hold nothing, and holds nothing afterwards. Without one the moment is served on this machine and read
back over the cluster's own protocol (document clusters and etcd). Signed evidence is left.

   dexamen drill meadow                      as the policy that protects meadow says
   dexamen drill meadow@10:14:04 --to paddock
   dexamen drill meadow --random 7d --that 'counts["apiary.colonies"] > 1000'

Exit codes: 3 where a check failed or it took longer than is promised; 5 where the scratch cluster
is not empty; 1 where the moment did not come back.`, a.drill,
		&cli.StringFlag{Name: "to", Usage: "restore onto this empty `CLUSTER`, which is emptied afterwards"},
		&cli.BoolFlag{Name: "serve", Usage: "serve the moment, also where the policy names a scratch cluster"},
		&cli.StringFlag{Name: "random", Usage: "a moment at random of those of the last `TIME`, such as 7d"},
		&cli.StringFlag{Name: "within", Usage: "how long it may take until all is there: a `TIME` such as 30m"},
		&cli.StringSliceFlag{Name: "that",
			Usage: "this `EXPRESSION` over what came back must hold; may be repeated"},
		scratchFlag())
}

// drillOptions returns what is asked for: by the policy that protects the cluster, and by flags.
func (a *app) drillOptions(c *cli.Command, ad address.Address) (o drill.Options, err error) {
	o = drill.Options{Chosen: "latest"}
	if _, p, ok := a.policyOf(c, ad.Cluster); ok && p.Drill != nil {
		o = daemon.DrillOptions(*p.Drill)
	}
	if ad.Pattern != "" {
		o.Patterns = []string{ad.Pattern}
	}
	if text := c.String("random"); text != "" {
		if ad.Given {
			return o, usage("--random and @%s: name one moment, or have one chosen", ad.When)
		}
		if d, err := address.ParseDistance(text); err != nil || d <= 0 {
			return o, usage("--random %s: write how far back, such as 7d", text)
		}
		o.Chosen = "random in " + text
	} else if ad.Given {
		o.Chosen = ad.When.String()
	}
	if to := c.String("to"); to != "" {
		if c.Bool("serve") {
			return o, usage("--to and --serve: a moment is restored, or served")
		}
		o.Name = to
	}
	if c.Bool("serve") {
		o.Name = ""
	}
	if text := c.String("within"); text != "" {
		if o.Within, err = address.ParseDistance(text); err != nil || o.Within <= 0 {
			return o, usage("--within %s: write a time such as 30m", text)
		}
	}
	for _, text := range c.StringSlice("that") {
		if _, err := condition.Compile(text); err != nil {
			return o, usageError{err}
		}
		o.Checks = append(o.Checks, drill.Check{That: text})
	}
	return o, nil
}

func (a *app) drill(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return err
	}
	if ad.When.Kind == address.Live {
		return usage("%s: a drill restores a moment of the store, such as %s@latest", ad, ad.Cluster)
	}
	e := work{ad: ad}
	if e.Runner, e.progress, err = a.openRunner(ctx, c, ad.Cluster); err != nil {
		return err
	}
	defer e.progress.Done()
	o, err := a.drillOptions(c, ad)
	if err != nil {
		return err
	}
	if o.Name != "" {
		cl, ok := a.cfg.Clusters[o.Name]
		if !ok {
			return usageError{config.UnknownError("cluster", o.Name, config.Names(a.cfg.Clusters))}
		}
		if o.Name == ad.Cluster || cl.Address == a.cfg.Clusters[ad.Cluster].Address {
			return usage("--to %s: that is the cluster itself; a drill restores onto one that holds nothing", o.Name)
		}
		o.Address = cl.Address
		if o.Target, err = a.connectAs(ctx, c, o.Name, new(bool)); err != nil {
			return err
		}
		defer func() { _ = o.Target.Close() }()
	}
	if ad.Given {
		e.moment, err = moment.Resolve(ctx, e.Runner, ad.Cluster, ad.When, nil)
		if errors.Is(err, moment.ErrNoPoint) {
			err = usageError{err}
		}
	}
	if err != nil {
		return err
	}
	r := &store.Run{Kind: store.RunDrill, Cluster: ad.Cluster, Target: o.Name}
	err = a.recordRun(ctx, c, e, r, func(ctx context.Context, x *run.Runner, r *store.Run) error {
		m := e.moment
		if m == nil {
			var err error
			if m, err = daemon.DrillMoment(ctx, x, ad.Cluster, o.Chosen); err != nil {
				return err
			}
		}
		if o.Target != nil {
			end, err := a.share(ctx, c, x, store.RunDrill, o.Name, o.Target)
			if err != nil {
				return err
			}
			defer end()
		}
		return drill.Do(ctx, x, m, r, o)
	})
	e.progress.Done()
	if a.screen.JSON {
		r.Claim, r.After = "", nil
		if e := a.screen.Encode(map[string]any{"run": r, "evidence": a.attested.Load()}); e != nil {
			return e
		}
		return err
	}
	if r.Drill != nil && r.Drill.Recovery > 0 {
		a.showDrill(r)
	}
	return err
}

// showDrill shows what a drill that brought everything back measured and found.
func (a *app) showDrill(r *store.Run) {
	s, d := a.screen, r.Drill
	onto := "served on this machine, read back over its own protocol"
	if !d.Served {
		onto = "restored onto " + s.Accent(r.Target) + ", read back"
	}
	s.Line("%s@%s (point %s, chosen: %s)", r.Cluster, run.FormatTime(r.To), r.Point, d.Chosen)
	s.Line("%s and compared: content, counts, indexes and options are equal", onto)
	if len(r.Restored) > 0 {
		t := s.Table("namespace", ">records", ">size", "root")
		for _, n := range r.Restored {
			root := n.Root.Short()
			if n.Replayed {
				root = "the point, then the log's commands"
			}
			t.Row(n.To, view.Count(n.Records), view.Bytes(n.Bytes), root)
		}
		t.Print(2)
	} else {
		s.Line("  %s", view.Plural(r.Records, "record"))
	}
	promised := ""
	if d.Within > 0 {
		promised = fmt.Sprintf(" (promised: %s)", view.Duration(d.Within.D()))
		if d.Recovery > d.Within {
			promised = s.Loss(promised)
		}
	}
	s.Line("  first answer after   %s", view.Duration(d.FirstAnswer.D()))
	s.Line("  all was there after  %s%s", view.Duration(d.Recovery.D()), promised)
	s.Line("  newest moment was    %s old", view.Duration(d.Age.D().Round(time.Second)))
	for _, ch := range d.Checks {
		word := "passed"
		if !ch.Passed {
			word = s.Loss("FAILED")
		}
		line := fmt.Sprintf("  %s  %s", word, ch.What)
		if ch.Found != "" {
			line += "  (" + ch.Found + ")"
		}
		s.Line("%s", line)
	}
	if !d.Served && d.Left == "" {
		s.Line("%s is empty again", r.Target)
	}
	if n := a.attested.Load(); n != nil {
		s.Line("evidence: statement %d; dexamen evidence show %d", n.Number, n.Number)
	}
}
