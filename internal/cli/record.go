package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
)

// policyOf returns the policy that protects a cluster in the store at hand.
func (a *app) policyOf(c *cli.Command, cluster string) (name string, p config.Policy, ok bool) {
	st, err := a.cfg.StoreOf(c.String("store"), cluster)
	if err != nil {
		return "", p, false
	}
	return a.cfg.PolicyOf(cluster, st)
}

// record does what a person asked for and keeps it in the history of runs. The
// hooks and the scope of the policy that protects the cluster count for it too.
func (a *app) record(ctx context.Context, c *cli.Command, w work, kind, cluster string,
	do func(ctx context.Context, e *run.Runner, r *store.Run) error) error {
	return a.recordRun(ctx, c, w, &store.Run{Kind: kind, Cluster: cluster}, do)
}

// recordRun is record of a run of which more is known before it begins.
func (a *app) recordRun(ctx context.Context, c *cli.Command, w work, r *store.Run,
	do func(ctx context.Context, e *run.Runner, r *store.Run) error) error {
	kind, cluster := r.Kind, r.Cluster
	r.What = cmp.Or(a.typed, commandLine())
	o := run.RecordOptions{Exclusive: kind == store.RunSnapshot || kind == store.RunCapture ||
		kind == store.RunRetention, EvenUnrecorded: kind == store.RunRestore || kind == store.RunUndo ||
		kind == store.RunVerify ||
		kind == store.RunScrub}
	if _, p, ok := a.policyOf(c, cluster); ok {
		o.Hooks = daemon.Hooks(p)
		daemon.ApplyPolicy(w.Runner, p, time.Now())
	}
	if ended, err := w.EndKilled(ctx); err == nil {
		for _, b := range ended {
			a.screen.Note("! the %s of %s that began %s died: %s", b.Kind, b.Cluster,
				b.Started.Local().Format(time.DateTime), b.Error)
		}
	}
	a.endLogins(ctx, c, w)
	err := w.Record(ctx, r, o, do)
	if errors.Is(err, store.ErrHeld) && r.Result == "" {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	return err
}

// commandLine is what was typed; no secret is ever in it.
func commandLine() string { return "dexamen " + strings.Join(os.Args[min(1, len(os.Args)):], " ") }
