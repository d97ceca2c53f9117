package run

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dexamen/internal/engine"
)

// Crew does pieces of a job in other processes. While there is one, [Runner.Rate] is the share of each piece.
type Crew interface {
	// Hands returns how many pieces those who are there work on at once; zero where nobody is.
	Hands(ctx context.Context) int
	// Do has pieces of one kind done, each once or more often, and calls done with what came of each,
	// in any order, one at a time. What names them for people. It may be called several times at once.
	Do(ctx context.Context, kind, what string, pieces []json.RawMessage,
		done func(i int, worker string, result json.RawMessage) error) error
}

// Piece does a piece of a job that another process has. It may be done more than once, also at the same
// time by two processes. c is nil for a job on a store alone.
type Piece func(ctx context.Context, e *Runner, c engine.Cluster, data json.RawMessage) (json.RawMessage, error)

// PieceOf returns what does pieces that are told as P, and whose outcome is R.
func PieceOf[P, R any](do func(ctx context.Context, e *Runner, c engine.Cluster, p *P) (*R, error)) Piece {
	return func(ctx context.Context, e *Runner, c engine.Cluster, data json.RawMessage) (json.RawMessage, error) {
		var p P
		if err := json.Unmarshal(data, &p); err != nil {
			return nil, fmt.Errorf("what is to be done makes no sense: %w", err)
		}
		r, err := do(ctx, e, c, &p)
		if err != nil {
			return nil, err
		}
		return json.Marshal(r)
	}
}

// Shared has pieces done by the Runner's crew and returns the names of those who did them. Done is called with
// what came of each, in any order, one at a time.
func Shared[P, R any](ctx context.Context, e *Runner, kind, what string, pieces []P,
	done func(i int, worker string, r *R) error) (by string, err error) {
	var list []json.RawMessage
	for i := range pieces {
		data, err := json.Marshal(&pieces[i])
		if err != nil {
			return "", err
		}
		list = append(list, data)
	}
	names := map[string]bool{}
	err = e.Crew.Do(ctx, kind, what, list, func(i int, worker string, result json.RawMessage) error {
		var r R
		if err := json.Unmarshal(result, &r); err != nil {
			return fmt.Errorf("%s: what worker %s says of it makes no sense: %w", what, worker, err)
		}
		names[worker] = true
		return done(i, worker, &r)
	})
	return strings.Join(slices.Sorted(maps.Keys(names)), ", "), err
}

// PartsPerHand is into how many parts of about one size work is cut for each that can be done at once, before
// [Pieces] puts them together.
const PartsPerHand = 32

// Pieces puts parts that follow each other, and are of about one size, together into what is done at once: large
// pieces at first, of which little must be said, then ever smaller ones, down to one part, so that all hands end at
// about the same time. No piece is more than a quarter of a hand's share, as it is lost with who does it.
func Pieces[T any](parts []T, hands int, join func(first, last T) T) []T {
	var out []T
	for len(parts) > 0 {
		n := max(1, len(parts)/(4*max(1, hands)))
		out = append(out, join(parts[0], parts[n-1]))
		parts = parts[n:]
	}
	return out
}

// Alone returns a Runner that shares nothing.
func (e *Runner) Alone() *Runner {
	if e.Crew == nil {
		return e
	}
	own := *e
	own.Crew = nil
	return &own
}
