package document

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/core/remedy"
	"dexamen/internal/engine"
)

// cluster implements [engine.Logged], and [engine.Routed] where it is sharded.
type cluster struct {
	t        engine.Target
	sets     map[string]*set // by shard name
	order    []string        // of shard names
	routers  *set            // nil where it is not sharded
	identity string
	// hashesChecked: servers were found to hash shard keys as it is done here.
	hashesChecked atomic.Bool
}

// configShard is what the config servers of a sharded cluster are called as a
// shard: they hold where everything is, and the users.
const configShard = "config"

// Open implements [engine.Driver].
func (Driver) Open(ctx context.Context, t engine.Target) (engine.Cluster, error) {
	base, err := clientOptions(t)
	if err != nil {
		return nil, fmt.Errorf("cluster %s: address %q: %w", t.Name, engine.Redact(t.Address), err)
	}
	c := &cluster{t: t, sets: map[string]*set{}}
	if err := c.discover(ctx, base); err != nil {
		_ = c.Close()
		return nil, fmt.Errorf("cluster %s: %w", t.Name, err)
	}
	if t.Proved != nil {
		for _, s := range c.sets {
			s.proved = t.Proved(c.identity, s.caps.version)
		}
	}
	return c, nil
}

// Parameters implements [engine.Parametered].
func (Driver) Parameters() []string {
	return []string{"replicaSet", "authSource", "authMechanism", "directConnection", "connectTimeoutMS",
		"serverSelectionTimeoutMS",
		"timeoutMS", "compressors", "zlibCompressionLevel", "srvMaxHosts", "srvServiceName", "maxPoolSize"}
}

func clientOptions(t engine.Target) (*options.ClientOptions, error) {
	address, mechanism := withoutMechanism(t.Address)
	base := options.Client().ApplyURI(address)
	if err := base.Validate(); err != nil {
		return nil, err
	}
	base = resolved(base)
	if base.LoadBalanced != nil && *base.LoadBalanced {
		return nil,
			errors.New("loadBalanced is not possible: members have to be reached one by one; give the address " +
				"of a member")
	}
	if t.User != "" {
		source := t.AuthDatabase
		if source == "" && base.Auth != nil {
			source = base.Auth.AuthSource
		}
		if source == "" {
			source = "admin"
		}
		base.SetAuth(options.Credential{AuthMechanism: mechanism, Username: t.User, Password: t.Secret,
			PasswordSet: true, AuthSource: source})
	}
	if t.ByCertificate {
		base.SetAuth(options.Credential{AuthMechanism: "MONGODB-X509"})
	}
	if !t.TLS.On {
		if t.ByCertificate {
			return nil, errors.New("a login by certificate needs TLS with a client certificate")
		}
		return base, nil
	}
	cfg, err := t.TLS.Config()
	if err != nil {
		return nil, fmt.Errorf("TLS: %w", err)
	}
	base.SetTLSConfig(cfg)
	return base, nil
}

// withoutMechanism takes the mechanism of a login out of an address: the driver wants it beside a user's name, which is
// configured apart.
func withoutMechanism(address string) (rest, mechanism string) {
	head, query, ok := strings.Cut(address, "?")
	q, err := url.ParseQuery(query)
	if !ok || err != nil || q.Get("authMechanism") == "" {
		return address, ""
	}
	mechanism = q.Get("authMechanism")
	q.Del("authMechanism")
	return head + "?" + q.Encode(), mechanism
}

// resolved returns what an address says, without the address: the servers that it was found to stand for are reached
// one by one, which the driver refuses where it still knows that they came from an SRV record.
func resolved(o *options.ClientOptions) *options.ClientOptions {
	out := options.Client()
	from, to := reflect.ValueOf(o).Elem(), reflect.ValueOf(out).Elem()
	for i := range from.NumField() {
		if from.Type().Field(i).IsExported() {
			to.Field(i).Set(from.Field(i))
		}
	}
	return out
}

