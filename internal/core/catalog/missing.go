package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/record"
	"dexamen/internal/core/sealed"
)

// What is missing from a store leaves no damaged object behind. It is found by
// what names it: the head of each cluster, the records of runs, holds, proofs,
// and points that were folded from others. What retention removed is told apart
// by a record that is made before anything is removed.

// Head describes which point and which log of a cluster are the newest. It is a row
// of objects heads/CLUSTER/NUMBER, of which the highest counts.
type Head struct {
	Cluster string                 `json:"cluster"`
	Point   string                 `json:"point,omitempty"`
	Time    time.Time              `json:"time,omitzero"` // of the point
	Logs    map[string]record.Mark `json:"logs,omitempty"`
	Number  int                    `json:"number"`
}

// Removed is the record of what Retire removes.
type Removed struct {
	Cluster string    `json:"cluster"`
	Points  []string  `json:"points"`
	Created time.Time `json:"created"`
	// Lost: they were missing, and somebody said that nothing is to wait for
	// them.
	Lost bool `json:"lost,omitempty"`
}

func (s *Catalog) HeadFolder(cluster string) string {
	return sealed.HeadsPrefix + s.NamePart("cluster", cluster) + "/"
}

// advance makes the next head of a cluster. That it fails takes nothing from
// what was stored: the head before still counts.
func (s *Catalog) advance(ctx context.Context, cluster string, change func(*Head)) {
	s.headMu.Lock()
	defer s.headMu.Unlock()
	for range 5 {
		h, ok := s.heads[cluster]
		if !ok {
			var err error
			if h, err = s.readHead(ctx, cluster); err != nil {
				return
			}
		}
		before := h.Number
		logs := map[string]record.Mark{}
		for shard, m := range h.Logs {
			logs[shard] = m
		}
		h.Logs, h.Cluster = logs, cluster
		change(&h)
		h.Number++
		name := fmt.Sprintf("%s%010d", s.HeadFolder(cluster), h.Number)
		err := s.PutObject(ctx, s.ListKey(), name, h)
		if errors.Is(err, blob.ErrExists) {
			delete(s.heads, cluster) // another process has gone on from it
			continue
		}
		if err != nil {
			return
		}
		s.heads[cluster] = h
		if before > 0 {
			_ = s.RemoveObject(ctx, fmt.Sprintf("%s%010d", s.HeadFolder(cluster), before))
		}
		return
	}
}

// readHead returns the newest head of a cluster that can be read.
func (s *Catalog) readHead(ctx context.Context, cluster string) (Head, error) {
	var names []string
	err := s.Blob.List(ctx, s.HeadFolder(cluster),
		func(i blob.Info) error { names = append(names, i.Name); return nil })
	if err != nil {
		return Head{}, err
	}
	var found Head
	for _, n := range names {
		var h Head
		switch err := s.GetObject(ctx, n, &h); {
		case err == nil:
			found = h
		case errors.Is(err, blob.ErrNotFound), errors.Is(err, sealed.ErrDamaged):
		default:
			return Head{}, err
		}
	}
	if len(names) > 0 {
		// Also where the newest cannot be read: the next one comes after it.
		var n int
		last := names[len(names)-1]
		if _, err := fmt.Sscanf(last[strings.LastIndexByte(last, '/')+1:], "%d", &n); err == nil {
			found.Number = max(found.Number, n)
		}
	}
	return found, nil
}

// Lost is something that was in the store and is not.
type Lost struct {
	Cluster string `json:"cluster"`
	// Point is the missing point; empty where it is the newest of a log.
	Point string `json:"point,omitempty"`
	// Shard, and how far its log had been stored.
	Shard string      `json:"shard,omitempty"`
	To    record.Mark `json:"to,omitzero"`
	By    string      `json:"by"` // what tells that it was there
}

// String returns what is missing.
func (l Lost) String() string {
	if l.Point != "" {
		return fmt.Sprintf("point %s of %s is missing, which %s names", l.Point, l.Cluster, l.By)
	}
	return fmt.Sprintf("the end of the log of %s (shard %s) is missing: it had reached %s, as %s tells", l.Cluster,
		l.Shard, l.To.Wall.Local().Format(time.RFC3339), l.By)
}

