package upkeep

import (
	"context"
	"slices"
	"strings"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/tree"
)

// FilesChecked is what another process has found of content files and their parity.
type FilesChecked struct {
	// Doubtful are those with which something may be wrong, or that were not read: they are to be
	// looked at once more. All others are as they were written.
	Doubtful []string `json:"doubtful,omitempty"`
	Objects  int      `json:"objects"` // read and found right
	Bytes    int64    `json:"bytes"`
}

// CheckFiles reads content files, with their parity, for a scrub that another process does.
func (s *Upkeep) CheckFiles(ctx context.Context, names []string) (*FilesChecked, error) {
	out := &FilesChecked{}
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if objects, size, ok := s.fileIsRight(ctx, name); ok {
			out.Objects, out.Bytes = out.Objects+objects, out.Bytes+size
		} else {
			out.Doubtful = append(out.Doubtful, name)
		}
	}
	return out, ctx.Err()
}

// fileIsRight reads one content file and its parity.
func (s *Upkeep) fileIsRight(ctx context.Context, name string) (objects int, size int64, ok bool) {
	if !strings.HasPrefix(name, sealed.ContentPrefix) {
		return 0, 0, false
	}
	a := &scrubber{s: s, out: &ScrubReport{}, bad: map[tree.Hash]string{}, prints: map[string]sealed.Fingerprint{}}
	list := []string{name}
	if _, more := s.ParityOf(name); more > 0 {
		list = append(list, sealed.ParityPrefix+name)
	}
	for _, n := range list {
		data, err := s.Blob.Read(ctx, n)
		if err != nil {
			return 0, 0, false
		}
		if _, err := a.check(ctx, n, data); err != nil || a.staleParity(n, data) != nil {
			return 0, 0, false
		}
		size += int64(len(data))
	}
	return len(list), size, len(a.bad) == 0
}

// fewestShared is how many content files are worth being read by others.
const fewestShared = 8

// byOthers has other processes read the content files whose turn it is, and returns those that they found right:
// they and their parity are not read here.
func (a *scrubber) byOthers(ctx context.Context, infos []blob.Info) (map[string]bool, error) {
	right := map[string]bool{}
	if a.o.Others == nil {
		return right, nil
	}
	var names []string
	for _, i := range infos {
		if strings.HasPrefix(i.Name, sealed.ContentPrefix) && a.theirTurn(i.Name) {
			names = append(names, i.Name)
		}
	}
	if len(names) < fewestShared {
		return right, nil
	}
	return right, a.o.Others(ctx, names, func(of []string, r *FilesChecked) {
		for _, n := range of {
			right[n] = !slices.Contains(r.Doubtful, n)
		}
		a.out.Objects, a.out.Bytes = a.out.Objects+r.Objects, a.out.Bytes+r.Bytes
		a.o.Emit(of[0], a.out.Objects, a.out.Bytes)
	})
}
