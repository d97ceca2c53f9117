package integration_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/capture"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/run"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/snapshot"
)

// keyScale is how many keys the measurements use: few in a test, DEXAMEN_KEYS in
// make keys.
func keyScale(t testing.TB) int {
	n := 5000
	if s := os.Getenv("DEXAMEN_KEYS"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	return n
}

// usage is what a run of the program took.
type usage struct {
	wall, cpu time.Duration
	peak      int // MiB
	out       string
}

func (u usage) String() string {
	return fmt.Sprintf("%.1f s wall, %.1f s CPU, peak %d MiB", u.wall.Seconds(), u.cpu.Seconds(), u.peak)
}

// program runs the built program on a store and two clusters of its own, and
// tells its time and its peak memory in MiB.
func program(t testing.TB, from, to string) func(args ...string) (time.Duration, int) {
	run := measuredProgram(t, from, to, "memory: 128MiB, ")
	return func(args ...string) (time.Duration, int) { u := run(args...); return u.wall, u.peak }
}

// measuredProgram is program with all that is measured, and with limits as they are given.
func measuredProgram(t testing.TB, from, to string, limits ...string) func(args ...string) usage {
	return measuredClusters(t, fmt.Sprintf("address: %q", from), fmt.Sprintf("address: %q", to), limits...)
}

// measuredClusters is measuredProgram for clusters as the configuration says what they are.
func measuredClusters(t testing.TB, from, to string, limits ...string) func(args ...string) usage {
	bin, dir := builtBinary(t), t.TempDir()
	config := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } "+
		"}\nclusters:\n  from: { %s }\n  to: { %s }\nlimits: { %stemp: %q }\n",
		"file://"+dir+"/larder", dir+"/larder.key", from, to, strings.Join(limits, ""), dir), 0o600))
	run := measuredWith(t, bin, config)
	run("store", "create", "larder")
	return run
}

// measuredWith runs a program with a configuration; how everything is may be told by exit codes 3 and 4. Below
// DEXAMEN_PROFILES, where set, each run leaves the profiles of where its CPU time and memory went.
func measuredWith(t testing.TB, bin, config string) func(args ...string) usage {
	return func(args ...string) usage {
		global := []string{"--config", config, "--quiet", "--json"}
		if dir := os.Getenv("DEXAMEN_PROFILES"); dir != "" {
			dir, err := os.MkdirTemp(dir, args[0]+"-*")
			require.NoError(t, err)
			global = append(global, "--trace-to", dir)
		}
		cmd := exec.Command(bin, append(global, args...)...)
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		begun := time.Now()
		require.NoError(t, cmd.Start())
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		peak := 0
		for {
			select {
			case err := <-ended:
				if err != nil && (args[0] == "status" || args[0] == "due") {
					require.Contains(t, []int{3, 4}, cmd.ProcessState.ExitCode(), "%v\n%.4000s", args, out.String())
				} else {
					require.NoError(t, err, "%v\n%.4000s", args, out.String())
				}
				return usage{time.Since(begun), cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime(), peak,
					out.String()}
			case <-time.After(10 * time.Millisecond):
				peak = max(peak, peakOf(cmd.Process.Pid))
			}
		}
	}
}

// redisLoad returns the commands that make n keys of all types, as bytes.
func redisLoad(n int) []byte {
	r := rand.New(rand.NewPCG(3, 3))
	var b bytes.Buffer
	cmd := func(args ...string) {
		fmt.Fprintf(&b, "*%d\r\n", len(args))
		for _, a := range args {
			fmt.Fprintf(&b, "$%d\r\n%s\r\n", len(a), a)
		}
	}
	text := func() string {
		const letters = "abcdefghijklmnopqrstuvwxyz     "
		s := make([]byte, 40+r.IntN(160))
		for i := range s {
			s[i] = letters[r.IntN(len(letters))]
		}
		return string(s)
	}
	for i := range n {
		k := fmt.Sprintf("stall:%07d", i)
		switch i % 10 {
		case 0, 1, 2, 3, 4:
			cmd("SET", k, text())
		case 5:
			cmd("RPUSH", k, text(), strconv.Itoa(i), text())
		case 6:
			cmd("SADD", k, strconv.Itoa(i), strconv.Itoa(i+7), text())
		case 7:
			cmd("HSET", k, "name", text(), "price", strconv.Itoa(i), "note", text())
		case 8:
			cmd("ZADD", k, "1.5", text(), strconv.Itoa(i), "b")
		case 9:
			cmd("XADD", k, "1-1", "text", text())
		}
	}
	return b.Bytes()
}

