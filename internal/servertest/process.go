// Package servertest starts real servers' processes for tests. A server that is not
// there is a failure, never a reason to pass a test by. What each engine's server
// needs lies beside the engine, in its own test package.
package servertest

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// given are ports, never given twice by one process.
var given sync.Map

// FreeAddress returns a loopback address at which nothing listens.
func FreeAddress(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, l.Close())
	return l.Addr().String()
}

// Run starts a server that is ended with the test; what it said is logged
// where the test failed.
func Run(t testing.TB, what string, cmd *exec.Cmd) {
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

// Process is a server that runs for a test. It can be killed and begun again.
type Process struct {
	Address string
	t       testing.TB
	args    []string
	cmd     *exec.Cmd
	out     bytes.Buffer
	ended   chan struct{}
}

// StartProcess runs an installed server. One that is not installed is a failure.
func StartProcess(t testing.TB, address string, args ...string) *Process {
	t.Helper()
	path, err := exec.LookPath(args[0])
	require.NoError(t, err, "the real server is not installed; run: make servers")
	args[0] = path
	p := &Process{Address: address, t: t, args: args}
	p.Begin()
	t.Cleanup(func() {
		p.Kill()
		if t.Failed() {
			t.Logf("%s at %s: …%s", filepath.Base(path), address, p.out.String()[max(0, p.out.Len()-1500):])
		}
	})
	return p
}

// Begin runs the server, again after Kill.
func (p *Process) Begin() {
	p.t.Helper()
	p.cmd = exec.Command(p.args[0], p.args[1:]...)
	p.cmd.Env = os.Environ()
	p.cmd.Stdout, p.cmd.Stderr = &p.out, &p.out
	require.NoError(p.t, p.cmd.Start())
	p.ended = make(chan struct{})
	go func(cmd *exec.Cmd, ended chan struct{}) { _ = cmd.Wait(); close(ended) }(p.cmd, p.ended)
}

// Arg returns what follows an argument of the server's command line.
func (p *Process) Arg(name string) string {
	p.t.Helper()
	i := slices.Index(p.args, name)
	require.GreaterOrEqual(p.t, i, 0, "%s is not given", name)
	return p.args[i+1]
}

// PID returns the id of the server's process.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Kill ends the server at once, as a power failure does.
func (p *Process) Kill() {
	_ = p.cmd.Process.Kill()
	<-p.ended
}

// FreePorts returns n addresses on the loopback that nothing listens on, nor on the
// ports 10000 above, where Redis servers of a cluster speak among themselves. They
// are below those that systems give to whoever asks for any, so that nobody takes
// one before its server does, or while that is down.
func FreePorts(t testing.TB, n int) []string {
	t.Helper()
	var out []string
	for try := 0; len(out) < n; try++ {
		require.Less(t, try, 1000, "no free ports")
		port := 10000 + rand.IntN(10000)
		if _, taken := given.LoadOrStore(port, true); taken {
			continue
		}
		free := true
		for _, p := range []int{port, port + 10000} {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p))
			if err != nil {
				free = false
				break
			}
			defer l.Close()
		}
		if free {
			out = append(out, fmt.Sprintf("127.0.0.1:%d", port))
		}
	}
	return out
}

// MemoryDir returns a folder in memory where there is one: many servers that write
// to one disk wait for each other.
func MemoryDir(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "dexamen-test-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

func Addresses(list []*Process) (out []string) {
	for _, p := range list {
		out = append(out, p.Address)
	}
	return out
}

// BuiltBinary finds a server that `make servers` made.
func BuiltBinary(t testing.TB, env, name string) string {
	t.Helper()
	bin := os.Getenv(env)
	if bin == "" {
		_, here, _, _ := runtime.Caller(0)
		bin = filepath.Join(filepath.Dir(here), "../../testbed/bin", name)
	}
	_, err := os.Stat(bin)
	require.NoError(t, err, "the real server is not built; run: make servers")
	return bin
}
