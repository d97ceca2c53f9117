package etcd

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"dexamen/internal/engine"
)

// Grants implements [engine.Granter], as lines for etcdctl by a user who has the role root. Servers
// let root alone list users and roles.
func (Driver) Grants(t engine.Target, restore bool) string {
	user := cmp.Or(t.User, "dexamen")
	if t.Settings {
		return fmt.Sprintf("# Users and roles are protected too (cluster_wide), and servers show them to root alone.\n"+
			"etcdctl user add %[1]s\netcdctl user grant-role %[1]s root\n", user)
	}
	role, may := "dexamen-protect", "read"
	if restore {
		role, may = "dexamen-restore", "readwrite"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "etcdctl role add %s\n", role)
	fmt.Fprintf(&b, "etcdctl role grant-permission %s %s --from-key ''\n", role, may)
	fmt.Fprintf(&b, "etcdctl user add %s\n", user)
	fmt.Fprintf(&b, "etcdctl user grant-role %s %s\n", user, role)
	return b.String()
}

// Certificates implements [engine.CertificateLister]: of the servers that the address names.
func (Driver) Certificates(ctx context.Context, t engine.Target) ([]engine.Certificate, error) {
	hosts, err := hostsOf(t.Address)
	if err != nil {
		return nil, err
	}
	return engine.CertificatesOf(ctx, t.TLS, hosts)
}

// Check implements [engine.Checker]: what is listed where users and roles are protected.
func (c *cluster) Check(ctx context.Context, report func(what string, err error, note string)) {
	if !c.t.Settings {
		return
	}
	cl, err := c.client(ctx, "")
	if err == nil {
		_, err = cl.UserList(ctx)
	}
	if err == nil {
		_, err = cl.RoleList(ctx)
	}
	if err != nil {
		err = fmt.Errorf("cluster %s: %w", c.t.Name, c.explain(err, "users and roles"))
	}
	report("list users and roles", err, "cluster_wide")
}

var (
	_ engine.Granter           = Driver{}
	_ engine.CertificateLister = Driver{}
	_ engine.Checker           = (*cluster)(nil)
)
