package search

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/elastic/elastic-transport-go/v8/elastictransport"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

const (
	// askTime bounds a question that costs a server little.
	askTime = 30 * time.Second
	// answerTime is how long a server may take until it begins to answer.
	answerTime = 3 * time.Minute
	// longestLine is how long the path of a request may be: servers take request
	// lines of 4,096 bytes.
	longestLine = 3400
	// busyFor is how long a server that has too much to do is asked again.
	busyFor = 2 * time.Minute
)

// conn sends requests to the nodes of a cluster in turn. Questions that a node does
// not answer are asked of the next one; what changes something is sent once.
type conn struct {
	ask    *elastictransport.Client
	change *elastictransport.Client
	http   *http.Transport
	hosts  []string // as configured
	scheme string
	user   string
	// patience is how long a cluster that has answered before may be without an
	// answer: while it elects another manager, say.
	patience time.Duration
}

// apiError is what a server answers instead of what it was asked for.
type apiError struct {
	Status int
	Type   string
	Reason string
}

func (e *apiError) Error() string {
	if e.Reason == "" {
		return fmt.Sprintf("the server answered %d %s", e.Status, e.Type)
	}
	return fmt.Sprintf("%s (%d %s)", e.Reason, e.Status, e.Type)
}

// is reports whether an error is a server's, of a status or type.
func is(err error, status int, types ...string) bool {
	var a *apiError
	return errors.As(err, &a) && (a.Status == status || slices.Contains(types, a.Type))
}

// hostsOf takes an address apart.
func hostsOf(address string) (scheme string, hosts []string, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil {
		return "", nil, fmt.Errorf("address %q is not search+http://HOST:PORT or search+https://HOST:PORT, or several "+
			"of them with commas between", engine.Redact(address))
	}
	if u.Path != "" && u.Path != "/" || u.RawQuery != "" {
		return "", nil, fmt.Errorf("address %q: nothing may follow the hosts", engine.Redact(address))
	}
	for h := range strings.SplitSeq(u.Host, ",") {
		if _, _, err := net.SplitHostPort(h); err != nil {
			h += ":9200"
		}
		hosts = append(hosts, h)
	}
	return strings.TrimPrefix(u.Scheme, "search+"), hosts, nil
}

// connect makes a connection; nothing is sent yet.
func connect(t engine.Target) (*conn, error) {
	c := &conn{user: t.User}
	var err error
	if c.scheme, c.hosts, err = hostsOf(t.Address); err != nil {
		return nil, err
	}
	c.http = &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 15 * time.Second}).DialContext,
		TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: answerTime,
		MaxIdleConnsPerHost: 32, IdleConnTimeout: time.Minute,
	}
	switch {
	case c.scheme == "https":
		if c.http.TLSClientConfig, err = t.TLS.Config(); err != nil {
			return nil, fmt.Errorf("TLS: %w", err)
		}
	case t.TLS.On:
		return nil, errors.New("tls: is given, and the address begins with search+http; write search+https")
	case t.ByCertificate:
		return nil, errors.New("a login by certificate needs search+https and a client certificate")
	}
	var urls []*url.URL
	for _, h := range c.hosts {
		urls = append(urls, &url.URL{Scheme: c.scheme, Host: h})
	}
	opts := []elastictransport.Option{elastictransport.WithURLs(urls...), elastictransport.WithTransport(c.http)}
	switch {
	case t.User != "":
		opts = append(opts, elastictransport.WithBasicAuth(t.User, t.Secret))
	case t.Secret != "":
		opts = append(opts, elastictransport.WithHeader(http.Header{"Authorization": {"ApiKey " + t.Secret}}))
	}
	c.ask, err = elastictransport.NewClient(append(opts, elastictransport.WithRetry(4, 502, 503, 504),
		elastictransport.WithRetryOnError(func(r *http.Request, _ error) bool { return r.Context().Err() == nil }),
		elastictransport.WithRetryBackoff(func(n int) time.Duration {
			return time.Duration(n) * 200 * time.Millisecond
		}))...)
	if err != nil {
		return nil, err
	}
	c.change, err = elastictransport.NewClient(append(opts, elastictransport.WithDisableRetry())...)
	return c, err
}

func (c *conn) close() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_, _ = c.ask.Close(ctx), c.change.Close(ctx)
	c.http.CloseIdleConnections()
}

// spread has requests go to all nodes of the cluster, where they answer at the
// addresses that they publish, with certificates that are good for these.
func (c *conn) spread(ctx context.Context, published []string) {
	var dial func(ctx context.Context, network, address string) (net.Conn, error)
	d := &net.Dialer{Timeout: 2 * time.Second}
	if dial = d.DialContext; c.scheme == "https" {
		dial = (&tls.Dialer{NetDialer: d, Config: c.http.TLSClientConfig}).DialContext
	}
	for _, a := range published {
		n, err := dial(ctx, "tcp", a)
		if err != nil {
			return // behind a proxy, say: the addresses that were configured must do
		}
		_ = n.Close()
	}
	_ = c.ask.DiscoverNodesContext(ctx)
	_ = c.change.DiscoverNodesContext(ctx)
}

// send sends a request and returns the answer, whose body must be closed.
func (c *conn) send(ctx context.Context, client *elastictransport.Client, method, path string, body []byte) (
	*http.Response, error) {
	var r io.Reader
	if body != nil {
		r = bytes.NewReader(body)
	}
	req, err := http.NewRequestWithContext(ctx, method, path, r)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
		if strings.Contains(path, "_bulk") {
			req.Header.Set("Content-Type", "application/x-ndjson")
		}
	}
	res, err := client.Perform(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%s: %w: %w", strings.Join(c.hosts, ","), engine.ErrUnreachable, err)
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	return nil, c.meaning(res.StatusCode, text)
}

