// Package config reads Dexamen's configuration file: YAML, strict, with errors
// that name line and column.
package config

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/remedy"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
)

// Config is the whole file.
type Config struct {
	Stores   map[string]Store   `yaml:"stores"`
	Clusters map[string]Cluster `yaml:"clusters"`
	Quiesce  map[string]Quiesce `yaml:"quiesce"`
	Servers  map[string]Server  `yaml:"servers"`
	Policies map[string]Policy  `yaml:"policies"`
	Alerts   Alerts             `yaml:"alerts"`
	Daemon   Daemon             `yaml:"daemon"`
	Limits   Limits             `yaml:"limits"`
	Evidence Evidence           `yaml:"evidence"`
	Report   *Report            `yaml:"report"`
	Workers  *Workers           `yaml:"workers"`
	// Include names files, as patterns beside this one, that add clusters and policies.
	Include []string `yaml:"include"`
	// DefaultStore is the store that is meant where several are configured and nothing else says which.
	DefaultStore string `yaml:"default_store"`
	// Included are the files that were read so.
	Included []string `yaml:"-"`
	sources  []source
	// Path is where it was read from.
	Path string `yaml:"-"`
	// Lacking says which secrets are named and not there now.
	Lacking []string `yaml:"-"`
	// Warnings are of what works and should not be so.
	Warnings []string `yaml:"-"`
	// Unmade names the stores whose key files are not there: before a store is made
	// that is as it should be.
	Unmade []string `yaml:"-"`
}

// Store is a place where backups go.
type Store struct {
	Location string `yaml:"location"` // file:///FOLDER or s3://BUCKET/PREFIX
	// Of object stores: the server's address (Amazon's when empty), and whether
	// the bucket is in the path.
	Endpoint  string `yaml:"endpoint"`
	Region    string `yaml:"region"`
	PathStyle bool   `yaml:"path_style"`
	// Login is the access key and its secret; without one the environment, the
	// usual files and the machine are asked.
	Login *Login `yaml:"login"`
	// Key is where the key or the passphrase of an encrypted store is.
	Key *Secret `yaml:"key"`
	// Identity is what store create printed: another store at that place is refused.
	Identity string `yaml:"identity"`
	// Of a store that is made: parity such as 8+2, and for how long objects are
	// locked against removal.
	Parity string `yaml:"parity"`
	// Compress is fast (when left out), auto or small.
	Compress string `yaml:"compress"`
	// Capacity is how many bytes the place has, where it does not tell itself.
	Capacity Size `yaml:"capacity"`
	// ReadOnly: this host looks at it and changes nothing; nothing is tried to be written.
	ReadOnly bool `yaml:"read_only"`
	// Prices are what its place costs.
	Prices       *Prices  `yaml:"prices"`
	ImmutableFor Duration `yaml:"immutable_for"`
}

// Prices are what an object store costs, in one currency.
type Prices struct {
	Currency string `yaml:"currency"`
	// StoredGiB is for a GiB a month, SentGiB for a GiB that is sent there, and the others for a
	// thousand requests that write and that read.
	StoredGiB float64 `yaml:"stored_gib"`
	SentGiB   float64 `yaml:"sent_gib"`
	Write1000 float64 `yaml:"write_1000"`
	Read1000  float64 `yaml:"read_1000"`
}

// Key returns what opens a store: the text of a key file or a passphrase;
// empty where nothing is configured.
func (c *Config) Key(ctx context.Context, name string) (string, error) {
	u := c.Stores[name].Key
	if u == nil {
		return "", nil
	}
	text, err := u.read(ctx)
	if err != nil {
		return "", fmt.Errorf("%s: stores.%s.key: %w", c.Path, name, err)
	}
	return text, nil
}

