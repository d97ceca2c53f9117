// Package etcd protects etcd clusters: an exact copy at one revision, the log
// by watching, and restores in bounded transactions onto a live cluster.
//
// A record is a key; its value is the server's own KeyValue message with the key
// (without the prefix that names the namespace), the value and the lease. A
// position is a revision. Servers keep no times: a change is dated when it was
// captured.
package etcd

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// Driver opens etcd clusters.
type Driver struct{}

// Name is the engine's name in points.
const Name = "etcd"

func init() { engine.Register(Name, Driver{}, "etcd") }

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// askTime bounds one question to one member.
const askTime = 5 * time.Second

// cluster implements [engine.Pinned].
type cluster struct {
	t        engine.Target
	prefixes keyprefix.Cut
	tls      *tls.Config
	id       uint64
	mu       sync.Mutex
	clients  map[string]*login // by endpoint; "" is one of all
	members  []member
	chosen   string            // the endpoint that is read
	given    map[uint64]string // where members answered that say they are elsewhere
	watched  string            // the endpoint whose log is read
	because  error             // why the history that is there now is another one than the one before
	epoch    uint64            // of the history that is there now
	smaller  int64             // how many bytes pages are of, where larger ones did not come in time; zero is as usual
}

// login is a client, logged in. The library makes a login that servers have forgotten anew
// under the old one, which older servers refuse, and so on without end: that is
// taken for a failure here, after which a new client logs in.
type login struct {
	*clientv3.Client
	stale atomic.Bool
}

// errStale is returned where servers have forgotten a login.
var errStale = status.Error(codes.Unavailable, "the login was forgotten; it is made anew")

// watchLogin notes where a login is made under one that servers have forgotten, and bounds
// every question.
func (l *login) watchLogin(ctx context.Context, method string, req, reply any, conn *grpc.ClientConn,
	call grpc.UnaryInvoker, opts ...grpc.CallOption) error {
	if _, bounded := ctx.Deadline(); !bounded {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, askTime)
		defer cancel()
	}
	err := call(ctx, method, req, reply, conn, opts...)
	if err != nil && strings.HasSuffix(method, "/Authenticate") &&
		errors.Is(rpctypes.Error(err), rpctypes.ErrInvalidAuthToken) {
		l.stale.Store(true)
		return errStale
	}
	return err
}

type member struct {
	id       uint64
	name     string
	endpoint string
	learner  bool
}

var prefixDepthOption, prefixDepth = engine.IntOption("prefix_depth",
	"how many segments of a key name its namespace; 0: all keys are one", 0, 8, 1)

// Options implements [engine.OptionLister].
func (Driver) Options() []engine.Option { return []engine.Option{prefixDepthOption} }

// Open implements [engine.Driver].
func (Driver) Open(ctx context.Context, t engine.Target) (engine.Cluster, error) {
	c := &cluster{t: t, clients: map[string]*login{},
		prefixes: keyprefix.Cut{Sep: '/', Depth: prefixDepth(t)}}
	if err := c.open(ctx); err != nil {
		_ = c.Close()
		return nil, fmt.Errorf("cluster %s: %w", t.Name, err)
	}
	return c, nil
}

func (c *cluster) open(ctx context.Context) error {
	hosts, err := hostsOf(c.t.Address)
	if err != nil {
		return err
	}
	if c.t.TLS.On {
		if c.tls, err = c.t.TLS.Config(); err != nil {
			return fmt.Errorf("TLS: %w", err)
		}
	} else if c.t.ByCertificate {
		return errors.New("a login by certificate needs TLS with a client certificate")
	}
	// Each by itself at first: what one refuses shall be said, not tried again.
	var errs []error
	for _, h := range hosts {
		err := c.discover(ctx, c.endpoint(h))
		if err == nil {
			return nil
		}
		if c.tls != nil && errors.Is(err, engine.ErrUnreachable) {
			// The library tries again and does not say why.
			if _, terr := engine.CertificateOf(ctx, h, c.tls.Clone(), askTime); terr != nil {
				if u := engine.Untrusted(h, terr); u != nil {
					err = u
				}
			}
		}
		if errs = append(errs, err); errors.Is(err, engine.ErrLogin) {
			break
		}
	}
	return errors.Join(errs...)
}

func hostsOf(address string) ([]string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("address %q is not etcd://HOST:PORT, or several of them with commas between",
			engine.Redact(address))
	}
	if u.Path != "" && u.Path != "/" || u.RawQuery != "" {
		return nil, fmt.Errorf("address %q: nothing may follow the hosts", engine.Redact(address))
	}
	hosts := strings.Split(u.Host, ",")
	for i, h := range hosts {
		if h == "" || h[0] == ':' {
			return nil, fmt.Errorf("address %q: a host is empty", engine.Redact(address))
		}
		if !strings.Contains(h, ":") {
			hosts[i] = h + ":2379"
		}
	}
	return hosts, nil
}

func (c *cluster) endpoint(host string) string {
	if c.t.TLS.On {
		return "https://" + host
	}
	return "http://" + host
}

