package upkeep

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// missing notes points and ends of logs that were there and are not.
func (a *scrubber) missing(ctx context.Context) error {
	lost, err := a.s.Missing(ctx)
	if err != nil {
		return err
	}
	for _, l := range lost {
		if l.Point != "" {
			a.out.Points = append(a.out.Points,
				DamagedPoint{Cluster: l.Cluster, ID: l.Point,
					Namespaces: []DamagedNamespace{
						{Name: "all", Where: "the point itself, which " + l.By + " names, is missing"}}})
			continue
		}
		from := time.Time{}
		if chains, _, err := a.s.Chains(ctx, l.Cluster); err == nil && chains[l.Shard] != nil {
			end, _, _ := chains[l.Shard].End()
			from = end.Wall
		}
		a.out.Log = append(a.out.Log, HurtLog{
			Cluster: l.Cluster, Shard: l.Shard, From: from, To: l.To.Wall, Object: "the newest segment, which " +
				l.By + " tells of, is missing"})
	}
	return nil
}

// meaning finds out what the damage does to points and logs.
func (a *scrubber) meaning(ctx context.Context) error {
	s := a.s
	names := []string{}
	if err := s.Blob.List(ctx, sealed.PointsPrefix,
		func(i blob.Info) error { names = append(names, i.Name); return nil }); err != nil {
		return err
	}
	// What is not repaired, and lies in a part that is not read, is found when it
	// is that part's turn; inner nodes are read always.
	clusters := map[string]bool{}
	for _, n := range names {
		p := new(catalog.Point)
		err := s.GetObject(ctx, n, p)
		if err == nil {
			err = sealed.CheckOwnName(n, s.PointName(p.Cluster, p.ID))
		}
		if errors.Is(err, sealed.ErrDamaged) {
			a.harm(n)
			a.out.Points = append(a.out.Points,
				DamagedPoint{ID: n[strings.LastIndex(n, "/")+1:],
					Namespaces: []DamagedNamespace{{Name: "all", Where: n}}})
			continue
		} else if errors.Is(err, blob.ErrNotFound) {
			continue
		} else if err != nil {
			return err
		}
		clusters[p.Cluster] = true
		hurt := DamagedPoint{Cluster: p.Cluster, ID: p.ID, Time: p.Time}
		for i := range p.Namespaces {
			h, err := a.namespace(ctx, &p.Namespaces[i])
			if err != nil {
				return err
			}
			if h != nil {
				hurt.Namespaces = append(hurt.Namespaces, *h)
			}
		}
		if len(hurt.Namespaces) > 0 {
			a.out.Points = append(a.out.Points, hurt)
		} else {
			a.out.Intact[p.Cluster]++
		}
	}
	return a.logs(ctx)
}

// namespace walks a tree without its leaves, and tells what cannot be read.
func (a *scrubber) namespace(ctx context.Context, ns *catalog.PointNamespace) (*DamagedNamespace, error) {
	h := &DamagedNamespace{Name: ns.Name, Shard: ns.Shard, Of: ns.Root.Records}
	lose := func(n tree.NodeInfo, where string) {
		h.Lost += n.Records
		if n.Level < 0 {
			h.Lost++
		}
		if h.Where == "" {
			h.Where = where
		}
		a.harm(where)
	}
	err := tree.Nodes(ctx, a.s, ns.Root, func(n tree.NodeInfo) (bool, error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		pl, file, ok := a.s.Index.Find(n.Hash)
		switch {
		case !ok:
			lose(n, a.lacking(n.Hash))
			return false, nil
		case a.isBad(n.Hash, file):
			lose(n, file.Name)
			return false, nil
		case pl.Patch && a.isBase(n.Hash):
			_, bp, _ := a.s.Index.Find(a.s.Index.BaseOf(n.Hash))
			where := a.lacking(n.Hash)
			if bp != nil {
				where = bp.Name
			}
			lose(n, where)
			return false, nil
		case n.Level > 0 || n.Level == 0 && pl.Pieces:
			if _, err := a.s.Node(ctx, n.Hash); err != nil {
				if ctx.Err() != nil {
					return false, err
				}
				lose(n, file.Name)
				return false, nil
			}
			return true, nil
		}
		return false, nil
	})
	if err != nil && !errors.Is(err, sealed.ErrMissing) && !errors.Is(err, sealed.ErrDamaged) {
		return nil, err
	}
	if h.Where == "" {
		return nil, nil
	}
	return h, nil
}

// isBad reports whether a node that the index finds in a content file cannot be had: what
// parity gives back on reading does not count as lost.
func (a *scrubber) isBad(h tree.Hash, file *content.File) bool {
	if a.bad[h] != file.Name || a.mendedNow(file.Name) {
		return false
	}
	_, err := a.s.Node(context.Background(), h)
	return err != nil
}