// Open returns the place a store lies in, its secret included.
func (c *Config) Open(ctx context.Context, name string) (blob.Backend, error) {
	s := c.Stores[name]
	if !strings.HasPrefix(s.Location, "s3:") {
		return blob.Open(s.Location)
	}
	o := s.options()
	if s.Login != nil {
		o.Access = s.Login.User
		var err error
		if o.Secret, err = s.Login.Secret.read(ctx); err != nil {
			return nil, fmt.Errorf("%s: stores.%s.login.secret: %w", c.Path, name, err)
		}
	}
	return blob.NewS3(o)
}

func (s Store) options() blob.S3Options {
	return blob.S3Options{Location: s.Location, Endpoint: s.Endpoint, Region: s.Region, PathStyle: s.PathStyle}
}

// Cluster is a cluster to protect, or to restore onto.
type Cluster struct {
	Address string   `yaml:"address"`
	Login   *Login   `yaml:"login"`
	TLS     *TLS     `yaml:"tls"`
	Prefer  []string `yaml:"prefer"`
	MaxLag  Duration `yaml:"max_lag"`
	// ClusterWide: users, roles, templates are protected too.
	ClusterWide bool `yaml:"cluster_wide"`
	// Options are what only clusters of its engine can be told.
	Options map[string]any `yaml:"options"`
	// Scratch names the cluster, of one empty server, on which moments are made
	// that are to be had on a server only. What is on it is thrown away.
	Scratch string            `yaml:"scratch"`
	Labels  map[string]string `yaml:"labels"`
	// Quiesce is the way in which it is held still while it is copied, or none; the one
	// that applies to it where it is absent.
	Quiesce string `yaml:"quiesce"`
	// Store is the store its backups go to; not needed where there is one.
	Store string `yaml:"store"`
	// Unprotected: that no policy protects it is meant.
	Unprotected bool `yaml:"unprotected"`
}

// Limits bound what Dexamen uses of its machine.
type Limits struct {
	Memory            Size   `yaml:"memory"`              // of the program; DefaultMemory when absent
	ReadersPerCluster int    `yaml:"readers_per_cluster"` // readers or writers on a cluster at once
	Temp              string `yaml:"temp"`                // folder for temporary files
}

const (
	minMemory = 64 << 20
	maxShare  = 1 << 30 // of memory, where nothing is configured
)

// DefaultMemory returns how much memory the program uses where limits.memory is absent: a
// quarter of the machine's, or of what its container or service may use; at least 64 MiB,
// at most 1 GiB.
var DefaultMemory = sync.OnceValue(func() Size {
	all, err := memlimit.FromSystem()
	if group, gerr := memlimit.FromCgroup(); gerr == nil && (err != nil || group < all) {
		all, err = group, nil
	}
	if err != nil {
		return 128 << 20
	}
	return Size(min(max(all/4, minMemory), maxShare))
})

// Find returns the configuration file to read: the one named, that of
// DEXAMEN_CONFIG, or the first that is there of the usual places.
func Find(named string) (string, error) {
	if named != "" {
		return named, nil
	}
	if p := os.Getenv("DEXAMEN_CONFIG"); p != "" {
		return p, nil
	}
	places := []string{"dexamen.yaml"}
	if dir, err := os.UserConfigDir(); err == nil {
		places = append(places, filepath.Join(dir, "dexamen", "dexamen.yaml"))
	}
	places = append(places, "/etc/dexamen/dexamen.yaml")
	for _, p := range places {
		if _, err := os.Stat(p); err == nil {
			return p, nil
		}
	}
	return "", remedy.With(fmt.Errorf("no configuration file: looked for %s", strings.Join(places, ", ")),
		remedy.WriteConfig, "")
}

