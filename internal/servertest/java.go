package servertest

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// OtherDocument runs a document server of another make on a free port and gives
// its address: it is written in Java, keeps everything in memory, and speaks the
// protocol its own way.
func OtherDocument(t testing.TB) string {
	t.Helper()
	dir := os.Getenv("DEXAMEN_JAVASERVER")
	if dir == "" {
		_, here, _, _ := runtime.Caller(0)
		dir = filepath.Join(filepath.Dir(here), "../../testbed/javaserver/target")
	}
	_, err := os.Stat(filepath.Join(dir, "javaserver-1.jar"))
	require.NoError(t, err, "the other document server is not built; run: make servers")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().(*net.TCPAddr)
	require.NoError(t, l.Close())
	cmd := exec.Command("java", "-Xmx512m", "-cp", filepath.Join(dir, "javaserver-1.jar")+":"+filepath.Join(dir, "dependency", "*"), "testbed.Main", strconv.Itoa(addr.Port))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Logf("document server: %.2000s", out.String())
		}
	})
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", addr.String(), time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, time.Minute, 50*time.Millisecond, "the document server listens")
	return "mongodb://" + addr.String() + "/"
}
