// Package document is the adapter for clusters that speak the MongoDB wire
// protocol: replica sets, and lone servers.
//
// Every member is spoken to directly, through a client of its own: which one
// is read, and when to leave it for another, is decided here and said.
package document

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/wait"

	"dexamen/internal/engine/document/bsonkey"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/event"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Driver is the engine's driver.
type Driver struct{}

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// Name is the engine's name in points.
const Name = "document"

func init() { engine.Register(Name, Driver{}, "mongodb", "mongodb+srv") }

const (
	probeTime = 10 * time.Second // for one question to one member
	downTime  = 2 * time.Second  // until a member at which nothing listens counts as down
	patience  = 15 * time.Second // for a connection to one that is there: it, or this machine, may be busy
	logTime   = 60 * time.Second // for finding the ends of a log, which some servers search
)

// role describes what a group of servers is to its cluster.
type role int

const (
	alone   role = iota // the cluster: a replica set or a lone server
	shard               // one shard of a sharded cluster
	layout              // its config servers
	routers             // its routers
)

// set is one group of servers that hold, or give access to, the same content.
type set struct {
	t     engine.Target
	log   *slog.Logger
	base  *options.ClientOptions
	seeds []string
	role  role
	shard string // its name as a shard; empty where it is the whole cluster
	// gossip is shared by all sets of a sharded cluster.
	gossip *gossip

	down sync.Map // by address: whether the driver last found it unreachable

	mu      sync.Mutex
	clients map[string]*mongo.Client
	set     string            // name of the replica set, empty for a lone server
	id      string            // what the set was given when it was made, where it tells
	hosts   []string          // members, as they call themselves
	aside   map[string]string // of members that serve a purpose of their own: hidden, delayed
	caps    capabilities
	chosen  *engine.Choice
	bad     map[string]badMember
	seen    record.Position // newest cluster time that any read may have shown
	reading string          // member whose log is followed
	pace    pace
	// proved is what trials have shown of the cluster, by the ID of each.
	proved map[string]bool
}

// forgets reports whether what capped collections forget is not in the log: what a trial has shown counts more than
// what the version says.
func (c *set) forgets() bool {
	if holds, tried := c.proved[cappedTrial]; tried {
		return !holds
	}
	return c.caps.forgets()
}

type badMember struct {
	until time.Time
	why   string
}

// capabilities are what was found out about the servers at connect.
type capabilities struct {
	sessions bool // logical sessions
	status   bool // replSetGetStatus
	log      bool // local.oplog.rs
	ordered  bool // find with min, max and hint on _id
	// logsDrops: drops, renames and index changes are in the log; told says that
	// this is known, and not assumed.
	logsDrops, told bool
	// logRefused is why the log may not be read, where it is there.
	logRefused error
	version    string
	product    string // what buildInfo calls itself, where it does
}

// major returns the first number of the servers' version; 0 where it is not known.
func (c capabilities) major() int {
	head, _, _ := strings.Cut(c.version, ".")
	n, _ := strconv.Atoi(head) // 0 where it is no number
	return n
}

// forgets reports whether what capped collections forget is not in the log.
func (c capabilities) forgets() bool { return c.status && c.log && c.major() > 0 && c.major() < 5 }

// newSet makes a set that is not discovered yet.
func newSet(t engine.Target, base *options.ClientOptions, r role, shard string, seeds []string) *set {
	c := &set{t: t, log: t.Log, base: base, role: r, shard: shard, seeds: seeds,
		clients: map[string]*mongo.Client{}, bad: map[string]badMember{}}
	if c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	if c.t.MaxLag <= 0 {
		c.t.MaxLag = time.Minute
	}
	return c
}

// client returns the connection to one member.
func (c *set) client(addr string) (*mongo.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if cl, ok := c.clients[addr]; ok {
		return cl, nil
	}
	opt := *c.base
	opt.Hosts, opt.ReplicaSet = []string{addr}, nil
	opt.SRVMaxHosts, opt.SRVServiceName = nil, nil
	o := &opt
	// What the driver learns of the member on its own is kept, so that one that
	// is down does not cost every question a wait.
	o.SetServerMonitor(&event.ServerMonitor{ServerDescriptionChanged: func(e *event.ServerDescriptionChangedEvent) {
		c.down.Store(addr, e.NewDescription.Kind == "Unknown")
	}})
	o.SetDirect(true).SetServerSelectionTimeout(patience).SetConnectTimeout(probeTime).
		SetAppName("dexamen").SetRetryReads(false).SetRetryWrites(false).SetMaxPoolSize(32)
	cl, err := mongo.Connect(o)
	if err != nil {
		return nil, err
	}
	c.clients[addr] = cl
	return cl, nil
}

