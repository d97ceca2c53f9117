package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/tree"
)

// witness says who was writing when packs were condemned.
type witness struct {
	When    time.Time `json:"when"`
	Writers []string  `json:"writers"`
}

const (
	reclaimLease = "reclaim"
)

// ReclaimOptions say how to reclaim.
type ReclaimOptions struct {
	// Grace is how long packs stay condemned before they are removed, and how
	// old they must be to be condemned (default 24 h).
	Grace time.Duration
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

// Reclaimed says what a reclaim did, or would do.
type Reclaimed struct {
	Packs     int   `json:"packs"`      // in the store
	Bytes     int64 `json:"bytes"`      // of them
	Dead      int   `json:"dead"`       // packs that no point needs
	DeadBytes int64 `json:"dead_bytes"` // of them
	Condemned int   `json:"condemned"`  // packs, now
	Removed   int   `json:"removed"`    // packs, now
	Freed     int64 `json:"freed"`      // bytes
	LetGo     int   `json:"withdrawn"`  // packs that were condemned and are needed
	Repacked  int64 `json:"repacked"`   // bytes copied out of packs that are mostly dead
	Locked    int   `json:"locked"`     // packs that are locked for now
	Leftovers int   `json:"leftovers"`  // other objects that were left behind, removed
	// Waiting names writers that must end before anything is removed.
	Waiting []string `json:"waiting,omitempty"`
}

// holding is where every copy of every node lies.
type holding struct {
	packs   []*packInfo
	objects [][]object
	bad     []string // packs whose list cannot be read
	copies  map[tree.Hash][]copyOf
}

// copyOf is one copy of a node: in which pack, and whether as a patch.
type copyOf struct {
	pack  uint32
	patch bool
}

// holdings reads the lists of all packs from the packs themselves.
func (s *Upkeep) holdings(ctx context.Context) (*holding, error) {
	condemned, err := s.condemned(ctx)
	if err != nil {
		return nil, err
	}
	suspect, err := s.suspects(ctx)
	if err != nil {
		return nil, err
	}
	h := &holding{copies: map[tree.Hash][]copyOf{}}
	err = s.blob.List(ctx, contentPrefix, func(i blob.Info) error {
		footer, err := s.readPackFooter(ctx, i.Name)
		var objects []object
		if err == nil {
			objects, err = readFooter(footer)
		}
		if errors.Is(err, ErrDamaged) {
			h.bad = append(h.bad, i.Name)
			return nil
		}
		if errors.Is(err, blob.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		id := uint32(len(h.packs))
		h.packs = append(h.packs, &packInfo{name: i.Name, size: i.Size, made: i.Made, condemned: condemned[i.Name], suspect: suspect[i.Name]})
		h.objects = append(h.objects, objects)
		for _, o := range objects {
			h.copies[o.name] = append(h.copies[o.name], copyOf{id, !o.base.IsZero()})
		}
		return nil
	})
	return h, err
}

// live returns every node that a point needs, and bases: the nodes that any copy
// of one of them is a patch of. It fails where a point cannot be read: nothing
// is removed that it may need.
func (s *Upkeep) live(ctx context.Context) (live, bases map[tree.Hash]bool, err error) {
	points, unreadable, err := s.Points(ctx, "")
	if err == nil {
		err = s.Refresh(ctx) // what these points need is listed by now
	}
	if err != nil {
		return nil, nil, err
	}
	if len(unreadable) > 0 {
		return nil, nil, remedy.With(fmt.Errorf("%w: what it needs is not known, so nothing can be removed", errors.Join(unreadable...)), remedy.Scrub, "")
	}
	live, bases = map[tree.Hash]bool{}, map[tree.Hash]bool{}
	for _, p := range points {
		for i := range p.Namespaces {
			err := tree.Nodes(ctx, s, p.Namespaces[i].Root, func(n tree.NodeInfo) (bool, error) {
				if live[n.Hash] {
					return false, nil
				}
				live[n.Hash] = true
				pl, _, ok := s.index.find(n.Hash)
				if !ok {
					return false, fmt.Errorf("point %s of %s: %s: node %s: %w; store scrub says more", p.ID, p.Cluster, p.Namespaces[i].Name, n.Hash.Short(), ErrMissing)
				}
				if pl.patch {
					bases[s.index.baseOf(n.Hash)] = true
				}
				spares, _ := s.index.spares(n.Hash)
				for _, sp := range spares {
					if sp.patch {
						bases[sp.base] = true
					}
				}
				return n.Level > 0 || pl.pieces && n.Level == 0, ctx.Err()
			})
			if err != nil {
				return nil, nil, err
			}
		}
	}
	return live, bases, nil
}

// Reclaim gives back the room of what no point needs. One at a time.
func (s *Upkeep) Reclaim(ctx context.Context, o ReclaimOptions) (_ *Reclaimed, err error) {
	if o.Grace <= 0 {
		o.Grace = 24 * time.Hour
	}
	if o.Emit == nil {
		o.Emit = func(string) {}
	}
	if s.WriteOnly() {
		return nil, fmt.Errorf("reclaim: %w", ErrWriteOnly)
	}
	var lease *Lease
	if !o.Preview {
		if o.Every > 0 {
			top, _, _, err := s.leases(ctx, reclaimLease+"/")
			if err != nil || time.Since(top[reclaimLease].ended()) < o.Every {
				return nil, err
			}
		}
		if lease, err = s.Acquire(ctx, reclaimLease); err != nil {
			return nil, err
		}
		defer func() {
			if err != nil {
				lease.Fail(context.WithoutCancel(ctx))
				return
			}
			lease.Release(context.WithoutCancel(ctx))
		}()
	}
	lists, err := s.condemnations(ctx)
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
	// Points are listed after packs and sessions: one that comes to be later
	// was made by a writer that is on the list, or that knows what is condemned.
	writers, err := s.writers(ctx)
	if err != nil {
		return nil, err
	}
	o.Emit("finding what the points need")
	live, bases, err := s.live(ctx)
	if err != nil {
		return nil, err
	}
	may, err := s.mayReclaim(ctx, o, len(live), len(h.packs))
	if err != nil {
		return nil, err
	}
	r := &reclaim{s: s, o: o, h: h, live: live, bases: bases, writers: writers, lease: lease, out: &Reclaimed{Packs: len(h.packs)}}
	r.weigh()
	if o.Preview || !may {
		return r.out, nil
	}
	// With two copies of a node one that stays is enough.
	if err := r.remove(ctx, lists); err != nil {
		return r.out, err
	}
	if err := r.repack(ctx); err != nil {
		return r.out, err
	}
	if err := r.condemn(ctx); err != nil {
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
func (s *Upkeep) mayReclaim(ctx context.Context, o ReclaimOptions, live, packs int) (bool, error) {
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
	if live > 0 || packs == 0 || o.AcceptMissing {
		return true, nil
	}
	gone, err := s.dropped(ctx)
	if err == nil && len(gone) == 0 {
		o.Emit(fmt.Sprintf("%d content files are there, no point, and no record that any was retired: nothing is removed", packs))
	}
	return len(gone) > 0, err
}

// writers names the sessions that are at work.
func (s *Upkeep) writers(ctx context.Context) ([]string, error) {
	top, _, _, err := s.leases(ctx, sessionPrefix)
	if err != nil {
		return nil, err
	}
	var out []string
	for what, e := range top {
		if e.held(time.Now()) {
			out = append(out, what)
		}
	}
	slices.Sort(out)
	return out, nil
}

type reclaim struct {
	s       *Upkeep
	o       ReclaimOptions
	h       *holding
	live    map[tree.Hash]bool
	bases   map[tree.Hash]bool // of patches that are live
	writers []string
	lease   *Lease
	out     *Reclaimed
	needed  []int64 // of each pack, bytes of frames with nodes needed from it
}

// weigh finds how much of each pack is needed from it: of several copies of a
// node one is needed, in a pack that is not condemned where there is one.
func (r *reclaim) weigh() {
	r.needed = make([]int64, len(r.h.packs))
	// Copies lie where most is needed: in what was copied out of another pack,
	// not in that one.
	share := make([]float64, len(r.h.packs))
	for i, p := range r.h.packs {
		for _, o := range r.h.objects[i] {
			if r.live[o.name] || r.bases[o.name] {
				share[i] += float64(o.len) / float64(p.size)
			}
		}
	}
	from := map[tree.Hash]uint32{}
	for hash, copies := range r.h.copies {
		if !r.live[hash] && !r.bases[hash] {
			continue
		}
		best := copies[0]
		for _, c := range copies[1:] {
			if r.better(hash, c, best, share) {
				best = c
			}
		}
		from[hash] = best.pack
	}
	r.out.Bytes, r.out.Dead, r.out.DeadBytes = 0, 0, 0
	for i, p := range r.h.packs {
		seen := map[uint32]bool{}
		for _, o := range r.h.objects[i] {
			if id, ok := from[o.name]; ok && id == uint32(i) {
				if !seen[o.frameOff] {
					seen[o.frameOff] = true
					r.needed[i] += int64(o.frameLen)
				}
			}
		}
		r.out.Bytes += p.size
		if r.needed[i] == 0 {
			r.out.Dead++
			r.out.DeadBytes += p.size
		}
	}
}

// better reports which of two copies of a node is to be kept: a base is worth
// nothing as a patch; then one counts that stays, then one without a base, then
// the one in the pack that is needed more.
func (r *reclaim) better(hash tree.Hash, c, than copyOf, share []float64) bool {
	if r.bases[hash] && c.patch != than.patch {
		return !c.patch
	}
	if is, was := r.h.packs[c.pack].lasts(), r.h.packs[than.pack].lasts(); is != was {
		return is
	}
	if c.patch != than.patch {
		return !c.patch
	}
	return share[c.pack] > share[than.pack]
}

// remove ends condemnations whose time has come.
func (r *reclaim) remove(ctx context.Context, lists map[string]condemnation) error {
	number := map[string]int{}
	for i, p := range r.h.packs {
		number[p.name] = i
	}
	for id, c := range lists {
		var w witness
		err := r.s.get(ctx, activeWritersPrefix+id, &w)
		if errors.Is(err, blob.ErrNotFound) || errors.Is(err, ErrDamaged) {
			// The process ended in between, and who was writing is not known:
			// those who are now are noted instead, and the time begins anew.
			_ = r.s.remove(ctx, activeWritersPrefix+id)
			if err := r.testify(ctx, id); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if time.Since(w.When) < r.o.Grace {
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
		ended := true
		for _, name := range c.Packs {
			i, ok := number[name]
			if !ok {
				continue // removed before
			}
			if r.needed[i] > 0 {
				r.out.LetGo++
				continue
			}
			if err := r.lease.Check(); err != nil {
				return err
			}
			err := r.s.remove(ctx, name)
			switch {
			case errors.Is(err, blob.ErrLocked):
				r.out.Locked++
				ended = false
			case errors.Is(err, blob.ErrNotFound):
			case err != nil:
				return err
			default:
				r.out.Removed++
				r.out.Freed += r.h.packs[i].size
			}
		}
		if !ended {
			continue
		}
		for _, name := range []string{pendingDeletePrefix + id, activeWritersPrefix + id} {
			if err := r.s.remove(ctx, name); err != nil && !errors.Is(err, blob.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

// repackBelow: a pack of which less than this part is needed is taken apart.
const repackBelow = 0.4

// repack copies what is needed out of packs that are mostly dead, so that they
// are dead when points are looked at the next time.
func (r *reclaim) repack(ctx context.Context) error {
	var w *Writer
	for i, p := range r.h.packs {
		if !p.lasts() || r.needed[i] == 0 || float64(r.needed[i]) >= repackBelow*float64(p.size) || time.Since(p.made) < r.o.Grace {
			continue
		}
		if w == nil {
			w = r.s.NewWriter(ctx)
			r.o.Emit("taking packs apart that are mostly dead")
		}
		for _, o := range r.h.objects[i] {
			if !r.live[o.name] && !r.bases[o.name] {
				continue
			}
			node, err := r.s.Node(ctx, o.name)
			if err == nil {
				err = w.again(o.name, node)
			}
			if err != nil {
				w.Abandon()
				return err
			}
		}
		r.out.Repacked += r.needed[i]
	}
	if w == nil {
		return nil
	}
	_, err := w.Flush(ctx)
	return err
}

// condemn marks packs that are not needed, and not young.
func (r *reclaim) condemn(ctx context.Context) error {
	c := condemnation{When: time.Now().UTC()}
	for i, p := range r.h.packs {
		if !p.condemned && r.needed[i] == 0 && time.Since(p.made) >= r.o.Grace {
			c.Packs = append(c.Packs, p.name)
		}
	}
	if len(c.Packs) == 0 {
		return nil
	}
	id := newID(8)
	if err := r.s.put(ctx, r.s.listKey(), pendingDeletePrefix+id, c); err != nil {
		return err
	}
	r.out.Condemned = len(c.Packs)
	return r.testify(ctx, id)
}

// testify notes who is writing, after the condemnation is there for all to see.
func (r *reclaim) testify(ctx context.Context, id string) error {
	writers, err := r.s.writers(ctx)
	if err != nil {
		return err
	}
	return r.s.put(ctx, r.s.listKey(), activeWritersPrefix+id, witness{When: time.Now().UTC(), Writers: writers})
}

// leftovers removes what crashes leave behind, and has one index object say
// what many say.
func (r *reclaim) leftovers(ctx context.Context) error {
	s := r.s
	top, number, old, err := s.leases(ctx, "")
	if err != nil {
		return err
	}
	for what, e := range top {
		if private(what) && !e.held(time.Now()) {
			old = append(old, leaseName(what, number[what]))
		}
	}
	if err := r.clearSuspects(ctx); err != nil {
		return err
	}
	indexes := 0
	names := map[string]bool{}
	var parity []string
	err = s.blob.List(ctx, "", func(i blob.Info) error {
		names[i.Name] = true
		switch {
		case strings.HasPrefix(i.Name, listingsPrefix):
			indexes++
		case strings.HasPrefix(i.Name, checkPrefix) && time.Since(i.Made) > time.Hour:
			old = append(old, i.Name)
		case strings.HasPrefix(i.Name, parityPrefix) && time.Since(i.Made) > max(r.o.Grace, time.Hour):
			parity = append(parity, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, p := range parity {
		if of := strings.TrimPrefix(p, parityPrefix); !always(of) && !names[of] && !names[repairedPrefix+of] {
			old = append(old, p)
		}
	}
	for _, n := range old {
		if err := s.blob.Remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) && !errors.Is(err, blob.ErrLocked) {
			return err
		}
		r.out.Leftovers++
	}
	if indexes > 16 || r.out.Removed > 0 {
		_, _, _, err = s.RebuildIndex(ctx)
	}
	return err
}

// clearSuspects forgets suspicions of packs that are gone.
func (r *reclaim) clearSuspects(ctx context.Context) error {
	there := map[string]bool{}
	for _, p := range r.h.packs {
		there[p.name] = true
	}
	for _, p := range r.h.bad {
		there[p] = true
	}
	var over []string
	err := r.s.blob.List(ctx, suspectPrefix, func(i blob.Info) error {
		var c suspicion
		if err := r.s.get(ctx, i.Name, &c); err != nil {
			return nil // it does no harm
		}
		if !slices.ContainsFunc(c.Packs, func(p string) bool { return there[p] }) {
			over = append(over, i.Name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, n := range over {
		if err := r.s.remove(ctx, n); err != nil && !errors.Is(err, blob.ErrNotFound) {
			return err
		}
	}
	return nil
}
