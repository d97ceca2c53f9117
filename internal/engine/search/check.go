package search

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"time"

	"dexamen/internal/engine"
)

// Check implements [engine.Checker]. What is asked changes nothing.
func (c *cluster) Check(ctx context.Context, report func(what string, err error, note string)) {
	members, err := c.members(ctx)
	if err != nil {
		report("list the nodes", err, "")
		return
	}
	for _, m := range members {
		d := net.Dialer{Timeout: 3 * time.Second}
		conn, err := d.DialContext(ctx, "tcp", m.Address)
		note := m.Role + ", " + m.Note
		if err != nil {
			// Nodes are asked by the addresses that were given, if need be.
			report("member "+m.Address, nil, note+"; not reachable from here at the address it publishes")
			continue
		}
		_ = conn.Close()
		report("member "+m.Address, nil, note)
	}
	status, _, err := c.health(ctx)
	note := "every shard and every copy is there"
	switch status {
	case "yellow":
		note = "yellow: a copy of some shard is missing"
	case "red":
		err = errors.New("red: a shard is on no node that is up; its index cannot be read")
	}
	report("  health", err, note)
	s, err := c.readState(ctx)
	if err != nil {
		report("  read the state of the cluster", err, "")
		return
	}
	report("  read the state of the cluster", nil, fmt.Sprintf("%d indices, %d data streams", len(s.indices),
		len(s.streams)))
	_, err = c.sizes(ctx, s)
	report("  read statistics", err, "")
	c.checkReading(ctx, s, report)
	if c.t.Settings {
		wide, err := c.clusterWide(ctx)
		for _, ns := range wide {
			if ns.Skip != "" {
				err = errors.Join(err, errors.New(ns.Skip))
			}
		}
		report("  read what is defined for the whole cluster", err, "")
	}
}

// checkReading reads a document as a snapshot would.
func (c *cluster) checkReading(ctx context.Context, s *state, report func(string, error, string)) {
	list, err := c.Namespaces(ctx)
	if err != nil {
		report("  list indices", err, "")
		return
	}
	i := slices.IndexFunc(list, func(n engine.Namespace) bool { return n.Skip == "" && n.Kind.IsContent() })
	if i < 0 {
		report("  read a document", nil, "there is no index that could be read yet")
		return
	}
	v, err := c.newView(s, list[i])
	if err == nil {
		err = c.ready(ctx, v)
	}
	if err != nil {
		report("  open readers of "+list[i].Name, err, "")
		return
	}
	defer c.closeReaders(v)
	kind := map[readers]string{pointsInTime: "a point in time", pointsInTime7: "a point in time", scrolls: "scrolls"}
	n := 0
	for _, r := range v.readers {
		st := stretch{v: v, r: r, id: r.current(), after: -1, upTo: -1, perPage: 1, keys: true}
		enough := errors.New("one is enough")
		read := c.pages
		if c.about.readers == scrolls {
			read = c.scroll
		}
		if err = read(ctx, st, func(*hit) error { return enough }); errors.Is(err, enough) {
			n, err = n+1, nil
		}
		if err != nil {
			break
		}
	}
	report(fmt.Sprintf("  read %s through %s", list[i].Name, kind[c.about.readers]), err,
		fmt.Sprintf("%d of %d shards have documents", n, len(v.readers)))
	if c.holdsWrites() {
		report("  hold writes back", nil, "not tried: it would hold them back. The role needs manage on the indices")
	}
}

// Certificates implements [engine.CertificateLister].
func (Driver) Certificates(ctx context.Context, t engine.Target) ([]engine.Certificate, error) {
	_, hosts, err := hostsOf(t.Address)
	if err != nil {
		return nil, err
	}
	return engine.CertificatesOf(ctx, t.TLS, hosts)
}

// Grants implements [engine.Granter]: the role, in the two forms that there are.
func (Driver) Grants(t engine.Target, restore bool) string {
	user := t.User
	if user == "" {
		user = "dexamen"
	}
	cluster := []string{"cluster:monitor/*", "cluster:admin/component_template/get", "indices:admin/index_template/get",
		"indices:admin/template/get", "cluster:admin/ingest/pipeline/get", "cluster:admin/search/pipeline/get",
		"indices:data/read/point_in_time/*", "indices:data/read/scroll/clear", "indices:data/read/scroll"}
	index := []string{"indices:monitor/*", "indices:admin/get", "indices:admin/aliases/get",
		"indices:admin/mappings/get",
		"indices:admin/refresh*", "indices:data/read/*"}
	privileges := []string{"monitor", "read", "view_index_metadata", "maintenance"}
	wide := []string{"monitor"}
	if t.Settings {
		wide = append(wide, "manage_index_templates", "manage_ingest_pipelines") // to read them
	}
	holds := t.Options[quiesceOption.Name] == writeBlock
	if holds {
		index = append(index, "indices:admin/block/add*", "indices:admin/settings/update")
		privileges = append(privileges, "manage")
	}
	if restore {
		cluster = []string{"cluster_all"}
		index = []string{"indices_all"}
		privileges, wide = []string{"all"}, []string{
			"monitor", "manage_index_templates", "manage_ingest_pipelines", "manage"}
	}
	list := func(l []string) string {
		b, _ := encodeJSON(l) // of texts there always is one
		return string(b)
	}
	var b strings.Builder
	role := "dexamen-protect"
	if restore {
		role = "dexamen-restore"
	}
	fmt.Fprintf(&b, `# OpenSearch with its security plugin:
PUT /_plugins/_security/api/roles/%s
{
  "cluster_permissions": %s,
  "index_permissions": [{ "index_patterns": ["*"], "allowed_actions": %s }]
}
PUT /_plugins/_security/api/rolesmapping/%s
{ "users": [%q] }

# Elasticsearch:
PUT /_security/role/%s
{
  "cluster": %s,
  "indices": [{ "names": ["*"], "privileges": %s, "allow_restricted_indices": false }]
}
PUT /_security/user/%s
{ "password": "CHOOSE ONE", "roles": [%q] }
`, role, list(cluster), list(index), role, user, role, list(wide), list(privileges), url.PathEscape(user), role)
	return b.String()
}
