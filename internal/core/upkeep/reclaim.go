package upkeep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/remedy"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// DroppedFor is for how long points that were retired can be brought back, where nobody says
// otherwise.
const DroppedFor = 7 * 24 * time.Hour

const (
	reclaimClaim = "reclaim"
)

// ReclaimOptions say how to reclaim.
type ReclaimOptions struct {
	// Grace is how long content files stay marked for deletion before they are removed, and how
	// old they must be to be marked for deletion (default 24 h).
	Grace time.Duration
	// Dropped is for how long points that were retired can be brought back, and what they
	// need stays (default 7 days).
	Dropped time.Duration
	// Every makes it do nothing, and give nil, where the last one that ended well
	// began less than this ago.
	Every time.Duration
	// Preview changes nothing.
	Preview bool
	// AcceptMissing goes on though points are missing that something names.
	AcceptMissing bool
	// Emit hears of what is being done.
	Emit func(text string)
}

// Reclaimed describes what a reclaim did, or would do.
type Reclaimed struct {
	Files         int   `json:"files"`          // in the store
	Bytes         int64 `json:"bytes"`          // of them
	Dead          int   `json:"dead"`           // content files that no point needs
	DeadBytes     int64 `json:"dead_bytes"`     // of them
	PendingDelete int   `json:"pending_delete"` // content files, now
	Removed       int   `json:"removed"`        // content files, now
	Freed         int64 `json:"freed"`          // bytes
	Withdrawn     int   `json:"withdrawn"`      // content files that were marked for deletion and are needed
	CopiedOut     int64 `json:"copied_out"`     // bytes copied out of content files that are mostly dead
	Locked        int   `json:"locked"`         // content files that are locked for now
	Leftovers     int   `json:"leftovers"`      // other objects that were left behind, removed
	Segments      int   `json:"segments"`       // of log that was not needed, removed
	SegmentBytes  int64 `json:"segment_bytes"`  // of them
	// Waiting names writers that must end before anything is removed.
	Waiting []string `json:"waiting,omitempty"`
}

// live returns every node that a point needs, and bases: the nodes that any copy
// of one of them is a patch of. It fails where a point cannot be read: nothing
// is removed that it may need.
func (s *Upkeep) live(ctx context.Context, o ReclaimOptions, now time.Time) (live, bases *content.NodeSet,
	over []*catalog.Point, err error) {
	// One that is brought back meanwhile is listed as the one or as the other.
	dropped, unreadable, err := s.Dropped(ctx, "")
	for _, e := range unreadable {
		o.Emit(fmt.Sprintf("a point that was retired can no longer be brought back: %v", e))
	}
	if err != nil {
		return nil, nil, nil, err
	}
	points, unreadable, err := s.Points(ctx, "")
	if err == nil {
		err = s.Refresh(ctx) // what these points need is listed by now
	}
	if err != nil {
		return nil, nil, nil, err
	}
	there := map[string]bool{}
	for _, p := range points {
		there[s.PointName(p.Cluster, p.ID)] = true
	}
	must := len(points)
	for _, d := range dropped {
		switch {
		case there[s.PointName(d.Cluster, d.ID)]:
		case now.Sub(d.At) < o.Dropped:
			points = append(points, d.Point)
		default:
			over = append(over, d.Point)
		}
	}
	if len(unreadable) > 0 {
		return nil, nil, nil, remedy.With(fmt.Errorf("%w: what it needs is not known, so nothing can be removed",
			errors.Join(unreadable...)), remedy.Scrub, "")
	}
	live, bases = s.Index.NewNodeSet(), s.Index.NewNodeSet()
	for i, p := range points {
		for ns, root := range p.Trees() {
			err := tree.Nodes(ctx, s, root, func(n tree.NodeInfo) (bool, error) {
				if added, err := live.Add(n.Hash); err != nil || !added {
					return false, err
				}
				copies, _ := s.Index.Copies(n.Hash)
				if len(copies) == 0 {
					return false, fmt.Errorf("point %s of %s: %s: node %s: %w; store scrub says more", p.ID, p.Cluster,
						ns.Name, n.Hash.Short(), sealed.ErrMissing)
				}
				for _, c := range copies {
					if c.Patch {
						if _, err := bases.Add(c.Base); err != nil {
							return false, err
						}
					}
				}
				return n.Level > 0 || copies[0].Pieces && n.Level == 0, ctx.Err()
			})
			if i >= must && (errors.Is(err, sealed.ErrMissing) || errors.Is(err, sealed.ErrDamaged)) {
				o.Emit(fmt.Sprintf("a point that was retired can no longer be brought back whole: %v", err))
				err = nil
			}
			if err != nil {
				return nil, nil, nil, err
			}
		}
	}
	return live, bases, over, nil
}

