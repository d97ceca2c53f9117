package docsim

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// ShardedOptions describe a sharded cluster to stand in.
type ShardedOptions struct {
	Name    string // begins the names of its shards; "orchard" when empty
	Shards  int    // 2 when zero
	Members int    // of each shard and of the config servers; 3 when zero
	Routers int    // 1 when zero
	// FirstPort is the first router's; the other routers, the config servers
	// and the shards follow. Zero takes any that are free.
	FirstPort int
	// Set holds what all members have in common; its Name, Members and
	// FirstPort are not used.
	Set Options
	// LocalUser, where set, is the one login that the shards know in place of the cluster's, with its password: who was
	// made through a router does not exist there ("Shard-Local Users").
	LocalUser string
	// ClockOffsets are how far each shard's wall clock is off.
	ClockOffsets []time.Duration
}

// Sharded is a running stand-in for a sharded cluster: replica sets that hold
// content, one of config servers that say where it is, and routers in front of
// them ("Sharded Cluster Components").
type Sharded struct {
	opt     ShardedOptions
	id      bson.ObjectID
	config  *ReplicaSet
	shards  map[string]*ReplicaSet
	names   []string
	routers []*router

	// where is held for reading while a routed command runs, and for writing
	// while a range changes hands: a migration's critical section.
	where sync.RWMutex
	lay   *layout
	zones map[string][]string // of each shard

	timeMu sync.Mutex
	time   bson.Timestamp              // the newest any server has told a router
	ever   map[[16]byte]bson.Timestamp // collections that were sharded, and by when
	// enabled are the databases that were enabled for sharding; under timeMu.
	enabled map[string]bool

	rng  *rand.Rand // under where, held for writing
	stop chan struct{}
	wg   sync.WaitGroup
}

// clusterPart is what a replica set knows of the cluster it belongs to.
type clusterPart struct {
	c     *Sharded
	shard string
	conf  bool
}

// StartSharded runs a sharded cluster on loopback ports.
func StartSharded(opt ShardedOptions) (*Sharded, error) {
	if opt.Name == "" {
		opt.Name = "orchard"
	}
	opt.Shards, opt.Routers = max(opt.Shards, 0), max(opt.Routers, 1)
	if opt.Shards == 0 {
		opt.Shards = 2
	}
	if opt.Members == 0 {
		opt.Members = 3
	}
	c := &Sharded{opt: opt, id: bson.NewObjectID(), shards: map[string]*ReplicaSet{}, stop: make(chan struct{}),
		rng: rand.New(rand.NewPCG(uint64(opt.Shards), 5)), lay: &layout{}}
	port := func(n int) int {
		if opt.FirstPort == 0 {
			return 0
		}
		return opt.FirstPort + n
	}
	start := func(name string, n int, offset time.Duration) (*ReplicaSet, error) {
		o := opt.Set
		o.Name, o.Members, o.FirstPort, o.ClockOffset = name, opt.Members, port(opt.Routers+n*opt.Members), offset
		if n > 0 && opt.LocalUser != "" {
			o.User = opt.LocalUser
		}
		return Start(o)
	}
	var err error
	if c.config, err = start(opt.Name+"-config", 0, 0); err != nil {
		return nil, err
	}
	c.config.part = &clusterPart{c, "config", true}
	for i := range opt.Shards {
		name := fmt.Sprintf("%s-%d", opt.Name, i+1)
		var offset time.Duration
		if i < len(opt.ClockOffsets) {
			offset = opt.ClockOffsets[i]
		}
		rs, err := start(name, i+1, offset)
		if err != nil {
			c.Close()
			return nil, err
		}
		rs.part = &clusterPart{c, name, false}
		c.shards[name], c.names = rs, append(c.names, name)
	}
	for i := range opt.Routers {
		l, err := listen(opt.Set.Host, port(i))
		if err != nil {
			c.Close()
			return nil, fmt.Errorf("stand-in router: %w", err)
		}
		r := &router{c: c, addr: l.Addr().String()}
		c.routers = append(c.routers, r)
		r.serve(l)
	}
	return c, c.initiate()
}

