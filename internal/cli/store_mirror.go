package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/explain"
	"dexamen/internal/pin"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeMirror(ctx context.Context, c *cli.Command) error {
	if err := args(c, 2, 2); err != nil {
		return err
	}
	s, b, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	to, toName, err := a.backend(ctx, c, c.Args().Get(1))
	if err != nil {
		return err
	}
	if toName == name || to.String() == b.String() {
		return usage("%s is %s: a mirror lies elsewhere; name two stores", toName, name)
	}
	o := store.MirrorOptions{Clusters: c.StringSlice("cluster"), Parallel: a.cfg.Limits.ReadersPerCluster}
	if text := c.String("since"); text != "" {
		d, err := address.ParseDistance(text)
		if err != nil {
			return usage("--since: %v", err)
		}
		o.Since = time.Now().Add(-d)
	}
	p, emit := a.objectProgress("copying from " + b.String() + " to " + to.String())
	o.Emit = emit
	e := &run.Runner{Store: s, StoreName: name, Tool: "dexamen " + Version, Explain: explain.Error, OnEvent: p.Event}
	end, err := a.share(ctx, c, e, store.RunMirror, "", nil)
	if err != nil {
		return err
	}
	daemon.ShareMirror(&o, e, toName)
	m, err := s.Mirror(ctx, to, o)
	end()
	p.Done()
	if errors.Is(err, store.ErrOtherStore) {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	a.knowMirror(toName, s)
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"from": name, "to": toName, "result": m}); err != nil {
			return err
		}
	} else {
		a.screen.Line("%s holds %s of %s: %s copied (%s), %s there already", a.screen.Accent(toName),
			view.Plural(int64(m.Points), "point"), name,
			view.Plural(int64(m.Copied), "object"), view.Bytes(m.Bytes), view.Count(int64(m.There)))
		for _, d := range m.Damaged {
			a.screen.Line("  %s", a.screen.Loss(d+" is damaged and was not copied"))
		}
	}
	if len(m.Damaged) > 0 {
		return fmt.Errorf("%w: %s of %s not copied; store scrub %s says what that means", run.ErrIncomplete,
			view.Plural(int64(len(m.Damaged)), "object"), name, name)
	}
	return nil
}

// knowMirror has this host expect in a mirror's place what it mirrors: keys that were renewed there are in
// the mirror too, from now on. Where this host has not used it before it is remembered when it is opened.
func (a *app) knowMirror(name string, of *store.Store) {
	place := placeOf(a.cfg, name)
	if seen, err := pin.Host().Known(place); err == nil && seen.Identity != "" && seen.Identity != of.Identity() {
		_ = pin.Host().Set(place, of.Identity())
	}
}