// discover finds out from the first member that answers what kind of cluster
// it belongs to, and then all its parts.
func (c *cluster) discover(ctx context.Context, base *options.ClientOptions) error {
	first := newSet(c.t, base, alone, "", base.Hosts)
	var hello bson.Raw
	var seed string
	var errs []error
	for _, seed = range base.Hosts {
		var err error
		if hello, err = first.hello(ctx, seed); err == nil {
			break
		}
		if errs = append(errs, err); saysTheSame(err) {
			break // the others will say the same
		}
	}
	if hello == nil {
		_ = first.close()
		return errors.Join(errs...)
	}
	msg, _ := hello.Lookup("msg").StringValueOK()
	if _, err := hello.LookupErr("configsvr"); err == nil || msg == "isdbgrid" {
		defer func() { _ = first.close() }()
		return c.discoverSharded(ctx, base, first, seed, hello)
	}
	if err := refuseShard(ctx, first, seed); err != nil {
		_ = first.close()
		return err
	}
	c.sets[""] = first
	if err := first.discover(ctx); err != nil {
		return err
	}
	first.shard = first.shardName()
	c.sets = map[string]*set{first.shard: first}
	c.order = []string{first.shard}
	c.identity = first.set
	if first.set == "" {
		c.identity = first.hosts[0]
	}
	return nil
}

// refuseShard refuses one shard of a sharded cluster: alone it is a part of the
// content, and what else is on it is not content.
func refuseShard(ctx context.Context, s *set, seed string) error {
	ans, err := s.ask(ctx, seed, "admin",
		bson.D{{Key: "find", Value: "system.version"},
			{Key: "filter", Value: bson.D{{Key: "_id", Value: "shardIdentity"}}}, {Key: "limit", Value: 1}})
	if err != nil {
		return ignoreCommandError(err)
	}
	docs := firstBatch(ans)
	if len(docs) == 0 {
		return nil
	}
	name, _ := docs[0].Lookup("shardName").StringValueOK()
	config, _ := docs[0].Lookup("configsvrConnectionString").StringValueOK()
	_, hosts, _ := strings.Cut(config, "/")
	return fmt.Errorf("%s belongs to shard %s of a sharded cluster, which is protected as a whole; give the address "+
		"of a router, or of its config servers: mongodb://%s", seed, name, hosts)
}

func firstBatch(ans bson.Raw) []bson.Raw {
	batch, _ := ans.Lookup("cursor", "firstBatch").ArrayOK()
	vals, _ := batch.Values()
	var out []bson.Raw
	for _, v := range vals {
		if d, ok := v.DocumentOK(); ok {
			out = append(out, d)
		}
	}
	return out
}

// discoverSharded finds config servers, shards and routers, from a router or
// from a config server.
func (c *cluster) discoverSharded(ctx context.Context, base *options.ClientOptions, s *set, seed string,
	hello bson.Raw) error {
	read := func(coll string) ([]bson.Raw, error) {
		ans, err := s.ask(ctx, seed, "config",
			bson.D{{Key: "find", Value: coll}, {Key: "readConcern", Value: bson.D{{Key: "level", Value: "majority"}}},
				{Key: "batchSize", Value: 10_000}})
		if err != nil {
			return nil, fmt.Errorf("reading config.%s: %w", coll, err)
		}
		return firstBatch(ans), nil
	}
	version, err := read("version")
	if err != nil {
		return err
	}
	if len(version) > 0 {
		if id, ok := version[0].Lookup("clusterId").ObjectIDOK(); ok {
			c.identity = id.Hex()
		}
	}
	if c.identity == "" {
		return fmt.Errorf("%s: config.version names no clusterId; this is no sharded cluster that Dexamen knows", seed)
	}
	var routerHosts []string
	config := hostsOf(hello, seed)
	if _, err := hello.LookupErr("configsvr"); err != nil {
		routerHosts = base.Hosts
		m, err := s.ask(ctx, seed, "admin", bson.D{{Key: "getShardMap", Value: 1}})
		if err != nil {
			return err
		}
		text, _ := m.Lookup("map", "config").StringValueOK()
		_, hosts, _ := strings.Cut(text, "/")
		if hosts == "" {
			return fmt.Errorf("%s: getShardMap names no config servers", seed)
		}
		config = strings.Split(hosts, ",")
	} else {
		list, err := read("mongos")
		if err != nil {
			return err
		}
		for _, r := range list {
			if host, ok := r.Lookup("_id").StringValueOK(); ok {
				routerHosts = append(routerHosts, host)
			}
		}
	}
	c.routers = newSet(c.t, base, routers, "", routerHosts)
	c.sets[configShard] = newSet(c.t, base, layout, configShard, config)
	list, err := read("shards")
	if err != nil {
		return err
	}
	for _, sh := range list {
		name, _ := sh.Lookup("_id").StringValueOK()
		text, _ := sh.Lookup("host").StringValueOK()
		_, hosts, ok := strings.Cut(text, "/")
		if name == configShard || !ok {
			return fmt.Errorf("shard %s at %q: shards that are config servers too, or no replica sets, are not "+
				"protected by this version", name, text)
		}
		c.sets[name] = newSet(c.t, base, shard, name, strings.Split(hosts, ","))
	}
	c.order = slices.Sorted(maps.Keys(c.sets))
	heard := new(gossip)
	for _, s := range c.sets {
		s.gossip = heard
	}
	g, gctx := errgroup.WithContext(ctx)
	for name, s := range c.sets {
		g.Go(func() error {
			if err := s.discover(gctx); err != nil {
				if err = fmt.Errorf("shard %s: %w", name, err); errors.Is(err, engine.ErrLogin) {
					err = remedy.With(err, remedy.ShardLogins, c.t.Name) // the config servers let it in
				}
				return err
			}
			if !s.caps.status {
				return fmt.Errorf("shard %s: its servers do not tell how far they have replicated "+
					"(replSetGetStatus), without which a sharded cluster has no moment of its own", name)
			}
			return nil
		})
	}
	g.Go(func() error {
		if err := c.routers.discover(gctx); err != nil {
			return fmt.Errorf("routers: %w", err)
		}
		return nil
	})
	return g.Wait()
}