// connect makes a client for some endpoints.
func (c *cluster) connect(ctx context.Context, endpoints ...string) (*login, error) {
	l := &login{}
	cfg := clientv3.Config{Endpoints: endpoints, DialTimeout: askTime, DialKeepAliveTime: 5 * time.Second,
		DialKeepAliveTimeout: askTime,
		MaxCallSendMsgSize:   64 << 20, TLS: c.tls, Logger: zap.NewNop(), Context: context.WithoutCancel(ctx),
		DialOptions: []grpc.DialOption{grpc.WithChainUnaryInterceptor(l.watchLogin)}}
	if c.t.User != "" {
		cfg.Username, cfg.Password = c.t.User, c.t.Secret
	}
	for try := 0; ; try++ {
		// To make one is to log in, which a cluster that elects a leader does not
		// answer.
		cl, err := clientv3.New(cfg)
		if err == nil {
			l.Client = cl
			return l, nil
		}
		err = c.explain(err, strings.Join(endpoints, ","))
		if try == 2 || len(endpoints) == 1 || ctx.Err() != nil || !errors.Is(err, engine.ErrUnreachable) {
			return nil, err
		}
		pause(ctx, 500*time.Millisecond)
	}
}

// client returns the client of an endpoint.
func (c *cluster) client(ctx context.Context, endpoint string) (*clientv3.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if cl := c.clients[endpoint]; cl != nil {
		if !cl.stale.Load() {
			return cl.Client, nil
		}
		delete(c.clients, endpoint)
		_ = cl.Close()
	}
	endpoints := []string{endpoint}
	if endpoint == "" {
		endpoints = nil
		for _, m := range c.members {
			if !m.learner {
				endpoints = append(endpoints, m.endpoint)
			}
		}
	}
	cl, err := c.connect(ctx, endpoints...)
	if err != nil {
		return nil, err
	}
	c.clients[endpoint] = cl
	return cl.Client, nil
}

// membersIn returns the members of a list. One that has not begun has no address yet.
func (c *cluster) membersIn(list []*etcdserverpb.Member) (out []member) {
	for _, m := range list {
		if len(m.ClientURLs) == 0 {
			continue
		}
		at := m.ClientURLs[0]
		if given := c.given[m.ID]; given != "" && !slices.Contains(m.ClientURLs, given) {
			at = given
		}
		out = append(out, member{m.ID, m.Name, at, m.IsLearner})
	}
	return out
}

// discover asks one endpoint who the members are.
func (c *cluster) discover(ctx context.Context, endpoint string) error {
	cl, err := c.connect(ctx, endpoint)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	list, err := cl.MemberList(ctx)
	if err == nil {
		// The list is given to anyone; reading is not.
		_, err = cl.Get(ctx, "\x00", clientv3.WithCountOnly())
	}
	if err != nil {
		_ = cl.Close()
		return c.explain(err, endpoint)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.id = list.Header.ClusterId
	// The member that answers is there, whatever it says of where it is.
	c.given = map[uint64]string{list.Header.MemberId: endpoint}
	c.members = c.membersIn(list.Members)
	if len(c.members) == 0 {
		_ = cl.Close()
		return fmt.Errorf("%s: no member says at which address clients reach it", endpoint)
	}
	c.clients[endpoint] = cl
	return nil
}

// explain returns an error the meaning it has in package engine.
func (c *cluster) explain(err error, where string) error {
	if err == nil {
		return nil
	}
	where = strings.TrimPrefix(strings.TrimPrefix(where, "http://"), "https://")
	s, _ := status.FromError(err)
	msg := rpctypes.ErrorDesc(err)
	if u := engine.Untrusted(where, err); u != nil {
		return u
	}
	switch {
	case errors.Is(err, rpctypes.ErrAuthFailed), errors.Is(err, rpctypes.ErrUserEmpty),
		errors.Is(err, rpctypes.ErrInvalidAuthToken),
		strings.Contains(msg, "authentication failed"), strings.Contains(msg, "user name is empty"),
		strings.Contains(msg, "invalid auth token"):
		return fmt.Errorf("%s: %w: %s", where, engine.ErrLogin, msg)
	case errors.Is(err, rpctypes.ErrPermissionDenied), strings.Contains(msg, "permission denied"):
		return fmt.Errorf("%s: user %q may not do this: %s", where, c.t.User, msg)
	case errors.Is(err, rpctypes.ErrCompacted), strings.Contains(msg, "has been compacted"):
		return fmt.Errorf("%s: %w: %s", where, engine.ErrStateGone, msg)
	case s.Code() == codes.Unavailable, s.Code() == codes.DeadlineExceeded, errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s: %w: %w", where, engine.ErrUnreachable, err)
	}
	return fmt.Errorf("%s: %w", where, err)
}

// Close implements [engine.Cluster].
func (c *cluster) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, cl := range c.clients {
		_ = cl.Close()
	}
	c.clients = map[string]*login{}
	return nil
}
