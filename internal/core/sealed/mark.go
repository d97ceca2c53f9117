package sealed

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dexamen/internal/core/blob"
)

func (s *Objects) MarkName(cluster, what string) string {
	return marksPrefix + s.NamePart("cluster", cluster) + "/" + what
}

// PutMark makes a mark; v is kept as JSON. [blob.ErrExists]: it is there.
func (s *Objects) PutMark(ctx context.Context, cluster, what string, v any) error {
	if err := CheckClusterName(cluster); err != nil {
		return err
	}
	return s.PutObject(ctx, s.ListKey(), s.MarkName(cluster, what), v)
}

// Mark reads a mark; ok is false where there is none.
func (s *Objects) Mark(ctx context.Context, cluster, what string, v any) (ok bool, err error) {
	err = s.GetObject(ctx, s.MarkName(cluster, what), v)
	if errors.Is(err, blob.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// RemoveMark takes a mark away.
func (s *Objects) RemoveMark(ctx context.Context, cluster, what string) error {
	return s.RemoveObject(ctx, s.MarkName(cluster, what))
}

// Marks calls fn with the name of each mark of a cluster that begins with prefix,
// and with what reads its content.
func (s *Objects) Marks(ctx context.Context, cluster, prefix string,
	fn func(what string, read func(v any) error) error) error {
	folder := s.MarkName(cluster, "")
	return s.Blob.List(ctx, folder+prefix, func(i blob.Info) error {
		return fn(i.Name[len(folder):], func(v any) error { return s.GetObject(ctx, i.Name, v) })
	})
}

// CheckClusterName refuses cluster names that could not be kept in a store.
func CheckClusterName(name string) error {
	if err := blob.CheckName(name); err != nil || strings.Contains(name, "/") || len(name) > 64 {
		return fmt.Errorf("cluster name %q: use up to 64 letters, digits, '-', '_' and '.', not beginning with '.'",
			name)
	}
	return nil
}
