// Package redis protects Redis: a primary with replicas, found by an address or
// through sentinels, and clusters with slots.
//
// A snapshot is what a server sends to a new replica: its content at a known
// offset. The log is the replication stream, commands dated when they were
// captured. A record is a key with its type, value and expiry, in a form that
// hangs on its content alone.
package redis

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
	"dexamen/internal/engine/redis/resp"
)

// Driver opens Redis servers.
type Driver struct{}

// Name is the engine's name in points.
const Name = "redis"

func init() {
	engine.Register(Name, Driver{}, "redis", "rediss", "redis+sentinel", "rediss+sentinel")
}

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// quiet keeps the client library from writing to the terminal: what fails is
// returned as an error.
type quiet struct{}

func (quiet) Printf(context.Context, string, ...any) {}

// quieten keeps the library from writing to standard error: what it says there comes
// back as errors too. It has one logger for the whole process.
var quieten = sync.OnceFunc(func() { goredis.SetLogger(quiet{}) })

// LogsInBySecret implements [engine.SecretLogin]: the password of a server (requirepass).
func (Driver) LogsInBySecret() bool { return true }

// askTime bounds one question to one server.
const askTime = 5 * time.Second

// cluster implements [engine.Streamed] and [engine.HistoryResumer].
type cluster struct {
	t         engine.Target
	tls       *tls.Config
	prefixes  keyprefix.Cut
	hosts     []string
	sentinel  string // the name under which sentinels know the primary
	clustered bool

	mu      sync.Mutex
	clients map[string]*goredis.Client
	untold  map[string]bool // servers that know no PEXPIRETIME
	shards  []*shard
}

// shard is a primary with its replicas.
type shard struct {
	name    string
	slots   [][2]int
	members []string // addresses, the primary first
	chosen  string
	logged  string // whose log is being read
	epoch   uint64
	resumed place     // the last that is known of it from before
	owned   ownership // when it was found to be what it was; zero where that was not asked
}

var prefixDepthOption, prefixDepth = engine.IntOption("prefix_depth",
	"how many segments of a key name its namespace; 0: all keys are one", 0, 8, 0)

// Options implements [engine.OptionLister].
func (Driver) Options() []engine.Option { return []engine.Option{prefixDepthOption} }

// Open implements [engine.Driver].
func (Driver) Open(ctx context.Context, t engine.Target) (engine.Cluster, error) {
	quieten()
	c := &cluster{t: t, clients: map[string]*goredis.Client{}, prefixes: keyprefix.Cut{Sep: ':', Depth: prefixDepth(t)}}
	err := c.parse()
	if err == nil {
		err = c.discover(ctx)
	}
	if err != nil {
		_ = c.Close()
		return nil, fmt.Errorf("cluster %s: %w", t.Name, err)
	}
	return c, nil
}

func (c *cluster) parse() error {
	scheme, rest, _ := strings.Cut(c.t.Address, "://")
	shown := engine.Redact(c.t.Address)
	u, err := url.Parse("redis://" + rest)
	if err != nil || u.Host == "" {
		return fmt.Errorf("address %q is not %s://HOST:PORT, or several of them with commas between", shown, scheme)
	}
	port := "6379"
	if strings.HasSuffix(scheme, "+sentinel") {
		port = "26379"
		if c.sentinel = strings.Trim(u.Path, "/"); c.sentinel == "" {
			return fmt.Errorf("address %q names no primary: %s://HOST:PORT/NAME", shown, scheme)
		}
	} else if strings.Trim(u.Path, "/") != "" {
		return fmt.Errorf("address %q: nothing may follow the hosts; all databases are protected", shown)
	}
	c.hosts = strings.Split(u.Host, ",")
	for i, h := range c.hosts {
		if h == "" || h[0] == ':' {
			return fmt.Errorf("address %q: a host is empty", shown)
		}
		if !strings.Contains(h, ":") {
			c.hosts[i] = net.JoinHostPort(h, port)
		}
	}
	if strings.HasPrefix(scheme, "rediss") || c.t.TLS.On {
		if c.tls, err = c.t.TLS.Config(); err != nil {
			return fmt.Errorf("TLS: %w", err)
		}
	}
	return nil
}

// tlsFor returns the TLS of a connection to an address.
func (c *cluster) tlsFor(addr string) *tls.Config {
	if c.tls == nil {
		return nil
	}
	cfg := c.tls.Clone()
	cfg.ServerName, _, _ = net.SplitHostPort(addr)
	return cfg
}

// client returns the client of one server.
func (c *cluster) client(addr string) *goredis.Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	cl := c.clients[addr]
	if cl == nil {
		cl = goredis.NewClient(c.options(addr))
		c.clients[addr] = cl
	}
	return cl
}

