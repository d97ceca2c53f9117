// Package servertest runs real servers for tests. A server that is not there is
// a failure, never a reason to pass a test by.
package servertest

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// built finds a server that `make servers` made.
func built(t testing.TB, env, name string) string {
	t.Helper()
	bin := os.Getenv(env)
	if bin == "" {
		_, here, _, _ := runtime.Caller(0)
		bin = filepath.Join(filepath.Dir(here), "../../testbed/bin", name)
	}
	_, err := os.Stat(bin)
	require.NoError(t, err, "the real server is not built; run: make servers")
	return bin
}

// Document runs the real document server on a free port and gives its address.
// With a set's name it is a replica set of one; KeepLog makes it keep a log.
func Document(t testing.TB, set string) string {
	t.Helper()
	bin := built(t, "DEXAMEN_DOCSERVER", "docserver")
	addr := freeAddress(t)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "data"), 0o700))
	args := []string{"--handler=sqlite", "--sqlite-url=file:" + dir + "/data/", "--listen-addr=" + addr,
		"--state-dir=" + dir,
		"--debug-addr=-", "--telemetry=disable", "--log-level=ERROR"}
	if set != "" {
		args = append(args, "--repl-set-name="+set)
	}
	cmd := exec.Command(bin, args...)
	cmd.Env = append(os.Environ(), "DO_NOT_TRACK=1")
	start(t, "document server", cmd)
	uri := "mongodb://" + addr + "/"
	cl := Connect(t, uri)
	require.Eventually(t, func() bool { return cl.Ping(context.Background(), nil) == nil }, 20*time.Second,
		50*time.Millisecond)
	return uri
}

// Connect returns a driver's connection that ends with the test.
func Connect(t testing.TB, uri string) *mongo.Client {
	t.Helper()
	cl, err := mongo.Connect(options.Client().ApplyURI(uri).SetDirect(true).SetServerSelectionTimeout(20 * time.Second))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(context.Background()) })
	return cl
}

// KeepLog makes the server keep a log from now on.
func KeepLog(t testing.TB, cl *mongo.Client) {
	t.Helper()
	require.NoError(t, cl.Database("local").CreateCollection(context.Background(), "oplog.rs",
		options.CreateCollection().SetCapped(true).SetSizeInBytes(1<<30)))
}
