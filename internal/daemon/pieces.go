package daemon

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"dexamen/internal/capture"
	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/snapshot"
	"dexamen/internal/verify"
)

// The kinds of pieces that need no cluster.
const (
	// PieceFiles reads content files for a scrub.
	PieceFiles = "files"
	// PieceCopy copies content files to a mirror.
	PieceCopy = "copy"
)

// filesEach is how many content files are a piece: about half a GiB.
const filesEach = 64

// Pieces are what does each kind of piece, but for [PieceCopy].
var Pieces = allPieces()

func allPieces() map[string]run.Piece {
	out := map[string]run.Piece{PieceFiles: run.PieceOf(checkFiles)}
	for _, of := range []map[string]run.Piece{snapshot.Pieces, capture.Pieces, moment.Pieces, restore.Pieces,
		verify.Pieces} {
		maps.Copy(out, of)
	}
	return out
}

// copyPiece is a piece of kind [PieceCopy].
type copyPiece struct {
	To    string   `json:"to"` // the mirror's name
	Files []string `json:"files"`
}

func checkFiles(ctx context.Context, r *run.Runner, _ engine.Cluster, names *[]string) (*store.FilesChecked, error) {
	out := &store.FilesChecked{}
	for _, name := range *names {
		one, err := r.Store.CheckFiles(ctx, []string{name})
		if err == nil {
			err = r.WaitForRate(ctx, int(one.Bytes))
		}
		if err != nil {
			return nil, err
		}
		out.Objects, out.Bytes = out.Objects+one.Objects, out.Bytes+one.Bytes
		out.Doubtful = append(out.Doubtful, one.Doubtful...)
	}
	return out, nil
}

func copyFiles(ctx context.Context, cfg *config.Config, r *run.Runner, p *copyPiece) (*store.FilesCopied, error) {
	to, err := cfg.Open(ctx, p.To)
	if err != nil {
		return nil, fmt.Errorf("mirror %s: %w", p.To, err)
	}
	out := &store.FilesCopied{}
	for _, name := range p.Files {
		one, err := r.Store.CopyFiles(ctx, to, []string{name})
		if err == nil {
			err = r.WaitForRate(ctx, int(one.Bytes))
		}
		if err != nil {
			return nil, err
		}
		out.Copied, out.Bytes = out.Copied+one.Copied, out.Bytes+one.Bytes
	}
	return out, nil
}

// ShareScrub has whoever is there read content files for a scrub; what they do not come to is read here.
func ShareScrub(o *store.ScrubOptions, r *run.Runner) {
	if r.Crew == nil {
		return
	}
	o.Others = func(ctx context.Context, files []string, done func([]string, *store.FilesChecked)) error {
		return shareFiles(ctx, r, PieceFiles, "reading content files", "read", files,
			func(of []string) []string { return of }, done)
	}
}

// ShareMirror has whoever is there copy content files to the mirror of a name; what they do not come to is copied
// here.
func ShareMirror(o *store.MirrorOptions, r *run.Runner, to string) {
	if r.Crew == nil {
		return
	}
	o.Others = func(ctx context.Context, files []string, done func([]string, *store.FilesCopied)) error {
		return shareFiles(ctx, r, PieceCopy, "copying content files to "+to, "copied", files,
			func(of []string) copyPiece { return copyPiece{to, of} }, done)
	}
}

// shareFiles has others do something with content files, as far as they do.
func shareFiles[P, R any](ctx context.Context, r *run.Runner, kind, what, did string, files []string,
	piece func(of []string) P, done func(of []string, r *R)) error {
	if r.Crew.Hands(ctx) == 0 {
		return nil
	}
	list := slices.Collect(slices.Chunk(files, filesEach))
	pieces := make([]P, len(list))
	for i, of := range list {
		pieces[i] = piece(of)
	}
	by, err := run.Shared(ctx, r, kind, what, pieces, func(i int, _ string, of *R) error {
		done(list[i], of)
		return nil
	})
	switch {
	case ctx.Err() != nil:
		return context.Cause(ctx)
	case err != nil:
		r.Emit(run.Warning, "what others have not %s is %s by this process alone: %v", did, did, err)
	default:
		r.Emit(run.Note, "%s %s by %s", run.Count(int64(len(files)), "content file"), did, by)
	}
	return nil
}
