package upkeep

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
)

// oldClaims removes the entries of claims that are over.
func (r *reclaim) oldClaims(ctx context.Context) error {
	top, number, old, err := r.s.ClaimEntries(ctx, "")
	if err != nil {
		return err
	}
	for what, e := range top {
		if sealed.Private(what) && !e.Held(r.now()) {
			old = append(old, sealed.ClaimName(what, number[what]))
		}
	}
	for _, n := range old {
		if err := r.s.Blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
		r.out.Leftovers++
	}
	return nil
}

// leftovers removes what crashes leave behind, and has one index object say
// what many say.
func (r *reclaim) leftovers(ctx context.Context) error {
	s := r.s
	var old []string
	if err := r.clearSuspects(ctx); err != nil {
		return err
	}
	for _, p := range r.over {
		if err := s.ForgetDropped(ctx, p); err != nil {
			return err
		}
	}
	dropped, err := s.DropRefused(ctx)
	if err != nil {
		return err
	}
	r.out.Leftovers += dropped
	indexes := 0
	marked, err := s.PendingDeleteLists(ctx)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	var parity []string
	err = s.Blob.List(ctx, "", func(i blob.Info) error {
		names[i.Name] = true
		switch {
		case strings.HasPrefix(i.Name, sealed.ListingsPrefix):
			indexes++
		case strings.HasPrefix(i.Name, sealed.CheckPrefix) && r.now().Sub(i.Made) > time.Hour:
			old = append(old, i.Name)
		case strings.HasPrefix(i.Name, sealed.ActiveWritersPrefix):
			if _, ok := marked[strings.TrimPrefix(i.Name, sealed.ActiveWritersPrefix)]; !ok {
				old = append(old, i.Name) // its process ended before it removed that too
			}
		case strings.HasPrefix(i.Name, sealed.ParityPrefix) && r.now().Sub(i.Made) > max(r.o.Grace, time.Hour):
			parity = append(parity, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, p := range parity {
		if of := strings.TrimPrefix(p, sealed.ParityPrefix); !sealed.HasSecondCopy(of) && !names[of] &&
			!names[sealed.RepairedPrefix+of] {
			old = append(old, p)
		}
	}
	for _, n := range old {
		if err := s.Blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) &&
			!errors.Is(err, blob.ErrLocked) {
			return err
		}
		r.out.Leftovers++
	}
	if indexes > 16 || r.out.Removed > 0 {
		_, _, _, err = s.RebuildListings(ctx)
	}
	return err
}

// endLog removes log that has not been needed for as long as retired points can be brought back.
func (r *reclaim) endLog(ctx context.Context) error {
	points, _, err := r.s.Points(ctx, "")
	if err != nil {
		return err
	}
	var clusters []string
	for _, p := range points {
		clusters = append(clusters, p.Cluster)
	}
	slices.Sort(clusters)
	for _, cluster := range slices.Compact(clusters) {
		chains, _, err := r.s.SettledChains(ctx, cluster)
		if err != nil {
			return err
		}
		var out Retired
		for _, c := range chains {
			if err := r.s.trim(ctx, cluster, c, r.o.Dropped, &out); err != nil {
				return err
			}
		}
		r.out.Segments, r.out.SegmentBytes = r.out.Segments+out.Segments, r.out.SegmentBytes+out.Bytes
	}
	return nil
}

// clearSuspects forgets suspicions of content files that are gone.
func (r *reclaim) clearSuspects(ctx context.Context) error {
	there := map[string]bool{}
	for _, p := range r.h.files {
		there[p.Name] = true
	}
	for _, p := range r.h.bad {
		there[p] = true
	}
	var over []string
	err := r.s.Blob.List(ctx, sealed.SuspectPrefix, func(i blob.Info) error {
		var c content.Suspicion
		if err := r.s.GetObject(ctx, i.Name, &c); err != nil {
			return nil // it does no harm
		}
		if !slices.ContainsFunc(c.Files, func(p string) bool { return there[p] }) {
			over = append(over, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range over {
		if err := r.s.RemoveObject(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
	}
	return nil
}
