// Package documenttest runs real document servers for tests.
package documenttest

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"dexamen/internal/servertest"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
)

// Start runs the real document server on a free port and gives its address.
// With a set's name it is a replica set of one; [KeepLog] makes it keep a log.
func Start(t testing.TB, set string) string {
	t.Helper()
	bin := servertest.BuiltBinary(t, "DEXAMEN_DOCSERVER", "docserver")
	addr := servertest.FreeAddress(t)
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
	servertest.Run(t, "document server", cmd)
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
