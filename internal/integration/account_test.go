package integration_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	goredis "github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.uber.org/zap"

	"dexamen/internal/engine/document/documenttest"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/sim/docsim"
)

// lender is a cluster on which logins are lent, and what its own clients find.
type lender struct {
	address, login string // as configured
	part           string
	// reads and writes report whether a login may, in the part and elsewhere; in is whether it
	// is let in.
	reads, writes func(t *testing.T, user, password string, elsewhere bool) bool
	in            func(t *testing.T, user, password string) bool
	// users lists the logins that there are.
	users func(t *testing.T) []string
}

func documentLender(t *testing.T, uri string) *lender {
	as := func(t *testing.T, user, password string) *mongo.Client {
		cl, err := mongo.Connect(options.Client().ApplyURI(uri).SetServerSelectionTimeout(2 * time.Second).
			SetAuth(options.Credential{Username: user, Password: password, AuthSource: "admin"}))
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
		return cl
	}
	root := as(t, "dexamen", "made up")
	for _, db := range []string{"rehearsal", "rehearsals"} {
		_, err := root.Database(db).Collection("harvests").InsertOne(ctx, bson.D{{Key: "_id", Value: 1}})
		require.NoError(t, err)
	}
	refused := func(t *testing.T, err error) bool {
		var ce mongo.CommandError
		if errors.As(err, &ce) {
			require.EqualValues(t, 13, ce.Code)
			return false
		}
		require.NoError(t, err)
		return true
	}
	db := func(elsewhere bool) string { return map[bool]string{true: "rehearsals", false: "rehearsal"}[elsewhere] }
	return &lender{address: uri, login: "login: { user: dexamen, secret: { env: LENDER_SECRET } }", part: "rehearsal",
		reads: func(t *testing.T, user, password string, elsewhere bool) bool {
			cl := as(t, user, password)
			if list, err := cl.ListDatabaseNames(ctx, bson.D{}); err == nil {
				require.Equal(t, []string{"rehearsal"}, list)
			}
			return refused(t, cl.Database(db(elsewhere)).Collection("harvests").FindOne(ctx, bson.D{}).Err())
		},
		writes: func(t *testing.T, user, password string, elsewhere bool) bool {
			_, err := as(t, user, password).Database(db(elsewhere)).Collection("harvests").InsertOne(ctx, bson.D{})
			return refused(t, err)
		},
		in: func(t *testing.T, user, password string) bool {
			return as(t, user, password).Database("rehearsal").RunCommand(ctx,
				bson.D{{Key: "listCollections", Value: 1}}).Err() == nil
		},
		users: func(t *testing.T) (out []string) {
			var d struct{ Users []struct{ User string } }
			require.NoError(t, root.Database("admin").RunCommand(ctx, bson.D{{Key: "usersInfo", Value: 1}}).Decode(&d))
			for _, u := range d.Users {
				out = append(out, u.User)
			}
			return out
		}}
}

func etcdLender(t *testing.T) *lender {
	s := etcdtest.Start(t, etcdtest.Options{Members: 3})
	plain := etcdtest.Client(t, s...)
	for _, k := range []string{"/gateways/north", "/gateways0", "/routes/1"} {
		_, err := plain.Put(ctx, k, "x")
		require.NoError(t, err)
	}
	_, err := plain.UserAdd(ctx, "root", "made up")
	require.NoError(t, err)
	_, err = plain.RoleAdd(ctx, "root")
	require.NoError(t, err)
	_, err = plain.UserGrantRole(ctx, "root", "root")
	require.NoError(t, err)
	_, err = plain.AuthEnable(ctx)
	require.NoError(t, err)
	as := func(user, password string) (*clientv3.Client, error) {
		cl, err := clientv3.New(clientv3.Config{Endpoints: []string{s[0].Address}, DialTimeout: 5 * time.Second,
			Username: user, Password: password, Logger: zap.NewNop()})
		if err == nil {
			t.Cleanup(func() { _ = cl.Close() })
		}
		return cl, err
	}
	root, err := as("root", "made up")
	require.NoError(t, err)
	key := func(elsewhere bool) string {
		return map[bool]string{true: "/gateways0", false: "/gateways/south"}[elsewhere]
	}
	may := func(t *testing.T, err error) bool {
		if errors.Is(err, rpctypes.ErrPermissionDenied) {
			return false
		}
		require.NoError(t, err)
		return true
	}
	return &lender{address: etcdtest.Address(s...), login: "login: { user: root, secret: { env: LENDER_SECRET } }",
		part: "/gateways/",
		reads: func(t *testing.T, user, password string, elsewhere bool) bool {
			cl, err := as(user, password)
			require.NoError(t, err)
			_, err = cl.Get(ctx, key(elsewhere))
			return may(t, err)
		},
		writes: func(t *testing.T, user, password string, elsewhere bool) bool {
			cl, err := as(user, password)
			require.NoError(t, err)
			_, err = cl.Put(ctx, key(elsewhere), "y")
			return may(t, err)
		},
		in: func(t *testing.T, user, password string) bool {
			_, err := as(user, password)
			return err == nil
		},
		users: func(t *testing.T) []string {
			u, err := root.UserList(ctx)
			require.NoError(t, err)
			r, err := root.RoleList(ctx)
			require.NoError(t, err)
			return append(u.Users, r.Roles...)
		}}
}

