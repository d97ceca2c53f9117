package sealed

import (
	"time"

	"dexamen/internal/core/process"
)

// Clock is what tells a store the time. The zero value is the machine's.
type Clock struct {
	// Now is the wall clock, which may be set at any time.
	Now func() time.Time
	// Awake goes on while the machine sleeps, and nobody sets it.
	Awake func() time.Duration
}

// Now returns the time by this machine's wall clock.
func (s *Objects) Now() time.Time {
	if s.Limits.Clock.Now != nil {
		return s.Limits.Clock.Now()
	}
	return time.Now()
}

// Since returns how long ago a time was by this machine's wall clock.
func (s *Objects) Since(t time.Time) time.Duration { return s.Now().Sub(t) }

func (s *Objects) awake() time.Duration {
	if s.Limits.Clock.Awake != nil {
		return s.Limits.Clock.Awake()
	}
	return process.Awake()
}
