package snapshot

import (
	"bytes"
	"context"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// replacements are edits of a tree that come group by group: what the tree has of a
// group goes, but for what is put. One goroutine tells them while another merges.
type replacements struct {
	ctx   context.Context
	src   tree.Source
	was   tree.Root
	edits chan edit
	err   error // set before edits is closed
	now   edit
	// old are the keys that the tree has of the group that is told now, and have not been
	// passed.
	old [][]byte
}

type edit struct {
	key, value []byte
	keep       bool
}

func (e *replacements) send(x edit) error {
	select {
	case e.edits <- x:
		return nil
	case <-e.ctx.Done():
		return context.Cause(e.ctx)
	}
}

// passOld removes what the tree has of the group before a key, or all of it.
func (e *replacements) passOld(before []byte) error {
	for len(e.old) > 0 && (before == nil || bytes.Compare(e.old[0], before) < 0) {
		if err := e.send(edit{key: e.old[0]}); err != nil {
			return err
		}
		e.old = e.old[1:]
	}
	return nil
}

func (e *replacements) replace(prefix []byte) error {
	if err := e.passOld(nil); err != nil {
		return err
	}
	for key, err := range tree.KeysFrom(e.ctx, e.src, e.was, prefix) {
		if err != nil {
			return err
		}
		if !bytes.HasPrefix(key, prefix) {
			break
		}
		e.old = append(e.old, bytes.Clone(key))
	}
	return nil
}

func (e *replacements) put(r record.Record) error {
	if err := e.passOld(r.Key); err != nil {
		return err
	}
	if len(e.old) > 0 && bytes.Equal(e.old[0], r.Key) {
		e.old = e.old[1:]
	}
	return e.send(edit{bytes.Clone(r.Key), bytes.Clone(r.Value), true})
}

// end says that all has been told, or why it could not be.
func (e *replacements) end(err error) {
	if err == nil {
		err = e.passOld(nil)
	}
	e.err = err
	close(e.edits)
}

// drain waits for the teller to end.
func (e *replacements) drain() {
	for range e.edits { //nolint:revive // nothing is left to be done with them
	}
}

// NextKey implements [tree.Edits].
func (e *replacements) NextKey(context.Context) ([]byte, bool, error) {
	x, ok := <-e.edits
	if !ok {
		return nil, false, e.err
	}
	e.now = x
	return x.key, true, nil
}

// Blind implements [tree.Blind].
func (e *replacements) Blind() {}

// Edit implements [tree.Edits].
func (e *replacements) Edit(context.Context, []byte, bool) ([]byte, bool, error) {
	return e.now.value, e.now.keep, nil
}