// Missing finds points that something names and that are neither there nor were
// retired, and logs that end before where they had been. It relies on no listing
// alone: what is not seen is not taken for what never was.
func (s *Catalog) Missing(ctx context.Context) ([]Lost, error) {
	named := map[string]Lost{} // by object name, the first that names it
	name := func(cluster, point, by string) {
		if cluster == "" || point == "" {
			return
		}
		n := s.PointName(cluster, point)
		if _, ok := named[n]; !ok {
			named[n] = Lost{Cluster: cluster, Point: point, By: by}
		}
	}
	logs, err := s.named(ctx, name)
	if err != nil {
		return nil, err
	}
	// What is there is listed after what names it, and what was retired after
	// that: neither can be missed.
	there := map[string]bool{}
	err = s.Blob.List(ctx, sealed.PointsPrefix, func(i blob.Info) error { there[i.Name] = true; return nil })
	if err != nil {
		return nil, err
	}
	gone, err := s.RemovedPoints(ctx)
	if err != nil {
		return nil, err
	}
	var out []Lost
	for n, l := range named {
		if !there[n] && !gone[n] {
			out = append(out, l)
		}
	}
	for _, l := range logs {
		chains, unreadable, err := s.Chains(ctx, l.Cluster)
		if err != nil {
			return nil, err
		}
		c := chains[l.Shard]
		if len(unreadable) > 0 && c == nil {
			continue // damage, which is told as such
		}
		if c != nil {
			if end, _, _ := c.End(); end.Position >= l.To.Position {
				continue
			}
		}
		out = append(out, l)
	}
	slices.SortFunc(out, func(a, b Lost) int { return strings.Compare(a.String(), b.String()) })
	return out, nil
}

// named calls name with every point that something names, and gives how far logs
// had been stored.
func (s *Catalog) named(ctx context.Context, name func(cluster, point, by string)) (logs []Lost, err error) {
	newest := map[string]string{}
	err = s.Blob.List(ctx, sealed.HeadsPrefix, func(i blob.Info) error {
		newest[i.Name[:strings.LastIndexByte(i.Name, '/')]] = i.Name
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, n := range newest {
		var h Head
		switch err := s.GetObject(ctx, n, &h); {
		case errors.Is(err, blob.ErrNotFound), errors.Is(err, sealed.ErrDamaged):
			continue
		case err != nil:
			return nil, err
		}
		name(h.Cluster, h.Point, "the head of the cluster")
		for shard, m := range h.Logs {
			logs = append(logs, Lost{Cluster: h.Cluster, Shard: shard, To: m, By: "the head of the cluster"})
		}
	}
	runs, _, err := s.Runs(ctx, RunFilter{})
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		name(r.Cluster, r.Point, "run "+r.ID)
	}
	holds, err := s.Holds(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, h := range holds {
		name(h.Cluster, h.Point, "a hold until "+h.Until.Local().Format(time.DateOnly))
	}
	points, _, err := s.Points(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, p := range points {
		name(p.Cluster, p.From, "point "+p.ID)
	}
	return logs, nil
}

// RemovedPoints returns the object names of all points that were retired.
func (s *Catalog) RemovedPoints(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	err := s.Blob.List(ctx, sealed.RetiredPrefix, func(i blob.Info) error {
		d, err := sealed.Recall(s.Limits.Memo, i.Name, func(d *Removed) error { return s.GetObject(ctx, i.Name, d) },
			func(d *Removed) int { return 256 + 32*len(d.Points) })
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			return nil // what it tells of counts as missing
		}
		if err != nil {
			return err
		}
		for _, p := range d.Points {
			out[s.PointName(d.Cluster, p)] = true
		}
		return nil
	})
	return out, err
}

// PutRemoved records what is about to be removed.
func (s *Catalog) PutRemoved(ctx context.Context, d Removed) error {
	if len(d.Points) == 0 {
		return nil
	}
	d.Created = s.Now().UTC().Truncate(time.Second)
	return s.PutObject(ctx, s.ListKey(), sealed.RetiredPrefix+s.NamePart("cluster", d.Cluster)+"/"+
		d.Created.Format("20060102T150405")+"-"+sealed.NewID(4), d)
}

// AcceptMissing records that nothing is to wait for points that are missing, and
// gives them. Reclaim may then give back what only they needed.
func (s *Catalog) AcceptMissing(ctx context.Context) ([]Lost, error) {
	lost, err := s.Missing(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string][]string{}
	for _, l := range lost {
		if l.Point != "" {
			by[l.Cluster] = append(by[l.Cluster], l.Point)
		}
	}
	for cluster, points := range by {
		if err := s.PutRemoved(ctx, Removed{Cluster: cluster, Points: points, Lost: true}); err != nil {
			return nil, err
		}
	}
	return lost, nil
}
