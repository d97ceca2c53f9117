package upkeep

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/extsort"
	"dexamen/internal/core/sortedfile"
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
	defer w.close()
	// One cluster after the other, so that what was seen of one is all that is remembered.
	slices.SortStableFunc(points, func(a, b *catalog.Point) int { return strings.Compare(a.Cluster, b.Cluster) })
	week := time.Now().Add(-7 * 24 * time.Hour)
	by := map[string]*Share{}
	for _, p := range points {
		c := by[p.Cluster]
		if c == nil {
			c = &Share{Cluster: p.Cluster, Oldest: p.Time}
			w.seen = s.Index.NewNodeSet()
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
	s *Upkeep
	// whole has, of each frame that several nodes may share, their bytes.
	whole *sortedfile.File
	temp  *os.File         // it lies in
	seen  *content.NodeSet // nodes of the cluster that is looked at which were counted
	live  map[uint32]bool  // content files that a point needs
}

// A frame is named by the number of its content file and where it begins.
const frameKey = 8

var wholeForm = sortedfile.Form{Record: frameKey + 8, Key: frameKey}

func appendFrame(b []byte, p content.Place) []byte {
	return binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(b, p.File), p.FrameOff)
}

func (s *Upkeep) newWeighing() (_ *weighing, err error) {
	w := &weighing{s: s, live: map[uint32]bool{}}
	sorter := extsort.New(s.Limits.Temp, s.sortBytes())
	defer sorter.Close()
	var key, value []byte
	err = s.Index.Each(func(_ tree.Hash, p content.Place) error {
		if !p.MayShare() {
			return nil
		}
		key = appendFrame(key[:0], p)
		value = binary.BigEndian.AppendUint32(value[:0], p.Len)
		return sorter.Add(key, value)
	})
	if err != nil {
		return nil, err
	}
	var record []byte // of the frame that is being summed up
	sum := uint64(0)
	w.whole, w.temp, err = sortedIn(s.Limits.Temp, "sizes of frames", wholeForm, sorter,
		func(out *sortedfile.Writer, k, v []byte) error {
			if len(record) > 0 && !bytes.Equal(record[:frameKey], k) {
				if err := out.Add(binary.BigEndian.AppendUint64(record[:frameKey], sum)); err != nil {
					return err
				}
				sum = 0
			}
			if k != nil {
				record, sum = append(record[:0], k...), sum+uint64(binary.BigEndian.Uint32(v))
			}
			return nil
		})
	return w, err
}

func (w *weighing) close() {
	if w.temp != nil {
		_ = w.temp.Close()
	}
}

// bytesOf returns how many bytes the nodes of a frame are together.
func (w *weighing) bytesOf(p content.Place) (n int64, err error) {
	if !p.MayShare() {
		return int64(p.Len), nil
	}
	err = w.whole.Find(appendFrame(nil, p), func(_ int64, r []byte) bool {
		n = int64(binary.BigEndian.Uint64(r[frameKey:]))
		return false
	})
	return n, err
}

// weigh adds a tree to what a cluster's points hold.
func (w *weighing) weigh(ctx context.Context, c *Share, root tree.Root) error {
	return tree.Nodes(ctx, w.s, root, func(n tree.NodeInfo) (bool, error) {
		if added, err := w.seen.Add(n.Hash); err != nil || !added {
			return false, err
		}
		pl, _, ok := w.s.Index.Find(n.Hash)
		if !ok {
			return false, nil // the scrub tells
		}
		w.live[pl.File] = true
		all, err := w.bytesOf(pl)
		if err != nil {
			return false, err
		}
		if all > 0 {
			c.Stored += int64(pl.FrameLen) * int64(pl.Len) / all
		}
		if n.Level == 0 {
			c.Unique += n.Bytes
		}
		if pl.Patch {
			// Where no point holds it, it is kept for the patch; one that does counts it then.
			if bp, _, ok := w.s.Index.Find(w.s.Index.BaseOf(n.Hash)); ok {
				w.live[bp.File] = true
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
