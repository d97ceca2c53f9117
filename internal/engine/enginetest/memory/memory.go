// Package memory is the smallest engine there can be: namespaces in maps, with a
// log. It is the conformance suite's own fixture, which shows what an engine owes
// and that adding one touches a folder and a line.
//
//	memory.go  the server and the connection to it: reading, the log
//	write.go   restoring: stages, claims
//	model.go   what records and changes mean
package memory

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

const name = "memory"

func init() { engine.Register(name, Driver{}, "memory") }

// stagePrefix begins the names of stages.
const stagePrefix = "~stage-"

// Server is a database of one member that speaks no protocol.
type Server struct {
	mu     sync.Mutex
	spaces map[string]*space
	log    []record.Change // from number first on
	first  int
	made   int
	woken  chan struct{} // closed when the log grows
	claims map[string]string
	secret string
}

type space struct {
	record.Namespace
	records map[string]string
}

var servers sync.Map // by name, as in memory://NAME

// Start has a server of a name; a secret, where not empty, is its password.
func Start(name, secret string) *Server {
	s := &Server{spaces: map[string]*space{}, woken: make(chan struct{}), claims: map[string]string{}, secret: secret}
	servers.Store(name, s)
	return s
}

// position returns the position of the nth entry, counted from 1.
func position(n int) record.Position { return record.Position(fmt.Sprintf("%08d", n)) }

// add logs a change; the lock must be held.
func (s *Server) add(c record.Change) {
	c.At, c.Wall = position(s.first+len(s.log)+1), time.Now().UnixMilli()
	s.log = append(s.log, c)
	close(s.woken)
	s.woken = make(chan struct{})
}

// create makes a namespace; the lock must be held.
func (s *Server) create(name string) *space {
	s.made++
	sp := &space{record.Namespace{Name: name, Ident: []byte(position(s.made)), Kind: contentKind,
		Definition: definition}, map[string]string{}}
	s.spaces[name] = sp
	s.add(record.Change{Op: record.Create, Namespace: name, Ident: sp.Ident,
		Value: fold.JoinCreate(contentKind, definition)})
	return sp
}

// Put writes a record, whose value begins with its key and an equals sign.
func (s *Server) Put(name, value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	sp := s.spaces[name]
	if sp == nil {
		sp = s.create(name)
	}
	s.put(sp, value)
}

func (s *Server) put(sp *space, value string) {
	key, _, _ := strings.Cut(value, "=")
	sp.records[key] = value
	s.add(record.Change{Op: record.Put, Namespace: sp.Name, Ident: sp.Ident, Key: []byte(key), Value: []byte(value)})
}

// Remove takes a record away.
func (s *Server) Remove(name, key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	sp := s.spaces[name]
	s.add(record.Change{Op: record.Delete, Namespace: name, Ident: sp.Ident, Key: []byte(key),
		Value: []byte(sp.records[key])})
	delete(sp.records, key)
}

// Drop removes a namespace.
func (s *Server) Drop(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.drop(name)
}

func (s *Server) drop(name string) {
	if sp := s.spaces[name]; sp != nil {
		s.add(record.Change{Op: record.Drop, Namespace: name, Ident: sp.Ident})
		delete(s.spaces, name)
	}
}

// Forget loses the log so far.
func (s *Server) Forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.add(record.Change{Op: record.Put, Namespace: "other", Key: []byte("x"), Value: []byte("x=")})
	s.first, s.log = s.first+len(s.log), nil
}

// Driver is the engine's driver.
type Driver struct{}

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// Open implements [engine.Driver].
func (Driver) Open(_ context.Context, t engine.Target) (engine.Cluster, error) {
	s, ok := servers.Load(strings.TrimPrefix(t.Address, "memory://"))
	if !ok {
		return nil, fmt.Errorf("cluster %s: %w", t.Name, engine.ErrUnreachable)
	}
	if s.(*Server).secret != t.Secret {
		return nil, fmt.Errorf("cluster %s: %w", t.Name, engine.ErrLogin)
	}
	return &cluster{s.(*Server)}, nil
}

// cluster implements [engine.Logged].
type cluster struct{ s *Server }

var member = engine.Member{Address: "memory:1", Role: "primary", Healthy: true, Version: "1"}

func (c *cluster) Engine() string          { return name }
func (c *cluster) Close() error            { return nil }
func (c *cluster) LogMember(string) string { return member.Address }
func (c *cluster) mark(n int) (m record.Mark) {
	return record.Mark{Position: position(n), Wall: time.Now()}
}

func (c *cluster) Topology(context.Context) (*engine.Topology, error) {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	w := &engine.LogWindow{First: c.mark(c.s.first), Last: c.mark(c.s.first + len(c.s.log))}
	return &engine.Topology{Engine: name, Kind: "lone server", Identity: name, Version: member.Version,
		Shards: []engine.Shard{{Name: name, Members: []engine.Member{member}, Log: w}}}, nil
}

func (c *cluster) Choose(context.Context, string) (engine.Choice, error) {
	return engine.Choice{Shard: name, Member: member, Reason: "the only one"}, nil
}

func (c *cluster) Namespaces(context.Context) ([]engine.Namespace, error) {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	var out []engine.Namespace
	for _, n := range slices.Sorted(maps.Keys(c.s.spaces)) {
		if sp := c.s.spaces[n]; !strings.HasPrefix(n, stagePrefix) {
			out = append(out, engine.Namespace{Namespace: sp.Namespace, Records: int64(len(sp.records))})
		}
	}
	return out, nil
}

func (c *cluster) Partitions(context.Context, engine.Namespace, int) ([]engine.Partition, error) {
	return []engine.Partition{{}}, nil
}

func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, _ engine.Partition,
	fn func(record.Record) error) error {
	c.s.mu.Lock()
	sp := c.s.spaces[ns.Name]
	if sp == nil || !bytes.Equal(sp.Ident, ns.Ident) {
		c.s.mu.Unlock()
		return fmt.Errorf("%s: %w", ns.Name, engine.ErrMoved)
	}
	records := maps.Clone(sp.records)
	c.s.mu.Unlock()
	for _, k := range slices.Sorted(maps.Keys(records)) {
		if err := fn(record.Record{Key: []byte(k), Value: []byte(records[k])}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (c *cluster) LogEnd(context.Context, string) (record.Mark, error) {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	return c.mark(c.s.first + len(c.s.log)), nil
}

func (c *cluster) LogStart(ctx context.Context, shard string) (record.Mark, error) {
	return c.LogEnd(ctx, shard)
}

func (c *cluster) Follow(ctx context.Context, _ string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	for {
		c.s.mu.Lock()
		if after < position(c.s.first) {
			c.s.mu.Unlock()
			return fmt.Errorf("%w: it begins after %s", engine.ErrLogLost, position(c.s.first))
		}
		i, found := slices.BinarySearchFunc(c.s.log, after,
			func(e record.Change, p record.Position) int { return strings.Compare(string(e.At), string(p)) })
		if found {
			i++
		}
		changes, woken := slices.Clone(c.s.log[i:]), c.s.woken
		end := c.mark(c.s.first + len(c.s.log))
		c.s.mu.Unlock()
		after = end.Position
		if err := fn(changes, engine.Progress{Mark: end, AtEnd: true}); errors.Is(err, engine.ErrStopFollowing) {
			return nil
		} else if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-woken:
		}
	}
}
