package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/process"
)

// PretendLease has another process of this machine hold a lease.
func PretendLease(t testing.TB, s *Store, what string, pid int) *Lease {
	l, err := s.Acquire(context.Background(), what)
	require.NoError(t, err)
	close(l.stop)
	<-l.done
	l.entry.PID, l.entry.Started = pid, process.Started(pid)
	require.NotEmpty(t, l.entry.Started, "this system does not tell whether a process runs")
	require.NoError(t, l.next(context.Background(), time.Hour))
	return l
}

// StandStill has the process that writes to a store have stood still for longer
// than its lease.
func StandStill(t testing.TB, s *Store) {
	require.NotNil(t, s.session, "nothing was written yet")
	s.session.mu.Lock()
	defer s.session.mu.Unlock()
	s.session.awake -= 2 * s.session.length
}
