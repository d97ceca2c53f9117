package upkeep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// repackBelow: a content file of which less than this part is needed is taken apart.
const repackBelow = 0.4

// weigh finds how much of each content file is needed from it: of several copies of a
// node one is needed, in a content file that is not marked for deletion where there is one.
func (r *reclaim) weigh(ctx context.Context) error {
	r.needed, r.framed = make([]int64, len(r.h.files)), make([]int64, len(r.h.files))
	// Copies lie where most is needed: in what was copied out of another content file,
	// not in that one.
	share := make([]float64, len(r.h.files))
	err := r.eachNeeded(ctx, func(_ bool, copies []copyOf) {
		for _, c := range copies {
			share[c.file] += float64(c.len) / float64(r.h.files[c.file].Size)
		}
	})
	if err != nil {
		return err
	}
	kept := roaring64.New()
	err = r.eachNeeded(ctx, func(isBase bool, copies []copyOf) {
		best := copies[0]
		for _, c := range copies[1:] {
			if r.better(isBase, c, best, share) {
				best = c
			}
		}
		kept.Add(r.h.number(best))
	})
	if err != nil {
		return err
	}
	r.kept, r.live = kept, nil
	for i := range r.h.files {
		entries, err := r.h.entries(i)
		if err != nil {
			return err
		}
		r.framed[i] = frames(entries, func(int) bool { return true })
		r.needed[i] = frames(entries, func(k int) bool { return r.keeps(i, k) })
	}
	if err := r.giveUp(); err != nil {
		return err
	}
	r.out.Bytes, r.out.Dead, r.out.DeadBytes = 0, 0, 0
	for i, p := range r.h.files {
		r.out.Bytes += p.Size
		if r.needed[i] == 0 {
			r.out.Dead++
			r.out.DeadBytes += p.Size
		}
	}
	return nil
}

// eachNeeded calls visit with the copies that count of every node that is needed, in the order of names.
func (r *reclaim) eachNeeded(ctx context.Context, visit func(isBase bool, copies []copyOf)) error {
	bases, err := newNameCursor(r.bases)
	if err != nil {
		return err
	}
	var live *nameCursor
	if r.live != nil {
		if live, err = newNameCursor(r.live); err != nil {
			return err
		}
	}
	return r.h.eachNode(ctx, func(node tree.Hash, copies []copyOf) error {
		isBase, err := bases.has(node)
		if err != nil {
			return err
		}
		needed := isBase
		switch {
		case live != nil:
			var is bool
			is, err = live.has(node)
			needed = needed || is
		case !needed:
			_, needed = r.keptOf(copies) // also by one of which it has shown since that it is not there
		}
		if needed && err == nil {
			visit(isBase, r.h.counting(copies))
		}
		return err
	})
}

// keeps reports whether a content file's entry is the copy of a node that stays.
func (r *reclaim) keeps(file, entry int) bool {
	return r.kept.Contains(r.h.number(copyOf{file: uint32(file), entry: uint32(entry)}))
}

// keptOf returns which of a node's copies stays.
func (r *reclaim) keptOf(copies []copyOf) (copyOf, bool) {
	for _, c := range copies {
		if r.kept.Contains(r.h.number(c)) {
			return c, true
		}
	}
	return copyOf{}, false
}

// frames returns how many bytes of a content file's frames hold objects that count.
func frames(entries []content.Entry, counts func(entry int) bool) (n int64) {
	seen := map[uint32]bool{}
	for k, o := range entries {
		if !seen[o.FrameOff] && counts(k) {
			seen[o.FrameOff] = true
			n += int64(o.FrameLen)
		}
	}
	return n
}

// mostlyDead reports whether little is needed of what a content file holds. The file's own size says
// nothing of that: of one small node its footer is the most.
func (r *reclaim) mostlyDead(i int) bool {
	return r.h.files[i].Lasting() && r.needed[i] > 0 && r.part(i) < repackBelow
}

// part returns how much of what a content file holds is needed from it.
func (r *reclaim) part(i int) float64 {
	return float64(r.needed[i]) / float64(max(1, r.framed[i]))
}

