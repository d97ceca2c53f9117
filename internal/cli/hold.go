package cli

import (
	"cmp"
	"context"
	"os/user"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/view"
)

func (a *app) holdCommand() *cli.Command {
	return a.command(protect, "hold", "CLUSTER@POINT",
		"keep a point whatever retention says, until a date, with a reason",
		"Whoever asks several times has the latest date count. The log that leads on from the point is kept as "+
			"long\nas the policy says: a held point alone is the state at its own moment.", a.hold,
		&cli.StringFlag{Name: "until", Usage: "until `WHEN`: a date, or for how long, such as 90d"},
		&cli.StringFlag{Name: "why", Usage: "`REASON`, for those who come later"},
		&cli.BoolFlag{Name: "lift", Usage: "end all holds of the point: retention decides about it again"})
}

// heldPoint reads CLUSTER@POINT.
func (a *app) heldPoint(ctx context.Context, c *cli.Command) (w work, p *store.Point, err error) {
	if err := args(c, 1, 1); err != nil {
		return w, nil, err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return w, nil, err
	}
	if ad.When.Kind != address.Point && ad.When.Kind != address.Latest || ad.Pattern != "" {
		return w, nil, usage("%s: name a point, as in %s@20261123-101404-k7qx; dexamen points %[2]s lists them", ad,
			ad.Cluster)
	}
	if w, err = a.atMoment(ctx, c, ad); err != nil {
		return w, nil, err
	}
	return w, w.moment.Point, nil
}

func (a *app) hold(ctx context.Context, c *cli.Command) error {
	if c.Bool("lift") {
		if c.IsSet("until") || c.IsSet("why") {
			return usage("--lift ends the holds of a point; it needs no --until and no --why")
		}
		return a.lift(ctx, c)
	}
	why := strings.TrimSpace(c.String("why"))
	if c.String("until") == "" || why == "" {
		return usage("say until when and why: dexamen hold %s --until 90d --why \"the auditors look at it\"",
			cmp.Or(c.Args().First(), "CLUSTER@POINT"))
	}
	now := time.Now()
	var until time.Time
	if d, err := address.ParseDistance(c.String("until")); err == nil {
		until = now.Add(d)
	} else if when, err := address.ParseWhen(c.String("until"), now); err == nil && when.Kind == address.Time {
		until = when.Time
	} else {
		return usage("--until %s: write a date such as 2027-03-31, or for how long, such as 90d", c.String("until"))
	}
	if !until.After(now) {
		return usage("--until %s: that is over already", c.String("until"))
	}
	w, p, err := a.heldPoint(ctx, c)
	if err != nil {
		return err
	}
	defer w.progress.Done()
	h := &store.Hold{Cluster: p.Cluster, Point: p.ID, Until: until.UTC(), Reason: why}
	if u, err := user.Current(); err == nil {
		h.User = u.Username
	}
	if err := w.Store.PutHold(ctx, h); err != nil {
		return err
	}
	// Retention may have decided about it just before.
	there, err := w.Store.HasPoint(ctx, p.Cluster, p.ID)
	if err == nil && !there {
		_, err = w.Store.BringBack(ctx, p.Cluster, p.ID)
	}
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(h)
	}
	a.screen.Line("point %s of %s is held until %s: %s", a.screen.Accent(p.ID), p.Cluster, view.Time(h.Until), why)
	return nil
}

// lift ends the holds of a point.
func (a *app) lift(ctx context.Context, c *cli.Command) error {
	w, p, err := a.heldPoint(ctx, c)
	if err != nil {
		return err
	}
	defer w.progress.Done()
	holds, err := w.Store.Holds(ctx, p.Cluster)
	if err != nil {
		return err
	}
	n := 0
	for _, h := range holds {
		if h.Point == p.ID {
			if err := w.Store.RemoveHold(ctx, h); err != nil {
				return err
			}
			n++
		}
	}
	if n == 0 {
		return usage("point %s of %s is not held; those that are: dexamen points %[2]s", p.ID, p.Cluster)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"point": p.ID, "cluster": p.Cluster, "lifted": n})
	}
	a.screen.Line("point %s of %s is held no longer (%s lifted)", a.screen.Accent(p.ID), p.Cluster,
		view.Plural(int64(n), "hold"))
	return nil
}
