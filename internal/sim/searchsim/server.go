// Package searchsim stands in for a search cluster: several nodes on loopback ports
// that speak the part of the OpenSearch REST API that protecting and restoring needs,
// with everything in memory ("REST API reference"; what it does beyond that was
// measured on real servers and is written at its place).
//
//	server.go     nodes, requests, errors
//	state.go      indices, shards, what the cluster's state tells
//	documents.go  writing: versions, sequence numbers, bulk requests
//	search.go     reading: point in time readers, pages, counts
//	define.go     making, cloning, blocking, aliases, templates
//	streams.go    data streams
package searchsim

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
)

// Options describe a cluster to stand in.
type Options struct {
	Name      string // of the cluster; "clover" when empty
	Nodes     int    // 3 when zero
	FirstPort int    // any that are free when zero
	// User and Password, where set, are the only login.
	User, Password string
	// OtherReaders: readers are had as Elasticsearch has them (POST /INDEX/_pit).
	OtherReaders bool
	// MostReaders is how many readers a node lets be open (300).
	MostReaders int
	// Busy answers every so manieth search with 429.
	Busy int
}

// Cluster is a running stand-in.
type Cluster struct {
	opt   Options
	uuid  string
	nodes []*node

	mu       sync.Mutex
	indices  map[string]*index
	streams  map[string]*stream
	defined  map[string]map[string]any // templates, pipelines, scripts by kind and name
	settings map[string]any            // persistent, of the cluster
	readers  map[string]*reader
	searches int
}

// node is one server of the cluster.
type node struct {
	c        *Cluster
	id, name string
	listener net.Listener
	server   *http.Server
	up       bool
}

// Start runs a cluster.
func Start(opt Options) (*Cluster, error) {
	if opt.Name == "" {
		opt.Name = "clover"
	}
	if opt.Nodes == 0 {
		opt.Nodes = 3
	}
	if opt.MostReaders == 0 {
		opt.MostReaders = 300
	}
	c := &Cluster{opt: opt, uuid: newID(), indices: map[string]*index{}, streams: map[string]*stream{},
		defined: map[string]map[string]any{}, settings: map[string]any{}, readers: map[string]*reader{}}
	for i := range opt.Nodes {
		port := 0
		if opt.FirstPort > 0 {
			port = opt.FirstPort + i
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			c.Close()
			return nil, err
		}
		n := &node{c: c, id: newID(), name: fmt.Sprintf("%s-%d", opt.Name, i+1), listener: l, up: true}
		n.server = &http.Server{Handler: n, ReadHeaderTimeout: time.Minute}
		c.nodes = append(c.nodes, n)
		go func() { _ = n.server.Serve(l) }()
	}
	return c, nil
}

// Close ends all nodes.
func (c *Cluster) Close() {
	for _, n := range c.nodes {
		_ = n.server.Close()
	}
}

// Address is what the cluster is registered with.
func (c *Cluster) Address() string { return "search+http://" + strings.Join(c.Addresses(), ",") }

// Addresses are those of the nodes.
func (c *Cluster) Addresses() (out []string) {
	for _, n := range c.nodes {
		out = append(out, n.listener.Addr().String())
	}
	return out
}

// URL is where the first node is reached.
func (c *Cluster) URL() string { return "http://" + c.nodes[0].listener.Addr().String() }

// Kill ends a node at once; readers that it held are gone. The others have copies of
// what it had.
func (c *Cluster) Kill(i int) {
	_ = c.nodes[i].server.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.nodes[i].up = false
	for id, r := range c.readers {
		if r.node == c.nodes[i] {
			delete(c.readers, id)
		}
	}
	for _, x := range c.indices {
		for _, s := range x.shards {
			s.term++ // another copy is the primary now
		}
	}
}

func newID() string {
	b := make([]byte, 15)
	_, _ = rand.Read(b) // never fails, by its contract
	return base64.RawURLEncoding.EncodeToString(b)
}

// failure is an answer that is an error.
type failure struct {
	status       int
	kind, reason string
}

func (f *failure) Error() string { return f.reason }

func fail(status int, kind, format string, args ...any) *failure {
	return &failure{status, kind, fmt.Sprintf(format, args...)}
}

// request is one that is being answered, under the cluster's lock.
type request struct {
	c      *Cluster
	method string
	parts  []string // of the path
	query  url.Values
	body   []byte
}