// initiate writes what config servers hold of a new cluster ("Config
// Database"), and each shard's own identity.
func (c *Sharded) initiate() error {
	docs := map[string]bson.A{"version": {bson.D{{Key: "_id", Value: int32(1)}, {Key: "clusterId", Value: c.id}}}}
	for _, name := range c.names {
		rs := c.shards[name]
		docs["shards"] = append(docs["shards"],
			bson.D{{Key: "_id", Value: name}, {Key: "host", Value: rs.host()}, {Key: "state", Value: int32(1)}})
		id := bson.D{{Key: "_id", Value: "shardIdentity"}, {Key: "shardName", Value: name},
			{Key: "clusterId", Value: c.id}, {Key: "configsvrConnectionString", Value: c.config.host()}}
		if _, err := rs.do("admin", bson.D{
			{Key: "insert", Value: "system.version"}, {Key: "documents", Value: bson.A{id}}}, nil); err != nil {
			return err
		}
	}
	for _, r := range c.routers {
		docs["mongos"] = append(docs["mongos"], bson.D{{Key: "_id", Value: r.addr}, {Key: "ping", Value: time.Now()}})
	}
	for _, coll := range slices.Sorted(maps.Keys(docs)) {
		if _, err := c.config.do("config", bson.D{{Key: "insert", Value: coll}, {Key: "documents", Value: docs[coll]}},
			nil); err != nil {
			return err
		}
	}
	return nil
}

// host returns the form in which config servers keep a replica set.
func (rs *ReplicaSet) host() string {
	s := rs.opt.Name + "/"
	for i, a := range rs.Addresses() {
		if i > 0 {
			s += ","
		}
		s += a
	}
	return s
}

// URI returns a connection address of the routers.
func (c *Sharded) URI() string {
	u := "mongodb://"
	for i, r := range c.routers {
		if i > 0 {
			u += ","
		}
		u += r.addr
	}
	return u + "/"
}

// Config returns the config servers, Shard one of the shards.
func (c *Sharded) Config() *ReplicaSet { return c.config }

// Shard returns one of the shards, by number from zero.
func (c *Sharded) Shard(i int) *ReplicaSet { return c.shards[c.names[i]] }

// Shards returns the shards' names.
func (c *Sharded) Shards() []string { return c.names }

// Close ends everything.
func (c *Sharded) Close() {
	select {
	case <-c.stop:
	default:
		close(c.stop)
	}
	for _, r := range c.routers {
		r.down()
	}
	for _, rs := range c.shards {
		rs.Close()
	}
	c.config.Close()
	c.wg.Wait()
}

// KillRouter breaks a router's connections; RestartRouter brings it back.
func (c *Sharded) KillRouter(i int) { c.routers[i].down() }

// RestartRouter brings a killed router back.
func (c *Sharded) RestartRouter(i int) error {
	l, err := net.Listen("tcp", c.routers[i].addr)
	if err != nil {
		return err
	}
	c.routers[i].serve(l)
	return nil
}

// hear takes note of a server's cluster time; tell has a server's clock go on
// from what was heard ("Logical Clock").
func (c *Sharded) hear(rs *ReplicaSet) {
	rs.mu.Lock()
	ts := rs.lastTS
	rs.mu.Unlock()
	c.timeMu.Lock()
	defer c.timeMu.Unlock()
	if after(ts, c.time) {
		c.time = ts
	}
}

func (c *Sharded) tell(rs *ReplicaSet) {
	c.timeMu.Lock()
	ts := c.time
	c.timeMu.Unlock()
	rs.mu.Lock()
	defer rs.mu.Unlock()
	rs.observe(ts)
}

func (rs *ReplicaSet) observe(ts bson.Timestamp) {
	if after(ts, rs.lastTS) {
		rs.lastTS = ts
	}
}

