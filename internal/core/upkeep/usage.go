package upkeep

import (
	"context"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/tree"
)

// Usage is what a store holds, in bytes as stored.
type Usage struct {
	Objects map[string]int   `json:"objects"`
	Bytes   map[string]int64 `json:"bytes"`
	Nodes   int              `json:"nodes"`
	Patches int              `json:"patches"`
}

// Usage counts objects and bytes by kind: content files, index, points, journal.
func (s *Upkeep) Usage(ctx context.Context) (Usage, error) {
	u := Usage{Objects: map[string]int{}, Bytes: map[string]int64{}}
	err := s.Blob.List(ctx, "", func(i blob.Info) error {
		kind, _, _ := strings.Cut(i.Name, "/")
		u.Objects[kind]++
		u.Bytes[kind] += i.Size
		return nil
	})
	if err != nil {
		return u, err
	}
	return u, s.Index.Each(func(_ tree.Hash, p content.Place) error {
		u.Nodes++
		if p.Patch {
			u.Patches++
		}
		return nil
	})
}

// Share is what one cluster's points hold, and what that costs. What several
// clusters share counts for each of them.
type Share struct {
	Cluster string    `json:"cluster"`
	Points  int       `json:"points"`
	Oldest  time.Time `json:"oldest"`
	Newest  time.Time `json:"newest"`
	// Latest is the size of the newest point's content, Logical that of all
	// points' together, each counted whole.
	Latest  int64 `json:"latest"`
	Logical int64 `json:"logical"`
	// Unique is what is left of Logical when the same content counts once;
	// Stored is what that takes, compressed and as patches.
	Unique int64 `json:"unique"`
	Stored int64 `json:"stored"`
	Log    int64 `json:"log"` // bytes of log segments
	// Grown is what the last seven days have added, points and log.
	Grown int64 `json:"grown"`
}

// Shares weighs what the store holds by cluster, and what no point needs.
func (s *Upkeep) Shares(ctx context.Context) (shares []*Share, dead int64, unreadable []error, err error) {
	points, unreadable, err := s.Points(ctx, "")
	if err == nil {
		err = s.Refresh(ctx)
	}
	if err != nil {
		return nil, 0, nil, err
	}
	w, err := s.newWeighing()
	if err != nil {
		return nil, 0, nil, err
	}
	week := time.Now().Add(-7 * 24 * time.Hour)
	by := map[string]*Share{}
	for _, p := range points {
		c := by[p.Cluster]
		if c == nil {
			c = &Share{Cluster: p.Cluster, Oldest: p.Time}
			by[p.Cluster] = c
			shares = append(shares, c)
		}
		c.Points++
		c.Newest, c.Latest = p.Time, p.Stats.Bytes
		c.Logical += p.Stats.Bytes
		if p.Time.After(week) {
			c.Grown += p.Stats.Stored
		}
		if s.WriteOnly() {
			continue
		}
		for _, root := range p.Trees() {
			if err := w.weigh(ctx, c, root); err != nil {
				if ctx.Err() != nil {
					return nil, 0, nil, err
				}
				unreadable = append(unreadable, err)
			}
		}
	}
	for _, c := range shares {
		bad, err := s.weighLog(ctx, c, week)
		if err != nil {
			return nil, 0, nil, err
		}
		unreadable = append(unreadable, bad...)
	}
	if s.WriteOnly() {
		return shares, 0, unreadable, nil
	}
	return shares, w.dead(), unreadable, nil
}

// weighing finds out what points cost.
type weighing struct {
	s     *Upkeep
	whole map[frameID]int64             // of each frame that several nodes may share, their bytes
	seen  map[string]map[tree.Hash]bool // by cluster, nodes that were counted
	live  map[uint32]bool               // content files that a point needs
}

type frameID struct{ file, off uint32 }

func (s *Upkeep) newWeighing() (*weighing, error) {
	w := &weighing{s: s, whole: map[frameID]int64{}, seen: map[string]map[tree.Hash]bool{}, live: map[uint32]bool{}}
	return w, s.Index.Each(func(_ tree.Hash, p content.Place) error {
		if p.MayShare() {
			w.whole[frameID{p.File, p.FrameOff}] += int64(p.Len)
		}
		return nil
	})
}

// weigh adds a tree to what a cluster's points hold.
func (w *weighing) weigh(ctx context.Context, c *Share, root tree.Root) error {
	had := w.seen[c.Cluster]
	if had == nil {
		had = map[tree.Hash]bool{}
		w.seen[c.Cluster] = had
	}
	return tree.Nodes(ctx, w.s, root, func(n tree.NodeInfo) (bool, error) {
		if had[n.Hash] {
			return false, nil
		}
		had[n.Hash] = true
		pl, _, ok := w.s.Index.Find(n.Hash)
		if !ok {
			return false, nil // the scrub tells
		}
		w.live[pl.File] = true
		all := int64(pl.Len)
		if pl.MayShare() {
			all = w.whole[frameID{pl.File, pl.FrameOff}]
		}
		if all > 0 {
			c.Stored += int64(pl.FrameLen) * int64(pl.Len) / all
		}
		if n.Level == 0 {
			c.Unique += n.Bytes
		}
		if pl.Patch {
			if base := w.s.Index.BaseOf(n.Hash); !had[base] {
				// Kept for the patch; a point that holds it counts it then.
				if bp, _, ok := w.s.Index.Find(base); ok {
					w.live[bp.File] = true
				}
			}
		}
		return n.Level > 0 || n.Level == 0 && pl.Pieces, ctx.Err()
	})
}

// dead returns the bytes of content files that no point needs.
func (w *weighing) dead() (n int64) {
	w.s.Index.Mu.RLock()
	defer w.s.Index.Mu.RUnlock()
	for i, p := range w.s.Index.Files {
		if !p.Gone && !w.live[uint32(i)] {
			n += p.Size
		}
	}
	return n
}

// weighLog adds a cluster's log; bad are segments that cannot be read.
func (s *Upkeep) weighLog(ctx context.Context, c *Share, week time.Time) (bad []error, err error) {
	chains, bad, err := s.Chains(ctx, c.Cluster)
	for _, ch := range chains {
		for _, seg := range ch.Segments {
			c.Log += seg.Size
			if seg.Last.Wall.After(week) {
				c.Grown += seg.Size
			}
		}
	}
	return bad, err
}
