package integration_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/demo"
)

// TestScale snapshots two shards with the built program while a writer goes
// on, beside a bare driver's scan of the same servers, and tells the program's
// peak memory: at DEXAMEN_SCALE documents (make scale: five million) and at a
// tenth of them.
func TestScale(t *testing.T) {
	documents := 60_000
	if s := os.Getenv("DEXAMEN_SCALE"); s != "" {
		documents, _ = strconv.Atoi(s)
	}
	bin := builtBinary(t)
	small := scaleAt(t, bin, documents/10)
	large := scaleAt(t, bin, documents)
	t.Logf("peak memory: %d MiB at %d documents, %d MiB at ten times as many", small, documents/10, large)
	require.Less(t, large, 150, "limits.memory is 128 MiB")
}

func scaleAt(t *testing.T, bin string, documents int) (peakMiB int) {
	uri, members := standIn(t, bin, "--name", "orchard", "--shards", "2", "--members", "1", "--log-mib", "64")
	cl := connect(t, uri)
	data := demo.Telemetry{Seed: 1, Documents: documents}
	begun := time.Now()
	require.NoError(t, data.Fill(ctx, cl))
	filled := time.Since(begun)

	begun = time.Now()
	var bare int64
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, addr := range members[1:] { // the config server comes first
		wg.Go(func() {
			n := bareScan(t, addr)
			mu.Lock()
			defer mu.Unlock()
			bare += n
		})
	}
	wg.Wait()
	floor := time.Since(begun)

	dir := t.TempDir()
	config := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } "+
		"}\nclusters:\n  orchard: { address: %q }\nlimits: { memory: 128MiB, temp: %q }\n", "file://"+dir+"/larder", dir+
		"/larder.key", uri, dir), 0o600))
	run := func(args ...string) (peak int) {
		cmd := exec.Command(bin, append([]string{"--config", config, "--quiet", "--json"}, args...)...)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		for {
			select {
			case err := <-ended:
				require.NoError(t, err, out.String())
				return peak
			case <-time.After(10 * time.Millisecond):
				peak = max(peak, peakOf(cmd.Process.Pid))
			}
		}
	}
	run("store", "create", "larder")
	stop, cancel := context.WithCancel(ctx)
	wrote := 0
	wg.Go(func() {
		for seed := uint64(1); stop.Err() == nil; seed++ {
			if data.Work(ctx, cl, seed, 50) == nil {
				wrote += 50
			}
		}
	})
	begun = time.Now()
	peakMiB = run("snapshot", "orchard")
	took := time.Since(begun)
	cancel()
	wg.Wait()
	t.Logf("%d documents (filled in %s): a bare scan of both shards %s, the snapshot %s (%.1f times), %d writes "+
		"meanwhile, peak memory %d MiB",
		bare, filled.Round(time.Millisecond), floor.Round(time.Millisecond), took.Round(time.Millisecond),
		took.Seconds()/floor.Seconds(), wrote, peakMiB)
	note(t, cl)
	run("capture", "orchard")
	run("verify", "orchard@latest", "--live", "orchard") // exit code 3 where anything differs
	return peakMiB
}

// peakOf returns the most memory a process has held so far, in MiB, as the kernel
// keeps it for the program (what is kept for the process includes its
// parent's, from before the program began).
func peakOf(pid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0 // it has ended
	}
	for _, line := range strings.Split(string(status), "\n") {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			kib, _ := strconv.Atoi(strings.TrimSpace(strings.TrimSuffix(rest, "kB")))
			return kib >> 10
		}
	}
	return 0
}

// bareScan reads all that one server holds of the readings.
func bareScan(t *testing.T, addr string) (n int64) {
	cl, err := mongo.Connect(options.Client().ApplyURI("mongodb://" + addr + "/?directConnection=true"))
	require.NoError(t, err)
	defer func() { _ = cl.Disconnect(ctx) }()
	cur, err := cl.Database(demo.TelemetryDatabase).Collection("readings").Find(ctx, bson.D{},
		options.Find().SetBatchSize(4096))
	require.NoError(t, err)
	for cur.Next(ctx) {
		n++
	}
	require.NoError(t, cur.Err())
	return n
}

// standIn runs a stand-in in a process of its own, on ports that are free.
func standIn(t *testing.T, bin string, args ...string) (uri string, members []string) {
	for range 20 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		port := l.Addr().(*net.TCPAddr).Port
		require.NoError(t, l.Close())
		cmd := exec.Command(bin, append([]string{"--json", "sim", "--port", fmt.Sprint(port)}, args...)...)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		var up struct {
			Address string   `json:"address"`
			Members []string `json:"members"`
		}
		if err := json.NewDecoder(bufio.NewReader(out)).Decode(&up); err != nil || up.Address == "" {
			_ = cmd.Wait() // another one has a port of the row
			continue
		}
		go func() { _, _ = io.Copy(io.Discard, out) }()
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return strings.TrimSuffix(up.Address, "/") + "/", up.Members
	}
	t.Fatal("no ports are free")
	return "", nil
}
