package run

import (
	"context"
	"encoding/json"
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