// answers finds out quickly that nothing listens at a member that is not known
// to be up.
func (c *set) answers(ctx context.Context, addr string) error {
	if down, known := c.isDown(addr); known && !down || strings.Contains(addr, "/") {
		return nil
	}
	d := net.Dialer{Timeout: downTime}
	for again := true; ; again = false {
		conn, err := d.DialContext(ctx, "tcp", addr)
		if err == nil {
			return conn.Close()
		}
		// Time may have run out because this machine stood still.
		var ne net.Error
		if !again || !errors.As(err, &ne) || !ne.Timeout() || ctx.Err() != nil {
			return fmt.Errorf("%s: %w: %w", addr, engine.ErrUnreachable, err)
		}
	}
}

// isDown returns what the driver last found out by itself, if anything.
func (c *set) isDown(addr string) (down, known bool) {
	v, known := c.down.Load(addr)
	return known && v.(bool), known
}

// reach returns the connection to a member at which something listens.
func (c *set) reach(ctx context.Context, addr string) (*mongo.Client, error) {
	if err := c.answers(ctx, addr); err != nil {
		return nil, err
	}
	return c.client(addr)
}

// close ends all connections.
func (c *set) close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), probeTime)
	defer cancel()
	for _, cl := range c.clients {
		_ = cl.Disconnect(ctx)
	}
	c.clients = map[string]*mongo.Client{}
	return nil
}

// ask runs a command on one member and gives the raw answer.
func (c *set) ask(ctx context.Context, addr, db string, cmd any) (bson.Raw, error) {
	return c.askFor(ctx, probeTime, addr, db, cmd)
}

func (c *set) askFor(ctx context.Context, limit time.Duration, addr, db string, cmd any) (bson.Raw, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	ctx, giveUp := context.WithCancelCause(ctx)
	defer giveUp(nil)
	for attempt := 0; ; attempt++ {
		cl, err := c.reach(ctx, addr)
		if err != nil {
			return nil, err
		}
		// The driver waits for a member that it has found out of reach, as if it
		// might come back any moment; who asks would rather know.
		stop := time.AfterFunc(downTime, func() {
			if down, _ := c.isDown(addr); down {
				giveUp(errDown)
			}
		})
		raw, err := cl.Database(db).RunCommand(ctx, cmd).Raw()
		stop.Stop()
		if err == nil {
			c.gossip.hear(raw)
			return raw, nil
		}
		if errors.Is(context.Cause(ctx), errDown) {
			return nil, explain(addr, fmt.Errorf("%w: %s", errDown, oneLine(err)))
		}
		// A connection that was kept may have broken since it was used; a new one
		// tells whether the member is there. What is asked can be asked twice.
		if attempt > 0 || !mongo.IsNetworkError(err) || ctx.Err() != nil {
			return nil, explain(addr, err)
		}
	}
}

// hello asks a member who it is. Servers before 4.4.2 know the question by its
// older name only ("hello", "isMaster").
func (c *set) hello(ctx context.Context, addr string) (bson.Raw, error) {
	ans, err := c.ask(ctx, addr, "admin", bson.D{{Key: "hello", Value: 1}})
	if codeOf(err) == codeCommandNotFound || err != nil && strings.Contains(err.Error(), "CommandNotFound") {
		return c.ask(ctx, addr, "admin", bson.D{{Key: "isMaster", Value: 1}})
	}
	return ans, err
}

// errDown: the driver waited for a member that it had found out of reach.
var errDown = errors.New("it is down")

// explain makes a driver's error one that says what is wrong with which member
// and, where that helps, what to do.
func explain(addr string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	msg := err.Error()
	if u := engine.Untrusted(addr, errors.New(oneLine(err))); u != nil {
		return u
	}
	var ce mongo.CommandError
	switch {
	case strings.Contains(msg, "wire version"): // the driver asks for what it and Dexamen need
		return fmt.Errorf("%s: %w: version 4.4 or newer is needed: %s", addr, engine.ErrTooOld, oneLine(err))
	case strings.Contains(msg, "AuthenticationFailed") || strings.Contains(msg, "auth error"):
		return fmt.Errorf("%s: %w: check user, secret and the database that holds the user: %s", addr, engine.ErrLogin,
			oneLine(err))
	case errors.As(err, &ce) && (ce.Code == 13 || ce.Code == 8000):
		return fmt.Errorf("%s: %w: the user may not do this: %s", addr, engine.ErrLogin, ce.Message)
	case errors.Is(err, errDown) || mongo.IsTimeout(err) || mongo.IsNetworkError(err) ||
		strings.Contains(msg, "server selection error"):
		return fmt.Errorf("%s: %w: %s", addr, engine.ErrUnreachable, oneLine(err))
	}
	return fmt.Errorf("%s: %w", addr, err)
}

