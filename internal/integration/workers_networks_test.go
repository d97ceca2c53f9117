package integration_test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/servertest"
	"dexamen/internal/workers/workerstest"
)

// hub is the address of this machine that every network of a test reaches.
const hub = "10.201.255.1"

// network is a network namespace, joined with this machine by a link of its own.
type network struct {
	t    *testing.T
	name string
	link string // this machine's end
}

// networks makes n of them, each with a link of so many megabits a second towards it. They need root, ip and tc.
func networks(t *testing.T, n, megabits int) (out []*network) {
	ip(t, "addr", "replace", hub+"/32", "dev", "lo")
	t.Cleanup(func() { _ = exec.Command("ip", "addr", "del", hub+"/32", "dev", "lo").Run() })
	for i := range n {
		w := &network{t: t, name: fmt.Sprintf("dexamen-%d", i), link: fmt.Sprintf("dxm%d", i)}
		_ = exec.Command("ip", "netns", "del", w.name).Run() // of a test that was killed
		ip(t, "netns", "add", w.name)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", w.name).Run() })
		here, there := fmt.Sprintf("10.201.%d.1", i), fmt.Sprintf("10.201.%d.2", i)
		ip(t, "link", "add", w.link, "type", "veth", "peer", "name", "eth0", "netns", w.name)
		ip(t, "addr", "add", here+"/24", "dev", w.link)
		ip(t, "link", "set", w.link, "up")
		ip(t, "-n", w.name, "addr", "add", there+"/24", "dev", "eth0")
		ip(t, "-n", w.name, "link", "set", "eth0", "up")
		ip(t, "-n", w.name, "link", "set", "lo", "up")
		ip(t, "-n", w.name, "route", "add", "default", "via", here)
		if megabits > 0 {
			out, err := exec.Command("tc", "qdisc", "add", "dev", w.link, "root", "tbf", "rate",
				fmt.Sprintf("%dmbit", megabits), "burst", "64kb", "latency", "400ms").CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		out = append(out, w)
	}
	return out
}

func ip(t *testing.T, args ...string) {
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(t, err, "ip %s: %s", strings.Join(args, " "), out)
}

// command is one that is run within the network.
func (w *network) command(args ...string) *exec.Cmd {
	return exec.Command("ip", append([]string{"netns", "exec", w.name}, args...)...)
}

// TestWorkersScale measures a snapshot by 1, 2, 4 and 8 workers, each in a network of its own with a link of
// a fixed rate, of a real etcd server of which the links are the bottleneck. DEXAMEN_SCALING=1 has it run
// (make workers): it needs root, ip and tc.
func TestWorkersScale(t *testing.T) {
	if os.Getenv("DEXAMEN_SCALING") == "" {
		t.Skip("a measurement: make workers")
	}
	const megabits, keys, size = 16, 96_000, 4000
	bin, dir := builtBinary(t), t.TempDir()
	nets := networks(t, 8, megabits)
	_, clientPort, err := net.SplitHostPort(servertest.FreeAddress(t))
	require.NoError(t, err)
	peer := servertest.FreeAddress(t)
	url := "http://" + hub + ":" + clientPort
	servertest.StartProcess(t, hub+":"+clientPort, "etcd", "--name", "m0", "--data-dir", servertest.MemoryDir(t),
		"--listen-peer-urls", "http://"+peer, "--initial-advertise-peer-urls", "http://"+peer,
		"--initial-cluster", "m0=http://"+peer, "--listen-client-urls", "http://0.0.0.0:"+clientPort,
		"--advertise-client-urls", url, "--logger", "zap", "--log-level", "error")
	cl, err := clientv3.New(clientv3.Config{Endpoints: []string{url}, DialTimeout: 10 * time.Second})
	require.NoError(t, err)
	defer cl.Close()
	rng := rand.New(rand.NewPCG(1, 1))
	value := make([]byte, size)
	for i := 0; i < keys; {
		var ops []clientv3.Op
		for range 100 {
			for j := range value {
				value[j] = byte(rng.Uint32())
			}
			ops = append(ops, clientv3.OpPut(fmt.Sprintf("/yard/%06d", i), string(value)))
			i++
		}
		_, err := cl.Txn(ctx).Then(ops...).Commit()
		require.NoError(t, err)
	}
	queue := workerstest.Start(t, 1, func(o *server.Options) { o.Host = "0.0.0.0" })
	where := strings.Replace(queue.Addresses()[0], "127.0.0.1", hub, 1)
	config := func(name, site string) string {
		path := filepath.Join(dir, name+".yaml")
		require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: %[1]s/larder.key } }
clusters: { barn: { address: "etcd://%[2]s:%[3]s" } }
limits: { memory: 128MiB, temp: %[1]s }
workers:
  name: %[4]s
  labels: { site: %[5]s }
  servers: [%[6]q]
  parallel: 2
  readers_per_cluster: 64
  rules: [ { clusters: ["*"], only: { site: away } } ]
`, dir, hub, clientPort, name, site, where), 0o600))
		return path
	}
	desk := config("desk", "here")
	run := func(args ...string) {
		out, err := exec.Command(bin, append([]string{"--config", desk, "--quiet"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	run("store", "create", "larder")
	var first float64
	t.Logf("%d keys of %d bytes, links of %d Mbit/s", keys, size, megabits)
	joined := 0
	for _, n := range []int{1, 2, 4, 8} { // the first one stores, the others find
		for ; joined < n; joined++ {
			name := "away-" + strconv.Itoa(joined)
			cmd := nets[joined].command(bin, "--config", config(name, "away"), "workers", "join")
			servertest.Run(t, "worker", cmd)
			t.Cleanup(func() { _ = cmd.Process.Signal(syscall.SIGTERM) })
		}
		require.Eventually(t, func() bool {
			out, err := exec.Command(bin, "--config", desk, "--json", "workers", "list").Output()
			return err == nil && strings.Count(string(out), `"name": "away-`) == n
		}, 20*time.Second, 100*time.Millisecond)
		messages, bytes := queue.Traffic()
		begun, busy, all := time.Now(), 0.0, 0.0
		b0, a0 := processors(t)
		run("snapshot", "barn")
		busy, all = processors(t)
		m, b := queue.Traffic()
		took := time.Since(begun).Seconds()
		if n == 1 {
			first = took
		}
		t.Logf("%d workers: %.1f s, %.1f MiB/s, %.2f of linear; processors busy %.0f %%; %d messages of %d KiB to the "+
			"servers", n, took, keys*size/took/(1<<20), first/took/float64(n), 100*(busy-b0)/(all-a0), m-messages,
			(b-bytes)>>10)
	}
}

// processors returns how much time this machine's processors have been busy, and all of it.
func processors(t *testing.T) (busy, all float64) {
	text, err := os.ReadFile("/proc/stat")
	require.NoError(t, err)
	line, _, _ := strings.Cut(string(text), "\n")
	for i, f := range strings.Fields(line)[1:] {
		n, err := strconv.ParseFloat(f, 64)
		require.NoError(t, err)
		if all += n; i != 3 && i != 4 { // neither idle nor waiting
			busy += n
		}
	}
	return busy, all
}
