package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/daemon"
	"dexamen/internal/view"
)

func (a *app) policyCommands() *cli.Command {
	return &cli.Command{Name: "policy", Usage: "what is protected, when, and for how long", Category: setUp,
		OnUsageError: onUsage, Commands: []*cli.Command{
			a.command("", "list", "", "list the policies and the clusters they protect", "", a.policyList),
			a.command("", "preview", "[POLICY]",
				"what a policy would do: its next runs, what it chooses now, what it would keep and remove",
				"Nothing is changed. Clusters are asked for their namespaces and how far their logs reach back.",
				a.policyPreview,
				&cli.IntFlag{Name: "next", Value: 4, Usage: "how many runs ahead to show"},
				&cli.BoolFlag{Name: "cost",
					Usage: "also what it takes in the store, now and in a year, and what that costs"}),
		}}
}

func (a *app) policyList(_ context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	var unprotected []string
	covered := map[string]bool{}
	for _, w := range daemon.Assignments(cfg) {
		covered[w.Cluster] = true
	}
	for _, n := range config.Names(cfg.Clusters) {
		if !covered[n] {
			unprotected = append(unprotected, n)
		}
	}
	if a.screen.JSON {
		out := map[string]any{"unprotected": unprotected}
		list := []map[string]any{}
		for _, name := range config.Names(cfg.Policies) {
			p := cfg.Policies[name]
			list = append(list, map[string]any{
				"name": name, "clusters": cfg.Protected(
					p), "store": p.Store, "snapshot": p.Snapshot, "rescan": p.FullRead, "log": p.Capture,
				"every_moment": time.Duration(p.Keep.EveryMoment).String(), "thin": p.Keep.Thin})
		}
		out["policies"] = list
		return a.screen.Encode(out)
	}
	s := a.screen
	t := s.Table("policy", "clusters", "snapshot", "read anew", "log", "keeps")
	for _, name := range config.Names(cfg.Policies) {
		p := cfg.Policies[name]
		t.Row(name, strings.Join(cfg.Protected(p), ", "), p.Snapshot, orDash(p.FullRead, "always"),
			orDash(p.Capture, "none"), keeps(p))
	}
	t.Print(0)
	if len(cfg.Policies) == 0 {
		s.Line("no policies; dexamen config sample shows one")
	}
	if len(unprotected) > 0 {
		s.Line("\n%s %s", s.Loss("no policy protects"), strings.Join(unprotected, ", "))
	}
	return nil
}

func orDash(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func keeps(p config.Policy) string {
	var out []string
	if p.Keep.EveryMoment > 0 {
		out = append(out, "every moment of "+view.Long(time.Duration(p.Keep.EveryMoment)))
	}
	out = append(out, p.Keep.Thin...)
	if p.Keep.NeverFewer > 0 {
		out = append(out, fmt.Sprintf("never fewer than %d", p.Keep.NeverFewer))
	}
	if p.Keep.NeverMore > 0 {
		out = append(out, fmt.Sprintf("never more than %d", p.Keep.NeverMore))
	}
	return strings.Join(out, ", ")
}

func every(p config.Policy) string {
	if p.When.Continuous {
		return "all the time"
	}
	return "every " + view.Long(p.When.Capture)
}
