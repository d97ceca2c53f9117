package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// PretendLease has another process of this machine hold a lease.
func PretendLease(t testing.TB, s *Store, what string, pid int) *Lease {
	l, err := s.Acquire(context.Background(), what)
	require.NoError(t, err)
	close(l.stop)
	<-l.done
	l.entry.Process, l.entry.Alive = pid, born(pid)
	require.NotEmpty(t, l.entry.Alive, "this system does not tell whether a process runs")
	require.NoError(t, l.next(context.Background(), time.Hour))
	return l
}