// pipeline sends commands as fast as a server takes them: the floor of a restore.
func pipeline(t testing.TB, address string, commands []byte, n int) time.Duration {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	begun := time.Now()
	go func() { _, _ = conn.Write(commands) }()
	r := bufio.NewReaderSize(conn, 1<<20)
	for range n {
		line, err := r.ReadString('\n')
		require.NoError(t, err)
		require.NotEqual(t, byte('-'), line[0], line)
		if line[0] == '$' {
			_, err = r.ReadString('\n')
			require.NoError(t, err)
		}
	}
	return time.Since(begun)
}

// bareReceiver takes a server's content as a replica does, and drops it: the
// floor of a snapshot. What it takes is given to each.
func bareReceiver(t testing.TB, address string, each func([]byte)) (time.Duration, int64) {
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	begun := time.Now()
	r := bufio.NewReaderSize(conn, 1<<20)
	_, err = io.WriteString(conn, "REPLCONF capa eof capa psync2\r\n")
	require.NoError(t, err)
	line, err := r.ReadString('\n') // with an answer to come a server refuses what follows
	require.NoError(t, err)
	require.Equal(t, "+OK\r\n", line)
	_, err = io.WriteString(conn, "PSYNC ? -1\r\n")
	require.NoError(t, err)
	for {
		line, err := r.ReadString('\n')
		require.NoError(t, err)
		mark, ok := strings.CutPrefix(strings.TrimSpace(line), "$EOF:")
		if !ok {
			continue
		}
		n, tail, buf := int64(0), []byte{}, make([]byte, 1<<20)
		for {
			m, err := r.Read(buf)
			require.NoError(t, err)
			n += int64(m)
			each(buf[:m])
			// The mark is the last that comes before an acknowledgement.
			if tail = append(tail, buf[max(0, m-40):m]...); bytes.Contains(tail, []byte(mark)) {
				return time.Since(begun), n
			}
			tail = tail[max(0, len(tail)-40):]
		}
	}
}

// TestRedisScale measures the built program beside floors in the same run.
func TestRedisScale(t *testing.T) {
	n := keyScale(t)
	from, to, floor := redistest.Start(t), redistest.Start(t), redistest.Start(t)
	commands := redisLoad(n)
	load := pipeline(t, floor.Address, commands, n)
	pipeline(t, from.Address, commands, n)
	bare, size := bareReceiver(t, from.Address, func([]byte) {})
	run := program(t, redistest.Address(from), redistest.Address(to))
	snap, peak := run("snapshot", "from")
	back, rpeak := run("restore", "from@latest", "--to", "to", "--yes")
	t.Logf("redis, %d keys (%d MiB sent): snapshot %s beside a bare receiver's %s (%.1f times), peak memory %d MiB; "+
		"restore, read back and compared, %s beside a bare pipelined load's %s (%.1f times), peak memory %d MiB",
		n, size>>20, snap.Round(time.Millisecond), bare.Round(time.Millisecond), snap.Seconds()/bare.Seconds(), peak,
		back.Round(time.Millisecond), load.Round(time.Millisecond), back.Seconds()/load.Seconds(), rpeak)
	require.Less(t, peak, 150, "limits.memory is 128 MiB")
	require.Less(t, rpeak, 200)
}

func etcdLoad(t testing.TB, cl *clientv3.Client, n int) time.Duration {
	begun := time.Now()
	value := strings.Repeat("setting of a gateway ", 8)
	sem, done := make(chan bool, 8), make(chan error, n/100+1)
	for i := 0; i < n; i += 100 {
		sem <- true
		go func() {
			var ops []clientv3.Op
			for j := i; j < min(i+100, n); j++ {
				ops = append(ops, clientv3.OpPut(fmt.Sprintf("/gateways/%07d", j), value+strconv.Itoa(j)))
			}
			_, err := cl.Txn(ctx).Then(ops...).Commit()
			done <- err
			<-sem
		}()
	}
	for i := 0; i < n; i += 100 {
		require.NoError(t, <-done)
	}
	return time.Since(begun)
}

