package documenttest

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"dexamen/internal/servertest"

	"github.com/stretchr/testify/require"
)

// StartOther runs a document server of another make on a free port and gives
// its address: it is written in Java, keeps everything in memory, and speaks the
// protocol its own way.
func StartOther(t testing.TB) string {
	t.Helper()
	dir := os.Getenv("DEXAMEN_JAVASERVER")
	if dir == "" {
		_, here, _, _ := runtime.Caller(0)
		dir = filepath.Join(filepath.Dir(here), "../../../../testbed/javaserver/target")
	}
	_, err := os.Stat(filepath.Join(dir, "javaserver-1.jar"))
	require.NoError(t, err, "the other document server is not built; run: make servers")
	addr := servertest.FreeAddress(t)
	_, port, err := net.SplitHostPort(addr)
	require.NoError(t, err)
	cmd := exec.Command("java", "-Xmx512m", "-cp",
		filepath.Join(dir, "javaserver-1.jar")+":"+filepath.Join(dir, "dependency", "*"), "testbed.Main", port)
	servertest.Run(t, "document server", cmd)
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", addr, time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, time.Minute, 50*time.Millisecond, "the document server listens")
	return "mongodb://" + addr + "/"
}
