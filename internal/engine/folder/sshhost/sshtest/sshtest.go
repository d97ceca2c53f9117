// Package sshtest runs a real SSH server for tests (Debian's openssh-server), to which an
// unprivileged user logs in who may run commands through sudo, where the tests run as root.
package sshtest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/servertest"
)

// Server is a running server.
type Server struct {
	// Host and Port are where it listens; User is who logs in, with the private key of
	// KeyFile, or Password where the tests run as root.
	Host, Port, User, KeyFile, Password string
	// KnownHosts is a file that has its host key, Fingerprint is that key's.
	KnownHosts, Fingerprint string
	// Elevate is the command through which the user may do what the tests' user may.
	Elevate []string
	Process *servertest.Process
}

// Address returns the address of a folder on it.
func (s *Server) Address(path string) string {
	return fmt.Sprintf("ssh://%s@%s:%s%s", s.User, s.Host, s.Port, path)
}

func run(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

// Start runs a server until the test ends.
func Start(t testing.TB) *Server {
	t.Helper()
	sshd, err := exec.LookPath("sshd")
	if err != nil {
		sshd = "/usr/sbin/sshd"
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755)) //nolint:gosec // the user reads the file of keys
	require.NoError(t, os.Chmod(dir, 0o755))               //nolint:gosec // likewise
	run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "host"))
	run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "key"))
	address := servertest.FreePorts(t, 1)[0]
	host, port, _ := strings.Cut(address, ":")
	s := &Server{Host: host, Port: port, KeyFile: filepath.Join(dir, "key"),
		KnownHosts: filepath.Join(dir, "known_hosts")}
	public, err := os.ReadFile(filepath.Join(dir, "key.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "authorized"), public, 0o644)) //nolint:gosec // as above
	key, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.KnownHosts, fmt.Appendf(nil, "[%s]:%s %s", host, port, key), 0o600))
	s.Fingerprint = strings.Fields(run(t, "ssh-keygen", "-lf", filepath.Join(dir, "host.pub")))[1]
	s.login(t)
	config := fmt.Sprintf("Port %s\nListenAddress %s\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\n"+
		"PidFile none\nSubsystem sftp internal-sftp\nPasswordAuthentication yes\nMaxStartups 100\n",
		port, host, filepath.Join(dir, "host"), filepath.Join(dir, "authorized"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "config"), []byte(config), 0o600))
	_ = os.MkdirAll("/run/sshd", 0o755) //nolint:gosec // the server wants it so
	s.Process = servertest.StartProcess(t, address, sshd, "-D", "-e", "-f", filepath.Join(dir, "config"))
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	return s
}

// login makes the user who logs in: an unprivileged one where the tests may make some.
func (s *Server) login(t testing.TB) {
	if os.Geteuid() != 0 {
		s.User, s.Elevate = strings.TrimSpace(run(t, "id", "-un")), []string{"env"}
		return
	}
	s.User, s.Password = fmt.Sprintf("dexamen%s", s.Port), "made up"
	rule := filepath.Join("/etc/sudoers.d", s.User)
	t.Cleanup(func() {
		_ = os.Remove(rule)
		_ = exec.Command("userdel", "-r", s.User).Run()
	})
	run(t, "useradd", "-m", "-s", "/bin/sh", s.User)
	set := exec.Command("chpasswd", "-c", "SHA512")
	set.Stdin = strings.NewReader(s.User + ":" + s.Password + "\n")
	out, err := set.CombinedOutput()
	require.NoError(t, err, "%s", out)
	home := filepath.Join("/home", s.User)
	line := fmt.Sprintf("%s ALL=(root) NOPASSWD: %s/.cache/dexamen/*\n", s.User, home)
	require.NoError(t, os.WriteFile(rule, []byte(line), 0o440))
	s.Elevate = []string{"sudo", "-n"}
}
