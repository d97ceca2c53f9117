package integration_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/folder/sshhost/sshtest"
	"dexamen/internal/servertest"
)

// runningServer is a real server whose folder is copied.
type runningServer struct {
	name string
	// start runs the server at an address on a folder.
	start func(t testing.TB, address, dir string) *servertest.Process
	// begin and end hold it still and let it go on.
	begin, end func(p *servertest.Process) []string
	// write writes one record of a number, and returns when the server has taken it; read
	// returns the numbers that are there.
	write func(t testing.TB, address string) func(n int) error
	read  func(t testing.TB, address string) map[int]bool
}

func signal(name string) func(p *servertest.Process) []string {
	return func(p *servertest.Process) []string {
		return []string{"sh", "-c", fmt.Sprintf("kill -%s %d", name, p.PID())}
	}
}

func etcdAt(t testing.TB, address, dir string) *servertest.Process {
	peer := servertest.FreePorts(t, 1)[0]
	return servertest.StartProcess(t, address, "etcd", "--name", "m0", "--data-dir", dir, "--listen-peer-urls",
		"http://"+peer,
		"--initial-advertise-peer-urls", "http://"+peer, "--initial-cluster", "m0=http://"+peer, "--logger", "zap",
		"--log-level", "error", "--listen-client-urls", "http://"+address, "--advertise-client-urls", "http://"+address,
		"--force-new-cluster="+strconv.FormatBool(strings.Contains(dir, "beside")))
}

func etcdClient(t testing.TB, address string) *clientv3.Client {
	cl, err := clientv3.New(clientv3.Config{Endpoints: []string{"http://" + address}, DialTimeout: 20 * time.Second})
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Close() })
	return cl
}

func redisServer(t testing.TB, address, dir string) *servertest.Process {
	host, port, _ := net.SplitHostPort(address)
	return servertest.StartProcess(t, address, "redis-server", "--bind", host, "--port", port, "--dir", dir, "--save",
		"",
		"--appendonly", "yes", "--appendfsync", "everysec", "--daemonize", "no")
}

func documentServer(t testing.TB, address, dir string) *servertest.Process {
	bin := servertest.BuiltBinary(t, "DEXAMEN_DOCSERVER", "docserver")
	return servertest.StartProcess(t, address, bin, "--handler=sqlite", "--sqlite-url=file:"+dir+"/",
		"--listen-addr="+address,
		"--state-dir="+t.TempDir(), "--debug-addr=-", "--telemetry=disable", "--log-level=ERROR")
}

