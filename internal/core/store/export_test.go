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
