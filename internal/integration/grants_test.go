package integration_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
)

// granted is a cluster with logins, on which what cluster grants prints is carried out.
type granted struct {
	address string
	apply   func(t *testing.T, line string)
	// write changes something, lose drops what is to be restored.
	write, lose func(t *testing.T)
	part        string // of the address, that is lost
}

func grantedRedis(t *testing.T) *granted {
	primary := redistest.Start(t)
	replica := redistest.StartReplica(t, primary)
	cl, other := redistest.Client(t, primary), redistest.Client(t, replica)
	fill := func(t *testing.T) {
		for i := range 20 {
			require.NoError(t, cl.Set(ctx, fmt.Sprint("hive:", i), "full", 0).Err())
			require.NoError(t, cl.HSet(ctx, fmt.Sprint("yard:", i), "weight", i).Err())
		}
		require.NoError(t, cl.XAdd(ctx, &goredis.XAddArgs{Stream: "weighed", Values: []string{"hive", "1"}}).Err())
		second := goredis.NewClient(&goredis.Options{Addr: primary.Address, DB: 1})
		defer second.Close()
		require.NoError(t, second.Set(ctx, "other", "database", 0).Err())
	}
	require.NoError(t, cl.FunctionLoadReplace(ctx,
		"#!lua name=yard\nredis.register_function('count', function() return 1 end)").
		Err())
	fill(t)
	return &granted{address: "redis://" + primary.Address, write: fill, part: "db0",
		apply: func(t *testing.T, line string) {
			var words []any
			for _, w := range strings.Fields(line) {
				words = append(words, strings.Replace(w, ">SECRET", ">made up", 1))
			}
			for _, c := range []*goredis.Client{cl, other} {
				require.NoError(t, c.Do(ctx, words...).Err(), line)
			}
		},
		lose: func(t *testing.T) { require.NoError(t, cl.FlushDB(ctx).Err()) }}
}

func grantedEtcd(t *testing.T) *granted {
	s := etcdtest.Start(t, etcdtest.Options{})
	plain := etcdtest.Client(t, s...)
	ctl := func(t *testing.T, user string, args ...string) {
		all := append([]string{"--command-timeout", "60s", "--dial-timeout", "60s", "--endpoints", s[0].Address},
			args...)
		if user != "" {
			all = append([]string{"--user", user}, all...)
		}
		c := exec.Command("etcdctl", all...)
		c.Env = append(os.Environ(), "ETCDCTL_API=3")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "etcdctl %v: %s", args, out)
	}
	fill := func(t *testing.T, user ...string) {
		for i := range 20 {
			ctl(t, strings.Join(user, ""), "put", fmt.Sprint("/hives/", i), fmt.Sprint("full ", i))
		}
	}
	_, err := plain.Put(ctx, "/yards/1", "north")
	require.NoError(t, err)
	fill(t)
	ctl(t, "", "user", "add", "root:made-up-root")
	ctl(t, "", "auth", "enable")
	return &granted{address: "etcd://" + strings.TrimPrefix(s[0].Address, "http://"), part: "/hives/",
		write: func(t *testing.T) { fill(t, "root:made-up-root") },
		apply: func(t *testing.T, line string) {
			words := strings.Fields(strings.ReplaceAll(line, "''", "EMPTY"))
			require.Equal(t, "etcdctl", words[0])
			for i, w := range words {
				words[i] = strings.Replace(w, "EMPTY", "", 1)
			}
			if words[1] == "user" && words[2] == "add" {
				words = append(words, "--new-user-password", "made up")
			}
			ctl(t, "root:made-up-root", words[1:]...)
		},
		lose: func(t *testing.T) { ctl(t, "root:made-up-root", "del", "--prefix", "/hives/") }}
}

// TestGrants: a login that has exactly what cluster grants prints does the whole job, and one that
// is to protect only restores nothing.
func TestGrants(t *testing.T) {
	t.Parallel()
	for name, start := range map[string]func(*testing.T) *granted{"redis": grantedRedis, "etcd": grantedEtcd} {
		for _, wide := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s cluster_wide=%v", name, wide), func(t *testing.T) {
				t.Parallel()
				g := start(t)
				login := func(user string) func(code int, args ...string) string {
					bin, dir := builtBinary(t), t.TempDir()
					file := filepath.Join(dir, "dexamen.yaml")
					require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } }\n"+
						"clusters:\n  meadow: { address: %q, cluster_wide: %v, login: { user: %s, secret: { env: LENDER_SECRET } } }\n",
						"file://"+filepath.Join(dir, "larder"), filepath.Join(dir, "larder.key"), g.address, wide,
						user), 0o600))
					return func(code int, args ...string) string {
						t.Helper()
						c := exec.Command(bin, append([]string{"--config", file}, args...)...)
						c.Env = append(os.Environ(), "LENDER_SECRET=made up")
						var out bytes.Buffer
						c.Stdout, c.Stderr = &out, &out
						_ = c.Run()
						require.Equal(t, code, c.ProcessState.ExitCode(), "%v: %s", args, out.String())
						return out.String()
					}
				}
				protector := login("dexamen")
				apply := func(text string) {
					for line := range strings.Lines(text) {
						if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
							g.apply(t, line)
						}
					}
				}
				apply(protector(0, "cluster", "grants", "meadow"))
				protector(0, "store", "create", "larder")
				protector(0, "cluster", "check", "meadow")
				protector(0, "cluster", "inspect", "meadow")
				protector(0, "snapshot", "meadow")
				g.write(t)
				protector(0, "capture", "meadow")
				protector(0, "verify", "meadow@latest")
				protector(0, "snapshot", "meadow")
				protector(0, "compare", "meadow@latest", "meadow@live")
				restorer := login("restorer")
				apply(restorer(0, "cluster", "grants", "meadow", "--for", "restore"))
				restorer(0, "store", "create", "larder")
				restorer(0, "cluster", "check", "meadow")
				restorer(0, "snapshot", "meadow")
				before := g.part
				g.lose(t)
				if name == "redis" || !wide { // root may do everything
					protector(1, "restore", "meadow@latest/"+before, "--yes")
				}
				restorer(0, "restore", "meadow@latest/"+before, "--yes")
				restorer(0, "compare", "meadow@latest/"+before, "meadow@live/"+before)
			})
		}
	}
}
