package sshhost

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"runtime"
	"strings"
	"sync"

	"github.com/pkg/sftp"
	"github.com/zeebo/blake3"
	"golang.org/x/crypto/ssh"
)

// tail keeps the end of what is written to it.
type tail struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.buf.Len() > 1<<16 {
		t.buf.Next(1 << 15)
	}
	return t.buf.Write(b)
}

// String returns its last line.
func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := strings.TrimSpace(t.buf.String())
	return s[strings.LastIndexByte(s, '\n')+1:]
}

// self is this program: its file, and a name that is of its content.
var self = sync.OnceValues(func() (string, error) {
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := blake3.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return fmt.Sprintf("dexamen-%x", h.Sum(nil)[:8]), nil
})

// machines are the names that uname gives of the machines this program is for.
var machines = map[string]string{"amd64": "x86_64", "arm64": "aarch64"}

// place sees that this very program is on the other machine, and returns where.
func place(_ context.Context, conn *ssh.Client) (string, error) {
	name, err := self()
	if err != nil {
		return "", err
	}
	out, err := output(conn, "uname -sm")
	if err != nil {
		return "", err
	}
	if want := "Linux " + machines[runtime.GOARCH]; runtime.GOOS != "linux" || strings.TrimSpace(out) != want {
		return "", fmt.Errorf("the machine is %s, and this program is for %s on %s", strings.TrimSpace(out),
			runtime.GOOS,
			runtime.GOARCH)
	}
	c, err := sftp.NewClient(conn)
	if err != nil {
		return "", err
	}
	defer c.Close()
	home, err := c.Getwd()
	if err != nil {
		return "", err
	}
	dir := path.Join(home, ".cache", "dexamen")
	file := path.Join(dir, name)
	mine, err := os.Open("/proc/self/exe")
	if err != nil {
		return "", err
	}
	defer mine.Close()
	st, err := mine.Stat()
	if err != nil {
		return "", err
	}
	if there, err := c.Stat(file); err == nil && there.Size() == st.Size() && there.Mode().Perm() == 0o700 {
		return file, nil
	}
	if err := c.MkdirAll(dir); err != nil {
		return "", fmt.Errorf("%s: %w", dir, err)
	}
	if err := c.Chmod(dir, 0o700); err != nil {
		return "", fmt.Errorf("%s: %w", dir, err)
	}
	// Under a name of its own first, so that it is there whole or not at all.
	tmp := fmt.Sprintf("%s.%d.new", file, os.Getpid())
	f, err := c.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC)
	if err != nil {
		return "", fmt.Errorf("%s: %w", tmp, err)
	}
	_, err = f.ReadFromWithConcurrency(mine, 16)
	if err = errors.Join(err, f.Close()); err == nil {
		err = c.Chmod(tmp, 0o700)
	}
	if err == nil {
		err = c.PosixRename(tmp, file)
	}
	if err != nil {
		return "", errors.Join(fmt.Errorf("%s: %w", file, err), c.Remove(tmp))
	}
	// What earlier versions left is of no use any more.
	if list, err := c.ReadDir(dir); err == nil {
		for _, e := range list {
			if strings.HasPrefix(e.Name(), "dexamen-") && e.Name() != name && !strings.HasSuffix(e.Name(), ".new") {
				_ = c.Remove(path.Join(dir, e.Name()))
			}
		}
	}
	return file, nil
}

// output runs a command and returns what it printed.
func output(conn *ssh.Client, command string) (string, error) {
	s, err := conn.NewSession()
	if err != nil {
		return "", err
	}
	defer s.Close()
	b, err := s.Output(command)
	return string(b), err
}