// Close implements [engine.Cluster].
func (c *cluster) Close() error {
	for _, s := range c.sets {
		_ = s.close()
	}
	if c.routers != nil {
		_ = c.routers.close()
	}
	return nil
}

// of returns the servers of one shard.
func (c *cluster) of(shard string) (*set, error) {
	if s, ok := c.sets[shard]; ok {
		return s, nil
	}
	if shard == "" && len(c.sets) == 1 {
		return c.sets[c.order[0]], nil
	}
	return nil, fmt.Errorf("cluster %s has no shard %q; it has %s", c.t.Name, shard, strings.Join(c.order, ", "))
}

// Engine implements [engine.Cluster].
func (c *cluster) Engine() string { return Name }

// Topology implements [engine.Cluster].
func (c *cluster) Topology(ctx context.Context) (*engine.Topology, error) {
	t := &engine.Topology{Engine: Name, Kind: "replica set", Identity: c.identity, Settings: c.t.Settings}
	if c.routers != nil {
		t.ID = c.identity
	} else if s := c.sets[c.order[0]]; s != nil {
		t.ID = s.id
	}
	t.Shards = make([]engine.Shard, len(c.order))
	g, gctx := errgroup.WithContext(ctx)
	for i, name := range c.order {
		g.Go(func() (err error) {
			t.Shards[i], err = c.sets[name].describeShard(gctx)
			return err
		})
	}
	if c.routers != nil {
		t.Kind = "sharded cluster"
		g.Go(func() (err error) {
			t.Routers, err = c.routers.members(gctx)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	seen := map[string]bool{}
	for _, name := range c.order {
		s := c.sets[name]
		if s.set == "" {
			t.Kind = "lone server"
		}
		t.Version = s.caps.version
		if s.caps.product != "" {
			t.Version += " (" + s.caps.product + ")"
		}
		t.HidesDrops = t.HidesDrops || s.caps.log && !s.caps.logsDrops
		for _, l := range s.lacks() {
			if !seen[l.What] {
				t.Limitations = append(t.Limitations, l)
			}
			seen[l.What] = true
		}
	}
	return t, nil
}

// Choose implements [engine.Cluster].
func (c *cluster) Choose(ctx context.Context, shard string) (engine.Choice, error) {
	s, err := c.of(shard)
	if err != nil {
		return engine.Choice{}, err
	}
	return s.choose(ctx)
}

// Namespaces implements [engine.Cluster]: of every shard by itself.
func (c *cluster) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	lists := make([][]engine.Namespace, len(c.order))
	g, gctx := errgroup.WithContext(ctx)
	for i, name := range c.order {
		g.Go(func() (err error) {
			lists[i], err = c.sets[name].namespaces(gctx)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := slices.Concat(lists...)
	slices.SortStableFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, c.checkHashes(ctx, out)
}

// Partitions implements [engine.Cluster].
func (c *cluster) Partitions(ctx context.Context, ns engine.Namespace, n int) ([]engine.Partition, error) {
	s, err := c.of(ns.Shard)
	if err != nil {
		return nil, err
	}
	return s.partitions(ctx, ns, n)
}

// Scan implements [engine.Cluster].
func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, p engine.Partition,
	fn func(record.Record) error) error {
	s, err := c.of(ns.Shard)
	if err != nil {
		return err
	}
	return s.scan(ctx, ns, p, fn)
}

// LogEnd implements [engine.Logged].
func (c *cluster) LogEnd(ctx context.Context, shard string) (record.Mark, error) {
	s, err := c.of(shard)
	if err != nil {
		return record.Mark{}, err
	}
	return s.logEnd(ctx)
}

// LogStart implements [engine.Logged].
func (c *cluster) LogStart(ctx context.Context, shard string) (record.Mark, error) {
	s, err := c.of(shard)
	if err != nil {
		return record.Mark{}, err
	}
	return s.logStart(ctx)
}

// Follow implements [engine.Logged].
func (c *cluster) Follow(ctx context.Context, shard string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	s, err := c.of(shard)
	if err != nil {
		return err
	}
	return s.followLog(ctx, after, fn)
}

// Continues implements [engine.Continuer].
func (c *cluster) Continues(ctx context.Context, shard string, from record.Mark) error {
	s, err := c.of(shard)
	if err != nil {
		return err
	}
	return s.continues(ctx, from)
}

// LogMember implements [engine.Logged].
func (c *cluster) LogMember(shard string) string {
	s, err := c.of(shard)
	if err != nil {
		return ""
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.reading
}

var pauseBalancerOption, pauseBalancer = engine.BoolOption("pause_balancer",
	"stop the balancer while the cluster is scanned; not needed for an exact snapshot, keeps load down")

// Options implements [engine.OptionLister].
func (Driver) Options() []engine.Option { return []engine.Option{pauseBalancerOption} }

// Quiescible implements [engine.Quiescer]: it is the balancer, where it runs and is
// to be stopped.
func (c *cluster) Quiescible(ctx context.Context, _ func(string) bool) (engine.Hold, error) {
	if c.routers == nil || !pauseBalancer(c.t) {
		return engine.Hold{}, nil
	}
	on := false
	err := c.routers.onMember(ctx, func(addr string) error {
		ans, err := c.routers.ask(ctx, addr, "admin", bson.D{{Key: "balancerStatus", Value: 1}})
		mode, _ := ans.Lookup("mode").StringValueOK()
		on = mode == "full"
		return err
	})
	if err != nil || !on {
		return engine.Hold{}, err
	}
	return engine.Hold{What: "the balancer"}, nil
}

// Quiesce implements [engine.Quiescer]. It waits for the move that is going on.
func (c *cluster) Quiesce(ctx context.Context, h engine.Hold) error {
	members, err := lockedBy(h)
	if err != nil || len(members) > 0 {
		return errors.Join(err, c.lockFiles(ctx, members))
	}
	return c.setBalancer(ctx, false)
}

// Resume implements [engine.Quiescer].
func (c *cluster) Resume(ctx context.Context, h engine.Hold) error {
	members, err := lockedBy(h)
	if err != nil || len(members) > 0 {
		return errors.Join(err, c.unlockFiles(ctx, members))
	}
	return c.setBalancer(ctx, true)
}

func (c *cluster) setBalancer(ctx context.Context, on bool) error {
	if c.routers == nil {
		return nil
	}
	cmd := bson.D{{Key: "balancerStop", Value: 1}, {Key: "maxTimeMS", Value: int64(logTime / time.Millisecond)}}
	if on {
		cmd = bson.D{{Key: "balancerStart", Value: 1}}
	}
	return c.routers.onMember(ctx, func(addr string) error {
		_, err := c.routers.askFor(ctx, logTime, addr, "admin", cmd)
		return err
	})
}

// Writer implements [engine.Cluster].
func (c *cluster) Writer(ctx context.Context) (engine.Writer, error) {
	if c.routers != nil {
		return c.routers.writer(ctx)
	}
	return c.sets[c.order[0]].writer(ctx)
}

// Routed implements [engine.Routed].
func (c *cluster) Routed() engine.Cluster {
	if c.routers == nil {
		return c
	}
	return &routed{&cluster{t: c.t, sets: map[string]*set{"": c.routers}, order: []string{""}, identity: c.identity}}
}

// routed is a sharded cluster as its applications see it.
type routed struct{ *cluster }

// Close leaves the connections to the cluster they belong to.
func (r *routed) Close() error { return nil }
