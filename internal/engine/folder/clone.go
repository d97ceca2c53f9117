package folder

import (
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
)

// pinned is a cluster all of whose folders can be cloned: what writes to it is held still
// until the clones are there, and no longer.
type pinned struct{ *cluster }

// asPinned returns the cluster as one that can be pinned, where that is so and of use.
func (c *cluster) asPinned(ctx context.Context) (engine.Cluster, error) {
	if c.target.Quiesce == nil {
		return c, nil
	}
	if c.target.Quiesce.Clone != nil {
		return &pinned{c}, nil
	}
	for _, p := range c.places {
		s, err := p.host.Supports(ctx, p.path)
		if err != nil {
			return nil, err
		}
		if !s.Clone {
			return c, nil
		}
	}
	return &pinned{c}, nil
}

// clones is a view of clones.
type clones struct {
	*cluster
	folders map[string]*clone
	list    []engine.Namespace
}

type clone struct {
	place *place
	name  string // Dexamen's own
	// listing is what the clone is of, in order: a temporary file without a name.
	listing *os.File
	began   int64
}

// Pin implements [engine.Pinned].
func (p *pinned) Pin(ctx context.Context, chosen func(string) bool) (_ *engine.PinnedView, err error) {
	c := p.cluster
	if c.target.Quiesce.Clone != nil {
		return c.pinByCommands(ctx)
	}
	w := &writer{c: c, support: map[string]files.Support{}}
	left, err := w.Stages(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range left {
		if err := w.Discard(ctx, l); err != nil {
			return nil, err
		}
	}
	all, err := c.Namespaces(ctx)
	if err != nil {
		return nil, err
	}
	v := &clones{cluster: c, folders: map[string]*clone{}}
	var names []string
	for _, ns := range all {
		if chosen != nil && !chosen(ns.Name) {
			continue
		}
		at, _ := c.find(ns.Name)
		cl := &clone{place: at, name: own(clonePrefix, ns.Name)}
		v.folders[ns.Name], v.list = cl, append(v.list, ns)
		names = append(names, cl.name)
	}
	claims, err := engine.ClaimNames(ctx, w, names)
	if err != nil {
		return nil, err
	}
	w.claims = claims
	release := func() {
		ctx := context.WithoutCancel(ctx)
		for _, cl := range v.folders {
			if cl.listing != nil {
				_ = cl.listing.Close()
			}
			_ = w.Discard(ctx, cl.name)
		}
		_ = claims.Release(ctx, false)
	}
	begin := time.Now()
	for _, ns := range v.list {
		if err := v.folders[ns.Name].make(ctx, c, ns.Name); err != nil {
			release()
			return nil, fmt.Errorf("clone of %s: %w", ns.Name, err)
		}
	}
	view := &engine.PinnedView{Cluster: v, Mark: record.Mark{Wall: begin}, Exact: c.isHeld(), Release: release}
	if !view.Exact {
		view.Caveat = fmt.Sprintf("its clones were made within %s while what writes to it went on",
			time.Since(begin).Round(time.Millisecond))
	}
	return view, nil
}

// pinByCommands has clones of all folders made by commands. A view of them is a cluster
// whose folders are elsewhere.
func (c *cluster) pinByCommands(ctx context.Context) (*engine.PinnedView, error) {
	q := c.target.Quiesce.Clone
	firsts := map[files.Host]string{}
	v := &cluster{target: c.target, rules: c.rules, held: c.isHeld(), unfinished: map[string]*place{},
		pieces: map[string]int64{}}
	for _, p := range c.places {
		if firsts[p.host] == "" {
			firsts[p.host] = p.path
		}
		at := *p
		at.path = filled([]string{q.At}, p.path)[0]
		v.places = append(v.places, &at)
	}
	each := func(ctx context.Context, command []string) error {
		for _, h := range c.hosts {
			if _, err := h.Run(ctx, filled(command, firsts[h]), c.environment()); err != nil {
				return err
			}
		}
		return nil
	}
	release := func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
		defer cancel()
		_ = each(ctx, q.Remove) // the next one removes it otherwise
	}
	if err := each(ctx, q.Remove); err != nil {
		return nil, fmt.Errorf("removing a clone that was left: %w", err)
	}
	begin := time.Now()
	err := each(ctx, q.Make)
	for _, p := range v.places {
		if err == nil {
			_, err = p.host.Stat(ctx, p.path, "")
		}
	}
	if err != nil {
		release()
		return nil, fmt.Errorf("clone: %w", err)
	}
	return &engine.PinnedView{Cluster: v, Mark: record.Mark{Wall: begin}, Exact: v.held, Release: release}, nil
}

func (cl *clone) make(ctx context.Context, c *cluster, name string) error {
	_, dir := c.find(name)
	_, to := c.find(cl.name)
	f, err := os.CreateTemp("", "dexamen-listing-")
	if err != nil {
		return err
	}
	if err := os.Remove(f.Name()); err != nil {
		return errors.Join(err, f.Close())
	}
	cl.listing = f
	if cl.began, _, err = cl.place.host.Clock(ctx); err != nil {
		return err
	}
	enc := gob.NewEncoder(f)
	return cl.place.host.Clone(ctx, dir, to, c.rules, func(batch []files.Entry) error { return enc.Encode(batch) })
}

// Namespaces implements [engine.Cluster].
func (v *clones) Namespaces(context.Context) ([]engine.Namespace, error) { return v.list, nil }

// Revisit implements [engine.Revisited].
func (v *clones) Revisit(ctx context.Context, ns engine.Namespace, before func() (record.Record, bool, error),
	visit engine.Visit) error {
	cl := v.folders[ns.Name]
	if cl == nil {
		return fmt.Errorf("%s: %w", ns.Name, engine.ErrMoved)
	}
	if _, err := cl.listing.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, to := v.find(cl.name)
	r := &reading{host: cl.place.host, root: to, visit: visit, before: before, began: cl.began, held: true,
		cloned: true,
		walk: func(ctx context.Context, fn func([]files.Entry) error) error {
			dec := gob.NewDecoder(cl.listing)
			for {
				var batch []files.Entry
				err := dec.Decode(&batch)
				if errors.Is(err, io.EOF) {
					return nil
				}
				if err == nil {
					err = fn(batch)
				}
				if err == nil {
					err = ctx.Err()
				}
				if err != nil {
					return err
				}
			}
		}}
	return r.run(ctx)
}

// Scan implements [engine.Cluster].
func (v *clones) Scan(ctx context.Context, ns engine.Namespace, _ engine.Partition,
	fn func(record.Record) error) error {
	return scan(ctx, v, ns, fn)
}