func runningServers() []runningServer {
	redis := func(address string) *goredis.Client { // which is asked for millions of keys at once
		return goredis.NewClient(&goredis.Options{Addr: address, ReadTimeout: time.Minute})
	}
	return []runningServer{
		{name: "etcd", start: etcdAt, begin: signal("STOP"), end: signal("CONT"),
			write: func(t testing.TB, address string) func(int) error {
				cl := etcdClient(t, address)
				return func(n int) error {
					_, err := cl.Put(ctx, fmt.Sprintf("gateway/%08d", n), strings.Repeat("x", n%500))
					return err
				}
			},
			read: func(t testing.TB, address string) map[int]bool {
				res, err := etcdClient(t, address).Get(ctx, "gateway/", clientv3.WithPrefix())
				require.NoError(t, err)
				out := map[int]bool{}
				for _, kv := range res.Kvs {
					n, err := strconv.Atoi(strings.TrimPrefix(string(kv.Key), "gateway/"))
					require.NoError(t, err)
					require.Len(t, kv.Value, n%500)
					out[n] = true
				}
				return out
			}},
		{name: "redis", start: redisServer,
			// Redis' own way: writes wait, and what was taken goes to its files.
			begin: func(p *servertest.Process) []string {
				host, port, _ := net.SplitHostPort(p.Address)
				return []string{"sh", "-c", fmt.Sprintf("redis-cli -h %[1]s -p %[2]s CLIENT PAUSE 60000 WRITE && "+
					"redis-cli -h %[1]s -p %[2]s CONFIG SET appendfsync always", host, port)}
			},
			end: func(p *servertest.Process) []string {
				host, port, _ := net.SplitHostPort(p.Address)
				return []string{"redis-cli", "-h", host, "-p", port, "CLIENT", "UNPAUSE"}
			},
			write: func(t testing.TB, address string) func(int) error {
				cl := redis(address)
				t.Cleanup(func() { _ = cl.Close() })
				return func(n int) error {
					return cl.Set(ctx, fmt.Sprintf("stall:%08d", n), strings.Repeat("x", n%500), 0).Err()
				}
			},
			read: func(t testing.TB, address string) map[int]bool {
				cl := redis(address)
				defer cl.Close()
				keys, err := cl.Keys(ctx, "stall:*").Result()
				require.NoError(t, err)
				out := map[int]bool{}
				for _, k := range keys {
					n, err := strconv.Atoi(strings.TrimPrefix(k, "stall:"))
					require.NoError(t, err)
					v, err := cl.Get(ctx, k).Result()
					require.NoError(t, err)
					require.Len(t, v, n%500)
					out[n] = true
				}
				return out
			}},
		{name: "document server", start: documentServer, begin: signal("STOP"), end: signal("CONT"),
			write: func(t testing.TB, address string) func(int) error {
				col := documenttest.Connect(t, "mongodb://"+address+"/").Database("apiary").Collection("visits")
				return func(n int) error {
					_, err := col.InsertOne(ctx, bson.M{"_id": n, "note": strings.Repeat("x", n%500)})
					return err
				}
			},
			read: func(t testing.TB, address string) map[int]bool {
				cur, err := documenttest.Connect(t, "mongodb://"+address+"/").Database("apiary").Collection("visits").
					Find(ctx, bson.M{})
				require.NoError(t, err)
				var all []struct {
					ID   int    `bson:"_id"`
					Note string `bson:"note"`
				}
				require.NoError(t, cur.All(ctx, &all))
				out := map[int]bool{}
				for _, d := range all {
					require.Len(t, d.Note, d.ID%500)
					out[d.ID] = true
				}
				return out
			}},
	}
}

