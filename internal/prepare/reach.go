package prepare

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// StallLimit is how long a log that is waited for may stand still.
var StallLimit = 5 * time.Minute

// WaitForEnd waits until behind names no shard, of which it gives how far each has
// come. It nudges shards that are idle, says what is waited for when that takes
// a while, and gives up when nothing has moved for StandsStill.
func WaitForEnd(ctx context.Context, e *run.Runner, l engine.Logged, several bool, until string,
	behind func() map[string]record.Position) error {
	n, nudges := l.(engine.Nudger)
	pause, refused, told := 20*time.Millisecond, false, false
	moved, was := time.Now(), map[string]record.Position{}
	for {
		late := behind()
		if len(late) == 0 {
			return nil
		}
		if !maps.Equal(late, was) {
			moved, was = time.Now(), late
		}
		names := strings.Join(slices.Sorted(maps.Keys(late)), ", ")
		if !told && time.Since(moved) > 5*time.Second {
			told = true
			e.Emit(run.Note, "waiting for the log of %s to be %s; it has stood still for 5s", names, until)
		}
		if time.Since(moved) > StallLimit {
			return fmt.Errorf("the log of %s has stood still for %s and is not %s: is a majority of its members up, "+
				"and do they agree on the time? Any write to it lets this go on; run it again after that", names,
				StallLimit, until)
		}
		if several && nudges {
			for shard := range late {
				if err := n.Nudge(ctx, shard); err != nil && !refused && ctx.Err() == nil {
					refused = true
					e.Emit(run.Note, "shard %s is idle and could not be made to write to its log; waiting until it "+
						"does by itself: %v", shard, err)
				}
			}
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
		pause = min(2*pause, time.Second)
	}
}
