package cli_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestATraceIsWritten: profiles are there when a command has ended, also one that failed, and are not written over.
func TestATraceIsWritten(t *testing.T) {
	t.Parallel()
	for name, args := range map[string][]string{"done": {"version"}, "failed": {"points", "meadow"}} {
		dir := filepath.Join(t.TempDir(), name)
		run := func() (string, int) {
			cmd := exec.Command(binary, append([]string{"--trace-to", dir}, args...)...)
			cmd.Dir, cmd.Env = t.TempDir(), append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir())
			out, _ := cmd.CombinedOutput()
			return string(out), cmd.ProcessState.ExitCode()
		}
		out, code := run()
		require.Equal(t, name == "done", code == 0, out)
		require.Contains(t, out, "of the processor")
		for _, f := range []string{"processor.pprof", "allocations.pprof"} {
			text, err := os.ReadFile(filepath.Join(dir, f))
			require.NoError(t, err)
			require.True(t, bytes.HasPrefix(text, []byte{0x1f, 0x8b}), "profiles are compressed by gzip")
		}
		out, code = run()
		require.Equal(t, 2, code, out)
		require.Contains(t, out, "name a folder without profiles")
	}
}