// oneLine shortens the driver's long connection errors to their cause.
func oneLine(err error) string {
	msg := err.Error()
	if i := strings.LastIndex(msg, "Last error: "); i >= 0 {
		msg = msg[i+len("Last error: "):]
	}
	msg = strings.TrimRight(msg, " }],")
	if len(msg) > 300 {
		msg = msg[:300] + "…"
	}
	return strings.Join(strings.Fields(msg), " ")
}

// discover finds the members from the first seed that answers, and what the
// servers can do.
func (c *set) discover(ctx context.Context) error {
	var errs []error
	for _, seed := range c.seeds {
		hello, err := c.hello(ctx, seed)
		if saysTheSame(err) {
			return err
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		_, serr := hello.LookupErr("logicalSessionTimeoutMinutes")
		c.caps.sessions = serr == nil
		if c.role == routers {
			c.hosts = c.seeds
		} else if c.set, _ = hello.Lookup("setName").StringValueOK(); c.set == "" {
			c.hosts = []string{seed}
		} else {
			c.hosts = hostsOf(hello, seed)
		}
		return c.probe(ctx, seed)
	}
	return errors.Join(errs...)
}

func hostsOf(hello bson.Raw, seed string) []string {
	var hosts []string
	for _, list := range []string{"hosts", "passives", "arbiters"} {
		arr, ok := hello.Lookup(list).ArrayOK()
		if !ok {
			continue
		}
		vals, _ := arr.Values()
		for _, v := range vals {
			if s, ok := v.StringValueOK(); ok {
				hosts = append(hosts, s)
			}
		}
	}
	if len(hosts) == 0 {
		hosts = []string{seed}
	}
	return hosts
}

// probe finds out what the servers can do, by asking for it.
func (c *set) probe(ctx context.Context, addr string) error {
	info, err := c.ask(ctx, addr, "admin", bson.D{{Key: "buildInfo", Value: 1}})
	if err != nil {
		return err
	}
	c.caps.version, _ = info.Lookup("version").StringValueOK()
	if v, ok := info.Lookup("ferretdbVersion").StringValueOK(); ok {
		c.caps.product = "FerretDB " + v
	}
	if c.set != "" {
		var st bson.Raw
		st, err = c.ask(ctx, addr, "admin", bson.D{{Key: "replSetGetStatus", Value: 1}})
		if err != nil && !isCommandError(err) {
			return err
		}
		if errors.Is(err, engine.ErrLogin) {
			return err
		}
		c.caps.status = err == nil
		if c.caps.status {
			c.findAside(ctx, addr, st)
		}
	}
	if err := c.probeLog(ctx, addr); err != nil {
		return err
	}
	return c.probeOrder(ctx, addr)
}

// probeLog finds out whether there is a log by reading it: a listing may leave it
// out, and tells nothing of whether it may be read.
func (c *set) probeLog(ctx context.Context, addr string) error {
	if c.set == "" {
		return nil
	}
	ans, err := c.askFor(ctx, logTime, addr, "local",
		bson.D{{Key: "find", Value: "oplog.rs"}, {Key: "limit", Value: 1}})
	if err != nil {
		if isCommandError(err) {
			c.caps.logRefused = err
			return nil
		}
		return err
	}
	c.caps.log = len(firstBatch(ans)) > 0
	if !c.caps.log {
		// Of one that is there and empty only the listing tells; some servers do
		// not heed its filter.
		ans, err := c.ask(ctx, addr, "local",
			bson.D{{Key: "listCollections", Value: 1},
				{Key: "filter", Value: bson.D{{Key: "name", Value: "oplog.rs"}}}})
		if err != nil && !isCommandError(err) {
			return err
		}
		for _, d := range firstBatch(ans) {
			name, _ := d.Lookup("name").StringValueOK()
			c.caps.log = c.caps.log || name == "oplog.rs"
		}
		return nil
	}
	return c.probeEntries(ctx, addr)
}

// probeEntries finds out whether the log tells of drops, renames and index
// changes: it does where it holds any entry about a namespace as a whole.
func (c *set) probeEntries(ctx context.Context, addr string) error {
	for _, name := range []string{"create", "drop", "createIndexes", "commitIndexBuild", "renameCollection"} {
		ans, err := c.ask(ctx, addr, "local",
			bson.D{{Key: "find", Value: "oplog.rs"}, {Key: "limit", Value: 1}, {Key: "maxTimeMS", Value: 2000},
				{Key: "filter", Value: bson.D{
					{Key: "op", Value: "c"}, {Key: "o." + name, Value: bson.D{{Key: "$exists", Value: true}}}}}})
		if err != nil {
			if errors.Is(err, engine.ErrUnreachable) && ctx.Err() == nil || isCommandError(err) {
				return nil // it is too long to be searched, or cannot be
			}
			return err
		}
		if len(firstBatch(ans)) > 0 {
			c.caps.logsDrops, c.caps.told = true, true
			return nil
		}
	}
	return nil
}

// tryEntries makes a collection of Dexamen's own and drops it, where the login
// may, to see whether the log tells of it. On one shard of a sharded cluster
// nothing is made.
func (c *set) tryEntries(ctx context.Context, members []engine.Member) {
	c.mu.Lock()
	known := c.caps.told || !c.caps.log || c.role != alone
	c.mu.Unlock()
	if known {
		return
	}
	for _, m := range members {
		if !m.Healthy || m.Role != "primary" {
			continue
		}
		found, err := c.tryEntriesAt(ctx, m.Address)
		if err != nil {
			c.log.Info("whether drops are logged could not be tried", "member", m.Address, "cause", short(err))
			return
		}
		c.mu.Lock()
		c.caps.logsDrops, c.caps.told = found, true
		c.mu.Unlock()
	}
}

func (c *set) tryEntriesAt(ctx context.Context, addr string) (bool, error) {
	w, err := c.window(ctx, addr)
	if err != nil {
		return false, err
	}
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails, by its contract
	name := probePrefix + hex.EncodeToString(b)
	majority := bson.E{Key: "writeConcern",
		Value: bson.D{{Key: "w", Value: "majority"}, {Key: "wtimeout", Value: int32(5000)}}}
	if _, err := c.ask(ctx, addr, workDB, bson.D{{Key: "create", Value: name}, majority}); err != nil {
		return false, err
	}
	if _, err := c.ask(ctx, addr, workDB, bson.D{{Key: "drop", Value: name}, majority}); err != nil {
		return false, err
	}
	for range 4 { // some servers write to their logs a while later
		ans, err := c.askFor(ctx, logTime, addr, "local",
			bson.D{{Key: "find", Value: "oplog.rs"}, {Key: "limit", Value: 1},
				{Key: "filter", Value: bson.D{
					{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(w.Last.Position)}}}, {
						Key: "op", Value: "c"}, {Key: "o.drop", Value: name}}}})
		if err != nil {
			return false, err
		}
		if len(firstBatch(ans)) > 0 {
			return true, nil
		}
		if err := wait.For(ctx, 500*time.Millisecond); err != nil {
			return false, err
		}
	}
	return false, nil
}

