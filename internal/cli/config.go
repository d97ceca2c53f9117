package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) configCommands() *cli.Command {
	return &cli.Command{Name: "config", Usage: "start and check the configuration file", Category: setUp,
		OnUsageError: onUsage, Commands: []*cli.Command{
			a.command("", "sample", "", "print a commented file to start from", "",
				func(_ context.Context, c *cli.Command) error {
					if err := args(c, 0, 0); err != nil {
						return err
					}
					_, err := io.WriteString(a.screen.Data, config.Sample)
					return err
				}),
			a.command("", "check", "[FILE]", "check the file; errors come with line and column", "",
				func(ctx context.Context, c *cli.Command) error {
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
					nothing := cfg.Unprotected()
					var lack error
					if len(cfg.Lacking) > 0 {
						lack = fmt.Errorf("%w: what is named is not there now: %s", run.ErrIncomplete,
							strings.Join(cfg.Lacking, "; "))
					}
					if len(nothing) > 0 {
						lack = errors.Join(lack, fmt.Errorf("%w: %s", run.ErrIncomplete,
							view.Plural(int64(len(nothing)), "warning")))
					}
					if a.screen.JSON {
						return errors.Join(
							a.screen.Encode(map[string]any{
								"file": cfg.Path, "stores": config.Names(cfg.Stores), "clusters": config.Names(
									cfg.Clusters),
								"unprotected": nothing, "warnings": cfg.Warnings, "included": cfg.Included,
								"lacking": cfg.Lacking, "unmade": cfg.Unmade}), lack)
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
					for _, u := range nothing {
						a.screen.Line("%s %s", a.screen.Loss("warning:"), u.Text)
					}
					for _, w := range cfg.Warnings {
						a.screen.Line("%s %s", a.screen.Loss("warning:"), w)
					}
					if len(cfg.Unmade) > 0 {
						a.screen.Line("the keys of %s are not there yet; dexamen store create makes them",
							strings.Join(cfg.Unmade, ", "))
					}
					if lack != nil {
						return lack
					}
					with := ""
					if n := len(cfg.Included); n > 0 {
						with = " (with " + view.Plural(int64(n), "included file") + ")"
					}
					a.screen.Line("%s%s is good: %s, %s, %s", cfg.Path, with, view.Plural(int64(len(cfg.Stores)),
						"store"),
						view.Plural(int64(len(cfg.Clusters)), "cluster"), policies)
					return nil
				}, &cli.BoolFlag{Name: "clusters",
					Usage: "also ask the clusters that policies protect how far their logs reach back"}),
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
			for _, t := range logProblems(w, topo) {
				errs = append(errs, fmt.Errorf("%s: policies.%s.capture: %s",
					cfg.Where("policies."+w.Policy+".capture"), w.Policy, t))
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
