package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/engine"
	"dexamen/internal/explain"
	"dexamen/internal/prove"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// clusterProve tries on a cluster what its engine assumes about servers.
func (a *app) clusterProve(ctx context.Context, c *cli.Command) error {
	name := c.Args().First()
	cl, err := a.connect(ctx, c, name)
	if err != nil {
		return err
	}
	defer cl.Close()
	p, ok := cl.(engine.Prover)
	if !ok {
		return usage("--prove: there are no trials for %s clusters; without it, what works is tried one by one",
			cl.Engine())
	}
	topo, err := cl.Topology(ctx)
	if err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	scratch := a.scratchServer(c, cfg)
	if err := a.canReplay(ctx, name, cl, scratch); err != nil {
		return err
	}
	if !c.Bool("yes") {
		question := fmt.Sprintf("Trials write to %s, in names of their own that are removed again. Go on?", name)
		if !a.screen.Terminal {
			return usage("--prove writes to %s, in names of its own that are removed again: add --yes", name)
		}
		if !a.ask(question) {
			return fmt.Errorf("%w: nothing was written", run.ErrRefused)
		}
	}
	b := make([]byte, 4)
	_, _ = rand.Read(b) // never fails, by its contract
	trials, err := p.Trials(ctx, "t"+hex.EncodeToString(b))
	if err != nil {
		return err
	}
	s := a.screen
	if !s.JSON {
		s.Line("%s, %s, version %s: %s in %s", s.Accent(name), topo.Kind, topo.Version,
			view.Plural(int64(len(trials.All())), "trial"), trials.Part)
	}
	e := &run.Runner{Tool: "dexamen " + Version, Explain: explain.Error, Temp: cfg.Limits.Temp, ScratchServer: scratch}
	findings := []prove.Finding{}
	err = prove.Run(ctx, e, name, cl, trials, func(f prove.Finding) {
		findings = append(findings, f)
		if s.JSON {
			return
		}
		verdict := f.Verdict
		if verdict == prove.Fails {
			verdict = s.Loss(verdict)
		}
		s.Line("%s  %s", pad(verdict, f.Verdict, len(prove.Fails)), a.shorten(f.ID+": "+f.Says, s.Width-16))
		if f.Seen != "" {
			s.Line("               %s", f.Seen)
		}
	})
	if len(findings) == len(trials.All()) { // all of them
		keepProved(proved{Cluster: name, Identity: topo.Identity, Version: topo.Version,
			At: time.Now().UTC().Truncate(time.Second), Findings: findings})
	}
	if s.JSON {
		if err := s.Encode(map[string]any{"cluster": name, "version": topo.Version, "findings": findings}); err != nil {
			return err
		}
	} else if err == nil {
		unknown := 0
		for _, f := range findings {
			if f.Verdict == prove.NotKnown {
				unknown++
			}
		}
		s.Line("%d hold, none does not, of %d it is not known; what was made is removed", len(findings)-unknown,
			unknown)
	}
	return err
}

// canReplay sees that there is a scratch server where a cluster's log is one of commands: what that leads to can be
// read nowhere else.
func (a *app) canReplay(ctx context.Context, name string, cl engine.Cluster,
	scratch func(context.Context, string) (engine.Cluster, error)) error {
	drv, err := engine.ForName(cl.Engine())
	if err != nil || !drv.Model().Traits().Commands {
		return err
	}
	bench, err := scratch(ctx, name)
	if err != nil {
		return err
	}
	if bench == nil {
		return usage("--prove: the log of %s is one of commands, and what they lead to is seen by carrying them out: "+
			"name an empty server for that, as scratch: of the cluster or with --scratch", name)
	}
	return bench.Close()
}

// pad fills a shown text up to a width of what it looks like.
func pad(shown, looks string, width int) string {
	for n := len(looks); n < width; n++ {
		shown += " "
	}
	return shown
}
