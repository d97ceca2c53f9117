package folder_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/remedy"
	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/folder"
	"dexamen/internal/engine/folder/remote"
	"dexamen/internal/engine/folder/sshhost/sshtest"
)

// TestMain makes the test's program one that serves files where it is asked to.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == remote.Argument {
		os.Exit(remote.Serve(os.Stdin, os.Stdout, os.Stderr))
	}
	os.Exit(m.Run())
}

func TestConformance(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		home := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(home, "photos"), 0o750))
		return fixture(engine.Target{Name: "comb", Address: "file://" + home + "/"}, home)
	})
}

// TestConformanceOverSSH runs the suite through a real server, as a user that may do
// nothing by itself.
func TestConformanceOverSSH(t *testing.T) {
	s := sshtest.Start(t)
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		home := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(home, "photos"), 0o750))
		f := fixture(engine.Target{Name: "comb", Address: s.Address(home + "/"), Options: map[string]any{
			"key_file": s.KeyFile, "known_hosts": s.KnownHosts, "elevate": s.Elevate}}, home)
		wrong := f.Target
		wrong.Secret, wrong.Options = "mistyped", map[string]any{"known_hosts": s.KnownHosts}
		f.WrongLogin = &wrong
		return f
	})
}

// TestHostKeys: a machine that is not known is refused until somebody trusts its key, and
// one that shows another key then, too.
func TestHostKeys(t *testing.T) {
	s := sshtest.Start(t)
	home := t.TempDir()
	target := engine.Target{Name: "comb", Address: s.Address(home + "/"), Options: map[string]any{
		"key_file": s.KeyFile, "known_hosts": os.DevNull, "elevate": s.Elevate}}
	open := func(pins ...string) error {
		target.TLS.Pins = pins
		c, err := folder.Driver{}.Open(context.Background(), target)
		if err == nil {
			require.NoError(t, c.Close())
		}
		return err
	}
	err := open()
	require.ErrorIs(t, err, engine.ErrUnreachable)
	require.ErrorContains(t, err, s.Fingerprint+" (ssh-ed25519) is not known")
	require.Equal(t, []remedy.Remedy{{Kind: remedy.TrustHost, Of: "comb"}}, remedy.All(err))
	certs, err := folder.Driver{}.Certificates(context.Background(), target)
	require.NoError(t, err)
	require.Len(t, certs, 1)
	require.Equal(t, s.Fingerprint, certs[0].Fingerprint)
	require.Equal(t, net.JoinHostPort(s.Host, s.Port), certs[0].Address)
	require.NoError(t, open(certs[0].Fingerprint))
	require.ErrorContains(t, open("SHA256:another"), "none of those that were trusted")
	other := sshtest.Start(t)
	other.Port = s.Port
	key, err := os.ReadFile(other.KnownHosts)
	require.NoError(t, err)
	known := filepath.Join(t.TempDir(), "known_hosts")
	_, after, _ := cut(key)
	require.NoError(t, os.WriteFile(known, fmt.Appendf(nil, "[%s]:%s %s", s.Host, s.Port, after), 0o600))
	target.Options["known_hosts"] = known
	require.ErrorContains(t, open(), "another one than the known one")
	if s.Password == "" {
		return // only root makes users with passwords
	}
	target.Options = map[string]any{"known_hosts": s.KnownHosts}
	target.Secret = s.Password
	require.NoError(t, open(), "a password, and no elevation")
}

// cut splits a line of known hosts after the host.
func cut(line []byte) (host, rest []byte, ok bool) {
	for i, c := range line {
		if c == ' ' {
			return line[:i], line[i+1:], true
		}
	}
	return nil, line, false
}

func fixture(t engine.Target, home string) *enginetest.Fixture {
	file := func(ns string, n int) string { return filepath.Join(home, ns, fmt.Sprintf("%06d", n)) }
	return &enginetest.Fixture{
		Target: t, Driver: folder.Driver{}, Namespace: "photos", Other: "photos-restored",
		Put: func(t testing.TB, ns string, n int, text string) {
			require.NoError(t, os.MkdirAll(filepath.Join(home, ns), 0o750))
			require.NoError(t, os.WriteFile(file(ns, n), []byte(text), 0o600))
		},
		Remove: func(t testing.TB, ns string, n int) { require.NoError(t, os.Remove(file(ns, n))) },
		Drop:   func(t testing.TB, ns string) { require.NoError(t, os.RemoveAll(filepath.Join(home, ns))) },
	}
}
