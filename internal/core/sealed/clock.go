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

// Sight is when something was seen, by the wall clock and by one that goes on while the machine sleeps.
type Sight struct {
	wall  time.Time
	awake time.Duration
}

// Look returns what is to be kept of now, before something is looked at.
func (s *Objects) Look() Sight { return Sight{s.Now(), s.awake()} }

// Stale reports whether others may take it for over what somebody has been at since then.
func (s *Objects) Stale(seen Sight) bool {
	const long = claimTime / 2
	return s.Since(seen.wall).Abs() > long || s.awake()-seen.awake > long
}
