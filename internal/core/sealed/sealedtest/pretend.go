// Package sealedtest has other processes pretend to be at work, for tests.
package sealedtest

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/process"
	"dexamen/internal/core/sealed"
)

// PretendClaim has another process of this machine hold a claim.
func PretendClaim(t testing.TB, s *sealed.Objects, what string, pid int) *sealed.Claim {
	l, err := s.Acquire(context.Background(), what)
	require.NoError(t, err)
	close(l.Stop)
	<-l.Done
	l.Entry.PID, l.Entry.Identity.Started = pid, process.Started(pid)
	require.NotEmpty(t, l.Entry.Identity.Started, "this system does not tell whether a process runs")
	require.NoError(t, l.Next(context.Background(), time.Hour))
	return l
}

// StandStill has the process that writes to a store have stood still for longer
// than its claim.
func StandStill(t testing.TB, s *sealed.Objects) {
	require.NotNil(t, s.Session, "nothing was written yet")
	s.Session.Mu.Lock()
	defer s.Session.Mu.Unlock()
	s.Session.Awake -= 2 * s.Session.Length
}