func (c *Config) check(k *checker) {
	for name, s := range sorted(c.Stores) {
		at := "$.stores." + name
		if s.Key != nil {
			before := len(k.lacking)
			s.Key.check(k, at+".key")
			if s.Key.File != "" {
				if len(k.lacking) > before {
					c.Unmade = append(c.Unmade, name)
				}
				k.lacking = k.lacking[:before]
			}
		}
		if !slices.Contains([]string{"", "fast", "auto", "small"}, s.Compress) {
			k.bad(at+".compress", "%q: write fast, auto or small", s.Compress)
		}
		if s.Location == "" {
			k.bad(at, "has no location, such as file:///srv/dexamen/%s", name)
		} else if strings.HasPrefix(s.Location, "s3:") {
			if _, err := blob.NewS3(s.options()); err != nil {
				k.bad(at+".location", "%v", err)
			}
			if s.Login != nil {
				s.Login.check(k, at+".login")
			}
		} else if _, err := blob.Open(s.Location); err != nil {
			k.bad(at+".location", "%v", err)
		}
	}
	for name, cl := range sorted(c.Clusters) {
		at := "$.clusters." + name
		if err := store.CheckClusterName(name); err != nil {
			k.bad(at, "%v", err)
		}
		if cl.Address == "" {
			k.bad(at, "has no address; it begins with one of %s", strings.Join(engine.Schemes(), ", "))
		} else if _, drv, err := engine.ForAddress(cl.Address); err != nil {
			k.bad(at+".address", "%v", err)
		} else if _, rest, _ := strings.Cut(cl.Address, "://"); rest == "" || rest[0] == ',' || rest[0] == ':' ||
			strings.Contains(rest, ",,") {
			k.bad(at+".address", "%q: a host is empty", engine.Redact(cl.Address))
		} else if err := engine.CheckAddress(drv, cl.Address); err != nil {
			k.bad(at+".address", "%v", err)
		} else {
			for option, value := range sorted(cl.Options) {
				if err := engine.CheckOption(drv, option, value); err != nil {
					k.bad(at+".options."+option, "%v", err)
				}
			}
		}
		if l := cl.Login; l != nil && l.Certificate {
			if cl.TLS == nil || cl.TLS.Certificate == "" || l.User != "" {
				k.bad(at+".login", "certificate: true is a login by tls.certificate, without user and secret")
			}
		} else if l != nil {
			if _, drv, err := engine.ForAddress(cl.Address); err == nil && l.User == "" && engine.LogsInBySecret(drv) {
				l.Secret.check(k, at+".login.secret")
			} else {
				l.check(k, at+".login")
			}
		}
		if cl.Scratch != "" {
			if err := c.CheckScratch(name, cl.Scratch); err != nil {
				k.bad(at+".scratch", "%v", err)
			}
		}
		if cl.Store != "" {
			if _, ok := c.Stores[cl.Store]; !ok {
				k.bad(at+".store", "there is no store %q; configured are %s", cl.Store,
					strings.Join(Names(c.Stores), ", "))
			}
		}
	}
	if _, ok := c.Stores[c.DefaultStore]; c.DefaultStore != "" && !ok {
		k.bad("$.default_store", "there is no store %q; configured are %s", c.DefaultStore,
			strings.Join(Names(c.Stores), ", "))
	}
	c.checkQuiesce(k)
	c.checkServers(k)
	c.checkPolicies(k)
	c.checkWorkers(k)
	switch m := c.Limits.Memory; {
	case m == 0:
		c.Limits.Memory = DefaultMemory()
	case m < minMemory:
		k.bad("$.limits.memory", "%d MiB is too little to work with; give it at least %d MiB", m>>20, minMemory>>20)
	}
	if c.Limits.ReadersPerCluster < 0 || c.Limits.ReadersPerCluster > 256 {
		k.bad("$.limits.readers_per_cluster", "%d is not from 1 to 256", c.Limits.ReadersPerCluster)
	}
}

func sorted[V any](m map[string]V) func(func(string, V) bool) {
	return func(yield func(string, V) bool) {
		for _, n := range Names(m) {
			if !yield(n, m[n]) {
				return
			}
		}
	}
}