func (c *cluster) options(addr string) *goredis.Options {
	return &goredis.Options{Addr: addr, Username: c.t.User, Password: c.t.Secret, Dialer: dialBounded(c.tlsFor(addr)),
		DialTimeout: askTime, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, MaxRetries: -1, Protocol: 2, DisableIdentity: true,
		ContextTimeoutEnabled: true, ReadBufferSize: 256 << 10, WriteBufferSize: 256 << 10}
}

func ask[T any](ctx context.Context, fn func(context.Context) (T, error)) (T, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	return fn(ctx)
}

// info asks a server about itself.
func (c *cluster) info(ctx context.Context, addr string) (map[string]string, error) {
	s, err := ask(ctx, func(ctx context.Context) (string, error) { return c.client(addr).Info(ctx).Result() })
	if err != nil {
		return nil, c.explain(err, addr)
	}
	return parseInfo(s), nil
}

func parseInfo(s string) map[string]string {
	out := map[string]string{}
	for _, line := range strings.Split(s, "\n") {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), ":"); ok {
			out[k] = v
		}
	}
	return out
}

func num(s string) uint64 {
	n, _ := strconv.ParseUint(s, 10, 64)
	return n
}

// explain returns an error the meaning it has in package engine.
func (c *cluster) explain(err error, addr string) error {
	if err == nil {
		return nil
	}
	if u := engine.Untrusted(addr, err); u != nil {
		return u
	}
	msg := err.Error()
	var ne net.Error
	switch {
	case strings.HasPrefix(msg, "WRONGPASS"), strings.HasPrefix(msg, "NOAUTH"),
		strings.Contains(msg, "invalid password"), strings.Contains(msg, "without any password configured"):
		return fmt.Errorf("%s: %w: %s", addr, engine.ErrLogin, msg)
	case strings.HasPrefix(msg, "NOPERM"):
		return fmt.Errorf("%s: user %q may not do this: %s", addr, c.t.User, msg)
	case errors.As(err, &ne), errors.Is(err, net.ErrClosed), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, context.DeadlineExceeded),
		strings.HasPrefix(msg, "LOADING"), strings.HasPrefix(msg, "NOMASTERLINK"):
		return fmt.Errorf("%s: %w: %w", addr, engine.ErrUnreachable, err)
	}
	return fmt.Errorf("%s: %w", addr, err)
}

// discover finds the shards and their members, from the first that answers.
func (c *cluster) discover(ctx context.Context) (err error) {
	hosts := c.hosts
	var errs []error
	if c.sentinel != "" {
		named, aerr := c.askSentinels(ctx)
		if aerr != nil {
			return aerr
		}
		hosts = []string{named}
		defer func() {
			if errors.Is(err, engine.ErrUnreachable) {
				err = fmt.Errorf("the sentinels name %s as the primary %s, which does not answer; try again when "+
					"they name another, or it is back: %w", named, c.sentinel, err)
			}
		}()
	}
	for _, sh := range c.list() {
		hosts = append(slices.Clone(hosts), sh.members...)
	}
	for _, h := range hosts {
		shards, clustered, err := c.shardsBy(ctx, h)
		if err == nil {
			c.keep(shards, clustered)
			return nil
		}
		if errs = append(errs, err); errors.Is(err, engine.ErrLogin) {
			break
		}
	}
	return errors.Join(errs...)
}

// keep takes what was discovered; what is known of shards of the same name stays.
func (c *cluster) keep(shards []*shard, clustered bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, s := range shards {
		for _, old := range c.shards {
			if old.name == s.name {
				old.slots, old.members = s.slots, s.members
				shards[i] = old
			}
		}
	}
	c.shards, c.clustered = shards, clustered
}

func (c *cluster) list() []*shard {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.shards)
}

// shard finds one by its name.
func (c *cluster) shard(name string) (*shard, error) {
	for _, s := range c.list() {
		if s.name == name {
			return s, nil
		}
	}
	return nil, fmt.Errorf("cluster %s has no shard %s", c.t.Name, name)
}

// membersOf returns a shard's members, the primary first.
func (c *cluster) membersOf(s *shard) []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(s.members)
}

// askSentinels returns the address of the primary that the sentinels name.
func (c *cluster) askSentinels(ctx context.Context) (string, error) {
	var errs []error
	for _, h := range c.hosts {
		o := c.options(h)
		s := goredis.NewSentinelClient(o)
		addr, err := ask(ctx, func(ctx context.Context) ([]string, error) {
			return s.GetMasterAddrByName(ctx, c.sentinel).Result()
		})
		_ = s.Close()
		if err == nil && len(addr) == 2 {
			return net.JoinHostPort(addr[0], addr[1]), nil
		}
		if errors.Is(err, goredis.Nil) {
			err = fmt.Errorf("the sentinel knows no primary named %q", c.sentinel)
		}
		errs = append(errs, c.explain(err, h))
	}
	return "", errors.Join(errs...)
}

