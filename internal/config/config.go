// Package config reads Dexamen's configuration file: YAML, strict, with errors
// that name line and column.
package config

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/KimMachineGun/automemlimit/memlimit"

	"dexamen/internal/command"
	"dexamen/internal/core/remedy"

	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
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

// Login is how to log in. The secret is named, not held.
type Login struct {
	User   string `yaml:"user"`
	Secret Secret `yaml:"secret"`
	// AuthDatabase is the database that holds the user.
	AuthDatabase string `yaml:"auth_database"`
	// Certificate: the certificate of tls.certificate is the login.
	Certificate bool `yaml:"certificate"`
}

// TLS describes how to speak TLS.
type TLS struct {
	CA          string `yaml:"ca"`
	Certificate string `yaml:"certificate"`
}

// Secret describes where a secret is to be had from; exactly one is set.
type Secret struct {
	Env     string   `yaml:"env"`
	File    string   `yaml:"file"`
	Command []string `yaml:"command"`
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

// Duration is written as 90s, 15m, 7d.
type Duration time.Duration

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := address.ParseDistance(string(b))
	*d = Duration(v)
	return err
}

// Size is a number of bytes, written as 512KiB, 64MiB, 2GiB.
type Size int64

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Size) UnmarshalText(b []byte) error {
	text := string(b)
	for i, unit := range []string{"KiB", "MiB", "GiB", "TiB"} {
		if n, ok := strings.CutSuffix(text, unit); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(n), 64)
			if err != nil || !(v > 0 && v < 1<<20) {
				break
			}
			*s = Size(v * float64(int64(1)<<(10*(i+1))))
			return nil
		}
	}
	return fmt.Errorf("%q is no size, such as 64MiB or 2GiB", text)
}

// Rate is a number of bytes a second, written as a size a second: 64MiB/s.
type Rate int64

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Rate) UnmarshalText(b []byte) error {
	size, ok := strings.CutSuffix(string(b), "/s")
	if !ok || (*Size)(r).UnmarshalText([]byte(size)) != nil {
		return fmt.Errorf("%q is no rate, such as 64MiB/s", b)
	}
	return nil
}

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

// check sees that a user is named and that his secret is to be had one way.
func (l *Login) check(k *checker, at string) {
	if l.User == "" {
		k.bad(at, "has no user")
	}
	l.Secret.check(k, at+".secret")
}

