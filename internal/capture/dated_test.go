package capture

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
)

// TestOneTimeForAllShards: whatever the times by which shards were read, each reaches the time at which
// the ends were asked for, with all that is before its end and nothing that came later.
func TestOneTimeForAllShards(t *testing.T) {
	t.Parallel()
	asked := time.UnixMicro(1_795_852_400_003_500)
	cut := time.UnixMilli(asked.UnixMilli() + 1)
	for _, readAfter := range []time.Duration{-500 * time.Microsecond, 0, 400 * time.Microsecond, time.Millisecond,
		time.Second} {
		for _, late := range []int{0, 1, 3} {
			t.Run(fmt.Sprint(readAfter, late), func(t *testing.T) {
				cp := &shardCapture{all: &allShards{own: true, asked: asked}, end: "c"}
				at := time.UnixMilli(asked.Add(readAfter).UnixMilli()).UTC() // as logs tell it
				changes := []record.Change{{At: "a", Wall: at.UnixMilli()}, {At: "c", Wall: at.UnixMilli()}}
				for i := range late {
					changes = append(changes,
						record.Change{At: record.Position(fmt.Sprint("d", i)), Wall: at.UnixMilli()})
				}
				reach := cp.dated(changes, record.Mark{Position: changes[len(changes)-1].At, Wall: at})
				require.False(t, reach.Before(cut), "what reaches its end reaches the time of all")
				for _, c := range changes {
					require.Equal(t, c.At <= cp.end, !c.Time().After(cut), "%s", c.At)
					require.False(t, c.Time().After(reach))
				}
			})
		}
	}
}
