package servertest

import (
	"bytes"
	"net"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// freeAddress returns a loopback address at which nothing listens.
func freeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	return l.Addr().String()
}

// start starts a server that is ended with the test; what it said is logged
// where the test failed.
func start(t testing.TB, what string, cmd *exec.Cmd) {
	t.Helper()
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("%s: %.2000s", what, out.String())
		}
	})
}
