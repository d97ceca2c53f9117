package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
)

const (
	// completeWithin bounds what a shell waits for.
	completeWithin = 2 * time.Second
	mostCompleted  = 300
)

// complete returns what completes the arguments of a command, by what its usage calls them: names of
// clusters, policies and stores from the configuration, runs, points and namespaces from the stores.
// What cannot be had is not told: a shell has no place for it.
func (a *app) complete(args string) cli.ShellCompleteFunc {
	return func(ctx context.Context, c *cli.Command) {
		words := os.Args
		if n := len(words); n > 1 && strings.HasPrefix(words[n-2], "-") {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		if slices.ContainsFunc(c.Commands, func(s *cli.Command) bool { return s.Name != "help" }) {
			cli.DefaultCompleteWithFlags(ctx, c) // and what stands in their place
		}
		cfg, err := a.config(c)
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(ctx, completeWithin)
		defer cancel()
		n := 0
		print := func(name string) {
			if n++; n <= mostCompleted {
				fmt.Fprintln(c.Root().Writer, name)
			}
		}
		switch {
		case strings.Contains(args, "CLUSTER"):
			each(config.Names(cfg.Clusters), print)
		case strings.Contains(args, "POLICY"):
			each(config.Names(cfg.Policies), print)
		case strings.Contains(args, "STORE"):
			each(config.Names(cfg.Stores), print)
		case strings.Contains(args, "RUN"):
			a.eachRun(ctx, c, cfg, print)
		case strings.Contains(args, "ADDRESS"):
			each(config.Names(cfg.Clusters), func(name string) { print(name + "@latest") })
			a.eachAddress(ctx, c, cfg, print)
		}
	}
}

func each(names []string, print func(string)) {
	for _, n := range names {
		print(n)
	}
}

// eachRun tells the ends of the names of runs of the last week, the newest first.
func (a *app) eachRun(ctx context.Context, c *cli.Command, cfg *config.Config, print func(string)) {
	for _, name := range config.Names(cfg.Stores) {
		e, progress, err := a.openRunnerOf(ctx, c, name, "")
		if err != nil {
			continue
		}
		runs, _, err := e.Store.Runs(ctx, store.RunFilter{Since: time.Now().Add(-7 * 24 * time.Hour)})
		progress.Done()
		for i := len(runs) - 1; err == nil && i >= 0; i-- {
			print(runs[i].ID[strings.LastIndexByte(runs[i].ID, '-')+1:])
		}
	}
}

// eachAddress tells points, and of the newest of each cluster the namespaces.
func (a *app) eachAddress(ctx context.Context, c *cli.Command, cfg *config.Config, print func(string)) {
	for _, name := range config.Names(cfg.Stores) {
		e, progress, err := a.openRunnerOf(ctx, c, name, "")
		if err != nil {
			continue
		}
		points, _, err := e.Store.Points(ctx, "")
		progress.Done()
		if err != nil {
			continue
		}
		newest := map[string]*store.Point{}
		for _, p := range points {
			newest[p.Cluster] = p
		}
		for _, p := range newest {
			for _, ns := range p.Namespaces {
				if ns.Kind.IsContent() {
					print(p.Cluster + "@latest/" + ns.Name)
				}
			}
		}
		for i := len(points) - 1; i >= 0; i-- {
			print(points[i].Cluster + "@" + points[i].ID)
		}
	}
}
