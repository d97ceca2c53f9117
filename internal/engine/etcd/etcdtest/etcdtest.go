// Package etcdtest runs real etcd servers for tests.
package etcdtest

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"dexamen/internal/servertest"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
)

// Options change a cluster from the usual.
type Options struct {
	Members int // default 1
	// TLS: clients need certificates; CA, certificate and key in PEM files.
	CA, Certificate, Key string
	// Args are more arguments of each server; of one that is given twice the last counts.
	Args []string
}

// Start runs a real etcd cluster.
func Start(t testing.TB, o Options) []*servertest.Process {
	t.Helper()
	n := max(o.Members, 1)
	clients, peers := servertest.FreePorts(t, n), servertest.FreePorts(t, n)
	var initial []string
	for i := range n {
		initial = append(initial, fmt.Sprintf("m%d=http://%s", i, peers[i]))
	}
	var out []*servertest.Process
	for i := range n {
		url := "http://" + clients[i]
		args := []string{"etcd", "--name", fmt.Sprintf("m%d", i), "--data-dir", servertest.MemoryDir(t),
			"--listen-peer-urls",
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
		out = append(out, servertest.StartProcess(t, clients[i], append(args, o.Args...)...))
	}
	if o.CA == "" {
		waitFor(t, Client(t, out...))
	}
	return out
}

// StartAt runs a server of another cluster, of one member, where one was that has ended.
func StartAt(t testing.TB, was *servertest.Process, token string) *servertest.Process {
	t.Helper()
	url := "http://" + was.Address
	p := servertest.StartProcess(t, was.Address, "etcd", "--name", "m0", "--data-dir", servertest.MemoryDir(t),
		"--listen-peer-urls", was.Arg("--listen-peer-urls"), "--initial-advertise-peer-urls",
		was.Arg("--listen-peer-urls"), "--initial-cluster", was.Arg("--initial-cluster"), "--initial-cluster-token",
		token,
		"--logger", "zap", "--log-level", "error", "--listen-client-urls", url, "--advertise-client-urls", url)
	waitFor(t, Client(t, p))
	return p
}

func waitFor(t testing.TB, cl *clientv3.Client) {
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_, err := cl.Get(ctx, "ready")
		return err == nil
	}, 30*time.Second, 100*time.Millisecond)
}

// Client returns a plain client of members.
func Client(t testing.TB, members ...*servertest.Process) *clientv3.Client {
	t.Helper()
	cl, err := clientv3.New(clientv3.Config{
		Endpoints: servertest.Addresses(members), DialTimeout: 5 * time.Second, Logger: zap.NewNop()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

// Address returns what a cluster of these members is registered with.
func Address(members ...*servertest.Process) string {
	return "etcd://" + strings.Join(servertest.Addresses(members), ",")
}
