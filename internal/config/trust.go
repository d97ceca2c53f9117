package config

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"
)

// Pin is a certificate or a host key that somebody has looked at and trusts.
type Pin struct {
	Cluster, Fingerprint, Address string
	When                          time.Time
}

// TrustFile is where pins are kept: beside the configuration, one in a line.
func (c *Config) TrustFile() string { return strings.TrimSuffix(c.Path, ".yaml") + ".trusted" }

// Trusted returns a cluster's pins.
func (c *Config) Trusted(cluster string) ([]Pin, error) {
	f, err := os.Open(c.TrustFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("trusted certificates: %w", err)
	}
	defer f.Close()
	var out []Pin
	in := bufio.NewScanner(f)
	for n := 1; in.Scan(); n++ {
		line := strings.TrimSpace(in.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		w := strings.Fields(line)
		if len(w) != 4 || !strings.HasPrefix(strings.ToLower(w[1]), "sha256:") {
			return nil, fmt.Errorf("%s:%d: not a line of CLUSTER sha256:FINGERPRINT ADDRESS TIME", c.TrustFile(), n)
		}
		when, err := time.Parse(time.RFC3339, w[3])
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", c.TrustFile(), n, err)
		}
		if w[0] == cluster {
			out = append(out, Pin{w[0], w[1], w[2], when})
		}
	}
	return out, in.Err()
}

// Trust adds pins to the file.
func (c *Config) Trust(pins []Pin) error {
	f, err := os.OpenFile(c.TrustFile(), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("trusted certificates: %w", err)
	}
	for _, p := range pins {
		fmt.Fprintf(f, "%s %s %s %s\n", p.Cluster, p.Fingerprint, p.Address, p.When.UTC().Format(time.RFC3339))
	}
	return errors.Join(f.Sync(), f.Close())
}
