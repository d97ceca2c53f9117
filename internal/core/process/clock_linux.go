package process

import (
	"time"

	"golang.org/x/sys/unix"
)

// Awake returns the time since the system was started, also while it slept: a
// clock that nobody sets.
func Awake() time.Duration {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Since(begun)
	}
	return time.Duration(ts.Nano())
}

var begun = time.Now()
