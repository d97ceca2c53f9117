package address

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestScope(t *testing.T) {
	day := time.Date(2026, 3, 1, 0, 30, 0, 0, time.UTC)
	for _, c := range []struct {
		scope   Scope
		in, out []string
	}{
		{nil, []string{"apiary.hives"}, nil},
		{Scope{"apiary.*", "not apiary.scratch_*"}, []string{"apiary.hives"},
			[]string{"apiary.scratch_1", "market.stalls"}},
		{Scope{"not *.tmp"}, []string{"apiary.hives"}, []string{"apiary.tmp"}},
		{Scope{"fieldnotes-%Y.%m.%d on -1d", "fieldnotes-%Y.%m.%d on today"},
			[]string{"fieldnotes-2026.02.28", "fieldnotes-2026.03.01"}, []string{"fieldnotes-2026.02.27"}},
		{Scope{"log_%d* on -36h"}, []string{"log_27", "log_27b"}, []string{"log_28"}},
		{Scope{"*", "not notes-%Y on today"}, []string{"notes-2025"}, []string{"notes-2026"}},
		{Scope{"a%FFb", "wages on hold"}, []string{"a%FFb", "wages on hold"}, []string{"wages"}},
	} {
		require.NoError(t, c.scope.Check(), c.scope)
		s := c.scope.At(day)
		for _, n := range c.in {
			require.True(t, s.Match(n), "%s in %s", n, s)
		}
		for _, n := range c.out {
			require.False(t, s.Match(n), "%s in %s", n, s)
		}
	}
	for _, bad := range []string{"", "not ", "apiary.[a", "x on -1d", "x-%Y", "x-%! on today", "x-%d on -1y"} {
		require.Error(t, Scope{bad}.Check(), bad)
	}
}
