package search

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// readers is how a cluster lets shards be read while they change.
type readers int

const (
	scrolls       readers = iota // one pass over a shard, in no order that could be gone on from
	pointsInTime                 // POST /INDEX/_search/point_in_time
	pointsInTime7                // POST /INDEX/_pit
)

// about is what a cluster says of itself.
type about struct {
	name    string
	uuid    string
	version string
	readers readers
}

// greet asks the cluster who it is.
func (c *cluster) greet(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	var v struct {
		Name        string `json:"name"`
		ClusterName string `json:"cluster_name"`
		ClusterUUID string `json:"cluster_uuid"`
		Version     struct {
			Number       string
			Distribution string
		}
	}
	if err := c.get(ctx, "/", &v); err != nil {
		return err
	}
	if v.ClusterName == "" || v.Version.Number == "" {
		return fmt.Errorf("what answers at %s is no search server: GET / does not say which cluster and version",
			strings.Join(c.hosts, ","))
	}
	c.about = about{name: v.ClusterName, uuid: v.ClusterUUID, version: v.Version.Number}
	if c.about.uuid == "_na_" { // until a cluster has formed
		c.about.uuid = ""
	}
	c.patience = patience
	// All nodes are asked; one that has just gone makes that fail until it is missed.
	for begin := time.Now(); ; {
		var err error
		if c.about.readers, err = c.findReaders(ctx); !serverFailed(err) || time.Since(begin) > patience {
			return err
		}
		if werr := wait.For(ctx, 300*time.Millisecond); werr != nil {
			return errors.Join(werr, err)
		}
	}
}

// patience is how long a cluster that has answered before may be without an answer.
const patience = 30 * time.Second

// findReaders finds which readers there are by asking, and asks nothing that a server
// which does not know it could take for a document to write.
func (c *cluster) findReaders(ctx context.Context) (readers, error) {
	var list struct {
		Pits []struct {
			ID string `json:"pit_id"`
		} `json:"pits"`
	}
	err := c.get(ctx, "/_search/point_in_time/_all", &list)
	if err == nil && list.Pits != nil || is(err, http.StatusForbidden) {
		return pointsInTime, nil
	}
	if err != nil && !lacking(err) {
		return 0, fmt.Errorf("finding out which readers there are: %w", err)
	}
	// Servers that have the other kind refuse to GET it, and say what else they take.
	err = c.get(ctx, "/_pit", nil)
	switch {
	case is(err, http.StatusMethodNotAllowed) && strings.Contains(err.Error(), "DELETE"):
		return pointsInTime7, nil
	case err != nil && !lacking(err):
		return 0, fmt.Errorf("finding out which readers there are: %w", err)
	}
	return scrolls, nil
}

// nodeInfo is a node as GET /_nodes tells of it.
type nodeInfo struct {
	Name    string
	Version string
	Roles   []string
	HTTP    struct {
		Address string `json:"publish_address"`
	}
}

// address returns where clients reach the node. It may be published as HOST/IP:PORT: the
// host is what certificates are of.
func (n *nodeInfo) address() string {
	host, a, named := strings.Cut(n.HTTP.Address, "/")
	if _, port, err := net.SplitHostPort(a); named && err == nil {
		return net.JoinHostPort(host, port)
	}
	return n.HTTP.Address
}

func (n *nodeInfo) role() string {
	for _, r := range n.Roles {
		if r == "data" || strings.HasPrefix(r, "data_") {
			return "data"
		}
	}
	if slices.Contains(n.Roles, "master") || slices.Contains(n.Roles, "cluster_manager") {
		return "manager"
	}
	return "coordinating"
}

// Topology implements [engine.Cluster]. The cluster's nodes are members of one shard:
// what is read lies on all of them.
func (c *cluster) Topology(ctx context.Context) (*engine.Topology, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*askTime)
	defer cancel()
	t := &engine.Topology{Engine: Name, Kind: "search cluster", Identity: c.about.name, ID: c.about.uuid,
		Version: c.about.version, Settings: c.t.Settings, Exact: c.holdsWrites()}
	members, err := c.members(ctx)
	if err != nil {
		return nil, c.fail(err)
	}
	if t.Health, _, err = c.health(ctx); err != nil {
		return nil, c.fail(err)
	}
	for _, m := range members {
		if m.Healthy && m.Version != "" && (t.Version == "" || older(m.Version, t.Version)) {
			t.Version = m.Version
		}
	}
	t.Shards = []engine.Shard{{Name: c.about.name, Members: members}}
	t.Limitations = append(t.Limitations, engine.Limitation{What: "search servers keep no log of changes",
		Consequence: "there are points, and no moments between them; each costs what has changed since the one before"})
	if !t.Exact {
		t.Limitations = append(t.Limitations, engine.Limitation{What: "writes go on while readers are opened",
			Consequence: "shards of a point are of moments some milliseconds apart; with options: { quiesce: " +
				"write-block } they are of one"})
	}
	if c.about.readers == scrolls {
		t.Limitations = append(t.Limitations, engine.Limitation{What: "these servers have no point in time readers",
			Consequence: "shards are read one after the other, each as of when its reading begins, and writes cannot " +
				"be held back for a moment only"})
	}
	return t, nil
}