// shardsBy asks one server for the shards.
func (c *cluster) shardsBy(ctx context.Context, addr string) (shards []*shard, clustered bool, err error) {
	in, err := c.info(ctx, addr)
	if err != nil {
		return nil, false, err
	}
	if in["redis_mode"] == "sentinel" {
		return nil, false, fmt.Errorf("%s is a sentinel; register the primary it watches as redis+sentinel://%s/NAME",
			addr, addr)
	}
	if in["cluster_enabled"] == "1" {
		slots, err := ask(ctx, func(ctx context.Context) ([]goredis.ClusterSlot, error) {
			//nolint:staticcheck // SA1019: servers before 7.0 know no other way
			return c.client(addr).ClusterSlots(ctx).Result()
		})
		if err != nil {
			return nil, false, c.explain(err, addr)
		}
		shards, err = shardsOf(slots, addr)
		return shards, true, err
	}
	for range 5 { // a replica of a replica at most
		if in["role"] == "master" {
			break
		}
		addr = net.JoinHostPort(in["master_host"], in["master_port"])
		up, err := c.info(ctx, addr)
		if err != nil {
			return nil, false, err
		}
		in = up
	}
	s := &shard{name: "primary", members: []string{addr}}
	for i := 0; ; i++ {
		line, ok := in[fmt.Sprintf("slave%d", i)]
		if !ok {
			break
		}
		f := map[string]string{}
		for _, part := range strings.Split(line, ",") {
			k, v, _ := strings.Cut(part, "=")
			f[k] = v
		}
		// One that gives no port is no server to connect to, but a reader.
		if p := num(f["port"]); p > 0 && p < noPort {
			s.members = append(s.members, net.JoinHostPort(f["ip"], f["port"]))
		}
	}
	return []*shard{s}, false, nil
}

// shardsOf groups slots by primary. A shard is named by its lowest slot, which a
// failover does not change.
func shardsOf(slots []goredis.ClusterSlot, asked string) ([]*shard, error) {
	by := map[string]*shard{}
	var out []*shard
	slices.SortFunc(slots, func(a, b goredis.ClusterSlot) int { return a.Start - b.Start })
	next := 0
	for _, r := range slots {
		if len(r.Nodes) == 0 {
			continue
		}
		if r.Start != next {
			return nil, fmt.Errorf("%s: no primary serves slots %d to %d; mend the cluster first", asked, next,
				r.Start-1)
		}
		next = r.End + 1
		s := by[r.Nodes[0].ID]
		if s == nil {
			s = &shard{name: fmt.Sprintf("slots-%d", r.Start)}
			for _, n := range r.Nodes {
				addr := n.Addr
				if addr == "" || strings.HasSuffix(addr, ":0") {
					continue // a node that others know of, and not where it is
				}
				if strings.HasPrefix(addr, ":") { // a node that does not know its own address
					host, _, _ := net.SplitHostPort(asked)
					addr = host + addr
				}
				s.members = append(s.members, addr)
			}
			if len(s.members) == 0 {
				return nil, fmt.Errorf("%s: it does not know where the primary of slots %d to %d is", asked, r.Start,
					r.End)
			}
			by[r.Nodes[0].ID] = s
			out = append(out, s)
		}
		s.slots = append(s.slots, [2]int{r.Start, r.End})
	}
	if next != 16384 {
		return nil, fmt.Errorf("%s: no primary serves slots %d to 16383; mend the cluster first", asked, next)
	}
	return out, nil
}

// Close implements [engine.Cluster].
func (c *cluster) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, cl := range c.clients {
		_ = cl.Close()
	}
	c.clients = map[string]*goredis.Client{}
	return nil
}

func (c *cluster) fail(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("cluster %s: %w", c.t.Name, err)
}

// link is a connection on which a server sends its content and its stream.
type link struct {
	net.Conn
	*resp.Wire
	addr string
	out  sync.Mutex
}

// noPort is given as the port at which this reader takes connections: there can be none such.
// With none given servers tell of a replica at port 0, which sentinels take for one to watch
// and never forget.
const noPort = 65536

