package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// clusterTrust shows certificates and pins them once somebody says that they
// are right.
func (a *app) clusterTrust(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	name := c.Args().First()
	t, err := cfg.Target(ctx, name)
	if err != nil {
		return usageError{err}
	}
	_, drv, err := engine.ForAddress(t.Address)
	if err != nil {
		return usageError{err}
	}
	what := "certificate"
	if k, ok := drv.(engine.HostKeyLister); ok && k.HasHostKeys(t) {
		what = "host key"
	} else if !t.TLS.On {
		return usage("clusters.%s has no tls section: its servers show no certificates; where they do, give "+
			"it one: tls: {}", name)
	}
	shower, ok := drv.(engine.CertificateLister)
	if !ok {
		return fmt.Errorf("%w: servers of this kind show no certificates", run.ErrRefused)
	}
	certs, err := shower.Certificates(ctx, t)
	if err != nil {
		return err
	}
	var pins []config.Pin
	for _, x := range certs {
		known := slices.Contains(t.TLS.Pins, x.Fingerprint)
		if !known {
			pins = append(pins, config.Pin{
				Cluster: name, Fingerprint: x.Fingerprint, Address: x.Address, When: time.Now()})
		}
		if a.screen.JSON {
			continue
		}
		s := a.screen
		state := "new"
		if known {
			state = "pinned already"
		}
		s.Line("%s  %s", s.Accent(x.Address), state)
		s.Line("  fingerprint  %s", x.Fingerprint)
		s.Line("  subject      %s", x.Subject)
		if x.Until.IsZero() {
			continue
		}
		s.Line("  issuer       %s", x.Issuer)
		s.Line("  names        %s", strings.Join(x.Names, ", "))
		s.Line("  valid        %s to %s", view.Time(x.From), view.Time(x.Until))
	}
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{
			"cluster": name, "certificates": certs, "new": len(pins), "file": cfg.TrustFile()}); err != nil {
			return err
		}
	}
	if len(pins) == 0 {
		return nil
	}
	if !c.Bool("yes") && (!a.screen.Terminal ||
		!a.ask("Compare the fingerprints with those the servers' administrators give. Are they right?")) {
		return fmt.Errorf("%w: not confirmed; nothing is pinned (without a terminal to ask at: --yes)", run.ErrRefused)
	}
	if err := cfg.Trust(pins); err != nil {
		return err
	}
	if !a.screen.JSON {
		a.screen.Line("%s pinned in %s", view.Plural(int64(len(pins)), what), cfg.TrustFile())
	}
	return nil
}
