package integration_test

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/folder/sshhost/sshtest"
	"dexamen/internal/servertest"
)

// TestFolderClonedByCommands: what a volume manager would do is read in the folder's place,
// and it is held still only until that is there.
func TestFolderClonedByCommands(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	photos := filepath.Join(home, "photos")
	require.NoError(t, os.Mkdir(photos, 0o700))
	for i := range 50 {
		require.NoError(t, os.WriteFile(filepath.Join(photos, fmt.Sprint(i)), make([]byte, 5000*i), 0o600))
	}
	p := cliProgram{builtBinary(t), filepath.Join(home, "dexamen.yaml")}
	require.NoError(t, os.WriteFile(p.config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters: { comb: { address: "file://%[1]s/photos" } }
quiesce:
  volume:
    applies_to: { name: comb }
    begin: [touch, "%[1]s/held"]
    end: [sh, -c, "rm -f %[1]s/held; echo changed since > %[1]s/photos/7"]
    check: [test, -e, "%[1]s/held"]
    clone:
      make: [sh, -c, "mkdir -p '%[1]s/clone{folder}-of' && cp -a '{folder}/.' '%[1]s/clone{folder}-of'"]
      remove: [rm, -rf, "%[1]s/clone"]
      at: "%[1]s/clone{folder}-of"
`, home), 0o600))
	p.say(t, 0, "store", "create", "larder")
	out := p.say(t, 0, "snapshot", "comb")
	require.Contains(t, out, "stopped for a moment")
	require.NoDirExists(t, filepath.Join(home, "clone"))
	// What was written when it was let go on is not in it, though copying came after.
	out = p.say(t, 3, "compare", "comb@latest/photos", "comb@live/photos")
	require.Regexp(t, `changed +7 `, out)
	require.NotRegexp(t, `changed +[0-68-9]`, out)
}

// cliProgram runs the built program with a configuration.
type cliProgram struct {
	bin, config string
}

func (p cliProgram) command(args ...string) *exec.Cmd {
	return exec.Command(p.bin, append([]string{"--config", p.config}, args...)...)
}

// say runs a command that must end with a code, and returns what it said.
func (p cliProgram) say(t testing.TB, code int, args ...string) string {
	t.Helper()
	cmd := p.command(args...)
	out, err := cmd.CombinedOutput()
	require.Equal(t, code, cmd.ProcessState.ExitCode(), "dexamen %s: %v\n%s", strings.Join(args, " "), err, out)
	return string(out)
}

// link is a connection that can be cut, or go silent.
type link struct {
	to     string
	silent atomic.Bool
	mu     sync.Mutex
	conns  []net.Conn
}

func newLink(t testing.TB, to string) (*link, string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	k := &link{to: to}
	t.Cleanup(func() { _ = l.Close(); k.cut() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				_ = in.Close()
				continue
			}
			k.mu.Lock()
			k.conns = append(k.conns, in, out)
			k.mu.Unlock()
			go k.pass(in, out)
			go k.pass(out, in)
		}
	}()
	return k, l.Addr().String()
}

func (k *link) pass(from, to net.Conn) {
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		for k.silent.Load() {
			time.Sleep(10 * time.Millisecond)
		}
		if err != nil {
			_ = to.Close()
			return
		}
		if _, err := to.Write(buf[:n]); err != nil {
			return
		}
	}
}

func (k *link) cut() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, c := range k.conns {
		_ = c.Close()
	}
	k.conns = nil
}

// TestFolderHeldStillForNoLonger kills the program at random instants while it holds a server
// still, cuts its connection, has it go silent, and stops the program's process: each time
// the server goes on within seconds, and no copy of it is a point.
func TestFolderHeldStillForNoLonger(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	k, through := newLink(t, net.JoinHostPort(s.Host, s.Port))
	_, port, _ := net.SplitHostPort(through)
	known, err := os.ReadFile(s.KnownHosts)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.KnownHosts,
		append(known, strings.Replace(string(known), ":"+s.Port, ":"+port, 1)...), 0o600))
	dir := servertest.MemoryDir(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "photos"), 0o755)) //nolint:gosec // another user lists it
	big := make([]byte, 120<<20)
	_, _ = io.ReadFull(rand.NewChaCha8([32]byte{16}), big)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "photos", "big.raw"), big, 0o600))
	held := filepath.Join(dir, "held")
	p := cliProgram{builtBinary(t), filepath.Join(dir, "dexamen.yaml")}
	elevate, _ := json.Marshal(s.Elevate)
	require.NoError(t, os.WriteFile(p.config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters:
  comb: { address: "file://%[1]s/photos" }
  shed:
    address: "ssh://%[2]s@127.0.0.1:%[3]s%[1]s/photos"
    options: { key_file: "%[4]s", known_hosts: "%[5]s", elevate: %[6]s }
  brief: { address: "file://%[1]s/photos", quiesce: brief }
quiesce:
  gate:
    applies_to: { kind: folder, name: "[cs]*" }
    begin: [sh, -c, "touch %[1]s/held; sleep 0.2"]
    end: [rm, -f, "%[1]s/held"]
    check: [test, -e, "%[1]s/held"]
    longest: 20s
  brief:
    begin: [touch, "%[1]s/held"]
    end: [rm, -f, "%[1]s/held"]
    longest: 40ms
`, dir, s.User, port, s.KeyFile, s.KnownHosts, elevate), 0o600))
	p.say(t, 0, "store", "create", "larder")
	isHeld := func() bool { _, err := os.Stat(held); return err == nil }
	points := func(cluster string) int {
		var list []struct{}
		out, err := p.command("--json", "points", cluster).Output()
		if err != nil {
			return 0
		}
		require.NoError(t, json.Unmarshal(out, &list))
		return len(list)
	}
	p.say(t, 0, "snapshot", "shed") // the program is put there
	r := rand.New(rand.NewPCG(16, 16))
	table := map[string][]time.Duration{}
	ways := []string{"killed", "killed over SSH", "connection cut"}
	rounds := long(110, 9)
	for i := range rounds {
		way := ways[i%len(ways)]
		cluster := map[string]string{"killed": "comb"}[way]
		if cluster == "" {
			cluster = "shed"
		}
		if i%25 == 11 {
			way = "connection silent"
		}
		before := points(cluster)
		cmd := p.command("snapshot", cluster, "--full-read")
		require.NoError(t, cmd.Start())
		require.Eventually(t, isHeld, 20*time.Second, time.Millisecond)
		time.Sleep(time.Duration(r.IntN(200)) * time.Millisecond)
		if !isHeld() {
			way = "too late"
		}
		begin := time.Now()
		switch way {
		case "connection cut":
			k.cut()
		case "connection silent":
			k.silent.Store(true)
		default:
			require.NoError(t, cmd.Process.Kill())
		}
		require.Eventually(t, func() bool { return !isHeld() }, 10*time.Second, time.Millisecond, "%s, round %d", way,
			i)
		took := time.Since(begin)
		_ = k.silent.CompareAndSwap(true, false)
		err := cmd.Wait()
		if err == nil && took < 2*time.Second { // it had ended by itself
			way = "too late"
		}
		if way == "too late" {
			continue
		}
		table[way] = append(table[way], took)
		require.Error(t, err, way)
		require.Equal(t, before, points(cluster), "%s: what was not held still is no point", way)
		require.Less(t, took, 5*time.Second+200*time.Millisecond, way)
	}
	n := 0
	for way, list := range table {
		longest := time.Duration(0)
		for _, d := range list {
			longest = max(longest, d)
		}
		n += len(list)
		t.Logf("%-20s %3d times, went on after at most %s", way, len(list), longest.Round(time.Millisecond))
	}
	require.Greater(t, n, rounds*2/3)
	// A process that stands still is not waited for, and what it copies then is void.
	before := points("shed")
	cmd := p.command("snapshot", "shed", "--full-read")
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	require.Eventually(t, isHeld, 20*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGSTOP))
	require.Eventually(t, func() bool { return !isHeld() }, 10*time.Second, time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
	require.Error(t, cmd.Wait())
	require.Contains(t, said.String(), "was not held still all the time")
	require.Equal(t, before, points("shed"))
	// What takes longer than may be ends, and is void: what was written just now is read again.
	now := time.Now()
	require.NoError(t, os.Chtimes(filepath.Join(dir, "photos", "big.raw"), now, now))
	out := p.say(t, 1, "snapshot", "brief", "--full-read")
	require.Contains(t, out, "was stopped for the 40ms that are allowed")
	require.False(t, isHeld())
	require.Zero(t, points("brief"))
	// The next runs find nothing to do about it, and make points.
	for _, cluster := range []string{"comb", "shed"} {
		p.say(t, 0, "snapshot", cluster)
		require.False(t, isHeld())
		p.say(t, 0, "verify", cluster+"@latest")
	}
}
