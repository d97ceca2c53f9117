package upkeep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// repackBelow: a content file of which less than this part is needed is taken apart.
const repackBelow = 0.4

// weigh finds how much of each content file is needed from it: of several copies of a
// node one is needed, in a content file that is not marked for deletion where there is one.
func (r *reclaim) weigh() {
	r.needed, r.framed = make([]int64, len(r.h.files)), make([]int64, len(r.h.files))
	for i := range r.h.files {
		r.framed[i] = r.frames(i, func(tree.Hash) bool { return true })
	}
	// Copies lie where most is needed: in what was copied out of another content file,
	// not in that one.
	share := make([]float64, len(r.h.files))
	for i, p := range r.h.files {
		for _, o := range r.h.objects[i] {
			if r.live[o.Name] || r.bases[o.Name] {
				share[i] += float64(o.Len) / float64(p.Size)
			}
		}
	}
	r.kept = map[tree.Hash]copyOf{}
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
		r.kept[hash] = best
	}
	for i := range r.h.files {
		r.needed[i] = r.neededFrom(i)
	}
	r.giveUp()
	r.out.Bytes, r.out.Dead, r.out.DeadBytes = 0, 0, 0
	for i, p := range r.h.files {
		r.out.Bytes += p.Size
		if r.needed[i] == 0 {
			r.out.Dead++
			r.out.DeadBytes += p.Size
		}
	}
}

// neededFrom returns how many bytes of frames are needed from a content file.
func (r *reclaim) neededFrom(i int) (n int64) {
	return r.frames(i, func(name tree.Hash) bool {
		c, ok := r.kept[name]
		return ok && c.file == uint32(i)
	})
}

// frames returns how many bytes of a content file's frames hold objects that count.
func (r *reclaim) frames(i int, counts func(tree.Hash) bool) (n int64) {
	seen := map[uint32]bool{}
	for _, o := range r.h.objects[i] {
		if !seen[o.FrameOff] && counts(o.Name) {
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
func (r *reclaim) giveUp() {
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
		moved := map[tree.Hash]copyOf{}
		gone[uint32(i)] = true
		for _, o := range r.h.objects[i] {
			if c, ok := r.kept[o.Name]; !ok || c.file != uint32(i) {
				continue
			}
			at := slices.IndexFunc(r.h.copies[o.Name], func(c copyOf) bool {
				return !gone[c.file] && r.h.files[c.file].Worth() >= r.h.files[i].Worth() &&
					(!c.patch || !r.bases[o.Name])
			})
			if at < 0 {
				moved, gone[uint32(i)] = nil, false
				break
			}
			moved[o.Name] = r.h.copies[o.Name][at]
		}
		to := map[uint32]bool{}
		for hash, c := range moved {
			r.kept[hash] = c
			to[c.file] = true
		}
		for f := range to {
			r.needed[f] = r.neededFrom(int(f))
		}
		if moved != nil {
			r.needed[i] = 0
		}
	}
}

// prove reads the copies that are to stay of what lies in content files that are to go.
// A content file that says it holds what it does not would have the right one removed:
// it is suspect from then on, and what it says does not count.
func (r *reclaim) prove(ctx context.Context) error {
	proven := map[tree.Hash]copyOf{}
	for {
		var doubtful []tree.Hash
		listed := map[tree.Hash]bool{}
		for i := range r.h.files {
			if r.needed[i] > 0 {
				continue
			}
			for _, o := range r.h.objects[i] {
				c, needed := r.kept[o.Name]
				if p, ok := proven[o.Name]; needed && (!ok || p != c) && !listed[o.Name] {
					listed[o.Name] = true
					doubtful = append(doubtful, o.Name)
				}
			}
		}
		// In the order in which they lie there.
		slices.SortFunc(doubtful, func(a, b tree.Hash) int {
			x, y := r.kept[a], r.kept[b]
			return cmp.Or(cmp.Compare(x.file, y.file), cmp.Compare(x.entry, y.entry))
		})
		lies := map[uint32]bool{}
		for _, hash := range doubtful {
			c := r.kept[hash]
			file := r.h.files[c.file]
			if lies[c.file] {
				continue
			}
			_, err := r.s.NodeIn(ctx, file.Name, r.h.objects[c.file][c.entry])
			switch {
			case err == nil:
				proven[hash] = c
			case errors.Is(err, sealed.ErrDamaged) || errors.Is(err, sealed.ErrMissing):
				lies[c.file] = true
				file.Suspect = true
				r.o.Emit(fmt.Sprintf("%v: what lies there does not count", err))
			default:
				return err
			}
		}
		if len(lies) == 0 {
			return nil
		}
		var names []string
		for i := range lies {
			names = append(names, r.h.files[i].Name)
		}
		if err := r.s.Suspect(ctx, names); err != nil {
			return err
		}
		for hash, copies := range r.h.copies {
			left := slices.DeleteFunc(slices.Clone(copies), func(c copyOf) bool { return lies[c.file] })
			if len(left) > 0 { // else it is all there is
				r.h.copies[hash] = left
			}
		}
		r.weigh()
	}
}

// better reports which of two copies of a node is to be kept: a base is worth
// nothing as a patch; then one counts that stays, then one that somebody made who can read,
// then one without a base, then the one in the content file that is needed more.
func (r *reclaim) better(hash tree.Hash, c, than copyOf, share []float64) bool {
	if r.bases[hash] && c.patch != than.patch {
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
