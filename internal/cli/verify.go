package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/verify"
	"dexamen/internal/view"
)

func (a *app) verifyCommand() *cli.Command {
	return a.command(proof, "verify", "ADDRESS", "prove a point and its log, or a live cluster equal to a moment",
		`Without --live: reads every record of the point and every segment of the log after it, builds
all trees anew, and folds the point before with the log in between: the roots must be the same.
With --live: reads the cluster back and compares content, counts, indexes and options with the moment.
Exit code 3 where anything differs.`, a.verify,
		&cli.StringFlag{Name: "live", Usage: "compare this `CLUSTER` with the moment"},
		&cli.StringSliceFlag{Name: "rename", Usage: "with --live: `FROM=TO`, as given to restore"},
		&cli.IntFlag{Name: "show", Value: 5, Usage: "how many differing keys to name for each namespace"},
		scratchFlag())
}

func (a *app) verify(ctx context.Context, c *cli.Command) error {
	e, rename, err := a.renaming(ctx, c)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	ad, m := e.ad, e.moment
	if c.String("live") != "" {
		return a.verifyLive(ctx, c, e, rename)
	}
	if ad.Pattern != "" {
		return usage(
			"verify %s: a point is verified as a whole; leave out /%s, or compare a cluster with it: --live CLUSTER",
			ad, ad.Pattern)
	}
	var proof *verify.Proof
	err = a.record(ctx, c, e, store.RunVerify, ad.Cluster,
		func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
			r.Point, r.To = m.Point.ID, m.Time
			end, err := a.share(ctx, c, e, store.RunVerify, "", nil)
			if err != nil {
				return err
			}
			defer end()
			proof, err = verify.Moment(ctx, e, m)
			r.Records, r.Bytes, r.Changes, r.Segments = proof.Records, proof.Bytes, proof.Changes, proof.Segments
			r.SetVerdicts(proof.Verdicts(err))
			return err
		})
	e.progress.Done()
	if a.screen.JSON {
		if e := a.screen.Encode(proof); e != nil {
			return e
		}
		return err
	}
	if err != nil {
		return err
	}
	s := a.screen
	s.Line("point %s of %s, the state at %s", s.Accent(proof.ID), m.Point.Cluster, view.Time(m.Point.Time))
	how := "all trees built anew have their roots"
	if proof.Shared {
		how = "all that their roots name is there and whole"
	}
	s.Line("  content    %s in %s read, %s; %s",
		view.Plural(proof.Records, "record"),
		view.Plural(int64(proof.Namespaces), "namespace"), view.Bytes(proof.Bytes), how)
	if proof.Segments > 0 {
		s.Line("  log after  %s in %s read, unbroken to %s", view.Plural(proof.Changes, "change"),
			view.Plural(int64(proof.Segments), "segment"), view.Time(proof.Reach.Wall))
	} else {
		s.Line("  log after  none captured yet")
	}
	switch {
	case proof.Folded:
		s.Line("             folded up to %s", view.Time(m.Time))
	case proof.Unfolded != "":
		s.Line("             %s carried out up to %s: %s", s.Loss("not"), view.Time(m.Time), proof.Unfolded)
	}
	if proof.Equal {
		s.Line("  log before folding point %s with %s gives the same roots", proof.From,
			view.Plural(proof.FoldedFrom, "change"))
	} else {
		s.Line("  log before not folded: %s", proof.NotFolded)
	}
	return nil
}

func (a *app) verifyLive(ctx context.Context, c *cli.Command, e work, rename map[string]string) error {
	ad, m := e.ad, e.moment
	live := c.String("live")
	cl, err := a.connect(ctx, c, live)
	if err != nil {
		return err
	}
	defer cl.Close()
	var diffs []moment.NamespaceDiff
	err = a.record(ctx, c, e, store.RunVerify, ad.Cluster,
		func(ctx context.Context, e *run.Runner, r *store.Run) (err error) {
			r.Point, r.To = m.Point.ID, m.Time
			end, err := a.share(ctx, c, e, store.RunVerify, live, cl)
			if err != nil {
				return err
			}
			defer end()
			if diffs, err = verify.Live(ctx, e, m, cl, ad.Pattern, rename, c.Int("show")); err != nil {
				return err
			}
			r.Target = live
			r.SetVerdicts(verify.LiveVerdicts(diffs))
			for i := range diffs {
				r.Records += diffs[i].RecordsA
			}
			return moment.Different(diffs)
		})
	e.progress.Done()
	if err != nil && !errors.Is(err, run.ErrDiffers) {
		return err
	}
	bad := moment.Different(diffs)
	if a.screen.JSON {
		if err := a.screen.Encode(diffs); err != nil {
			return err
		}
		return bad
	}
	a.screen.Line("from  %s", m)
	a.screen.Line("to    %s@live", live)
	a.showDiffs(diffs)
	if bad == nil {
		var n int64
		for _, d := range diffs {
			n += d.RecordsA
		}
		a.screen.Line("%s", fmt.Sprintf("%s in %s: content, counts, indexes and options are equal",
			view.Plural(n, "record"), view.Plural(int64(len(diffs)), "namespace")))
	}
	return bad
}
