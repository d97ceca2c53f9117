package upkeep

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// ScrubOptions say how to scrub.
type ScrubOptions struct {
	// Parts and Part read only the content files whose turn it is, the Part-th (from 0)
	// of Parts; all else is read always. A Part below zero is the one after the
	// last scrub's.
	Parts, Part int
	// Repair heals what can be healed.
	Repair bool
	// From is another place that holds the same store, to heal from.
	From blob.Backend
	// Others, where set, has other processes read content files ([Upkeep.CheckFiles]) and calls done with what they
	// found, one at a time. What they doubt is read here.
	Others func(ctx context.Context, files []string, done func(of []string, r *FilesChecked)) error
	// Emit hears how far it is.
	Emit func(object string, objects int, bytes int64)
}

// ScrubReport is the result of one.
type ScrubReport struct {
	Created time.Time `json:"created"`
	Took    float64   `json:"seconds"`
	Part    int       `json:"part"`
	Parts   int       `json:"parts"`
	Objects int       `json:"objects"` // read
	Bytes   int64     `json:"bytes"`
	// Damaged objects, in order of names; Mended of them are whole again.
	Damaged []Damage `json:"damaged,omitempty"`
	// Points that cannot be restored whole, and log that cannot be read.
	Points []DamagedPoint `json:"points,omitempty"`
	Log    []HurtLog      `json:"log,omitempty"`
	// Whole counts the points of each cluster of which everything is there.
	Intact map[string]int `json:"intact"`
}

// Damage is what is wrong with one object.
type Damage struct {
	Object string `json:"object"`
	What   string `json:"what"`
	// Nodes that cannot be read from it; of a content file.
	Nodes     int    `json:"nodes,omitempty"`
	Repaired  string `json:"repaired,omitempty"` // from what; empty where it is not
	LosesData bool   `json:"loses_data"`         // something that was protected is lost by it
}

// DamagedPoint is a point that lacks something.
type DamagedPoint struct {
	Cluster    string             `json:"cluster"`
	ID         string             `json:"id"`
	Time       time.Time          `json:"time"`
	Namespaces []DamagedNamespace `json:"namespaces"`
}

// DamagedNamespace is a namespace of a point that lacks records. Where an inner
// node is lost, all below it counts as lost.
type DamagedNamespace struct {
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

// Sound reports that nothing is wrong, or that all that was is repaired.
func (a *ScrubReport) Sound() bool {
	for _, d := range a.Damaged {
		if d.Repaired == "" {
			return false
		}
	}
	return len(a.Points) == 0 && len(a.Log) == 0
}

// Verdicts returns what was found of each cluster's points, of the log and of the objects that
// nothing which is protected rests on.
func (a *ScrubReport) Verdicts() []catalog.RunVerdict {
	var out []catalog.RunVerdict
	for _, cluster := range slices.Sorted(maps.Keys(a.Intact)) {
		v := catalog.RunVerdict{Of: "points of " + cluster, Found: catalog.FoundSound,
			Detail: fmt.Sprintf("%d whole", a.Intact[cluster])}
		if a.Intact[cluster] > 0 {
			out = append(out, v)
		}
	}
	for i := range a.Points {
		p := &a.Points[i]
		var lost int64
		for _, ns := range p.Namespaces {
			lost += ns.Lost
		}
		where := fmt.Sprintf("%d namespaces", len(p.Namespaces))
		if len(p.Namespaces) == 1 {
			where = p.Namespaces[0].Name
		}
		out = append(out, catalog.RunVerdict{Of: "point " + p.Cluster + "/" + p.ID, Found: catalog.FoundDamaged,
			Detail: fmt.Sprintf("%d records of %s cannot be read", lost, where)})
	}
	for _, l := range a.Log {
		out = append(out, catalog.RunVerdict{Of: "log segment " + l.Object, Found: catalog.FoundDamaged})
	}
	for _, d := range a.Damaged {
		v := catalog.RunVerdict{Of: "object " + d.Object, Found: catalog.FoundDamaged, Detail: d.What}
		if d.Repaired != "" {
			v.Found, v.Detail = catalog.FoundSound, d.What+"; healed from "+d.Repaired
		}
		out = append(out, v)
	}
	return out
}

type scrubber struct {
	s   *Upkeep
	o   ScrubOptions
	out *ScrubReport
	bad map[tree.Hash]string // nodes that cannot be read, and where they should be
	// prints are the fingerprints of objects of which the parity was not read yet, or the other
	// way round.
	prints map[string]sealed.Fingerprint
}

// ErrNotKept is returned beside a report that the store did not take.
var ErrNotKept = errors.New("what was found could not be kept in the store")

// Scrub reads everything, or a part of it, and says what is wrong and what that
// means. With [ErrNotKept] the report is whole.
func (s *Upkeep) Scrub(ctx context.Context, o ScrubOptions) (*ScrubReport, error) {
	if s.WriteOnly() {
		return nil, fmt.Errorf("scrub: %w", sealed.ErrWriteOnly)
	}
	if o.Parts < 1 {
		o.Parts = 1
	}
	if o.Emit == nil {
		o.Emit = func(string, int, int64) {}
	}
	if o.Part < 0 {
		o.Part = 0
		if last, _ := s.LastScrub(ctx); last != nil && last.Parts == o.Parts {
			o.Part = (last.Part + 1) % o.Parts
		}
	}
	if o.Repair {
		l, err := s.Acquire(ctx, reclaimClaim) // nothing may be removed meanwhile
		if err != nil {
			return nil, err
		}
		defer l.Release(context.WithoutCancel(ctx))
		if err := s.finishRepair(ctx); err != nil {
			return nil, err
		}
	}
	began := time.Now()
	a := &scrubber{s: s, o: o, bad: map[tree.Hash]string{}, prints: map[string]sealed.Fingerprint{},
		out: &ScrubReport{Created: began.UTC().Truncate(time.Second), Part: o.Part % o.Parts, Parts: o.Parts,
			Intact: map[string]int{}}}
	if err := a.readAll(ctx); err != nil {
		return nil, err
	}
	// What the content files say of themselves counts from here on.
	s.OwnLists.Store(true)
	defer s.OwnLists.Store(false)
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
		if strings.HasPrefix(d.Object, sealed.ContentPrefix) && d.Repaired == "" {
			hurt = append(hurt, d.Object)
		}
	}
	kept := s.Suspect(ctx, hurt)
	a.out.Took = time.Since(began).Seconds()
	name := sealed.ScrubsPrefix + began.UTC().Format("20060102T150405.000") + "-" + sealed.NewID(4)
	if kept == nil {
		kept = s.PutObject(ctx, s.ListKey(), name, a.out)
	}
	if kept != nil {
		return a.out, fmt.Errorf("%w: %w", ErrNotKept, kept)
	}
	return a.out, nil
}

// LastScrub returns the newest scrub that was kept, or nil.
func (s *Upkeep) LastScrub(ctx context.Context) (*ScrubReport, error) {
	last := ""
	err := s.Blob.List(ctx, sealed.ScrubsPrefix, func(i blob.Info) error { last = max(last, i.Name); return nil })
	if err != nil || last == "" {
		return nil, err
	}
	a := new(ScrubReport)
	if err := s.GetObject(ctx, last, a); err != nil {
		return nil, err
	}
	return a, nil
}
