package daemon

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/notify"
)

// TestABurstIsTold: while a log is captured continuously, a burst of deletions that is not
// usual is told within seconds, once, with the address of what was there just before; what is
// done every hour is not.
func TestABurstIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		y := newTestEnv(t, `snapshot: every 6h, capture: continuous, keep: { every_moment: 7d }`)
		var mu sync.Mutex
		var told []notify.Alert
		_, stop := y.daemon(func(_ context.Context, a notify.Alert) error {
			mu.Lock()
			defer mu.Unlock()
			if a.About == "burst" || a.About == "drop" {
				told = append(told, a)
			}
			return nil
		})
		heard := func() []notify.Alert {
			mu.Lock()
			defer mu.Unlock()
			return told
		}
		put := func(n int, value string) { y.field.put(fmt.Sprintf("hive-%04d", n), value) }
		for n := range 2000 {
			put(n, "thriving")
		}
		time.Sleep(time.Minute)
		for hour := range 8 {
			for n := range 30 { // what is usual
				put(hour*30+n, "")
			}
			time.Sleep(time.Hour)
		}
		require.Empty(t, heard())
		before, _ := y.field.state()
		time.Sleep(time.Minute)
		y.field.mu.Lock() // nobody reads the log before all are there
		for n := range 700 {
			y.field.putLocked(fmt.Sprintf("hive-%04d", 1000+n), "")
		}
		y.field.mu.Unlock()
		begun := time.Now()
		for len(heard()) == 0 && time.Since(begun) < time.Minute {
			time.Sleep(time.Second)
		}
		require.Len(t, heard(), 1)
		require.Less(t, time.Since(begun), 15*time.Second, "ten of which the cluster takes to give its log")
		a := heard()[0]
		require.Equal(t, "burst", a.About)
		require.Contains(t, a.Text, "700 deletes")
		require.Contains(t, a.Do, "meadow@log:")
		require.Contains(t, a.Text, "usual there are up to 30")
		time.Sleep(2 * time.Hour)
		require.Len(t, heard(), 1, "it is told once, and does not end")
		stop()
		require.NotEmpty(t, before)
	})
}
