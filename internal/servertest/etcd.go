package servertest

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
)

// Process is a server that runs for a test. It can be killed and begun again.
type Process struct {
	Address string
	t       testing.TB
	args    []string
	cmd     *exec.Cmd
	out     bytes.Buffer
	ended   chan struct{}
}

// process runs an installed server. One that is not installed is a failure.
func process(t testing.TB, address string, args ...string) *Process {
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

// Kill ends the server at once, as a power failure does.
func (p *Process) Kill() {
	_ = p.cmd.Process.Kill()
	<-p.ended
}

var given sync.Map // ports, never given twice by one process

// freePorts returns n addresses on the loopback that nothing listens on, nor on the
// ports 10000 above, where Redis servers of a cluster speak among themselves. They
// are below those that systems give to whoever asks for any, so that nobody takes
// one before its server does, or while that is down.
func freePorts(t testing.TB, n int) []string {
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

// memoryDir returns a folder in memory where there is one: many servers that write
// to one disk wait for each other.
func memoryDir(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "dexamen-test-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// EtcdOptions change a cluster from the usual.
type EtcdOptions struct {
	Members int // default 1
	// TLS: clients need certificates; CA, certificate and key in PEM files.
	CA, Certificate, Key string
}

// Etcd runs a real etcd cluster.
func Etcd(t testing.TB, o EtcdOptions) []*Process {
	t.Helper()
	n := max(o.Members, 1)
	clients, peers := freePorts(t, n), freePorts(t, n)
	var initial []string
	for i := range n {
		initial = append(initial, fmt.Sprintf("m%d=http://%s", i, peers[i]))
	}
	var out []*Process
	for i := range n {
		url := "http://" + clients[i]
		args := []string{"etcd", "--name", fmt.Sprintf("m%d", i), "--data-dir", memoryDir(t), "--listen-peer-urls",
			"http://" + peers[i], "--initial-advertise-peer-urls", "http://" + peers[i],
			"--initial-cluster", strings.Join(initial, ","), "--initial-cluster-state", "new", "--logger", "zap",
			"--log-level", "error",
			"--heartbeat-interval", "200", "--election-timeout", "2000", "--quota-backend-bytes", fmt.Sprint(4 << 30)}
		if o.CA != "" {
			url = "https://" + clients[i]
			args = append(args, "--client-cert-auth", "--trusted-ca-file", o.CA, "--cert-file", o.Certificate,
				"--key-file", o.Key)
		}
		args = append(args, "--listen-client-urls", url, "--advertise-client-urls", url)
		out = append(out, process(t, clients[i], args...))
	}
	if o.CA == "" {
		cl := EtcdClient(t, out...)
		require.Eventually(t, func() bool {
			ctx, cancel := context.WithTimeout(context.Background(), time.Second)
			defer cancel()
			_, err := cl.Get(ctx, "ready")
			return err == nil
		}, 30*time.Second, 100*time.Millisecond)
	}
	return out
}

// EtcdClient returns a plain client of members.
func EtcdClient(t testing.TB, members ...*Process) *clientv3.Client {
	t.Helper()
	cl, err := clientv3.New(clientv3.Config{
		Endpoints: addresses(members), DialTimeout: 5 * time.Second, Logger: zap.NewNop()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

// EtcdAddress returns what a cluster of these members is registered with.
func EtcdAddress(members ...*Process) string {
	return "etcd://" + strings.Join(addresses(members), ",")
}

func addresses(list []*Process) (out []string) {
	for _, p := range list {
		out = append(out, p.Address)
	}
	return out
}
