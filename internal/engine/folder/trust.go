package folder

import (
	"context"
	"slices"

	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/sshhost"
)

// machines returns the other machines that a target's folders are on.
func machines(t engine.Target) ([]location, error) {
	also, err := texts(t.Options["also"])
	if err != nil {
		return nil, err
	}
	var out []location
	for _, a := range append([]string{t.Address}, also...) {
		l, err := parseAddress(a)
		if err != nil {
			return nil, err
		}
		if l.host != "" && !slices.ContainsFunc(out,
			func(o location) bool { return o.host == l.host && o.port == l.port }) {
			out = append(out, l)
		}
	}
	return out, nil
}

// HasHostKeys implements [engine.HostKeyLister].
func (Driver) HasHostKeys(t engine.Target) bool {
	list, err := machines(t)
	return err == nil && len(list) > 0
}

// Certificates implements [engine.CertificateLister]: they are the machines' host keys.
func (Driver) Certificates(ctx context.Context, t engine.Target) ([]engine.Certificate, error) {
	list, err := machines(t)
	if err != nil {
		return nil, err
	}
	var out []engine.Certificate
	for _, l := range list {
		k, err := sshhost.HostKey(ctx, sshhost.Options{Host: l.host, Port: l.port, Target: t})
		if err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, nil
}