// TestFolderOfARunningServer copies the folder of real servers, held still in a way of
// their own, while a writer writes as fast as it goes, over SSH as a user that may do
// nothing by itself; a second server is started on what was restored beside, and has all
// that was taken before the hold, and nothing that was not.
func TestFolderOfARunningServer(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	for _, srv := range runningServers() {
		t.Run(srv.name, func(t *testing.T) {
			dir := servertest.MemoryDir(t)
			data := filepath.Join(dir, "data")
			require.NoError(t, os.Mkdir(data, 0o700))
			addresses := servertest.FreePorts(t, 2)
			p := srv.start(t, addresses[0], data)
			write := srv.write(t, addresses[0])
			require.Eventually(t, func() bool { return write(0) == nil }, 30*time.Second, 50*time.Millisecond)
			var taken atomic.Int64
			stop, ended := make(chan struct{}), make(chan struct{})
			go func() {
				defer close(ended)
				for n := 1; ; n++ {
					select {
					case <-stop:
						return
					default:
					}
					if err := write(n); err != nil {
						t.Errorf("writing %d: %v", n, err)
						return
					}
					taken.Store(int64(n))
				}
			}()
			time.Sleep(500 * time.Millisecond)
			cli := cliProgram{builtBinary(t), filepath.Join(dir, "dexamen.yaml")}
			list := func(words []string) string { b, _ := json.Marshal(words); return string(b) }
			note := func(name string, words []string, first bool) string {
				mark := fmt.Sprintf("touch %s/%s", dir, name)
				line := shellWords(words)
				if first {
					return list([]string{"sh", "-c", mark + " && " + line})
				}
				return list([]string{"sh", "-c", line + " && " + mark})
			}
			require.NoError(t, os.WriteFile(cli.config, fmt.Appendf(nil, `stores:
  larder: { location: "file://%[1]s/larder", key: { file: "%[1]s/larder.key" } }
clusters:
  comb:
    address: %[2]q
    labels: { server: %[7]q }
    options: { key_file: %[3]q, known_hosts: %[4]q, elevate: %[5]s }
quiesce:
  still:
    applies_to: { kind: folder, label: %[8]q }
    begin: %[6]s
    end: %[9]s
servers:
  second:
    start: [redis-server, --bind, 127.0.0.1, --port, "%[10]s", --dir, "{folder}", --appendonly, "yes",
      --daemonize, "yes"]
    ready: ["redis-cli", "-p", "%[10]s", "PING"]
`, dir, s.Address(data), s.KeyFile, s.KnownHosts, list(s.Elevate), note("began", srv.begin(p), true), srv.name,
				"server="+srv.name, note("let-go", srv.end(p), false), port(addresses[1])), 0o600))
			cli.say(t, 0, "store", "create", "larder")
			for round := range long(3, 1) { // the second and third copy what has changed
				_ = os.Remove(filepath.Join(dir, "began"))
				_ = os.Remove(filepath.Join(dir, "let-go"))
				var before, during int64
				watching, done := make(chan struct{}), make(chan struct{})
				go func() { // what was taken last before the hold, and in it
					defer close(watching)
					for {
						n := taken.Load()
						// Counted before the look: what was taken then was taken before.
						if _, err := os.Stat(filepath.Join(dir, "began")); err != nil {
							before = n
						}
						if _, err := os.Stat(filepath.Join(dir, "let-go")); err == nil {
							during = taken.Load() // and after it: what is not taken by now was not
							return
						}
						select {
						case <-done:
							during = taken.Load()
							return
						case <-time.After(200 * time.Microsecond):
						}
					}
				}()
				cli.say(t, 0, "snapshot", "comb")
				close(done)
				<-watching
				name := fmt.Sprintf("beside-%d", round)
				restore := []string{"restore", "comb@latest/data", "--rename", "data=" + name, "--yes"}
				var kill func()
				if srv.name == "redis" { // the program starts it
					require.Contains(t, cli.say(t, 0, append(restore, "--start", "second")...),
						"server second runs on "+name)
					kill = func() {
						_ = exec.Command("redis-cli", "-p", port(addresses[1]), "SHUTDOWN",
							"NOSAVE").Run()
					}
					t.Cleanup(kill)
				} else {
					cli.say(t, 0, restore...)
					kill = srv.start(t, addresses[1], filepath.Join(dir, name)).Kill
				}
				ready := srv.write(t, addresses[1])
				require.Eventually(t, func() bool { return ready(1<<30) == nil }, 30*time.Second, 100*time.Millisecond)
				got := srv.read(t, addresses[1])
				delete(got, 1<<30)
				require.GreaterOrEqual(t, int64(len(got)), before+1,
					"round %d: what was taken before the hold is there", round)
				require.LessOrEqual(t, int64(len(got)), during+2, "nothing is in it that was not written by then")
				for n := range got {
					require.Less(t, n, len(got), "round %d: nothing is missing in between", round)
				}
				t.Logf("round %d: %d taken before the hold, %d when it had ended, %d in the copy, %d now", round,
					before+1,
					during+1,
					len(got), taken.Load()+1)
				kill()
			}
			close(stop)
			<-ended
			// In place it is refused while the server has it open.
			if srv.name != "document server" {
				out := cli.say(t, 5, "restore", "comb@latest/data", "--conflict", "replace", "--yes")
				require.Contains(t, out, "a process has files of it open")
			}
			p.Kill()
			cli.say(t, 0, "restore", "comb@latest/data", "--conflict", "replace", "--yes")
			p.Begin()
			require.Eventually(t, func() bool { return write(1<<29) == nil }, 30*time.Second, 100*time.Millisecond)
		})
	}
}

func port(address string) string {
	_, p, _ := net.SplitHostPort(address)
	return p
}

// shellWords quotes words for a shell; those of sh -c stay one command.
func shellWords(words []string) string {
	var out []string
	for _, w := range words {
		out = append(out, "'"+strings.ReplaceAll(w, "'", `'\''`)+"'")
	}
	return strings.Join(out, " ")
}
