package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/engine"
)

func (a *app) clusterCommands() *cli.Command {
	return &cli.Command{Name: "cluster", Usage: "what is configured, what discovery finds, whether it works",
		Category: setUp, OnUsageError: onUsage, Commands: []*cli.Command{
			a.command("", "list", "", "list the configured clusters", "", a.clusterList),
			a.command("", "inspect", "CLUSTER", "show members, roles, lag, the log's reach, and what the servers lack",
				"", a.clusterInspect,
				&cli.DurationFlag{Name: "every", Value: 10 * time.Minute,
					Usage: "how often the log is captured: it should reach back three times as far"}),
			a.command("", "check", "CLUSTER",
				"try login, every member, every privilege, the log and reading, one by one",
				`With --prove: tries what Dexamen assumes about servers of this kind. Each form of change is made
in names of the run's own, captured, folded and compared with a scan; then all of it is restored,
beside and in place, and read back. What was made is removed again. Exit code 3 where an
assumption does not hold. Where the log is one of commands, they are carried out on a scratch server.`,
				a.clusterCheck,
				&cli.BoolFlag{Name: "prove",
					Usage: "write to the cluster, to see whether what is assumed about it holds"},
				&cli.BoolFlag{Name: "yes", Usage: "with --prove: do not ask before anything is written"},
				scratchFlag()),
			a.command("", "trust", "CLUSTER", "look at the servers' certificates and pin them",
				"Shows each member's certificate with its fingerprint and asks. Once pinned, these are taken and no "+
					"others.", a.clusterTrust,
				&cli.BoolFlag{Name: "yes", Usage: "do not ask: the fingerprints are known to be right"}),
			a.command("", "grants", "CLUSTER", "print the least privileges needed, as the statements to run", "",
				a.clusterGrants,
				&cli.StringFlag{Name: "for", Value: "backup",
					Usage: "for `WHAT`: backup, or restore, which is for both"}),
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
		// Quiesce is the way in which it is held still while it is copied, Reason why that one.
		Quiesce string `json:"quiesce,omitempty"`
		Reason  string `json:"quiesce_reason,omitempty"`
	}
	var rows []row
	quiet := false
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
		if r.Quiesce, r.Reason, err = cfg.QuiesceFor(n); err != nil {
			return usageError{err}
		}
		quiet = quiet || r.Reason != ""
		rows = append(rows, r)
	}
	if a.screen.JSON {
		return a.screen.Encode(rows)
	}
	columns := []string{"cluster", "engine", "user"}
	if quiet {
		columns = append(columns, "held still", "why")
	}
	t := a.screen.Table(append(columns, "address")...)
	for _, r := range rows {
		cells := []any{r.Name, r.Engine, r.User}
		if quiet {
			way := r.Quiesce
			if way == "" && r.Reason != "" {
				way = a.screen.Loss("not")
			}
			cells = append(cells, way, r.Reason)
		}
		t.Row(append(cells, r.Address)...)
	}
	t.Print(0)
	return nil
}
