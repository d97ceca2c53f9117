package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// Dropped is a point that was retired and can still be brought back: what it needs stays as
// long as its record does.
type Dropped struct {
	*Point
	// At is when it was retired, by the backend's clock where that tells.
	At time.Time `json:"dropped"`
}

func (s *Catalog) droppedName(cluster, id string) string {
	return sealed.DroppedPrefix + s.NamePart("cluster", cluster) + "/" + id
}

// PutDropped keeps a point's manifest, which is about to be removed.
func (s *Catalog) PutDropped(ctx context.Context, p *Point) error {
	name := s.droppedName(p.Cluster, p.ID)
	err := s.PutObject(ctx, s.ListKey(), name, p)
	if errors.Is(err, blob.ErrExists) { // it was dropped and brought back before: its time begins anew
		if err = s.RemoveObject(ctx, name); err == nil || errors.Is(err, blob.ErrNotFound) {
			err = s.PutObject(ctx, s.ListKey(), name, p)
		}
	}
	return err
}

// Dropped returns the points of a cluster, of all where it is empty, that were retired and can
// be brought back, in order of time. Records that cannot be read are given as errors beside the
// rest.
func (s *Catalog) Dropped(ctx context.Context, cluster string) (out []Dropped, unreadable []error, err error) {
	prefix := sealed.DroppedPrefix
	if cluster != "" {
		prefix += s.NamePart("cluster", cluster) + "/"
	}
	var infos []blob.Info
	if err := s.Blob.List(ctx, prefix, func(i blob.Info) error { infos = append(infos, i); return nil }); err != nil {
		return nil, nil, err
	}
	for _, i := range infos {
		p := new(Point)
		switch err := s.GetObject(ctx, i.Name, p); {
		case errors.Is(err, blob.ErrNotFound):
		case errors.Is(err, sealed.ErrDamaged):
			unreadable = append(unreadable, err)
		case err != nil:
			return nil, nil, err
		default:
			at := i.Made
			if at.IsZero() {
				at = s.Now()
			}
			out = append(out, Dropped{p, at})
		}
	}
	slices.SortStableFunc(out, func(a, b Dropped) int { return a.Time.Compare(b.Time) })
	return out, unreadable, nil
}

// ForgetDropped ends that a point can be brought back.
func (s *Catalog) ForgetDropped(ctx context.Context, p *Point) error {
	err := s.RemoveObject(ctx, s.droppedName(p.Cluster, p.ID))
	if errors.Is(err, blob.ErrNotFound) || errors.Is(err, blob.ErrLocked) {
		return nil
	}
	return err
}

// HasPoint reports whether a point is there, whatever it holds.
func (s *Catalog) HasPoint(ctx context.Context, cluster, id string) (bool, error) {
	_, err := s.Blob.ReadAt(ctx, s.PointName(cluster, id), 0, 1)
	if errors.Is(err, blob.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// HeldNow reports whether a point is held, by what the store says now.
func (s *Catalog) HeldNow(ctx context.Context, cluster, id string) (bool, error) {
	holds, err := s.holdsBelow(ctx, cluster, s.HoldFolder(cluster)+id+"-")
	return slices.ContainsFunc(holds, func(h *Hold) bool {
		return h.Point == id && h.Until.After(s.Now())
	}), err
}

// returned takes a point out of the records of what was retired: when it goes missing from
// now on, that is told.
func (s *Catalog) returned(ctx context.Context, cluster, id string) error {
	var names []string
	prefix := sealed.RetiredPrefix + s.NamePart("cluster", cluster) + "/"
	if err := s.Blob.List(ctx, prefix, func(i blob.Info) error {
		names = append(names, i.Name)
		return nil
	}); err != nil {
		return err
	}
	for _, n := range names {
		var d Removed
		err := s.GetObject(ctx, n, &d)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) || err == nil &&
			!slices.Contains(d.Points, id) {
			continue
		}
		d.Points = slices.DeleteFunc(d.Points, func(p string) bool { return p == id })
		if err == nil {
			err = s.PutRemoved(ctx, d)
		}
		if err == nil {
			err = s.RemoveObject(ctx, n)
		}
		if err != nil && !errors.Is(err, blob.ErrNotFound) && !errors.Is(err, blob.ErrLocked) {
			return err
		}
	}
	return nil
}

// Return makes a point exist again that was dropped. All that it needs must be there to stay.
func (s *Catalog) Return(ctx context.Context, d Dropped) error {
	if err := s.PutPoint(ctx, d.Point); err != nil && !errors.Is(err, blob.ErrExists) {
		return err
	}
	if err := s.returned(ctx, d.Cluster, d.ID); err != nil {
		return fmt.Errorf("point %s of %s is there again: %w", d.ID, d.Cluster, err)
	}
	return s.ForgetDropped(ctx, d.Point)
}
