package upkeep

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// FilesCopied is what another process has copied of content files.
type FilesCopied struct {
	Copied  int      `json:"copied"`
	Bytes   int64    `json:"bytes"`
	Damaged []string `json:"damaged,omitempty"`
}

// CopyFiles copies content files to a mirror, for a mirroring that another process does.
func (s *Upkeep) CopyFiles(ctx context.Context, to blob.Backend, names []string) (*FilesCopied, error) {
	d, err := sealed.ReadDescriptor(ctx, to)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", to, err)
	}
	if !s.SameDescriptor(d) {
		return nil, fmt.Errorf("%s: %w (%s)", to, ErrOtherStore, d.ID)
	}
	m := &mirror{s: s, to: to, o: MirrorOptions{Parallel: 2}, out: &Mirrored{}}
	for _, n := range names {
		if !strings.HasPrefix(n, sealed.ContentPrefix) {
			return nil, fmt.Errorf("%s is no content file", n)
		}
	}
	if err := m.copyAll(ctx, names); err != nil {
		return nil, err
	}
	return &FilesCopied{Copied: m.out.Copied, Bytes: m.out.Bytes, Damaged: m.out.Damaged}, nil
}

// copyFiles copies content files, of which others may copy some. Which of them are there then the mirror itself
// tells.
func (m *mirror) copyFiles(ctx context.Context, names []string) error {
	missing := slices.DeleteFunc(slices.Clone(names), func(n string) bool { _, there := m.sizes[n]; return there })
	if m.o.Others == nil || len(missing) < fewestShared {
		return m.copyAll(ctx, names)
	}
	theirs := map[string]bool{}
	err := m.o.Others(ctx, missing, func(of []string, r *FilesCopied) {
		for _, n := range of {
			theirs[n] = true
		}
		m.out.Copied, m.out.Bytes = m.out.Copied+r.Copied, m.out.Bytes+r.Bytes
		if m.o.Emit != nil {
			m.o.Emit(of[0], m.out.Copied, m.out.Bytes)
		}
	})
	if err != nil {
		return err
	}
	there := map[string]bool{}
	err = m.to.List(ctx, sealed.ContentPrefix, func(i blob.Info) error { there[i.Name] = i.Size > 0; return nil })
	if err != nil {
		return err
	}
	// What is damaged here was not copied by them either: it is tried, and told, here.
	return m.copyAll(ctx, slices.DeleteFunc(slices.Clone(names), func(n string) bool { return theirs[n] && there[n] }))
}
