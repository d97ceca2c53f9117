package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
)

// Hold keeps a point whatever retention says, until a time.
type Hold struct {
	ID      string    `json:"id"`
	Cluster string    `json:"cluster"`
	Point   string    `json:"point"`
	Until   time.Time `json:"until"`
	Why     string    `json:"why"`
	User    string    `json:"user"`
	Made    time.Time `json:"made"`
}

func (s *Catalog) holdFolder(cluster string) string {
	return holdsPrefix + s.part("cluster", cluster) + "/"
}

// PutHold keeps a point. Whoever asks several times has the latest one count.
func (s *Catalog) PutHold(ctx context.Context, h *Hold) error {
	h.Made = time.Now().UTC().Truncate(time.Second)
	h.ID = h.Point + "-" + newID(4)
	return s.put(ctx, s.listKey(), s.holdFolder(h.Cluster)+h.ID, h)
}

// Holds returns the holds of a cluster, of all when empty, in order of points.
// Of one that cannot be read the name tells which point it keeps; until when is
// not known, so it counts.
func (s *Catalog) Holds(ctx context.Context, cluster string) (out []*Hold, err error) {
	prefix := holdsPrefix
	if cluster != "" {
		prefix = s.holdFolder(cluster)
	}
	err = s.blob.List(ctx, prefix, func(i blob.Info) error {
		h := new(Hold)
		err := s.get(ctx, i.Name, h)
		id := i.Name[strings.LastIndexByte(i.Name, '/')+1:]
		if err == nil && i.Name != s.holdFolder(h.Cluster)+h.ID {
			err = fmt.Errorf("%s: %w: it is hold %s", i.Name, ErrDamaged, h.ID)
		}
		switch cut := strings.LastIndexByte(id, '-'); {
		case errors.Is(err, blob.ErrNotFound):
			return nil
		case errors.Is(err, ErrDamaged) && cut > 0:
			h = &Hold{ID: id, Cluster: cluster, Point: id[:cut], Until: time.Now().Add(100 * 365 * 24 * time.Hour), Why: "its hold cannot be read: " + err.Error()}
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
	return s.remove(ctx, s.holdFolder(h.Cluster)+h.ID)
}

// ProofMark says what a point proved of the log before it.
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
	Not    string       `json:"not,omitempty"`
	Doubts []ProofDoubt `json:"doubts,omitempty"`
	Made   time.Time    `json:"made"`
}

// ProofDoubt is a namespace in which the log and a point disagree.
type ProofDoubt struct {
	Namespace string `json:"namespace"`
	What      string `json:"what"`
}

func (s *Catalog) proofFolder(cluster string) string {
	return proofsPrefix + s.part("cluster", cluster) + "/"
}

// PutProof keeps what a point proved; the first word counts.
func (s *Catalog) PutProof(ctx context.Context, m *ProofMark) error {
	m.Made = time.Now().UTC().Truncate(time.Second)
	err := s.put(ctx, s.listKey(), s.proofFolder(m.Cluster)+m.Point, m)
	if errors.Is(err, blob.ErrExists) {
		return nil
	}
	return err
}

// Proofs returns the proofs of a cluster's points (of all clusters when empty) by
// point.
func (s *Catalog) Proofs(ctx context.Context, cluster string) (map[string]*ProofMark, error) {
	prefix := proofsPrefix
	if cluster != "" {
		prefix = s.proofFolder(cluster)
	}
	out := map[string]*ProofMark{}
	err := s.blob.List(ctx, prefix, func(i blob.Info) error {
		m, err := recall(s.opt.Memo, i.Name, func(m *ProofMark) error { return s.get(ctx, i.Name, m) }, weightOf)
		if err == nil && i.Name != s.proofFolder(m.Cluster)+m.Point {
			err = fmt.Errorf("%s: %w: it is the proof of point %s", i.Name, ErrDamaged, m.Point)
		}
		if err != nil {
			if errors.Is(err, blob.ErrNotFound) || errors.Is(err, ErrDamaged) {
				return nil // what is not known is not proven
			}
			return err
		}
		out[m.Point] = m
		return nil
	})
	return out, err
}
