package workers_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"dexamen/internal/workers"
	"dexamen/internal/workers/workerstest"
)

// authority signs certificates of a test.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pool *x509.CertPool
}

func (a *authority) issue(t *testing.T, name string) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
		BasicConstraintsValid: true}
	parent, signer := c, key
	if a.cert != nil {
		parent, signer = a.cert, a.key
	} else {
		c.IsCA = true
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	require.NoError(t, err)
	if a.cert == nil {
		a.cert, err = x509.ParseCertificate(der)
		require.NoError(t, err)
		a.key, a.pool = key, x509.NewCertPool()
		a.pool.AddCert(a.cert)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// TestWhoIsLetIn holds that servers that ask for certificates are spoken to with them and over TLS only, and
// that who is not let in is told so.
func TestWhoIsLetIn(t *testing.T) {
	var ca, other authority
	ca.issue(t, "authority")
	other.issue(t, "another authority")
	s := workerstest.Start(t, 1, func(o *server.Options) {
		o.TLS, o.TLSVerify = true, true
		o.TLSConfig = &tls.Config{Certificates: []tls.Certificate{ca.issue(t, "server")}, ClientCAs: ca.pool,
			ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS12}
	})
	where := []string{strings.Replace(s.Addresses()[0], "nats:", "tls:", 1)}
	with := func(c *tls.Config) error {
		e, err := workers.Open(t.Context(), workers.Options{Servers: where, TLS: c, LostAfter: 6 * beat})
		if err == nil {
			e.Close()
		}
		return err
	}
	require.NoError(t, with(&tls.Config{RootCAs: ca.pool, Certificates: []tls.Certificate{ca.issue(t, "worker")}}))
	require.ErrorContains(t, with(&tls.Config{RootCAs: ca.pool}), where[0], "without a certificate")
	require.Error(t, with(&tls.Config{RootCAs: ca.pool, Certificates: []tls.Certificate{other.issue(t, "worker")}}))
	require.Error(t, with(&tls.Config{RootCAs: other.pool, Certificates: []tls.Certificate{ca.issue(t, "worker")}}),
		"another server")
	require.Error(t, with(nil))

	locked := workerstest.Start(t, 1, func(o *server.Options) { o.Authorization = "s3cret-token" })
	_, err := workers.Open(t.Context(), workers.Options{Servers: locked.Addresses()})
	require.ErrorContains(t, err, "Authorization Violation")
	missing := filepath.Join(t.TempDir(), "none.creds")
	_, err = workers.Open(t.Context(), workers.Options{Servers: locked.Addresses(), Credentials: missing})
	require.ErrorContains(t, err, missing)
	without := workerstest.Start(t, 1, func(o *server.Options) { o.JetStream = false })
	_, err = workers.Open(t.Context(), workers.Options{Servers: without.Addresses()})
	require.ErrorContains(t, err, "JetStream: it is off there")
}
