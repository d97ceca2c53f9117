package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeInspect(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	s, b, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	chart, png, err := drawing(c)
	if err != nil {
		return err
	}
	if chart != "" {
		points, _, err := s.Points(ctx, "")
		if err != nil {
			return err
		}
		if err := a.drawGrowth(points, chart, png); err != nil {
			return err
		}
	}
	u, err := s.Usage(ctx)
	if err != nil {
		return err
	}
	shares, dead, bad, err := s.Shares(ctx)
	if err != nil {
		return err
	}
	scrub, err := s.LastScrub(ctx)
	if err != nil && !errors.Is(err, store.ErrDamaged) {
		return err
	}
	costs, err := a.costsIn(ctx, c, name)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"store": name, "costs": costs, "location": b.String(), "id": s.ID, "format": s.Format, "created": s.Created,
			"encrypted": s.Encrypted(), "identity": s.Identity(), "parity": s.Parity, "immutable_for": s.ImmutableFor,
			"usage": u, "clusters": shares, "reclaimable": dead, "scrub": scrub})
	}
	a.showStore(name, s, u, shares, dead, scrub)
	if len(costs) > 0 {
		a.screen.Line("")
		a.showCosts(costs)
	}
	for _, e := range bad {
		a.screen.Line("  %s", a.screen.Loss(e.Error()))
	}
	if len(bad) > 0 {
		return fmt.Errorf("%w: %s cannot be read; store scrub says what that means", run.ErrIncomplete,
			view.Plural(int64(len(bad)), "object"))
	}
	return nil
}

func (a *app) showStore(name string, s *store.Store, u store.Usage, shares []*store.Share, dead int64,
	scrub *store.ScrubReport) {
	sc := a.screen
	protection := "not encrypted"
	if s.Encrypted() {
		protection = "encrypted"
	}
	if s.Parity != "" {
		protection += ", parity " + s.Parity
	}
	if s.ImmutableFor > 0 {
		protection += ", objects locked for " + view.Duration(time.Duration(s.ImmutableFor)*time.Second)
	}
	sc.Line("%s  %s, format %d, made %s, %s", sc.Accent(name), s.Location(), s.Format, view.Time(s.Created), protection)
	sc.Line("  identity %s", s.Identity())
	sc.Line("")
	t := sc.Table("holds", ">objects", ">stored")
	var total int64
	objects := 0
	for _, k := range []struct{ kind, what string }{
		{"content", "content"}, {"listings", "listings of content"}, {"points", "points"}, {
			"journal", "log segments"}, {"parity", "parity"}} {
		if k.kind != "parity" || s.Parity != "" {
			t.Row(k.what, view.Count(int64(u.Objects[k.kind])), view.Bytes(u.Bytes[k.kind]))
		}
		total, objects = total+u.Bytes[k.kind], objects+u.Objects[k.kind]
	}
	t.Row("together", view.Count(int64(objects)), view.Bytes(total))
	t.Print(2)
	sc.Line("")
	t = sc.Table("cluster", ">points", "oldest", "newest", ">newest size", ">total size", ">stored", ">log",
		">growth in 7 days")
	for _, r := range shares {
		t.Row(r.Cluster, r.Points, view.Time(r.Oldest), view.Time(r.Newest), view.Bytes(r.Latest),
			view.Bytes(r.Logical), view.Bytes(r.Stored), view.Bytes(r.Log), "+"+view.Bytes(r.Grown))
	}
	t.Print(2)
	sc.Line("")
	if s.WriteOnly() {
		sc.Line("  the key configured can write only: what content takes is not known")
	} else {
		for _, r := range shares {
			sc.Line("  %s: keeping the same content once saves %s, compression and patches %s", r.Cluster,
				view.Bytes(r.Logical-r.Unique), view.Bytes(r.Unique-r.Stored))
		}
		if dead > 0 {
			sc.Line("  no point needs %s; give it back with: dexamen store reclaim %s", view.Bytes(dead), name)
			sc.Line("  of it what was retired within a week stays until then, to be brought back")
		}
	}
	switch {
	case scrub == nil:
		sc.Line("  never scrubbed; do it with: dexamen store scrub %s", name)
	case scrub.Sound():
		sc.Line("  last scrubbed %s (part %d of %d): sound", view.Time(scrub.Created), scrub.Part+1, scrub.Parts)
	default:
		sc.Line("  last scrubbed %s: %s", view.Time(scrub.Created), sc.Loss("damage was found"))
	}
}