// do runs a command on the set's primary, waiting some time for there to be
// one, and gives its answer; set prepares the session it runs in.
func (rs *ReplicaSet) do(db string, cmd bson.D, set func(*session)) (bson.D, error) {
	raw := toRaw(append(slices.Clone(cmd), bson.E{Key: "$db", Value: db}))
	if rs.part != nil {
		rs.part.c.tell(rs)
		defer rs.part.c.hear(rs)
	}
	until := time.Now().Add(10 * time.Second)
	for {
		rs.mu.Lock()
		p := rs.primary
		if p >= 0 && !rs.members[p].up {
			p = -1
		}
		rs.mu.Unlock()
		if p >= 0 {
			s := &session{m: rs.members[p], user: rs.opt.User}
			if set != nil {
				set(s)
			}
			return s.run(lower(raw.Index(0).Key()), db, raw)
		}
		select {
		case <-rs.stop:
			return nil, errGoodbye
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(until) {
			return nil, refuse(133, "FailedToSatisfyReadPreference",
				"Could not find host matching read preference for set %s", rs.opt.Name)
		}
	}
}

// settled waits until a majority has all that the set's log holds now.
func (rs *ReplicaSet) settled() error {
	_, err := rs.do("admin", bson.D{{Key: "appendOplogNote", Value: 1}, {Key: "data", Value: bson.D{}},
		{Key: "writeConcern", Value: bson.D{{Key: "w", Value: "majority"}}}}, nil)
	return err
}

// At returns what there was on the whole cluster as of a cluster time: of each
// namespace the documents on the shard that owned them.
func (c *Sharded) At(at bson.Timestamp) map[string]Content {
	lay := readLayout(c.config.stateAt(at))
	out := map[string]Content{}
	for _, name := range c.names {
		for ns, coll := range c.shards[name].stateAt(at).colls {
			if coll.db == "admin" || coll.db == "config" || coll.name == viewsOf {
				continue
			}
			t := lay.byID[coll.uuid]
			if t == nil {
				if lay.primary[coll.db] == name && !c.everSharded(coll.uuid, at) && lay.byNS[ns] == nil &&
					!strings.HasPrefix(coll.name, "system.resharding.") {
					out[ns] = contentOf(coll)
				}
				continue
			}
			have, ok := out[t.ns]
			content := contentOf(coll)
			if t.chunks[0].shard == name {
				have.Indexes, have.Options = content.Indexes, content.Options
			}
			owns := false
			for _, ch := range t.chunks {
				owns = owns || ch.shard == name
			}
			for _, d := range content.Documents {
				if t.owner(d) == name {
					have.Documents = append(have.Documents, d)
				}
			}
			if owns || ok {
				out[t.ns] = have
			}
		}
	}
	return out
}

// Dropping names the collections that were sharded, are no longer by the config
// servers' word, and are still on shards.
func (c *Sharded) Dropping(at bson.Timestamp) map[string]bool {
	lay := readLayout(c.config.stateAt(at))
	out := map[string]bool{}
	for _, name := range c.names {
		for ns, coll := range c.shards[name].stateAt(at).colls {
			if lay.byID[coll.uuid] == nil && c.everSharded(coll.uuid, at) {
				out[ns] = true
			}
		}
	}
	return out
}

// everSharded reports whether a collection had been sharded by then.
func (c *Sharded) everSharded(id [16]byte, at bson.Timestamp) bool {
	c.timeMu.Lock()
	defer c.timeMu.Unlock()
	ts, ok := c.ever[id]
	return ok && !after(ts, at)
}

// noteSharded keeps that a collection is sharded by now.
func (c *Sharded) noteSharded(id [16]byte) {
	c.timeMu.Lock()
	defer c.timeMu.Unlock()
	if c.ever == nil {
		c.ever = map[[16]byte]bson.Timestamp{}
	}
	c.ever[id] = c.time
}
