package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/daemon"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

func (a *app) clusterGrants(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	cl, ok := cfg.Clusters[c.Args().First()]
	if !ok {
		return usageError{config.UnknownError("cluster", c.Args().First(), config.Names(cfg.Clusters))}
	}
	_, drv, err := engine.ForAddress(cl.Address)
	if err != nil {
		return usageError{err}
	}
	g, ok := drv.(engine.Granter)
	if !ok {
		return fmt.Errorf("%w: servers of this kind know no privileges", run.ErrRefused)
	}
	t := engine.Target{Name: c.Args().First(), Address: cl.Address, Settings: cl.ClusterWide, Options: cl.Options}
	if cl.Login != nil {
		t.User = cl.Login.User
	}
	for _, w := range daemon.Assignments(cfg) {
		if wide := w.Config.ClusterWide; w.Cluster == t.Name && wide != nil && *wide {
			t.Settings = true
		}
	}
	what := c.String("for")
	if what != "backup" && what != "restore" {
		return usage("--for %s: use backup or restore", what)
	}
	_, err = fmt.Fprint(a.screen.Out, g.Grants(t, what == "restore"))
	return err
}