// dial connects as a replica does, up to the question.
func (c *cluster) dial(ctx context.Context, addr string) (*link, error) {
	l, err := c.dialPlain(ctx, addr)
	if err != nil {
		return nil, err
	}
	if err := l.ok(resp.Command("REPLCONF", "listening-port", noPort, "capa", "eof", "capa", "psync2")); err != nil {
		_ = l.Close()
		return nil, c.explain(err, addr)
	}
	return l, nil
}

// dialPlain connects and logs in.
func (c *cluster) dialPlain(ctx context.Context, addr string) (_ *link, err error) {
	d := net.Dialer{Timeout: askTime, KeepAlive: 10 * time.Second}
	var conn net.Conn
	if cfg := c.tlsFor(addr); cfg != nil {
		conn, err = (&tls.Dialer{NetDialer: &d, Config: cfg}).DialContext(ctx, "tcp", addr)
	} else {
		conn, err = d.DialContext(ctx, "tcp", addr)
	}
	if err != nil {
		return nil, c.explain(err, addr)
	}
	l := &link{Conn: conn, Wire: &resp.Wire{R: bufio.NewReaderSize(conn, 256<<10)}, addr: addr}
	defer func() {
		if err != nil {
			_ = conn.Close()
			err = c.explain(err, addr)
		}
	}()
	if c.t.Secret != "" {
		args := resp.Command("AUTH", c.t.Secret)
		if c.t.User != "" {
			args = resp.Command("AUTH", c.t.User, c.t.Secret)
		}
		if err := l.ok(args); err != nil {
			return nil, err
		}
	}
	return l, nil
}

func (l *link) send(args [][]byte) error {
	l.out.Lock()
	defer l.out.Unlock()
	_ = l.SetWriteDeadline(time.Now().Add(askTime))
	_, err := l.Write(resp.AppendCommand(nil, args...))
	return err
}

// readyTime is for how long a server may give signs of life before it answers: it writes all that it
// has to a file first, where it is told to.
const readyTime = time.Hour

// answer reads a line that answers, past signs of life.
func (l *link) answer(patience time.Duration) (string, error) {
	most := patience
	if patience == silence {
		most = readyTime
	}
	for begun := time.Now(); ; {
		if time.Since(begun) > most {
			return "", fmt.Errorf("%w: it has given signs of life for %s, and no answer", engine.ErrUnreachable, most)
		}
		_ = l.SetReadDeadline(time.Now().Add(patience))
		s, err := l.Line()
		if err != nil {
			return "", err
		}
		if s == "" {
			continue
		}
		if s[0] == '-' {
			return "", errors.New(s[1:])
		}
		return s, nil
	}
}

func (l *link) ok(args [][]byte) error {
	if err := l.send(args); err != nil {
		return err
	}
	_, err := l.answer(askTime)
	return err
}

// ResumeFrom implements [engine.HistoryResumer].
func (c *cluster) ResumeFrom(ctx context.Context, name string, last record.Mark) error {
	s, err := c.shard(name)
	if err != nil {
		return err
	}
	p, ok := placeOf(last.Position)
	if !ok {
		return nil
	}
	same, err := c.continues(ctx, s, p)
	if err == nil && same {
		// Where slots have come or gone it is the same stream, and another log: what comes is
		// after all that was known of it, if nothing was written since.
		var oerr error
		if oerr = c.Continues(ctx, name, last); errors.Is(oerr, engine.ErrLogEnds) {
			same, oerr = false, nil
		}
		if err = oerr; err == nil && same {
			same = c.followable(ctx, s, p) == nil
		}
	}
	if err != nil {
		return c.fail(err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	s.resumed = p
	if s.epoch = p.epoch; !same {
		s.epoch = max(p.epoch+1, uint64(time.Now().UnixMilli()))
	}
	return nil
}

// followable returns why no member has what comes after a place; nil where one has it, or one
// that may have it does not answer.
func (c *cluster) followable(ctx context.Context, s *shard, p place) error {
	f := &following{cluster: c, shard: s, at: p}
	var errs []error
	for _, addr := range c.membersOf(s) {
		in, err := c.info(ctx, addr)
		if err == nil {
			err = f.has(in, addr)
			if err != nil {
				errs = append(errs, err)
				continue
			}
		}
		return nil
	}
	return errors.Join(errs...)
}

// continues reports whether the primary's history is a continuation of one that
// was read up to a place.
func (c *cluster) continues(ctx context.Context, s *shard, p place) (bool, error) {
	in, err := c.info(ctx, c.membersOf(s)[0])
	if err != nil {
		return false, err
	}
	h := p.historyName()
	return in["master_replid"] == h && p.offset <= num(in["master_repl_offset"]) ||
		in["master_replid2"] == h && p.offset < num(in["second_repl_offset"]), nil
}