// findAside finds the members that a set keeps from its clients: those that are
// hidden are named by nobody but the set's status, and delayed ones by its
// configuration.
func (c *set) findAside(ctx context.Context, addr string, status bson.Raw) {
	arr, _ := status.Lookup("members").ArrayOK()
	list, _ := arr.Values()
	for _, m := range list {
		if name, ok := m.Document().Lookup("name").StringValueOK(); ok && !slices.Contains(c.hosts, name) {
			c.hosts = append(c.hosts, name)
		}
	}
	c.aside = map[string]string{}
	conf, err := c.ask(ctx, addr, "admin", bson.D{{Key: "replSetGetConfig", Value: 1}})
	if err != nil {
		c.log.Info("the set's configuration cannot be read; hidden and delayed members are not known as such",
			"member", addr, "cause", short(err))
		return
	}
	if id, ok := conf.Lookup("config", "settings", "replicaSetId").ObjectIDOK(); ok {
		c.id = id.Hex()
	}
	arr, _ = conf.Lookup("config", "members").ArrayOK()
	list, _ = arr.Values()
	for _, m := range list {
		d := m.Document()
		host, _ := d.Lookup("host").StringValueOK()
		var notes []string
		if truth(d.Lookup("hidden")) {
			notes = append(notes, "hidden")
		}
		for _, name := range []string{"secondaryDelaySecs", "slaveDelay"} { // as they are called by age of the server
			if n, ok := d.Lookup(name).AsInt64OK(); ok && n > 0 {
				notes = append(notes, "delayed by "+(time.Duration(n)*time.Second).String())
			}
		}
		if len(notes) > 0 {
			c.aside[host] = strings.Join(notes, ", ")
		}
	}
}

