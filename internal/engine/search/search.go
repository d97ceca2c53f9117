// Package search protects clusters of search servers that speak the
// OpenSearch/Elasticsearch REST API: indices and data streams read shard by shard
// through readers that hold still, what has changed found by sequence numbers, and
// restores into an index beside, which takes the name when it is proven.
//
// A record is a document; its value is a line of JSON with _id, routing and version,
// and after it the source byte for byte as the server gives it. The servers keep no
// log that could be followed: there are points, and no moments between them.
//
//	connect.go     requests, logins, errors
//	response.go    answers that are too large to hold, taken apart as they come
//	document.go    a document as a record
//	definition.go  an index's mappings, settings and aliases
//	model.go       what records and definitions mean to people
//	topology.go    nodes, health, what a server lacks
//	check.go       privileges, tried one by one and as a role to make
//	list.go        what there is
//	reader.go      readers of shards: points in time, or scrolls
//	scan.go        reading documents
//	pin.go         everything at one moment: readers opened while writes are held back
//	since.go       what has changed since a point
//	write.go       restoring an index: its stage
//	bulk.go        writing documents
//	publish.go     a stage takes its name
//	stream.go      restoring a data stream
//	cluster_wide.go  templates, pipelines, scripts, settings
//	claims.go      who is restoring, kept on the target
package search

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Name is the engine's name in points.
const Name = "search"

// Driver opens search clusters.
type Driver struct{}

func init() { engine.Register(Name, Driver{}, "search+http", "search+https") }

// Kinds of namespaces.
const (
	indexKind  record.Kind = "index"
	streamKind record.Kind = "data stream"
)

// Names of what is Dexamen's own on a cluster.
const (
	stagePrefix = "dexamen-stage-"
	workIndex   = "dexamen-work"
)

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// Options implements [engine.OptionLister].
func (Driver) Options() []engine.Option { return []engine.Option{quiesceOption} }

const writeBlock = "write-block"

var quiesceOption = engine.Option{Name: "quiesce",
	Usage: "write-block: writes are held back for the moment in which all readers are opened, so that a point is of " +
		"one moment",
	Check: func(v any) error {
		if v != writeBlock {
			return fmt.Errorf("%v is not %s", v, writeBlock)
		}
		return nil
	}}

// RestoreOptions implements [engine.RestoreChooser].
func (Driver) RestoreOptions() []engine.RestoreOption { return []engine.RestoreOption{aliasesOption} }

var aliasesOption = engine.RestoreOption{Name: "aliases", Values: []string{"own-name", "always", "never"},
	Usage: "aliases of indices: put back when the index has its own name, always, or never"}

// cluster implements [engine.Pinned], [engine.Quiescer] and [engine.Incremental].
type cluster struct {
	*conn
	t     engine.Target
	about about

	mu     sync.Mutex
	open   map[*view]bool
	pinned *pinned
	before *prepared
	waited atomic.Bool     // for shards that are missing
	held   map[string]bool // indices whose writes this connection holds back
	// settled: the servers have said that all of them are.
	settled bool
}

// Open implements [engine.Driver].
func (Driver) Open(ctx context.Context, t engine.Target) (engine.Cluster, error) {
	c := &cluster{t: t, open: map[*view]bool{}, held: map[string]bool{}}
	var err error
	if c.conn, err = connect(t); err == nil {
		err = c.greet(ctx)
	}
	if err != nil {
		return nil, fmt.Errorf("cluster %s: %w", t.Name, err)
	}
	return c, nil
}

// Engine implements [engine.Cluster].
func (c *cluster) Engine() string { return Name }

// Close implements [engine.Cluster]. Readers that are open are closed, else the
// servers keep what they read until they lapse.
func (c *cluster) Close() error {
	c.unpin()
	c.mu.Lock()
	var left []*view
	for v := range c.open {
		left = append(left, v)
	}
	c.mu.Unlock()
	for _, v := range left {
		v.close()
	}
	c.conn.close()
	return nil
}