// Names returns the keys of a section, in order.
func Names[V any](m map[string]V) []string {
	var out []string
	for n := range m {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// UnknownError reports that the file has no entry of a name, and which it has.
func UnknownError(kind, name string, have []string) error {
	msg := fmt.Sprintf("there is no %s %q in the configuration", kind, name)
	if near := engine.Nearest(name, have, 3); len(near) > 0 {
		msg += "; near it: " + strings.Join(near, ", ")
	} else if len(have) > 0 {
		msg += "; configured are " + strings.Join(have, ", ")
	} else {
		msg += ", which has none"
	}
	return errors.New(msg)
}

// Target returns what is needed to connect to a cluster, its secret included.
func (c *Config) Target(ctx context.Context, name string) (engine.Target, error) {
	cl, ok := c.Clusters[name]
	if !ok {
		return engine.Target{}, UnknownError("cluster", name, Names(c.Clusters))
	}
	t := engine.Target{Name: name, Address: cl.Address, Prefer: cl.Prefer, MaxLag: time.Duration(cl.MaxLag),
		Settings: cl.ClusterWide, Options: cl.Options}
	if cl.Login != nil {
		t.User, t.AuthDatabase, t.ByCertificate = cl.Login.User, cl.Login.AuthDatabase, cl.Login.Certificate
	}
	if cl.Login != nil && !cl.Login.Certificate {
		var err error
		if t.Secret, err = cl.Login.Secret.read(ctx); err != nil {
			return t, fmt.Errorf("%s: clusters.%s.login.secret: %w", c.Path, name, err)
		}
	}
	var err error
	if t.Quiesce, err = c.quiesceOf(ctx, name); err != nil {
		return t, fmt.Errorf("%s: clusters.%s: %w", c.Path, name, err)
	}
	if cl.TLS != nil {
		t.TLS = engine.TLS{On: true, CAFile: cl.TLS.CA, ClientCertificate: cl.TLS.Certificate}
	}
	_, drv, err := engine.ForAddress(cl.Address)
	hosts, ok := drv.(engine.HostKeyLister)
	if cl.TLS != nil || err == nil && ok && hosts.HasHostKeys(t) {
		pins, err := c.Trusted(name)
		if err != nil {
			return t, err
		}
		for _, p := range pins {
			t.TLS.Pins = append(t.TLS.Pins, p.Fingerprint)
		}
	}
	return t, nil
}

// storeByPolicy returns the store of the policies that protect a cluster, where it is one.
func (c *Config) storeByPolicy(cluster string) (name string) {
	for _, p := range c.Policies {
		if p.Store != "" && cluster != "" && c.chooses(p, cluster) {
			if name != "" && name != p.Store {
				return ""
			}
			name = p.Store
		}
	}
	return name
}

// StoreOf returns the name of the store for a cluster: the one named, that of
// the cluster, that of its policy, or the only one.
func (c *Config) StoreOf(named, cluster string) (string, error) {
	if named == "" {
		named = c.Clusters[cluster].Store
	}
	if named == "" {
		named = c.storeByPolicy(cluster)
	}
	if named == "" {
		if len(c.Stores) == 1 {
			return Names(c.Stores)[0], nil
		}
		if c.DefaultStore != "" {
			return c.DefaultStore, nil
		}
		if len(c.Stores) == 0 {
			return "", fmt.Errorf("%s: no store is configured", c.Path)
		}
		if cluster == "" {
			return "", remedy.With(fmt.Errorf("several stores are configured (%s)",
				strings.Join(Names(c.Stores), ", ")), remedy.ChooseStore, "")
		}
		return "", remedy.With(fmt.Errorf("several stores are configured (%s)", strings.Join(Names(c.Stores), ", ")),
			remedy.ChooseStore, cluster)
	}
	if _, ok := c.Stores[named]; !ok {
		return "", UnknownError("store", named, Names(c.Stores))
	}
	return named, nil
}