// TestEtcdScale measures the built program beside floors in the same run.
func TestEtcdScale(t *testing.T) {
	n := keyScale(t)
	from, to, floor := etcdtest.Start(t, etcdtest.Options{}), etcdtest.Start(t,
		etcdtest.Options{}), etcdtest.Start(t, etcdtest.Options{})
	load := etcdLoad(t, etcdtest.Client(t, floor...), n)
	cl := etcdtest.Client(t, from...)
	etcdLoad(t, cl, n)
	begun := time.Now()
	pagedRead(t, cl, "/gateways/", clientv3.GetPrefixRangeEnd("/gateways/"), func([]byte) {})
	bare := time.Since(begun)
	run := program(t, etcdtest.Address(from...), etcdtest.Address(to...))
	snap, peak := run("snapshot", "from")
	back, rpeak := run("restore", "from@latest//gateways/", "--to", "to", "--yes")
	t.Logf("etcd, %d keys: snapshot %s beside a bare paged read's %s (%.1f times), peak memory %d MiB; restore, "+
		"read back and compared, %s beside a bare load's %s (%.1f times), peak memory %d MiB",
		n, snap.Round(time.Millisecond), bare.Round(time.Millisecond), snap.Seconds()/bare.Seconds(), peak,
		back.Round(time.Millisecond), load.Round(time.Millisecond), back.Seconds()/load.Seconds(), rpeak)
	require.Less(t, peak, 200)
	require.Less(t, rpeak, 200)
}

// TestCaptureLag measures how far behind a capture that follows is while a
// writer works: from a write's acknowledgement to the capture having read it.
func TestCaptureLag(t *testing.T) {
	writes := min(keyScale(t)/20, 5000)
	doc := startSim(t, docsim.Options{NoopEvery: 100 * time.Millisecond})
	dcl := connect(t, doc.URI())
	es := etcdtest.Start(t, etcdtest.Options{Members: 3})
	ecl := etcdtest.Client(t, es...)
	rs := redistest.Start(t)
	rcl := redistest.Client(t, rs)
	for _, c := range []struct {
		name, address string
		write         func(i int) error
	}{
		{"document", doc.URI(), func(i int) error {
			_, err := dcl.Database("apiary").Collection("colonies").InsertOne(ctx, map[string]any{"n": i})
			return err
		}},
		{"etcd", etcdtest.Address(es...),
			func(i int) error { _, err := ecl.Put(ctx, fmt.Sprint("/gateways/", i), "x"); return err }},
		{"redis", redistest.Address(rs),
			func(i int) error { return rcl.Set(ctx, fmt.Sprint("stall:", i), "x", 0).Err() }},
	} {
		require.NoError(t, c.write(-1))
		e := newRunner(t)
		_, err := snapshot.Take(ctx, e, c.name, open(t, c.name, c.address))
		require.NoError(t, err)
		l := open(t, c.name, c.address).(engine.Logged)
		topo, err := l.Topology(ctx)
		require.NoError(t, err)
		read := make(chan time.Time, writes+100)
		cctx, stop := context.WithCancel(ctx)
		ended := make(chan error, 1)
		go func() {
			seen := int64(0)
			e.OnEvent = func(ev run.Event) {
				if ev.Kind == run.Progress && ev.Records > seen {
					for ; seen < ev.Records; seen++ {
						read <- time.Now()
					}
				}
			}
			_, err := capture.Run(cctx, e, c.name, l, capture.Options{Follow: true, FlushEvery: time.Second})
			ended <- err
		}()
		time.Sleep(time.Second)
		for len(read) > 0 {
			<-read
		}
		acked := make([]time.Time, writes)
		begun := time.Now()
		for i := range writes {
			require.NoError(t, c.write(i))
			acked[i] = time.Now()
		}
		rate := float64(writes) / time.Since(begun).Seconds()
		var lags []time.Duration
		for i := range writes {
			select {
			case at := <-read:
				lags = append(lags, max(0, at.Sub(acked[i])))
			case <-time.After(20 * time.Second):
				t.Fatalf("%s: write %d was not captured", c.name, i)
			}
		}
		stop()
		<-ended //nolint:errcheck // it ends with the connection
		slices.Sort(lags)
		t.Logf("%s (%s): %d writes at %.0f/s, captured after %s (median), %s (99th percentile), %s (longest)", c.name,
			topo.Kind, writes, rate,
			lags[len(lags)/2].Round(100*time.Microsecond), lags[len(lags)*99/100].Round(100*time.Microsecond),
			lags[len(lags)-1].Round(100*time.Microsecond))
	}
}