// Reclaim gives back the room of what no point needs. One at a time.
func (s *Upkeep) Reclaim(ctx context.Context, o ReclaimOptions) (_ *Reclaimed, err error) {
	if o.Grace <= 0 {
		o.Grace = 24 * time.Hour
	}
	if o.Dropped <= 0 {
		o.Dropped = DroppedFor
	}
	if o.Emit == nil {
		o.Emit = func(string) {}
	}
	if s.WriteOnly() {
		return nil, fmt.Errorf("reclaim: %w", sealed.ErrWriteOnly)
	}
	var claim *sealed.Claim
	if !o.Preview {
		if claim, err = s.AcquireEvery(ctx, reclaimClaim, o.Every); err != nil || claim == nil {
			return nil, err
		}
		defer func() {
			if err != nil {
				claim.Fail(context.WithoutCancel(ctx))
				return
			}
			claim.Release(context.WithoutCancel(ctx))
		}()
	}
	lists, err := s.PendingDeleteLists(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Refresh(ctx); err != nil {
		return nil, err
	}
	h, err := s.holdings(ctx)
	if err != nil {
		return nil, err
	}
	defer h.close()
	// Points are listed after content files and sessions: one that comes to be later
	// was made by a writer that is on the list, or that knows what is marked for deletion.
	now := s.Now
	if claim != nil {
		now = claim.StoreNow
	}
	writers, err := s.writers(ctx, now())
	if err != nil {
		return nil, err
	}
	o.Emit("finding what the points need")
	live, bases, over, err := s.live(ctx, o, now())
	if err != nil {
		return nil, err
	}
	may, err := s.mayReclaim(ctx, o, live.Len(), len(h.files))
	if err != nil {
		return nil, err
	}
	r := &reclaim{s: s, o: o, h: h, live: live, bases: bases, writers: writers, claim: claim,
		over: over, now: now, out: &Reclaimed{Files: len(h.files)}}
	if err := r.weigh(ctx); err != nil || o.Preview {
		return r.out, err
	}
	if err := r.oldClaims(ctx); err != nil || !may {
		return r.out, err
	}
	if o.Dropped < DroppedFor { // what retention ends by itself has time
		if err := r.endLog(ctx); err != nil {
			return r.out, err
		}
	}
	if err := r.prove(ctx); err != nil {
		return r.out, err
	}
	// With two copies of a node one that stays is enough.
	if err := r.remove(ctx, lists); err != nil {
		return r.out, err
	}
	if err := r.repack(ctx); err != nil {
		return r.out, err
	}
	if err := r.markForDelete(ctx); err != nil {
		return r.out, err
	}
	return r.out, r.leftovers(ctx)
}

// ErrUnexplained is returned by Reclaim when what is there cannot be all that
// was: nothing is removed then.
var ErrUnexplained = errors.New("something is missing from the store, so nothing is removed")

// mayReclaim refuses to remove anything while points that were there are not
// seen: what they need would look as if nobody needed it. Where there is no point,
// and no record that any was retired, nothing is removed either: the first may be
// on its way.
func (s *Upkeep) mayReclaim(ctx context.Context, o ReclaimOptions, live, files int) (bool, error) {
	if o.AcceptMissing && !o.Preview {
		if _, err := s.AcceptMissing(ctx); err != nil {
			return false, err
		}
	}
	lost, err := s.Missing(ctx)
	if err != nil {
		return false, err
	}
	for _, l := range lost {
		if l.Point != "" {
			return false, fmt.Errorf("%w: %s", ErrUnexplained, l)
		}
	}
	if live > 0 || files == 0 || o.AcceptMissing {
		return true, nil
	}
	gone, err := s.RemovedPoints(ctx)
	if err == nil && len(gone) == 0 {
		o.Emit(
			fmt.Sprintf("%d content files are there, no point, and no record that any was retired: nothing is removed",
				files))
	}
	return len(gone) > 0, err
}

// writers names the sessions that are at work, and the runs: one that only reads must not
// lose what it reads either. Now is by the store's clock.
func (s *Upkeep) writers(ctx context.Context, now time.Time) ([]string, error) {
	var out []string
	for _, prefix := range []string{sealed.SessionPrefix, sealed.RunClaim} {
		top, _, _, err := s.ClaimEntries(ctx, prefix)
		if err != nil {
			return nil, err
		}
		for what, e := range top {
			if e.Held(now) {
				out = append(out, what)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

type reclaim struct {
	s       *Upkeep
	o       ReclaimOptions
	h       *holding
	live    *content.NodeSet // what points need; nil once it shows in kept
	bases   *content.NodeSet // of patches that are live
	writers []string
	claim   *sealed.Claim
	now     func() time.Time // by the store's clock
	out     *Reclaimed
	needed  []int64           // of each content file, bytes of frames with nodes needed from it
	framed  []int64           // of each content file, bytes of all frames
	kept    *roaring64.Bitmap // numbers of copies: of each node that is needed, the one that stays
	over    []*catalog.Point  // that were retired and can no longer be brought back
}

// remove ends condemnations whose time has come.
func (r *reclaim) remove(ctx context.Context, lists map[string]content.PendingDelete) error {
	number := map[string]int{}
	for i, p := range r.h.files {
		number[p.Name] = i
	}
	made := map[string]time.Time{} // when that was said, by the store's clock
	err := r.s.Blob.List(ctx, sealed.ActiveWritersPrefix, func(i blob.Info) error {
		made[strings.TrimPrefix(i.Name, sealed.ActiveWritersPrefix)] = i.Made
		return nil
	})
	if err != nil {
		return err
	}
	for id, c := range lists {
		var w content.ActiveWriters
		err := r.s.GetObject(ctx, sealed.ActiveWritersPrefix+id, &w)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, sealed.ErrDamaged) {
			// The process ended in between, and who was writing is not known:
			// those who are now are noted instead, and the time begins anew.
			_ = r.s.RemoveObject(ctx, sealed.ActiveWritersPrefix+id)
			if err := r.recordActiveWriters(ctx, id); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if since := cmp.Or(made[id], w.Created); r.now().Sub(since) < r.o.Grace {
			continue
		}
		waiting := false
		for _, who := range w.Writers {
			if slices.Contains(r.writers, who) {
				r.out.Waiting = append(r.out.Waiting, who)
				waiting = true
			}
		}
		if waiting {
			continue
		}
		if err := r.claim.Confirm(ctx); err != nil {
			return err
		}
		ended := true
		for _, name := range c.Files {
			i, ok := number[name]
			if !ok {
				continue // removed before
			}
			if r.needed[i] > 0 {
				r.out.Withdrawn++
				continue
			}
			if err := r.claim.Check(); err != nil {
				return err
			}
			err := r.s.RemoveObject(ctx, name)
			switch {
			case errors.Is(err, blob.ErrLocked):
				r.out.Locked++
				ended = false
			case errors.Is(err, blob.ErrNotFound):
			case err != nil:
				return err
			default:
				r.out.Removed++
				r.out.Freed += r.h.files[i].Size
			}
		}
		if !ended {
			continue
		}
		for _, name := range []string{sealed.PendingDeletePrefix + id, sealed.ActiveWritersPrefix + id} {
			if err := r.s.RemoveObject(ctx, name); err != nil && !errors.Is(err, blob.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

// repack copies what is needed out of content files that are mostly dead, so that they
// are dead when points are looked at the next time.
func (r *reclaim) repack(ctx context.Context) error {
	var w *content.Writer
	for i, p := range r.h.files {
		if !r.mostlyDead(i) || r.now().Sub(p.Made) < r.o.Grace {
			continue
		}
		if w == nil {
			w = r.s.NewWriter(ctx)
			r.o.Emit("taking content files apart that are mostly dead")
		}
		entries, err := r.h.entries(i)
		if err != nil {
			w.Abandon()
			return err
		}
		for k, o := range entries {
			if !r.keeps(i, k) {
				continue // what is kept elsewhere would make one more file that is mostly not needed
			}
			node, err := r.s.Node(ctx, o.Name)
			if err == nil {
				err = w.Rewrite(o.Name, node)
			}
			if err != nil {
				w.Abandon()
				return err
			}
		}
		r.out.CopiedOut += r.needed[i]
	}
	if w == nil {
		return nil
	}
	_, err := w.Flush(ctx)
	return err
}

// markForDelete marks content files that are not needed, and not young.
func (r *reclaim) markForDelete(ctx context.Context) error {
	c := content.PendingDelete{Created: r.s.Now().UTC()}
	for i, p := range r.h.files {
		if !p.PendingDelete && r.needed[i] == 0 && r.now().Sub(p.Made) >= r.o.Grace {
			c.Files = append(c.Files, p.Name)
		}
	}
	if len(c.Files) == 0 {
		return nil
	}
	id := sealed.NewID(8)
	if err := r.s.PutObject(ctx, r.s.ListKey(), sealed.PendingDeletePrefix+id, c); err != nil {
		return err
	}
	r.out.PendingDelete = len(c.Files)
	return r.recordActiveWriters(ctx, id)
}

// recordActiveWriters notes who is writing, after the mark is there for all to see.
func (r *reclaim) recordActiveWriters(ctx context.Context, id string) error {
	writers, err := r.s.writers(ctx, r.now())
	if err != nil {
		return err
	}
	return r.s.PutObject(ctx, r.s.ListKey(), sealed.ActiveWritersPrefix+id,
		content.ActiveWriters{Created: r.s.Now().UTC(), Writers: writers})
}
