package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// share has the pieces of a job on a cluster, which cl is, done by whatever workers are there until end is
// called ([daemon.Deps.Share]). A job on the store alone has no cluster.
func (a *app) share(ctx context.Context, c *cli.Command, e *run.Runner, kind, cluster string, cl engine.Cluster) (
	end func(), err error) {
	return a.deps(c).Share(ctx, e, kind, cluster, cl)
}