// ServeHTTP answers a request.
func (n *node) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	// "The request line may have 4,096 bytes" (http.max_initial_line_length).
	if len(r.RequestURI) > 4080 {
		n.answer(w, r, nil, fail(400, "too_long_http_line_exception", "An HTTP line is larger than 4096 bytes."))
		return
	}
	if n.c.opt.User != "" {
		if u, p, ok := r.BasicAuth(); !ok || u != n.c.opt.User || p != n.c.opt.Password {
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, "Unauthorized")
			return
		}
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 100<<20))
	if err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		return
	}
	q := &request{c: n.c, method: r.Method, query: r.URL.Query(), body: body}
	for p := range strings.SplitSeq(strings.Trim(r.URL.EscapedPath(), "/"), "/") {
		if s, err := url.PathUnescape(p); err == nil && s != "" {
			q.parts = append(q.parts, s)
		}
	}
	n.c.mu.Lock()
	ans, err := n.c.handle(q)
	n.c.mu.Unlock()
	n.answer(w, r, ans, err)
}

// raw is an answer that is sent as it is.
type raw []byte

func (n *node) answer(w http.ResponseWriter, r *http.Request, ans any, err error) {
	w.Header().Set("Content-Type", "application/json; charset=UTF-8")
	if err != nil {
		var f *failure
		if !errors.As(err, &f) {
			f = fail(500, "exception", "%v", err)
		}
		w.WriteHeader(f.status)
		cause := map[string]any{"type": f.kind, "reason": f.reason}
		_ = json.NewEncoder(w).Encode(map[string]any{"status": f.status,
			"error": map[string]any{"type": f.kind, "reason": f.reason, "root_cause": []any{cause}}})
		return
	}
	if m, ok := ans.(object); ok {
		if s, ok := m["_http"].(int); ok {
			delete(m, "_http")
			w.WriteHeader(s)
		}
	}
	if r.Method == http.MethodHead {
		return
	}
	if b, ok := ans.(raw); ok {
		_, _ = w.Write(b)
		return
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	_ = e.Encode(ans)
}

type object = map[string]any

// decode reads the body, numbers as they are written.
func (q *request) decode(out any) error {
	if len(bytes.TrimSpace(q.body)) == 0 {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(q.body))
	d.UseNumber()
	if err := d.Decode(out); err != nil {
		return fail(400, "parse_exception", "%v", err)
	}
	return nil
}

// handle answers a request by its path.
func (c *Cluster) handle(q *request) (any, error) {
	at := func(i int) string {
		if i < len(q.parts) {
			return q.parts[i]
		}
		return ""
	}
	switch at(0) {
	case "":
		return object{"name": c.nodes[0].name, "cluster_name": c.opt.Name, "cluster_uuid": c.uuid,
			"version": object{"distribution": "opensearch", "number": "2.19.0"}, "tagline": "a stand-in"}, nil
	case "_nodes":
		return c.describeNodes(), nil
	case "_cluster":
		return c.handleCluster(q, at(1), at(2))
	case "_stats":
		return c.stats(nil, q), nil
	case "_flush":
		return object{"_shards": object{"total": 1, "successful": 1, "failed": 0}}, nil
	case "_tasks":
		return object{"tasks": object{}}, nil
	case "_alias":
		return c.listAliases(nil, at(1))
	case "_aliases":
		return c.changeAliases(q)
	case "_search":
		return c.handleSearch(q, nil, at(1), at(2))
	case "_pit":
		if c.opt.OtherReaders && q.method == http.MethodDelete {
			return c.closeReaders(q)
		}
		return nil, fail(405, "method_not_allowed", "Incorrect HTTP method for uri [/_pit] and method [%s], allowed: "+
			"[DELETE]", q.method)
	case "_bulk":
		return c.bulk(q, "")
	case "_index_template", "_component_template", "_template", "_scripts":
		return c.handleDefined(q, at(0), at(1))
	case "_ingest":
		return c.handleDefined(q, "_ingest/pipeline", at(2))
	case "_data_stream":
		return c.handleStream(q, at(1))
	}
	if strings.HasPrefix(at(0), "_") && at(0) != "_all" {
		return nil, fail(400, "illegal_argument_exception", "no handler found for uri [/%s] and method [%s]",
			strings.Join(q.parts, "/"), q.method)
	}
	return c.handleIndex(q, at(0), at(1), at(2))
}

func (c *Cluster) describeNodes() object {
	nodes := object{}
	for _, n := range c.nodes {
		if n.up {
			nodes[n.id] = object{"name": n.name, "version": "2.19.0",
				"roles":      []string{"cluster_manager", "data", "ingest"},
				"attributes": object{}, "http": object{"publish_address": n.listener.Addr().String()}}
		}
	}
	return object{"cluster_name": c.opt.Name, "nodes": nodes}
}

func (c *Cluster) leader() *node {
	for _, n := range c.nodes {
		if n.up {
			return n
		}
	}
	return c.nodes[0]
}
