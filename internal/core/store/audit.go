package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// AuditOptions say how to audit.
type AuditOptions struct {
	// Parts and Part read only the packs whose turn it is, the Part-th (from 0)
	// of Parts; all else is read always. A Part below zero is the one after the
	// last audit's.
	Parts, Part int
	// Mend heals what can be healed.
	Mend bool
	// From is another place that holds the same store, to heal from.
	From blob.Backend
	// Emit hears how far it is.
	Emit func(object string, objects int, bytes int64)
}

// Audit is the result of one.
type Audit struct {
	When    time.Time `json:"when"`
	Took    float64   `json:"seconds"`
	Part    int       `json:"part"`
	Parts   int       `json:"parts"`
	Objects int       `json:"objects"` // read
	Bytes   int64     `json:"bytes"`
	// Damaged objects, in order of names; Mended of them are whole again.
	Damaged []Damage `json:"damaged,omitempty"`
	// Points that cannot be restored whole, and log that cannot be read.
	Points []HurtPoint `json:"points,omitempty"`
	Log    []HurtLog   `json:"log,omitempty"`
	// Whole counts the points of each cluster of which everything is there.
	Whole map[string]int `json:"whole"`
}

// Damage is what is wrong with one object.
type Damage struct {
	Object string `json:"object"`
	What   string `json:"what"`
	// Nodes that cannot be read from it; of a pack.
	Nodes  int    `json:"nodes,omitempty"`
	Mended string `json:"mended,omitempty"` // from what; empty where it is not
	Harm   bool   `json:"harm"`             // something that was protected is lost by it
}

// HurtPoint is a point that lacks something.
type HurtPoint struct {
	Cluster    string          `json:"cluster"`
	ID         string          `json:"id"`
	Time       time.Time       `json:"time"`
	Namespaces []HurtNamespace `json:"namespaces"`
}

// HurtNamespace is a namespace of a point that lacks records. Where an inner
// node is lost, all below it counts as lost.
type HurtNamespace struct {
	Name  string `json:"name"`
	Shard string `json:"shard,omitempty"`
	Lost  int64  `json:"lost"`  // records that cannot be read
	Of    int64  `json:"of"`    // records
	Where string `json:"where"` // the first object at fault
}

// HurtLog is a stretch of a log that cannot be read.
type HurtLog struct {
	Cluster string    `json:"cluster,omitempty"` // empty where not even that can be read
	Shard   string    `json:"shard,omitempty"`
	From    time.Time `json:"from,omitzero"`
	To      time.Time `json:"to,omitzero"`
	Object  string    `json:"object"`
}

// Sound reports that nothing is wrong, or that all that was is mended.
func (a *Audit) Sound() bool {
	for _, d := range a.Damaged {
		if d.Mended == "" {
			return false
		}
	}
	return len(a.Points) == 0 && len(a.Log) == 0
}

type auditor struct {
	s   *Upkeep
	o   AuditOptions
	out *Audit
	bad map[tree.Hash]string // nodes that cannot be read, and where they should be
}

// Audit reads everything, or a part of it, and says what is wrong and what that
// means.
func (s *Upkeep) Audit(ctx context.Context, o AuditOptions) (*Audit, error) {
	if s.WriteOnly() {
		return nil, fmt.Errorf("audit: %w", ErrWriteOnly)
	}
	if o.Parts < 1 {
		o.Parts = 1
	}
	if o.Emit == nil {
		o.Emit = func(string, int, int64) {}
	}
	if o.Part < 0 {
		o.Part = 0
		if last, _ := s.LastAudit(ctx); last != nil && last.Parts == o.Parts {
			o.Part = (last.Part + 1) % o.Parts
		}
	}
	if o.Mend {
		l, err := s.Acquire(ctx, reclaimLease) // nothing may be removed meanwhile
		if err != nil {
			return nil, err
		}
		defer l.Release(context.WithoutCancel(ctx))
		if err := s.finishMending(ctx); err != nil {
			return nil, err
		}
	}
	began := time.Now()
	a := &auditor{s: s, o: o, bad: map[tree.Hash]string{},
		out: &Audit{When: began.UTC().Truncate(time.Second), Part: o.Part % o.Parts, Parts: o.Parts, Whole: map[string]int{}}}
	if err := a.readAll(ctx); err != nil {
		return nil, err
	}
	// What the content files say of themselves counts from here on.
	s.ownLists.Store(true)
	defer s.ownLists.Store(false)
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	if err := a.fetchMissing(ctx); err != nil {
		return nil, err
	}
	if err := a.listings(ctx); err != nil {
		return nil, err
	}
	if err := a.meaning(ctx); err != nil {
		return nil, err
	}
	if err := a.missing(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(a.out.Damaged, func(x, y Damage) int { return strings.Compare(x.Object, y.Object) })
	var hurt []string
	for _, d := range a.out.Damaged {
		if strings.HasPrefix(d.Object, contentPrefix) && d.Mended == "" {
			hurt = append(hurt, d.Object)
		}
	}
	if err := s.suspect(ctx, hurt); err != nil {
		return nil, err
	}
	a.out.Took = time.Since(began).Seconds()
	name := scrubsPrefix + began.UTC().Format("20060102T150405.000") + "-" + newID(4)
	return a.out, s.put(ctx, s.listKey(), name, a.out)
}

// LastAudit returns the newest audit that was kept, or nil.
func (s *Upkeep) LastAudit(ctx context.Context) (*Audit, error) {
	last := ""
	err := s.blob.List(ctx, scrubsPrefix, func(i blob.Info) error { last = max(last, i.Name); return nil })
	if err != nil || last == "" {
		return nil, err
	}
	a := new(Audit)
	if err := s.get(ctx, last, a); err != nil {
		return nil, err
	}
	return a, nil
}