// meaning returns an answer that is an error as one.
func (c *conn) meaning(status int, body []byte) error {
	e := &apiError{Status: status, Type: http.StatusText(status)}
	var v struct{ Error json.RawMessage }
	if json.Unmarshal(body, &v) == nil && len(v.Error) > 0 {
		var long struct {
			Type, Reason string
			RootCause    []struct{ Type, Reason string } `json:"root_cause"`
			CausedBy     struct{ Type, Reason string }   `json:"caused_by"`
		}
		if json.Unmarshal(v.Error, &long) == nil {
			e.Type, e.Reason = long.Type, long.Reason
			if r := long.RootCause; len(r) > 0 && r[0].Reason != "" && long.Type == "search_phase_execution_exception" {
				e.Type, e.Reason = r[0].Type, r[0].Reason
			}
			if long.CausedBy.Reason != "" && !strings.Contains(e.Reason, long.CausedBy.Reason) {
				e.Reason += ": " + long.CausedBy.Reason
			}
		} else {
			_ = json.Unmarshal(v.Error, &e.Reason)
		}
	}
	switch {
	case status == http.StatusUnauthorized:
		return fmt.Errorf("%w: %w", engine.ErrLogin, e)
	case e.Type == "security_exception":
		return fmt.Errorf("user %q may not do this: %w", c.user, e)
	}
	return e
}

// get asks a question and decodes the answer; again, where the servers have too much
// to do.
func (c *conn) get(ctx context.Context, path string, out any) error {
	return c.whileBusy(ctx, func() error { return c.call(ctx, c.ask, http.MethodGet, path, nil, out) })
}

// post asks a question that has a body.
func (c *conn) post(ctx context.Context, path string, body, out any) error {
	return c.whileBusy(ctx, func() error { return c.call(ctx, c.ask, http.MethodPost, path, body, out) })
}

// repeat changes something that may as well be done twice: where a node does not
// answer, the next one is asked.
func (c *conn) repeat(ctx context.Context, method, path string, body, out any) error {
	return c.whileBusy(ctx, func() error { return c.call(ctx, c.ask, method, path, body, out) })
}

// do changes something. It is sent once: what became of it where no answer comes is
// for the caller to find out.
func (c *conn) do(ctx context.Context, method, path string, body, out any) error {
	return c.call(ctx, c.change, method, path, body, out)
}

func (c *conn) call(ctx context.Context, client *elastictransport.Client, method, path string, body, out any) error {
	var b []byte
	switch v := body.(type) {
	case nil:
	case []byte:
		b = v
	default:
		var err error
		if b, err = encodeJSON(v); err != nil {
			return err
		}
	}
	res, err := c.send(ctx, client, method, path, b)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, res.Body)
		return err
	}
	d := json.NewDecoder(res.Body)
	d.UseNumber()
	if err := d.Decode(out); err != nil {
		return fmt.Errorf("%w: its answer breaks off or is no JSON: %w", engine.ErrUnreachable, err)
	}
	return nil
}

// encodeJSON encodes as it is meant: without escaping what HTML escapes.
func encodeJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), err
}

// whileBusy calls fn again for as long as a server says that it has too much to do, and
// for a while when the cluster gives no answer.
func (c *conn) whileBusy(ctx context.Context, fn func() error) error {
	begin, pause := time.Now(), 100*time.Millisecond
	for {
		err := fn()
		busy := is(err, http.StatusTooManyRequests) && time.Since(begin) < busyFor
		away := (errors.Is(err, engine.ErrUnreachable) || is(err, http.StatusServiceUnavailable)) &&
			time.Since(begin) < c.patience
		if !busy && !away {
			return err
		}
		if werr := wait.For(ctx, pause); werr != nil {
			return errors.Join(werr, err)
		}
		pause = min(2*pause, 5*time.Second)
	}
}

// paths joins names to lists that fit into a request line each.
func paths(names []string) []string {
	var out []string
	var b strings.Builder
	for _, n := range names {
		n = url.PathEscape(n)
		if b.Len() > 0 && b.Len()+len(n) >= longestLine {
			out = append(out, b.String())
			b.Reset()
		}
		if b.Len() > 0 {
			b.WriteByte(',')
		}
		b.WriteString(n)
	}
	if b.Len() > 0 {
		out = append(out, b.String())
	}
	return out
}

// shardCounts is what an answer says of the shards that it comes from.
type shardCounts struct {
	Total, Successful, Failed int
	Failures                  []struct {
		Index  string
		Shard  int
		Reason struct{ Type, Reason string }
	}
}

// whole returns an error where an answer lacks shards.
func (s *shardCounts) whole(what string) error {
	if s == nil {
		return fmt.Errorf("%s: the answer does not say which shards it comes from", what)
	}
	if s.Failed == 0 && s.Successful > 0 || s.Total == 0 {
		return nil
	}
	e := &apiError{Status: http.StatusServiceUnavailable, Type: "partial answer",
		Reason: fmt.Sprintf("%d of %d shards did not answer", s.Total-s.Successful, s.Total)}
	if len(s.Failures) > 0 {
		f := s.Failures[0]
		e.Type = f.Reason.Type
		e.Reason += fmt.Sprintf(", %s/%d: %s", f.Index, f.Shard, f.Reason.Reason)
	}
	return fmt.Errorf("%s: %w", what, e)
}
