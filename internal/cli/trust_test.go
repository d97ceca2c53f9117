package cli_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/sim/docsim"
)

// TestTrust: an unknown certificate is refused; it is shown with its
// fingerprint and pinned only when somebody says so; then it is taken, and
// another one of the same name is not.
func TestTrust(t *testing.T) {
	certificate := func() tls.Certificate {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "meadow"},
			NotBefore: time.Now().Add(-time.Hour),
			NotAfter:  time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
		der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
		require.NoError(t, err)
		return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	}
	config := &tls.Config{Certificates: []tls.Certificate{certificate()}}
	rs, err := docsim.Start(docsim.Options{TLS: config})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	s := &site{t: t, dir: t.TempDir()}
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		fmt.Appendf(nil, "clusters:\n  meadow: { address: %q, tls: {}, login: { user: weigher, secret: { env: "+
			"MEADOW_SECRET } } }\n", "mongodb://"+rs.Addresses()[1]+"/"), 0o600))
	out, _ := s.run(0, "cluster", "grants", "meadow")
	require.Contains(t, out, `user("weigher", ["dexamenProtect"])`)
	require.Contains(t, out, `grantRolesToUser("weigher", ["directShardOperations"])`,
		"on shards, which have users of their own")
	require.NotContains(t, out, "system.users", "they are not protected")
	require.NotContains(t, out, "made up")
	require.NotContains(t, out, "insert")
	out, _ = s.run(0, "cluster", "grants", "meadow", "--for", "restore")
	require.Contains(t, out, "insert")
	require.Contains(t, out, `user("weigherRestore", ["dexamenProtect", "dexamenRestore"])`)
	require.NoError(t, os.WriteFile(s.path("dexamen.yaml"),
		fmt.Appendf(nil, "clusters:\n  meadow: { address: %q, tls: {} }\n", "mongodb://"+rs.Addresses()[1]+"/"), 0o600))

	out, _ = s.run(1, "cluster", "check", "meadow")
	require.Contains(t, out, "dexamen cluster trust")
	out, errs := s.run(5, "cluster", "trust", "meadow")
	require.Contains(t, out, "sha256:")
	require.Contains(t, errs, "nothing is pinned")
	s.run(1, "cluster", "check", "meadow")
	out, _ = s.run(0, "cluster", "trust", "meadow", "--yes")
	require.Contains(t, out, s.path("dexamen.trusted"))
	s.run(0, "cluster", "check", "meadow")
	out, _ = s.run(0, "cluster", "trust", "meadow")
	require.Contains(t, out, "pinned already")

	require.NoError(t, os.WriteFile(s.path("dexamen.trusted"), []byte("meadow sha256:00 somewhere yesterday\n"), 0o600))
	_, errs = s.run(2, "cluster", "inspect", "meadow")
	require.Contains(t, errs, "dexamen.trusted:1:")
	require.NoError(t, os.WriteFile(s.path("dexamen.trusted"),
		[]byte("meadow sha256:00 somewhere 2026-11-23T10:00:00Z\n"), 0o600))
	out, _ = s.run(1, "cluster", "check", "meadow")
	require.Contains(t, out, "not pinned")
}