func redisLender(t *testing.T) *lender {
	primary := redistest.Start(t)
	replica := redistest.StartReplica(t, primary)
	as := func(address, user, password string) *goredis.Client {
		cl := goredis.NewClient(&goredis.Options{Addr: address, Username: user, Password: password,
			DisableIdentity: true, MaxRetries: -1})
		t.Cleanup(func() { _ = cl.Close() })
		return cl
	}
	for _, p := range []string{primary.Address, replica.Address} {
		cl := as(p, "", "")
		require.NoError(t, cl.ConfigSet(ctx, "masterauth", "made up").Err())
		require.NoError(t, cl.ConfigSet(ctx, "requirepass", "made up").Err())
	}
	root := as(primary.Address, "", "made up")
	for _, k := range []string{"heather:1", "heathe", "clover:1", "heather*:1"} {
		require.NoError(t, root.Set(ctx, k, "x", 0).Err())
	}
	key := func(elsewhere bool) string {
		return map[bool]string{true: "heather*:1", false: "heather:2"}[elsewhere]
	}
	may := func(t *testing.T, err error) bool {
		if err != nil && strings.HasPrefix(err.Error(), "NOPERM") {
			return false
		}
		if err != nil {
			require.ErrorIs(t, err, goredis.Nil)
		}
		return true
	}
	return &lender{address: "redis://" + primary.Address, part: "db0/heather:",
		login: "login: { user: default, secret: { env: LENDER_SECRET } }, options: { prefix_depth: 1 }",
		reads: func(t *testing.T, user, password string, elsewhere bool) bool {
			ok := may(t, as(primary.Address, user, password).Get(ctx, key(elsewhere)).Err())
			require.Equal(t, ok, may(t, as(replica.Address, user, password).Get(ctx, key(elsewhere)).Err()))
			return ok
		},
		writes: func(t *testing.T, user, password string, elsewhere bool) bool {
			return may(t, as(primary.Address, user, password).Set(ctx, key(elsewhere), "y", 0).Err())
		},
		in: func(t *testing.T, user, password string) bool {
			a := as(primary.Address, user, password).Ping(ctx).Err() == nil
			b := as(replica.Address, user, password).Ping(ctx).Err() == nil
			require.Equal(t, a, b)
			return a
		},
		users: func(t *testing.T) []string {
			list, err := root.Do(ctx, "ACL", "USERS").StringSlice()
			require.NoError(t, err)
			return list
		}}
}

// TestAccounts: a login that is lent sees what it is for and nothing else, on the servers'
// own word; it goes when its time is over, and when the one who made it was killed meanwhile.
func TestAccounts(t *testing.T) {
	for name, start := range map[string]func(t *testing.T) *lender{
		"document": func(t *testing.T) *lender {
			rs, err := docsim.Start(docsim.Options{User: "dexamen", Password: "made up"})
			require.NoError(t, err)
			t.Cleanup(rs.Close)
			return documentLender(t, rs.URI())
		},
		"shards": func(t *testing.T) *lender {
			c, err := docsim.StartSharded(docsim.ShardedOptions{
				Set: docsim.Options{User: "dexamen", Password: "made up"}})
			require.NoError(t, err)
			t.Cleanup(c.Close)
			return documentLender(t, c.URI())
		},
		"etcd": etcdLender, "redis": redisLender,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			lending(t, start(t))
		})
	}
}

// lenderTool returns what runs the program with a cluster configured.
func lenderTool(t *testing.T, address, login string) func(args ...string) *exec.Cmd {
	bin, dir := builtBinary(t), t.TempDir()
	file := filepath.Join(dir, "dexamen.yaml")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "stores:\n  larder: { location: %q, key: { file: %q } }\n"+
		"clusters:\n  meadow: { address: %q, %s }\n", "file://"+filepath.Join(dir, "larder"),
		filepath.Join(dir, "larder.key"), address, login), 0o600))
	return func(args ...string) *exec.Cmd {
		c := exec.Command(bin, append([]string{"--config", file, "--json", "--quiet"}, args...)...)
		c.Env = append(os.Environ(), "LENDER_SECRET=made up")
		return c
	}
}

