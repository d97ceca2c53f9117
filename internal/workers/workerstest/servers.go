// Package workerstest runs NATS servers for tests.
package workerstest

import (
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"dexamen/internal/servertest"
)

// Servers are NATS servers with JetStream in the process of a test, one or a cluster.
type Servers struct {
	opts    []*server.Options
	running []*server.Server
}

// Start starts n servers that end with the test; edit, where not nil, changes their options.
func Start(t testing.TB, n int, edit func(*server.Options)) *Servers {
	s := &Servers{}
	dir := t.TempDir()
	var routes []*url.URL
	var ports []int
	for i, address := range servertest.FreePorts(t, 2*n) {
		_, text, err := net.SplitHostPort(address)
		require.NoError(t, err)
		port, err := strconv.Atoi(text)
		require.NoError(t, err)
		if ports = append(ports, port); i%2 == 1 {
			routes = append(routes, &url.URL{Scheme: "nats", Host: address})
		}
	}
	for i := range n {
		o := &server.Options{ServerName: fmt.Sprintf("n%d", i+1), Host: "127.0.0.1", Port: ports[2*i], JetStream: true,
			StoreDir: filepath.Join(dir, fmt.Sprint(i)), NoSigs: true, NoLog: true}
		if n > 1 {
			o.Cluster = server.ClusterOpts{Name: "tests", Host: "127.0.0.1", Port: ports[2*i+1]}
			o.Routes = routes
		}
		if edit != nil {
			edit(o)
		}
		s.opts = append(s.opts, o)
		s.running = append(s.running, nil)
		s.Begin(t, i)
	}
	t.Cleanup(func() {
		for i := range s.running {
			s.Kill(i)
		}
	})
	if n > 1 {
		require.Eventually(t, func() bool {
			for _, r := range s.running {
				if r.JetStreamIsLeader() {
					return len(r.JetStreamClusterPeers()) == n
				}
			}
			return false
		}, 60*time.Second, 50*time.Millisecond, "the servers choose a leader")
	}
	return s
}

// Begin starts a server that is not there, with what it kept.
func (s *Servers) Begin(t testing.TB, i int) {
	if s.running[i] != nil {
		return
	}
	o := *s.opts[i]
	r, err := server.NewServer(&o)
	require.NoError(t, err)
	r.Start()
	require.True(t, r.ReadyForConnections(30*time.Second))
	s.running[i] = r
}

// Kill ends a server; what it kept stays.
func (s *Servers) Kill(i int) {
	if r := s.running[i]; r != nil {
		r.Shutdown()
		r.WaitForShutdown()
		s.running[i] = nil
	}
}

// Leader returns the server that leads the others.
func (s *Servers) Leader() int {
	for i, r := range s.running {
		if r != nil && r.JetStreamIsLeader() {
			return i
		}
	}
	return 0
}

// Traffic returns how many messages the servers have taken so far, and their bytes.
func (s *Servers) Traffic() (messages, bytes int64) {
	for _, r := range s.running {
		if r == nil {
			continue
		}
		if v, err := r.Varz(nil); err == nil {
			messages, bytes = messages+v.InMsgs, bytes+v.InBytes
		}
	}
	return messages, bytes
}

// Addresses returns where the servers listen.
func (s *Servers) Addresses() (out []string) {
	for _, o := range s.opts {
		out = append(out, fmt.Sprintf("nats://127.0.0.1:%d", o.Port))
	}
	return out
}
