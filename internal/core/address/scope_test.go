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
		{Scope{"fieldnotes-{-1d:%Y.%m.%d}", "fieldnotes-{%Y.%m.%d}"},
			[]string{"fieldnotes-2026.02.28", "fieldnotes-2026.03.01"}, []string{"fieldnotes-2026.02.27"}},
		{Scope{"log_{-36h:%d}*"}, []string{"log_27", "log_27b"}, []string{"log_28"}},
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
	for _, bad := range []string{"", "not ", "apiary.[a", "x-{tomorrow:%d}", "x-{-1d}", "x-{%!}"} {
		require.Error(t, Scope{bad}.Check(), bad)
	}
}