func lending(t *testing.T, b *lender) {
	tool := lenderTool(t, b.address, b.login)
	do := func(code int, args ...string) []byte {
		t.Helper()
		c := tool(args...)
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		err := c.Run()
		var xe *exec.ExitError
		if err != nil {
			require.ErrorAs(t, err, &xe, out.String())
		}
		require.Equal(t, code, c.ProcessState.ExitCode(), out.String())
		return out.Bytes()
	}
	do(0, "store", "create", "larder")
	before := b.users(t)
	for _, write := range []bool{false, true} {
		args := []string{"account", "lend", "meadow", "--database", b.part, "--for", "4s"}
		if write {
			args = append(args, "--write")
		}
		var l struct{ User, Password string }
		require.NoError(t, json.Unmarshal(do(0, args...), &l))
		require.True(t, b.reads(t, l.User, l.Password, false))
		require.False(t, b.reads(t, l.User, l.Password, true))
		require.Equal(t, write, b.writes(t, l.User, l.Password, false))
		require.False(t, b.writes(t, l.User, l.Password, true))
		listed := string(do(0, "account", "list"))
		require.Contains(t, listed, l.User)
		require.NotContains(t, listed, l.Password)
		if write {
			do(0, "account", "end", l.User)
		} else {
			require.Contains(t, string(do(0, "account", "list")), l.User, "it is not over yet")
			require.True(t, b.in(t, l.User, l.Password))
			time.Sleep(4 * time.Second)
			require.Contains(t, string(do(0, "account", "list")), "! login "+l.User+" on meadow was taken away")
		}
		require.False(t, b.in(t, l.User, l.Password))
		require.NotContains(t, string(do(0, "account", "list")), l.User)
		require.Contains(t, string(do(0, "runs", "--kind", "lend-end")), l.User)
		require.ElementsMatch(t, before, b.users(t))
		do(2, "account", "end", l.User)
	}
	do(2, "account", "lend", "meadow", "--database", "misspelt", "--for", "40m")
	do(2, "account", "lend", "meadow", "--database", b.part)
	// Killed at any moment: whatever was made goes with the next run.
	made := 0
	for range long(40, 6) {
		c := tool("account", "lend", "meadow", "--database", b.part, "--for", "40m")
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(rand.IntN(700)) * time.Millisecond)
		_ = c.Process.Kill()
		_ = c.Wait()
		if len(b.users(t)) > len(before) {
			made++
		}
	}
	for _, u := range b.users(t) {
		if i := strings.Index(u, "dexamen-lent-"); i == 0 {
			// One that had ended before it was killed is lent for its time.
			if c := tool("account", "end", u); c.Run() == nil {
				continue
			}
		}
	}
	do(0, "account", "list")
	require.ElementsMatch(t, before, b.users(t), "%d were there when it was killed", made)
}

// TestAccountsThatSeeMore: a server that keeps a login to nothing, and one that asks for none,
// lend nothing.
func TestAccountsThatSeeMore(t *testing.T) {
	t.Parallel()
	open, err := docsim.Start(docsim.Options{})
	require.NoError(t, err)
	t.Cleanup(open.Close)
	lax, err := docsim.Start(docsim.Options{User: "dexamen", Password: "made up",
		Odd: docsim.Odd{RolesForNothing: true}})
	require.NoError(t, err)
	t.Cleanup(lax.Close)
	b := documentLender(t, lax.URI())
	for _, x := range []struct{ address, login, told string }{
		{open.URI(), "labels: {}", "keep nobody from anything"},
		{documenttest.Start(t, ""), "labels: {}", "keep nobody from anything"},
		{b.address, b.login, "the login is not kept to rehearsal: it reads admin: the server did not refuse it"}} {
		o := options.Client().ApplyURI(x.address)
		if x.address == b.address {
			o.SetAuth(options.Credential{Username: "dexamen", Password: "made up", AuthSource: "admin"})
		}
		cl, err := mongo.Connect(o)
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
		_, err = cl.Database("rehearsal").Collection("harvests").InsertOne(ctx, bson.D{})
		require.NoError(t, err)
		tool := lenderTool(t, x.address, x.login)
		out, err := tool("store", "create", "larder").CombinedOutput()
		require.NoError(t, err, string(out))
		out, err = tool("account", "lend", "meadow", "--database", "rehearsal", "--for", "40m").CombinedOutput()
		require.Error(t, err)
		require.Contains(t, string(out), x.told)
		out, err = tool("account", "list").CombinedOutput()
		require.NoError(t, err)
		require.Equal(t, "[]", strings.TrimSpace(string(out)))
	}
	require.Empty(t, b.users(t))
}
