// Package serve answers the clients of a cluster's own protocol from the store: a moment looks
// as if it were live, nothing is restored, and nothing can be written.
//
//	serve.go      Content: a moment, read as it is asked for; Serve
//	document.go   the server of document clusters: connections, login, what shells ask first
//	commands.go   its commands that are no reading of documents
//	reading.go    find, count, distinct, aggregate
//	cursor.go     cursors over several answers
//	refused.go    which fields of commands are understood
//	etcd.go       the server of etcd clusters
//	redis.go      the server of Redis; redis_commands.go
package serve

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Content is what is served: the namespaces of a moment that fit a pattern. The content of each
// is built when it is asked for first. Methods may be called from several goroutines.
type Content struct {
	Moment *moment.Moment

	x     *store.Scratch
	names []string
	mu    sync.Mutex
	built map[string]*building
	// defined has the definitions; nil before they were asked for.
	defined map[string]record.Namespace
}

// building is a namespace that is being built, or was.
type building struct {
	done  chan struct{}
	state moment.NamespaceState
	err   error
}

// Open returns the content of a moment. Close must be called on it.
func Open(ctx context.Context, e *run.Runner, m *moment.Moment, pattern string) (*Content, error) {
	names, err := m.Names(ctx)
	if err != nil {
		return nil, err
	}
	fit := slices.DeleteFunc(slices.Clone(names), func(n string) bool { return !address.Match(pattern, n) })
	if len(fit) == 0 {
		return nil, m.Unknown(ctx, pattern, names)
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	c := &Content{Moment: m, x: x, names: fit, built: map[string]*building{}}
	if m.NeedsServer() { // which makes all of it at once
		if err := c.buildAll(ctx); err != nil {
			x.Close()
			return nil, err
		}
	}
	return c, nil
}

func (c *Content) buildAll(ctx context.Context) error {
	list, _, err := c.Moment.Trees(ctx, c.x, c.x, func(n string) bool { return slices.Contains(c.names, n) })
	if err != nil {
		return err
	}
	c.names = nil
	for _, s := range list {
		b := &building{done: make(chan struct{}), state: s}
		close(b.done)
		c.built[s.Name] = b
		c.names = append(c.names, s.Name)
	}
	return nil
}

// Close removes temporary files.
func (c *Content) Close() { c.x.Close() }

// Names returns the namespaces, in order.
func (c *Content) Names() []string { return c.names }

// State returns a namespace with its content; ok is false where there is none of the name.
func (c *Content) State(ctx context.Context, name string) (s moment.NamespaceState, ok bool, err error) {
	if !slices.Contains(c.names, name) {
		return s, false, nil
	}
	c.mu.Lock()
	b := c.built[name]
	if b == nil {
		b = &building{done: make(chan struct{})}
		c.built[name] = b
		go func() {
			defer close(b.done)
			// Whoever asked first may lose patience; the others wait for it, too.
			list, _, err := c.Moment.Trees(context.WithoutCancel(ctx), c.x, c.x,
				func(n string) bool { return n == name })
			switch {
			case err != nil:
				b.err = err
				c.mu.Lock()
				delete(c.built, name) // the next one tries again
				c.mu.Unlock()
			case len(list) == 1:
				b.state = list[0]
			default:
				b.err = fmt.Errorf("%s is not in %s", name, c.Moment)
			}
		}()
	}
	c.mu.Unlock()
	select {
	case <-b.done:
		return b.state, b.err == nil, b.err
	case <-ctx.Done():
		return s, false, ctx.Err()
	}
}

// Definition returns a namespace without its content, which is not built for that.
func (c *Content) Definition(ctx context.Context, name string) (ns record.Namespace, ok bool, err error) {
	if !slices.Contains(c.names, name) {
		return ns, false, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.defined == nil {
		if c.defined, err = c.Moment.Definitions(ctx); err != nil {
			return ns, false, err
		}
	}
	ns, ok = c.defined[name]
	return ns, ok, nil
}

// get looks up the records whose keys are a key, or begin with it: on several shards there may
// be several of one _id.
func (c *Content) get(ctx context.Context, s moment.NamespaceState, key []byte,
	fn func(record.Record) (bool, error)) error {
	for r, err := range tree.RecordsFrom(ctx, c.x, s.Root, key) {
		if err != nil {
			return err
		}
		if len(r.Key) < len(key) || string(r.Key[:len(key)]) != string(key) {
			return nil
		}
		if more, err := fn(r); err != nil || !more {
			return err
		}
	}
	return nil
}

// Options say how to serve.
type Options struct {
	// User and Password are the only login.
	User, Password string
	// Log hears of connections and of commands that were refused; it may be nil.
	Log func(format string, args ...any)
	// Version is what the server calls its version.
	Version string
}

// Serve answers connections until the context ends. An engine whose protocol is not answered
// is an error.
func Serve(ctx context.Context, c *Content, l net.Listener, o Options) error {
	switch c.Moment.Point.Engine {
	case "document":
		return serveDocuments(ctx, c, l, o)
	case "etcd":
		return serveEtcd(ctx, c, l, o)
	case "redis":
		return serveRedis(ctx, c, l, o)
	}
	return Served(c.Moment.Point.Engine)
}

// Served returns an error where the protocol of an engine's clusters is not answered.
func Served(engine string) error {
	if slices.Contains([]string{"document", "etcd", "redis"}, engine) {
		return nil
	}
	return fmt.Errorf("%w: the protocol of %s clusters is not answered; dexamen browse and export read them",
		run.ErrRefused, engine)
}

// Address returns the address under which a moment served at HOST:PORT can be opened as a cluster; ok is
// false where the engine's driver needs more than what is answered.
func Address(name, hostPort string) (address string, ok bool) {
	drv, err := engine.ForName(name)
	if err != nil || drv.Model().Traits().ServedAs == "" {
		return "", false
	}
	return fmt.Sprintf(drv.Model().Traits().ServedAs, hostPort), true
}

func serveDocuments(ctx context.Context, c *Content, l net.Listener, o Options) error {
	s := newDocumentServer(c, o)
	var wg sync.WaitGroup
	wg.Go(func() { s.expire(ctx) })
	err := connections(ctx, l, s.talk)
	if ctx.Err() != nil {
		wg.Wait()
	}
	s.closeAll()
	return err
}

// connections has each connection talked to until the context ends.
func connections(ctx context.Context, l net.Listener, talk func(context.Context, net.Conn)) error {
	var wg sync.WaitGroup
	var mu sync.Mutex
	conns := map[io.Closer]bool{}
	stop := context.AfterFunc(ctx, func() {
		_ = l.Close()
		mu.Lock()
		defer mu.Unlock()
		for conn := range conns {
			_ = conn.Close()
		}
	})
	defer stop()
	for {
		conn, err := l.Accept()
		if err != nil {
			if ctx.Err() == nil {
				return err
			}
			wg.Wait()
			return nil
		}
		mu.Lock()
		if ctx.Err() != nil {
			_ = conn.Close()
		}
		conns[conn] = true
		mu.Unlock()
		wg.Go(func() {
			talk(ctx, conn)
			mu.Lock()
			delete(conns, conn)
			mu.Unlock()
			_ = conn.Close()
		})
	}
}

// idleFor is how long a cursor may be left alone.
const idleFor = 10 * time.Minute