// isBase reports whether a patch's base cannot be had.
func (a *scrubber) isBase(h tree.Hash) bool {
	base := a.s.Index.BaseOf(h)
	_, file, ok := a.s.Index.Find(base)
	return !ok || a.isBad(base, file)
}

func (a *scrubber) mendedNow(object string) bool {
	for _, d := range a.out.Damaged {
		if d.Object == object {
			return d.Repaired != ""
		}
	}
	return false
}

// lacking names what may have held a node that no list names.
func (a *scrubber) lacking(h tree.Hash) string {
	if where := a.bad[h]; where != "" {
		return where
	}
	for _, d := range a.out.Damaged {
		if strings.HasPrefix(d.Object, sealed.ContentPrefix) && d.Repaired == "" && d.Nodes == 0 {
			return d.Object // its own list cannot be read
		}
	}
	return "a content file that is missing"
}

// harm notes that the damage of an object costs something.
func (a *scrubber) harm(object string) {
	for i := range a.out.Damaged {
		if a.out.Damaged[i].Object == object {
			a.out.Damaged[i].LosesData = true
		}
	}
}

// logs finds the stretches of logs that cannot be read: those of damaged
// segments, and those where one is missing.
func (a *scrubber) logs(ctx context.Context) error {
	s := a.s
	byChain := map[string][]journal.Header{}
	unread := map[string][]string{} // by folder
	err := s.Blob.List(ctx, sealed.JournalPrefix, func(i blob.Info) error {
		folder := i.Name[:strings.LastIndex(i.Name, "/")]
		broken := false
		for _, d := range a.out.Damaged {
			if d.Object == i.Name && d.Repaired == "" {
				if _, err := s.RebuildObject(ctx, i.Name); err != nil {
					broken = true
				}
			}
		}
		h, err := s.SegmentHeader(ctx, i)
		if err == nil && i.Name != s.SegmentName(h) {
			err = journal.ErrDamaged
		}
		if errors.Is(err, journal.ErrDamaged) || errors.Is(err, sealed.ErrDamaged) {
			unread[folder] = append(unread[folder], i.Name)
			a.harm(i.Name)
			return nil
		}
		if errors.Is(err, blob.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		byChain[folder] = append(byChain[folder], h)
		if broken {
			a.harm(i.Name)
			a.out.Log = append(a.out.Log,
				HurtLog{Cluster: h.Cluster, Shard: h.Shard, From: h.After.Wall, To: h.Last.Wall, Object: i.Name})
		}
		return nil
	})
	if err != nil {
		return err
	}
	for folder, hs := range byChain {
		c := journal.NewChain(hs[0].Shard, hs)
		if err := a.joins(ctx, c); err != nil {
			return err
		}
		if begins, err := s.Begins(ctx, hs[0].Cluster, c); err != nil {
			return err
		} else if !begins && !slices.ContainsFunc(unread[folder],
			func(n string) bool { return catalog.BeginOf(n) < c.Segments[0].After.Position.Hex() }) {
			a.out.Log = append(a.out.Log,
				HurtLog{Cluster: hs[0].Cluster, Shard: hs[0].Shard, To: c.Segments[0].After.Wall,
					Object: "a segment that is missing"})
		}
		for i := 1; i < len(c.Segments); i++ {
			before, seg := c.Segments[i-1], c.Segments[i]
			if before.Last.Position == seg.After.Position && before.Precedes(&seg) {
				continue
			}
			l := HurtLog{Cluster: seg.Cluster, Shard: seg.Shard, From: before.Last.Wall, To: seg.After.Wall,
				Object: "a segment that is missing"}
			for k, n := range unread[folder] {
				if at := catalog.BeginOf(n); at > before.After.Position.Hex() && at < seg.After.Position.Hex() {
					l.Object = n
					unread[folder] = slices.Delete(slices.Clone(unread[folder]), k, k+1)
					break
				}
			}
			a.out.Log = append(a.out.Log, l)
		}
		// The first or the last of the chain: nothing follows that says until when.
		for _, n := range unread[folder] {
			l := HurtLog{Cluster: hs[0].Cluster, Shard: hs[0].Shard, Object: n}
			if first := c.Segments[0]; catalog.BeginOf(n) < first.After.Position.Hex() {
				l.To = first.After.Wall
			} else {
				l.From = c.Segments[len(c.Segments)-1].Last.Wall
			}
			a.out.Log = append(a.out.Log, l)
		}
		delete(unread, folder)
	}
	for _, list := range unread {
		for _, n := range list {
			a.out.Log = append(a.out.Log, HurtLog{Object: n})
		}
	}
	return nil
}
