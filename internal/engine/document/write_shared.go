package document

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

var _ engine.SharedWriter = (*writer)(nil)

// ShareWrites implements [engine.SharedWriter]: of stages that have a name of their own, in which an _id is
// there once.
func (w *writer) ShareWrites(_ context.Context, ns record.Namespace) ([]byte, error) {
	_, coll, _ := strings.Cut(ns.Name, ".")
	if ns.Kind == kindSeries || !strings.HasPrefix(coll, StagePrefix) {
		return nil, nil
	}
	return []byte("stage"), nil
}

// WriteShared implements [engine.SharedWriter]. That the restore has ended shows in that the stage is gone, which
// servers would make anew: it is looked for before each batch.
func (w *writer) WriteShared(ctx context.Context, _ []byte, ns record.Namespace, recs []record.Record) error {
	now, err := w.CurrentNamespace(ctx, ns.Name)
	if err != nil || !bytes.Equal(now.Ident, ns.Ident) {
		return fmt.Errorf("%s: %w: the stage is not there any more", ns.Name, errors.Join(engine.ErrClaimLost, err))
	}
	return w.writeBy(ctx, w.insertAgain, ns.Name, recs)
}