// probeOrder sees whether find honours min and max bounds. Some servers take
// them and do not heed them: they give their first document again, though a
// bound shuts it out.
func (c *set) probeOrder(ctx context.Context, addr string) error {
	c.caps.ordered = true
	spaces, err := c.list(ctx, addr, false)
	if err != nil {
		return err
	}
	for _, ns := range spaces {
		if ns.Kind != "collection" || ns.Skip != "" {
			continue
		}
		db, coll, _ := strings.Cut(ns.Name, ".")
		find := func(more ...bson.E) ([]bson.Raw, error) {
			ans, err := c.ask(ctx, addr, db, append(bson.D{{Key: "find", Value: coll}}, more...))
			if err != nil {
				return nil, err
			}
			batch, _ := ans.Lookup("cursor", "firstBatch").ArrayOK()
			vals, err := batch.Values()
			var docs []bson.Raw
			for _, v := range vals {
				docs = append(docs, v.Document())
			}
			return docs, err
		}
		two, err := find(bson.E{Key: "limit", Value: 2})
		if err != nil || len(two) < 2 {
			if err = ignoreCommandError(err); err != nil {
				return err
			}
			continue
		}
		first, err1 := bsonkey.Of(two[0])
		second, err2 := bsonkey.Of(two[1])
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		bound := "min"
		if bytes.Compare(first, second) > 0 {
			bound = "max"
		}
		got, err := find(bson.E{Key: "hint", Value: bson.D{{Key: "_id", Value: 1}}}, bson.E{Key: "limit", Value: 1},
			bson.E{Key: bound, Value: bson.D{{Key: "_id", Value: two[1].Lookup("_id")}}})
		c.caps.ordered = err == nil
		if len(got) > 0 {
			key, err := bsonkey.Of(got[0])
			c.caps.ordered = err == nil && !bytes.Equal(key, first)
		}
		return ignoreCommandError(err)
	}
	return nil // nothing to scan that order would matter for
}

func ignoreCommandError(err error) error {
	if err != nil && isCommandError(err) {
		return nil
	}
	return err
}

func isCommandError(err error) bool {
	var ce mongo.CommandError
	return errors.As(err, &ce) || errors.Is(err, engine.ErrLogin) && !strings.Contains(err.Error(), "auth error")
}

// lacks reports what the servers cannot do and what follows.
func (c *set) lacks() []engine.Limitation {
	var l []engine.Limitation
	add := func(what, then string) { l = append(l, engine.Limitation{What: what, Consequence: then}) }
	switch {
	case c.role == routers:
		return nil
	case c.set == "":
		add("no replica set: no log of changes", "snapshots are not of one moment when writes go on meanwhile; no "+
			"capture, no restore to a moment in between")
		return l
	case c.caps.logRefused != nil:
		add("the log (local.oplog.rs) may not be read by this login", "snapshots are not of one moment when writes "+
			"go on meanwhile; no capture; the least privileges include it ("+short(c.caps.logRefused)+")")
	case !c.caps.log:
		add("no log of changes (local.oplog.rs is not there)", "snapshots are not of one moment when writes go on "+
			"meanwhile; no capture, no restore to a moment in between")
	}
	if !c.caps.status {
		add("no replSetGetStatus", fmt.Sprintf("which entries are committed is not known: entries are taken once "+
			"they are %s old, or older while the server is slow", settleMin))
	}
	if !c.caps.ordered {
		add("find does not heed min and max bounds",
			"a collection is scanned whole by one reader; a scan that breaks begins that collection again")
	}
	if c.caps.log && !c.caps.logsDrops && !c.caps.told {
		add("whether drops, renames and index changes are logged is not known", "the log holds none so far; capture "+
			"compares the namespaces between two runs, and a moment between such a change and the next snapshot may "+
			"show the namespaces as the last point had them")
	} else if c.caps.log && !c.caps.logsDrops {
		add("drops, renames and index changes are not logged", "capture notes namespaces that appear, go or change "+
			"between two runs; a moment between such a change and the next snapshot shows the namespaces as the "+
			"last point had them")
	}
	return l
}

// saysTheSame reports whether the other members will answer as this one did.
func saysTheSame(err error) bool {
	return errors.Is(err, engine.ErrLogin) || errors.Is(err, engine.ErrTLS) || errors.Is(err, engine.ErrTooOld)
}