// older compares versions by their numbers.
func older(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		x, err1 := strconv.Atoi(as[i])
		y, err2 := strconv.Atoi(bs[i])
		if err1 != nil || err2 != nil {
			return a < b
		}
		if x != y {
			return x < y
		}
	}
	return len(as) < len(bs)
}

// members asks who the nodes are, and each of them whether it answers.
func (c *cluster) members(ctx context.Context) ([]engine.Member, error) {
	var v struct{ Nodes map[string]*nodeInfo }
	if err := c.get(ctx, "/_nodes/http", &v); err != nil {
		return nil, err
	}
	var manager struct {
		Old string `json:"master_node"`
		New string `json:"cluster_manager_node"`
	}
	if err := c.get(ctx, "/_cluster/state/master_node", &manager); err != nil {
		return nil, err
	}
	leader := manager.New
	if leader == "" {
		leader = manager.Old
	}
	var out []engine.Member
	var published []string
	for _, id := range slices.Sorted(maps.Keys(v.Nodes)) {
		n := v.Nodes[id]
		m := engine.Member{Address: n.address(), Role: n.role(), Version: n.Version, Healthy: true, Note: n.Name}
		if id == leader {
			m.Note += ", elected manager"
		}
		out = append(out, m)
		published = append(published, n.address())
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: no node says at which address clients reach it", strings.Join(c.hosts, ","))
	}
	slices.SortFunc(out, func(a, b engine.Member) int { return strings.Compare(a.Note, b.Note) })
	c.spread(ctx, published)
	return out, nil
}

// Choose implements [engine.Cluster]. Requests go to all nodes in turn, and each
// shard is read where a copy of it is.
func (c *cluster) Choose(ctx context.Context, _ string) (engine.Choice, error) {
	members, err := c.members(ctx)
	if err != nil {
		return engine.Choice{}, fmt.Errorf("cluster %s: %w", c.t.Name, err)
	}
	for _, m := range members {
		if m.Role == "data" {
			reason := "the only node"
			if len(members) > 1 {
				reason = fmt.Sprintf("one of %d nodes that are asked in turn", len(members))
			}
			return engine.Choice{Shard: c.about.name, Member: m, Reason: reason}, nil
		}
	}
	return engine.Choice{}, fmt.Errorf("cluster %s: %w: no node holds data", c.t.Name, engine.ErrNoMember)
}

// holdsWrites reports whether writes are to be held back while readers are opened.
func (c *cluster) holdsWrites() bool { return c.t.Options[quiesceOption.Name] == writeBlock }

// health asks how indices are: the status by name. Where a shard is missing it waits for
// a while, once: another copy may be about to take the place of one that is gone.
func (c *cluster) health(ctx context.Context) (status string, indices map[string]string, err error) {
	var v struct {
		Status  string
		Indices map[string]struct{ Status string }
	}
	const path = "/_cluster/health?level=indices&expand_wildcards=all&timeout="
	err = c.get(ctx, path+"1s", &v)
	if err == nil && v.Status == "red" && c.waited.CompareAndSwap(false, true) {
		err = c.get(ctx, path+"15s&wait_for_status=yellow", &v)
		if is(err, http.StatusRequestTimeout) { // it is red still; some servers answer so
			err = c.get(ctx, path+"1s", &v)
		}
	}
	indices = map[string]string{}
	for n, i := range v.Indices {
		indices[n] = i.Status
	}
	return v.Status, indices, err
}

// limit returns a setting of the cluster that is a number, as it is in effect.
func (c *cluster) limit(ctx context.Context, name string) (int, bool) {
	var v struct{ Persistent, Transient, Defaults map[string]any }
	q := url.Values{"include_defaults": {"true"}, "flat_settings": {"true"}, "filter_path": {"*." + strings.ReplaceAll(
		name, ".", "*")}}
	if err := c.get(ctx, "/_cluster/settings?"+q.Encode(), &v); err != nil {
		return 0, false
	}
	for _, in := range []map[string]any{v.Transient, v.Persistent, v.Defaults} {
		if n, err := strconv.Atoi(settingText(in, name)); err == nil {
			return n, true
		}
	}
	return 0, false
}
