// Package redistest runs real Redis servers for tests.
package redistest

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dexamen/internal/servertest"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
)

// Start runs a real Redis server without persistence; args are further settings,
// as on its command line.
func Start(t testing.TB, args ...string) *servertest.Process {
	t.Helper()
	return redisAt(t, servertest.FreePorts(t, 1)[0], args...)
}

// StartVersion runs another server that speaks the protocol, given by its file.
func StartVersion(t testing.TB, file string, args ...string) *servertest.Process {
	t.Helper()
	return serverAt(t, file, servertest.FreePorts(t, 1)[0], args...)
}

func redisAt(t testing.TB, address string, args ...string) *servertest.Process {
	t.Helper()
	return serverAt(t, "redis-server", address, args...)
}

func serverAt(t testing.TB, file, address string, args ...string) *servertest.Process {
	t.Helper()
	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	all := []string{file, "--bind", host, "--port", port, "--dir", servertest.MemoryDir(t), "--save", "",
		"--appendonly", "no",
		"--repl-diskless-sync-delay", "0", "--repl-backlog-size", "16mb", "--daemonize", "no"}
	p := servertest.StartProcess(t, address, append(all, args...)...)
	cl := goredis.NewClient(&goredis.Options{Addr: address})
	defer cl.Close()
	require.Eventually(t, func() bool {
		err := cl.Ping(context.Background()).Err()
		return err == nil || strings.HasPrefix(err.Error(), "NOAUTH")
	}, 20*time.Second, 20*time.Millisecond)
	return p
}

// Client returns a plain client of a server.
func Client(t testing.TB, p *servertest.Process) *goredis.Client {
	t.Helper()
	cl := goredis.NewClient(&goredis.Options{Addr: p.Address})
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

// StartReplica runs a replica of a server, and waits until it has its content.
func StartReplica(t testing.TB, of *servertest.Process, args ...string) *servertest.Process {
	t.Helper()
	host, port, _ := net.SplitHostPort(of.Address)
	p := Start(t, append([]string{"--replicaof", host, port}, args...)...)
	cl := Client(t, p)
	require.Eventually(t, func() bool {
		return strings.Contains(cl.Info(context.Background(), "replication").Val(), "master_link_status:up")
	}, 30*time.Second, 50*time.Millisecond)
	return p
}

// StartCluster runs a cluster of n primaries with a replica each: first the
// primaries, then their replicas in the same order.
func StartCluster(t testing.TB, n int, args ...string) []*servertest.Process {
	t.Helper()
	var out []*servertest.Process
	for _, addr := range servertest.FreePorts(t, 2*n) {
		out = append(out, redisAt(t, addr,
			append([]string{"--cluster-enabled", "yes", "--cluster-node-timeout", "2000", "--cluster-config-file",
				"nodes.conf"}, args...)...))
	}
	cli := []string{"--cluster", "create"}
	for _, p := range out {
		cli = append(cli, p.Address)
	}
	cli = append(cli, "--cluster-replicas", "1", "--cluster-yes")
	said, err := exec.Command("redis-cli", cli...).CombinedOutput()
	require.NoError(t, err, "%s", said)
	require.Eventually(t, func() bool {
		for _, p := range out {
			cl := goredis.NewClient(&goredis.Options{Addr: p.Address})
			info := cl.ClusterInfo(context.Background()).Val()
			repl := cl.Info(context.Background(), "replication").Val()
			_ = cl.Close()
			if !strings.Contains(info, "cluster_state:ok") ||
				strings.Contains(repl, "role:slave") && !strings.Contains(repl, "master_link_status:up") {
				return false
			}
		}
		return true
	}, 60*time.Second, 100*time.Millisecond)
	return out
}

// ClusterClient returns a plain client of a cluster.
func ClusterClient(t testing.TB, list []*servertest.Process) *goredis.ClusterClient {
	t.Helper()
	// A machine that stands still makes its members take each other for dead a while.
	cl := goredis.NewClusterClient(&goredis.ClusterOptions{Addrs: servertest.Addresses(list),
		MaxRedirects: 40, MaxRetryBackoff: time.Second})
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

// Address returns what a server or cluster is registered with.
func Address(list ...*servertest.Process) string {
	return "redis://" + strings.Join(servertest.Addresses(list), ",")
}

// StartSentinel runs a sentinel that watches a primary as name.
func StartSentinel(t testing.TB, of *servertest.Process, name string) *servertest.Process {
	t.Helper()
	host, port, _ := net.SplitHostPort(of.Address)
	addr := servertest.FreePorts(t, 1)[0]
	_, own, _ := net.SplitHostPort(addr)
	conf := filepath.Join(t.TempDir(), "sentinel.conf")
	require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "bind 127.0.0.1\nport %s\nsentinel monitor %s %s %s "+
		"1\nsentinel down-after-milliseconds %s 1000\nsentinel failover-timeout %s 3000\n", own, name, host, port,
		name, name), 0o600))
	p := servertest.StartProcess(t, addr, "redis-sentinel", conf)
	cl := goredis.NewSentinelClient(&goredis.Options{Addr: addr})
	defer cl.Close()
	require.Eventually(t, func() bool {
		return cl.GetMasterAddrByName(context.Background(), name).Err() == nil
	}, 30*time.Second, 100*time.Millisecond)
	return p
}
