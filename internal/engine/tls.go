package engine

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/remedy"
)

// Config returns what a TLS connection needs. Where there are pins, one takes the
// place of the chain and the name.
func (t TLS) Config() (*tls.Config, error) {
	cfg := &tls.Config{MinVersion: tls.VersionTLS12}
	if t.CAFile != "" {
		pem, err := os.ReadFile(t.CAFile)
		if err != nil {
			return nil, fmt.Errorf("CA file: %w", err)
		}
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("CA file %s holds no certificate in PEM form", t.CAFile)
		}
	}
	if t.ClientCertificate != "" {
		cert, err := tls.LoadX509KeyPair(t.ClientCertificate, t.ClientCertificate)
		if err != nil {
			return nil, fmt.Errorf("client certificate: %w", err)
		}
		cfg.Certificates = []tls.Certificate{cert}
	}
	if len(t.Pins) > 0 {
		// The pin takes the place of the chain and the name.
		cfg.InsecureSkipVerify = true
		cfg.VerifyConnection = func(s tls.ConnectionState) error {
			got := Fingerprint(s.PeerCertificates[0].Raw)
			if slices.Contains(t.Pins, got) {
				return nil
			}
			return remedy.Plain(fmt.Sprintf(
				"x509: the server shows a certificate that is not pinned (%s); was it renewed?", got), remedy.Trust, "")
		}
	}
	return cfg, nil
}

// ErrTLS is returned where no connection came about that both sides trust.
var ErrTLS = errors.New("TLS")

// Untrusted returns what an error of a connection says of certificates, with what to do; nil where it
// says nothing of them.
func Untrusted(addr string, err error) error {
	msg := strings.Join(strings.Fields(err.Error()), " ")
	switch {
	case strings.Contains(msg, "unknown authority"):
		return remedy.With(fmt.Errorf("%s: %w: %s; give the authority that signed it as tls.ca, or look at the "+
			"certificate and pin it", addr, ErrTLS, msg), remedy.Trust, "")
	case strings.Contains(msg, "x509") || strings.Contains(msg, "tls:"):
		return fmt.Errorf("%s: %w: %s", addr, ErrTLS, msg)
	}
	return nil
}

// CertificatesOf asks the servers at some addresses for their certificates; an error is returned
// where none of them answers.
func CertificatesOf(ctx context.Context, t TLS, hosts []string) (out []Certificate, err error) {
	t.Pins = []string{"none yet"} // whatever they show is taken
	cfg, err := t.Config()
	if err != nil {
		return nil, err
	}
	cfg.VerifyConnection = nil
	var errs []error
	for _, h := range hosts {
		cert, err := CertificateOf(ctx, h, cfg, 5*time.Second)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out = append(out, cert)
	}
	if len(out) == 0 {
		return nil, errors.Join(errs...)
	}
	return out, nil
}

// CertificateOf asks the server at an address for its certificate. It sends
// nothing else.
func CertificateOf(ctx context.Context, addr string, cfg *tls.Config, patience time.Duration) (Certificate, error) {
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: patience}, Config: cfg}
	conn, err := d.DialContext(ctx, "tcp", addr)
	if err != nil {
		return Certificate{}, fmt.Errorf("%s: %w", addr, err)
	}
	defer conn.Close()
	x := conn.(*tls.Conn).ConnectionState().PeerCertificates[0]
	names := slices.Clone(x.DNSNames)
	for _, ip := range x.IPAddresses {
		names = append(names, ip.String())
	}
	return Certificate{Address: addr, Fingerprint: Fingerprint(x.Raw), Subject: x.Subject.String(),
		Issuer: x.Issuer.String(), From: x.NotBefore, Until: x.NotAfter, Names: names}, nil
}
