//go:build !linux

package process

import "time"

var begun = time.Now()

// Awake returns the time since the program began: a clock that nobody sets.
func Awake() time.Duration { return time.Since(begun) }
