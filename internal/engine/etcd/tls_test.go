package etcd

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/servertest"
)

// certificates makes an authority and a certificate for both sides of a
// connection on this machine.
func certificates(t *testing.T) (ca, cert, key, both string) {
	dir := t.TempDir()
	write := func(name string, blocks ...*pem.Block) string {
		path := filepath.Join(dir, name)
		var b []byte
		for _, x := range blocks {
			b = append(b, pem.EncodeToMemory(x)...)
		}
		require.NoError(t, os.WriteFile(path, b, 0o600))
		return path
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Lindenholt"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &caKey.PublicKey, caKey)
	require.NoError(t, err)
	ca = write("ca.pem", &pem.Block{Type: "CERTIFICATE", Bytes: der})
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "root"},
		NotBefore: tmpl.NotBefore, NotAfter: tmpl.NotAfter,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	der, err = x509.CreateCertificate(rand.Reader, leaf, tmpl, &own.PublicKey, caKey)
	require.NoError(t, err)
	raw, err := x509.MarshalECPrivateKey(own)
	require.NoError(t, err)
	c, k := &pem.Block{Type: "CERTIFICATE", Bytes: der}, &pem.Block{Type: "EC PRIVATE KEY", Bytes: raw}
	return ca, write("cert.pem", c), write("key.pem", k), write("both.pem", c, k)
}

// TestClientCertificate: servers that ask for a certificate are reached with one,
// and not without.
func TestClientCertificate(t *testing.T) {
	ca, cert, key, both := certificates(t)
	s := etcdtest.Start(t, etcdtest.Options{CA: ca, Certificate: cert, Key: key})
	ctx := context.Background()
	target := engine.Target{Name: "willow", Address: etcdtest.Address(s...),
		TLS: engine.TLS{On: true, CAFile: ca, ClientCertificate: both}}
	var c engine.Cluster
	require.Eventually(t, func() (ok bool) {
		var err error
		c, err = Driver{}.Open(ctx, target)
		return err == nil
	}, 30*time.Second, 100*time.Millisecond)
	defer c.Close()
	topo, err := c.Topology(ctx)
	require.NoError(t, err)
	require.True(t, topo.Shards[0].Members[0].Healthy)
	target.TLS.ClientCertificate = ""
	_, err = Driver{}.Open(ctx, target)
	require.Error(t, err)
	target.TLS = engine.TLS{On: true, ClientCertificate: both}
	_, err = Driver{}.Open(ctx, target)
	require.ErrorIs(t, err, engine.ErrTLS)
	require.ErrorContains(t, err, "give the authority that signed it as tls.ca")
	certs, err := Driver{}.Certificates(ctx, target)
	require.NoError(t, err)
	require.Len(t, certs, 1)
	target.TLS.Pins = []string{certs[0].Fingerprint}
	pinned, err := Driver{}.Open(ctx, target)
	require.NoError(t, err)
	require.NoError(t, pinned.Close())
	target.TLS = engine.TLS{}
	_, err = Driver{}.Open(ctx, target)
	require.ErrorIs(t, err, engine.ErrUnreachable)
}

// TestUsersAndLeases: users and roles come back without passwords, leases with
// their numbers and lengths.
func TestUsersAndLeases(t *testing.T) {
	s, other := etcdtest.Start(t, etcdtest.Options{}), etcdtest.Start(t, etcdtest.Options{})
	from, to := etcdtest.Client(t, s...), etcdtest.Client(t, other...)
	ctx := context.Background()
	_, err := from.RoleAdd(ctx, "keepers")
	require.NoError(t, err)
	_, err = from.RoleGrantPermission(ctx, "keepers", "/gateways/", "/gateways0", 2)
	require.NoError(t, err)
	_, err = from.UserAdd(ctx, "ada", "made up")
	require.NoError(t, err)
	_, err = from.UserGrantRole(ctx, "ada", "keepers")
	require.NoError(t, err)
	open := func(p *servertest.Process) *cluster {
		c, err := Driver{}.Open(ctx, engine.Target{Name: "willow", Address: etcdtest.Address(p), Settings: true})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c.(*cluster)
	}
	a, b := open(s[0]), open(other[0])
	users, err := a.users(ctx)
	require.NoError(t, err)
	roles, err := a.roles(ctx)
	require.NoError(t, err)
	wr, err := b.Writer(ctx)
	require.NoError(t, err)
	w := wr.(engine.SettingsWriter)
	for _, step := range []engine.Outcome{engine.Created, engine.Unchanged} {
		did, err := w.PutSetting(ctx, record.Namespace{Name: rolesName}, roles[0], false)
		require.NoError(t, err)
		require.Equal(t, step, did)
	}
	for _, step := range []engine.Outcome{engine.CreatedWithoutPassword, engine.Unchanged} {
		did, err := w.PutSetting(ctx, record.Namespace{Name: usersName}, users[0], false)
		require.NoError(t, err)
		require.Equal(t, step, did)
	}
	_, err = to.UserRevokeRole(ctx, "ada", "keepers")
	require.NoError(t, err)
	for _, c := range []struct {
		replace bool
		did     engine.Outcome
	}{{false, engine.KeptExisting}, {true, engine.Replaced}, {true, engine.Unchanged}} {
		did, err := w.PutSetting(ctx, record.Namespace{Name: usersName}, users[0], c.replace)
		require.NoError(t, err)
		require.Equal(t, c.did, did)
	}
	got, err := b.users(ctx)
	require.NoError(t, err)
	require.Equal(t, users, got)

	lease, err := from.Grant(ctx, 777)
	require.NoError(t, err)
	leases, err := a.leases(ctx)
	require.NoError(t, err)
	require.Len(t, leases, 1)
	ns := record.Namespace{Name: "/duty/"}
	g := wr.(engine.InPlaceWriter)
	require.NoError(t, g.Begin(ctx, ns, func(name string, fn func(r record.Record) error) error {
		return fn(leases[0])
	}))
	require.NoError(t, g.Put(ctx, ns, []record.Record{
		{Key: []byte("north"), Value: appendValue(nil, []byte("north"), []byte("ada"), int64(lease.ID))}}))
	require.NoError(t, g.End(ctx, ns))
	kv, err := to.Get(ctx, "/duty/north")
	require.NoError(t, err)
	require.EqualValues(t, lease.ID, kv.Kvs[0].Lease)
	ttl, err := to.TimeToLive(ctx, lease.ID)
	require.NoError(t, err)
	require.EqualValues(t, 777, ttl.GrantedTTL)
}
