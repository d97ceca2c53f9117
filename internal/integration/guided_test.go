package integration_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"golang.org/x/sys/unix"

	"dexamen/internal/sim/docsim"
)

// terminal is a terminal of 80 by 24 at which the program runs.
type terminal struct {
	t    *testing.T
	mu   sync.Mutex
	seen bytes.Buffer
	side *os.File
}

// newTerminal starts a command at a terminal of its own ("pty(7)").
func newTerminal(t *testing.T, cmd *exec.Cmd) *terminal {
	side, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = side.Close() })
	n, err := unix.IoctlGetInt(int(side.Fd()), unix.TIOCGPTN)
	require.NoError(t, err)
	require.NoError(t, unix.IoctlSetPointerInt(int(side.Fd()), unix.TIOCSPTLCK, 0))
	require.NoError(t, unix.IoctlSetWinsize(int(side.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 24, Col: 80}))
	tty, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR, 0)
	require.NoError(t, err)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	require.NoError(t, tty.Close())
	x := &terminal{t: t, side: side}
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := side.Read(buf)
			x.mu.Lock()
			x.seen.Write(buf[:n])
			x.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return x
}

// await waits until something is seen, and forgets what was.
func (x *terminal) await(text string) string {
	x.t.Helper()
	var all string
	for range 1200 {
		x.mu.Lock()
		all = x.seen.String()
		if i := strings.Index(all, text); i >= 0 {
			x.seen.Next(i + len(text))
			x.mu.Unlock()
			return all
		}
		x.mu.Unlock()
		time.Sleep(50 * time.Millisecond)
	}
	require.FailNow(x.t, "not seen: "+text, all)
	return ""
}

func (x *terminal) keys(text string) {
	time.Sleep(200 * time.Millisecond) // what was drawn is being listened to
	_, err := io.WriteString(x.side, text)
	require.NoError(x.t, err)
}

// TestGuidedAtATerminal: who drops a collection finds it, and has it back, with four keys and a
// yes; who says no is led on from where they were.
func TestGuidedAtATerminal(t *testing.T) {
	t.Parallel()
	rs, err := docsim.Start(docsim.Options{NoopEvery: 100 * time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	cl, err := mongo.Connect(options.Client().ApplyURI(rs.URI()))
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Disconnect(ctx) })
	harvests := cl.Database("apiary").Collection("harvests")
	for n := range 50 {
		_, err := harvests.InsertOne(ctx, bson.D{{Key: "_id", Value: n}})
		require.NoError(t, err)
	}
	tool := lenderTool(t, rs.URI(), "labels: {}")
	do := func(args ...string) {
		out, err := tool(args...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	do("store", "create", "larder")
	do("snapshot", "meadow")
	_, err = harvests.InsertOne(ctx, bson.D{{Key: "_id", Value: "the last one"}})
	require.NoError(t, err)
	require.NoError(t, harvests.Drop(ctx))
	do("capture", "meadow")
	cmd := tool("restore", "--guided", "meadow")
	cmd.Args = append(cmd.Args[:3], cmd.Args[5:]...) // neither --json nor --quiet
	cmd.Env = append(cmd.Env, "LANG=C.UTF-8", "TERM=xterm-256color")
	x := newTerminal(t, cmd)
	x.await("just before")
	x.keys("\r")
	x.await("gone")
	x.keys("\r")
	x.await("under its own name")
	x.keys("\r")
	x.await("Go on?")
	x.keys("no\r")
	x.await("under its own name")
	x.keys("\r")
	x.await("Go on?")
	x.keys("yes\r")
	x.await("undo it with: dexamen undo")
	require.NoError(t, cmd.Wait())
	n, err := harvests.CountDocuments(ctx, bson.D{})
	require.NoError(t, err)
	require.EqualValues(t, 51, n)
	out, err := tool("runs", "--kind", "restore").CombinedOutput()
	require.NoError(t, err)
	require.Contains(t, string(out), "dexamen.yaml restore meadow@log:", "the run has the command that was led to")
}
