package command_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/command"
)

// TestNothingOutlivesItsTime: what a command has started ends with it, and what it leaves behind when it
// ends is not waited for.
func TestNothingOutlivesItsTime(t *testing.T) {
	mark := filepath.Join(t.TempDir(), "mark")
	ctx, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
	defer cancel()
	var said command.Tail
	cmd := command.Command(ctx, []string{"sh", "-c", "(sleep 2; touch " + mark + ") & echo begun; wait"})
	cmd.Stdout = &said
	begun := time.Now()
	require.Error(t, cmd.Run())
	require.Less(t, time.Since(begun), 2*time.Second)
	require.Equal(t, "begun", said.Line())
	time.Sleep(3 * time.Second)
	_, err := os.Stat(mark)
	require.ErrorIs(t, err, os.ErrNotExist, "what it started goes on")
}

// TestSecretsStayBehind: of the environment a command has what any program needs, and what is named.
func TestSecretsStayBehind(t *testing.T) {
	for name, value := range map[string]string{"MEADOW_SECRET": "made up", "PAGER_TOKEN": "meant", "LC_ALL": "C"} {
		t.Setenv(name, value)
	}
	has := strings.Join(command.Environment([]string{"PAGER_TOKEN"}), "\n")
	require.Contains(t, has, "PAGER_TOKEN=meant")
	require.Contains(t, has, "LC_ALL=C")
	require.Contains(t, has, "PATH=")
	require.NotContains(t, has, "made up")
}

func TestBounds(t *testing.T) {
	b := command.Bounded{Limit: 5}
	_, err := b.Write([]byte("hive"))
	require.NoError(t, err)
	_, err = b.Write([]byte("hive"))
	require.ErrorIs(t, err, command.ErrTooMuch)
	require.True(t, b.Over)
	var tail command.Tail
	for range 5000 {
		_, _ = tail.Write([]byte("weighed\n"))
	}
	_, _ = tail.Write([]byte("the last\n"))
	require.Equal(t, "the last", tail.Line())
	require.LessOrEqual(t, len(tail.String()), 4<<10)
}