// check sees that a secret is named in one way, and is there, as far as that can
// be seen without running a command.
func (s *Secret) check(k *checker, at string) {
	n := 0
	for _, set := range []bool{s.Env != "", s.File != "", len(s.Command) > 0} {
		if set {
			n++
		}
	}
	switch {
	case n != 1:
		k.bad(at, "give one of env, file, command")
	case s.Env != "" && os.Getenv(s.Env) == "":
		k.lack(at, "the environment variable %s is not set", s.Env)
	case s.File != "":
		if st, err := os.Stat(s.File); err != nil {
			k.lack(at, "%v", err)
		} else if !st.Mode().IsRegular() {
			k.bad(at, "%s is no file", s.File)
		} else if st.Mode().Perm()&0o004 != 0 {
			k.warnings = append(k.warnings, fmt.Sprintf("%s: %s: every user of this machine can read %s (mode %04o); "+
				"chmod 600 it, or 640 where a group must", locate(at, k.sources...), strings.TrimPrefix(at, "$."),
				s.File,
				st.Mode().Perm()))
		}
	case len(s.Command) > 0:
		if _, err := exec.LookPath(s.Command[0]); err != nil {
			k.lack(at, "%v", err)
		}
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

const (
	maxSecret  = 64 << 10
	secretTime = 30 * time.Second
)

func (s Secret) read(ctx context.Context) (string, error) {
	switch {
	case s.Env == "" && s.File == "" && len(s.Command) == 0:
		return "", errors.New("it names neither env, file nor command")
	case s.Env != "":
		v, ok := os.LookupEnv(s.Env)
		if !ok {
			return "", fmt.Errorf("the environment has no %s", s.Env)
		}
		return v, nil
	case s.File != "":
		b, err := readFile(s.File, maxSecret)
		return strings.TrimRight(string(b), "\r\n"), err
	}
	ctx, cancel := context.WithTimeout(ctx, secretTime)
	defer cancel()
	cmd, out, said := command.Command(ctx, s.Command), command.Bounded{Limit: maxSecret}, command.Tail{}
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		switch {
		case ctx.Err() != nil:
			err = fmt.Errorf("it was still running after %s and was ended", secretTime)
		case errors.Is(err, command.ErrTooMuch) || out.Over:
			err = fmt.Errorf("%w: a secret has at most %d KiB", command.ErrTooMuch, maxSecret>>10)
		case said.Line() != "":
			err = fmt.Errorf("%w: %s", err, said.Line())
		}
		return "", fmt.Errorf("command %s: %w", s.Command[0], err)
	}
	return strings.TrimRight(out.String(), "\r\n"), nil
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

// Sample is a commented file to start from.
const Sample = `# Dexamen's configuration. Looked for as --config says, then DEXAMEN_CONFIG,
# ./dexamen.yaml, the user's and the system's configuration folder.
# Check it with: dexamen config check

# include: [clusters.d/*.yaml]            # files beside this one that add clusters and policies
# default_store: larder                   # of several, where nothing else says which

stores:                                   # where backups go
  larder:
    location: file:///srv/dexamen/larder  # make it with: dexamen store create larder
    key: { file: /etc/dexamen/larder.key }   # made with it; keep a copy elsewhere. Or { env: NAME }
    # identity: 7k3q-…                    # as store create prints it: another store in its place is refused
    # parity: 8+2                         # objects in 8 pieces and 2 more, any 2 of which may be damaged
    # compress: auto                      # harder while the cluster sends slower than that; or small, always. Else fast
    # read_only: true                     # of a host that may only look
    # immutable_for: 30d                  # nobody removes an object earlier (in full only with a bucket's object lock)
  # loft:
  #   location: s3://lindenholt-loft/dexamen
  #   endpoint: https://objects.lindenholt.example:9000   # Amazon's when left out
  #   path_style: true
  #   capacity: 2TiB                     # what the place has, to be told in time when it gets full
  #   prices: { currency: EUR, stored_gib: 0.023, sent_gib: 0.01, write_1000: 0.005, read_1000: 0.0004 }
  #   login: { user: ACCESS-KEY, secret: { file: /etc/dexamen/loft.secret } }  # else the usual places

clusters:                                 # what is protected, and what is restored onto
  meadow:
    address: mongodb://meadow-1:27017/?replicaSet=meadow   # one member is enough
    login:
      user: dexamen
      secret: { env: MEADOW_SECRET }      # or: { file: PATH }, { command: [PROGRAM, ARGUMENT] }
    # tls: { ca: /etc/dexamen/ca.pem, certificate: /etc/dexamen/client.pem }
    # prefer: [meadow-2:27017, secondary, primary]   # who is read; the first that is fit
    # cluster_wide: true                             # users, roles, templates too
    # options: { pause_balancer: true }   # of a sharded cluster: keeps load down
    # scratch: hedge                      # an empty server to look at moments on, where the log holds commands
    # max_lag: 1m                         # how far behind a member may be to be read
    # labels: { yard: north }
    # store: larder                       # where there are several
    # unprotected: true                   # that no policy chooses it is meant
  # clover:                               # a search cluster
  #   address: search+http://clover-1:9200
  #   options: { quiesce: write-block }   # writes are held back for a moment, so that a point is of one
  # paddock:                              # a scratch cluster to restore onto
  #   address: mongodb://paddock-1:27017/?replicaSet=paddock

  # comb:                                 # folders of files, here or elsewhere: ssh://keeper@shed:22/srv/comb/photos
  #   address: file:///srv/comb/photos
  #   labels: { server: gallery }
  #   options: { leave_out: ["*.tmp", "cache/**"] }   # also: [ADDRESS, …], elevate: [sudo, -n]
  #   quiesce: none                       # a way of the next section, or none; the one that applies when left out

# quiesce:                                # how what writes to folders is held still while they are copied
#   gallery:
#     applies_to: { kind: folder, label: server=gallery }   # and name: GLOB
#     begin: [/usr/local/bin/hold-writes]       # on the machine that has the folder; here: true is on this one
#     end: [/usr/local/bin/let-writes-go]       # always runs; does no harm where nothing is held
#     # check: [/usr/local/bin/writes-are-held] # succeeds while it is
#     # clone: { make: [MAKE-SNAPSHOT, "{folder}"], remove: [REMOVE-SNAPSHOT, "{folder}"], at: "/mnt/clone{folder}" }
#     longest: 30s                              # after that it is let go and the copy is void
#   by-members:
#     applies_to: { name: "meadow-files" }
#     cluster: meadow                     # its servers write there; they are locked by means of their own
#     members: [meadow-2:27017]

# servers:                                # started on what was restored of folders: restore … --start gallery-beside
#   gallery-beside:
#     start: [/usr/local/bin/gallery, --folder, "{folder}", --port, "9001", --detach]
#     ready: [/usr/local/bin/gallery, --ping, "9001"]
#     within: 1m

policies:                                 # what is protected, when, and for how long
  nightly:
    clusters: [meadow]                    # or globs, or { label: yard=north }: clusters that fit join by themselves
    # namespaces: ["apiary.*", "not apiary.scratch_*", "notes-%Y.%m.%d on -1d"]   # all when left out
    # cluster_wide: true                  # users, roles, templates too
    # store: larder                       # where there are several
    # mirror_to: loft                     # a second copy, by the same rules; every mirror_every: 1h
    # time_zone: Europe/Berlin            # of schedules and retention; this machine's when left out
    snapshot: "15 1 * * *"                # minute, hour, day, month, day of the week; or: every 6h
    full_read: every 7d                   # points in between are folded from the log, at no load on the cluster
    capture: 10m                          # how often the log is captured, or: continuous
    keep:
      every_moment: 7d                    # any second of the last seven days
      thin: [daily for 30d, weekly for 26w, monthly for 730d]   # hourly, daily, weekly, monthly, yearly
      never_fewer: 3
      # never_more: 200
    # rpo: 30m                            # somebody is told when the newest moment that can be restored is older
    # no_scans: ["08:00-18:00 mon-fri"]   # no scan begins then; the log goes on
    # read_rate: 64MiB/s                  # a second, read by scans
    # retry: { first: 1m, longest: 1h }  # twice as long each time; until it is due again, or for: 6h
    # deadline: 6h                        # of one run
    # clusters_at_once: 2                 # clusters at the same time
    # drill:                              # a restore is rehearsed, checked, timed and taken away again
    #   schedule: "0 4 * * sun"
    #   to: paddock                       # a cluster that holds nothing; else the moment is served here and read back
    #   moment: random in 7d              # latest when left out; or any moment, such as -1h
    #   within: 30m                       # how long it may take until all is there
    #   checks:
    #     - that: counts["apiary.colonies"] > 1000
    #     - { find: apiary.colonies, where: yard == "north", at_least: 10 }
    #     - { run: [/usr/local/bin/smoke-test], timeout: 5m }   # DEXAMEN_ADDRESS says where
    # hooks:
    #   - { before: snapshot, run: [/usr/local/bin/announce, start], timeout: 30s }  # if_fails, environment: [NAME]
    #   - { after: snapshot, run: [/usr/local/bin/announce, end] }   # always runs

# alerts:                                 # once when something begins, and once when it is over
#   webhook: { url: "https://desk.lindenholt.example/dexamen" }   # token, headers, sign_key, ca
#   mail:                                 # tls: starttls, insisted on when left out; always; none. And login, ca
#     { server: "mail.lindenholt.example:587", from: dexamen@lindenholt.example, to: [keeper@lindenholt.example] }
#   about: [failure, gap, loss, rpo, proof, drill, mirror, capacity, unprotected, drop, burst, temporary]
#   burst: { least: 100, factor: 10 }               # how many deletions or updates are told

# daemon:
#   listen: "127.0.0.1:9480"              # a page of how everything is; /healthz, /readyz, /metrics
#   token: { file: /etc/dexamen/page.token }   # who sees the page from other machines
#   tls: { certificate: /etc/dexamen/page.pem, client_ca: /etc/dexamen/ca.pem }

# report:                                 # sent by mail, as alerts: mail: says
#   schedule: "0 7 1 * *"
#   last: 30d
#   to: [board@lindenholt.example]        # who gets alerts when left out

# evidence:                               # what drills, restores and verifications found is signed
#   key: { file: /etc/dexamen/evidence.pem }   # else with a key that this host makes and keeps

# workers:                                # several processes share the work of snapshots, captures, restores ...
#   servers: ["tls://n1.lindenholt.example:4222", "tls://n2.lindenholt.example:4222"]   # NATS with JetStream
#   credentials: /etc/dexamen/workers.creds   # tls: { ca, certificate }, replicas
#   name: north-1                         # of this process; the host's when left out
#   labels: { site: north }               # of this process
#   parallel: 4                           # tasks of this process
#   readers_per_cluster: 16               # tasks of a job, over all processes
#   lost_after: 30s                       # a silent worker's tasks go to others
#   rules:                                # who works on what; the first that fits
#     - { clusters: ["apiary-*"], only: { site: north } }
#   limits:                               # of all processes together, whatever they do; captures are not bound
#     - { name: north-link, clusters: { label: site=north }, tasks: 8, rate: 200MiB/s }   # or stores: [larder]
#   divide: true                          # each daemon carries out policies of its share of the clusters

# limits:
#   memory: 512MiB                        # of the program; a quarter of the machine's, up to 1GiB, when left out
#   readers_per_cluster: 4                # readers or writers on a cluster at once
#   temp: /var/tmp                        # temporary files; they have no name and leave nothing behind
`
