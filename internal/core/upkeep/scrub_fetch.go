package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// fetchMissing brings back what another place has of what is needed and not
// there.
func (a *scrubber) fetchMissing(ctx context.Context) error {
	s, from := a.s, a.o.From
	if !a.o.Repair || from == nil {
		return nil
	}
	// Points first: what they need is then looked for.
	lost, err := s.Missing(ctx)
	if err != nil {
		return err
	}
	for _, l := range lost {
		if l.Point != "" {
			if err := a.fetch(ctx, s.PointName(l.Cluster, l.Point)); err != nil {
				return err
			}
		}
	}
	there := map[string]bool{}
	if err := s.Blob.List(ctx, "", func(i blob.Info) error { there[i.Name] = true; return nil }); err != nil {
		return err
	}
	var keys, files, logs []string
	err = from.List(ctx, "", func(i blob.Info) error {
		switch kind, _, _ := strings.Cut(i.Name, "/"); {
		case kind == "content":
			files = append(files, i.Name)
		case there[i.Name]:
		case kind == "datakeys":
			keys = append(keys, i.Name)
		case kind == "journal" && a.fills(ctx, i.Name):
			logs = append(logs, i.Name)
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("%s: %w", from, err)
	}
	for _, n := range append(keys, logs...) {
		if err := a.fetch(ctx, n); err != nil {
			return err
		}
	}
	return a.fetchNodes(ctx, files)
}

// fetch copies one object from the other place, if it is right there. A content
// file gets another name: its own may be taken.
func (a *scrubber) fetch(ctx context.Context, name string) error {
	whole, err := a.o.From.Read(ctx, name)
	if err != nil || !a.s.right(ctx, name, whole) {
		return nil
	}
	to := name
	if strings.HasPrefix(name, sealed.ContentPrefix) {
		to = content.FileName(sealed.NewID(16))
		if whole, err = a.s.Renamed(ctx, name, to, whole); err != nil {
			return err
		}
	}
	if err := a.s.CreateObject(ctx, to, whole); errors.Is(err, blob.ErrExists) {
		return nil
	} else if err != nil {
		return err
	}
	a.out.Damaged = append(a.out.Damaged,
		Damage{Object: name, What: "it is missing, or what it held", Repaired: a.o.From.String()})
	return nil
}

// fetchNodes brings content files with nodes that points need and that are not
// here. Below a node that was missing there may be others.
func (a *scrubber) fetchNodes(ctx context.Context, files []string) error {
	s := a.s
	for {
		want, err := a.absent(ctx)
		if err != nil || len(want) == 0 {
			return err
		}
		found := false
		for i, n := range files {
			footer, err := s.FooterAt(ctx, n,
				func(off int64, size int) ([]byte, error) { return a.o.From.ReadAt(ctx, n, off, size) })
			if err != nil {
				continue
			}
			f, err := content.DecodeFooter(n, footer)
			if err != nil || !slices.ContainsFunc(f.Entries, func(o content.Entry) bool { return want[o.Name] }) {
				continue
			}
			before := len(a.out.Damaged)
			if err := a.fetch(ctx, n); err != nil {
				return err
			}
			found = found || len(a.out.Damaged) > before
			files[i] = ""
		}
		files = slices.DeleteFunc(files, func(n string) bool { return n == "" })
		if !found {
			return nil
		}
		s.Cache.Clear()
		s.Ahead.Clear()
		if err := s.Refresh(ctx); err != nil {
			return err
		}
	}
}

// absent returns the nodes that points need and no content file lists.
func (a *scrubber) absent(ctx context.Context) (map[tree.Hash]bool, error) {
	s := a.s
	points, _, err := s.Points(ctx, "")
	if err != nil {
		return nil, err
	}
	want, seen := map[tree.Hash]bool{}, s.Index.NewNodeSet()
	var broken error // where the set cannot tell
	for _, p := range points {
		for _, root := range p.Trees() {
			err := tree.Nodes(ctx, s, root, func(n tree.NodeInfo) (bool, error) {
				if added, err := seen.Add(n.Hash); err != nil || !added {
					broken = errors.Join(broken, err)
					return false, err
				}
				pl, _, ok := s.Index.Find(n.Hash)
				if !ok {
					want[n.Hash] = true
					return false, nil
				}
				if pl.Patch {
					base := s.Index.BaseOf(n.Hash)
					if _, _, ok := s.Index.Find(base); !ok {
						want[base] = true
						return false, nil
					}
				}
				if n.Level <= 0 && !pl.Pieces {
					return false, nil
				}
				_, err := s.Node(ctx, n.Hash)
				return err == nil, ctx.Err()
			})
			if err != nil && (ctx.Err() != nil || broken != nil) {
				return nil, err
			}
		}
	}
	return want, nil
}

// fills reports whether a log segment of the other place is of a stretch that is
// not here.
func (a *scrubber) fills(ctx context.Context, name string) bool {
	data, err := a.o.From.Read(ctx, name)
	if err != nil {
		return false
	}
	h, _, err := journal.ReadHeader(a.s.Ring(ctx), data)
	if err != nil {
		return false
	}
	chains, _, err := a.s.Chains(ctx, h.Cluster)
	if err != nil {
		return false
	}
	c := chains[h.Shard]
	if c == nil || len(c.Segments) == 0 {
		return true
	}
	if h.Last.Position <= c.Segments[0].After.Position {
		trimmed, err := a.s.Begins(ctx, h.Cluster, c)
		return err == nil && !trimmed
	}
	for _, seg := range c.Segments {
		if seg.After.Position <= h.After.Position && h.Last.Position <= seg.Last.Position {
			return false
		}
	}
	return true
}
