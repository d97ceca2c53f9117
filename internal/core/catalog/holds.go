package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// Hold keeps a point whatever retention says, until a time.
type Hold struct {
	ID      string    `json:"id"`
	Cluster string    `json:"cluster"`
	Point   string    `json:"point"`
	Until   time.Time `json:"until"`
	Reason  string    `json:"reason"`
	User    string    `json:"user"`
	Made    time.Time `json:"made"`
}

func (s *Catalog) HoldFolder(cluster string) string {
	return sealed.HoldsPrefix + s.NamePart("cluster", cluster) + "/"
}

// PutHold keeps a point. Whoever asks several times has the latest one count.
func (s *Catalog) PutHold(ctx context.Context, h *Hold) error {
	h.Made = s.Now().UTC().Truncate(time.Second)
	h.ID = h.Point + "-" + sealed.NewID(4)
	return s.PutObject(ctx, s.ListKey(), s.HoldFolder(h.Cluster)+h.ID, h)
}

// Holds returns the holds of a cluster, of all when empty, in order of points.
// Of one that cannot be read the name tells which point it keeps; until when is
// not known, so it counts.
func (s *Catalog) Holds(ctx context.Context, cluster string) ([]*Hold, error) {
	prefix := sealed.HoldsPrefix
	if cluster != "" {
		prefix = s.HoldFolder(cluster)
	}
	return s.holdsBelow(ctx, cluster, prefix)
}

func (s *Catalog) holdsBelow(ctx context.Context, cluster, prefix string) (out []*Hold, err error) {
	err = s.Blob.List(ctx, prefix, func(i blob.Info) error {
		h := new(Hold)
		err := s.GetObject(ctx, i.Name, h)
		id := i.Name[strings.LastIndexByte(i.Name, '/')+1:]
		if err == nil && i.Name != s.HoldFolder(h.Cluster)+h.ID {
			err = fmt.Errorf("%s: %w: it is hold %s", i.Name, sealed.ErrDamaged, h.ID)
		}
		switch cut := strings.LastIndexByte(id, '-'); {
		case errors.Is(err, blob.ErrNotFound):
			return nil
		case errors.Is(err, sealed.ErrDamaged) && cut > 0:
			h = &Hold{ID: id, Cluster: cluster, Point: id[:cut], Until: s.Now().Add(100 * 365 * 24 * time.Hour),
				Reason: "its hold cannot be read: " + err.Error()}
		case err != nil:
			return err
		}
		out = append(out, h)
		return nil
	})
	slices.SortFunc(out, func(a, b *Hold) int { return strings.Compare(a.ID, b.ID) })
	return out, err
}

// RemoveHold takes a hold away.
func (s *Catalog) RemoveHold(ctx context.Context, h *Hold) error {
	return s.RemoveObject(ctx, s.HoldFolder(h.Cluster)+h.ID)
}

// ProofMark describes what a point proved of the log before it.
type ProofMark struct {
	Cluster string `json:"cluster"`
	Point   string `json:"point"`
	// From is the point whose fold was compared; it lies at Since, the point at
	// Until.
	From    string    `json:"from,omitempty"`
	Since   time.Time `json:"since,omitzero"`
	Until   time.Time `json:"until,omitzero"`
	Changes int64     `json:"changes"`
	Equal   bool      `json:"equal"`
	// Not says why there is no such proof; Doubts what differs, by namespace.
	NotProven string       `json:"not_proven,omitempty"`
	Doubts    []ProofDoubt `json:"doubts,omitempty"`
	Made      time.Time    `json:"made"`
}

// ProofDoubt is a namespace in which the log and a point disagree.
type ProofDoubt struct {
	Namespace string `json:"namespace"`
	What      string `json:"what"`
}

func (s *Catalog) ProofFolder(cluster string) string {
	return sealed.ProofsPrefix + s.NamePart("cluster", cluster) + "/"
}

// PutProof keeps what a point proved; the first word counts.
func (s *Catalog) PutProof(ctx context.Context, m *ProofMark) error {
	m.Made = s.Now().UTC().Truncate(time.Second)
	err := s.PutObject(ctx, s.ListKey(), s.ProofFolder(m.Cluster)+m.Point, m)
	if errors.Is(err, blob.ErrExists) {
		return nil
	}
	return err
}

// Proofs returns the proofs of a cluster's points (of all clusters when empty) by
// point.
func (s *Catalog) Proofs(ctx context.Context, cluster string) (map[string]*ProofMark, error) {
	prefix := sealed.ProofsPrefix
	if cluster != "" {
		prefix = s.ProofFolder(cluster)
	}
	out := map[string]*ProofMark{}
	err := s.Blob.List(ctx, prefix, func(i blob.Info) error {
		m, err := sealed.Recall(s.Limits.Memo, i.Name, func(m *ProofMark) error { return s.GetObject(ctx, i.Name, m) },
			sealed.FixedWeight)
		if err == nil && i.Name != s.ProofFolder(m.Cluster)+m.Point {
			err = fmt.Errorf("%s: %w: it is the proof of point %s", i.Name, sealed.ErrDamaged, m.Point)
		}
		if err != nil {
			if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
				return nil // what is not known is not proven
			}
			return err
		}
		out[m.Point] = m
		return nil
	})
	return out, err
}