// giveUp finds content files of which little is needed, and that little lies in others too:
// those keep it. Else what was copied out of such a file would be copied again, for ever.
func (r *reclaim) giveUp() error {
	var poor []int
	for i := range r.h.files {
		if r.mostlyDead(i) {
			poor = append(poor, i)
		}
	}
	slices.SortFunc(poor, func(a, b int) int { return cmp.Or(cmp.Compare(r.part(a), r.part(b)), cmp.Compare(a, b)) })
	gone := map[uint32]bool{}
	for _, i := range poor {
		if !r.mostlyDead(i) {
			continue // it keeps more by now
		}
		gone[uint32(i)] = true
		from, to, err := r.elsewhere(i, gone)
		if err != nil {
			return err
		}
		if from == nil {
			delete(gone, uint32(i))
			continue
		}
		files := map[uint32]bool{}
		for k := range from {
			r.kept.Remove(from[k])
			r.kept.Add(r.h.number(to[k]))
			files[to[k].file] = true
		}
		for f := range files {
			entries, err := r.h.entries(int(f))
			if err != nil {
				return err
			}
			r.needed[f] = frames(entries, func(k int) bool { return r.keeps(int(f), k) })
		}
		r.needed[i] = 0
	}
	return nil
}

// elsewhere returns the numbers of the copies that a content file keeps, and of each one in a file that is not gone
// and keeps it as well; nothing where one of them has no other.
func (r *reclaim) elsewhere(i int, gone map[uint32]bool) (from []uint64, to []copyOf, err error) {
	entries, err := r.h.entries(i)
	if err != nil {
		return nil, nil, err
	}
	for k, o := range entries {
		if !r.keeps(i, k) {
			continue
		}
		copies, err := r.h.copiesOf(o.Name)
		if err != nil {
			return nil, nil, err
		}
		copies = r.h.counting(copies)
		isBase, err := r.bases.Has(o.Name)
		if err != nil {
			return nil, nil, err
		}
		at := slices.IndexFunc(copies, func(c copyOf) bool {
			return !gone[c.file] && r.h.files[c.file].Worth() >= r.h.files[i].Worth() && (!c.patch || !isBase)
		})
		if at < 0 {
			return nil, nil, nil
		}
		from = append(from, r.h.number(copyOf{file: uint32(i), entry: uint32(k)}))
		to = append(to, copies[at])
	}
	return from, to, nil
}

// prove reads the copies that are to stay of what lies in content files that are to go.
// A content file that says it holds what it does not would have the right one removed:
// it is suspect from then on, and what it says does not count.
func (r *reclaim) prove(ctx context.Context) error {
	proven := roaring64.New()
	for {
		doubtful := roaring64.New()
		err := r.h.eachNode(ctx, func(_ tree.Hash, copies []copyOf) error {
			c, needed := r.keptOf(copies)
			if needed && slices.ContainsFunc(copies, func(c copyOf) bool { return r.needed[c.file] == 0 }) {
				doubtful.Add(r.h.number(c))
			}
			return nil
		})
		if err != nil {
			return err
		}
		doubtful.AndNot(proven)
		lies, err := r.read(ctx, doubtful, proven)
		if err != nil || len(lies) == 0 {
			return err
		}
		if err := r.s.Suspect(ctx, lies); err != nil {
			return err
		}
		if err := r.weigh(ctx); err != nil {
			return err
		}
	}
}

// read reads copies, in the order in which they lie in content files, and enters in proven those that are what they
// should be. It returns the names of content files of which one is not.
func (r *reclaim) read(ctx context.Context, copies, proven *roaring64.Bitmap) (lies []string, err error) {
	var entries []content.Entry
	file := -1
	for at := copies.Iterator(); at.HasNext(); {
		n := at.Next()
		for file < 0 || n >= uint64(r.h.first[file+1]) {
			file, entries = file+1, nil
		}
		if r.h.lies[uint32(file)] {
			continue
		}
		if entries == nil {
			if entries, err = r.h.entries(file); err != nil {
				return nil, err
			}
		}
		f := r.h.files[file]
		_, err := r.s.NodeIn(ctx, f.Name, entries[n-uint64(r.h.first[file])])
		switch {
		case err == nil:
			proven.Add(n)
		case errors.Is(err, sealed.ErrDamaged) || errors.Is(err, sealed.ErrMissing):
			f.Suspect, r.h.lies[uint32(file)] = true, true
			lies = append(lies, f.Name)
			r.o.Emit(fmt.Sprintf("%v: what lies there does not count", err))
		default:
			return nil, err
		}
	}
	return lies, nil
}

// better reports which of two copies of a node is to be kept: a base is worth
// nothing as a patch; then one counts that stays, then one that somebody made who can read,
// then one without a base, then the one in the content file that is needed more.
func (r *reclaim) better(isBase bool, c, than copyOf, share []float64) bool {
	if isBase && c.patch != than.patch {
		return !c.patch
	}
	if is, was := r.h.files[c.file].Worth(), r.h.files[than.file].Worth(); is != was {
		return is > was
	}
	if c.patch != than.patch {
		return !c.patch
	}
	return share[c.file] > share[than.file]
}
